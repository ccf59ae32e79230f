"""A switch as commands for Linux' own bridge (ip and bridge of iproute2)."""

from __future__ import annotations

from collections.abc import Iterator

from zentrale.output.network import names
from zentrale.planning.network import NetworkPlan
from zentrale.planning.ports import PortRow
from zentrale.site.model import Switch


def commands(net: NetworkPlan, switch: Switch) -> str:
    bridge = names.short(switch.name)
    rows = [row for row in net.ports.of(switch.name) if row.mode != "off"]
    private = any(row.mode == "access" and net.is_private(row.access) for row in rows)
    lines = [
        "#!/bin/sh",
        f"# {switch.name} ({switch.type}, {switch.cabinet}): Linux bridge. Port N is the interface pN.",
        *(["# It has no private VLAN across trunks: isolated ports are kept apart on this switch only, so cameras of two",
           "# switches reach one another. Use Open vSwitch for that, or access lists of the switch."] if private else ()),
        "set -eu",
        f"ip link add {bridge} type bridge vlan_filtering 1 vlan_default_pvid 0",
        *_bridge_settings(net, switch, bridge),
    ]  # fmt: skip
    for row in rows:
        lines.append(f"# {row.port}: {row.label}")
        lines += _port(net, bridge, row)
    return "\n".join([*lines, f"ip link set {bridge} up", ""])


def _bridge_settings(net: NetworkPlan, switch: Switch, bridge: str) -> Iterator[str]:
    if switch.loop_protection is not None and switch.loop_protection != "none":
        yield "# The kernel has the older spanning tree only, which takes 30 s to heal; mstpd does the rapid one."
        yield f"ip link set {bridge} type bridge stp_state 1"
    snooping = int(switch.snooping)
    yield f"ip link set {bridge} type bridge mcast_snooping {snooping} mcast_vlan_snooping {snooping}"
    for zone in net.multicast.zones:
        if zone.querier == switch.name:
            yield f"bridge vlan add dev {bridge} vid {net.vlan(zone.zone)} self"
            yield f"bridge vlan global set dev {bridge} vid {net.vlan(zone.zone)} mcast_snooping 1 mcast_querier 1"


def _port(net: NetworkPlan, bridge: str, row: PortRow) -> Iterator[str]:
    name = names.port(row.port)
    yield f"ip link set {name} master {bridge}"
    if row.mode == "access":
        yield f"bridge vlan add dev {name} vid {net.vlan(row.access)} pvid untagged"
        if row.role == "isolated":
            yield f"bridge link set dev {name} isolated on"
        yield f"bridge link set dev {name} mcast_flood off"
    for zone in row.tagged:
        yield f"bridge vlan add dev {name} vid {net.vlan(zone)}"
    if f"{row.switch}:{row.port}" in net.multicast.fast_leave:
        yield f"bridge link set dev {name} fastleave on"
    if row.kind != "link":
        yield f"ethtool --set-eee {name} eee {'on' if row.energy_saving else 'off'} || true  # not every port has it"
    yield f"ip link set {name} up"
