"""Time servers of a device (ONVIF Core, GetNTP and SetNTP): by hand, or as DHCP tells (option 42)."""

from __future__ import annotations

import ipaddress
from dataclasses import dataclass

from zentrale.protocols import xml
from zentrale.protocols.soap import NS, TDS, TT
from zentrale.protocols.xml import Element

_MAX_SERVERS = 8


@dataclass(frozen=True)
class TimeServers:
    """`servers` are addresses or names, those given by hand; `from_dhcp`: it takes what DHCP tells instead."""

    from_dhcp: bool
    servers: tuple[str, ...] = ()


def get_ntp() -> Element:
    return TDS.GetNTP()


def set_ntp(wanted: TimeServers) -> Element:
    return TDS.SetNTP(
        TDS.FromDHCP(str(wanted.from_dhcp).lower()), *(_host(TDS("NTPManual"), s) for s in wanted.servers)
    )


def ntp_response(wanted: TimeServers) -> Element:
    servers = [_host(TT("NTPManual"), s) for s in wanted.servers]
    return TDS.GetNTPResponse(TDS.NTPInformation(TT.FromDHCP(str(wanted.from_dhcp).lower()), *servers))


def parse_ntp(response: Element) -> TimeServers:
    at = response.find("tds:NTPInformation", NS)
    return TimeServers(
        xml.boolean(at, "tt:FromDHCP", NS),
        tuple(
            filter(
                None, (_server(e) for e in (at.findall("tt:NTPManual", NS)[:_MAX_SERVERS] if at is not None else ()))
            )
        ),
    )


def parse_set_ntp(request: Element) -> TimeServers:
    servers = (_server(e) for e in request.findall("tds:NTPManual", NS)[:_MAX_SERVERS])
    return TimeServers(xml.boolean(request, "tds:FromDHCP", NS), tuple(filter(None, servers)))


def _host(element: Element, server: str) -> Element:
    """NetworkHost of the ONVIF schema."""
    try:
        kind = f"IPv{ipaddress.ip_address(server).version}"
    except ValueError:
        kind = "DNS"
    element.append(TT.Type(kind))
    element.append(TT("DNSname" if kind == "DNS" else f"{kind}Address", server))
    return element


def _server(element: Element) -> str:
    told = (xml.text(element, f"tt:{name}", NS) for name in ("IPv4Address", "IPv6Address", "DNSname"))
    return next((t for t in told if t), "")
