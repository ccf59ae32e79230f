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
    bonds = net.bundles(switch.name)
    for row in rows:
        bond = next((b for b in bonds if row.port in b), (row.port,))
        lines.append(f"# {row.port}: {row.label}")
        if row.port == bond[0]:
            lines += _port(net, bridge, row, bond)
    lines += _internal(net, switch, bridge)
    lines += [f"ovs-ofctl -O OpenFlow13 replace-flows {bridge} - <<'FLOWS'", *flows(net, switch, rows), "FLOWS", ""]
    return "\n".join(lines)


def _switch_settings(net: NetworkPlan, switch: Switch, bridge: str) -> Iterator[str]:
    if switch.loop_protection in ("rstp", "mstp"):
        core = net.plan.recorders[0].switch if net.plan.recorders else ""
        priority = 4096 if switch.name == core else 32768  # the lowest is the root
        yield f"ovs-vsctl set Bridge {bridge} rstp_enable=true other_config:rstp-priority={priority}"
    elif switch.loop_protection == "ring":
        yield "# Its ring protocol is not one that Open vSwitch has: a ring through it needs rapid spanning tree here."
    if switch.snooping and net.multicast.zones:
        snoop = "mcast_snooping_enable=true other_config:mcast-snooping-disable-flood-unregistered=true"
        yield f"ovs-vsctl set Bridge {bridge} {snoop}"
        if any(zone.querier == switch.name for zone in net.multicast.zones):
            yield "# Open vSwitch does not ask for groups: the querier of its zones is the router, or a device beside it."


def _port(net: NetworkPlan, bridge: str, row: PortRow, bond: Sequence[int]) -> Iterator[str]:
    name = names.port(row.port)
    if row.mode == "trunk":
        settings = f"vlan_mode=trunk trunks={','.join(str(net.vlan(z)) for z in row.tagged)}"
    else:
        settings = f"vlan_mode=access tag={net.vlan(row.access)}"
    edge = "" if row.kind == "link" else " other_config:rstp-port-admin-edge=true"
    made = f"add-port {bridge} {name}"
    if len(bond) > 1:
        made = f"add-bond {bridge} bond{bond[0]} {' '.join(map(names.port, bond))} lacp=active"
        yield "# Together one (IEEE 802.1AX). Frames of a private VLAN take the first of them."
    numbers = "".join(f" -- set Interface {names.port(p)} ofport_request={p}" for p in bond)
    yield f"ovs-vsctl {made} {settings}{edge}{numbers}"


def _internal(net: NetworkPlan, switch: Switch, bridge: str) -> Iterator[str]:
    """The legs of the router that it is."""
    if not switch.routes:
        return
    yield "# It routes: a leg in each zone with a gateway. What may pass is in the file for nftables."
    for zone in net.routed_zones():
        name, number = names.vlan(zone.vlan), names.INTERNAL_PORT + zone.vlan
        yield (
            f"ovs-vsctl add-port {bridge} {name} vlan_mode=access tag={zone.vlan} -- set Interface {name} type=internal "
            f"ofport_request={number}"
        )
        yield f"ip address replace {zone.gateway}/{zone.subnet.prefixlen} dev {name} scope global"
        yield f"ip link set {name} up"
    yield "echo 1 > /proc/sys/net/ipv4/ip_forward"


def flows(net: NetworkPlan, switch: Switch, rows: Sequence[PortRow]) -> Iterator[str]:
    """The OpenFlow rules of one switch, as ovs-ofctl reads them."""
    for family in net.families():
        zones = [family, *net.secondaries(family)]
        for zone in zones:
            yield from _taken_in(net, switch, rows, zone, family)
        yield from _copies(net, switch, rows, zones)
        yield from _groups(net, switch, rows, zones)
        for zone in zones:
            yield from _let_out(net, switch, rows, zone)
    if net.families():
        learned = (
            f"learn(table=10,priority=10,hard_timeout={_FORGET_S},NXM_NX_REG1[],NXM_OF_ETH_DST[]=NXM_OF_ETH_SRC[],"
            "load:NXM_OF_IN_PORT[]->NXM_NX_REG2[0..15])"
        )
        yield "table=1,priority=90,dl_src=01:00:00:00:00:00/01:00:00:00:00:00,actions=drop"
        yield f"table=1,priority=50,{_TO_MANY},actions={learned},resubmit(,30)"
        yield f"table=1,priority=10,actions={learned},resubmit(,10),resubmit(,20)"
        yield "table=20,priority=50,reg2=0,actions=resubmit(,30)"
    yield "table=0,priority=0,actions=NORMAL"


def _taken_in(net: NetworkPlan, switch: Switch, rows: Sequence[PortRow], zone: Zone, family: Zone) -> Iterator[str]:
    """Which frames belong to the zone's VLAN: those of its own ports, and those with its tag on trunks that carry it."""
    marked = f"load:{zone.vlan}->NXM_NX_REG0[],load:{family.vlan}->NXM_NX_REG1[],resubmit(,1)"
    ports = [row.port for row in rows if row.mode == "access" and row.access == zone.name]
    if switch.routes and zone is family and zone.gateway is not None:
        ports.append(names.INTERNAL_PORT + zone.vlan)
    for port in ports:
        yield f"table=0,priority=100,in_port={port},vlan_tci=0x0000/0x1fff,actions={marked}"
        yield f"table=0,priority=90,in_port={port},actions=drop"
    for row in rows:
        if row.mode == "trunk":
            carried = zone.name in row.tagged
            actions = f"strip_vlan,{marked}" if carried else "drop"
            yield f"table=0,priority=100,in_port={row.port},dl_vlan={zone.vlan},actions={actions}"


def _copies(net: NetworkPlan, switch: Switch, rows: Sequence[PortRow], zones: Sequence[Zone]) -> Iterator[str]:
    """Planned groups into the listeners' VLAN: from there on it is as if the VLAN's own leg had sent them."""
    for copy in net.copies():
        if copy.switch != switch.name or copy.from_vlan not in {z.vlan for z in zones}:
            continue
        to = net.vlan(copy.to_zone)
        into = f"load:{names.INTERNAL_PORT + to}->NXM_OF_IN_PORT[],NORMAL"
        yield f"table=0,priority=200,ip,dl_vlan={copy.from_vlan},nw_dst={copy.group},actions=strip_vlan,{into}"
        for row in rows:
            if row.mode == "access" and net.vlan(row.access) == copy.from_vlan:
                yield f"table=0,priority=200,ip,in_port={row.port},nw_dst={copy.group},actions={into}"


def _groups(net: NetworkPlan, switch: Switch, rows: Sequence[PortRow], zones: Sequence[Zone]) -> Iterator[str]:
    """Planned groups go towards their listeners, or to the switch that copies them, and nowhere else."""
    trunks = {row.device.rpartition(":")[0]: row.port for row in rows if row.mode == "trunk" and row.kind == "link"}
    for group in net.multicast.groups:
        zone = next((z for z in zones if z.name == group.zone), None)
        if zone is None:
            continue
        targets, ports = net.multicast_targets(group, switch.name)
        here = [row.port for row in rows if row.mode == "access" and row.port in ports and net.lets_out(zone, row)]
        on = [port for other, port in trunks.items() if net.leads_to(switch.name, other, targets)]
        actions = [f"output:{port}" for port in here]
        actions += [f"mod_vlan_vid:{zone.vlan}", *(f"output:{port}" for port in on)] if on else []
        told = ",".join(actions) or "drop"
        yield f"table=1,priority=60,ip,reg0={zone.vlan},nw_dst={group.group},actions={told}"


def _let_out(net: NetworkPlan, switch: Switch, rows: Sequence[PortRow], zone: Zone) -> Iterator[str]:
    untagged = [row.port for row in rows if row.mode == "access" and net.lets_out(zone, row)]
    family = net.plan.zone(zone.family)
    if switch.routes and family.gateway is not None:
        untagged.append(names.INTERNAL_PORT + family.vlan)
    spare = {port for bond in net.bundles(switch.name) for port in bond[1:]}
    tagged = [row.port for row in rows if row.mode == "trunk" and net.lets_out(zone, row) and row.port not in spare]
    for port in untagged:
        yield f"table=20,priority=40,reg0={zone.vlan},reg2={port},actions=output:{port}"
    for port in tagged:
        yield f"table=20,priority=40,reg0={zone.vlan},reg2={port},actions=mod_vlan_vid:{zone.vlan},output:{port}"
    everywhere = [f"output:{port}" for port in untagged]
    everywhere += [f"mod_vlan_vid:{zone.vlan}", *(f"output:{port}" for port in tagged)] if tagged else []
    if everywhere:
        yield f"table=30,reg0={zone.vlan},actions={','.join(everywhere)}"
