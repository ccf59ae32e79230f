"""The wired network of the plan as a graph: switches are nodes, lit links are edges."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager
from typing import TYPE_CHECKING

import networkx as nx

from zentrale.site.model import Plan

if TYPE_CHECKING:
    Graph = nx.Graph[str]
else:
    Graph = nx.Graph


def lit_network(plan: Plan) -> Graph:
    """A graph whose nodes are switch names and whose edges carry `link`, the index of the link in the plan.

    Of parallel links the fastest carries the traffic; the others stand by in `spares`, next fastest first.
    """
    graph: Graph = nx.Graph()
    graph.add_nodes_from(s.name for s in plan.switches)
    fastest_first = sorted(enumerate(plan.links), key=lambda pair: (-pair[1].rate_mbps, pair[0]))
    for index, link in fastest_first:
        if not link.lit:
            continue
        (a, _), (b, _) = link.ends()
        if graph.has_edge(a, b):
            graph.edges[a, b]["spares"] += (index,)
        else:
            graph.add_edge(a, b, link=index, spares=())
    return graph


@contextmanager
def taken_away(plan: Plan, graph: Graph, switches: Sequence[str], links: Sequence[int]) -> Iterator[None]:
    """`graph` without these switches and links, and as it was again afterwards. A copy for each failure would cost
    more than all the rest. Where a link goes and a parallel one stands by, that takes over.
    """
    edges = {(a, b): dict(data) for switch in switches for a, b, data in graph.edges(switch, data=True)}
    for index in links:
        (a, _), (b, _) = plan.links[index].ends()
        edges[a, b] = dict(graph.edges[a, b])
    order = list(graph)
    try:
        for index in links:
            (a, _), (b, _) = plan.links[index].ends()
            _remove_link(graph, a, b, index)
        graph.remove_nodes_from(switches)
        yield
    finally:
        graph.add_nodes_from(order)
        graph.add_edges_from((a, b, data) for (a, b), data in edges.items())


def _remove_link(graph: Graph, a: str, b: str, index: int) -> None:
    if not graph.has_edge(a, b):
        return
    edge = graph.edges[a, b]
    left = [i for i in (edge["link"], *edge["spares"]) if i != index]
    if left:
        edge["link"], edge["spares"] = left[0], tuple(left[1:])
    else:
        graph.remove_edge(a, b)


def loads_towards(graph: Graph, root: str, flows: Mapping[str, float]) -> dict[tuple[int, str], float]:
    """The load of each link, by its index and the end nearer to `root`, when every switch sends its flow there by a
    way of fewest links. Flows that have no way are left out.
    """
    if root not in graph:
        return {}
    parents = list(steps_from(graph, root))
    passing = dict(flows)
    loads: dict[tuple[int, str], float] = {}
    for near, far in reversed(parents):  # the furthest first: each hands on what it sends and what it was handed
        flow = passing.get(far, 0.0)
        if flow:
            loads[graph.edges[near, far]["link"], near] = flow
            passing[near] = passing.get(near, 0.0) + flow
    return loads


def steps_from(graph: Graph, root: str) -> Iterator[tuple[str, str]]:
    """Near and far end of every step of the ways from `root` to all it reaches, by fewest links; among equals by name,
    so that the same network always gives the same ways, whatever was taken away in between.
    """
    yield from nx.bfs_edges(graph, root, sort_neighbors=sorted)


def paths_from(graph: Graph, switch: str) -> dict[str, list[str]]:
    """Shortest paths by number of links from `switch` to all switches it reaches."""
    paths = {switch: [switch]}
    for near, far in steps_from(graph, switch):
        paths[far] = [*paths[near], far]
    return paths
