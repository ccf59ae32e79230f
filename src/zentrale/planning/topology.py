"""The wired network of the plan as a graph: switches are nodes, lit links are edges."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from typing import TYPE_CHECKING

import networkx as nx

from zentrale.site.model import Plan

if TYPE_CHECKING:
    Graph = nx.Graph[str]
else:
    Graph = nx.Graph


def lit_network(plan: Plan) -> Graph:
    """A graph whose nodes are switch names and whose edges carry `members`, the indexes of the links in the plan that carry
    the traffic, `link`, the first of these, and `spares`, the others, which stand by.

    The links of a bundle carry together (IEEE 802.1AX). Of what is parallel otherwise the fastest carries, the next fastest
    stands by first.
    """
    graph: Graph = nx.Graph()
    graph.add_nodes_from(s.name for s in plan.switches)
    rates = link_rates_bps(plan)
    trunks = sorted(trunks_of(plan), key=lambda trunk: (-sum(rates[i] for i in trunk), trunk))
    for trunk in trunks:
        a, b = plan.links[trunk[0]].switches()
        if graph.has_edge(a, b):
            graph.edges[a, b]["spares"] += trunk
        else:
            graph.add_edge(a, b, link=trunk[0], members=trunk, spares=())
    return graph


def link_rates_bps(plan: Plan) -> list[float]:
    """What each link carries each way: its own rate, or that of the slower of its two ports."""
    kinds = {s.name: plan.switch_type(s) for s in plan.switches}
    return [
        min(link.rate_mbps, *(kinds[switch].rate_mbps(port) for switch, port in link.ends())) * 1e6
        for link in plan.links
    ]


def trunks_of(plan: Plan) -> list[tuple[int, ...]]:
    """The lit links by index: each by itself, those of one bundle between two switches together."""
    found: dict[tuple[object, ...], tuple[int, ...]] = {}
    for index, link in enumerate(plan.links):
        if link.lit:
            key = (*sorted(link.switches()), link.bundle) if link.bundle else (index,)
            found[key] = (*found.get(key, ()), index)
    return list(found.values())


def trunk_name(plan: Plan, trunk: Sequence[int]) -> str:
    """As a person names it: hall:9 - core:1, of a bundle hall:9+10 - core:1+2."""
    if len(trunk) == 1:
        link = plan.links[trunk[0]]
        return f"{link.a} - {link.b}"
    near, far = plan.links[trunk[0]].switches()
    ports: dict[str, list[str]] = {near: [], far: []}
    for index in trunk:
        for switch, port in plan.links[index].ends():
            ports[switch].append(str(port))
    return " - ".join(f"{switch}:{'+'.join(ports[switch])}" for switch in (near, far))


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
            _remove_link(plan, graph, a, b, index)
        graph.remove_nodes_from(switches)
        yield
    finally:
        graph.add_nodes_from(order)
        graph.add_edges_from((a, b, data) for (a, b), data in edges.items())


def _remove_link(plan: Plan, graph: Graph, a: str, b: str, index: int) -> None:
    if not graph.has_edge(a, b):
        return
    edge = graph.edges[a, b]
    members = tuple(i for i in edge["members"] if i != index)
    spares = tuple(i for i in edge["spares"] if i != index)
    if not members and spares:
        bundle = plan.links[spares[0]].bundle
        members = tuple(i for i in spares if i == spares[0] or (bundle and plan.links[i].bundle == bundle))
        spares = tuple(i for i in spares if i not in members)
    if members:
        edge["link"], edge["members"], edge["spares"] = members[0], members, spares
    else:
        graph.remove_edge(a, b)


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
