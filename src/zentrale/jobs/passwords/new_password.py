"""A new password for an account of a device, within the policy and within what the device takes."""

from __future__ import annotations

import logging
from collections.abc import Awaitable, Callable
from dataclasses import replace

from zentrale.errors import DeviceError, UnreachableError
from zentrale.field.device import Device
from zentrale.logbook.made_passwords import generate_password
from zentrale.protocols.http_auth import Credentials
from zentrale.protocols.onvif import password_rules
from zentrale.protocols.onvif.password_rules import PasswordRules

log = logging.getLogger(__name__)
SHORTEST = 8  # a device that takes no more than this is told to the person rather than given less
_SHORTER = (12, 10, SHORTEST)  # tried where a device says that a password is too long, and nothing of its limit
_TOO_LONG = "PasswordTooLong"  # ONVIF Core, CreateUsers and SetUser


async def rules_of(client: Device) -> PasswordRules:
    """What the device tells of passwords; nothing where it does not. Raises what ends the talk with it."""
    rules, longest = PasswordRules(), 0
    for ask in (password_rules.get_complexity(), password_rules.get_capabilities()):
        try:
            answer = await client.call("tds", ask)
        except UnreachableError:
            raise
        except DeviceError as error:
            log.debug("%s: %s", client.host, error)
            continue
        told, most = password_rules.parse_complexity(answer), password_rules.parse_longest(answer)
        rules, longest = (told if told != PasswordRules() else rules), longest or most
    return replace(rules, longest=longest)


async def most_users(client: Device) -> int:
    """How many accounts it has room for; 0 where it does not tell. Raises what ends the talk with it."""
    try:
        return password_rules.parse_most_users(await client.call("tds", password_rules.get_capabilities()))
    except UnreachableError:
        raise
    except DeviceError as error:
        log.debug("%s: %s", client.host, error)
        return 0


async def give(
    client: Device,
    user: str,
    length: int,
    keep: Callable[[Credentials], Awaitable[None]],
    send: Callable[[Credentials], Awaitable[None]],
    held: Credentials | None = None,
    rules: PasswordRules | None = None,
) -> Credentials:
    """`held`, or a new password, kept first and then sent. Raises DeviceError where the device takes none.

    length: by the policy [characters]; the device's own limits go first. Where it calls one too long, a shorter is tried
    rules:  what the device tells of passwords, where it was asked already
    """
    rules = rules or await rules_of(client)
    fits = held is not None and not (0 < rules.longest < len(held.password))
    new = held if held is not None and fits else made(user, length, rules)
    lengths = [n for n in _SHORTER if rules.shortest <= n < len(new.password)]
    while True:
        await keep(new)
        try:
            await send(new)
        except DeviceError as error:
            if _TOO_LONG in error.subcodes and lengths:
                new = made(user, lengths.pop(0), rules)
            elif new == held and error.subcodes:  # made for other rules than it has now
                new = made(user, length, rules)
            else:
                raise
        else:
            return new


def made(user: str, length: int, rules: PasswordRules) -> Credentials:
    """A password of `length` characters, as far as the device's rules allow that. Raises DeviceError where it is too short."""
    asked = max(length, rules.shortest)
    asked = min(asked, rules.longest) if rules.longest else asked
    if asked < SHORTEST:
        raise DeviceError(f"it takes passwords of {rules.longest} characters at most; {SHORTEST} are wanted")
    return Credentials(user, generate_password(asked, (rules.capitals, rules.digits, rules.signs)))
