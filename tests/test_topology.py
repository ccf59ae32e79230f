"""Networks of any shape: taking parts away and putting them back, and two ways of adding up loads that must agree."""

from __future__ import annotations

from itertools import pairwise

import networkx as nx
import pytest
from hypothesis import given
from hypothesis import strategies as st

from conftest import TYPES
from zentrale.planning.failures import Network
from zentrale.planning.flows import flows as flows_of
from zentrale.planning.power import plan_power
from zentrale.planning.resilience import plan_resilience
from zentrale.planning.topology import link_rates_bps, lit_network, taken_away
from zentrale.planning.traffic import OVERHEAD, _Network
from zentrale.planning.zone_links import zone_links, zone_switches
from zentrale.site.model import Plan

STREAM = {"resolution": "320x180", "fps": 10, "bitrate_kbps": 300}


@st.composite
def plans(draw: st.DrawFn) -> Plan:
    """Up to seven switches, any links between them (parallel and dark ones too), cameras on them, one or two recorders."""
    import tomllib

    count = draw(st.integers(2, 7))
    names = [f"s{n}" for n in range(count)]
    pairs = draw(
        st.lists(st.tuples(st.sampled_from(names), st.sampled_from(names)).filter(lambda p: p[0] != p[1]), max_size=12)
    )
    links = [
        {
            "a": f"{a}:{n + 1}",
            "b": f"{b}:{n + 1}",
            "rate_mbps": draw(st.sampled_from([1, 10, 100])),
            "lit": draw(st.booleans()),
            "bundle": draw(st.sampled_from(["", "", "x"])),
        }
        for n, (a, b) in enumerate(pairs)
    ]
    recorders = [
        {"name": f"r{n}", "type": "recorder-4", "zone": "z", "switch": draw(st.sampled_from(names)), "port": 100 + n,
         "address": f"10.0.0.{n + 1}"}
        for n in range(draw(st.integers(1, 2)))
    ]  # fmt: skip
    zones = st.sampled_from(["z", "y"])
    viewers = [
        {"name": f"v{n}", "zone": draw(zones), "switch": draw(st.sampled_from(names)), "port": 200 + n, "stream": "main",
         "source": draw(st.sampled_from(["camera", "recorder"])), "multicast": draw(st.booleans())}
        for n in range(draw(st.integers(0, 3)))
    ]  # fmt: skip
    routes = draw(st.sampled_from([None, *names]))
    cameras = [
        {"name": f"c{n}", "type": "larch-2", "group": "g", "zone": draw(zones),
         "switch": draw(st.sampled_from(names)), "port": 50 + n, "run_length_m": 10,
         "recorder": draw(st.sampled_from([r["name"] for r in recorders])), "channel": n + 1}
        for n in range(draw(st.integers(0, 8)))
    ]  # fmt: skip
    return Plan.model_validate({
        "site": {"name": "x", "timezone": "Europe/London"},
        "zones": [{"name": "z", "vlan": 1, "subnet": "10.0.0.0/24"}, {"name": "y", "vlan": 2, "subnet": "10.0.1.0/24"}],
        "groups": [{"name": "g", "main": STREAM}],
        "switches": [{"name": name, "cabinet": name, "type": "switch-8", "routes": name == routes} for name in names],
        "viewers": viewers, "links": links, "recorders": recorders, "cameras": cameras, **tomllib.loads(TYPES),
    })  # fmt: skip


def edges(graph: nx.Graph[str]) -> set[tuple[frozenset[str], int, tuple[int, ...]]]:
    return {
        (frozenset((a, b)), data["link"], (*data["members"], *data["spares"])) for a, b, data in graph.edges(data=True)
    }


@given(plans(), st.data())
def test_what_is_taken_away_comes_back_as_it_was(plan: Plan, data: st.DataObject) -> None:
    graph = lit_network(plan)
    before = (set(graph), edges(graph))
    switches = data.draw(st.lists(st.sampled_from(sorted(graph)), max_size=2, unique=True))
    lit = [index for index, link in enumerate(plan.links) if link.lit]
    links = data.draw(st.lists(st.sampled_from(lit), max_size=2, unique=True)) if lit else []
    with taken_away(plan, graph, switches, links):
        assert not set(switches) & set(graph)
        used = {i for _, link, others in edges(graph) for i in (link, *others)}
        assert not set(links) & used
    assert (set(graph), edges(graph)) == before
    with pytest.raises(RuntimeError), taken_away(plan, graph, switches, links):
        raise RuntimeError("a failure within must not leave the network torn")
    assert (set(graph), edges(graph)) == before


def ways_of(plan: Plan, graph: nx.Graph[str]) -> dict[tuple[str, ...], dict[str, list[str]]]:
    """For each flow its ways to the switches of its receivers, by networkx alone."""
    router = next((s.name for s in plan.switches if s.routes), None)
    towards = {root: dict(nx.bfs_predecessors(graph, root, sort_neighbors=sorted)) for root in graph}

    def straight(start: str, end: str) -> list[str] | None:
        way = [start]
        while way[-1] != end:
            if way[-1] not in towards.get(end, {}):
                return None
            way.append(towards[end][way[-1]])
        return way if start in graph and end in graph else None

    found: dict[tuple[str, ...], dict[str, list[str]]] = {}
    for number, flow in enumerate(flows_of(plan)):
        ways = found.setdefault((str(number), flow.camera.name, "view" if flow.viewed else "record"), {})
        for (end, _), zone in flow.receivers:
            way = straight(flow.sender[0], end)
            if zone != flow.sender_zone and router is not None:
                first, second = straight(flow.sender[0], router), straight(router, end)
                way = None if first is None or second is None else first + second[1:]
            if way is not None:
                ways[f"{end} {zone}"] = way
    return found


def fullest(plan: Plan, graph: nx.Graph[str], failed: str = "") -> float:
    """The share of the fullest trunk, each flow being counted once on it; without those of a failed recorder."""
    streams = list(flows_of(plan))
    loads: dict[tuple[str, str], float] = {}
    for (number, *_), ways in ways_of(plan, graph).items():
        flow = streams[int(number)]
        if flow.camera.recorder == failed and (flow.relayed or not flow.viewed):
            continue
        for step in {step for way in ways.values() for step in pairwise(way)}:
            loads[step] = loads.get(step, 0.0) + streams[int(number)].plan.bitrate_bps * OVERHEAD
    rates = link_rates_bps(plan)
    return max(
        (load / sum(rates[i] for i in graph.edges[step]["members"]) for step, load in loads.items()), default=0.0
    )


@given(plans())
def test_all_parts_ask_one_load_model(plan: Plan) -> None:
    graph = lit_network(plan)
    loads, cut_off = _Network(plan, graph).loads(list(flows_of(plan)))
    told = max((load.share for load, _ in loads if load.kind == "link"), default=0.0)
    complete = ways_of(plan, graph)
    assert told == pytest.approx(fullest(plan, graph))
    assert Network(plan, plan_power(plan)).fail(()).worst_share == pytest.approx(fullest(plan, graph))
    assert {c.name for c in cut_off} >= {name for _, name, kind in complete if kind == "record"} - {
        name for (_, name, kind), ways in complete.items() if kind == "record" and ways
    }


@given(plans())
def test_what_a_failure_costs_is_what_a_plain_search_says(plan: Plan) -> None:
    """Also where devices are in two zones with a router between, viewers watch, and a bundle loses a link."""
    singles = plan_resilience(plan, plan_power(plan)).singles
    told, network = {f.name: set(f.lost) for f in singles}, Network(plan, plan_power(plan))

    def recorded(graph: nx.Graph[str]) -> set[str]:
        return {name for (_, name, kind), ways in ways_of(plan, graph).items() if kind == "record" and ways}

    before = recorded(lit_network(plan))
    for part in network.parts:
        if part.kind == "recorder":
            assert network.fail((part,)).worst_share == pytest.approx(fullest(plan, lit_network(plan), part.name))
        if part.kind not in ("switch", "link"):
            continue
        gone = [s.name for s in plan.switches if s.name == part.name]
        links = [i for i, link in enumerate(plan.links) if f"{link.a} - {link.b}" == part.name]
        graph = lit_network(plan)
        with taken_away(plan, graph, gone, links):
            assert told.get(str(part), set()) == before - recorded(graph), part
            assert network.fail((part,)).worst_share == pytest.approx(fullest(plan, graph)), part


@given(plans())
def test_the_short_way_for_single_failures_agrees_with_the_search(plan: Plan) -> None:
    network = Network(plan, plan_power(plan))
    for part in network.parts:
        short, full = network.fail((part,)), network.fail_by_search((part,))
        assert (short.lost, short.parted_zones) == (full.lost, full.parted_zones)
        assert short.worst_share == pytest.approx(full.worst_share)


@given(plans())
def test_a_zone_is_carried_wherever_its_devices_are_joined(plan: Plan) -> None:
    """Over the links that carry it, the devices of a zone reach one another just as far as over all links, and still do
    when any one link of a ring fails.
    """
    whole = lit_network(plan)
    carried = zone_links(plan)["z"]
    at = zone_switches(plan)["z"]
    if not at:
        assert not carried
        return
    root = at[0]
    for gone in [None, *carried]:
        network: nx.Graph[str] = nx.Graph()
        network.add_nodes_from(whole)
        network.add_edges_from((plan.links[i].ends()[0][0], plan.links[i].ends()[1][0]) for i in carried if i != gone)
        lit: nx.Graph[str] = nx.Graph()
        lit.add_nodes_from(whole)
        lit.add_edges_from(
            (link.ends()[0][0], link.ends()[1][0]) for i, link in enumerate(plan.links) if link.lit and i != gone
        )
        for switch in at:
            assert nx.has_path(network, root, switch) == nx.has_path(lit, root, switch)
