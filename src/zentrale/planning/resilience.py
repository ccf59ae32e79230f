"""What is lost when one part fails, or two at once: cameras, zones parted, and what the detour does to the links.

Each switch, lit link, PoE supply of a pair, and recorder is taken away in turn, and the network is asked again.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from itertools import combinations

import networkx as nx

from zentrale import quantities
from zentrale.findings import Finding, finding
from zentrale.planning.failures import Failure, Network
from zentrale.planning.power import PowerPlan
from zentrale.planning.topology import lit_network
from zentrale.site.model import Camera, Plan, Switch


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
    plan = plan.at_ports
    network = Network(plan, power)
    normal = network.fail(())
    singles = [network.fail((part,)) for part in network.parts]
    costly = sorted((f for f in singles if f.lost or f.parted_zones), key=_cost)
    doubles = []
    if pairs:
        lost = dict(zip(network.parts, (set(f.lost) for f in singles), strict=True))
        for two in combinations(network.parts, 2):
            failure = network.fail(two)
            if len(failure.lost) > len(lost[two[0]] | lost[two[1]]):
                doubles.append(failure)
    findings = [f for failure in singles for f in _findings(plan, failure, normal.worst_share)]
    findings += ring_findings(plan)
    harmless = len(singles) - len(costly)
    return ResiliencePlan(tuple(costly), tuple(sorted(doubles, key=_cost)), harmless, tuple(findings))


def _cost(failure: Failure) -> tuple[int, int, str]:
    return (-len(failure.lost), -len(failure.parted_zones), failure.name)


def _findings(plan: Plan, failure: Failure, normal_share: float) -> list[Finding]:
    """Cameras that must stay and do not; and a detour that overloads a link."""
    findings = []
    asked = plan.policy.resilient_groups
    lost = [c for name in failure.lost if asked and (c := plan.camera(name)).group in asked and not _own(c, failure)]
    if lost:
        names = ", ".join(c.name for c in lost)
        measured = f"its failure costs {quantities.count(len(lost), 'camera')} that must stay: {names}"
        findings.append(finding("RES-1", failure.name, measured, "none", "site.toml [policy] resilient_groups"))
    if failure.worst_share > 1 >= normal_share:
        measured = f"the detour puts {100 * failure.worst_share:.0f} % on link {failure.worst_link}"
        findings.append(finding("RES-2", failure.name, measured, "100 % of line rate", "site.toml [[links]]"))
    return findings


def ring_findings(plan: Plan) -> Iterator[Finding]:
    """Rings that nothing opens. Parallel links are one, unless they are one bundle."""
    for ring in rings(plan):
        if is_opened(ring):
            continue
        subject, limit = f"ring {', '.join(s.name for s in ring)}", "rstp or mstp on all, or ring on all"
        without = [s.name for s in ring if s.loop_protection == "none"]
        silent = [s.name for s in ring if s.loop_protection is None]
        source = "site.toml loop_protection"
        if without:
            yield finding("RES-3", subject, f"none on {', '.join(without)}", limit, source)
        elif silent:
            yield finding("RES-4", subject, f"not said of {', '.join(silent)}", limit, source)
        else:
            kinds = ", ".join(f"{s.loop_protection} on {s.name}" for s in ring)
            yield finding("RES-3", subject, f"they do not open the same ring: {kinds}", limit, source)


def rings(plan: Plan) -> Iterator[list[Switch]]:
    """The switches of each; two that are joined by parallel links, too."""
    graph = lit_network(plan)
    for component in nx.biconnected_component_edges(graph):
        edges = list(component)
        if len(edges) > 1 or graph.edges[edges[0]]["spares"]:
            members = {switch for edge in edges for switch in edge}
            yield [s for s in plan.switches if s.name in members]


def is_opened(ring: Sequence[Switch]) -> bool:
    """Whether its switches together keep frames from going round for ever."""
    said = {s.loop_protection for s in ring}
    return said <= {"rstp", "mstp"} or said == {"ring"}


def _own(camera: Camera, failure: Failure) -> bool:
    """A camera hangs on one cable to one switch: that it goes with its own switch is in the nature of it."""
    return all(part.kind in ("switch", "supply") and part.name == camera.switch for part in failure.parts)
