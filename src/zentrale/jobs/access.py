"""Getting into a device: which credentials open it, and what that says about its state."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from enum import Enum

from zentrale.errors import DeviceError, RefusedError
from zentrale.field.onvif_client import OnvifClient
from zentrale.logbook.vault import Candidate, Contents
from zentrale.protocols.http_auth import Credentials

# Many devices lock an account after five wrong passwords in a row.
MAX_WRONG_PASSWORDS = 4


class State(Enum):
    """What keeps a device open or closed, as a person would say it."""

    FRESH = "fresh, no password yet"
    DEFAULT_PASSWORD = "default password"
    OUR_PASSWORD = "our password"
    KNOWN_PASSWORD = "known password"
    OPEN = "open without password"
    UNKNOWN_PASSWORD = "password unknown"
    RTSP_ONLY = "RTSP only"
    NO_ANSWER = "does not speak ONVIF"


@dataclass(frozen=True)
class Entry:
    """The way in. `label` says whose credentials they are; it never holds a password."""

    state: State
    credentials: Credentials | None = None
    label: str = ""
    tried: int = 0


async def find_entry(
    client: OnvifClient, own: Sequence[Credentials], candidates: Sequence[Candidate], maker: str = ""
) -> Entry:
    """Try nothing, then the device's `own` credentials from the vault, then the candidates that may fit.

    Leaves `client` with the credentials that work. Raises DeviceError where the device does not answer properly.
    """
    client.credentials = None
    try:
        accounts = await client.users()
    except RefusedError:
        pass
    else:
        return Entry(State.OPEN if accounts else State.FRESH)
    tries = [(State.OUR_PASSWORD, c, "vault entry of the device") for c in own]
    for candidate in _most_likely_first(candidates, maker):
        state = State.DEFAULT_PASSWORD if candidate.factory_of else State.KNOWN_PASSWORD
        tries.append((state, candidate.credentials, candidate.label))
    tried = 0
    for state, credentials, label in tries[:MAX_WRONG_PASSWORDS]:
        client.credentials = credentials
        tried += 1
        try:
            await client.users()
        except RefusedError:
            continue
        return Entry(state, credentials, label, tried)
    client.credentials = None
    return Entry(State.UNKNOWN_PASSWORD, tried=tried)


async def enter(client: OnvifClient, vault: Contents, name: str, maker: str) -> Entry:
    """Get into the device that is `name` in the plan: learn its time, then try what the vault has for it.

    Raises DeviceError where the device does not answer properly.
    """
    await client.system_time()
    own = vault.devices.get(name)
    return await find_entry(client, [own] if own else [], vault.candidates, maker)


def _most_likely_first(candidates: Sequence[Candidate], maker: str) -> list[Candidate]:
    """Our own candidates, then the default of this maker; defaults of other makers only where the maker is unknown."""
    ours = [c for c in candidates if not c.factory_of]
    defaults = [c for c in candidates if c.factory_of and (not maker or c.factory_of.lower() == maker.lower())]
    return [*ours, *defaults]


async def device_maker(client: OnvifClient) -> str:
    """The maker where the device tells it to strangers; empty where it does not."""
    try:
        return (await client.information()).maker
    except DeviceError:
        return ""
