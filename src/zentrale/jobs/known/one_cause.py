"""One cause for many: what cameras that break alike have in common, and no camera has that does not break."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Iterator, Mapping
from dataclasses import dataclass
from itertools import pairwise

import networkx as nx

from zentrale import quantities
from zentrale.findings import Finding, Severity
from zentrale.jobs.known.layer import Layer
from zentrale.planning.topology import Graph, lit_network, trunk_name
from zentrale.site.model import Camera, Plan
from zentrale.subjects import Kind

LEAST = 3  # cameras: two may be chance


_LAYERS = {"SEC": Layer.ACCESS, "STR": Layer.STREAM, "PIC": Layer.PICTURE, "REC": Layer.RECORDING}
_UNREACHED = frozenset({"STR-1", "DIS-1", "DIS-11"})  # nothing answered at all
# What may be to blame, likeliest first, and what it then is.
_TRAITS: Mapping[Layer, tuple[str, ...]] = {
    Layer.ADDRESS: ("switch", "link", "cabinet", "zone", "type"),
    Layer.ACCESS: ("type",),
    Layer.STREAM: ("switch", "link", "type", "zone"),
    Layer.PICTURE: (),
    Layer.RECORDING: ("recorder",),
}
_SAYS = {
    "switch": "on switch {}: its uplink, its supply, or the switch itself",
    "link": "beyond link {}: that link, at either end",
    "cabinet": "in cabinet {}: its power",
    "zone": "in zone {}: its VLAN on the way here, or the rule that lets it through",
    "type": "of type {}: what they are set to, or their firmware",
    "recorder": "of {}: the recorder itself",
}


@dataclass(frozen=True)
class Common:
    """`what` they have in common, such as "switch pump-house"; `says`: in a sentence, with what that makes likely."""

    what: str
    cameras: tuple[str, ...]
    says: str


def broken_at(plan: Plan, findings: Iterable[Finding]) -> dict[str, Layer]:
    """The lowest layer at which each camera has a fault, by its name."""
    channels = {(c.recorder, f"channel {c.channel}"): c.name for c in plan.cameras}
    found: dict[str, Layer] = {}
    for item in findings:
        ref, layer = item.ref, Layer.ADDRESS if item.code in _UNREACHED else _LAYERS.get(item.code[:3])
        if item.severity is not Severity.FAULT or ref is None or layer is None:
            continue
        name = ref.name if ref.kind is Kind.CAMERA else channels.get((ref.name, ref.part), "")
        if name:
            found[name] = min(layer, found.get(name, layer))
    return found


def common(plan: Plan, looked_at: Collection[str], broken: Mapping[str, Layer]) -> list[Common]:
    """The fewest things that explain the most cameras, largest first. A thing explains cameras only where all of its that were
    looked at break alike, and some others do not.
    """
    graph = lit_network(plan)
    traits = {name: dict(_traits(plan, plan.camera(name), graph)) for name in looked_at}
    left = dict(broken)
    found: list[Common] = []
    while True:
        best: tuple[int, int, str, str, Layer, list[str]] | None = None
        for layer, kinds in _TRAITS.items():
            alike = {name for name, at in left.items() if at == layer and name in traits}
            if all(broken.get(name, Layer.RECORDING + 1) <= layer for name in looked_at):
                continue  # nobody is better off: there is nothing to compare with
            for order, kind in enumerate(kinds):
                for value in sorted({v for name in alike for v in traits[name].get(kind, ())}):
                    having = [name for name in looked_at if value in traits[name].get(kind, ())]
                    whole = all(broken.get(name) == layer for name in having)
                    if not whole or len(having) < LEAST or len(having) == len(looked_at):
                        continue
                    candidate = (len(alike & set(having)), -order, kind, value, layer, having)
                    if candidate[0] >= LEAST and (best is None or candidate[:2] > best[:2]):
                        best = candidate
        if best is None:
            return found
        _, _, kind, value, layer, having = best
        where, _, likely = _SAYS[kind].format(value).partition(": ")
        alone = " and nobody else" if set(having) == {name for name, at in broken.items() if at == layer} else ""
        text = f"{quantities.count(len(having), 'camera')}, all {where}{alone}: {likely}"
        found.append(Common(f"{kind} {value}", tuple(having), text))
        left = {name: at for name, at in left.items() if name not in having}


def _traits(plan: Plan, camera: Camera, graph: Graph) -> Iterator[tuple[str, tuple[str, ...]]]:
    """What it shares with others; several links lie on its way to its recorder."""
    yield "zone", (camera.zone,)
    yield "type", (camera.type,)
    yield "recorder", (camera.recorder,)
    if not camera.switch:
        return
    yield "switch", (camera.switch,)
    yield "cabinet", (plan.switch(camera.switch).cabinet,)
    core = plan.recorder(camera.recorder).switch
    if nx.has_path(graph, camera.switch, core):
        way = nx.shortest_path(graph, camera.switch, core)
        steps = pairwise(way)
        yield "link", tuple(trunk_name(plan, graph.edges[near, far]["members"]) for near, far in steps)
