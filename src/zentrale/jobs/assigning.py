"""Binding found devices to planned ones by hand."""

from __future__ import annotations

from zentrale.errors import InputError
from zentrale.jobs.discovering import COMMAND, current_devices
from zentrale.jobs.planned import planned_devices
from zentrale.logbook.store import Binding, Logbook
from zentrale.site.model import Plan
from zentrale.site.values import normal_mac
from zentrale.words import meant


def assign(plan: Plan, logbook: Logbook, name: str, device: str) -> Binding:
    """Bind the planned `name` to the found device with this address or MAC address. Raises InputError."""
    _check_name(plan, name)
    found = current_devices(logbook) if logbook.runs(COMMAND) else []
    try:
        mac = normal_mac(device)
    except ValueError:
        mac = ""
    fits = [d for d in found if device in d.addresses or (mac and mac in (d.mac, *d.macs))]
    if len(fits) != 1:
        what = "is no device of the last discovery" if not fits else "fits more than one device; give its MAC address"
        have = ", ".join(d.address for d in found) or "nothing was found yet: run `zentrale discover`"
        raise InputError(f"{device}: {what}", f"found were: {have}")
    binding = Binding(name, mac or fits[0].mac, fits[0].address)
    logbook.bind(binding)
    return binding


def unassign(plan: Plan, logbook: Logbook, name: str) -> None:
    """Take a binding back. Raises InputError where there is none."""
    _check_name(plan, name)
    if not logbook.unbind(name):
        have = ", ".join(b.name for b in logbook.bindings()) or "none"
        raise InputError(f"{name}: is not bound by hand", f"bound are: {have}")


def _check_name(plan: Plan, name: str) -> None:
    planned = planned_devices(plan)
    if name not in planned:
        raise InputError(
            f"{name}: no planned camera or recorder{meant(name, planned)}", f"expected one of: {', '.join(planned)}"
        )
