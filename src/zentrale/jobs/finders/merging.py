"""From what the ways of discovery saw to what is to be asked who it is: one entry for each service of a host."""

from __future__ import annotations

import logging
from collections.abc import Iterable, Sequence
from dataclasses import replace
from urllib.parse import urlsplit

from zentrale.errors import RemoteProtocolError
from zentrale.jobs.finders.finder import Sighting
from zentrale.jobs.known.found_devices import USUAL_RTSP_PORTS, FoundDevice
from zentrale.protocols.addresses import HTTP_SCHEMES, Pinned, bracketed, pin
from zentrale.protocols.onvif.device import SERVICE_PATH
from zentrale.protocols.ws_discovery import Match

log = logging.getLogger(__name__)
_HTTPS_PORTS = (443, 8443)
# ONVIF Core clause 7.3.2.1: the types of devices that are no cameras.
_EQUIPMENT = {
    "NetworkVideoStorage": "a recorder",
    "NetworkVideoDisplay": "a display",
    "NetworkVideoAnalytics": "an analyser",
}
_PROBE = "probe"
_MAX_SERVICES = 8  # of one host; each is asked


def sighting(match: Match, host: str) -> Sighting:
    """What an answer to a probe, or a Hello, tells."""
    announced = next((what for kind, what in _EQUIPMENT.items() if kind in match.types), "")
    return Sighting(
        host,
        _PROBE,
        match.endpoint,
        match.xaddrs,
        match.scope("hardware"),
        announced=announced,
        label=match.scope("name"),
    )


def merge(sightings: Iterable[Sighting]) -> list[FoundDevice]:
    """However many endpoints a service answers with, it is one entry; one that was seen by several ways says by which."""
    seen = _without_second_protocol(list(sightings))
    named = [s for s in seen if s.endpoint or s.told]
    open_ports: dict[str, tuple[int, ...]] = {}
    methods: dict[str, list[str]] = {}
    macs: dict[str, tuple[str, ...]] = {}
    announced: dict[str, str] = {}
    words: dict[str, tuple[str, str, str]] = {}  # maker, model and serial number by SSDP
    rtsp: dict[str, tuple[int, ...]] = {}
    for item in seen:
        rtsp[item.host] = tuple(dict.fromkeys((*rtsp.get(item.host, ()), *item.rtsp_ports)))
        if item.maker or item.serial:
            words.setdefault(item.host, (item.maker, item.model, item.serial))
        open_ports[item.host] = tuple(dict.fromkeys((*open_ports.get(item.host, ()), *item.ports)))
        macs[item.host] = tuple(dict.fromkeys((*macs.get(item.host, ()), *item.macs)))
        if item.announced:
            announced[item.host] = "; ".join(dict.fromkeys(p for p in (announced.get(item.host), item.announced) if p))[
                :200
            ]
        if not item.url and (item.certain or item.ports or item.announced):
            methods.setdefault(item.host, []).append(item.method)
    found: dict[tuple[str, int], FoundDevice] = {}
    hosts_of: dict[str, set[str]] = {}
    for item in named:
        hosts_of.setdefault(item.endpoint, set()).add(item.host)
    for item in named:
        service = _service(item.told, item.host)
        entry = FoundDevice(
            item.host, service.url if service else "", " + ".join(dict.fromkeys(methods[item.host])), model=item.model,
            endpoint=item.endpoint, shared_endpoint=len(hosts_of[item.endpoint]) > 1, open_ports=open_ports[item.host],
            named_hosts=(f"{service.named} (service address)",) if service and service.named else (),
            also_at=item.also_at, label=item.label,
        )  # fmt: skip
        if sum(host == item.host for host, _ in found) < _MAX_SERVICES:
            found.setdefault((item.host, _port(service.url) if service else 0), entry)
    for host, ports in open_ports.items():
        if ports:
            _add_open_ports(found, host, ports, " + ".join(dict.fromkeys(methods[host])), rtsp[host])
    answered = {host for host, _ in found}
    for item in seen:
        place = (item.host, _port(item.url)) if item.url else None
        if place and place not in found and (item.translated or item.host not in answered):
            found[place] = FoundDevice(item.host, item.url, item.method)
    return [_announced(replace(
        d, link_macs=macs.get(d.address, ()), announced=announced.get(d.address, ""), rtsp_ports=rtsp.get(d.address, ())
    ), words.get(d.address)) for d in found.values()]  # fmt: skip


def _announced(device: FoundDevice, words: tuple[str, str, str] | None) -> FoundDevice:
    """With what it says of itself to everybody: its row until it is entered. That serial number is matched, and trusted with
    nothing: some makers announce another one than their devices tell.
    """
    if words is None:
        return device
    maker, model, serial = words
    return replace(device, maker=device.maker or maker, model=device.model or model, announced_serial=serial)


def _without_second_protocol(sightings: Sequence[Sighting]) -> list[Sighting]:
    """A device that answers over IPv4 and over IPv6 is asked over IPv4; the other is an address it has too."""
    v4_of: dict[str, set[str]] = {}
    for item in sightings:
        if item.endpoint and ":" not in item.host:
            v4_of.setdefault(item.endpoint, set()).add(item.host)
    also: dict[str, list[str]] = {}
    kept = []
    for item in sightings:
        hosts = v4_of.get(item.endpoint, set()) if ":" in item.host else set()
        if len(hosts) == 1:
            also.setdefault(next(iter(hosts)), []).append(item.host)
        else:
            kept.append(item)
    return [replace(i, also_at=tuple(dict.fromkeys(also[i.host]))) if i.host in also else i for i in kept]


def _add_open_ports(
    found: dict[tuple[str, int], FoundDevice], host: str, ports: tuple[int, ...], method: str, rtsp: tuple[int, ...]
) -> None:
    """An entry for each open port that no answer told of; one for a host that has RTSP ports only."""
    known = {port for h, port in found if h == host}
    for port in [p for p in ports if p not in known and p not in (*USUAL_RTSP_PORTS, *rtsp)][:_MAX_SERVICES]:
        url = f"{'https' if port in _HTTPS_PORTS else 'http'}://{bracketed(host)}:{port}{SERVICE_PATH}"
        found[host, port] = FoundDevice(host, url, method, open_ports=ports)
    if not any(h == host for h, _ in found):
        found[host, 0] = FoundDevice(host, "", method, open_ports=ports)


def _service(told: Sequence[str], host: str) -> Pinned | None:
    """The service address told, always at the host that answered; one that names this host goes first."""
    pinned = []
    for address in told:
        try:
            pinned.append(pin(address, host, HTTP_SCHEMES))
        except RemoteProtocolError as error:
            log.info("%s: %s", host, error)
    return min(pinned, key=lambda p: bool(p.named), default=None)


def _port(url: str) -> int:
    parts = urlsplit(url)
    return parts.port or (443 if parts.scheme == "https" else 80)
