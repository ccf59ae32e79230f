"""Multicast: a group for every stream that is watched so, where it goes, and what it would cost without snooping.

Groups come from the administratively scoped block (RFC 2365). The scheme follows zone and channel, as addresses do, so
that a new camera renumbers nobody.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from ipaddress import IPv4Address, IPv4Network

from zentrale import quantities
from zentrale.findings import Finding, finding
from zentrale.planning.addresses import channel_offsets
from zentrale.planning.flows import Flow, Ways, at_once, crossing_switch, flows, same_network
from zentrale.planning.topology import link_rates_bps, lit_network, trunk_name, trunks_of
from zentrale.planning.traffic import OVERHEAD
from zentrale.planning.zone_links import zone_links, zone_root, zone_switches
from zentrale.site.model import Plan

FIRST_PORT = 20_000  # RTP takes even ports, RTCP the odd one above (RFC 3550 section 11)
_PORTS = 20_000
_SCOPED = IPv4Network("239.0.0.0/8")  # RFC 2365 section 2
_ETHERNET_BITS = 0x7FFFFF  # 23 bits of the group stand in the Ethernet address (RFC 1112 section 6.4)
_ALWAYS_FLOODED = 0x100  # 224.0.0.0/24 and its 31 twins: switches flood them whatever they snoop (RFC 4541 2.1.2)


@dataclass(frozen=True)
class StreamGroup:
    """One stream's group. `time_to_live` is the smallest that reaches all `listeners`; `given` stands in the plan; `relayed`: a
    recorder sends it, under a group of its own.
    """

    camera: str
    stream: str
    zone: str
    group: str
    ethernet: str
    port: int
    time_to_live: int
    bitrate_bps: float
    listeners: tuple[str, ...]
    given: bool
    relayed: bool = False


@dataclass(frozen=True)
class MulticastLink:
    """The load that multicast puts on a link [bit/s]: only towards listeners, and flooded without snooping."""

    name: str
    rate_bps: float
    snooped_bps: float
    flooded_bps: float


@dataclass(frozen=True)
class MulticastZone:
    """`querier` is the switch that should ask for groups, `proposed` where the plan names none. `flooded_port_bps` is
    what every port of the zone gets without snooping, beside its own traffic.
    """

    zone: str
    querier: str
    proposed: bool
    snooping_on: tuple[str, ...]
    snooping_missing: tuple[str, ...]
    flooded_port_bps: float


@dataclass(frozen=True)
class MulticastPlan:
    """`fast_leave` names the ports with one listener, where a group may end at the first leave."""

    groups: tuple[StreamGroup, ...]
    zones: tuple[MulticastZone, ...]
    links: tuple[MulticastLink, ...]
    fast_leave: tuple[str, ...]
    findings: tuple[Finding, ...]

    def proposals(self) -> dict[tuple[str, str], str]:
        """Groups for streams of cameras that have none in the plan, by camera and stream."""
        return {(g.camera, g.stream): g.group for g in self.groups if not g.given and not g.relayed}


def ethernet_address(group: str) -> str:
    """The Ethernet address of a group (RFC 1112 section 6.4): 32 groups share each."""
    low = int(IPv4Address(group)) & _ETHERNET_BITS
    return ":".join(f"{byte:02x}" for byte in (0x01, 0x00, 0x5E, low >> 16, low >> 8 & 255, low & 255))


def plan_multicast(plan: Plan) -> MulticastPlan:
    """Groups for all streams that a multicast viewer watches; empty where there is none."""
    watched = [flow for flow in flows(plan) if flow.multicast]
    groups, homeless = _groups(plan, watched)
    ways = Ways(plan, lit_network(plan))
    links = _links(plan, [flow for flow in watched if flow.sender[0]], ways)
    zones = tuple(_zones(plan, watched))
    ports = [f"{v.switch}:{v.port}" for v in plan.viewers if v.multicast]
    findings = [*_group_findings(plan, groups), *_zone_findings(plan, zones), *_copy_findings(plan, watched)]
    if homeless:
        source, measured = "site.toml [policy] multicast_block", f"no group for {', '.join(homeless[:8])}"
        findings.append(finding("MCT-6", f"block {plan.policy.multicast_block}", measured, "a group each", source))
    return MulticastPlan(groups, zones, links, tuple(ports), tuple(findings))


def _groups(plan: Plan, watched: list[Flow]) -> tuple[tuple[StreamGroup, ...], list[str]]:
    """The groups, and the streams that found none."""
    homeless: list[str] = []
    offsets = channel_offsets(plan)
    given = {(c.name, s): str(g) for c in plan.cameras for s in ("main", "sub") if (g := getattr(c, f"multicast_{s}"))}
    taken = {(plan.zone(plan.camera(name).zone).family, ethernet_address(g)) for (name, _), g in given.items()}
    used = set(given.values())
    found: dict[tuple[str, str, str], StreamGroup] = {}
    for flow in watched:
        key = (flow.camera.name, flow.stream)
        own = None if flow.relayed else given.get(key)  # what a recorder sends on is a stream of its own
        listeners = tuple(
            v.name for v in plan.viewers if v.multicast and any((v.switch, v.port) == at for at, _ in flow.receivers)
        )
        number = 2 * (offsets[flow.camera.recorder] + flow.camera.channel - 1) + (flow.stream == "sub")
        group = own or _choose(plan, flow.sender_zone, number, taken, used)
        if group is None:
            homeless.append(f"{flow.camera.name} {flow.stream}")
            continue
        taken.add((plan.zone(flow.sender_zone).family, ethernet_address(group)))
        used.add(group)
        routed = any(brought(plan, flow.sender_zone, zone) == "routed" for _, zone in flow.receivers)
        port = _udp_port(number if own is None else int(IPv4Address(group)) - _scheme_start(plan, flow.sender_zone))
        found[(*key, flow.sender_zone)] = StreamGroup(
            *key, flow.sender_zone, group, ethernet_address(group), port,
            2 if routed else 1, flow.plan.most_bps * OVERHEAD, listeners, own is not None, flow.relayed,
        )  # fmt: skip
    return tuple(found.values()), homeless


def brought(plan: Plan, origin: str, to: str) -> str:
    """How groups come from zone to zone: at once, copied by a switch, or routed between two gateways; empty where nobody brings
    them.
    """
    if same_network(plan, origin, to):
        return "at once"
    if any(s.copies_multicast for s in plan.switches):
        return "copied"
    gateways = [plan.zone(plan.zone(name).family).gateway for name in (origin, to)]
    return "routed" if all(gateways) and any(s.routes for s in plan.switches) else ""


def _udp_port(number: int) -> int:
    """Follows from the stream's number, or from a given group, so that it stays: one for each of a zone's groups."""
    return FIRST_PORT + 2 * (number % 65536 % _PORTS)


def _scheme_start(plan: Plan, zone: str) -> int:
    return (plan.zone(zone).vlan % 256) * 256 + 1


def _choose(plan: Plan, zone: str, number: int, taken: set[tuple[str, str]], used: set[str]) -> str | None:
    """The group of the scheme, BLOCK.VLAN.NUMBER. Where that is taken, or the number too large for it, one of those that belong
    to no zone's VLAN, so that nobody else has to move.
    """
    for group in _places(plan, zone, number):
        low = int(group) & _ETHERNET_BITS
        free = str(group) not in used and (plan.zone(zone).family, ethernet_address(str(group))) not in taken
        if low >= _ALWAYS_FLOODED and free:
            return str(group)
    return None


def _places(plan: Plan, zone: str, number: int) -> Iterator[IPv4Address]:
    block = plan.policy.multicast_block
    first, size = block.network_address, block.num_addresses
    start = _scheme_start(plan, zone) + number
    if size >= 65536:
        page, host = divmod(number, 255)
        if page == 0:
            yield first + start
        used = {z.vlan % 256 for z in plan.zones}
        rest = [octet for octet in range(255, -1, -1) if octet not in used]
        own = [z.name for z in plan.zones].index(zone) + page * len(plan.zones)
        yield from (first + rest[own % len(rest)] * 256 + 1 + host for _ in rest[:1])
        yield from (first + octet * 256 + last for octet in rest for last in range(1, 256))
    yield from (first + (start + step) % size for step in range(size))


def _links(plan: Plan, watched: list[Flow], ways: Ways) -> tuple[MulticastLink, ...]:
    snooped: dict[int, float] = {}
    flooded: dict[int, float] = {}
    carried = zone_links(plan)
    trunks = {index: trunk for trunk in trunks_of(plan) for index in trunk}
    rates = link_rates_bps(plan)
    for flow in at_once(watched):
        load = flow.plan.most_bps * OVERHEAD
        hops = {index for index, _ in ways.hops(way for _, way in ways.reached(flow))}
        zones = {flow.sender_zone, *(zone for _, zone in flow.receivers)}
        everywhere = hops | {trunks[i][0] for z in zones for i in carried[plan.zone(z).family] | carried[z]}
        for index in hops:
            snooped[index] = snooped.get(index, 0.0) + load
        for index in everywhere:
            flooded[index] = flooded.get(index, 0.0) + load
    return tuple(
        MulticastLink(trunk_name(plan, trunks[i]), sum(rates[m] for m in trunks[i]), snooped.get(i, 0.0), load)
        for i, load in sorted(flooded.items())
    )


def _zones(plan: Plan, watched: list[Flow]) -> Iterator[MulticastZone]:
    at = zone_switches(plan)
    load: dict[str, float] = {}
    for flow in at_once(watched):
        for name in {flow.sender_zone, *(zone for _, zone in flow.receivers)}:
            load[name] = load.get(name, 0.0) + flow.plan.most_bps * OVERHEAD
    passing = _switches_passing(plan, watched)
    for zone in plan.zones:
        if zone.name not in load:
            continue
        querier = zone.querier or zone_root(plan, zone.name, at) or ""
        on_path = tuple(s.name for s in plan.switches if s.name in passing[zone.name])
        missing = tuple(name for name in on_path if not plan.switch(name).snooping)
        yield MulticastZone(zone.name, querier, zone.querier is None, on_path, missing, load[zone.name])


def _switches_passing(plan: Plan, watched: list[Flow]) -> Mapping[str, set[str]]:
    """For each zone the switches that its groups pass: where its devices are, and those on the ways between."""
    passing: dict[str, set[str]] = {name: set(switches) for name, switches in zone_switches(plan).items()}
    for zone, links in zone_links(plan).items():
        passing[zone] |= {switch for index in links for switch, _ in plan.links[index].ends()}
    crossing = crossing_switch(plan, multicast=True)
    for flow in watched:
        for _, zone in flow.receivers:
            if crossing is not None and not same_network(plan, flow.sender_zone, zone):
                passing[zone].add(crossing)
    return passing


def _group_findings(plan: Plan, groups: tuple[StreamGroup, ...]) -> Iterator[Finding]:
    first: dict[tuple[str, str], StreamGroup] = {}
    for group in groups:
        subject, source = f"camera {group.camera}, {group.stream} stream", plan.camera(group.camera).where
        other = first.setdefault((plan.zone(group.zone).family, group.ethernet), group)
        if other is not group:
            measured = f"{group.group} and {other.group} of {other.camera} are both {group.ethernet}"
            yield finding("MCT-1", subject, measured, "an Ethernet address of its own", "RFC 1112 section 6.4")
        flooded = int(IPv4Address(group.group)) & _ETHERNET_BITS < _ALWAYS_FLOODED
        if IPv4Address(group.group) not in _SCOPED or flooded:
            why = ", which switches always flood" if flooded else ""
            limit = f"a group of {_SCOPED}, such as one of {plan.policy.multicast_block}"
            yield finding("MCT-2", subject, f"{group.group}{why}", limit, f"{source}; RFC 2365")


def _zone_findings(plan: Plan, zones: tuple[MulticastZone, ...]) -> Iterator[Finding]:
    for zone in zones:
        subject = f"zone {zone.zone}"
        if zone.snooping_missing:
            measured = (
                f"off on {', '.join(zone.snooping_missing)}: {quantities.bitrate(zone.flooded_port_bps)} on every port"
            )
            yield finding(
                "MCT-3", subject, measured, "snooping on every switch of the path", "RFC 4541; site.toml snooping"
            )
        if not zone.proposed and zone.querier not in zone.snooping_on:
            measured, source = f"querier on {zone.querier}", f"site.toml zone {zone.zone}"
            yield finding("MCT-5", subject, measured, f"one of {', '.join(zone.snooping_on)}", source)


def _copy_findings(plan: Plan, watched: list[Flow]) -> Iterator[Finding]:
    """Viewers in another zone, and no switch that copies or routes the groups there."""
    apart = {(flow.sender_zone, zone) for flow in watched for _, zone in flow.receivers
             if not brought(plan, flow.sender_zone, zone)}  # fmt: skip
    for origin, zone in sorted(apart):
        names = ", ".join(v.name for v in plan.viewers if v.multicast and v.zone == zone)
        limit = "a switch with copies_multicast, or one that routes between their gateways"
        yield finding(
            "MCT-4",
            f"viewers in {zone}",
            f"nothing brings groups from {origin} to {names}",
            limit,
            "site.toml [[switches]]",
        )
