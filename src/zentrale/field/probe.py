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


class _Collector(asyncio.DatagramProtocol):
    def __init__(self, message_id: str) -> None:
        self.message_id = message_id
        self.matches: dict[str, tuple[Match, str]] = {}
        self.foreign = 0

    def datagram_received(self, data: bytes, addr: tuple[str | Any, int]) -> None:
        try:
            matches = ws_discovery.parse_matches(data)
        except RemoteProtocolError as error:
            log.warning("answer to the probe from %s: %s", addr[0], error)
            return
        for match in matches:
            if match.relates_to != self.message_id:
                self.foreign += 1
            elif match.endpoint and len(self.matches) < MAX_MATCHES:
                self.matches.setdefault(match.endpoint, (match, str(addr[0])))

    def error_received(self, exc: Exception) -> None:
        log.debug("probe: %s", exc)


async def probe(adapter_address: str, wait_s: float = DEFAULT_WAIT_S) -> list[tuple[Match, str]]:
    """Ask by multicast who is there. Returns each endpoint once, with the address it answered from.

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
    if collector.foreign:
        log.info("%d answers belonged to another probe and were left out", collector.foreign)
    return list(collector.matches.values())
