"""A switch as YANG instance data (RFC 7951, 9195): interfaces (RFC 8343) and access lists (RFC 8519).

VLANs (IEEE 802.1Q) and PoE (IEEE 802.3.2) have models too; neither is here, since no file of these modules is at hand to check
what is written against. They are on the work sheet and in the port table.
"""

from __future__ import annotations

import json
from typing import Any

from zentrale import quantities
from zentrale.output.network import names
from zentrale.planning.access_list import ANY, AccessRow
from zentrale.planning.network import NetworkPlan
from zentrale.site.model import INTERNET, Switch

LEFT_OUT = "VLANs (IEEE 802.1Q) and PoE (IEEE 802.3.2): no module file of theirs is at hand"
_PROTOCOLS = {"tcp": 6, "udp": 17, "icmp": 1}  # IANA
_LISTS = "who-reaches-whom"


def instance_data(net: NetworkPlan, switch: Switch) -> str:
    content: dict[str, Any] = {"ietf-interfaces:interfaces": {"interface": _interfaces(net, switch)}}
    if switch.routes:
        content["ietf-access-control-list:acls"] = _access_lists(net)
    document = {
        "ietf-yang-instance-data:instance-data-set": {
            "name": f"{switch.name}-planned",
            "content-schema": {
                "module": [
                    "ietf-interfaces@2018-02-20", "iana-if-type",
                    *(["ietf-access-control-list@2019-03-04"] if switch.routes else []),
                ]
            },
            "timestamp": quantities.now().isoformat(timespec="seconds"),
            "description": [f"Planned for {net.plan.site.name}. Left out: {LEFT_OUT}."],
            "content-data": content,
        }
    }  # fmt: skip
    return json.dumps(document, indent=2) + "\n"


def _interfaces(net: NetworkPlan, switch: Switch) -> list[dict[str, Any]]:
    told = []
    for row in net.ports.of(switch.name):
        item: dict[str, Any] = {"name": names.port(row.port)}
        if row.label:
            item["description"] = row.label
        told.append({**item, "type": "iana-if-type:ethernetCsmacd", "enabled": row.mode != "off"})
    return told


def _access_lists(net: NetworkPlan) -> dict[str, Any]:
    entries: list[dict[str, Any]] = []
    for row in (r for r in net.rows if r.kept_by == "router"):
        for match in _matches(net, row):
            verdict = "accept" if row.verdict == "allow" else "drop"
            entries.append(
                {
                    "name": f"{len(entries) + 1} {row.origin} to {row.to}", "matches": match,
                    "actions": {"forwarding": f"ietf-access-control-list:{verdict}"},
                }
            )  # fmt: skip
    return {"acl": [{"name": _LISTS, "type": "ietf-access-control-list:ipv4-acl-type", "aces": {"ace": entries}}]}


def _matches(net: NetworkPlan, row: AccessRow) -> list[dict[str, Any]]:
    """A pair of networks each; the internet is whatever no earlier row has named."""
    found = []
    for origin in row.origin_networks or (None,):
        for to in row.to_networks or (None,):
            ipv4: dict[str, Any] = {}
            if origin is not None:
                ipv4["source-ipv4-network"] = origin
            if to is not None:
                ipv4["destination-ipv4-network"] = to
            if row.protocol != ANY:
                ipv4["protocol"] = _PROTOCOLS[row.protocol]
            match: dict[str, Any] = {"ipv4": ipv4} if ipv4 else {}
            if row.port != ANY:
                match[row.protocol] = {"destination-port": _port(row.port)}
            if match and not (INTERNET in (row.origin.zone, row.to.zone) and row.verdict == "deny"):
                found.append(match)
    return found


def _port(told: str) -> dict[str, Any]:
    first, _, last = told.partition("-")
    if last:
        return {"lower-port": int(first), "upper-port": int(last)}
    return {"operator": "eq", "port": int(first)}
