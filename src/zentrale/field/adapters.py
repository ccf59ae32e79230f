"""The laptop's network adapters, and which of them to use: the wrong one finds nothing."""

from __future__ import annotations

import ipaddress
import socket
from collections.abc import Sequence
from dataclasses import dataclass

import psutil

from zentrale import quantities
from zentrale.errors import InputError


@dataclass(frozen=True)
class Adapter:
    """One IPv4 address of one adapter that is up."""

    name: str
    address: str
    network: ipaddress.IPv4Network

    @property
    def loopback(self) -> bool:
        return self.network.is_loopback

    def __str__(self) -> str:
        return f"{self.name} ({self.address}/{self.network.prefixlen})"


@dataclass(frozen=True)
class Choice:
    adapter: Adapter
    reason: str


def list_adapters() -> list[Adapter]:
    """All IPv4 addresses of adapters that are up, loopback last."""
    up = {name for name, stats in psutil.net_if_stats().items() if stats.isup}
    adapters = []
    for name, addresses in psutil.net_if_addrs().items():
        for item in addresses:
            if item.family == socket.AF_INET and name in up:
                mask = item.netmask or "255.255.255.255"
                network = ipaddress.IPv4Network(f"{item.address}/{mask}", strict=False)
                adapters.append(Adapter(name, item.address, network))
    return sorted(adapters, key=lambda a: (a.loopback, a.name))


def choose(
    given: str | None, wanted: Sequence[tuple[str, ipaddress.IPv4Network]], adapters: Sequence[Adapter]
) -> Choice:
    """The adapter to use: the one `given` by name or address, else the one whose network holds most of the
    `wanted` networks (name and network), else the first that is no loopback. Raises InputError.
    """
    have = ", ".join(str(a) for a in adapters) or "none is up"
    if given is not None:
        for adapter in adapters:
            if given in (adapter.name, adapter.address):
                return Choice(adapter, "as asked for with --adapter")
        raise InputError(f"--adapter {given}: no such adapter or address is up", f"expected one of: {have}")

    def held(adapter: Adapter) -> list[str]:
        return [f"{name} ({network})" for name, network in wanted if network.subnet_of(adapter.network)]

    best = max(adapters, key=lambda a: (len(held(a)), a.network.prefixlen), default=None)
    if best is not None and held(best):
        first, *more = held(best)
        others = f" and {quantities.count(len(more), 'more planned zone')}" if more else ""
        return Choice(best, f"its network holds {first}{others}")
    for adapter in adapters:
        if not adapter.loopback:
            return Choice(adapter, "no adapter has an address in a planned zone; this is the first that is up")
    raise InputError(f"no network adapter to use: {have}", "plug in the network cable, or name one with --adapter")
