"""What concerns a switch as a whole: whether it answers and what it tells, its PoE budget, the tree, rings, firmware, who may
ask.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence

import networkx as nx

from zentrale import quantities
from zentrale.findings import Finding, finding
from zentrale.jobs.switches.asking import DEFAULT_COMMUNITY, Asked
from zentrale.logbook.evidence import Judged
from zentrale.planning.network import NetworkPlan
from zentrale.planning.topology import trunks_of
from zentrale.subjects import Kind, Ref

_TREES = ("rstp", "mstp")


def judge_switch(net: NetworkPlan, one: Asked) -> Iterator[Judged]:
    ref, where = Ref(Kind.SWITCH, one.name), one.switch.management
    assert where is not None
    source = f"site.toml switch {one.name}"
    if one.guessed is not None:
        open_to_all = one.guessed or (one.key is not None and one.key.secret == DEFAULT_COMMUNITY)
        text = f'the community "{DEFAULT_COMMUNITY}" opens it'
        yield Judged(
            ref, frozenset({"SWI-17"}), (finding("SWI-17", ref, text, "no answer", "good practice"),) * open_to_all
        )
    if one.seen is None:
        code = "SWI-23" if one.refused else "SWI-20"
        item = finding(code, ref, one.problem or "no answer", f"answers SNMP{where.snmp} at {where.address}", source)
        yield Judged(ref, frozenset({"SWI-20", "SWI-23"}), (item,))
        return
    seen = one.seen
    yield Judged(ref, frozenset({"SWI-20", "SWI-23"}))
    text = f"SNMPv2c: community {one.key.name} goes in clear" if one.key is not None else ""
    clear = one.key is not None and one.key.version == "v2c"
    yield Judged(ref, frozenset({"SWI-21"}), (finding("SWI-21", ref, text, "SNMPv3", "RFC 3410 section 7"),) * clear)
    missing = "; ".join(seen.not_told)
    yield Judged(
        ref, frozenset({"SWI-19"}),
        (finding("SWI-19", ref, f"not told by this switch: {missing}", "all tables", "their MIBs"),) if missing else (),
    )  # fmt: skip
    yield Judged(ref, frozenset({"SWI-22"}), tuple(_numbers(ref, one)))
    if seen.supply is not None:
        used, budget = seen.supply.used_w, seen.supply.budget_w
        reserve = net.plan.policy.poe_reserve_percent
        near = used > budget * (1 - reserve / 100)
        text = f"{used:.0f} of {budget:.0f} W used, {100 * used / budget:.0f} %"
        item = finding("SWI-12", ref, text, f"{reserve:g} % left", "site.toml [policy] poe_reserve_percent")
        yield Judged(ref, frozenset({"SWI-12"}), (item,) * near)
    wanted = net.plan.switch_type(one.switch).firmware
    if wanted is not None and seen.firmware:
        other = seen.firmware != wanted.version
        item = finding("SWI-18", ref, seen.firmware, wanted.version, f"types.toml {one.switch.type}: firmware")
        yield Judged(ref, frozenset({"SWI-18"}), (item,) * other)


def _numbers(ref: Ref, one: Asked) -> Iterator[Finding]:
    assert one.seen is not None
    numbering = one.seen.numbering
    for disagree, what in ((numbering.disagree, "port"), (numbering.poe_disagree, "PoE of port")):
        if disagree:
            first, said = next(iter(sorted(disagree.items())))
            more = f"; and {quantities.count(len(disagree) - 1, 'more port')}" if len(disagree) > 1 else ""
            yield finding("SWI-22", ref, f"{what} {first}: {said}{more}", "one number", f"types.toml {one.switch.type}")


def judge_trees(net: NetworkPlan, asked: Sequence[Asked]) -> Iterator[Judged]:
    """Who is root, of switches that run a spanning tree; and whether each ring is closed once."""
    core = net.plan.recorders[0].switch if net.plan.recorders else ""
    own = {a.seen.bridge_mac: a.name for a in asked if a.seen and a.seen.bridge_mac}
    spans = {s.name for s in net.plan.switches if s.loop_protection in _TREES}
    for one in asked:
        if one.seen is None or one.seen.tree is None or one.name not in spans:
            continue
        tree, ref = one.seen.tree, Ref(Kind.SWITCH, one.name)
        root = own.get(tree.root[1], "")
        wrong = bool(core) and root != core and (bool(root) or core in own.values())
        who = root or f"a bridge that is not in the plan ({tree.root[1]})"
        text = f"its tree's root is {who}, priority {tree.root[0]}"
        advice = f"give {core} the lowest bridge priority: `zentrale network write --sheet {core}`"
        item = finding("SWI-15", ref, text, f"{core}, where the recorders are", "site.toml recorders", advice)
        yield Judged(ref, frozenset({"SWI-15"}), (item,) * wrong)
    yield from _rings(net, asked)


def _rings(net: NetworkPlan, asked: Sequence[Asked]) -> Iterator[Judged]:
    """Each ring of lit links: all its links up, and one port of it blocked; only where all its ports were told."""
    by_name = {a.name: a for a in asked}
    graph: nx.Graph[str] = nx.Graph()
    for trunk in trunks_of(net.plan):
        graph.add_edge(*net.plan.links[trunk[0]].switches(), links=trunk)
    for ring in nx.cycle_basis(graph):
        ends = []
        for a, b in zip(ring, [*ring[1:], ring[0]], strict=True):
            ends += [end for index in graph.edges[a, b]["links"] for end in net.plan.links[index].ends()]
        told = [
            (place, p) for place in ends if (of := by_name.get(place[0])) and of.seen and (p := of.seen.port(place[1]))
        ]
        ref, names = Ref(Kind.SWITCH, min(ring), "ring"), " - ".join((*ring, ring[0]))
        down = sorted(f"{switch}:{port}" for (switch, port), seen in told if not seen.up)
        if down:
            text = f"the ring {names} is open at {', '.join(down)}: the next break cuts cameras off"
            item = finding("SWI-16", ref, text, "all links of the ring up", "site.toml [[links]]")
            yield Judged(ref, frozenset({"SWI-16"}), (item,))
            continue
        if len(told) < len(ends):
            continue
        states = [seen.tree_state for _, seen in told]
        if all(states):
            loops = "blocking" not in states and "disabled" not in states
            text = f"the ring {names} has no blocked port: frames may go round in it"
            item = finding("SWI-16", ref, text, "one port of the ring blocked", "IEEE 802.1Q clause 13")
            yield Judged(ref, frozenset({"SWI-16"}), (item,) * loops)
