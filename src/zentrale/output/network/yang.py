"""A switch as YANG instance data (RFC 7951, 9195): interfaces (RFC 8343), addresses (RFC 8344) and access lists (RFC 8519).

VLANs (IEEE 802.1Q) and PoE (IEEE 802.3.2) have models too; neither is here, since no file of these modules is at hand to check
what is written against. They are on the work sheet and in the port table.
"""

from __future__ import annotations

import json
from collections.abc import Iterator
from typing import Any

from zentrale import quantities
from zentrale.output.network import names
from zentrale.planning.access_list import ANY, RouterRule, Side, elsewhere
from zentrale.planning.network import NetworkPlan
from zentrale.site.model import Switch, Zone

LEFT_OUT = "VLANs (IEEE 802.1Q) and PoE (IEEE 802.3.2): no module file of theirs is at hand"
STATELESS = (
    "the access lists of the YANG data know no conversations: answers come back by their source port, or by all ports where a "
    "rule names none, so they let through more than router.nft; what comes in from the internet is in none of them"
)
_PROTOCOLS = {"tcp": 6, "udp": 17, "icmp": 1}  # IANA
_STAYS = ("255.255.255.255/32", "224.0.0.0/4")  # to all of the zone, and to groups (RFC 919, 5771): routed by no rule


def instance_data(net: NetworkPlan, switch: Switch) -> str:
    content: dict[str, Any] = {"ietf-interfaces:interfaces": {"interface": _interfaces(net, switch)}}
    if switch.routes:
        content["ietf-access-control-list:acls"] = _access_lists(net)
    document = {
        "ietf-yang-instance-data:instance-data-set": {
            "name": f"{switch.name}-planned",
            "content-schema": {
                "module": [
                    "ietf-interfaces@2018-02-20", "iana-if-type", *(["ietf-ip@2018-02-22"] if _legs(net, switch) else []),
                    *(["ietf-access-control-list@2019-03-04"] if switch.routes else []),
                ]
            },
            "timestamp": quantities.now().isoformat(timespec="seconds"),
            "description": [
                f"Planned for {net.plan.site.name}. Left out: {LEFT_OUT}.", *([f"Note: {STATELESS}."] if switch.routes else []),
            ],
            "content-data": content,
        }
    }  # fmt: skip
    return json.dumps(document, indent=2) + "\n"


def _interfaces(net: NetworkPlan, switch: Switch) -> list[dict[str, Any]]:
    parts = []
    for row in net.ports.of(switch.name):
        item: dict[str, Any] = {"name": names.port(row.port)}
        if row.label:
            item["description"] = row.label
        parts.append({**item, "type": "iana-if-type:ethernetCsmacd", "enabled": row.mode != "off"})
    for zone, addresses in _legs(net, switch).items():
        known = net.plan.zone(zone)
        parts.append({
            "name": names.vlan(known.vlan), "description": f"leg in {zone}", "type": "iana-if-type:l3ipvlan", "enabled": True,
            "ietf-ip:ipv4": {"address": [{"ip": a, "prefix-length": known.subnet.prefixlen} for a in addresses]},
        })  # fmt: skip
    return parts


def _legs(net: NetworkPlan, switch: Switch) -> dict[str, list[str]]:
    """The addresses that the switch itself has in zones (RFC 8344): as a router, and where its page answers."""
    found = {z.name: [str(z.gateway)] for z in net.routed_zones()} if switch.routes else {}
    own = switch.management
    if own is not None:
        at = own.zone if net.has_page_of_its_own(switch) else net.plan.zone(own.zone).family
        found[at] = list(dict.fromkeys([*found.get(at, []), str(own.address)]))
    return found


def _access_lists(net: NetworkPlan) -> dict[str, Any]:
    """A list for each leg of the router, for what comes in by it."""
    zones = net.routed_zones()
    lists = [
        {
            "name": _list_name(zone), "type": "ietf-access-control-list:ipv4-acl-type",
            "aces": {"ace": [{"name": f"{i} {name}"[:64], **ace} for i, (name, ace) in enumerate(_entries(net, zone), 1)]},
        }
        for zone in zones
    ]  # fmt: skip
    attached = [
        {"interface-id": names.vlan(z.vlan), "ingress": {"acl-sets": {"acl-set": [{"name": _list_name(z)}]}}}
        for z in zones
    ]
    return {"acl": lists, "attachment-points": {"interface": attached}}


def _list_name(zone: Zone) -> str:
    return f"from-{zone.name}"


def _entries(net: NetworkPlan, zone: Zone) -> Iterator[tuple[str, dict[str, Any]]]:
    """What stays in the zone; answers to what may begin elsewhere; what may begin here, in the plan's order; nothing else."""
    for network in (str(zone.subnet), *_STAYS):
        yield "within the zone", _entry({"ipv4": {"destination-ipv4-network": network}}, allow=True)
    for rule in net.router_rules:
        if rule.allow and rule.to.vlan == zone.vlan:
            for match in _matches(net, rule, rule.to, rule.origin, "source-port"):
                yield f"answers, rule {rule.number}", _entry(match, allow=True)
    for rule in net.router_rules:
        if rule.origin.vlan == zone.vlan:
            for match in _matches(net, rule, rule.origin, rule.to, "destination-port"):
                yield f"rule {rule.number}", _entry(match, allow=rule.allow)
    yield "all else", _entry({}, allow=False)


def _entry(match: dict[str, Any], *, allow: bool) -> dict[str, Any]:
    verdict = {"actions": {"forwarding": f"ietf-access-control-list:{'accept' if allow else 'drop'}"}}
    return {"matches": match, **verdict} if match else verdict


def _matches(net: NetworkPlan, rule: RouterRule, source: Side, target: Side, port_of: str) -> Iterator[dict[str, Any]]:
    """A pair of networks each."""
    for a in source.networks or elsewhere(net.plan):
        for b in target.networks or elsewhere(net.plan):
            ipv4: dict[str, Any] = {"source-ipv4-network": _block(a), "destination-ipv4-network": _block(b)}
            if rule.protocol != ANY:
                ipv4["protocol"] = _PROTOCOLS[rule.protocol]
            match: dict[str, Any] = {"ipv4": ipv4}
            if rule.port != ANY:
                match[rule.protocol] = {port_of: _port(rule.port)}
            yield match


def _block(text: str) -> str:
    return text if "/" in text else f"{text}/32"


def _port(text: str) -> dict[str, Any]:
    first, _, last = text.partition("-")
    if last:
        return {"lower-port": int(first), "upper-port": int(last)}
    return {"operator": "eq", "port": int(first)}
