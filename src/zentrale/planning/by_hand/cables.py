"""What is entered at both ends of the cables between two switches, round by round, and when which cable is plugged in.

A bundle of several cables: the first goes on untagged, as all began, while the others are made a bundle and take over what is
tagged; then the first joins them. Where a page stays in the VLAN that all began in, which cannot be on both at once, the others
take over in one go, by hand, once they carry all of it.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import replace

from zentrale.planning.by_hand.line import Line, ports
from zentrale.planning.by_hand.order import BEGINS_IN, Trunk, link_row
from zentrale.planning.by_hand.settings import port_vlan
from zentrale.planning.network import NetworkPlan
from zentrale.planning.ports import PortRow
from zentrale.planning.topology import trunk_name, trunks_of


def entered(net: NetworkPlan, switch: str, trunk: Trunk, turn: int) -> Iterator[Line]:
    """At the switch's own end in this round, counted from 1."""
    rows = [link_row(net, switch, index) for index in trunk.links]
    first, others = rows[0], rows[1:]
    begins = BEGINS_IN in vlans(net, first)
    native = net.vlan(first.native) if first.native else 0
    if native == BEGINS_IN and not others:
        yield from _beside(net, first) if turn == 1 else ()
        return
    if native and turn == 3:
        yield _port(first, f"untagged frames are taken into VLAN {native}, too; it leaves with its tag still")
    elif native and turn == 4:
        yield _port(first, f"untagged VLAN {native} in place of its tag", "ZON-3")
    if first.mode == "access":
        yield from [port_vlan(net, first)] if turn == 2 else []
    elif not first.zones:
        return
    elif turn == 1:
        if others:
            yield _joins(net, trunk, others)
            yield from _tagged_only(net, others, without=0 if trunk.swapped else BEGINS_IN)
        if not others or trunk.swapped:
            yield from _beside(net, first)
    elif others and not trunk.swapped:
        if turn == (3 if begins else 2):
            yield from _tagged_only(net, others) if begins else ()
            yield _joins(net, trunk, [first])
    elif turn == 2 and begins:
        yield _port(first, f"tagged VLAN {BEGINS_IN}, too; untagged frames are still taken in")
    elif turn == 2:
        yield _port(first, f"tagged frames only; untagged VLAN {BEGINS_IN} off", "ZON-3")
    elif turn == 3 and begins:
        yield _port(first, "tagged frames only", "ZON-3")
    elif turn == 4 and trunk.swapped:
        yield _joins(net, trunk, [first])


def plugged(net: NetworkPlan, trunk: Trunk, turn: int) -> Iterator[Line]:
    """By hand, when both ends have been entered."""
    first, *others = (trunk_name(net.plan, (index,)) for index in trunk.links)
    if others and trunk.swapped and turn == 3:
        text = f"unplug {first}; plug in {', '.join(others)} at once"
        yield Line("cables", text, "the bundle carries all of it now")
    elif others and trunk.swapped and turn == 4:
        yield Line("cables", f"plug in {first}", "both ends have it in the bundle")
    elif others and not trunk.swapped and turn == 1:
        for other in others:
            yield Line("cables", f"plug in {other}", "both ends of the bundle are made")


def waiting(net: NetworkPlan, switch: str, links: Sequence[int]) -> Iterator[Line]:
    """Of cables that are not plugged in meanwhile: as they are to be for good, a bundle as one."""
    for members in trunks_of(net.plan):
        if members[0] in links and switch in net.plan.links[members[0]].switches():
            rows = [link_row(net, switch, index) for index in members]
            if len(rows) > 1:
                yield _joins(net, Trunk(switch, "", members), rows)
            if rows[0].zones:
                yield replace(port_vlan(net, rows[0]), confirmed_by="ZON-3")


def _tagged_only(net: NetworkPlan, rows: list[PortRow], without: int = 0) -> Iterator[Line]:
    """Of cables that are a bundle already: once for all of them."""
    text = ", ".join(str(v) for v in vlans(net, rows[0]) if v != without)
    if text:
        yield _port(rows[0], f"tagged VLAN {text}; tagged frames only", "ZON-3")


def vlans(net: NetworkPlan, row: PortRow) -> list[int]:
    """Those that it carries; with a tag all of them, but for a native one in the end."""
    return sorted(net.vlan(z) for z in row.zones)


def _beside(net: NetworkPlan, row: PortRow) -> Iterator[Line]:
    text = ", ".join(str(v) for v in vlans(net, row) if v != BEGINS_IN)
    if text:
        yield _port(row, f"tagged VLAN {text}; untagged VLAN {BEGINS_IN} stays")


def _port(row: PortRow, enter: str, confirmed_by: str = "") -> Line:
    return Line(f"ports: {row.port}", enter, row.label, (row.port,), confirmed_by)


def _joins(net: NetworkPlan, trunk: Trunk, rows: list[PortRow]) -> Line:
    own = tuple(row.port for row in rows)
    name = net.plan.links[trunk.links[0]].bundle
    return Line(f"bundle {name}", f"{ports(own)} into it, LACP active (IEEE 802.1AX)", rows[0].label, own)
