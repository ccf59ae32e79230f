"""Addresses by DHCP (RFC 2131): planned devices get their planned address by MAC address, others one of the pool, or none."""

from __future__ import annotations

import ipaddress
import json

from zentrale.planning.network import NetworkPlan
from zentrale.site.model import Zone

_LEASE_S = 43_200


def time_server(net: NetworkPlan) -> str:
    """Its address (option 42, RFC 2132 clause 8.3, takes no names); empty where the plan gives none."""
    try:
        return str(ipaddress.IPv4Address(net.plan.site.time_server))
    except ValueError:
        return ""


def dnsmasq(net: NetworkPlan, zone: Zone) -> str:
    """For one server that stands in the zone; of a private VLAN in its primary."""
    pool = net.pool(zone)
    start = f"{pool[0]},{pool[1]}" if pool else f"{zone.subnet.network_address},static"
    lines = [
        f"# Zone {zone.name}, VLAN {zone.vlan}: DHCP by dnsmasq, and nothing else of it.",
        "port=0",
        "dhcp-authoritative",
        "no-ping",
        f"dhcp-range={start},{zone.subnet.netmask},{_LEASE_S}",
        # Without a value the option is not sent: no way out, no names.
        f"dhcp-option=option:router{f',{zone.gateway}' if zone.gateway else ''}",
        "dhcp-option=option:dns-server" + "".join(f",{n}" for n in net.plan.site.name_servers),
    ]
    if time_server(net):
        lines.append(f"dhcp-option=option:ntp-server,{time_server(net)}")
    lines += [f"dhcp-host={d.mac},{d.address},{d.name}" for d in net.reserved(zone)]
    if pool is None:
        lines.insert(1, "# No pool is planned: whoever is not named here gets nothing.")
    return "\n".join([*lines, ""])


def kea(net: NetworkPlan) -> str:
    """All zones for one Kea DHCPv4 server, which relays may ask."""
    subnets = []
    for zone in net.gives_addresses():
        pool = net.pool(zone)
        options = [{"name": "routers", "data": str(zone.gateway)}] if zone.gateway else []
        if net.plan.site.name_servers:
            options.append({"name": "domain-name-servers", "data": ", ".join(map(str, net.plan.site.name_servers))})
        if time_server(net):
            options.append({"name": "ntp-servers", "data": time_server(net)})
        subnets.append(
            {
                "id": zone.vlan, "subnet": str(zone.subnet),
                "pools": [{"pool": f"{pool[0]} - {pool[1]}"}] if pool else [],
                "option-data": options,
                "reservations": [
                    {"hw-address": d.mac, "ip-address": str(d.address), "hostname": d.name} for d in net.reserved(zone)
                ],
            }
        )  # fmt: skip
    server = {"valid-lifetime": _LEASE_S, "interfaces-config": {"interfaces": ["*"]}, "subnet4": subnets}
    return json.dumps({"Dhcp4": server}, indent=2) + "\n"
