"""The devices of a laboratory: each a namespace with its legs, addresses and ways."""

from __future__ import annotations

import ipaddress
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field

from zentrale.field.lab.namespaces import Namespace


@dataclass(frozen=True)
class Leg:
    """One network connection of a station. `mark` is what the caller knows it by."""

    station: str
    interface: str
    mac: str
    address: str
    prefix: int
    mark: str

    @property
    def network(self) -> ipaddress.IPv4Network:
        return ipaddress.IPv4Network(f"{self.address}/{self.prefix}", strict=False)


@dataclass(frozen=True)
class Station:
    """`gateways` are whom it sends to what is not on its own networks, the first of them before the others; `forwards`: it passes
    packets on between its legs.
    """

    name: str
    legs: tuple[Leg, ...]
    gateways: tuple[str, ...] = ()
    forwards: bool = False
    routes: tuple[tuple[str, str], ...] = field(default_factory=tuple)  # network and next hop


def set_up(stations: Sequence[Station], spaces: Mapping[str, Namespace], neighbours: Mapping[str, str]) -> None:
    """Addresses, ways and neighbours of each. `neighbours`: the MAC address of every address, entered for good, since the kernel
    has one table of 1,024 learned ones for all namespaces of a machine. Raises LabError.
    """
    for station in stations:
        set_up_one(station, spaces[station.name], neighbours)


def set_up_one(station: Station, space: Namespace, neighbours: Mapping[str, str]) -> None:
    # Addresses of 127.0.0.0/8 are taken on a wire like any others; the own loopback stays down, which has them else.
    settings = {"route_localnet": "1", "rp_filter": "0", "arp_ignore": "0", "accept_local": "1"}
    with space.inside():
        for where in ("all", "default", *(leg.interface for leg in station.legs)):
            for key, value in settings.items():
                space.set(f"ipv4/conf/{where}/{key}", value)
        space.set("ipv4/ip_forward", "1" if station.forwards else "0")
    commands = []
    for leg in station.legs:
        commands.append(f"address replace {leg.address}/{leg.prefix} dev {leg.interface} scope global")
        for address, mac in neighbours.items():
            if mac != leg.mac and ipaddress.IPv4Address(address) in leg.network:
                commands.append(f"neigh replace {address} lladdr {mac} dev {leg.interface} nud permanent")
    commands += [f"route replace {network} via {hop}" for network, hop in station.routes]
    for order, gateway in enumerate(station.gateways):
        for leg in station.legs:
            if ipaddress.IPv4Address(gateway) in leg.network:  # a device's own rule, too
                commands.append(f"route replace default via {gateway} dev {leg.interface} metric {order}")
    space.call("ip", "-batch", "-", text="\n".join([*commands, ""]))
