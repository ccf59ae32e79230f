"""Which line, wire or device makes packets go otherwise than planned: lines that differ from the plan first, then the plan
itself.
"""

from __future__ import annotations

import ipaddress
from collections.abc import Iterator
from dataclasses import dataclass
from functools import cached_property
from itertools import pairwise

import networkx as nx

from zentrale import quantities
from zentrale.jobs.network.rehearsal.deviations import ALL, Deviation
from zentrale.jobs.network.rehearsal.lines import About, about, fits
from zentrale.jobs.network.rehearsal.stage import WAN, Place, Stage
from zentrale.jobs.network.rehearsal.trial import OTHER_LEG, THROUGH, Differing
from zentrale.output.network import names
from zentrale.planning.ports import PortRow
from zentrale.planning.topology import lit_network, paths_from
from zentrale.site.model import INTERNET

_AS_PLANNED = "make the line as planned, or change the plan; then `zentrale network write`, and rehearse again"
_SURE = 60  # of a hundred: so much fits that nothing else is looked for


@dataclass(frozen=True)
class Cause:
    """`subject` is the wire, device or rule as a person finds it; `what` is the matter with it; `at` the file and line;
    `advice` where another is better than what the finding's code has.
    """

    subject: str
    what: str
    at: str = ""
    advice: str = ""


class Causes:
    """`lines` are those in which the files that stand differ from the plan."""

    def __init__(self, stage: Stage, lines: list[Deviation]) -> None:
        self._stage = stage
        self._plan = stage.net.plan
        self._lines = [(line, about(line, stage.net)) for line in lines]
        self._seen: set[Deviation] = set()
        self.silent_gateways: dict[str, Cause] = {}  # by zone, those that answered nobody

    def of(self, item: Differing) -> Cause:
        """What the plan itself says where nothing else is to be seen."""
        places = self._stage.places[item.origin], self._stage.places[item.to]
        if (silent := self._silent_gateway(item, places)) is not None:
            return silent
        path = self._path(*places)
        scored = [(self._score(line, known, item, places, path), line, known) for line, known in self._lines]
        best = max(scored, key=lambda s: s[0], default=None)
        if best is not None and best[0] >= _SURE:
            return self.blame(best[1], best[2])
        for device in self._devices(item, *places):
            return device
        if best is not None and best[0] > 0:
            return self.blame(best[1], best[2])
        return Cause(f"{places[0].party} to {places[1].party}", item.planned)

    def blame(self, line: Deviation, known: About) -> Cause:
        """Together with the other lines of its file that are of the same matter."""
        same = [
            other
            for other, a in self._lines
            if other.file == line.file and (_one_matter(known, a) or _moved(line, other))
        ]
        self._seen |= {line, *same}
        moved = next((other for other in same if _moved(line, other)), None)
        if moved is not None:
            stands, planned = (line, moved) if line.stands else (moved, line)
            what = f"{stands.at} stands out of its order, planned at line {planned.line}: {stands.text}"
            return Cause(known.subject, what, stands.at, _AS_PLANNED)
        if known.kind != "flow":
            return Cause(known.subject, f"{line.at} {line.in_words}", line.at, _AS_PLANNED)
        first = min([line, *same], key=lambda x: x.line)
        more = [str(x.line) for x in same if x != first]
        others = f"; so do lines {quantities.listed(more, 6)}" if more else ""
        return Cause(known.subject, f"{first.at} {first.in_words}{others}", first.at, _AS_PLANNED)

    def about_file(self, file: str, *words: str) -> Cause | None:
        """A line of this file that says one of these words, differently from the plan; with no words any line."""
        for line, known in self._lines:
            if line.file == file and (not words or any(w in text for w in words for text in line.texts())):
                return self.blame(line, known)
        return None

    def at_port(self, switch: str, port: int) -> Cause | None:
        """What the switch was told of the port, else what a table says of it."""
        for kind in ("port", "table"):
            for line, known in self._lines:
                if known.kind == kind and known.switch == switch and port in known.ports:
                    return self.blame(line, known)
        return None

    def leg(self, vlan: int) -> Cause | None:
        """A line about the router's leg in this VLAN."""
        for line, known in self._lines:
            if known.kind == "leg" and vlan in known.vlans:
                return self.blame(line, known)
        return None

    def group(self, group: str) -> Cause | None:
        for line, known in self._lines:
            if group in known.groups:
                return self.blame(line, known)
        return None

    def unseen(self) -> list[Deviation]:
        """Lines that differ, and of which nothing was seen."""
        return [line for line, _ in self._lines if line not in self._seen]

    # How well a line fits what was seen

    def _score(
        self, line: Deviation, known: About, item: Differing, places: tuple[Place, Place], path: list[tuple[str, int]]
    ) -> int:
        ends = [(p.switch, p.port) for p in places]
        zones = [p.party.zone for p in places]
        inside = [self._plan.zone(z) for z in zones if z != INTERNET]
        vlans = {z.vlan for z in inside} | {self._plan.zone(z.family).vlan for z in inside}
        routed = len({self._plan.zone(z).family if z != INTERNET else z for z in zones}) > 1
        through = item.kind.startswith(THROUGH)
        on_path = known.switch in {s for s, _ in path}
        if known.kind == "port":
            at = {(known.switch, p) for p in known.ports}
            if at & set(ends):
                return 100
            fitting = not known.vlans or bool(known.vlans & vlans)
            return 80 if at & set(path) and fitting else 12 if fitting and not item.came and self._has_ring else 0
        if known.kind == "leg":
            return 85 if routed and not through and known.vlans & vlans else 0
        if known.kind == "page":
            return 95 if known.name in (item.origin.station, item.to.station) else 0
        if known.kind == "flow":
            if known.groups or (known.vlans and not known.vlans & vlans):
                return 0
            if not on_path and not item.came:
                return 0
            decides, other = (ends[1], ends[0]) if item.came else ends  # where it is let out, or where it is taken in
            for end, score in ((decides, 78), (other, 75)):
                if known.switch == end[0] and end[1] in known.ports:
                    return score
            return 62
        if known.kind == "rule":
            return self._rule_score(line, item, places) if routed and not through else 0
        if known.kind == "recorder":
            own = known.name in (item.origin.station, item.to.station)
            own_leg = own or item.kind != OTHER_LEG
            return 95 if item.kind in (f"{THROUGH}{known.name}", OTHER_LEG) and own_leg else 50 if own else 0
        return 8 if known.kind == "switch" and on_path else 0

    def _rule_score(self, line: Deviation, item: Differing, places: tuple[Place, Place]) -> int:
        service = item.service
        if service is None or line.planned == ALL:
            return 0 if service is None else 61
        enters, leaves = (self._leg(p) for p in places)
        lets, kept = [t for t in line.texts() if "accept" in t], [t for t in line.texts() if "drop" in t]
        if any("established" in t for t in lets):
            return 0 if item.came else 75
        if any("policy" in t for t in line.texts()):
            return 61 if item.came else 0
        guilty = [line.stands if item.came else line.planned] + ([line.planned] if item.came else [line.stands])
        wanted = [t for t in guilty if t and t in (lets if (t == line.stands) == item.came else kept)]
        return 90 if any(fits(t, enters, leaves, item.origin.address, item.to.address, *service) for t in wanted) else 0

    def _leg(self, place: Place) -> str:
        if place.party.zone == INTERNET:
            return WAN
        return names.vlan(self._plan.zone(self._plan.zone(place.party.zone).family).vlan)

    def _path(self, origin: Place, to: Place) -> list[tuple[str, int]]:
        """Ports of links between switches on the way, at both ends; by way of the router from network to network."""
        router = self._stage.net.router()
        zones = [p.party.zone for p in (origin, to)]
        same = INTERNET not in zones and len({self._plan.zone(z).family for z in zones}) == 1
        stops = [origin.switch, *([] if same or router is None else [router.name]), to.switch]
        found: list[tuple[str, int]] = [(s, 0) for s in stops]
        for a, b in pairwise(stops):
            way = paths_from(self._graph, a).get(b, []) if a in self._graph else []
            for near, far in pairwise(way):
                for index in self._graph.edges[near, far]["members"]:
                    found += self._plan.links[index].ends()
        return found

    @cached_property
    def _graph(self) -> nx.Graph[str]:
        return lit_network(self._plan)

    @cached_property
    def _has_ring(self) -> bool:
        """So that packets may go another way than the shortest."""
        return bool(nx.cycle_basis(self._graph))

    # Where the files are as planned

    def _devices(self, item: Differing, *places: Place) -> Iterator[Cause]:
        for leg, place in zip((item.origin, item.to), places, strict=True):
            if place.port and (row := self._row(place)) is not None and row.mode == "off":
                yield Cause(f"port {place.switch}:{place.port} ({leg.station})", "is off")
        for leg, place in zip((item.origin, item.to), places, strict=True):
            if place.party.zone == INTERNET:
                continue
            subnet = self._plan.zone(place.party.zone).subnet
            if not item.came and ipaddress.IPv4Address(leg.address) not in subnet:
                at = next((c.where for c in self._plan.cameras if c.name == leg.station), "")
                advice = f"give it an address of {subnet}{f' in {at}' if at else ''}, then `zentrale network write`"
                what = f"its address {leg.address} lies outside of {subnet}"
                yield Cause(f"{place.party.kind} {leg.station}", what, at, advice)
            others = [x.station for x in self._stage.legs if x.address == leg.address and x.station != leg.station]
            if others:
                yield Cause(f"address {leg.address}", " and ".join(sorted({leg.station, *others})))

    def _row(self, place: Place) -> PortRow | None:
        return next((r for r in self._stage.net.ports.of(place.switch) if r.port == place.port), None)

    def _silent_gateway(self, item: Differing, places: tuple[Place, Place]) -> Cause | None:
        zones = [p.party.zone for p in places]
        if item.came or item.service is None or zones[0] == INTERNET:
            return None
        family = self._plan.zone(zones[0]).family
        routed = zones[1] == INTERNET or self._plan.zone(zones[1]).family != family
        return self.silent_gateways.get(family) if routed else None

    def second_ways(self) -> list[Cause]:
        """Where frames may go round in circles: ports that the plan has not, a spanning tree that is off, planned rings."""
        found = [
            self.blame(line, known)
            for line, known in self._lines
            if (known.kind == "port" and not line.planned) or "rstp_enable" in line.stands + line.planned
        ]
        ports = [cause for cause in found if cause.subject.startswith("port ")]
        if found:
            return ports or found
        rings = nx.cycle_basis(nx.Graph([link.switches() for link in self._plan.links if link.lit]))
        return [
            Cause(f"ring {' - '.join(ring)}", f"no spanning tree on {', '.join(bare)}")
            for ring in rings
            if (bare := [s for s in ring if not self._stage.net.spans(s)])
        ]


def _one_matter(a: About, b: About) -> bool:
    """Rules of one switch go together, and with the port that they are about."""
    if a.kind == b.kind == "querier":
        return True
    if a.kind == b.kind == "flow":
        return a.switch == b.switch and not b.groups
    return a.kind == "port" and b.kind == "flow" and a.switch == b.switch and bool(a.ports & b.ports)


def _moved(a: Deviation, b: Deviation) -> bool:
    """Whether the one lacks what the other has too much."""
    return a != b and (a.stands, a.planned) == (b.planned, b.stands)
