"""What is entered at a switch in any order: VLANs, what its ports are set to, multicast, spanning tree, who is let in."""

from __future__ import annotations

from collections.abc import Callable, Iterator

from zentrale.planning.by_hand.line import Line, ports
from zentrale.planning.by_hand.order import Order
from zentrale.planning.network import NetworkPlan
from zentrale.planning.ports import PortRow
from zentrale.site.model import Switch

RADIUS_PORT = 1812  # RFC 2865 section 3
SECRET = "RADIUS secret"  # what the vault calls it
_TREES = {"rstp": "rapid (RSTP)", "mstp": "multiple (MSTP)", "ring": "ring protocol (ITU-T G.8032)"}


def vlans(net: NetworkPlan, switch: Switch, *, is_first: bool) -> Iterator[Line]:
    """All that must exist here: those of its ports, its page and its legs, and primaries of what is private; at the switch that
    `is_first` also those that no port of the site has.
    """
    plan = net.plan
    used = {z for row in net.ports.of(switch.name) for z in row.zones}
    if switch.management is not None:
        used.add(switch.management.zone)
    if switch.routes:
        used |= {z.name for z in net.routed_zones()}
    copies = [copy for copy in net.copies() if copy.switch == switch.name]
    used |= {copy.to_zone for copy in copies}
    used |= {z.name for z in plan.zones if any(copy.from_vlan == z.vlan for copy in copies)}
    elsewhere = {z for row in net.ports.rows for z in row.zones}
    elsewhere |= {s.management.zone for s in plan.switches if s.management is not None}
    nowhere = {z.name for z in plan.zones} - elsewhere if is_first else set[str]()
    used |= nowhere
    used |= {plan.zone(z).family for z in used}
    for zone in sorted((z for z in plan.zones if z.name in used), key=lambda z: z.primary is not None):
        private = f"; {zone.private} secondary of VLAN {net.vlan(zone.primary)}" if zone.primary else ""
        private = private or ("; primary of a private VLAN" if net.secondaries(zone) else "")
        has_port = any(zone.name in row.zones for row in net.ports.of(switch.name))
        absent = "no port has it yet" if zone.name in nowhere else "no port here, but it must exist"
        yield Line("VLANs", f"VLAN {zone.vlan}, name {zone.name}{private}", "as planned" if has_port else absent)


def multicast(net: NetworkPlan, switch: Switch) -> Iterator[Line]:
    if not net.multicast.zones:
        return
    yield Line("multicast: IGMP snooping", "on" if switch.snooping else "off", "RFC 4541")
    for asked in net.multicast.zones:
        if asked.querier == switch.name:
            yield Line("multicast: querier", f"on in VLAN {net.vlan(asked.zone)}", "asks who listens (RFC 4541)")
    for copy in net.copies():
        if copy.switch == switch.name:
            enter = f"{copy.group}, VLAN {copy.from_vlan} to VLAN {net.vlan(copy.to_zone)}"
            yield Line("multicast VLAN registration", enter, "copied to its listeners")


def spanning_tree(net: NetworkPlan, switch: Switch, order: Order) -> Iterator[Line]:
    """Edge ports first: what stands at them is not cut off for 30 s when the tree is switched on (IEEE 802.1Q clause 13)."""
    kind = switch.loop_protection
    if kind is None:
        return
    if kind == "none":
        yield Line("spanning tree", "off", "as planned")
        return
    rows = net.ports.of(switch.name)
    edge = {row.port for row in rows if row.mode != "off" and row.kind != "link"} | {order.at(switch.name) or 0}
    if edge - {0}:
        yield Line(
            "spanning tree: edge ports", ports(edge - {0}), "devices only; forward at once", tuple(sorted(edge - {0}))
        )
    if kind == "ring":
        links = [row.port for row in rows if row.kind == "link" and row.mode != "off"]
        yield Line("ring protection", f"{_TREES[kind]} on {ports(links)}", "opens the ring", tuple(links))
        return
    priority = net.tree_priority(switch.name)
    yield Line(
        "spanning tree: priority", str(priority), "lowest: the root, at the recorders" if priority < 32768 else ""
    )
    yield Line("spanning tree: kind", f"{_TREES[kind]}, on", "may hold ports back for 30 s: wait")


def letting_in(net: NetworkPlan, switch: Switch) -> Iterator[Line]:
    """The server that is asked; its secret stands in no file."""
    if not any(row.authentication != "none" and row.mode != "off" for row in net.ports.of(switch.name)):
        return
    server = net.plan.policy.radius_server
    text = (
        f"{server}, port {RADIUS_PORT}"
        if server
        else "its address is not in the plan (policy.radius_server): ask for it"
    )
    yield Line("RADIUS: server", text, "asked who may come in (RFC 2865)")
    yield Line("RADIUS: secret", f"from the vault, by hand: 802.1X, {SECRET}", "`zentrale vault list --show`")


def device_ports(net: NetworkPlan, switch: Switch, order: Order) -> Iterator[Line]:
    """VLANs port by port; all else once for all ports that have it alike. Without the laptop's port."""
    rows = [row for row in net.ports.of(switch.name) if row.mode != "off" and row.port != order.at(switch.name)]
    for row in rows:
        if row.kind != "link":
            yield port_vlan(net, row)
    feeding = [
        r for r in net.ports.of(switch.name) if r.port <= net.plan.switch_type(switch).poe_ports and r.kind != "free"
    ]
    yield from _alike(feeding, "PoE", lambda r: "on" if r.poe else "off", "", "ZON-4")
    yield from _alike([r for r in rows if r.priority], "PoE: priority", lambda r: r.priority, "who goes dark last")
    fixed = [r for r in rows if r.fixed_rate]
    yield from _alike(fixed, "speed", lambda r: f"{r.rate_mbps} Mbit/s, fixed", "at both ends", "ZON-7", among=rows)
    saving = {"off": "devices drop out with it"}
    yield from _alike(
        rows, "energy-saving Ethernet", lambda r: "on" if r.energy_saving else "off", lambda v: saving.get(v, ""), "ZON-6"
    )  # fmt: skip
    listening = [r for r in rows if f"{r.switch}:{r.port}" in net.multicast.fast_leave]
    yield from _alike(listening, "multicast: fast leave", lambda r: "on", "one listener each (RFC 4541)", among=rows)
    asking = [r for r in rows if r.authentication != "none"]
    yield from _alike(asking, "ports: letting in by", lambda r: r.authentication, "IEEE 802.1X", among=rows)


def port_vlan(net: NetworkPlan, row: PortRow) -> Line:
    """What a port is in for good: tagged only, or untagged, which is its native VLAN, too."""
    if row.mode == "trunk":
        rest = f"untagged VLAN {net.vlan(row.native)}" if row.native else "tagged frames only"
        text = f"tagged VLAN {', '.join(map(str, sorted(net.vlan(z) for z in row.tagged)))}; {rest}"
        return Line(f"ports: {row.port}", text, net.plan.called(row.label), (row.port,), "ZON-1")
    role = f"; {row.role}" if row.role else ""
    return Line(
        f"ports: {row.port}",
        f"untagged VLAN {net.vlan(row.access)}{role}",
        net.plan.called(row.label),
        (row.port,),
        "ZON-1",
    )


def _alike(
    rows: list[PortRow],
    where: str,
    value: Callable[[PortRow], str],
    why: str | Callable[[str], str],
    confirmed_by: str = "",
    among: list[PortRow] | None = None,
) -> Iterator[Line]:
    """A line for each value; `among`: all ports in use, where only some have one."""
    found: dict[str, list[int]] = {}
    for row in rows:
        found.setdefault(value(row), []).append(row.port)
    for text, some in found.items():
        everywhere = len(some) == len(rows if among is None else among) > 1
        at = "all ports in use" if everywhere else ports(some)
        reason = why if isinstance(why, str) else why(text)
        yield Line(where, f"{text}: {at}", reason, tuple(some), confirmed_by)
