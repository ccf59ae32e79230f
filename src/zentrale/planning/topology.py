"""The wired network of the plan as a graph: switches are nodes, lit links are edges."""

from __future__ import annotations

from typing import TYPE_CHECKING

import networkx as nx

from zentrale.site.model import Plan

if TYPE_CHECKING:
    Graph = nx.Graph[str]


def lit_network(plan: Plan) -> Graph:
    """A graph whose nodes are switch names and whose edges carry `link`, the index of the link in the plan."""
    graph: Graph = nx.Graph()
    graph.add_nodes_from(s.name for s in plan.switches)
    for index, link in enumerate(plan.links):
        if link.lit:
            (a, _), (b, _) = link.ends()
            graph.add_edge(a, b, link=index)
    return graph


def paths_from(graph: Graph, switch: str) -> dict[str, list[str]]:
    """Shortest paths by number of links from `switch` to all switches it reaches."""
    found: dict[str, list[str]] = nx.single_source_shortest_path(graph, switch)
    return found
