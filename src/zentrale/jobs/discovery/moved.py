"""A device that was given another address: written down as seen there, so that later commands go there."""

from __future__ import annotations

from dataclasses import replace

from zentrale.field.device import Device
from zentrale.jobs.discovery.discovering import SEEN_KIND
from zentrale.jobs.known.found_devices import FoundDevice
from zentrale.jobs.known.planned import Planned, place_of, ref_of
from zentrale.logbook.evidence import Notes, note
from zentrale.logbook.store import KnownDevice, Logbook
from zentrale.site.identity import Identity


def note_moved(
    logbook: Logbook, run: int, planned: Planned, seen: FoundDevice, client: Device, identity: Identity | None = None
) -> None:
    """Nothing where it is where it was. It was seen at the address of `client`, and known by who it is."""
    if client.host == seen.address:
        return
    logbook.remember(KnownDevice(planned.name, identity or seen.identity, client.host, place_of(planned)))
    notes = Notes()
    there = replace(seen, address=client.host, url=client.url, method="register", also_at=(), report="")
    notes.observe(SEEN_KIND, ref_of(planned), there.method, there)
    note(logbook, run, notes)
