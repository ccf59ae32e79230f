"""Sending WS-Discovery probes on one adapter and gathering the answers that belong to them."""

from __future__ import annotations

import asyncio
import logging
import random
import socket
import uuid
from typing import Any

from zentrale.errors import RemoteProtocolError, UnreachableError
from zentrale.protocols import ws_discovery
from zentrale.protocols.ws_discovery import Match, Probe

log = logging.getLogger(__name__)
DEFAULT_WAIT_S = 2.0  # after the last repetition; devices answer within APP_MAX_DELAY (0.5 s) of a probe
MAX_MATCHES = 5000
MAX_MATCHES_OF_ONE = 64  # an encoder of 16 channels answers for each; more from one host is nonsense
_DIRECTED_WAIT_S = 1.0


class _Collector(asyncio.DatagramProtocol):
    def __init__(self, message_id: str) -> None:
        self.message_id = message_id
        # A cloned endpoint at another host is another device; the same one again is a repetition.
        self.matches: dict[tuple[str, str], Match] = {}
        self.by_host: dict[str, int] = {}
        self.foreign = 0
        self.dropped: dict[str, int] = {}

    def datagram_received(self, data: bytes, addr: tuple[str | Any, int]) -> None:
        host = str(addr[0])
        if self.by_host.get(host, 0) >= MAX_MATCHES_OF_ONE or len(self.matches) >= MAX_MATCHES:
            self.dropped[host] = self.dropped.get(host, 0) + 1  # not even parsed: that would cost our time
            return
        try:
            matches = ws_discovery.parse_matches(data)
        except RemoteProtocolError as error:
            self.by_host[host] = self.by_host.get(host, 0) + 1
            log.warning("answer to the probe from %s: %s", host, error)
            return
        for match in matches:
            if match.relates_to != self.message_id:
                self.foreign += 1
                self.by_host[host] = self.by_host.get(host, 0) + 1
            elif match.endpoint and (match.endpoint, host) not in self.matches:
                self.by_host[host] = self.by_host.get(host, 0) + 1
                self.matches[match.endpoint, host] = match

    def error_received(self, exc: Exception) -> None:
        log.debug("probe: %s", exc)


async def probe(adapter_address: str, wait_s: float = DEFAULT_WAIT_S) -> list[tuple[Match, str]]:
    """Ask by multicast who is there. Returns each endpoint once for each host, with the host it answered from.

    The same message is repeated after 50 to 250 ms, doubled up to 500 ms, as SOAP-over-UDP 1.1 asks for.
    Raises UnreachableError where the adapter cannot send multicast.
    """
    loop = asyncio.get_running_loop()
    message = Probe(f"urn:uuid:{uuid.uuid4()}")
    collector = _Collector(message.message_id)
    sock = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
    try:
        sock.setsockopt(socket.IPPROTO_IP, socket.IP_MULTICAST_IF, socket.inet_aton(adapter_address))
        sock.setsockopt(socket.IPPROTO_IP, socket.IP_MULTICAST_TTL, 1)
        sock.bind((adapter_address, 0))
        sock.setblocking(False)
    except OSError as error:
        sock.close()
        raise UnreachableError(f"{adapter_address}: cannot send multicast: {error.strerror}") from None
    transport, _ = await loop.create_datagram_endpoint(lambda: collector, sock=sock)
    try:
        data = ws_discovery.serialize_probe(message)
        delay_s = random.uniform(ws_discovery.UDP_MIN_DELAY_S, ws_discovery.UDP_MAX_DELAY_S)
        for repetition in range(1 + ws_discovery.MULTICAST_REPEAT):
            transport.sendto(data, (ws_discovery.MULTICAST_ADDRESS, ws_discovery.PORT))
            if repetition < ws_discovery.MULTICAST_REPEAT:
                await asyncio.sleep(delay_s)
                delay_s = min(2 * delay_s, ws_discovery.UDP_UPPER_DELAY_S)
        await asyncio.sleep(wait_s)
    finally:
        transport.close()
    _tell(collector)
    return [(match, host) for (_, host), match in collector.matches.items()]


def _tell(collector: _Collector) -> None:
    if collector.foreign:
        log.info("%d answers belonged to another probe and were left out", collector.foreign)
    for host, number in collector.dropped.items():
        log.warning("%s answered the probe too often: %d answers were left out", host, number)


async def probe_directly(host: str, wait_s: float = _DIRECTED_WAIT_S) -> list[Match]:
    """Ask one host who it is (WS-Discovery 2005/04 clause 5.2.2), without credentials. Nothing where it is silent."""
    loop = asyncio.get_running_loop()
    message = Probe(f"urn:uuid:{uuid.uuid4()}")
    collector = _Collector(message.message_id)
    try:
        transport, _ = await loop.create_datagram_endpoint(lambda: collector, remote_addr=(host, ws_discovery.PORT))
    except OSError as error:
        log.debug("probe of %s: %s", host, error)
        return []
    try:
        transport.sendto(ws_discovery.serialize_probe(message))
        end = loop.time() + wait_s
        while not collector.matches and loop.time() < end:  # noqa: ASYNC110 - answers come by a callback of the loop
            await asyncio.sleep(0.02)
    finally:
        transport.close()
    return list(collector.matches.values())
