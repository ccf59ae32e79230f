"""The work sheet of one switch: one line a fact, in an order in which its page goes on answering the laptop.

In the first round nothing goes: VLANs are made, links carry them with a tag beside the untagged VLAN that all began in. In the
second, far switches first, the page moves into its VLAN, and what was left untagged goes. Where the plan itself uses that first
VLAN with a tag, a third round takes it away untagged, once both ends of a link send it with the tag; bundles may need a fourth.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

from zentrale.planning.by_hand import cables, routing, settings
from zentrale.planning.by_hand.line import Line, ports
from zentrale.planning.by_hand.order import BEGINS_IN, Order, link_row, orders, page_vlan, page_vlans_at
from zentrale.planning.network import NetworkPlan
from zentrale.planning.topology import trunk_name
from zentrale.site.model import Switch

_BACK = (
    "If the page stops answering: wait a minute, then switch it off and on again; it begins as it was last saved. A switch that "
    "saves by itself takes back the file of line 1, by its console."
)


_TITLES = (
    "First round: nothing goes yet",
    "Second round, once all switches have had the first",
    "Third round, once all switches have had the second",
    "Fourth round, once all switches have had the third",
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
        self._trunks = sorted(order.trunks_of(switch.name), key=lambda t: link_row(net, switch.name, t.links[0]).port)

    def sheet(self) -> WorkSheet:
        kind = self._plan.switch_type(self._switch)
        rounds = tuple(
            Round(turn, _TITLES[turn - 1], tuple(self._lines(turn))) for turn in range(1, self._order.rounds + 1)
        )
        about = f"{kind.maker} {kind.model}, {self._switch.cabinet}"
        return WorkSheet(self._switch.name, about, self._order, tuple(self._notes()), rounds)

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
            text = "; ".join(trunk_name(plan, some) for some in dark)
            yield f"Unplugged until a line plugs them in: {text}. Else frames go round in circles."
        if order.never:
            text = "; ".join(trunk_name(plan, (i,)) for i in order.never)
            yield f"Unplugged for good: {text}. No switch opens this loop (RES-3, RES-4)."
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
        yield _BACK

    def _pages(self) -> list[int]:
        """VLANs that pages move into."""
        return sorted({v for v in page_vlans_at(self._net, self._order) if v != BEGINS_IN})

    def _subnets(self, vlans: list[int]) -> str:
        return " and ".join(str(z.subnet) for z in self._plan.zones if z.vlan in vlans)

    def _lines(self, turn: int) -> Iterator[Line]:
        if turn == 1:
            yield from self._first()
        elif turn == 2:
            yield from self._second()
        for trunk in self._trunks:
            yield from cables.entered(self._net, self._switch.name, trunk, turn)
        if turn == 1:
            yield from self._beside_the_tree()
        for trunk in self._trunks:
            yield from cables.plugged(self._net, trunk, turn) if trunk.near == self._switch.name else ()
        if turn == self._order.rounds:
            if self._trunks:
                yield self._ping(self._order.switches)
            yield from self._end()
        yield from self._check(first=turn == 1)

    # First round

    def _first(self) -> Iterator[Line]:
        net, switch = self._net, self._switch
        yield Line("configuration", f"save the present one on the laptop: {switch.name}-before", "the way back")
        own = switch.management
        if own is not None:
            gateway = net.gateway_of(own.zone)
            way = f", gateway {gateway}" if gateway is not None and not switch.routes else ""
            text = f"{own.address}, mask {self._plan.zone(own.zone).subnet.netmask}{way}; VLAN {BEGINS_IN} as it is"
            why = "alone on the cable, where several come with the same one"
            yield Line("management: address", text, why, confirmed_by="ADR-7")
        if self._order.has_spare_cables:
            yield Line("spanning tree", "off until its line", "else it opens what carries meanwhile")
        yield from settings.vlans(net, switch, is_first=self._is_last)

    def _beside_the_tree(self) -> Iterator[Line]:
        """Cables that are not plugged in yet, and the laptop's own port."""
        net, switch = self._net, self._switch
        yield from cables.waiting(net, switch.name, (*self._order.waiting, *self._order.never))
        if self._own is not None and self._pages():
            text = f"tagged VLAN {', '.join(map(str, self._pages()))}; untagged VLAN {BEGINS_IN} stays"
            yield Line(f"ports: {self._own}", text, "the laptop's own", (self._own,))

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
            text = f"VLAN {self._page} in place of VLAN {BEGINS_IN}"
            yield Line("management: VLAN", text, "the page answers there and nowhere else", confirmed_by="ADR-7")
            yield self._ping(self._order.switches)
        leg = self._leg_of_page()
        if leg is not None:
            yield leg

    def _leg_of_page(self) -> Line | None:
        """The router's address in the zone of its page, where that is another one."""
        own = self._switch.management
        if own is None or not self._switch.routes:
            return None
        zone = self._plan.zone(self._plan.zone(own.zone).family)
        return routing.gateway(zone) if zone.gateway not in (None, own.address) else None

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
