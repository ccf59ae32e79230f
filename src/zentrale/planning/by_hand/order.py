"""In which order switches are typed in: those far from the laptop first, and which cables wait until a loop can be opened."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from functools import cached_property

import networkx as nx

from zentrale.planning.network import NetworkPlan
from zentrale.planning.ports import PortRow
from zentrale.planning.resilience import is_opened, rings
from zentrale.planning.topology import lit_network, steps_from
from zentrale.site.model import Plan, Switch

BEGINS_IN = 1  # the VLAN that all ports of a switch from its maker are in, untagged (IEEE 802.1Q table 9-2)


@dataclass(frozen=True)
class Place:
    """The port that the laptop is plugged into."""

    switch: str
    port: int

    def __str__(self) -> str:
        return f"{self.switch}:{self.port}"


@dataclass(frozen=True)
class Trunk:
    """What joins two switches, `near` being the one towards the laptop. `links` by index: the first cable is plugged in from the
    beginning; further ones of its bundle come in when both ends have made it. `swapped`: they then take its place at once.
    """

    near: str
    far: str
    links: tuple[int, ...]
    swapped: bool = False


@dataclass(frozen=True)
class Order:
    """One connected part of the network. `switches` far first; `waiting` are links that would close a loop, by index, `never`
    those whose loop nothing opens; `rounds`: three or four where links carry the VLAN that all begin in with a tag.
    """

    laptop: Place | None
    switches: tuple[str, ...]
    trunks: tuple[Trunk, ...]
    waiting: tuple[int, ...]
    never: tuple[int, ...]
    rounds: int

    def trunks_of(self, switch: str) -> list[Trunk]:
        return [t for t in self.trunks if switch in (t.near, t.far)]

    def at(self, switch: str) -> int | None:
        """The laptop's port, where it is at this switch."""
        return self.laptop.port if self.laptop is not None and self.laptop.switch == switch else None

    @cached_property
    def has_spare_cables(self) -> bool:
        return bool(self.waiting or self.never) or any(len(t.links) > 1 for t in self.trunks)


def orders(net: NetworkPlan, laptop: Place | None = None) -> list[Order]:
    """One for each connected part: the one that the laptop is in first, where it is said where that is."""
    graph, plan = lit_network(net.plan), net.plan
    parts = [sorted(some, key=[s.name for s in plan.switches].index) for some in nx.connected_components(graph)]
    parts.sort(
        key=lambda some: (laptop is None or laptop.switch not in some, [s.name for s in plan.switches].index(some[0]))
    )
    closed = [{s.name for s in ring} for ring in rings(plan) if not is_opened(ring)]
    found = []
    for some in parts:
        place = laptop if laptop is not None and laptop.switch in some else _place(net, some)
        root = place.switch if place is not None else some[0]
        depth, trunks = {root: 0}, []
        for near, far in steps_from(graph, root):
            depth[far] = depth[near] + 1
            trunks.append(Trunk(near, far, tuple(graph.edges[near, far]["members"])))
        used = {index for trunk in trunks for index in trunk.links}
        waiting = tuple(
            i for i, k in enumerate(plan.links) if k.lit and i not in used and set(k.switches()) <= set(some)
        )
        order = sorted(some, key=lambda name: (-depth[name], some.index(name)))
        never = tuple(i for i in waiting if any(set(plan.links[i].switches()) <= ring for ring in closed))
        waiting = tuple(i for i in waiting if i not in never)
        firsts = {t: link_row(net, t.near, t.links[0]) for t in trunks}
        begins = [t for t in trunks if any(net.vlan(z) == BEGINS_IN for z in firsts[t].tagged)]
        natives = {row.native for row in firsts.values() if row.native and net.vlan(row.native) != BEGINS_IN}
        if any(page_vlan(plan, plan.switch(name)) == BEGINS_IN for name in some):
            trunks = [replace(t, swapped=t in begins and len(t.links) > 1) for t in trunks]
        rounds = 4 if natives or any(t.swapped for t in trunks) else 3 if begins else 2
        found.append(Order(place, tuple(order), tuple(trunks), waiting, never, rounds))
    return found


def _place(net: NetworkPlan, some: Sequence[str]) -> Place | None:
    """A free port: at the recorders' switch, at the router, else wherever there is one; None where all are in use."""
    plan, router = net.plan, net.router()
    wanted = [r.switch for r in plan.recorders] + ([router.name] if router is not None else [])
    for name in [*(n for n in wanted if n in some), *some]:
        free = free_ports(net, name)
        if free:
            return Place(name, free[0])
    return None


def free_ports(net: NetworkPlan, switch: str) -> list[int]:
    return [row.port for row in net.ports.of(switch) if row.kind == "free"]


def page_vlan(plan: Plan, switch: Switch) -> int | None:
    """The VLAN that its page is planned in."""
    return None if switch.management is None else plan.zone(switch.management.zone).vlan


def link_row(net: NetworkPlan, switch: str, link: int) -> PortRow:
    """The port of a link at this switch."""
    port = next(port for name, port in net.plan.links[link].ends() if name == switch)
    return net.ports.at(switch, port)


def page_vlans_at(net: NetworkPlan, order: Order) -> Iterator[int]:
    """The VLANs of pages that the laptop's port is given with a tag, as far as they come to its switch."""
    if order.laptop is None:
        return
    here = {z for row in net.ports.of(order.laptop.switch) for z in row.zones}
    own = net.plan.switch(order.laptop.switch).management
    here |= {own.zone} if own is not None else set()
    for name in order.switches:
        page = net.plan.switch(name).management
        if page is not None and page.zone in here:
            yield net.vlan(page.zone)
