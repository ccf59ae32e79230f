"""Which links must carry which zones: the ways between a zone's devices, and the rings those ways lie in."""

from __future__ import annotations

from collections.abc import Mapping
from itertools import pairwise

import networkx as nx

from zentrale.planning.attached import attached
from zentrale.planning.flows import crossing_switch
from zentrale.planning.once import once
from zentrale.planning.topology import Graph, lit_network, paths_from
from zentrale.site.model import Plan


@once
def zone_switches(plan: Plan) -> Mapping[str, list[str]]:
    """The switches at which each zone has devices, in plan order."""
    found: dict[str, dict[str, None]] = {zone.name: {} for zone in plan.zones}
    for recorder in plan.recorders:
        for leg in recorder.legs():
            found[leg.zone][leg.switch] = None
    for viewer in plan.viewers:
        found[viewer.zone][viewer.switch] = None
    for thing in attached(plan):
        for zone in thing.zones:
            found[zone][thing.switch] = None
    for switch in plan.switches:
        if switch.management is not None:
            found[switch.management.zone][switch.name] = None
    for camera in (c for c in plan.cameras if c.switch):
        found[camera.zone][camera.switch] = None
    return {zone: list(switches) for zone, switches in found.items()}


def zone_root(plan: Plan, zone: str, at: Mapping[str, list[str]]) -> str | None:
    """Where a zone's ways meet: the switch that passes its traffic on, else that of its first device (recorders come
    first). None where the zone has no device.
    """
    primary = plan.zone(zone).family
    members = [z.name for z in plan.zones if z.family == primary]
    crossing = crossing_switch(plan, multicast=plan.zone(primary).gateway is None)
    copied = plan.zone(primary).gateway is not None or any(
        v.multicast and v.source == "camera" and plan.zone(v.zone).family != primary for v in plan.viewers
    )
    if copied and crossing is not None:
        return crossing
    # The primary holds the recorders: it is asked first.
    for member in sorted(members, key=lambda name: name != primary):
        if at[member]:
            return at[member][0]
    return None


@once
def zone_links(plan: Plan) -> Mapping[str, frozenset[int]]:
    """For each zone the links, by index, that must carry its VLAN. Links of a ring count with the way through it, since
    the detour has to carry the zone too. The primary of a private VLAN goes wherever its secondaries go.
    """
    graph = lit_network(plan)
    rings = _rings(graph)
    at = zone_switches(plan)
    carried: dict[str, set[int]] = {zone.name: set() for zone in plan.zones}
    ways: dict[str, dict[str, list[str]]] = {}
    for zone in plan.zones:
        root = zone_root(plan, zone.name, at)
        targets = list(at[zone.name])
        if zone.primary is not None:
            targets += at[zone.primary]  # its devices send to promiscuous ports, wherever these are
        while root is not None and root in graph:
            if root not in ways:
                ways[root] = paths_from(graph, root)
            for target in targets:
                for near, far in pairwise(ways[root].get(target, [])):
                    for name in {zone.name, zone.family}:
                        carried[name] |= rings[frozenset((near, far))]
            # Those that nothing joins to it may still be joined among themselves.
            targets = [target for target in targets if target not in ways[root]]
            root = targets[0] if targets else None
    return {zone: frozenset(links) for zone, links in carried.items()}


def _rings(graph: Graph) -> dict[frozenset[str], set[int]]:
    """For each pair of joined switches the links of the rings it lies in, its own parallel ones included."""
    found: dict[frozenset[str], set[int]] = {}
    for component in nx.biconnected_component_edges(graph):
        edges = list(component)
        links = {i for a, b in edges for i in (*graph.edges[a, b]["members"], *graph.edges[a, b]["spares"])}
        found |= {frozenset(edge): links for edge in edges}
    return found
