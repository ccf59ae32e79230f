"""A switch as commands for Open vSwitch: VLANs, spanning tree and snooping by its own settings, private VLANs as OpenFlow rules.

Its own forwarding (NORMAL) knows no private VLAN across trunks. The rules do what it does, learning and flooding, for the VLANs
of such a family only: table 0 says which VLAN a frame belongs to, 1 learns its sender, 20 lets it out to where its receiver is
known to be, 30 everywhere else where the VLAN may go.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from zentrale.output.network import names
from zentrale.planning.network import NetworkPlan
from zentrale.planning.ports import PortRow
from zentrale.site.model import Switch, Zone

_FORGET_S = 6  # a sender that is silent for so long is looked for everywhere again; so long a ring takes to heal
LEARNED = 10  # the table of what is learned
_LOCAL = 0xFFFE  # the switch's own port (OpenFlow: OFPP_LOCAL)
_TO_MANY = "dl_dst=01:00:00:00:00:00/01:00:00:00:00:00"


def commands(net: NetworkPlan, switch: Switch) -> str:
    """A shell script. Run again it does no harm; what is on the switch beside it goes."""
    bridge = names.short(switch.name)
    rows = [row for row in net.ports.of(switch.name) if row.mode != "off"]
    lines = [
        "#!/bin/sh",
        f"# {switch.name} ({switch.type}, {switch.cabinet}): Open vSwitch. Port N is the interface pN.",
        "# What was on the bridge goes. A port that is not named here is off: give it no cable.",
        "set -eu",
        f'ovs-vsctl --if-exists del-br {bridge} -- add-br {bridge} -- set Bridge {bridge} fail_mode=secure '
        '"datapath_type=${DATAPATH:-system}"',
        *_switch_settings(net, switch, bridge),
    ]  # fmt: skip
    bonds = net.bonds(switch.name)
    for row in rows:
        bond = next((b for b in bonds if row.port in b), (row.port,))
        lines.append(f"# {row.port}: {row.label}")
        if row.mode == "trunk" and not row.zones:
            lines.append("# Nobody behind it has anything to do with this side: it carries no VLAN, and is left out.")
        elif row.port == bond[0]:
            lines += _port(net, bridge, row, bond)
        if row.port in net.idle_cables(switch.name):
            lines.append(f"ip link set {names.port(row.port)} down  # at the other end nothing opens their loop")
    lines += _router_legs(net, switch, bridge)
    lines += _own_page(net, switch, bridge)
    page = net.page_port(switch, names.PAGE_PORT)
    rows += [] if page is None else [page]
    lines += [f"ovs-ofctl -O OpenFlow13 replace-flows {bridge} - <<'FLOWS'", *flows(net, switch, rows), "FLOWS", ""]
    return "\n".join(lines)


def _switch_settings(net: NetworkPlan, switch: Switch, bridge: str) -> Iterator[str]:
    if net.spans(switch.name):
        if switch.loop_protection == "ring":
            yield "# Its ring protocol is not one that Open vSwitch has: rapid spanning tree opens the ring in its place."
        yield f"ovs-vsctl set Bridge {bridge} rstp_enable=true other_config:rstp-priority={net.tree_priority(switch.name)}"
    if len(net.bonds(switch.name)) < len(net.bundles(switch.name)):
        yield "# Open vSwitch runs no spanning tree on bundles: their cables stand apart here, and one of them carries."
    if switch.snooping and net.multicast.zones:
        snoop = "mcast_snooping_enable=true other_config:mcast-snooping-disable-flood-unregistered=true"
        yield f"ovs-vsctl set Bridge {bridge} {snoop}"


def _port(net: NetworkPlan, bridge: str, row: PortRow, bond: Sequence[int]) -> Iterator[str]:
    name = names.port(row.port)
    if row.mode == "trunk":
        native = f"native-untagged tag={net.vlan(row.native)}" if row.native else "trunk"
        settings = f"vlan_mode={native} trunks={','.join(str(net.vlan(z)) for z in row.tagged)}"
    else:
        settings = f"vlan_mode=access tag={net.vlan(row.access)}"
    edge = "" if row.kind == "link" else " other_config:rstp-port-admin-edge=true"
    made = f"add-port {bridge} {name}"
    if len(bond) > 1:
        made = f"add-bond {bridge} bond{bond[0]} {' '.join(map(names.port, bond))} lacp=active"
        yield "# Together one (IEEE 802.1AX). Frames of a private VLAN take the first of them."
    numbers = "".join(f" -- set Interface {names.port(p)} ofport_request={p}" for p in bond)
    yield f"ovs-vsctl {made} {settings}{edge}{numbers}"


def _router_legs(net: NetworkPlan, switch: Switch, bridge: str) -> Iterator[str]:
    """The legs of the router that it is."""
    if not switch.routes:
        return
    yield "# It routes: a leg in each zone with a gateway. What may pass is in the file for nftables."
    tree = net.spans(switch.name)
    if tree:
        yield "# With spanning tree on, nothing is flooded to interfaces of the switch itself: each leg has a cable of its own."
    for zone in net.routed_zones():
        name, number = names.vlan(zone.vlan), names.INTERNAL_PORT + zone.vlan
        port = names.far_end(name) if tree else name
        if tree:
            yield f"ip link show {name} > /dev/null 2>&1 || ip link add {name} type veth peer name {port}"
            yield f"ip link set {port} up"
        kind = "other_config:rstp-port-admin-edge=true" if tree else ""
        made = f"ovs-vsctl add-port {bridge} {port} vlan_mode=access tag={zone.vlan} {kind}".rstrip()
        yield f"{made} -- set Interface {port} {'' if tree else 'type=internal '}ofport_request={number}"
        yield f"ip address replace {zone.gateway}/{zone.subnet.prefixlen} dev {name} scope global"
        yield f"ip link set {name} up"
    yield "echo 1 > /proc/sys/net/ipv4/ip_forward"


def _own_page(net: NetworkPlan, switch: Switch, bridge: str) -> Iterator[str]:
    """Where the switch itself is reached: by a cable of its own, since with spanning tree nothing is flooded to it else."""
    own = switch.management
    if own is None:
        return
    if not net.has_page_of_its_own(switch):
        zone = net.plan.zone(net.plan.zone(own.zone).family)
        yield f"# The switch itself answers at its leg in zone {own.zone}."
        yield f"ip address replace {own.address}/{zone.subnet.prefixlen} dev {names.vlan(zone.vlan)} scope global"
        return
    zone, name = net.plan.zone(own.zone), names.PAGE
    port = names.far_end(name)
    yield f"# The switch itself answers in zone {zone.name}."
    yield f"ip link show {port} > /dev/null 2>&1 || ip link add {name} type veth peer name {port}"
    yield f"ip link set {port} up"
    made = f"ovs-vsctl add-port {bridge} {port} vlan_mode=access tag={zone.vlan} other_config:rstp-port-admin-edge=true"
    yield f"{made} -- set Interface {port} ofport_request={names.PAGE_PORT}"
    yield f"ip address replace {own.address}/{zone.subnet.prefixlen} dev {name} scope global"
    yield f"ip link set {name} up"
    gateway = net.gateway_of(own.zone)
    if gateway is not None and not switch.routes:
        yield f"ip route replace default via {gateway} dev {name}"


def flows(net: NetworkPlan, switch: Switch, rows: Sequence[PortRow]) -> Iterator[str]:
    """The OpenFlow rules of one switch, as ovs-ofctl reads them."""
    yield from _copies(net, switch, rows)
    for family in net.families():
        zones = [family, *net.secondaries(family)]
        for zone in zones:
            yield from _taken_in(net, switch, rows, zone, family)
        yield from _groups(net, switch, rows, zones)
        for zone in zones:
            yield from _let_out(net, switch, rows, zone)
    if net.families():
        learned = (
            f"learn(table={LEARNED},priority=10,hard_timeout={_FORGET_S},NXM_NX_REG1[],NXM_OF_ETH_DST[]=NXM_OF_ETH_SRC[],"
            "load:NXM_OF_IN_PORT[]->NXM_NX_REG2[0..15])"
        )
        yield "table=1,priority=90,dl_src=01:00:00:00:00:00/01:00:00:00:00:00,actions=drop"
        yield f"table=1,priority=50,{_TO_MANY},actions={learned},resubmit(,30)"
        yield f"table=1,priority=10,actions={learned},resubmit(,{LEARNED}),resubmit(,20)"
        yield "table=20,priority=50,reg2=0,actions=resubmit(,30)"
    yield "table=0,priority=0,actions=NORMAL"


def _taken_in(net: NetworkPlan, switch: Switch, rows: Sequence[PortRow], zone: Zone, family: Zone) -> Iterator[str]:
    """Which frames belong to the zone's VLAN: those of its own ports, and those with its tag on trunks that carry it."""
    marked = _marked(net, zone)
    ports = [row.port for row in rows if row.mode == "access" and row.access == zone.name]
    if switch.routes and zone is family and zone.gateway is not None:
        ports.append(names.INTERNAL_PORT + zone.vlan)
    for port in (row.port for row in rows if row.mode == "trunk" and row.native == zone.name):
        yield f"table=0,priority=100,in_port={port},vlan_tci=0x0000/0x1fff,actions={marked}"
    for port in ports:
        yield f"table=0,priority=100,in_port={port},vlan_tci=0x0000/0x1fff,actions={marked}"
        yield f"table=0,priority=90,in_port={port},actions=drop"
    for row in rows:
        if row.mode == "trunk":
            carried = zone.name in row.zones
            actions = f"strip_vlan,{marked}" if carried else "drop"
            yield f"table=0,priority=100,in_port={row.port},dl_vlan={zone.vlan},actions={actions}"


def _registers(net: NetworkPlan, zone: Zone) -> str:
    return f"load:{zone.vlan}->NXM_NX_REG0[],load:{net.vlan(zone.family)}->NXM_NX_REG1[]"


def _marked(net: NetworkPlan, zone: Zone) -> str:
    return f"{_registers(net, zone)},resubmit(,1)"


def _copies(net: NetworkPlan, switch: Switch, rows: Sequence[PortRow]) -> Iterator[str]:
    """Planned groups into the listeners' VLANs, beside their own: there it is as if the switch itself had sent them."""
    by_sender: dict[tuple[int, str], list[Zone]] = {}
    for copy in net.copies():
        if copy.switch == switch.name:
            by_sender.setdefault((copy.from_vlan, copy.group), []).append(net.plan.zone(copy.to_zone))
    for (vlan, group), targets in by_sender.items():
        zone = next(z for z in net.plan.zones if z.vlan == vlan)
        tagged, untagged = (
            ",".join(_copied_into(net, target, way) for target in targets) for way in ("", "push_vlan:0x8100,")
        )
        own = _marked(net, zone) if net.is_private(zone.name) else "NORMAL"
        taken = "strip_vlan," if net.is_private(zone.name) else ""
        yield f"table=0,priority=200,ip,dl_vlan={vlan},nw_dst={group},actions={tagged},{taken}{own}"
        for row in rows:
            if row.mode == "access" and net.vlan(row.access) == vlan:
                match = f"ip,in_port={row.port},vlan_tci=0x0000/0x1fff,nw_dst={group}"
                yield f"table=0,priority=200,{match},actions={untagged},{own}"


def _copied_into(net: NetworkPlan, zone: Zone, pushed: str) -> str:
    """A copy of its own (clone), after which the frame is as it was."""
    if net.is_private(zone.name):
        return f"clone({'' if pushed else 'strip_vlan,'}{_registers(net, zone)},resubmit(,30))"
    return f"clone({pushed}set_field:{0x1000 | zone.vlan}->vlan_vid,load:{_LOCAL}->NXM_OF_IN_PORT[],NORMAL)"


def _groups(net: NetworkPlan, switch: Switch, rows: Sequence[PortRow], zones: Sequence[Zone]) -> Iterator[str]:
    """Planned groups go towards their listeners, or to the switch that copies them, and nowhere else."""
    spare = _spare(net, switch)
    trunks = [
        (row.device.rpartition(":")[0], row.port)
        for row in rows
        if row.mode == "trunk" and row.kind == "link" and row.port not in spare
    ]
    for group in net.multicast.groups:
        zone = next((z for z in zones if z.name == group.zone), None)
        if zone is None:
            continue
        targets, ports = net.multicast_targets(group, switch.name)
        here = [row.port for row in rows if row.mode == "access" and row.port in ports and net.lets_out(zone, row)]
        on = [port for other, port in trunks if net.leads_to(switch.name, other, targets)]
        actions = [f"output:{port}" for port in here]
        actions += [f"mod_vlan_vid:{zone.vlan}", *(f"output:{port}" for port in on)] if on else []
        text = ",".join(actions) or "drop"
        yield f"table=1,priority=60,ip,reg0={zone.vlan},nw_dst={group.group},actions={text}"


def _spare(net: NetworkPlan, switch: Switch) -> set[int]:
    """Cables that rules leave alone, since the first of their bond stands for them."""
    return {port for bond in net.bonds(switch.name) for port in bond[1:]}


def _let_out(net: NetworkPlan, switch: Switch, rows: Sequence[PortRow], zone: Zone) -> Iterator[str]:
    untagged = [
        row.port for row in rows if net.lets_out(zone, row) and (row.mode == "access" or row.native == zone.name)
    ]
    family = net.plan.zone(zone.family)
    if switch.routes and family.gateway is not None:
        untagged.append(names.INTERNAL_PORT + family.vlan)
    spare = _spare(net, switch)
    tagged = [row.port for row in rows if row.mode == "trunk" and zone.name in row.tagged and row.port not in spare]
    for port in untagged:
        yield f"table=20,priority=40,reg0={zone.vlan},reg2={port},actions=output:{port}"
    for port in tagged:
        yield f"table=20,priority=40,reg0={zone.vlan},reg2={port},actions=mod_vlan_vid:{zone.vlan},output:{port}"
    everywhere = [f"output:{port}" for port in untagged]
    everywhere += [f"mod_vlan_vid:{zone.vlan}", *(f"output:{port}" for port in tagged)] if tagged else []
    if everywhere:
        yield f"table=30,reg0={zone.vlan},actions={','.join(everywhere)}"
