"""Where the laptop stands from which switches are typed in."""

from __future__ import annotations

import re

from zentrale.errors import InputError
from zentrale.output.network.registry import SHEETS, TYPED_FROM
from zentrale.planning.by_hand.line import numbers
from zentrale.planning.by_hand.order import Place, free_ports
from zentrale.planning.network import NetworkPlan
from zentrale.planning.ports import PortRow
from zentrale.planning.reach import Party, reaches
from zentrale.words import meant


def laptop_at(net: NetworkPlan, at: str) -> Place:
    """SWITCH:PORT as a person says it. Raises InputError where there is no such port, or the pages end up out of its reach."""
    switches = [s.name for s in net.plan.switches]
    name, _, port = (part.strip() for part in at.rpartition(":"))
    if not name or not (port.isascii() and port.isdigit() and len(port) < 4):
        raise InputError(
            f"--at {at}: expected SWITCH:PORT, such as {_example(net)}",
            "say the port that the laptop is plugged into",
        )
    if name not in switches:
        raise InputError(
            f"--at {at}: no switch {name} in the plan{meant(name, switches)}",
            f"expected one of {', '.join(switches)}",
        )
    row = next((r for r in net.ports.of(name) if r.port == int(port)), None)
    if row is None:
        raise InputError(f"--at {at}: no such port", f"{name} has ports 1 to {len(net.ports.of(name))}")
    if why := _unfit(net, row):
        free = free_ports(net, name)
        have = (
            f"{name}:{numbers(free)} are free" if free else f"no port of {name} is free; elsewhere {_example(net)} is"
        )
        raise InputError(f"--at {at}: {why}", f"plug the laptop into another port: {have}")
    return Place(name, int(port))


def _unfit(net: NetworkPlan, row: PortRow) -> str:
    """Why nobody can type from there; empty where one can."""
    if row.kind == "free":
        return ""
    if row.kind == "link":
        return f"that is the link {row.label}"
    if row.mode != "access":
        return f"{row.device} is planned there, with {'tagged frames only' if row.mode == 'trunk' else 'its port off'}"
    pages = {s.management.zone for s in net.plan.switches if s.management is not None}
    kind = row.kind if row.kind in ("camera", "recorder", "viewer") else "device"
    lost = [
        z for z in pages if z != row.access and not reaches(net.plan, Party(kind, row.access), Party("switch", z))[0]
    ]
    text = f"{row.device} is planned there, and once the port is in zone {row.access} the page"
    return f"{text} of no switch in {', '.join(sorted(lost))} is reached from it" if lost else ""


def _example(net: NetworkPlan) -> str:
    places = [f"{s.name}:{free[0]}" for s in net.plan.switches if (free := free_ports(net, s.name))]
    return places[0] if places else f"{net.plan.switches[0].name}:1"


def remembered(net: NetworkPlan, kinds: dict[str, str]) -> Place | None:
    """Where it stood when the sheets were written last, by the index; None where nobody said so, or the plan has it otherwise."""
    found = re.search(rf"{TYPED_FROM}(\S+)$", kinds.get(SHEETS, ""))
    if found is None:
        return None
    try:
        return laptop_at(net, found[1])
    except InputError:
        return None
