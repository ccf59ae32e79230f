"""Where a stand-in device is in the network, and what it answers about that: its address, its way out, its services."""

from __future__ import annotations

import asyncio
import subprocess
from collections.abc import Awaitable, Callable
from dataclasses import dataclass, field
from typing import Protocol

from zentrale.protocols import soap
from zentrale.protocols.onvif import network
from zentrale.protocols.xml import Element
from zentrale.simulation.scenario import Camera, Recorder

_MOVES_AFTER_S = 0.3  # its answer goes out first
Bind = Callable[[], Awaitable[None]]


def _readdress(old: str, new: str, prefix: int) -> None:
    """On a link of its own, where every address of loopback is not there already."""
    told = subprocess.run(["ip", "-o", "addr", "show", "to", old], capture_output=True, text=True, check=True).stdout
    adapter = told.split()[1]
    subprocess.run(["ip", "addr", "flush", "dev", adapter, "to", old], check=True, capture_output=True)
    subprocess.run(["ip", "addr", "add", f"{new}/{prefix}", "dev", adapter], check=True, capture_output=True)


class Owner(Protocol):
    """The device that it is of."""

    config: Camera | Recorder


@dataclass
class NetworkState:
    """`away` and `back` take the device's servers down and bring them up at its address as it is then."""

    owner: Owner
    from_dhcp: bool = False
    prefix: int = 24
    gateway: tuple[str, ...] = ()
    names: network.NameServers = field(default_factory=lambda: network.NameServers(from_dhcp=False))
    https: bool = False
    away: Bind | None = None
    back: Bind | None = None
    _waiting: network.NetworkInterface | None = None  # until it restarts
    _tasks: set[asyncio.Task[None]] = field(default_factory=set)

    @property
    def config(self) -> Camera | Recorder:
        return self.owner.config

    def operations(self) -> dict[str, Callable[[Element], Element]]:
        return {
            "GetNetworkInterfaces": lambda _: network.interfaces_response(self._interfaces()),
            "SetNetworkInterfaces": self._set_interface,
            "GetNetworkDefaultGateway": lambda _: network.gateway_response(self.gateway),
            "SetNetworkDefaultGateway": self._set_gateway,
            "GetDNS": lambda _: network.dns_response(self.names),
            "SetDNS": self._set_dns,
            "GetNetworkProtocols": lambda _: network.protocols_response(self._protocols()),
            "SetNetworkProtocols": self._set_protocols,
            "SystemReboot": self._reboot,
        }

    def _interfaces(self) -> list[network.NetworkInterface]:
        c = self.config
        first = network.NetworkInterface("eth0", c.mac, c.address, self.prefix, self.from_dhcp)
        return [first, *(network.NetworkInterface(f"eth{n}", m) for n, m in enumerate(c.quirks.other_macs, start=1))]

    def _protocols(self) -> list[network.NetworkProtocol]:
        c = self.config
        rtsp = (c.rtsp_port,) if isinstance(c, Camera) else (554,)
        only = c.quirks.https_only
        return [
            network.NetworkProtocol("HTTP", not only, (80 if only else c.http_port,)),
            network.NetworkProtocol("HTTPS", only or self.https, (c.http_port if only else 443,)),
            network.NetworkProtocol("RTSP", True, rtsp),
        ]

    def _set_interface(self, request: Element) -> Element:
        wanted = network.parse_set_interface(request)
        restarts = "address" in self.config.quirks.restarts_after
        self._waiting = wanted
        if not restarts:
            self.restart(0.0)
        return network.set_interface_response(reboot_needed=restarts)

    def _set_gateway(self, request: Element) -> Element:
        self.gateway = tuple((e.text or "").strip() for e in request)
        return soap.TDS.SetNetworkDefaultGatewayResponse()

    def _set_dns(self, request: Element) -> Element:
        self.names = network.parse_set_dns(request)
        return soap.TDS.SetDNSResponse()

    def _set_protocols(self, request: Element) -> Element:
        """HTTPS is said to be on or off, and not served: enough to be set and read back."""
        for protocol in network.parse_protocols(request):
            if protocol.name == "HTTPS":
                self.https = protocol.enabled
        return soap.TDS.SetNetworkProtocolsResponse()

    def _reboot(self, request: Element) -> Element:
        self.restart(self.config.quirks.restart_s)
        return network.reboot_response()

    def restart(self, away_s: float, *, comes_back: bool = True) -> None:
        """Go away for so long, and come back with the address that was set meanwhile; one at a time, as a device does."""
        if self._tasks:
            return
        task = asyncio.get_running_loop().create_task(self._restarted(away_s, comes_back=comes_back))
        self._tasks.add(task)
        task.add_done_callback(self._tasks.discard)

    async def _restarted(self, away_s: float, *, comes_back: bool) -> None:
        await asyncio.sleep(_MOVES_AFTER_S)
        if self.away is None or self.back is None:
            return
        await self.away()
        await asyncio.sleep(away_s)
        if not comes_back:
            return
        wanted, self._waiting = self._waiting, None
        if wanted is not None:
            self.from_dhcp = wanted.from_dhcp
            self.prefix = wanted.prefix or self.prefix
            if wanted.address and not wanted.from_dhcp:
                if not wanted.address.startswith("127."):
                    await asyncio.to_thread(_readdress, self.config.address, wanted.address, wanted.prefix or 24)
                self.owner.config = self.config.model_copy(update={"address": wanted.address})
        await self.back()

    def stop(self) -> None:
        for task in self._tasks:
            task.cancel()
