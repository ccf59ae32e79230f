"""DHCP as it comes to each device: planned addresses on every leg, the pool and no more for strangers, the way out as planned."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from ipaddress import IPv4Address
from pathlib import Path

from zentrale.field.lab import dhcp_client
from zentrale.field.lab.dhcp_client import Asked, Client
from zentrale.field.lab.probing import Wire
from zentrale.field.lab.servers import DhcpServer
from zentrale.field.lab.stations import Leg
from zentrale.jobs.network.rehearsal.stage import Stage, interface_mac
from zentrale.output.network import names
from zentrale.output.network.dhcp import time_server
from zentrale.planning.network import NetworkPlan
from zentrale.site.model import INTERNET, Zone


@dataclass(frozen=True)
class DhcpResult:
    """One client's address. `planned` is what it is to get: an address, a pool as FIRST-LAST, or nothing (empty); `wanted` what a
    stranger asked for. `servers` are those that offered, by address and MAC address. `router`, `time_server` and `mask` came
    with the first offer.
    """

    zone: str
    client: str
    planned: str
    given: str
    servers: tuple[tuple[str, str], ...]
    station: str = ""
    mac: str = ""
    wanted: str = ""
    router: str = ""
    time_server: str = ""
    mask: str = ""

    @property
    def as_planned(self) -> bool:
        first, dash, last = self.planned.partition("-")
        if not dash or not self.given:
            return self.given == self.planned
        inside = IPv4Address(first) <= IPv4Address(self.given) <= IPv4Address(last)
        return inside and (self.wanted not in (first, last) or self.given == self.wanted)


def file_of(zone: Zone) -> str:
    return f"dhcp/{zone.name}.conf"


def server_place(stage: Stage, zone: Zone) -> tuple[str, str, str] | None:
    """Namespace, interface and MAC-bearing station of the zone's server: the router where it has a leg, else a recorder."""
    router = stage.net.router()
    if router is not None and zone in stage.net.routed_zones():
        return stage.space_of(router.name).name, names.vlan(zone.vlan), ""
    for leg, place in stage.places.items():
        if place.party.kind == "recorder" and stage.net.plan.zone(place.party.zone).family == zone.name:
            return leg.station, leg.interface, leg.station
    return None


def server_mac(stage: Stage, zone: Zone) -> str:
    """On the wire; empty where the zone has no server."""
    at = server_place(stage, zone)
    if at is None:
        return ""
    legs = [leg for leg in stage.legs if leg.station == at[0] and leg.interface == at[1]]
    return legs[0].mac if legs else interface_mac(stage.spaces[at[0]], at[1])


def start_server(stage: Stage, zone: Zone, file: Path) -> DhcpServer:
    """The zone's, with its file as it stands. Raises LabError."""
    at = server_place(stage, zone)
    assert at is not None
    return DhcpServer(stage.spaces[at[0]], at[1], file, stage.folder / f"dhcp.{zone.name}")


def ask_for_addresses(stage: Stage, wire: Wire, zones: Sequence[Zone]) -> list[DhcpResult]:
    """In the zones that have a server every device on each of its legs, and strangers from a port at each switch: one that takes
    what it gets, and some that want the first and the last address of the pool, and the ones beside it.
    """
    asked = [one_client for zone in zones for one_client in _clients(stage, zone)]
    # Who takes any address leaves the edges of the pool to those who want them.
    asked.sort(key=lambda client: "-" in client[0].planned and not client[0].wanted)
    first = [one_client for one_client in asked if one_client[0].wanted or "-" not in one_client[0].planned]
    results = []
    for some in (first, asked[len(first) :]):
        given = dhcp_client.ask_all(wire, [client for _, client in some]) if some else []
        results += [_result(about, one_client) for (about, _), one_client in zip(some, given, strict=True)]
    return results


def _clients(stage: Stage, zone: Zone) -> Iterator[tuple[DhcpResult, Client]]:
    """Who asks in a zone, with what is to come of it."""
    at, net = server_place(stage, zone), stage.net
    if at is None:
        return
    asking = [(leg, p.party) for leg, p in stage.places.items() if p.party.kind != "switch"]  # whose address is entered
    legs = [leg for leg, party in asking if _in_family(stage, party.zone, zone)]
    legs = [leg for leg in legs if (leg.station, leg.interface) != at[:2]]  # a server does not ask itself
    pool = net.pool(zone)
    strangers = f"{pool[0]}-{pool[1]}" if pool else ""
    reserved = {d.name: d for d in net.reserved(zone)}
    left = int(pool[1]) - int(pool[0]) + 1 if pool else 1_000
    for leg in legs:
        known = reserved.get(leg.station if leg.interface == names.leg(0) else f"{leg.station}-viewing")
        if known or left > 0:
            left -= known is None
            planned = str(known.address) if known else strangers
            name = known.name if known else leg.station
            yield DhcpResult(zone.name, name, planned, "", (), leg.station, leg.mac), Client(leg, leg.mac)
    at_switches: dict[str, Leg] = {}
    for leg in legs:
        at_switches.setdefault(stage.places[leg].switch, leg)
    numbers = iter(range(1, 255))
    for leg in at_switches.values():
        wishes = _beside(*pool) if pool and leg is next(iter(at_switches.values())) else []
        for address in [*wishes, ""][: max(0, left)]:
            left -= 1
            mac = f"02:5a:fc:00:{zone.vlan & 255:02x}:{next(numbers):02x}"
            text = f" that wants {address}" if address else ""
            name = f"a stranger at the port of {leg.station}{text}"
            yield DhcpResult(zone.name, name, strangers, "", (), leg.station, mac, address), Client(leg, mac, address)


def _beside(first: IPv4Address, last: IPv4Address) -> list[str]:
    return list(dict.fromkeys(map(str, (first, last, first - 1, last + 1))))


def _in_family(stage: Stage, zone: str, family: Zone) -> bool:
    return zone != INTERNET and stage.net.plan.zone(zone).family == family.name


def _result(about: DhcpResult, asked: Asked) -> DhcpResult:
    servers = tuple(dict.fromkeys((o.message.server, o.from_mac) for o in asked.offers))
    if not asked.offers:
        return about
    first = asked.offers[0].message
    given = asked.given or first.address
    return replace(
        about, given=given, servers=servers, router=first.router, time_server=first.time_server, mask=first.mask
    )


def options_of(net: NetworkPlan, zone: Zone) -> dict[str, str]:
    """What comes with an address by the plan, by the names of a result."""
    return {"router": str(zone.gateway or ""), "time_server": time_server(net), "mask": str(zone.subnet.netmask)}
