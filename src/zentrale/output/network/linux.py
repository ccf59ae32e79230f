"""A switch as commands for Linux' own bridge (ip and bridge of iproute2), where that can do what is planned.

Of a private VLAN it can keep isolated ports apart on one switch, all in the primary's VLAN (bridge(8): isolated). Over trunks it
cannot: it learns each VLAN's addresses apart, so what goes back in another VLAN than it came would be flooded for ever.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from zentrale.output.network import names
from zentrale.planning.network import NetworkPlan
from zentrale.planning.ports import PortRow
from zentrale.site.model import Switch


def lacks(net: NetworkPlan, switch: Switch) -> str:
    """What of this switch Linux' bridge cannot do, in words; empty where the file is right."""
    rows = net.ports.of(switch.name)
    private = {z.name for z in net.plan.zones if net.is_private(z.name)}
    if any(row.mode == "trunk" and private & set(row.tagged) for row in rows):
        return "a private VLAN over trunks"
    if any(
        net.plan.zone(row.access).private == "community"
        for row in rows
        if row.access in private and row.role == "community"
    ):
        return "a community VLAN"
    if switch.management is not None and net.plan.zone(switch.management.zone).primary is not None:
        return "an address of its own in a secondary VLAN"
    if any(copy.switch == switch.name for copy in net.copies()):
        return "copying groups into another VLAN"
    return ""


def commands(net: NetworkPlan, switch: Switch) -> str:
    bridge = names.short(switch.name)
    rows = [row for row in net.ports.of(switch.name) if row.mode != "off"]
    bonds = net.bundles(switch.name)
    lines = [
        "#!/bin/sh",
        f"# {switch.name} ({switch.type}, {switch.cabinet}): Linux bridge. Port N is the interface pN.",
        "# What was on the bridge goes. A port that is not named here is off: give it no cable.",
        "set -eu",
        f"ip link delete {bridge} 2> /dev/null || true",
        f"ip link add {bridge} type bridge vlan_filtering 1 vlan_default_pvid 0",
        *_bridge_settings(net, switch, bridge),
    ]
    for row in rows:
        bond = next((b for b in bonds if row.port in b), (row.port,))
        lines.append(f"# {row.port}: {row.label}")
        if row.port == bond[0]:
            lines += _port(net, switch, bridge, row, bond)
    lines.append(f"ip link set {bridge} up")
    lines += _router_legs(net, switch, bridge)
    lines += _own_page(net, switch, bridge)
    return "\n".join([*lines, ""])


def _bridge_settings(net: NetworkPlan, switch: Switch, bridge: str) -> Iterator[str]:
    if switch.loop_protection == "ring":
        yield "# Its ring protocol is not one that Linux has: spanning tree opens the ring in its place."
    if net.spans(switch.name):
        yield "# The kernel has the older spanning tree only, which takes 30 s to heal; mstpd does the rapid one."
        yield f"ip link set {bridge} type bridge stp_state 1"
    snooping = int(_snoops(net, switch))
    yield f"ip link set {bridge} type bridge mcast_snooping {snooping} mcast_vlan_snooping {snooping}"
    for zone in net.multicast.zones:
        if snooping and zone.querier == switch.name:
            yield f"bridge vlan add dev {bridge} vid {net.vlan(zone.zone)} self"
            yield f"bridge vlan global set dev {bridge} vid {net.vlan(zone.zone)} mcast_snooping 1 mcast_querier 1"


def _snoops(net: NetworkPlan, switch: Switch) -> bool:
    return switch.snooping and bool(net.multicast.zones)


def _port(net: NetworkPlan, switch: Switch, bridge: str, row: PortRow, bond: Sequence[int]) -> Iterator[str]:
    name = names.port(row.port)
    if len(bond) > 1:
        name = f"bond{bond[0]}"
        yield "# Together one (IEEE 802.1AX)."
        yield f"ip link delete {name} 2> /dev/null || true"
        yield f"ip link add {name} type bond mode 802.3ad"
        for port in map(names.port, bond):
            yield f"ip link set {port} down"
            yield f"ip link set {port} master {name}"
    yield f"ip link set {name} master {bridge}"
    if row.mode == "access":
        family = net.vlan(net.plan.zone(row.access).family)
        yield f"bridge vlan add dev {name} vid {family} pvid untagged"
        if row.role == "isolated":
            yield f"bridge link set dev {name} isolated on"
        if _snoops(net, switch):
            yield f"bridge link set dev {name} mcast_flood off"
    if row.native:
        yield f"bridge vlan add dev {name} vid {net.vlan(row.native)} pvid untagged"
    for zone in row.tagged:
        yield f"bridge vlan add dev {name} vid {net.vlan(zone)}"
    if f"{row.switch}:{row.port}" in net.multicast.fast_leave:
        yield f"bridge link set dev {name} fastleave on"
    if row.kind != "link":
        yield f"ethtool --set-eee {name} eee {'on' if row.energy_saving else 'off'} || true  # not every port has it"
    for number in bond if len(bond) > 1 else ():
        yield f"ip link set {names.port(number)} up"
    yield f"ip link set {name} up"


def _router_legs(net: NetworkPlan, switch: Switch, bridge: str) -> Iterator[str]:
    if not switch.routes:
        return
    yield "# It routes: a leg in each zone with a gateway. What may pass is in the file for nftables."
    for zone in net.routed_zones():
        name = names.vlan(zone.vlan)
        yield f"bridge vlan add dev {bridge} vid {zone.vlan} self"
        yield f"ip link add link {bridge} name {name} type vlan id {zone.vlan}"
        yield f"ip address replace {zone.gateway}/{zone.subnet.prefixlen} dev {name} scope global"
        yield f"ip link set {name} up"
    yield "echo 1 > /proc/sys/net/ipv4/ip_forward"


def _own_page(net: NetworkPlan, switch: Switch, bridge: str) -> Iterator[str]:
    own = switch.management
    if own is None:
        return
    zone = net.plan.zone(own.zone)
    yield f"# The switch itself answers in zone {zone.name}."
    name = names.vlan(zone.vlan)
    if net.has_page_of_its_own(switch):  # else it has a leg there
        yield f"bridge vlan add dev {bridge} vid {zone.vlan} self"
        yield f"ip link add link {bridge} name {name} type vlan id {zone.vlan}"
        yield f"ip link set {name} up"
    yield f"ip address replace {own.address}/{zone.subnet.prefixlen} dev {name} scope global"
    gateway = net.gateway_of(own.zone)
    if gateway is not None and not switch.routes:
        yield f"ip route replace default via {gateway} dev {name}"
