"""Binding found devices to planned ones by hand."""

from __future__ import annotations

import re
from collections.abc import Sequence

from zentrale.errors import InputError
from zentrale.jobs.discovery.discovering import COMMAND, current_devices
from zentrale.jobs.discovery.matching import matched
from zentrale.jobs.known.entry_judged import seen_there
from zentrale.jobs.known.found_devices import FoundDevice
from zentrale.jobs.known.planned import device_names, planned_devices, ref_of, whole_devices
from zentrale.jobs.known.selection import check_reachable
from zentrale.jobs.streams.rtsp_only import STREAMS
from zentrale.jobs.switches.kept import HEARD, alone_at_their_ports
from zentrale.logbook.evidence import Notes, latest, note
from zentrale.logbook.store import Binding, Logbook
from zentrale.protocols.stream_address import StreamAddress
from zentrale.site.model import Camera, Plan
from zentrale.words import meant


def assign(plan: Plan, logbook: Logbook, name: str, device: str) -> Binding:
    """Bind the planned `name` to the found device with this address or MAC address. Raises InputError."""
    check_name(plan, name)
    check_reachable(plan, name)
    found = current_devices(logbook) if logbook.runs(COMMAND) else []
    fits = named(device, found)
    if len(fits) != 1:
        what = "is no device of the last discovery" if not fits else "fits more than one device; give its MAC address"
        have = ", ".join(d.address for d in found) or "nothing was found yet: run `zentrale discover`"
        raise InputError(f"{device}: {what}", f"found were: {have}")
    mac = next(iter(sorted(fits[0].identity.macs)), "")
    binding = Binding(next(iter(device_names(plan, [name]))), fits[0].mac or mac, fits[0].address)
    logbook.bind(binding)
    notes = Notes(judged=seen_there(ref_of(planned_devices(plan)[binding.name]), binding.address))
    with logbook.running("assign", name) as run:
        note(logbook, run, notes)
    return binding


def recognised_as(plan: Plan, logbook: Logbook, name: str, device: str) -> str:
    """Which other row the device is taken for, by what it is rather than by hand; empty where it is taken for none. Raises
    InputError for a camera that nobody reaches.
    """
    check_reachable(plan, name)
    found = current_devices(logbook) if logbook.runs(COMMAND) else []
    fits = named(device, found)
    other = matched(plan, logbook, found).name_of(fits[0]) if len(fits) == 1 else ""
    return "" if other in ("", *device_names(plan, [name])) else other


def assign_stream(plan: Plan, logbook: Logbook, name: str, text: str) -> str:
    """The address of the main stream of a camera that speaks RTSP only, as somebody found it out. Raises InputError."""
    check_name(plan, name)
    check_reachable(plan, name)
    camera = next((c for c in plan.cameras if c.name == name), None)
    if camera is None or plan.camera_type(camera).onvif:
        why = "is a recorder" if camera is None else "speaks ONVIF by its type, and is asked where its streams are"
        raise InputError(f"{name}: {why}", "expected a camera whose type has onvif = false")
    address = StreamAddress.parse(text)
    if address.user or address.password:
        raise InputError(
            f"{name}: the address holds a user or a password", "leave them out; passwords are in the vault"
        )
    notes = Notes()
    notes.observe(STREAMS, ref_of(camera), "by hand", {"streams": [{"name": "main", "url": address.url}]})
    with logbook.running("assign", name) as run:
        note(logbook, run, notes)
    return address.url


def named(device: str, found: Sequence[FoundDevice]) -> list[FoundDevice]:
    """The found devices that are meant by an address, a MAC address or its last digits."""
    at_address = [d for d in found if device in d.addresses]
    if at_address:
        return at_address
    digits = re.sub(r"[.:\-\s]", "", device.lower())
    if not re.fullmatch(r"[0-9a-f]{4,12}", digits):
        return []
    return [d for d in found if any(m.replace(":", "").endswith(digits) for m in {d.mac, *d.identity.macs} if m)]


def unassign(plan: Plan, logbook: Logbook, name: str) -> None:
    """Take a binding back. Raises InputError where there is none."""
    check_name(plan, name)
    if not logbook.unbind(name):
        have = ", ".join(b.name for b in logbook.bindings()) or "none"
        raise InputError(f"{name}: is not bound by hand", f"bound are: {have}")


def assign_by_port(plan: Plan, logbook: Logbook) -> tuple[list[Binding], list[str]]:
    """All cameras that are open and at whose port one device alone was heard, which nobody planned elsewhere; and in words
    why others stay open. Raises InputError where no switch was read yet.
    """
    if not latest(logbook, HEARD):
        raise InputError("no switch was read yet", "run `zentrale network check` first")
    found = current_devices(logbook)
    matching = matched(plan, logbook, found)
    heard, rows = alone_at_their_ports(plan, logbook), whole_devices(plan)
    bound, left = [], []
    by_hand = {b.name for b in logbook.bindings()}
    for name, row in rows.items():
        if not isinstance(row, Camera) or row.behind or name in by_hand:
            continue
        device = matching.by_name.get(name)
        if device is not None and not (
            name in heard and not _known_by_itself(row) and heard[name] in device.identity.macs
        ):
            continue  # it is known by what it is
        mac = heard.get(name)
        fits = [d for d in (*matching.extra, *([device] if device else [])) if mac and mac in d.identity.macs]
        if len(fits) == 1 and not (row.mac and row.mac != mac):
            bound.append(assign(plan, logbook, name, mac or ""))
        elif row.switch and row.port:
            why = "not one device alone is heard there"
            if mac:
                why = f"{mac} is heard there, and no device of the last discovery has it"
            left.append(f"{name} at {row.switch}:{row.port}: {why}")
        else:
            left.append(f"{name}: its row has no port")
    return bound, left


def _known_by_itself(row: Camera) -> bool:
    return bool(row.mac or row.mac_end or row.serial)


def check_name(plan: Plan, name: str) -> None:
    planned = planned_devices(plan)
    if name not in planned:
        raise InputError(
            f"{name}: no planned camera or recorder{meant(name, planned)}", f"expected one of: {', '.join(planned)}"
        )
