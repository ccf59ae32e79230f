"""A querier for Open vSwitch, which has none of its own: a general query of IGMP version 2 (RFC 2236 section 8.2) into each
VLAN.
"""

from __future__ import annotations

import hashlib
from ipaddress import IPv4Address

from zentrale.output.network import names
from zentrale.planning.network import NetworkPlan
from zentrale.protocols import frames
from zentrale.site.model import Switch, Zone

FILE = "querier.sh"
_EVERY_S = 125  # RFC 2236 section 8.2
_ANSWER_WITHIN_S = 1.0  # section 8.3: 10 s by default, so that many listeners do not answer at once; a site has few


def asked_zones(net: NetworkPlan, switch: Switch) -> list[Zone]:
    """Whose groups this switch asks for. Those of a private VLAN go by rules of their own; nobody joins there."""
    asked = [z.zone for z in net.multicast.zones if z.querier == switch.name and not net.is_private(z.zone)]
    return [z for z in net.plan.zones if z.name in asked]


def commands(net: NetworkPlan, switch: Switch) -> str:
    """A shell script that goes on until it is ended."""
    bridge = names.short(switch.name)
    lines = [
        "#!/bin/sh",
        f"# {switch.name} asks who listens to multicast groups (IGMP version 2, RFC 2236): Open vSwitch does not by itself.",
        "# Start it with the system, after openvswitch.sh, and leave it running. EVERY: seconds between two questions.",
        "set -eu",
        "while :; do",
    ]
    for zone in asked_zones(net, switch):
        lines += [
            f"  # VLAN {zone.vlan}, zone {zone.name}, as {address_of(net, zone)}",
            f'  ovs-ofctl packet-out {bridge} "in_port=LOCAL packet={_query(net, switch, zone).hex()} actions=NORMAL"',
        ]
    return "\n".join([*lines, f'  sleep "${{EVERY:-{_EVERY_S}}}"', "done", ""])


def _query(net: NetworkPlan, switch: Switch, zone: Zone) -> bytes:
    """With the VLAN's tag (IEEE 802.1Q clause 9.6), from an address of its own (locally administered, IEEE 802)."""
    digits = hashlib.sha256(f"querier {switch.name}".encode()).hexdigest()[:6]
    mac = "02:5a:fb:" + ":".join(digits[i : i + 2] for i in (0, 2, 4))
    frame = frames.igmp_query(mac, address_of(net, zone), _ANSWER_WITHIN_S)
    return frame[:12] + bytes((0x81, 0x00)) + zone.vlan.to_bytes(2, "big") + frame[12:]


def address_of(net: NetworkPlan, zone: Zone) -> str:
    """One that no device has: switches take 0.0.0.0 for no querier that a router would be (RFC 4541 section 2.1.1)."""
    block = net.block(zone.name)
    taken = {d.address for d in net.addresses.devices} | {block.gateway}
    if block.infrastructure is not None:
        last, first = int(block.infrastructure.last), int(block.infrastructure.first)
        free = next((a for n in range(last, first - 1, -1) if (a := IPv4Address(n)) not in taken), None)
        if free is not None:
            return str(free)
    return str(block.gateway or block.network.network_address + 1)
