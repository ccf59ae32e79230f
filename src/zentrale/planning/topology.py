"""The wired network of the plan as a graph: switches are nodes, lit links are edges."""

from __future__ import annotations

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


def remove_link(plan: Plan, graph: Graph, index: int) -> None:
    """Take one link away; where a parallel one stands by, it takes over."""
    (a, _), (b, _) = plan.links[index].ends()
    if not graph.has_edge(a, b):
        return
    edge = graph.edges[a, b]
    left = [i for i in (edge["link"], *edge["spares"]) if i != index]
    if left:
        edge["link"], edge["spares"] = left[0], tuple(left[1:])
    else:
        graph.remove_edge(a, b)


def paths_from(graph: Graph, switch: str) -> dict[str, list[str]]:
    """Shortest paths by number of links from `switch` to all switches it reaches."""
    found: dict[str, list[str]] = nx.single_source_shortest_path(graph, switch)
    return found
