"""Which services are tried between networks: both edges of every rule and one past each, planned listeners, and ports of
nobody.
"""

from __future__ import annotations

import re
from collections.abc import Iterator

from zentrale.planning.reach import RTSP
from zentrale.site.model import Plan

Service = tuple[str, int]  # protocol and port; 0 where the protocol has none

ECHO: Service = ("icmp", 0)
RTP: Service = ("udp", 5004)  # by custom (RFC 3551 section 8)
_STRANGERS = 20
# Registered services (IANA) that a site has and no plan names, then odd ones.
_COMMON = (
    21, 22, 23, 25, 53, 110, 135, 139, 143, 161, 389, 443, 445, 1433, 1723, 1883, 3306, 3389, 5060, 5432, 5900, 6379, 8000, 8080,
    8443, 9000, 9100, 10_001, 27_017, 33_333, 49_999, 65_535,
)  # fmt: skip


def named(plan: Plan, rules: str) -> list[Service]:
    """RTSP, RTP, an echo, what devices listen at, and the edges of every port or range that the plan's rules or the file of the
    rules name, by TCP and UDP alike.
    """
    edges = set()
    for first, last in [*_planned_ranges(plan), *_ranges(rules)]:
        edges |= {first - 1, first, last, last + 1}
    ports = sorted(p for p in edges if 0 < p < 65_536)
    found = [RTSP, RTP, ECHO, *(("tcp", p) for p in listeners(plan))]
    found += [(protocol, port) for port in ports for protocol in ("tcp", "udp")]
    return list(dict.fromkeys(found))


def strangers(plan: Plan, rules: str) -> list[Service]:
    """Ports at which nobody is planned, and that no rule names."""
    known = {port for _, port in named(plan, rules)}
    return [("tcp", port) for port in _COMMON if port not in known][:_STRANGERS]


def listeners(plan: Plan) -> list[int]:
    """TCP ports of the plan's devices, and those of web and RTSP by default."""
    found = {80, RTSP[1]}
    for camera in plan.cameras:
        found |= {p for p in (camera.rtsp_port, camera.http_port) if p}
    return sorted(found | {r.http_port for r in plan.recorders if r.http_port})


def _planned_ranges(plan: Plan) -> Iterator[tuple[int, int]]:
    for rule in plan.rules:
        if rule.port:
            first, _, last = rule.port.partition("-")
            yield int(first), int(last or first)


def _ranges(rules: str) -> Iterator[tuple[int, int]]:
    """Ports that the file names, whoever has written them: dport 554, dport 8000-8010, dport { 80, 554-560 }."""
    for ports in re.findall(r"\bdport\s+(?:!=\s*)?(\{[^}]*\}|\d+(?:-\d+)?)", rules):
        for first, last in re.findall(r"(\d+)(?:\s*-\s*(\d+))?", ports):
            yield int(first), int(last or first)
