"""Going through the found devices that nobody can tell apart by what they say: a picture of each, and who it may be."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

from zentrale.errors import DeviceError
from zentrale.field.visit import Visit
from zentrale.jobs.discovery.discovering import current_devices
from zentrale.jobs.discovery.matching import candidates, matched
from zentrale.jobs.known.found_devices import FoundDevice
from zentrale.jobs.known.profile_choice import lens_told, pick_profiles, sources_in_order
from zentrale.jobs.passwords.access import entered
from zentrale.jobs.passwords.keyring import Keyring
from zentrale.jobs.streams.measuring import PICTURE_WITHIN_S, measure
from zentrale.logbook.store import Logbook
from zentrale.site.folder import write_atomically
from zentrale.site.model import Plan


@dataclass(frozen=True)
class OpenDevice:
    """A found device that no row names, and the rows that it may be."""

    device: FoundDevice
    may_be: tuple[str, ...]


def open_devices(plan: Plan, logbook: Logbook) -> list[OpenDevice]:
    """By the last discovery and the bindings as they are now. Raises InputError where nothing was discovered."""
    matching = matched(plan, logbook, current_devices(logbook))
    fits = candidates(plan, matching)
    found = [OpenDevice(d, tuple(n for n, devices in fits.items() if d in devices)) for d in matching.extra]
    return [o for o in found if o.may_be]


async def picture_of(keyring: Keyring, device: FoundDevice, folder: Path) -> tuple[Path | None, str]:
    """A picture of what it sees now, as a file, and of which of its lenses that is, where it has several; or why there is none.
    Nothing is changed on the device.
    """
    if not device.url:
        return None, "it speaks no ONVIF, so its stream is not known"
    try:
        await keyring.ready()
        async with entered(keyring, device, None, patience_s=0.0) as client:
            profiles = await client.media.profiles()
            profile = pick_profiles(profiles).get("main")
            if profile is None:
                return None, "it offers no profile with video"
            address = await client.media.stream_address(profile.token)
            visit = Visit(client.credentials, keyring.rules(None), device.own_endpoint)
        result = await measure("", "", address, visit, PICTURE_WITHIN_S, until_picture=True)
    except DeviceError as error:
        return None, error.what
    if result.picture is None:
        return None, result.error or f"it plays, but no key picture came within {PICTURE_WITHIN_S:g} s"
    file = folder / f"{device.address.replace(':', '_').replace('%', '_')}.jpg"
    write_atomically(file, result.picture)
    sources = sources_in_order(profiles)
    if len(sources) < 2:
        return file, ""
    return file, f"source {sources.index(profile.source) + 1} of {len(sources)}: {lens_told(profile)}"


def chosen(answer: str, may_be: Sequence[str]) -> str | None:
    """The name meant by a key or a name; empty for none of them, None where the answer cannot be understood."""
    text = answer.strip()
    if text in ("", "s", "0"):
        return ""
    if text.isdigit() and 1 <= int(text) <= len(may_be):
        return may_be[int(text) - 1]
    return text if text in may_be else None
