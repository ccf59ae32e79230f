"""Answers WS-Discovery probes for all stand-in devices: multicast on one socket, unicast at each device's address."""

from __future__ import annotations

import asyncio
import logging
import random
import socket
import uuid
from collections.abc import Sequence
from typing import Any

from zentrale.errors import RemoteProtocolError
from zentrale.protocols import ws_discovery
from zentrale.simulation.onvif_device import OnvifDevice

log = logging.getLogger(__name__)
LOOPBACK = "127.0.0.1"


class _Responder(asyncio.DatagramProtocol):
    """Answers for `devices`, each from its own address with its own socket."""

    def __init__(self, devices: Sequence[OnvifDevice], senders: dict[str, asyncio.DatagramTransport]) -> None:
        self.devices = devices
        self.senders = senders

    def datagram_received(self, data: bytes, addr: tuple[str | Any, int]) -> None:
        try:
            probe = ws_discovery.parse_probe(data)
        except RemoteProtocolError as error:
            log.debug("probe from %s: %s", addr, error)
            return
        if probe is None:
            return
        loop = asyncio.get_running_loop()
        for device in self.devices:
            if probe.types and device.device_type not in probe.types and "Device" not in probe.types:
                continue
            delay = random.uniform(0, ws_discovery.APP_MAX_DELAY_S)
            answer = ws_discovery.serialize_matches(device.match(probe.message_id), f"urn:uuid:{uuid.uuid4()}")
            loop.call_later(delay, self._send, device.config.address, answer, addr)

    def _send(self, address: str, answer: bytes, to: tuple[str | Any, int]) -> None:
        sender = self.senders[address]
        if not sender.is_closing():
            sender.sendto(answer, to)


async def serve(devices: Sequence[OnvifDevice]) -> list[asyncio.DatagramTransport]:
    """Start answering for those of `devices` that answer probes; the caller closes the transports."""
    loop = asyncio.get_running_loop()
    senders: dict[str, asyncio.DatagramTransport] = {}
    answering = [d for d in devices if d.config.answers_probes]
    for device in answering:
        address = device.config.address
        if address not in senders:
            transport, _ = await loop.create_datagram_endpoint(
                lambda d=device: _Responder([d], senders),  # type: ignore[misc]
                local_addr=(address, ws_discovery.PORT),
            )
            senders[address] = transport
    transport, _ = await loop.create_datagram_endpoint(lambda: _Responder(answering, senders), sock=_multicast_socket())
    return [*senders.values(), transport]


def _multicast_socket() -> socket.socket:
    group = ws_discovery.MULTICAST_ADDRESS
    sock = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
    sock.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
    sock.bind((group, ws_discovery.PORT))
    membership = socket.inet_aton(group) + socket.inet_aton(LOOPBACK)
    sock.setsockopt(socket.IPPROTO_IP, socket.IP_ADD_MEMBERSHIP, membership)
    sock.setblocking(False)
    return sock
