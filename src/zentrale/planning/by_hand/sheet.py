"""The work sheet of one switch: one line a fact, in an order in which its page goes on answering the laptop.

In the first round nothing goes: VLANs are made, links carry them with a tag beside the untagged VLAN that all began in. In the
second, far switches first, the page moves into its VLAN, and what was left untagged goes. Where the plan itself uses that first
VLAN with a tag, a third round takes it away untagged, once both ends of a link send it with the tag.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

from zentrale.planning.by_hand import routing, settings
from zentrale.planning.by_hand.line import Line, ports
from zentrale.planning.by_hand.order import BEGINS_IN, Order, Trunk, link_row, orders, page_vlan, page_vlans_at
from zentrale.planning.network import NetworkPlan
from zentrale.planning.ports import PortRow
from zentrale.planning.topology import trunk_name
from zentrale.site.model import Switch

_BACK = (
    "If the page stops answering: wait a minute, then switch it off and on again; it begins as it was last saved. A switch that "
    "saves by itself takes back the file of line 1, by its console."
)


_NATIVE = (
    "An untagged VLAN is the port's native one (PVID); the one before it goes. Tagged frames only: no native VLAN."
)


@dataclass(frozen=True)
class Round:
    number: int
    title: str
    lines: tuple[Line, ...]


@dataclass(frozen=True)
class WorkSheet:
    """`order` has the switches of all rounds, far first; `notes` are read before anything is typed."""

    switch: str
    about: str
    order: Order
    notes: tuple[str, ...]
    rounds: tuple[Round, ...]

    @property
    def lines(self) -> list[Line]:
        return [line for part in self.rounds for line in part.lines]


def work_sheets(net: NetworkPlan, found: list[Order] | None = None) -> list[WorkSheet]:
    """Of every switch, in the plan's order."""
    by_switch = {name: order for order in found or orders(net) for name in order.switches}
    return [_Sheet(net, switch, by_switch[switch.name]).sheet() for switch in net.plan.switches]


class _Sheet:
    def __init__(self, net: NetworkPlan, switch: Switch, order: Order) -> None:
        self._net, self._plan, self._switch, self._order = net, net.plan, switch, order
        self._rows = net.ports.of(switch.name)
        self._own = order.at(switch.name)
        self._is_last = order.switches[-1] == switch.name
        self._page = page_vlan(net.plan, switch)
        self._trunks = order.trunks_of(switch.name)
        self._third = order.rounds == 3

    def sheet(self) -> WorkSheet:
        kind = self._plan.switch_type(self._switch)
        rounds = [
            Round(1, "First round: nothing goes yet", tuple(self._first())),
            Round(2, "Second round, once all switches have had the first", tuple(self._second())),
        ]
        if self._third:
            rounds.append(Round(3, "Third round, once all switches have had the second", tuple(self._last())))
        about = f"{kind.maker} {kind.model}, {self._switch.cabinet}"
        return WorkSheet(self._switch.name, about, self._order, tuple(self._notes()), tuple(rounds))

    # What to know before

    def _notes(self) -> Iterator[str]:
        order, plan = self._order, self._plan
        at = f"at {order.laptop}" if order.laptop else "at a device's port for the time, since none is free"
        yield (
            f"The laptop is {at} (`--at SWITCH:PORT` says where). Switches in this order: {', '.join(order.switches)}; each "
            "round begins with the first."
        )
        dark = [(i,) for trunk in order.trunks for i in trunk.links[1:]] + [(i,) for i in order.waiting]
        pages = [f"{own.address} {s}" for s in order.switches if (own := plan.switch(s).management) is not None]
        if pages:
            yield f"Pages of the switches: {', '.join(pages)}."
        yield _NATIVE
        if dark:
            told = "; ".join(trunk_name(plan, some) for some in dark)
            yield f"Unplugged until a line plugs them in: {told}. Else frames go round in circles."
        if order.never:
            told = "; ".join(trunk_name(plan, (i,)) for i in order.never)
            yield f"Unplugged for good: {told}. No switch opens this loop (RES-3, RES-4)."
        if self._page is None:
            yield (
                "No management address is planned for this switch (ADR-7): with the last round its page is on no port any more, "
                "and only its console reaches it. Save before the line that takes untagged frames away."
            )
        moved = self._pages()
        if moved:
            yield (
                f"From the second round on pages answer in VLAN {', '.join(map(str, moved))}, which the laptop's port gets with "
                f"a tag: give the laptop's adapter that VLAN, with a free address of {self._subnets(moved)}, beside what it has."
            )
        cut = [t.far for t in order.trunks if self._third and len(t.links) > 1]
        if cut:
            yield f"In the third round {', '.join(cut)} cannot be reached until the other end of its bundle is done."
        yield _BACK

    def _pages(self) -> list[int]:
        """VLANs that pages move into."""
        return sorted({v for v in page_vlans_at(self._net, self._order) if v != BEGINS_IN})

    def _subnets(self, vlans: list[int]) -> str:
        return " and ".join(str(z.subnet) for z in self._plan.zones if z.vlan in vlans)

    # First round

    def _first(self) -> Iterator[Line]:
        net, switch = self._net, self._switch
        yield Line("configuration", f"save the present one on the laptop: {switch.name}-before", "the way back")
        own = switch.management
        if own is not None:
            gateway = net.gateway_of(own.zone)
            way = f", gateway {gateway}" if gateway is not None and not switch.routes else ""
            told = f"{own.address}, mask {self._plan.zone(own.zone).subnet.netmask}{way}; VLAN {BEGINS_IN} as it is"
            why = "alone on the cable, where several come with the same one"
            yield Line("management: address", told, why, confirmed_by="ADR-7")
        if self._order.has_spare_cables:
            yield Line("spanning tree", "off until its line", "else it opens what carries meanwhile")
        yield from settings.vlans(net, switch, is_first=self._is_last)
        for trunk in self._trunks:
            yield from self._beside(trunk)
        for index in (*self._order.waiting, *self._order.never):
            if switch.name in self._plan.links[index].switches():
                yield from self._tagged_only([link_row(net, switch.name, index)])
        if self._own is not None and self._pages():
            told = f"tagged VLAN {', '.join(map(str, self._pages()))}; untagged VLAN {BEGINS_IN} stays"
            yield Line(f"ports: {self._own}", told, "the laptop's own", (self._own,))
        for trunk in self._trunks:
            for index in trunk.links[1:] if trunk.near == switch.name else ():
                yield Line("cables", f"plug in {trunk_name(self._plan, (index,))}", "both ends of the bundle are made")
        yield from self._check(first=True)

    def _tagged(self, row: PortRow) -> list[int]:
        return sorted(self._net.vlan(z) for z in row.tagged)

    def _beside(self, trunk: Trunk) -> Iterator[Line]:
        """The first cable goes on with what all began in; further ones of a bundle have the tagged VLANs meanwhile."""
        rows = [link_row(self._net, self._switch.name, index) for index in trunk.links]
        if rows[0].mode != "trunk" or not rows[0].tagged:
            return
        if len(rows) > 1:
            yield self._bundled(trunk, rows[1:])
            yield from self._tagged_only(rows[1:], without=BEGINS_IN)
            return
        told = ", ".join(str(v) for v in self._tagged(rows[0]) if v != BEGINS_IN)
        if told:
            enter = f"tagged VLAN {told}; untagged VLAN {BEGINS_IN} stays"
            yield Line(f"ports: {rows[0].port}", enter, rows[0].label, (rows[0].port,))

    def _bundled(self, trunk: Trunk, rows: list[PortRow]) -> Line:
        own = tuple(row.port for row in rows)
        name = self._plan.links[trunk.links[0]].bundle
        return Line(f"bundle {name}", f"{ports(own)} into it, LACP active (IEEE 802.1AX)", rows[0].label, own)

    def _tagged_only(self, rows: list[PortRow], without: int = 0) -> Iterator[Line]:
        for row in rows:
            if row.mode == "trunk" and row.tagged:
                told = f"tagged VLAN {', '.join(str(v) for v in self._tagged(row) if v != without)}; tagged frames only"
                yield Line(f"ports: {row.port}", told, row.label, (row.port,), "ZON-3")

    # Second round

    def _second(self) -> Iterator[Line]:
        net, switch = self._net, self._switch
        yield from settings.letting_in(net, switch)
        yield from settings.multicast(net, switch)
        yield from settings.spanning_tree(net, switch, self._order)
        yield from settings.device_ports(net, switch, self._order)
        for zone in routing.gateways(net, switch):
            yield routing.gateway(zone)
        yield from routing.ways(net, switch)
        yield from routing.access_list(net, switch)
        if self._page is not None and self._page != BEGINS_IN:
            told = f"VLAN {self._page} in place of VLAN {BEGINS_IN}"
            yield Line("management: VLAN", told, "the page answers there and nowhere else", confirmed_by="ADR-7")
            yield self._ping(self._order.switches)
        leg = self._leg_of_page()
        if leg is not None:
            yield leg
        for trunk in self._trunks:
            yield from self._without_untagged(trunk)
        if self._third:
            yield from self._check(first=False)
            return
        if self._trunks:
            yield self._ping(self._order.switches)
        yield from self._end()

    def _leg_of_page(self) -> Line | None:
        """The router's address in the zone of its page, where that is another one."""
        own = self._switch.management
        if own is None or not self._switch.routes:
            return None
        zone = self._plan.zone(self._plan.zone(own.zone).family)
        return routing.gateway(zone) if zone.gateway not in (None, own.address) else None

    def _without_untagged(self, trunk: Trunk) -> Iterator[Line]:
        rows = [link_row(self._net, self._switch.name, index) for index in trunk.links]
        row = rows[0]
        if row.mode == "access":
            yield settings.port_vlan(self._net, row)
        elif row.tagged and len(rows) > 1:
            if BEGINS_IN not in self._tagged(row):
                yield self._bundled(trunk, rows[:1])
        elif row.tagged and BEGINS_IN in self._tagged(row):
            told = f"tagged VLAN {BEGINS_IN}, too; untagged frames are still taken in"
            yield Line(f"ports: {row.port}", told, row.label, (row.port,))
        elif row.tagged:
            told = f"tagged frames only; untagged VLAN {BEGINS_IN} off"
            yield Line(f"ports: {row.port}", told, row.label, (row.port,), "ZON-3")

    def _last(self) -> Iterator[Line]:
        for trunk in self._trunks:
            rows = [link_row(self._net, self._switch.name, index) for index in trunk.links]
            row = rows[0]
            if BEGINS_IN in self._tagged(row) and len(rows) > 1:
                yield from self._tagged_only(rows[1:])
                yield self._bundled(trunk, rows[:1])
            elif BEGINS_IN in self._tagged(row):
                yield Line(f"ports: {row.port}", "tagged frames only", row.label, (row.port,), "ZON-3")
        yield from self._end()

    def _end(self) -> Iterator[Line]:
        """Nothing is needed any more that is not planned. The laptop's own port stays on."""
        idle = [row.port for row in self._rows if row.port != self._own and (row.mode == "off" or not row.zones)]
        if idle:
            yield Line("ports", f"off: {ports(idle)}", "nothing is planned there", tuple(idle), "ZON-1")
        if self._is_last:
            for index in self._order.waiting:
                yield Line("cables", f"plug in {trunk_name(self._plan, (index,))}", "the switches open the loop now")
        if self._own is not None:
            yield self._own_port(self._own)
        yield from self._check(first=False)

    def _own_port(self, port: int) -> Line:
        row = self._net.ports.at(self._switch.name, port)
        where, why = f"ports: {port}", "the laptop's own, last; not off: for whoever looks after the switches"
        if row.mode != "off":
            return settings.port_vlan(self._net, row)
        vlan = self._page if self._page is not None else BEGINS_IN
        return Line(where, f"untagged VLAN {vlan}; nothing tagged", why, (port,))

    # Between

    def _check(self, *, first: bool) -> Iterator[Line]:
        order = self._order.switches
        yield self._ping(order[: order.index(self._switch.name) + 1] if first else order)
        yield Line("configuration", "save it as what the switch starts with", "only once all have answered")

    def _ping(self, some: tuple[str, ...]) -> Line:
        known = {s.name: s.management for s in self._plan.switches}
        pages = [str(own.address) for name in some if (own := known[name]) is not None]
        why = f"from {self._order.laptop or 'its port'}: go on when each answers"
        return Line(
            "on the laptop", f"ping {', '.join(pages)}" if pages else "look whether the page still answers", why
        )
