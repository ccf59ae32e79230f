"""Getting into a device: which credentials open it, and what that says about its state.

Before anything secret goes out, who is there is compared with whom the vault's entry is of.
"""

from __future__ import annotations

import asyncio
import time
from collections.abc import AsyncIterator, Sequence
from contextlib import asynccontextmanager, suppress
from dataclasses import dataclass, replace

from zentrale.errors import (
    AnotherDeviceError,
    DeviceError,
    RefusedError,
    UnreachableError,
)
from zentrale.field.device import GONE_PATIENCE_S, Device
from zentrale.field.http import place_of
from zentrale.jobs.known.device_states import State
from zentrale.jobs.known.found_devices import FoundDevice
from zentrale.jobs.passwords.keyring import Key, Keyring
from zentrale.jobs.passwords.trying import Entry, try_keys
from zentrale.site.identity import Identity
from zentrale.site.model import Camera, Recorder


@dataclass(frozen=True)
class Claim:
    """Whom a device is taken for before it lets anybody in.

    names:    of the plan, the likeliest first; planned: the row of the first, where there is one
    identity: as it was seen before
    orphans:  entries of the vault whose devices were seen nowhere
    strict:   it has to be the first of `names`: where something says that it is another device, nothing secret goes out
    thorough: who it is, is asked again once it is open
    """

    names: Sequence[str]
    maker: str
    identity: Identity
    planned: Camera | Recorder | None = None
    orphans: Sequence[str] = ()
    strict: bool = True
    thorough: bool = True

    @classmethod
    def of(cls, keyring: Keyring, seen: FoundDevice, planned: Camera | Recorder | None) -> Claim:
        """A found device as the one that the plan has there."""
        name = keyring.entry_of(planned.name) if planned is not None else ""
        maker = keyring.plan.maker(planned) if keyring.plan is not None and planned is not None else seen.maker
        return cls([name] if name else [], maker, seen.identity, planned)


async def find_entry(device: Device, keyring: Keyring, claim: Claim, who: str) -> Entry:
    """Look who is there, try nothing, then the keys that fit: see `try_keys`. What opens is proved from then on."""
    device.as_stranger()
    now = await _shown(device, keyring, claim)
    try:
        keys, other = await keys_for(keyring, claim, now, device.host)
    except AnotherDeviceError as error:
        return Entry(State.ANOTHER, why=error.what, other=error.why)
    entry = await try_keys(device, keyring, keys, who)
    if claim.thorough and (until_s := _may_change_until_s(keyring, keys, entry)):
        await asyncio.sleep(max(0.0, until_s - time.time()))
        entry = await try_keys(device, keyring, keys, who)
    key = next((k for k in keys if entry.credentials is not None and k.credentials == entry.credentials), None)
    if key is not None:
        try:
            other = await _opened(device, keyring, claim, key, now) or other
        except AnotherDeviceError as error:
            device.as_stranger()
            return Entry(State.ANOTHER, why=error.what, other=error.why)
    return replace(entry, other=other)


def _may_change_until_s(keyring: Keyring, keys: Sequence[Key], entry: Entry) -> float:
    """Until when the password that opened it may cease to [s since 1970], since a new one was sent and has its time; else 0."""
    sent = [k.sent_s for k in keys if k.sent_s is not None and k.credentials != entry.credentials]
    until_s = max(sent, default=0.0) + keyring.new_password_s
    return until_s if entry.credentials is not None and sent and until_s > time.time() else 0.0


async def keys_for(keyring: Keyring, claim: Claim, now: Identity, host: str) -> tuple[list[Key], str]:
    """What may open the device that shows itself as `now`, and why it is another one than the vault knows there; empty where
    nothing says so. Raises AnotherDeviceError where it has to be the claimed one, and nobody says that it is.
    """
    other = keyring.contradiction(claim.names[0], now, claim.identity) if claim.names else ""
    await _check_other(keyring, claim, host, other)
    before = claim.identity if claim.identity.same_device(now) is not False else Identity()
    return keyring.keys(now.joined(before), claim.names, claim.maker, claim.orphans), other


async def _check_other(keyring: Keyring, claim: Claim, host: str, why: str) -> None:
    if why and claim.strict and not await keyring.goes_on(claim.names[0], host, why):
        raise AnotherDeviceError(why)


async def _shown(device: Device, keyring: Keyring, claim: Claim) -> Identity:
    """Who it shows itself to be before it lets anybody in: by the network, and by what it tells to strangers."""
    identity = replace(keyring.shows(device.host, claim.planned), endpoint=device.target.endpoint)
    if not identity.macs and any(keyring.knows(name) for name in claim.names):
        with suppress(DeviceError):
            identity = identity.joined(await who_it_is(device))
    return identity


async def who_it_is(device: Device) -> Identity:
    """What it tells of itself to whom it lets in now: MAC addresses and serial number, each as far as it tells it.

    Raises DeviceError where it tells neither.
    """
    macs: list[str] = []
    wrong: DeviceError | None = None
    try:
        macs = [i.mac for i in await device.interfaces()]
    except UnreachableError:
        raise
    except DeviceError as error:
        wrong = error
    try:
        told = await device.information()
    except DeviceError:
        if wrong is not None:
            raise wrong from None
        return Identity.of(macs, endpoint=device.target.endpoint)
    return Identity.of(macs, told.maker, told.model, told.serial, device.target.endpoint)


async def _opened(device: Device, keyring: Keyring, claim: Claim, key: Key, now: Identity) -> str:
    """It is open, and tells who it is. A password of the vault's entry is proved by that, and kept with it. Not so where it tells
    now that it is another one, which takes any password: returns why, or raises AnotherDeviceError.
    """
    held = keyring.contents.devices.get(key.entry)
    known, told = held.identity if held else Identity(), now
    if claim.thorough or (held and (key.sent_s is not None or not (known.macs and known.serial))):
        try:
            told = now.joined(await who_it_is(device))
        except RefusedError:
            told = now  # an account that may not ask
        keyring.saw(device.host, told)
    if not key.entry:
        return ""
    name = claim.names[0] if claim.names else key.entry
    why = keyring.contradiction(name, told, told) if name == key.entry else ""
    await _check_other(keyring, claim, device.host, why)
    if why and not keyring.is_same(name):
        return why
    keyring.proved(key.entry, key.credentials, told, place_of(device.url))
    return ""


async def device_maker(device: Device) -> str:
    """The maker where the device tells it to strangers; empty where it does not."""
    try:
        return (await device.information()).maker
    except DeviceError:
        return ""


@asynccontextmanager
async def entered(
    keyring: Keyring, seen: FoundDevice, planned: Camera | Recorder | None, patience_s: float = GONE_PATIENCE_S
) -> AsyncIterator[Device]:
    """The device, opened with what the vault has for it: to be asked and set. Raises RefusedError where nothing opens it."""
    rules, name = keyring.rules(planned), planned.name if planned is not None else ""
    async with Device(seen.url, rules, endpoint=seen.own_endpoint, patience_s=patience_s) as client:
        await client.read_clock()
        entry = await find_entry(client, keyring, Claim.of(keyring, seen, planned), name or seen.address)
        if entry.closed:
            raise RefusedError(f"it did not let us in: {entry.in_words()}")
        yield client
