"""Rules for nftables: what the router lets through between zones, and what keeps the two legs of a recorder apart."""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import replace
from ipaddress import IPv4Network

from zentrale.output.network import names
from zentrale.planning.access_list import ANY, RouterRule, Side
from zentrale.planning.network import NetworkPlan
from zentrale.site.model import Recorder


def router(net: NetworkPlan) -> str:
    """What may begin to pass, in the order of the plan's rules; answers come back. Whatever is not named is dropped, IPv6 with
    it. The router's own doors are left as they are, but for that of its page.
    """
    lines = [
        "# What may pass between zones, for nftables on the router. Load it with: nft -f router.nft",
        "# A zone's leg is the interface vlanN; every other interface leads to the internet. The first rule that fits decides.",
        "add table inet zentrale-router",
        "delete table inet zentrale-router",
        "table inet zentrale-router {",
        "  chain forward {",
        "    type filter hook forward priority filter; policy drop;",
        "    ct state established,related accept",
    ]
    legs = ", ".join(f'"{names.vlan(z.vlan)}"' for z in net.routed_zones())
    for rule in net.router_rules:
        lines.append(f"    {_match(rule, legs)}  # rule {rule.number}: {rule.origin} to {rule.to}")
    return "\n".join([*lines, "  }", *_to_its_page(net), "}", ""])


def _to_its_page(net: NetworkPlan) -> Iterator[str]:
    """Who may reach the router's own page, where that answers at one of its legs."""
    router = net.router()
    if router is None or router.management is None or net.has_page_of_its_own(router):
        return
    own = router.management
    leg = names.vlan(net.vlan(net.plan.zone(own.zone).family))
    yield f"  # {router.name} itself, at {own.address}: whoever is in {own.zone}, and whom a rule lets there."
    yield "  chain input {"
    yield "    type filter hook input priority filter; policy accept;"
    yield "    ct state established,related accept"
    legs = ", ".join(f'"{names.vlan(z.vlan)}"' for z in net.routed_zones())
    for rule in net.router_rules:
        if any(own.address in IPv4Network(network) for network in rule.to.networks):
            at = replace(rule, to=Side(rule.to.zone, rule.to.kind, rule.to.vlan, (str(own.address),)))
            match = re.sub(r'oifname "[^"]*" ', "", _match(at, legs))
            yield f"    {match}  # rule {rule.number}: {rule.origin} to {rule.to}"
    yield f'    iifname != "{leg}" ip daddr {own.address} drop'
    yield "  }"


def _match(rule: RouterRule, legs: str) -> str:
    words = []
    for interface, address, side in (("iifname", "saddr", rule.origin), ("oifname", "daddr", rule.to)):
        words.append(f"{interface} != {{ {legs} }}" if side.vlan is None else f'{interface} "{names.vlan(side.vlan)}"')
        if side.networks:
            words.append(f"ip {address} {{ {', '.join(side.networks)} }}")
    if rule.port != ANY:
        words.append(f"{rule.protocol} dport {rule.port}")
    elif rule.protocol != ANY:
        words.append(f"meta l4proto {rule.protocol}")
    return f"{' '.join(words)} {'accept' if rule.allow else 'drop'}"


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
