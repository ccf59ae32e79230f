"""What the failure of parts costs: the network without them, asked again, or worked out the short way where only a tail
is gone.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import networkx as nx

from zentrale.planning.flows import recorded_bps
from zentrale.planning.power import PowerPlan
from zentrale.planning.topology import lit_network, loads_towards, steps_from, taken_away
from zentrale.planning.traffic import OVERHEAD
from zentrale.site.model import Mode, Plan


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


class Network:
    """The plan's network, from which parts can be taken away."""

    def __init__(self, plan: Plan, power: PowerPlan) -> None:
        self.plan = plan
        self.graph = lit_network(plan)
        self.dark = {
            s.switch: _dark_one_supply(s.dark_one_supply) for s in power.switches if any(s.dark_one_supply.values())
        }
        self.recorder_switch = {r.name: r.switch for r in plan.recorders}
        self.cameras_at: dict[tuple[str, str], list[str]] = {}
        for camera in plan.cameras:
            self.cameras_at.setdefault((camera.switch, camera.recorder), []).append(camera.name)
        self.zone_switches: dict[str, set[str]] = {}
        places = [*((c.zone, c.switch) for c in plan.cameras), *((r.zone, r.switch) for r in plan.recorders)]
        for zone, switch in places:
            self.zone_switches.setdefault(zone, set()).add(switch)
        links = [Part("link", f"{link.a} - {link.b}") for link in plan.links if link.lit]
        self._place_before = self._places()
        # Cameras without a path as things stand: no failure costs them.
        self._cut_off: set[str] = set()
        self._cut_off = self._lost((), self._place_before)
        # What each switch sends to each recorder's switch [bit/s].
        self._flows: dict[str, dict[str, float]] = {}
        for camera in plan.cameras:
            flows = self._flows.setdefault(self.recorder_switch[camera.recorder], {})
            flows[camera.switch] = flows.get(camera.switch, 0.0) + recorded_bps(plan, camera) * OVERHEAD
        self._roots = set(self.recorder_switch.values())
        # For each recorder's switch: from every other the next one on its way there.
        self._towards = {
            root: {far: near for near, far in steps_from(self.graph, root)}
            for root in self._flows
            if root in self.graph
        }
        rates = [link.rate_mbps * 1e6 for link in plan.links]
        shares = [(direction, load / rates[direction[0]]) for direction, load in self._loads().items()]
        self._fullest_first = sorted(shares, key=lambda item: -item[1])
        self._zones_at: dict[str, list[str]] = {}
        for zone, switches in self.zone_switches.items():
            for switch in switches:
                self._zones_at.setdefault(switch, []).append(zone)
        self._index = {f"{link.a} - {link.b}": index for index, link in enumerate(plan.links)}
        self.parts = [
            *(Part("switch", s.name) for s in plan.switches),
            *links,
            *(Part("supply", name) for name in self.dark),
            *(Part("recorder", r.name) for r in plan.recorders),
        ]

    def fail(self, parts: tuple[Part, ...]) -> Failure:
        """What it costs when these parts fail at once."""
        if len(parts) == 1:
            (part,) = parts
            if part.kind in ("supply", "recorder"):  # the network stays as it is
                link, share = self._normal_worst()
                return Failure(parts, tuple(sorted(self._lost(parts, self._place_before))), (), link, share)
            tail = self._tail(part)
            if tail is not None:
                return self._lose_tail(parts, tail)
        return self.fail_by_search(parts)

    def fail_by_search(self, parts: tuple[Part, ...]) -> Failure:
        """The same for any parts, by asking the whole network again."""
        switches = [part.name for part in parts if part.kind == "switch"]
        links = [self._index[part.name] for part in parts if part.kind == "link"]
        with taken_away(self.plan, self.graph, switches, links):
            place = self._places()
            lost = self._lost(parts, place)
            parted = self._parted(place)
            link, share = self._worst_link(self._loads())
        return Failure(parts, tuple(sorted(lost)), parted, link, share)

    def _tail(self, part: Part) -> str | None:
        """The one switch that is gone with `part`, where it hangs on one link and holds no recorder. Most switches of a
        site are such tails; their failure is worked out without asking the whole network.
        """
        if part.kind == "switch":
            ends = [part.name]
        else:
            link = self.plan.links[self._index[part.name]]
            ends = [switch for switch, _ in link.ends()]
            edge = self.graph.edges[ends[0], ends[1]]
            if edge["spares"] or edge["link"] != self._index[part.name]:
                return None
        tails = [end for end in ends if self.graph.degree[end] == 1 and end not in self._roots]
        return tails[0] if tails else None

    def _lose_tail(self, parts: tuple[Part, ...], tail: str) -> Failure:
        hanging = {name for recorder in self.recorder_switch for name in self.cameras_at.get((tail, recorder), ())}
        lost = sorted(hanging - self._cut_off)
        island = self._place_before[tail]
        parted = []
        if parts[0].kind == "link":
            parted = [
                zone
                for zone in self._zones_at.get(tail, ())
                if any(s != tail and self._place_before[s] == island for s in self.zone_switches[zone])
            ]
        # Its own streams are missing on their way; all else flows as before.
        missing: dict[tuple[int, str], float] = {}
        for root, flows in self._flows.items():
            flow, at = flows.get(tail, 0.0), tail
            while flow and at in self._towards[root]:
                near = self._towards[root][at]
                direction = (self.graph.edges[near, at]["link"], near)
                missing[direction] = missing.get(direction, 0.0) + flow
                at = near
        links = self.plan.links
        worst, share = "", 0.0
        for direction, before in self._fullest_first:
            if before <= share:
                break
            link = links[direction[0]]
            rate = link.rate_mbps * 1e6
            left = before - missing.get(direction, 0.0) / rate
            # What is left of a link that carried nothing else is rounding.
            if left > max(share, 1e-12) and not (parts[0].kind == "link" and parts[0].name == f"{link.a} - {link.b}"):
                worst, share = f"{link.a} - {link.b}", left
        return Failure(parts, tuple(lost), tuple(parted), worst, share)

    def _normal_worst(self) -> tuple[str, float]:
        if not self._fullest_first:
            return "", 0.0
        (index, _), share = self._fullest_first[0]
        link = self.plan.links[index]
        return f"{link.a} - {link.b}", share

    def _places(self) -> dict[str, int]:
        """Each switch's island, by a number."""
        return {switch: n for n, island in enumerate(nx.connected_components(self.graph)) for switch in island}

    def _lost(self, parts: Sequence[Part], place: Mapping[str, int]) -> set[str]:
        gone = {part.name for part in parts if part.kind == "recorder"}
        lost = {name for part in parts if part.kind == "supply" for name in self.dark[part.name]}
        for (switch, recorder), names in self.cameras_at.items():
            home = place.get(self.recorder_switch[recorder])
            if recorder in gone or home is None or place.get(switch) != home:
                lost.update(names)
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

    def _loads(self) -> dict[tuple[int, str], float]:
        """The load of each link [bit/s], by its index and the end nearer to the recorder."""
        loads: dict[tuple[int, str], float] = {}
        for root, flows in self._flows.items():
            for direction, load in loads_towards(self.graph, root, flows).items():
                loads[direction] = loads.get(direction, 0.0) + load
        return loads

    def _worst_link(self, loads: Mapping[tuple[int, str], float]) -> tuple[str, float]:
        """The fullest link, and its share of line rate."""
        if not loads:
            return "", 0.0
        links = self.plan.links
        (index, _), load = max(loads.items(), key=lambda item: item[1] / links[item[0][0]].rate_mbps)
        return f"{links[index].a} - {links[index].b}", load / (links[index].rate_mbps * 1e6)


def _dark_one_supply(dark: Mapping[Mode, tuple[str, ...]]) -> tuple[str, ...]:
    """The cameras that go dark in the worst mode."""
    return max((dark[mode] for mode in Mode), key=len)
