"""What the failure of parts costs: the network without them, asked again, or worked out the short way where only a tail
is gone.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import networkx as nx

from zentrale.planning.flows import Flow, Hop, Ways, flows
from zentrale.planning.power import PowerPlan
from zentrale.planning.topology import link_rates_bps, lit_network, taken_away, trunk_name
from zentrale.planning.traffic import OVERHEAD
from zentrale.site.model import Mode, Plan
from zentrale.site.part import MODES


@dataclass(frozen=True)
class Part:
    """Something that can fail. `kind` is switch, link, supply or recorder."""

    kind: str
    name: str

    def __str__(self) -> str:
        return f"{self.kind} {self.name}"


@dataclass(frozen=True)
class Failure:
    """What the failure of `parts` costs.

    lost:         cameras no longer recorded, that were before
    parted_zones: zones whose devices no longer all reach one another
    worst_link:   the fullest link after the detour; worst_share its share of line rate
    """

    parts: tuple[Part, ...]
    lost: tuple[str, ...]
    parted_zones: tuple[str, ...]
    worst_link: str = ""
    worst_share: float = 0.0

    @property
    def name(self) -> str:
        return " and ".join(str(part) for part in self.parts)


@dataclass(frozen=True)
class _Demand:
    """Flows that go the same way: one of them, what they carry together [bit/s], the cameras of which it is the stream
    that is recorded, and the recorder that takes it in or sends it on.
    """

    flow: Flow
    load_bps: float
    recorded: tuple[str, ...]
    recorder: str | None


class Network:
    """The plan's network, from which parts can be taken away. It carries all that `plan traffic` counts."""

    def __init__(self, plan: Plan, power: PowerPlan) -> None:
        self.plan = plan
        self.graph = lit_network(plan)
        self.dark = {
            s.name: _dark_one_supply(s.dark_one_supply) for s in power.switches if any(s.dark_one_supply.values())
        }
        self.cameras_of: dict[str, list[str]] = {}
        for camera in plan.cameras:
            self.cameras_of.setdefault(camera.recorder, []).append(camera.name)
        self.zone_switches: dict[str, set[str]] = {}
        places = [*((c.zone, c.switch) for c in plan.networked), *((r.zone, r.switch) for r in plan.recorders)]
        for zone, switch in places:
            self.zone_switches.setdefault(zone, set()).add(switch)
        self._place_before = self._places()
        self._link_rates = link_rates_bps(plan)
        self._demands, self._network = _demands(plan), Ways(plan, self.graph)
        self._ways_before = self._ways()
        # Cameras without a path as things stand: no failure costs them.
        self._cut_off = self._unrecorded(self._ways_before)
        shares = self._shares(self._loads(self._ways_before))
        self._fullest_first = sorted(shares.items(), key=lambda item: -item[1])
        self._names = {edge["link"]: trunk_name(plan, edge["members"]) for _, _, edge in self.graph.edges(data=True)}
        self._passing: dict[str, list[int]] = {}  # each switch's demands, by number
        for number, ways in enumerate(self._ways_before):
            for switch in {switch for way in ways for switch in way}:
                self._passing.setdefault(switch, []).append(number)
        self._zones_at: dict[str, list[str]] = {}
        for zone, switches in self.zone_switches.items():
            for switch in switches:
                self._zones_at.setdefault(switch, []).append(zone)
        self._index = {f"{link.a} - {link.b}": index for index, link in enumerate(plan.links)}
        self.parts = [
            *(Part("switch", s.name) for s in plan.switches),
            *(Part("link", f"{link.a} - {link.b}") for link in plan.links if link.lit),
            *(Part("supply", name) for name in self.dark),
            *(Part("recorder", r.name) for r in plan.recorders),
        ]

    def fail(self, parts: tuple[Part, ...]) -> Failure:
        """What it costs when these parts fail at once."""
        if len(parts) == 1:
            (part,) = parts
            if part.kind in ("supply", "recorder"):  # the network stays as it is
                link, share = (
                    self._normal_worst() if part.kind == "supply" else self._worst(self._left(parts, self._ways_before))
                )
                return Failure(parts, tuple(sorted(self._lost(parts, self._cut_off))), (), link, share)
            tail = self._tail(part)
            if tail is not None:
                return self._lose_tail(parts, tail)
        return self.fail_by_search(parts)

    def fail_by_search(self, parts: tuple[Part, ...]) -> Failure:
        """The same for any parts, by asking the whole network again."""
        switches = [part.name for part in parts if part.kind == "switch"]
        links = [self._index[part.name] for part in parts if part.kind == "link"]
        with taken_away(self.plan, self.graph, switches, links):
            ways = self._ways()
            lost = self._lost(parts, self._unrecorded(ways))
            parted = self._parted(self._places())
            link, share = self._worst(self._left(parts, ways))
        return Failure(parts, tuple(sorted(lost)), parted, link, share)

    def _left(self, parts: Sequence[Part], ways: Sequence[Sequence[list[str]]]) -> list[Sequence[list[str]]]:
        """The ways without those of streams that a failed recorder asked for or sent on."""
        gone = {part.name for part in parts if part.kind == "recorder"}
        return [() if d.recorder in gone else found for d, found in zip(self._demands, ways, strict=True)]

    def _worst(self, ways: Sequence[Sequence[list[str]]]) -> tuple[str, float]:
        """The fullest trunk as the network is now, and its share of line rate."""
        shares = self._shares(self._loads(ways))
        worst = max(shares.items(), key=lambda item: item[1], default=None)
        return ("", 0.0) if worst is None else (self._trunk_name(worst[0][0]), worst[1])

    def _tail(self, part: Part) -> str | None:
        """The one switch that is gone with `part`, where it hangs on one link and nothing is recorded there. Most switches
        of a site are such tails; their failure is worked out without asking the whole network.
        """
        if part.kind == "switch":
            ends = [part.name]
        else:
            near, far = self.plan.links[self._index[part.name]].switches()
            edge = self.graph.edges[near, far]
            if edge["spares"] or edge["members"] != (self._index[part.name],):
                return None
            ends = [near, far]
        recording = {recorder.switch for recorder in self.plan.recorders}
        tails = [end for end in ends if self.graph.degree[end] == 1 and end not in recording]
        return tails[0] if tails else None

    def _lose_tail(self, parts: tuple[Part, ...], tail: str) -> Failure:
        lost: set[str] = set()
        missing: dict[Hop, float] = {}
        for number in self._passing.get(tail, ()):
            demand, before = self._demands[number], self._ways_before[number]
            # What begins and ends on a switch stays where only its link is gone.
            left = [w for w in before if tail not in w or (parts[0].kind == "link" and w == [tail])]
            if not left:
                lost.update(demand.recorded)
            gone = self._network.hops(before) - self._network.hops(left)
            for direction in gone:
                missing[direction] = missing.get(direction, 0.0) + demand.load_bps
        island = self._place_before[tail]
        parted = []
        if parts[0].kind == "link":
            parted = [
                zone
                for zone in self._zones_at.get(tail, ())
                if any(s != tail and self._place_before[s] == island for s in self.zone_switches[zone])
            ]
        # What does not pass there flows as before.
        worst, share = "", 0.0
        for direction, before_share in self._fullest_first:
            if before_share <= share:
                break
            left_share = before_share - missing.get(direction, 0.0) / self._rate(direction)
            # What is left of a link that carried nothing else is rounding.
            if left_share > max(share, 1e-12):
                worst, share = self._names[direction[0]], left_share
        return Failure(parts, tuple(sorted(lost - self._cut_off)), tuple(parted), worst, share)

    def _normal_worst(self) -> tuple[str, float]:
        if not self._fullest_first:
            return "", 0.0
        (index, _), share = self._fullest_first[0]
        return self._names[index], share

    def _places(self) -> dict[str, int]:
        """Each switch's island, by a number."""
        return {switch: n for n, island in enumerate(nx.connected_components(self.graph)) for switch in island}

    def _ways(self) -> list[list[list[str]]]:
        """For each demand its ways to the receivers that it reaches."""
        ways = Ways(self.plan, self.graph)
        return [[way for _, way in ways.reached(demand.flow)] for demand in self._demands]

    def _unrecorded(self, ways: Sequence[Sequence[list[str]]]) -> set[str]:
        return {
            name for demand, found in zip(self._demands, ways, strict=True) if not found for name in demand.recorded
        }

    def _lost(self, parts: Sequence[Part], unrecorded: set[str]) -> set[str]:
        lost = set(unrecorded)
        for part in parts:
            if part.kind == "recorder":
                lost.update(self.cameras_of.get(part.name, ()))
            elif part.kind == "supply":
                lost.update(self.dark[part.name])
        return lost - self._cut_off

    def _parted(self, place: Mapping[str, int]) -> tuple[str, ...]:
        """Zones that held together before and do not now; devices on a failed switch do not count."""
        parted = []
        for zone, switches in self.zone_switches.items():
            left = [switch for switch in switches if switch in place]
            islands, before = {place[s] for s in left}, {self._place_before[s] for s in left}
            if len(islands) > max(1, len(before)):
                parted.append(zone)
        return tuple(parted)

    def _loads(self, ways: Sequence[Sequence[list[str]]]) -> dict[Hop, float]:
        """The load of each trunk [bit/s]; one flow crosses a trunk once, however many it is for."""
        loads: dict[Hop, float] = {}
        for demand, found in zip(self._demands, ways, strict=True):
            for direction in self._network.hops(found):
                loads[direction] = loads.get(direction, 0.0) + demand.load_bps
        return loads

    def _shares(self, loads: Mapping[Hop, float]) -> dict[Hop, float]:
        return {direction: load / self._rate(direction) for direction, load in loads.items()}

    def _edge(self, index: int) -> tuple[int, ...]:
        near, far = self.plan.links[index].switches()
        members: tuple[int, ...] = self.graph.edges[near, far]["members"]
        return members

    def _rate(self, direction: Hop) -> float:
        """What the trunk carries as the network is now [bit/s]."""
        return sum(self._link_rates[i] for i in self._edge(direction[0]))

    def _trunk_name(self, index: int) -> str:
        return trunk_name(self.plan, self._edge(index))


def _demands(plan: Plan) -> list[_Demand]:
    """All flows of the plan, those of one way together."""
    together: dict[tuple[object, ...], list[Flow]] = {}
    for flow in flows(plan):
        ends = frozenset((switch, zone) for (switch, _), zone in flow.receivers)
        recorder = flow.camera.recorder if flow.relayed or not flow.viewed else None
        key = (flow.sender[0], flow.sender_zone, ends, flow.multicast, recorder)
        together.setdefault(key, []).append(flow)
    found = []
    for (*_, owner), alike in together.items():
        names = () if alike[0].viewed else tuple(dict.fromkeys(f.camera.name for f in alike))
        load = OVERHEAD * sum(f.plan.most_bps for f in alike)
        found.append(_Demand(alike[0], load, names, owner if isinstance(owner, str) else None))
    return found


def _dark_one_supply(dark: Mapping[Mode, tuple[str, ...]]) -> tuple[str, ...]:
    """The cameras that go dark in the worst mode."""
    return max((dark[mode] for mode in MODES), key=len)
