"""What stand-in devices announce beside WS-Discovery: SSDP with a description, and DNS-SD."""

from __future__ import annotations

import asyncio
import random
import socket
from collections.abc import Sequence
from typing import Any

from zeroconf import IPVersion, ServiceInfo
from zeroconf.asyncio import AsyncZeroconf

from zentrale.protocols import ssdp
from zentrale.protocols.ssdp import Told
from zentrale.simulation.discovery import adapter_of
from zentrale.simulation.onvif_device import DESCRIPTION_PATH, OnvifDevice
from zentrale.simulation.scenario import Camera


class Beside:
    """Answers SSDP searches and announces services for those of `devices` that do."""

    def __init__(self, devices: Sequence[OnvifDevice]) -> None:
        self._by_ssdp = [d for d in devices if d.config.quirks.ssdp]
        self._by_dns_sd = [d for d in devices if d.config.quirks.dns_sd]
        self._transports: list[asyncio.DatagramTransport] = []
        self._zeroconf: AsyncZeroconf | None = None

    async def start(self) -> None:
        if self._by_ssdp:
            await self._serve_ssdp()
        if self._by_dns_sd:
            self._zeroconf = AsyncZeroconf(interfaces=[adapter_of(self._by_dns_sd)], ip_version=IPVersion.V4Only)
            for device in self._by_dns_sd:
                config = device.config
                kind, port = ("_rtsp", config.rtsp_port) if isinstance(config, Camera) else ("_http", config.http_port)
                name = f"{config.model} {config.mac.replace(':', '')[-6:]}"
                info = ServiceInfo(
                    f"{kind}._tcp.local.", f"{name}.{kind}._tcp.local.", addresses=[socket.inet_aton(config.address)],
                    port=port, server=f"{device.hostname}.local.",
                )  # fmt: skip
                await self._zeroconf.async_register_service(info)

    async def stop(self) -> None:
        for transport in self._transports:
            transport.close()
        if self._zeroconf is not None:
            await self._zeroconf.async_close()

    async def _serve_ssdp(self) -> None:
        loop = asyncio.get_running_loop()
        senders: dict[str, asyncio.DatagramTransport] = {}
        for device in self._by_ssdp:
            sender, _ = await loop.create_datagram_endpoint(
                asyncio.DatagramProtocol, local_addr=(device.config.address, 0)
            )
            senders[device.config.address] = sender
        sock = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
        sock.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        sock.bind((ssdp.MULTICAST_ADDRESS, ssdp.PORT))
        member = socket.inet_aton(ssdp.MULTICAST_ADDRESS) + socket.inet_aton(adapter_of(self._by_ssdp))
        sock.setsockopt(socket.IPPROTO_IP, socket.IP_ADD_MEMBERSHIP, member)
        sock.setblocking(False)
        listening, _ = await loop.create_datagram_endpoint(lambda: _Searched(self._by_ssdp, senders), sock=sock)
        self._transports = [*senders.values(), listening]


class _Searched(asyncio.DatagramProtocol):
    def __init__(self, devices: Sequence[OnvifDevice], senders: dict[str, asyncio.DatagramTransport]) -> None:
        self.devices = devices
        self.senders = senders

    def datagram_received(self, data: bytes, addr: tuple[str | Any, int]) -> None:
        if not ssdp.is_search(data):
            return
        loop = asyncio.get_running_loop()
        for device in [d for d in self.devices if d.runs]:
            location = f"{device.base_url}{DESCRIPTION_PATH}"
            usn = f"uuid:5a100000-0000-4000-8000-{device.config.mac.replace(':', '')}::{ssdp.ROOT}"
            answer = ssdp.serialize_answer(Told(location, usn, "UPnP/1.1 stand-in"))
            sender = self.senders[device.config.address]
            loop.call_later(random.uniform(0, ssdp.MAX_WAIT_S / 2), sender.sendto, answer, addr)
