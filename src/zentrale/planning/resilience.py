"""What is lost when one part fails, or two at once: cameras, zones parted, and what the detour does to the links.

Each switch, lit link, PoE supply of a pair, and recorder is taken away in turn, and the network is asked again.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from itertools import combinations

import networkx as nx

from zentrale import quantities
from zentrale.findings import Finding, finding
from zentrale.planning.power import PowerPlan
from zentrale.planning.topology import Graph, lit_network, remove_link
from zentrale.planning.traffic import link_loads
from zentrale.site.model import Camera, Mode, Plan


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

    lost:         cameras no longer recorded
    parted_zones: zones whose devices no longer all reach one another
    worst_link:   the fullest link after the detour, and its share of line rate; empty for pairs
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
class ResiliencePlan:
    """Single failures and pairs that cost anything, dearest first. `harmless` is the number of parts whose failure
    costs nothing. Pairs are listed only where they cost more than their two parts one by one.
    """

    singles: tuple[Failure, ...]
    pairs: tuple[Failure, ...]
    harmless: int
    findings: tuple[Finding, ...]


def plan_resilience(plan: Plan, power: PowerPlan, *, pairs: bool = False) -> ResiliencePlan:
    """Every single failure; every pair of failures where `pairs` is asked for."""
    network = _Network(plan, power)
    normal = network.worst_link(network.graph)
    singles = [network.fail((part,)) for part in network.parts]
    detours = {f.name: f for f in singles}
    costly = sorted((f for f in singles if f.lost or f.parted_zones), key=_cost)
    doubles = []
    if pairs:
        lost = {part: set(detours[str(part)].lost) for part in network.parts}
        for two in combinations(network.parts, 2):
            names = network.lost(two)
            if len(names) > len(lost[two[0]] | lost[two[1]]):
                doubles.append(Failure(two, tuple(sorted(names)), network.parted(two)))
    findings = [f for failure in singles for f in _findings(plan, failure, normal)]
    harmless = len(singles) - len(costly)
    return ResiliencePlan(tuple(costly), tuple(sorted(doubles, key=_cost)), harmless, tuple(findings))


def _cost(failure: Failure) -> tuple[int, int, str]:
    return (-len(failure.lost), -len(failure.parted_zones), failure.name)


class _Network:
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
        self._index = {f"{link.a} - {link.b}": index for index, link in enumerate(plan.links)}
        self.parts = [
            *(Part("switch", s.name) for s in plan.switches),
            *links,
            *(Part("supply", name) for name in self.dark),
            *(Part("recorder", r.name) for r in plan.recorders),
        ]

    def without(self, parts: Iterable[Part]) -> Graph:
        graph = self.graph.copy()
        for part in parts:
            if part.kind == "switch":
                graph.remove_node(part.name)
            elif part.kind == "link":
                remove_link(self.plan, graph, self._index[part.name])
        return graph

    def lost(self, parts: Sequence[Part], graph: Graph | None = None) -> set[str]:
        """Cameras that are not recorded any more."""
        graph = self.without(parts) if graph is None else graph
        place = {node: index for index, group in enumerate(nx.connected_components(graph)) for node in group}
        gone = {part.name for part in parts if part.kind == "recorder"}
        lost: set[str] = set()
        for (switch, recorder), names in self.cameras_at.items():
            home = place.get(self.recorder_switch[recorder])
            if recorder in gone or home is None or place.get(switch) != home:
                lost.update(names)
        for part in parts:
            if part.kind == "supply":
                lost.update(self.dark[part.name])
        return lost

    def parted(self, parts: Sequence[Part], graph: Graph | None = None) -> tuple[str, ...]:
        """Zones that held together before and do not now; devices on a failed switch do not count."""
        graph = self.without(parts) if graph is None else graph

        def groups(network: Graph, switches: set[str]) -> int:
            return sum(bool(group & switches) for group in nx.connected_components(network))

        parted = []
        for zone, switches in self.zone_switches.items():
            left = switches & set(graph)
            if groups(graph, left) > max(1, groups(self.graph, left)):
                parted.append(zone)
        return tuple(parted)

    def worst_link(self, graph: Graph) -> tuple[str, float]:
        loads, _ = link_loads(self.plan, graph)
        worst = max(loads, key=lambda load: load.share, default=None)
        return ("", 0.0) if worst is None else (worst.name, worst.share)

    def fail(self, parts: tuple[Part, ...]) -> Failure:
        graph = self.without(parts)
        changes_paths = any(part.kind in ("switch", "link") for part in parts)
        link, share = self.worst_link(graph) if changes_paths else ("", 0.0)
        return Failure(parts, tuple(sorted(self.lost(parts, graph))), self.parted(parts, graph), link, share)


def _dark_one_supply(dark: Mapping[Mode, tuple[str, ...]]) -> tuple[str, ...]:
    """The cameras that go dark in the worst mode."""
    return max((dark[mode] for mode in Mode), key=len)


def _findings(plan: Plan, failure: Failure, normal: tuple[str, float]) -> list[Finding]:
    """Cameras that must stay and do not; and a detour that overloads a link."""
    findings = []
    must_stay = [c for c in plan.cameras if c.group in plan.policy.resilient_groups]
    lost = [c for c in must_stay if c.name in failure.lost and not _own(c, failure)]
    if lost:
        names = ", ".join(c.name for c in lost)
        measured = f"its failure costs {quantities.count(len(lost), 'camera')} that must stay: {names}"
        findings.append(finding("RES-1", failure.name, measured, "none", "site.toml [policy] resilient_groups"))
    if failure.worst_share > 1 >= normal[1]:
        measured = f"the detour puts {100 * failure.worst_share:.0f} % on link {failure.worst_link}"
        findings.append(finding("RES-2", failure.name, measured, "100 % of line rate", "site.toml [[links]]"))
    return findings


def _own(camera: Camera, failure: Failure) -> bool:
    """A camera hangs on one cable to one switch: that it goes with its own switch is in the nature of it."""
    return all(part.kind in ("switch", "supply") and part.name == camera.switch for part in failure.parts)
