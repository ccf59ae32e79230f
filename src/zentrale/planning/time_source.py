"""Whether cameras reach the time server that the plan gives them."""

from __future__ import annotations

import ipaddress
from collections.abc import Iterator
from ipaddress import IPv4Address

from zentrale import quantities
from zentrale.findings import Finding, finding
from zentrale.planning.reach import Party, reaches
from zentrale.site.model import INTERNET, Plan

NTP = ("udp", 123)  # RFC 5905 section 7.2


def time_findings(plan: Plan) -> Iterator[Finding]:
    """By zone of the cameras. Only an address says where the server is; a name, or what DHCP gives, does not."""
    try:
        server = ipaddress.IPv4Address(plan.site.time_server)
    except ValueError:
        return
    for zone in dict.fromkeys(c.zone for c in plan.networked):
        came, why = _reaches(plan, zone, server)
        if not came:
            names = [c.name for c in plan.networked if c.zone == zone]
            some = f"{quantities.listed(names, 6)}"
            measured = f"{server}: {why} ({some})"
            yield finding(
                "RCH-5", f"cameras in {zone}", measured, "a time server they reach", "site.toml [site] time_server"
            )


def _reaches(plan: Plan, zone: str, server: IPv4Address) -> tuple[bool, str]:
    origin, own = Party("camera", zone), plan.zone(plan.zone(zone).family)
    for other in plan.zones:
        if other.gateway == server:  # the router's own door
            return (own.gateway is not None or other.family == own.name), f"{zone} has no gateway"
    party = _party(plan, server)
    return reaches(plan, origin, party, NTP)


def _party(plan: Plan, server: IPv4Address) -> Party:
    for recorder in plan.recorders:
        for leg in recorder.legs():
            if leg.address == server:
                return Party("recorder", leg.zone)
    zone = next((z for z in plan.zones if z.primary is None and server in z.subnet), None)
    if zone is None:
        return Party(INTERNET, INTERNET)
    viewers = any(v.zone == zone.name for v in plan.viewers)
    return Party("viewer" if viewers else "device", zone.name)
