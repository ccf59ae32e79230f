"""What is entered at the switch that routes: its addresses in zones, its ways, and the access list between them."""

from __future__ import annotations

from collections.abc import Iterator

from zentrale.planning.access_list import ANY, RouterRule, Side
from zentrale.planning.by_hand.line import Line
from zentrale.planning.network import NetworkPlan
from zentrale.site.model import INTERNET, Switch, Zone


def gateway(zone: Zone) -> Line:
    """The router's leg: whom the zone's devices send to what is elsewhere."""
    text = f"VLAN {zone.vlan}: address {zone.gateway}, mask {zone.subnet.netmask}"
    return Line("routing: addresses", text, f"gateway of {zone.name}")


def gateways(net: NetworkPlan, switch: Switch) -> list[Zone]:
    """Those entered before the page moves: without the one at which the page itself answers."""
    own = "" if switch.management is None else net.plan.zone(switch.management.zone).family
    return [z for z in net.routed_zones() if switch.routes and z.name != own]


def ways(net: NetworkPlan, switch: Switch) -> Iterator[Line]:
    if not switch.routes or not net.routed_zones():
        return
    yield Line("routing", "between VLANs: on", f"{len(net.routed_zones())} zones have a gateway")
    if any(INTERNET in (rule.origin.zone, rule.to.zone) for rule in net.router_rules):
        text = "default: to the internet connection; its address is not in the plan, ask whoever provides it"
        yield Line("routing: routes", text, "rules name the internet")


def access_list(net: NetworkPlan, switch: Switch) -> Iterator[Line]:
    """In the plan's order; the first line that fits decides."""
    if not switch.routes or not net.routed_zones():
        return
    where = "access list between VLANs"
    stateless = "a list that knows no conversations: allow answers by their source ports, which lets more through"
    yield Line(f"{where}: first", "allow answers to what was allowed (established)", stateless)
    for number, rule in enumerate(net.router_rules, 1):
        yield Line(f"{where}: {number}", _in_words(rule), f"rule {rule.number}: {rule.origin} to {rule.to}")
    yield Line(f"{where}: last", "drop all else", "as planned")


def _in_words(rule: RouterRule) -> str:
    protocol = "" if rule.protocol == ANY else f" {rule.protocol}"
    port = "" if rule.port == ANY else f"; to port {rule.port}"
    verdict = "allow" if rule.allow else "drop"
    return f"{verdict}{protocol} in by {_side(rule.origin, 'from')}; out by {_side(rule.to, 'to')}{port}"


def _side(side: Side, word: str) -> str:
    if side.vlan is None:
        return "the internet connection"
    return f"VLAN {side.vlan}" + (f" {word} {', '.join(side.networks)}" if side.networks else "")
