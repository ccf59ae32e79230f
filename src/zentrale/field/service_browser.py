"""DNS-SD over multicast DNS (RFC 6762, RFC 6763): who announces RTSP or web services."""

from __future__ import annotations

import asyncio
import logging
from collections.abc import Sequence
from dataclasses import dataclass

from zentrale.field.adapters import Adapter
from zentrale.words import clean

log = logging.getLogger(__name__)
TYPES = ("_rtsp._tcp.local.", "_http._tcp.local.")
_MAX_SERVICES = 1024
_DETAILS_S = 1.5


@dataclass(frozen=True)
class Service:
    """An announced service: at which IPv4 address and port, under which instance name, of which type."""

    host: str
    port: int
    name: str
    type: str


async def browse(adapters: Sequence[Adapter], wait_s: float) -> list[Service]:
    """The services that are announced on these adapters within `wait_s` seconds; none where mDNS cannot be used."""
    from zeroconf import Error as ZeroconfError
    from zeroconf import IPVersion, ServiceStateChange
    from zeroconf.asyncio import AsyncServiceBrowser, AsyncServiceInfo, AsyncZeroconf

    found: dict[tuple[str, str], None] = {}

    def heard(zeroconf: object, service_type: str, name: str, state_change: ServiceStateChange) -> None:
        if state_change is not ServiceStateChange.Removed and len(found) < _MAX_SERVICES:
            found[service_type, name] = None

    try:
        responder = AsyncZeroconf(interfaces=[a.address for a in adapters], ip_version=IPVersion.V4Only)
    except OSError as error:
        log.info("no DNS-SD: %s", error)
        return []
    try:
        browser = AsyncServiceBrowser(responder.zeroconf, list(TYPES), handlers=[heard])
        await asyncio.sleep(wait_s)
        await browser.async_cancel()
        infos = []
        for service_type, name in found:
            try:
                infos.append(AsyncServiceInfo(service_type, name))
            except ZeroconfError as error:  # a name that is none
                log.info("%s: %s", clean(name, 80), error)
        asked = [i.async_request(responder.zeroconf, _DETAILS_S * 1000) for i in infos]
        for answer in await asyncio.gather(*asked, return_exceptions=True):
            if isinstance(answer, ZeroconfError):
                log.info("DNS-SD: %s", answer)
            elif isinstance(answer, BaseException):
                raise answer
        return [
            Service(address, info.port, clean(info.name.removesuffix(f".{info.type}"), 80), info.type)
            for info in infos
            if info.port
            for address in info.parsed_addresses(IPVersion.V4Only)[:4]
        ]
    finally:
        await responder.async_close()
