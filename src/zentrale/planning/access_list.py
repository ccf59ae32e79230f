"""Access lists, from who reaches whom: what any firewall or switch is told later comes from here.

Two forms of one list. `router_rules` are the plan's rules in their order, as a router reads them: the first that fits decides,
what none fits is dropped. `access_rows` say the same for each pair of parties. Answers to what was allowed come back (a
stateful filter).

Which kind of device an address is: a camera's or recorder's where the plan has it there; all else in a zone counts as viewer
where the zone has any, else as device. So a rule for one kind never opens a whole VLAN.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass
from ipaddress import IPv4Address, IPv4Network, collapse_addresses, summarize_address_range

from zentrale.planning.addresses import plan_addresses
from zentrale.planning.flows import same_network
from zentrale.planning.reach import Party, ReachPlan, fits
from zentrale.site.model import INTERNET, Plan, Zone

ANY = "any"


@dataclass(frozen=True)
class AccessRow:
    """One row. `origin_networks` and `to_networks` are IPv4 blocks (RFC 4632), empty for the internet: every other address.

    protocol, port: as the rule says it (a port, FIRST-LAST), or any
    verdict:        allow or deny
    kept_by:        who keeps it: router, switch (within one VLAN or private VLAN), recorder (from leg to leg)
    """

    origin: Party
    origin_networks: tuple[str, ...]
    to: Party
    to_networks: tuple[str, ...]
    protocol: str
    port: str
    verdict: str
    kept_by: str
    why: str


@dataclass(frozen=True)
class Side:
    """One end of a router's rule: by which leg, and which IPv4 blocks there. Of the internet: no leg, and all that is
    elsewhere.
    """

    zone: str
    kind: str | None
    vlan: int | None
    networks: tuple[str, ...]

    def __str__(self) -> str:
        return f"{self.kind} in {self.zone}" if self.kind else self.zone


@dataclass(frozen=True)
class RouterRule:
    """One line of the router's list; `number` is the rule of the plan that it comes from, counted from 1."""

    number: int
    origin: Side
    to: Side
    protocol: str
    port: str
    allow: bool


class Parties:
    """Which addresses of the plan are whose."""

    def __init__(self, plan: Plan) -> None:
        self._plan = plan
        self._planned: dict[IPv4Address, Party] = {
            d.address: Party(d.kind, d.zone) for d in plan_addresses(plan).devices if not d.translated
        }

    def _rest(self, zone: Zone) -> str:
        return "viewer" if any(v.zone == zone.name for v in self._plan.viewers) else "device"

    def networks(self, zone: Zone, kind: str | None) -> tuple[str, ...]:
        """What one kind of device, or all devices, have of a zone, as few blocks."""
        own = [a for a, party in self._planned.items() if party.zone == zone.name and kind in (None, party.kind)]
        blocks = [block for first, last in _in_a_row(own) for block in summarize_address_range(first, last)]
        if kind is None or kind == self._rest(zone):
            blocks += self._others(zone)
        return tuple(str(n).removesuffix("/32") for n in collapse_addresses(blocks))

    def _others(self, zone: Zone) -> Iterable[IPv4Network]:
        """What is nobody's in particular: of a secondary VLAN its pool, of all else the subnet without what is somebody's."""
        if zone.primary is not None:
            return [] if zone.pool is None else summarize_address_range(zone.pool.first, zone.pool.last)
        gone = [(int(address), int(address)) for address in self._planned]
        gone += [
            (int(z.pool.first), int(z.pool.last))
            for z in self._plan.zones
            if z.primary == zone.name and z.pool is not None
        ]
        return _gaps(zone.subnet, sorted(gone))


def _in_a_row(addresses: Iterable[IPv4Address]) -> Iterator[tuple[IPv4Address, IPv4Address]]:
    """First and last of those that follow one another."""
    run: list[IPv4Address] = []
    for address in sorted(addresses):
        if run and int(address) > int(run[-1]) + 1:
            yield run[0], run[-1]
            run = []
        run.append(address)
    if run:
        yield run[0], run[-1]


def _gaps(network: IPv4Network, gone: Iterable[tuple[int, int]]) -> Iterator[IPv4Network]:
    """What is left of the network between these, which are first and last addresses in order."""
    at, end = int(network.network_address), int(network.broadcast_address)
    for first, last in gone:
        if last < at or first > end:
            continue
        if first > at:
            yield from summarize_address_range(IPv4Address(at), IPv4Address(first - 1))
        at = max(at, last + 1)
    if at <= end:
        yield from summarize_address_range(IPv4Address(at), IPv4Address(end))


def _without(networks: Iterable[IPv4Network], gone: IPv4Network) -> list[IPv4Network]:
    left: list[IPv4Network] = []
    for network in networks:
        if gone.subnet_of(network):
            left += network.address_exclude(gone) if gone != network else []
        elif not network.subnet_of(gone):
            left.append(network)
    return left


def router_rules(plan: Plan) -> tuple[RouterRule, ...]:
    """What a router with a leg in every zone with a gateway keeps, in its order; within one network it is not asked."""
    parties = Parties(plan)
    sides: dict[tuple[str, str | None], Side | None] = {}
    found = []
    for number, rule in enumerate(plan.rules, start=1):
        for origin in _zones(plan, rule.origin):
            for to in _zones(plan, rule.to):
                if origin == to or (INTERNET not in (origin, to) and same_network(plan, origin, to)):
                    continue
                a = sides.setdefault((origin, rule.from_kind), _side(plan, parties, origin, rule.from_kind))
                b = sides.setdefault((to, rule.to_kind), _side(plan, parties, to, rule.to_kind))
                if a is not None and b is not None:
                    found.append(RouterRule(number, a, b, rule.protocol, rule.port or ANY, rule.allow))
    return tuple(found)


def _zones(plan: Plan, name: str) -> list[str]:
    return [name] if name != "*" else [*(z.name for z in plan.zones), INTERNET]


def _side(plan: Plan, parties: Parties, zone: str, kind: str | None) -> Side | None:
    """None where there is nobody of that kind, or no leg."""
    if zone == INTERNET:
        return Side(INTERNET, None, None, ()) if kind in (None, INTERNET) else None
    known = plan.zone(zone)
    leg = plan.zone(known.family)
    networks = parties.networks(known, kind)
    return Side(zone, kind, leg.vlan, networks) if leg.gateway is not None and networks else None


def elsewhere(plan: Plan) -> tuple[str, ...]:
    """All IPv4 addresses that lie in no zone, as few blocks: what the internet is to a list that has no interfaces."""
    left = [IPv4Network("0.0.0.0/0")]
    for zone in plan.zones:
        left = _without(left, zone.subnet)
    return tuple(map(str, collapse_addresses(left)))


def access_rows(plan: Plan, reach: ReachPlan) -> tuple[AccessRow, ...]:
    """The rows of every pair of parties, in the order of the matrix. For a pair the first row that fits a packet decides; a pair
    ends with a row for everything.
    """
    parties = Parties(plan)
    networks: Mapping[Party, tuple[str, ...]] = {party: _networks(plan, parties, party) for party in reach.parties}
    rows: list[AccessRow] = []
    for cell in reach.cells:
        for protocol, port, allowed, kept_by, why in _verdicts(plan, cell.origin, cell.to, cell.allowed, cell.why):
            verdict = "allow" if allowed else "deny"
            rows.append(
                AccessRow(
                    cell.origin,
                    networks[cell.origin],
                    cell.to,
                    networks[cell.to],
                    protocol,
                    port,
                    verdict,
                    kept_by,
                    why,
                )
            )
    return tuple(rows)


def _verdicts(
    plan: Plan, origin: Party, to: Party, allowed: bool, why: str
) -> Iterator[tuple[str, str, bool, str, str]]:
    if INTERNET not in (origin.zone, to.zone) and same_network(plan, origin.zone, to.zone):
        yield ANY, ANY, allowed, "switch", why
        return
    if why.startswith("through "):
        yield ANY, ANY, allowed, "recorder", why
        return
    if "has no gateway" not in why:
        for number, rule in enumerate(plan.rules, start=1):
            if fits(rule, origin, to):
                yield rule.protocol, rule.port or ANY, rule.allow, "router", f"rule {number}"
                if rule.protocol == ANY:
                    return
        why = "no rule allows it"
    yield ANY, ANY, False, "router", why


def _networks(plan: Plan, parties: Parties, party: Party) -> tuple[str, ...]:
    """Cameras and recorders by their own addresses, all else by what is left of the zone."""
    if party.zone == INTERNET:
        return ()
    networks = parties.networks(plan.zone(party.zone), party.kind)
    return tuple(n if "/" in n else f"{n}/32" for n in networks)
