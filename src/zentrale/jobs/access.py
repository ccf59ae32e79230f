"""Getting into a device: which credentials open it, and what that says about its state."""

from __future__ import annotations

from collections.abc import AsyncIterator, Sequence
from contextlib import asynccontextmanager
from dataclasses import dataclass
from datetime import datetime

from zentrale import quantities
from zentrale.errors import DeviceError, LockedError, NotAskedError, RefusedError
from zentrale.field.device import GONE_PATIENCE_S, Device
from zentrale.jobs.discovery.found import FoundDevice
from zentrale.jobs.discovery.states import CLOSED, State
from zentrale.jobs.keyring import Key, Keyring
from zentrale.protocols.doors import Door
from zentrale.protocols.http_auth import Credentials
from zentrale.site.model import Camera, Recorder


@dataclass(frozen=True)
class Entry:
    """The way in, or why there is none. `label` says whose credentials they are; it never holds a password.

    tried, left: how many were refused now, and how many could not be tried before `until`
    """

    state: State
    credentials: Credentials | None = None
    label: str = ""
    tried: int = 0
    left: int = 0
    until: datetime | None = None
    why: str = ""

    @property
    def closed(self) -> bool:
        return self.state in CLOSED

    def told(self) -> str:
        """Why it did not open, as a person would say it; empty where it did."""
        if not self.closed:
            return ""
        if self.state in (State.LOCKED, State.UNSAFE):
            return self.why
        if self.state is State.NOT_ASKED:
            refused = f"{quantities.count(self.tried, 'password')} refused, " if self.tried else ""
            when = f": from {quantities.clock_time(self.until)} on" if self.until else ""
            return f"{refused}{self.left} not tried yet, so that it does not lock{when}"
        return f"{quantities.count(self.tried, 'password')} tried" if self.tried else "no password in the vault to try"


async def find_entry(device: Device, keyring: Keyring, keys: Sequence[Key], who: str) -> Entry:
    """Try nothing, then `keys` in the order the ledger gives; in a patient run until all had their turn.

    Leaves `device` with the credentials that work. Raises DeviceError where it does not answer properly.
    """
    while True:
        entry = await _try_keys(device, keyring, keys)
        if not (keyring.patience.patient and entry.until):
            return entry
        await keyring.wait(who, entry.until)


async def _try_keys(device: Device, keyring: Keyring, keys: Sequence[Key]) -> Entry:
    device.credentials = None
    try:
        accounts = await device.users()
    except LockedError as error:
        return Entry(State.LOCKED, until=error.until, why=error.what)
    except RefusedError:
        pass
    else:
        return Entry(State.OPEN if accounts else State.FRESH)
    by_credentials = {key.credentials: key for key in keys}
    order = keyring.ledger.in_turn(device.target, Door.ONVIF, list(by_credentials), device.schemes)
    refused: set[Credentials] = set()
    unsafe = device.unsafe()
    for index, (credentials, scheme) in enumerate(order):
        try:
            await device.login(credentials, scheme)
        except LockedError as error:
            device.credentials = None
            return Entry(State.LOCKED, tried=len(refused), until=error.until, why=error.what)
        except NotAskedError as error:
            device.credentials = None
            left = len({c for c, _ in order[index:]} - refused)
            if left == 0 or unsafe:  # what is left are other ways of sending what was refused just now
                break
            return Entry(State.NOT_ASKED, tried=len(refused), left=left, until=error.until)
        except RefusedError:
            refused.add(credentials)
        else:
            key = by_credentials[credentials]
            state = State.OUR_PASSWORD if key.own else State.DEFAULT_PASSWORD if key.factory else State.KNOWN_PASSWORD
            return Entry(state, credentials, key.label, len(refused))
    device.credentials = None
    if unsafe:
        return Entry(State.UNSAFE, tried=len(refused), why=unsafe)
    return Entry(State.UNKNOWN_PASSWORD, tried=len(refused) if order else len(by_credentials))


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
        await client.system_time()
        maker = keyring.plan.maker(planned) if keyring.plan is not None and planned is not None else seen.maker
        keys = keyring.keys(seen.identity, [name] if name else [], maker)
        entry = await find_entry(client, keyring, keys, name or seen.address)
        if entry.closed:
            raise RefusedError(f"it did not let us in: {entry.told()}")
        yield client
