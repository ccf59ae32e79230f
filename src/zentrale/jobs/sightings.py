"""From answers to probes and open ports to what is to be asked who it is."""

from __future__ import annotations

import asyncio
import logging
from collections.abc import Mapping, Sequence
from urllib.parse import urlsplit

from zentrale.errors import RemoteProtocolError
from zentrale.field.probe import probe_directly
from zentrale.jobs.found import FoundDevice
from zentrale.protocols.addresses import HTTP_SCHEMES, Pinned, bracketed, pin, same_host
from zentrale.protocols.onvif.device import SERVICE_PATH
from zentrale.protocols.ws_discovery import Match
from zentrale.site.model import Plan

log = logging.getLogger(__name__)
RTSP_PORTS = (554, 8554)
_HTTPS_PORTS = (443, 8443)
_MAX_SERVICES = 8  # of one host; each is asked
_MAX_PROXIED = 256

Heard = tuple[Match, str]  # an answer to the probe, and the host it came from


async def ask_those_told_of(heard: Sequence[Heard]) -> list[Heard]:
    """Where an answer names only other hosts, a proxy may be telling of a device: that host is asked itself, without
    credentials. Where it answers with that endpoint it is the device; else the address told is a stale one.
    """

    async def one(match: Match, source: str) -> Heard:
        hosts = _hosts(match)
        if not hosts or any(same_host(h, source) for h in hosts):
            return match, source
        for host in hosts[:2]:
            for answer in await probe_directly(host):
                if answer.endpoint == match.endpoint:
                    return answer, host
        return match, source

    asked = [one(m, s) for m, s in heard[:_MAX_PROXIED]]
    return [*await asyncio.gather(*asked), *heard[_MAX_PROXIED:]]


def _hosts(match: Match) -> list[str]:
    """The hosts that an answer names, IPv4 addresses only: a name would have to be asked for elsewhere."""
    hosts = [urlsplit(address).hostname or "" for address in match.addresses]
    return [h for h in dict.fromkeys(hosts) if h.count(".") == 3 and h.replace(".", "").isdigit()]


def gather(heard: Sequence[Heard], swept: Mapping[str, Sequence[int]]) -> list[FoundDevice]:
    """What is to be asked: one entry for each service of a host, however many endpoints it answers with."""
    found: dict[tuple[str, int], FoundDevice] = {}
    hosts_of: dict[str, set[str]] = {}
    for match, host in heard:
        hosts_of.setdefault(match.endpoint, set()).add(host)
    for match, host in heard:
        told = _service(match, host)
        port = _port(told.url) if told else 0
        ports = tuple(swept.get(host, ()))
        entry = FoundDevice(
            host, told.url if told else "", "probe + sweep" if ports else "probe", model=match.scope("hardware"),
            endpoint=match.endpoint, shared_endpoint=len(hosts_of[match.endpoint]) > 1, open_ports=ports,
            named_hosts=(f"{told.named} (service address)",) if told and told.named else (),
        )  # fmt: skip
        if sum(h == host for h, _ in found) < _MAX_SERVICES:
            found.setdefault((host, port), entry)
    for host, open_ports in swept.items():
        ports = tuple(open_ports)
        known = {port for h, port in found if h == host}
        answered = next((d for (h, _), d in found.items() if h == host), None)
        for port in [p for p in ports if p not in known and p not in RTSP_PORTS][:_MAX_SERVICES]:
            url = f"{'https' if port in _HTTPS_PORTS else 'http'}://{bracketed(host)}:{port}{SERVICE_PATH}"
            found[host, port] = FoundDevice(host, url, "sweep", open_ports=ports)
        if answered is None and not any(h == host for h, _ in found):
            found[host, 0] = FoundDevice(host, "", "sweep", open_ports=ports)
    return list(found.values())


def _service(match: Match, host: str) -> Pinned | None:
    """The service address told, always at the host that answered; one that names this host goes first."""
    pinned = []
    for address in match.addresses:
        try:
            pinned.append(pin(address, host, HTTP_SCHEMES))
        except RemoteProtocolError as error:
            log.info("%s: %s", host, error)
    return min(pinned, key=lambda p: bool(p.named), default=None)


def _port(url: str) -> int:
    parts = urlsplit(url)
    return parts.port or (443 if parts.scheme == "https" else 80)


def add_planned_addresses(found: list[FoundDevice], plan: Plan) -> list[FoundDevice]:
    """Planned recorders are also asked directly: their port is in the plan and may not be swept."""
    have = {d.address for d in found}
    extra = [
        FoundDevice(r.address, f"http://{r.address}:{r.http_port}{SERVICE_PATH}", "planned")
        for r in plan.recorders if r.address not in have
    ]  # fmt: skip
    return found + extra
