"""Networks of any shape: taking parts away and putting them back, and two ways of adding up loads that must agree."""

from __future__ import annotations

import networkx as nx
import pytest
from hypothesis import given
from hypothesis import strategies as st

from conftest import TYPES
from zentrale.planning.failures import Network
from zentrale.planning.flows import flows as flows_of
from zentrale.planning.flows import recorded_bps
from zentrale.planning.power import plan_power
from zentrale.planning.resilience import plan_resilience
from zentrale.planning.topology import lit_network, loads_towards, taken_away
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
        }
        for n, (a, b) in enumerate(pairs)
    ]
    recorders = [
        {"name": f"r{n}", "type": "recorder-4", "zone": "z", "switch": draw(st.sampled_from(names)), "port": 100 + n,
         "address": f"10.0.0.{n + 1}"}
        for n in range(draw(st.integers(1, 2)))
    ]  # fmt: skip
    cameras = [
        {"name": f"c{n}", "type": "larch-2", "group": "g", "zone": "z", "switch": draw(st.sampled_from(names)), "port": 50 + n,
         "run_length_m": 10, "recorder": draw(st.sampled_from([r["name"] for r in recorders])), "channel": n + 1}
        for n in range(draw(st.integers(0, 8)))
    ]  # fmt: skip
    return Plan.model_validate({
        "site": {"name": "x", "timezone": "Europe/London"},
        "zones": [{"name": "z", "vlan": 1, "subnet": "10.0.0.0/24"}],
        "groups": [{"name": "g", "main": STREAM}],
        "switches": [{"name": name, "cabinet": name, "type": "switch-8"} for name in names],
        "links": links, "recorders": recorders, "cameras": cameras, **tomllib.loads(TYPES),
    })  # fmt: skip


def edges(graph: nx.Graph[str]) -> set[tuple[frozenset[str], int, tuple[int, ...]]]:
    return {(frozenset((a, b)), data["link"], data["spares"]) for a, b, data in graph.edges(data=True)}


@given(plans(), st.data())
def test_what_is_taken_away_comes_back_as_it_was(plan: Plan, data: st.DataObject) -> None:
    graph = lit_network(plan)
    before = (set(graph), edges(graph))
    switches = data.draw(st.lists(st.sampled_from(sorted(graph)), max_size=2, unique=True))
    lit = [index for index, link in enumerate(plan.links) if link.lit]
    links = data.draw(st.lists(st.sampled_from(lit), max_size=2, unique=True)) if lit else []
    with taken_away(plan, graph, switches, links):
        assert not set(switches) & set(graph)
        used = {i for _, link, spares in edges(graph) for i in (link, *spares)}
        assert not set(links) & used
    assert (set(graph), edges(graph)) == before
    with pytest.raises(RuntimeError), taken_away(plan, graph, switches, links):
        raise RuntimeError("a failure within must not leave the network torn")
    assert (set(graph), edges(graph)) == before


@given(plans())
def test_adding_up_by_switch_agrees_with_adding_up_by_camera(plan: Plan) -> None:
    graph = lit_network(plan)
    loads, cut_off = _Network(plan, graph).loads(list(flows_of(plan)))
    by_camera = [load for load, _ in loads if load.kind == "link" and load.load_bps]
    flows: dict[str, dict[str, float]] = {}
    home = {r.name: r.switch for r in plan.recorders}
    for camera in plan.cameras:
        sent = flows.setdefault(home[camera.recorder], {})
        sent[camera.switch] = sent.get(camera.switch, 0.0) + recorded_bps(plan, camera) * OVERHEAD
    total: dict[tuple[int, str], float] = {}
    for root, sent in flows.items():
        for direction, load in loads_towards(graph, root, sent).items():
            total[direction] = total.get(direction, 0.0) + load
    worst = {index: max(load for (i, _), load in total.items() if i == index) for index, _ in total}
    names = {f"{plan.links[i].a} - {plan.links[i].b}": load for i, load in worst.items()}
    assert {load.name: pytest.approx(load.load_bps) for load in by_camera} == names
    assert {c.name for c in cut_off} == {
        c.name for c in plan.cameras if not nx.has_path(graph, c.switch, home[c.recorder])
    }


@given(plans())
def test_what_a_failure_costs_is_what_a_plain_search_says(plan: Plan) -> None:
    home = {r.name: r.switch for r in plan.recorders}
    told = {f.name: set(f.lost) for f in plan_resilience(plan, plan_power(plan)).singles}
    whole = lit_network(plan)
    for switch in plan.switches:
        graph = lit_network(plan)
        graph.remove_node(switch.name)
        lost = {
            c.name
            for c in plan.cameras
            if nx.has_path(whole, c.switch, home[c.recorder])
            and not (c.switch in graph and home[c.recorder] in graph and nx.has_path(graph, c.switch, home[c.recorder]))
        }
        assert told.get(f"switch {switch.name}", set()) == lost


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
    (carried,) = zone_links(plan).values()
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
