"""Which of some credentials open a device, in which order, and what a refusal means.

A password that was made here and not yet seen to open has its time first, and is then looked for in the shapes in which a device
may have kept it.
"""

from __future__ import annotations

import asyncio
import time
from collections.abc import Awaitable, Callable, Sequence
from dataclasses import dataclass
from datetime import datetime

from zentrale import quantities
from zentrale.errors import (
    ClearTextError,
    LockedError,
    NotAskedError,
    NotOfferedError,
    RefusedError,
    RemoteProtocolError,
)
from zentrale.field.device import Device
from zentrale.jobs.known.device_states import CLOSED, State
from zentrale.jobs.passwords.keyring import Key, Keyring
from zentrale.protocols.doors import Door, Purpose
from zentrale.protocols.http_auth import Credentials

_JUST_AFTER_S = 60.0
CUT_TO = (15, 12, 10, 8)  # characters that devices keep of a longer password, without a word


@dataclass(frozen=True)
class Entry:
    """The way in, or why there is none. `label` says whose credentials they are; it never holds a password.

    tried, left: how many were refused now, and how many could not be tried before `until`
    sent:        a new password was sent, and was not yet seen to open it
    other:       why it is not the device that the vault's password is of; empty where nothing says so
    """

    state: State
    credentials: Credentials | None = None
    label: str = ""
    tried: int = 0
    left: int = 0
    until: datetime | None = None
    why: str = ""
    sent: bool = False
    other: str = ""

    @property
    def closed(self) -> bool:
        return self.state in CLOSED

    def in_words(self) -> str:
        """Why it did not open, as a person would say it; empty where it did."""
        if not self.closed:
            return ""
        if self.state in (State.LOCKED, State.UNSAFE, State.ANOTHER):
            return self.why
        sent = "a new password was sent and does not open it yet; " if self.sent else ""
        if self.state is State.NOT_ASKED:
            refused = f"{quantities.count(self.tried, 'password')} refused, " if self.tried else ""
            when = f": from {quantities.clock_time(self.until)} on" if self.until else ""
            return f"{sent}{refused}{self.left} not tried yet, so that it does not lock{when}"
        tried = f"{quantities.count(self.tried, 'password')} tried" if self.tried else "no password in the vault to try"
        return f"{sent}{tried}"


async def try_keys(device: Device, keyring: Keyring, keys: Sequence[Key], who: str) -> Entry:
    """Try nothing, then `keys` in the order the ledger gives; in a patient run until all had their turn.

    Leaves `device` with the credentials that work. Raises DeviceError where it does not answer properly.
    """
    while True:
        entry = await _Tries(device, keyring, keys).run()
        if not (keyring.patience.patient and entry.until):
            return entry
        await keyring.wait(who, entry.until)


class _Tries:
    """One round over the keys: what was refused, and what is left."""

    def __init__(self, device: Device, keyring: Keyring, keys: Sequence[Key]) -> None:
        self.device = device
        self.keyring = keyring
        self.by_credentials = {key.credentials: key for key in keys}
        self.sent = [key for key in keys if key.sent_s is not None]
        self.refused: set[Credentials] = set()

    async def run(self) -> Entry:
        self.device.as_stranger()
        try:
            accounts = await self.device.users()
        except LockedError as error:
            return Entry(State.LOCKED, until=error.until, why=error.what)
        except RefusedError:
            pass
        else:
            return Entry(State.OPEN if accounts else State.FRESH)
        entry = await self._in_turn()
        if entry.closed:
            self.device.as_stranger()
        return entry

    async def _in_turn(self) -> Entry:
        device, ledger = self.device, self.keyring.ledger
        public = [c for c, key in self.by_credentials.items() if key.factory]
        pending = [key.credentials for key in self.sent]
        order = ledger.in_turn(
            device.target, Door.ONVIF, list(self.by_credentials), device.schemes, pending=pending, public=public
        )
        cuts = self._cuts()
        waits = ledger.waits_until(device.target) if cuts else None
        if cuts and waits is None and device.schemes:  # one a window, and only where nothing else was refused in it
            self.by_credentials[cuts[0].credentials] = cuts[0]
            at = next((i for i, (c, _) in enumerate(order) if c in public or self._failed(c)), len(order))
            order.insert(at, (cuts[0].credentials, device.schemes[0]))
        unsafe = device.unsafe()
        for index, (credentials, scheme) in enumerate(order):
            key = self.by_credentials[credentials]
            try:
                await self._login(key, scheme)
            except LockedError as error:
                return Entry(State.LOCKED, tried=len(self.refused), until=error.until, why=error.what)
            except ClearTextError as error:
                unsafe = unsafe or f"{error.what}; {error.advice}"
            except NotAskedError as error:
                left = len({c for c, _ in order[index:]} - self.refused)
                if left == 0 or unsafe:  # what is left are other ways of sending what was refused just now
                    break
                return Entry(State.NOT_ASKED, None, "", len(self.refused), left, error.until, sent=bool(self.sent))
            except RefusedError:
                self.refused.add(credentials)
            else:
                return self._opened(key)
        return self._closed(unsafe, order)

    async def _login(self, key: Key, scheme: str) -> None:
        if key.sent_s is None:
            await self.device.login(key.credentials, scheme)
        else:
            await prove(self.device, self.keyring, key.entry, key.credentials, key.sent_s, scheme)

    def _opened(self, key: Key) -> Entry:
        if self._is_cut(key) and self.keyring.vault is not None and not self.keyring.dry_run:
            self.keyring.vault.keeps_first(key.entry, key.credentials, len(key.credentials.password))
        state = State.OUR_PASSWORD if key.own else State.DEFAULT_PASSWORD if key.factory else State.KNOWN_PASSWORD
        return Entry(state, key.credentials, key.label, len(self.refused))

    def _closed(self, unsafe: str, order: Sequence[tuple[Credentials, str]]) -> Entry:
        cuts = self._cuts()
        until = self.keyring.ledger.waits_until(self.device.target) if cuts else None
        if cuts and until is not None:
            return Entry(State.NOT_ASKED, None, "", len(self.refused), len(cuts), until, sent=True)
        if unsafe:
            return Entry(State.UNSAFE, tried=len(self.refused), why=unsafe)
        tried = len(self.refused) if order else len(self.by_credentials)
        return Entry(State.UNKNOWN_PASSWORD, tried=tried, sent=bool(self.sent))

    # A device may keep the first characters of a password only, and tell nobody

    def _cuts(self) -> list[Key]:
        """The first characters of new passwords that had their time and were refused: those not tried yet, the longest first."""
        cuts = []
        for key in self.sent:
            if self._failed(key.credentials) and not self._in_time(key):
                for length in (n for n in CUT_TO if n < len(key.credentials.password)):
                    first = Credentials(key.credentials.user, key.credentials.password[:length])
                    if not self._failed(first):
                        label = f"the first {length} characters of the vault entry of {key.entry}"
                        cuts.append(Key(first, label, own=True, entry=key.entry))
        return cuts

    def _is_cut(self, key: Key) -> bool:
        return (
            key.own
            and any(
                s.entry == key.entry and s.credentials != key.credentials and s.sent_s is not None for s in self.sent
            )
            and key.label.startswith("the first ")
        )

    def _failed(self, credentials: Credentials) -> bool:
        return (
            credentials in self.refused
            or self.keyring.ledger.last_asked(self.device.target, Door.ONVIF, credentials) > 0
        )

    def _in_time(self, key: Key) -> bool:
        return key.sent_s is not None and time.time() < key.sent_s + self.keyring.new_password_s


async def prove(
    device: Device,
    keyring: Keyring,
    name: str,
    credentials: Credentials,
    sent_s: float,
    scheme: str = "",
    ask: Callable[[], Awaitable[object]] | None = None,
    refused_at_s: Sequence[float] = (),
) -> None:
    """See that a password which was sent opens the device, and leave it open with it. A refusal before the device has had its
    time is none: it is asked once more when that is over, so that at most two wrong ones are counted there.

    name: the vault's entry of the device; sent_s: when it was sent [s since 1970]
    ask: what it is proved by, where that is no request for administrators;
    refused_at_s: when it was refused in this time already. Raises RefusedError where the device did not take it over in time.
    """
    end, early = sent_s + keyring.new_password_s, list(refused_at_s)
    # Who waited for the end of its time asks right after it: that is the try which the time was for.
    in_time = time.time() < end + _JUST_AFTER_S and not keyring.ledger.last_asked(
        device.target, Door.ONVIF, credentials
    )
    device.purpose = Purpose.PROVE if in_time else Purpose.ENTER
    try:
        while True:
            await asyncio.sleep(max(0.0, (end if early else keyring.ready_at_s(name, sent_s)) - time.time()))
            last = time.time() >= end
            try:
                await device.login(credentials, scheme, ask)
            except LockedError:
                raise
            except RefusedError:
                early.append(time.time())
                if not last:
                    continue
                if in_time:  # it had its time: from now on all of them count
                    keyring.ledger.refused(device.target, Door.ONVIF, device.scheme, credentials, early)
                raise
            if early and keyring.vault is not None:
                await asyncio.to_thread(keyring.vault.takes, name, time.time() - sent_s)
            return
    finally:
        device.purpose = Purpose.ENTER


async def closed_question(device: Device) -> Callable[[], Awaitable[object]] | None:
    """A request that it refuses to strangers and answers to every account of its own (ONVIF Core, access classes READ_SYSTEM and
    READ_MEDIA): what proves a password that is no administrator's. None where it refuses none of them.
    """
    device.as_stranger()
    for ask in (device.information, device.interfaces, device.media.profiles):
        try:
            await ask()
        except RefusedError:
            return ask
        except (NotOfferedError, RemoteProtocolError):
            continue
    return None


async def prove_account(device: Device, keyring: Keyring, name: str, credentials: Credentials) -> None:
    """See that the password of a further account, which is no administrator's, opens the device `name`; it is proved then.

    Another client of the same device, so that its administrator stays entered. Raises RefusedError.
    """
    sent_s = keyring.contents.sent_s(name, credentials.user) or time.time()
    async with Device(device.url, device.rules, endpoint=device.target.endpoint) as other:
        await other.read_clock()
        ask = await closed_question(other)
        if ask is not None:
            await prove(other, keyring, name, credentials, sent_s, ask=ask)
    if keyring.vault is not None:
        await asyncio.to_thread(keyring.vault.prove_account, name, credentials.user)
