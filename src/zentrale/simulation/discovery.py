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
from zentrale.protocols.ws_discovery import Kind, Version
from zentrale.simulation.onvif_device import OnvifDevice

log = logging.getLogger(__name__)
LOOPBACK = "127.0.0.1"


class _Responder(asyncio.DatagramProtocol):
    """Answers for `devices`, each from its own address with its own socket."""

    def __init__(
        self,
        devices: Sequence[OnvifDevice],
        senders: dict[str, asyncio.DatagramTransport],
        *,
        multicast: bool = False,
    ) -> None:
        self.devices = devices
        self.multicast = multicast
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
            quirks = device.config.quirks
            if not device.runs:
                continue
            if quirks.probes == "typed" and not probe.types and not probe.endpoint:
                continue
            if probe.version is not (Version.V2005 if quirks.discovery == "2005" else Version.V1_1):
                continue
            if quirks.probes == "directed" and self.multicast:
                continue
            if probe.types and device.device_type not in probe.types and "Device" not in probe.types:
                continue
            delay = random.uniform(0, ws_discovery.APP_MAX_DELAY_S)
            for match in device.matches(probe.message_id, resolving=bool(probe.endpoint)):
                number = f"urn:uuid:{uuid.uuid4()}"
                if probe.endpoint and probe.endpoint != match.endpoint:
                    continue
                answer = ws_discovery.serialize_matches(match, number, probe.version, resolved=bool(probe.endpoint))
                loop.call_later(delay, self._send, device.config.address, answer, addr)

    def _send(self, address: str, answer: bytes, to: tuple[str | Any, int]) -> None:
        sender = self.senders[address]
        if not sender.is_closing():
            sender.sendto(answer, to)


class Announcer:
    """Answers for those of `devices` that answer probes, and says Hello and Bye for them."""

    def __init__(self, devices: Sequence[OnvifDevice]) -> None:
        self._devices = [d for d in devices if d.config.answers_probes]
        self._senders: dict[str, asyncio.DatagramTransport] = {}
        self._transports: list[asyncio.DatagramTransport] = []

    async def start(self) -> None:
        if not self._devices:
            return
        self._senders, multicast = await _serve(self._devices)
        self._transports = [*self._senders.values(), multicast]
        self._announce(self._devices, Kind.HELLO)

    async def moved(self, device: OnvifDevice) -> None:
        """It has restarted, perhaps at another address: it is heard there, and says Hello."""
        if device not in self._devices:
            return
        if device.config.address not in self._senders:
            self._transports.append(await _sender(device, self._senders))
        self._announce([device], Kind.HELLO)

    def stop(self) -> None:
        self._announce(self._devices, Kind.BYE)
        for transport in self._transports:
            transport.close()
        self._transports = []

    def _announce(self, devices: Sequence[OnvifDevice], kind: Kind) -> None:
        """By multicast, WS-Discovery 2005/04 clauses 4.1 and 4.2."""
        for device in devices:
            if device.config.quirks.probes == "directed":
                continue
            match, number = device.match(""), f"urn:uuid:{uuid.uuid4()}"
            data = ws_discovery.serialize_announcement(kind, match, number)
            sender = self._senders.get(device.config.address)
            if sender is not None and not sender.is_closing():
                sender.sendto(data, (ws_discovery.MULTICAST_ADDRESS, ws_discovery.PORT))


async def _serve(
    devices: Sequence[OnvifDevice],
) -> tuple[dict[str, asyncio.DatagramTransport], asyncio.DatagramTransport]:
    """The sockets by address, and the one for multicast."""
    senders: dict[str, asyncio.DatagramTransport] = {}
    for device in devices:
        if device.config.address not in senders:
            await _sender(device, senders)
    transport, _ = await asyncio.get_running_loop().create_datagram_endpoint(
        lambda: _Responder(devices, senders, multicast=True), sock=_multicast_socket(adapter_of(devices))
    )
    return senders, transport


async def _sender(device: OnvifDevice, senders: dict[str, asyncio.DatagramTransport]) -> asyncio.DatagramTransport:
    """A socket at the device's address, among the others."""
    transport, _ = await asyncio.get_running_loop().create_datagram_endpoint(
        lambda: _Responder([device], senders), sock=_unicast_socket(device.config.address)
    )
    senders[device.config.address] = transport
    return transport


def _unicast_socket(address: str) -> socket.socket:
    sock = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
    sock.bind((address, ws_discovery.PORT))
    adapter = LOOPBACK if address.startswith("127.") else address
    sock.setsockopt(socket.IPPROTO_IP, socket.IP_MULTICAST_IF, socket.inet_aton(adapter))
    sock.setblocking(False)
    return sock


def adapter_of(devices: Sequence[OnvifDevice]) -> str:
    """The address of the adapter to hear and send on: loopback, but for a device on a link of its own."""
    away = [d.config.address for d in devices if not d.config.address.startswith("127.")]
    return away[0] if away else LOOPBACK


def _multicast_socket(adapter: str) -> socket.socket:
    group = ws_discovery.MULTICAST_ADDRESS
    sock = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
    sock.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
    sock.bind((group, ws_discovery.PORT))
    membership = socket.inet_aton(group) + socket.inet_aton(adapter)
    sock.setsockopt(socket.IPPROTO_IP, socket.IP_ADD_MEMBERSHIP, membership)
    sock.setblocking(False)
    return sock
