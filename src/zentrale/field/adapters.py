"""The laptop's network adapters, and which of them to use: the wrong one finds nothing."""

from __future__ import annotations

import ipaddress
import re
import socket
from collections.abc import Collection, Sequence
from dataclasses import dataclass
from enum import IntEnum
from pathlib import Path

import psutil

from zentrale import quantities
from zentrale.errors import InputError


class Sort(IntEnum):
    """What an adapter is, as far as it shows; the likeliest way to cameras first."""

    WIRED = 0
    WIRELESS = 1
    VIRTUAL = 2
    TUNNEL = 3
    LOOPBACK = 4


_REMARKS = {
    Sort.WIRELESS: "it is wireless, and cameras seldom are: name the wired one with --adapter where there is one",
    Sort.VIRTUAL: "it looks like one of a virtual machine or container: name the wired one with --adapter",
    Sort.TUNNEL: "it looks like a VPN, which carries no multicast: name the wired one with --adapter",
}
_NAMES = (
    (
        Sort.TUNNEL,
        re.compile(r"(tun|tap|wg|ppp|utun|ipsec|zt|gif|stf)\d*|.*(vpn|tailscale|wireguard).*", re.IGNORECASE),
    ),
    (
        Sort.VIRTUAL,
        re.compile(r"(docker|br-|virbr|vmnet|vboxnet|veth|lxc|lxd|podman|bridge).*|vEthernet.*", re.IGNORECASE),
    ),
    (Sort.WIRELESS, re.compile(r"(wl|wlan|ath|awdl|llw).*|.*(wi-?fi|wireless).*", re.IGNORECASE)),
)


@dataclass(frozen=True)
class Adapter:
    """One IPv4 address of one adapter that is up; `link_local` where it has IPv6 too."""

    name: str
    address: str
    network: ipaddress.IPv4Network
    link_local: bool = False
    sort: Sort = Sort.WIRED

    @property
    def loopback(self) -> bool:
        return self.network.is_loopback

    def holds(self, address: str) -> bool:
        """Whether this IPv4 address is on the adapter's own link."""
        try:
            return ipaddress.IPv4Address(address) in self.network
        except ValueError:
            return False

    def __str__(self) -> str:
        return f"{self.name} ({self.address}/{self.network.prefixlen})"


@dataclass(frozen=True)
class Choice:
    """The adapters to use, why these, and what may be wrong with them."""

    adapters: tuple[Adapter, ...]
    reason: str
    remarks: tuple[str, ...] = ()

    def __str__(self) -> str:
        return " and ".join(map(str, self.adapters))

    def source(self, address: str) -> str | None:
        """The address to connect from to reach `address`; None where the system is to choose."""
        holding = next((a for a in self.adapters if a.holds(address)), None)
        if holding is None and len(self.adapters) == 1:
            holding = self.adapters[0]
        return None if holding is None or holding.loopback or ":" in address else holding.address


def list_adapters() -> list[Adapter]:
    """All IPv4 addresses of adapters that are up, the likeliest first, loopback last."""
    stats = {name: state for name, state in psutil.net_if_stats().items() if state.isup}
    adapters = []
    for name, addresses in psutil.net_if_addrs().items():
        link_local = any(a.family == socket.AF_INET6 and a.address.startswith("fe80:") for a in addresses)
        for item in addresses:
            if item.family == socket.AF_INET and name in stats:
                mask = item.netmask or "255.255.255.255"
                network = ipaddress.IPv4Network(f"{item.address}/{mask}", strict=False)
                flags = getattr(stats[name], "flags", "")
                adapters.append(Adapter(name, item.address, network, link_local, sort_of(name, network, flags)))
    return sorted(adapters, key=lambda a: (a.sort, a.name))


def sort_of(name: str, network: ipaddress.IPv4Network, flags: str = "") -> Sort:
    if network.is_loopback:
        return Sort.LOOPBACK
    if "pointopoint" in flags.split(","):
        return Sort.TUNNEL
    if (Path("/sys/class/net") / name / "wireless").exists():
        return Sort.WIRELESS
    return next((sort for sort, pattern in _NAMES if pattern.fullmatch(name)), Sort.WIRED)


def choose(
    given: Collection[str],
    wanted: Sequence[tuple[str, ipaddress.IPv4Network]],
    adapters: Sequence[Adapter],
    also: Sequence[tuple[str, ipaddress.IPv4Network]] = (),
) -> Choice:
    """The adapters to use: those `given` by name or address; else those whose networks hold the `wanted` networks (name and
    network), as few as will do; else the likeliest one. `also` are networks that are no reason to look into a wireless network
    or a VPN. Raises InputError.
    """
    have = ", ".join(str(a) for a in adapters) or "none is up"
    named = []
    for text in given:
        fits = [a for a in adapters if text in (a.name, a.address)]
        if not fits:
            raise InputError(f"--adapter {text}: no such adapter or address is up", f"expected one of: {have}")
        named += fits if len(given) > 1 or text == fits[0].name else fits[:1]
    if named:
        return Choice(tuple(dict.fromkeys(named)), "as asked for with --adapter")

    left, chosen, reasons = [*wanted, *also], list[Adapter](), list[str]()
    while True:
        held = {
            a: [z for z in left if z[1].subnet_of(a.network) and (z not in also or a.sort is Sort.WIRED)]
            for a in adapters
        }
        best = max(
            adapters,
            key=lambda a: (sum(z not in also for z in held[a]), len(held[a]), -a.sort, a.network.prefixlen),
            default=None,
        )
        if best is None or not held[best]:
            break
        first, *more = held[best]
        others = f" and {quantities.count(len(more), 'more network')}" if more else ""
        reasons.append(f"{best.name if chosen else 'its network'} holds {first[0]} ({first[1]}){others}")
        chosen.append(best)
        left = [zone for zone in left if zone not in held[best]]
    if chosen:
        return Choice(tuple(chosen), "; ".join(reasons), _remarks(chosen))
    usable = sorted((a for a in adapters if not a.loopback), key=lambda a: a.sort)
    if not usable:
        raise InputError(f"no network adapter to use: {have}", "plug in the network cable, or name one with --adapter")
    reason = "the likeliest that is up"
    if wanted:
        reason = f"no adapter has an address in a planned zone or range; this is {reason}"
    return Choice((usable[0],), reason, _remarks(usable[:1]))


def _remarks(chosen: Sequence[Adapter]) -> tuple[str, ...]:
    return tuple(f"{a.name}: {_REMARKS[a.sort]}" for a in chosen if a.sort in _REMARKS)


def own_macs() -> dict[str, str]:
    """The MAC address of each adapter of this machine that has one, with the adapter's name."""
    found = {}
    for name, addresses in psutil.net_if_addrs().items():
        for item in addresses:
            if item.family == psutil.AF_LINK and item.address.strip("0:-"):
                found[item.address.replace("-", ":").lower()] = name
    return found
