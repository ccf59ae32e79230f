"""Rules for nftables: what the router lets through between zones, and what keeps the two legs of a recorder apart."""

from __future__ import annotations

from collections.abc import Iterator

from zentrale.output.network import names
from zentrale.planning.access_list import ANY, AccessRow
from zentrale.planning.network import NetworkPlan
from zentrale.site.model import INTERNET, Recorder, Zone


def router(net: NetworkPlan) -> str:
    """What may begin to pass; answers come back. Whatever is not named is dropped, IPv6 with it. The router's own doors are left
    as they are.
    """
    lines = [
        "# What may pass between zones, for nftables on the router. Load it with: nft -f router.nft",
        "# A zone's leg is the interface vlanN; every other interface leads to the internet.",
        "add table inet zentrale-router",
        "delete table inet zentrale-router",
        "table inet zentrale-router {",
        "  chain forward {",
        "    type filter hook forward priority filter; policy drop;",
        "    ct state established,related accept",
    ]
    known = {z.name: z for z in net.plan.zones}
    legs = ", ".join(f'"{names.vlan(z.vlan)}"' for z in net.routed_zones())
    for row in net.rows:
        if row.kept_by == "router" and (row.verdict == "allow" or row.protocol != ANY):
            match = _match(row, known, legs)
            if match:
                lines += [f"    {match}  # {row.origin} to {row.to}: {row.why}"]
    return "\n".join([*lines, "  }", "}", ""])


def _match(row: AccessRow, known: dict[str, Zone], legs: str) -> str:
    """Empty where one end has no leg of the router."""
    words = []
    for direction, party, networks in (("i", row.origin, row.origin_networks), ("o", row.to, row.to_networks)):
        if party.zone == INTERNET:
            words.append(f"{direction}ifname != {{ {legs} }}")
            continue
        zone = known[party.zone]
        leg = known[zone.family]
        if leg.gateway is None:
            return ""
        words.append(f'{direction}ifname "{names.vlan(leg.vlan)}"')
        if party.kind == "recorder" or zone.primary is not None:
            side = "saddr" if direction == "i" else "daddr"
            words.append(f"ip {side} {{ {', '.join(n.removesuffix('/32') for n in networks)} }}")
    if row.protocol == "icmp":
        words.append("meta l4proto icmp")
    elif row.protocol != ANY:
        words.append(f"{row.protocol} dport {row.port}" if row.port != ANY else f"meta l4proto {row.protocol}")
    return f"{' '.join(words)} {'accept' if row.verdict == 'allow' else 'drop'}"


def recorder(net: NetworkPlan, item: Recorder) -> str:
    """For a recorder with two legs whose system this is: nothing passes from leg to leg, and neither leg answers for the other's
    address, which needs no forwarding at all.
    """
    legs = item.legs()
    lines = [
        f"# {item.name}: its two legs stay apart. Load it with: nft -f {item.name}.nft",
        *(f"# {names.leg(i)} is {leg.address} in zone {leg.zone}" for i, leg in enumerate(legs)),
        "add table inet zentrale-legs",
        "delete table inet zentrale-legs",
        "add table arp zentrale-legs",
        "delete table arp zentrale-legs",
        "table inet zentrale-legs {",
        "  chain forward {",
        f"    type filter hook forward priority filter; policy {'accept' if item.forwards else 'drop'};",
        "  }",
        "  chain input {",
        "    type filter hook input priority filter; policy accept;",
        *_not_the_other(item, "    iifname", "ip daddr"),
        "  }",
        "}",
        "table arp zentrale-legs {",
        "  chain input {",
        "    type filter hook input priority filter; policy accept;",
        *_not_the_other(item, "    iifname", "arp daddr ip"),
        "  }",
        "}",
        "",
    ]
    return "\n".join(lines)


def _not_the_other(item: Recorder, interface: str, address: str) -> Iterator[str]:
    legs = item.legs()
    for i, own in enumerate(legs):
        for other in legs:
            if other is not own and not item.forwards:
                yield f'{interface} "{names.leg(i)}" {address} {other.address} drop'
