"""The first look, at all devices at once and in the same seconds: who answers where, before anything is asked of anybody."""

from __future__ import annotations

import asyncio
import ipaddress
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field

from zentrale.errors import UnreachableError
from zentrale.field import arp, neighbours
from zentrale.field.adapters import Adapter, Choice
from zentrale.field.knocking import Knock, Knocked, knock_all
from zentrale.field.probe import probe
from zentrale.jobs.discovery import at_switches
from zentrale.jobs.discovery.at_switches import AtSwitches
from zentrale.jobs.known.found_devices import USUAL_RTSP_PORTS, FoundDevice
from zentrale.jobs.known.planned import Planned
from zentrale.jobs.passwords.keyring import Keyring
from zentrale.site.model import Camera, Plan, Recorder

PROBE_WAIT_S = 1.5  # devices answer within APP_MAX_DELAY (0.5 s), and the question is repeated
SWITCHES_S = 8.0
_WEB_PORTS = (80, 8080)
PLANNED, SEEN, DEFAULT, PROBED = "planned", "last seen", "its maker's default", "answered the probe"


@dataclass(frozen=True)
class Place:
    """Where a device was looked for, and why there."""

    host: str
    why: str


@dataclass(frozen=True)
class Ground:
    """What was seen of all.

    knocks:    by host and port
    endpoints: those that answered the probe, by host (WS-Discovery); probed: the probe could be sent
    macs:      who answers ARP, by host; asked: the hosts of which it is known whether anybody does
    switches:  the switches' own tables, where they can be asked
    """

    adapters: tuple[Adapter, ...] = ()
    knocks: Mapping[tuple[str, int], Knock] = field(default_factory=dict)
    endpoints: Mapping[str, frozenset[str]] = field(default_factory=dict)
    probed: bool = False
    macs: Mapping[str, tuple[str, ...]] = field(default_factory=dict)
    asked: frozenset[str] = frozenset()
    switches: AtSwitches | None = None

    def at(self, host: str) -> list[Knock]:
        return [k for (at, _), k in self.knocks.items() if at == host]

    def on_link(self, host: str) -> Adapter | None:
        """The adapter on whose own link this address is; None where a router or a loopback leads there."""
        return next((a for a in self.adapters if a.holds(host) and not a.loopback), None)

    def answers(self, host: str) -> bool:
        """Whether anything is there at all. All of loopback refuses: there that tells nothing."""
        refuses = (Knocked.OPEN,) if _is_loopback(host) else (Knocked.OPEN, Knocked.REFUSED)
        return any(k.outcome in refuses for k in self.at(host)) or host in self.endpoints or bool(self.macs.get(host))


def _is_loopback(host: str) -> bool:
    return ipaddress.ip_address(host).is_loopback


def places(plan: Plan, row: Planned, seen: FoundDevice | None) -> list[Place]:
    """Where a device may be: where it is planned, where it was last seen, at its maker's default address."""
    default = getattr(plan.kind(row), "default_address", None)
    known = [Place(row.host, PLANNED)] if row.host else []
    known += [Place(a, SEEN) for a in (seen.addresses if seen is not None else ()) if ":" not in a]
    known += [Place(str(default), DEFAULT)] if default is not None and not _translated(row) else []
    return list({p.host: p for p in reversed(known)}.values())[::-1]


def _translated(row: Planned) -> bool:
    return isinstance(row, Camera) and row.translated


def service_ports(row: Planned, seen: FoundDevice | None) -> tuple[list[int], list[int]]:
    """Where its web service and its streams should be, the likeliest first: as planned, as they were seen, as is usual."""
    web = [row.http_port, seen.port if seen is not None else None]
    if isinstance(row, Recorder):
        return _some(web) or list(_WEB_PORTS), []
    streams = [row.rtsp_port, seen.rtsp_port if seen is not None else None]
    return _some(web) or list(_WEB_PORTS), _some(streams) or list(USUAL_RTSP_PORTS)


def _some(ports: Iterable[int | None]) -> list[int]:
    return list(dict.fromkeys(p for p in ports if p))


async def look(
    plan: Plan,
    keyring: Keyring,
    choice: Choice,
    rows: Sequence[Planned],
    found: Mapping[str, FoundDevice],
) -> Ground:
    """Of these devices, all in the same seconds. Nothing that one of them does ends it."""
    pairs = [
        (place.host, port)
        for row in rows
        for place in places(plan, row, found.get(row.name))
        for port in _ports_to_try(plan, row, found.get(row.name))
    ]
    hosts = list(dict.fromkeys(host for host, _ in pairs))
    knocks, heard, by_arp, switches = await asyncio.gather(
        knock_all(pairs, choice), _probed(choice.adapters), asyncio.to_thread(_by_arp, choice.adapters, hosts),
        _asked_switches(plan, keyring, choice.adapters, rows),
    )  # fmt: skip
    macs, nobody = await asyncio.to_thread(_neighbours, choice.adapters, hosts)
    macs |= {host: own for host, own in by_arp.items() if own}  # who answers, two for one too
    return Ground(
        choice.adapters, knocks, heard or {}, heard is not None, macs, frozenset({*macs, *nobody, *by_arp}), switches
    )  # fmt: skip


def _ports_to_try(plan: Plan, row: Planned, seen: FoundDevice | None) -> list[int]:
    web, streams = service_ports(row, seen)
    return list(dict.fromkeys([*web, *streams, *plan.policy.sweep_ports]))


async def _probed(adapters: Sequence[Adapter]) -> dict[str, frozenset[str]] | None:
    """The endpoints that answer by host; None where no question could be sent."""
    try:
        heard = await probe(adapters, PROBE_WAIT_S)
    except UnreachableError:
        return None
    found: dict[str, set[str]] = {}
    for match, host in (*heard.answers, *heard.hellos):
        found.setdefault(host, set()).add(match.endpoint)
    return {host: frozenset(own) for host, own in found.items()}


def _by_arp(adapters: Sequence[Adapter], hosts: Sequence[str]) -> dict[str, tuple[str, ...]]:
    """Who answers for each address of our own links; nothing where this program may not ask so."""
    if not arp.allowed():
        return {}
    found: dict[str, tuple[str, ...]] = {}
    for adapter in adapters:
        mine = [h for h in hosts if adapter.holds(h) and not adapter.loopback]
        told = arp.who_is_there(adapter, mine) if mine else None
        found |= {h: told.get(h, ()) for h in mine} if told is not None else {}
    return found


def _neighbours(adapters: Sequence[Adapter], hosts: Sequence[str]) -> tuple[dict[str, tuple[str, ...]], set[str]]:
    """By the system's own table, which knocking has filled: who answers, and at which addresses nobody did."""
    table, nobody = neighbours.asked()
    mine = {h for h in hosts if any(a.holds(h) and not a.loopback for a in adapters)}
    return {h: (table[h],) for h in mine if h in table}, nobody & mine


async def _asked_switches(
    plan: Plan, keyring: Keyring, adapters: Sequence[Adapter], rows: Sequence[Planned]
) -> AtSwitches | None:
    """The switches at which these devices are planned. One that takes its time is not waited for."""
    names = {row.switch for row in rows if row.switch}
    try:
        async with asyncio.timeout(SWITCHES_S):
            return await at_switches.look(plan, keyring, [a.name for a in adapters], names)
    except TimeoutError:
        return None
