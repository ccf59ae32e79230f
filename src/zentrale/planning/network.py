"""The network as it is to be configured: what the writers of configuration and the rehearsal share.

A private VLAN (RFC 5517) is a family: the primary VLAN and its secondaries. Frames keep the VLAN of the port that they came in by
on every trunk, so that each switch knows whom they may reach.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass
from functools import cached_property
from ipaddress import IPv4Address

import networkx as nx

from zentrale.planning.access_list import RouterRule, router_rules
from zentrale.planning.addresses import AddressPlan, DeviceAddress, ZoneAddresses, plan_addresses
from zentrale.planning.multicast import MulticastPlan, StreamGroup, plan_multicast
from zentrale.planning.ports import PortRow, PortTables, plan_ports
from zentrale.planning.power import plan_power
from zentrale.planning.reach import ReachPlan, plan_reach
from zentrale.planning.topology import Graph, lit_network, trunks_of
from zentrale.site.model import Plan, Switch, Zone


@dataclass(frozen=True)
class GroupCopy:
    """A group that a switch copies from the VLAN of its senders into that of its listeners."""

    switch: str
    group: str
    from_vlan: int
    to_zone: str


@dataclass(frozen=True)
class NetworkPlan:
    plan: Plan
    ports: PortTables
    addresses: AddressPlan
    reach: ReachPlan
    multicast: MulticastPlan

    @cached_property
    def router_rules(self) -> tuple[RouterRule, ...]:
        return router_rules(self.plan)

    def vlan(self, zone: str) -> int:
        return self.plan.zone(zone).vlan

    def families(self) -> list[Zone]:
        """The primaries of private VLANs."""
        primaries = {z.primary for z in self.plan.zones}
        return [z for z in self.plan.zones if z.name in primaries]

    def secondaries(self, primary: Zone) -> list[Zone]:
        return [z for z in self.plan.zones if z.primary == primary.name]

    def is_private(self, zone: str) -> bool:
        return any(self.plan.zone(zone).family == p.name for p in self.families())

    def routed_zones(self) -> list[Zone]:
        """Those that a router has a leg in; of a private VLAN its primary."""
        return [z for z in self.plan.zones if z.gateway is not None and z.primary is None]

    def bundles(self, switch: str) -> list[tuple[int, ...]]:
        """Ports of the switch that carry together (IEEE 802.1AX)."""
        links = self.plan.links
        return [
            tuple(port for index in trunk for name, port in links[index].ends() if name == switch)
            for trunk in trunks_of(self.plan)
            if len(trunk) > 1 and switch in links[trunk[0]].switches()
        ]

    def spans(self, switch: str) -> bool:
        """Whether it runs a spanning tree; one that has a ring protocol does so where it is played by a switch that has none."""
        return self.plan.switch(switch).loop_protection in ("rstp", "mstp", "ring")

    def bonds(self, switch: str) -> list[tuple[int, ...]]:
        """The bundles that a software switch carries as one: those between two switches without a spanning tree, since it runs
        none on bundles.
        """
        apart = self._links_with_a_tree(switch, any)
        return [bundle for bundle in self.bundles(switch) if not apart & set(bundle)]

    def idle_cables(self, switch: str) -> set[int]:
        """Ports of bundles that a software switch leaves dark: where only one end has a spanning tree, nothing opens a loop."""
        mixed = self._links_with_a_tree(switch, any) - self._links_with_a_tree(switch, all)
        return {port for bundle in self.bundles(switch) for port in bundle[1:] if port in mixed}

    def _links_with_a_tree(self, switch: str, of: Callable[[Iterable[bool]], bool]) -> set[int]:
        return {
            port
            for link in self.plan.links
            if of(self.spans(name) for name in link.switches())
            for name, port in link.ends()
            if name == switch
        }

    def router(self) -> Switch | None:
        """The switch that routes between zones; None where the plan names none."""
        return next((s for s in self.plan.switches if s.routes), None)

    def gateways_without_router(self) -> bool:
        return bool(self.routed_zones()) and self.router() is None

    def block(self, zone: str) -> ZoneAddresses:
        return next(z for z in self.addresses.zones if z.zone == zone)

    def device(self, name: str) -> DeviceAddress | None:
        return next((d for d in self.addresses.devices if d.name == name), None)

    def reserved(self, zone: Zone) -> list[DeviceAddress]:
        """The devices of a zone and, where it is a primary, of its secondaries, whose MAC address is known."""
        names = {z.name for z in self.plan.zones if z.family == zone.name}
        return [d for d in self.addresses.devices if d.zone in names and d.mac and not d.translated]

    def pool(self, zone: Zone) -> tuple[IPv4Address, IPv4Address] | None:
        """The addresses that strangers get in the zone or one of its secondaries; what is only proposed binds nobody."""
        blocks = [z.pool for z in self.plan.zones if z.family == zone.name and z.pool is not None]
        return (blocks[0].first, blocks[0].last) if blocks else None

    def gives_addresses(self) -> list[Zone]:
        """Zones in which a DHCP server has something to give."""
        return [z for z in self.plan.zones if z.primary is None and (self.reserved(z) or self.pool(z))]

    def has_page_of_its_own(self, switch: Switch) -> bool:
        """Whether its page has an interface of its own; that of a router answers at its leg in the zone."""
        return switch.management is not None and not (switch.routes and self.gateway_of(switch.management.zone))

    def page_port(self, switch: Switch, number: int) -> PortRow | None:
        """The switch's own page as a port of it, untagged in its zone; None where it has no address of its own."""
        if switch.management is None or not self.has_page_of_its_own(switch):
            return None
        return PortRow(
            switch.name, number, "switch", switch.name, f"page of {switch.name}", None, "access", switch.management.zone, (),
            "", 0, False, None, "", False, "none", False,
        )  # fmt: skip

    def gateway_of(self, zone: str) -> IPv4Address | None:
        return self.plan.zone(self.plan.zone(zone).family).gateway

    def tree_priority(self, switch: str) -> int:
        """Bridge priority (IEEE 802.1Q clause 13.26.2): the lowest is the root, where the recorders are."""
        core = self.plan.recorders[0].switch if self.plan.recorders else ""
        return 4096 if switch == core else 32768

    def lets_out(self, vlan_zone: Zone, row: PortRow) -> bool:
        """Whether a frame that belongs to this zone's VLAN may leave by this port (RFC 5517 section 3 for private ones)."""
        if row.mode == "trunk":
            return vlan_zone.name in row.zones
        if row.mode != "access":
            return False
        other = self.plan.zone(row.access)
        if other.family != vlan_zone.family:
            return False
        if vlan_zone.primary is None or other.primary is None:
            return True  # from or to a promiscuous port, or a VLAN like any other
        return other.name == vlan_zone.name and vlan_zone.private == "community"

    def multicast_targets(self, group: StreamGroup, switch: str) -> tuple[set[str], set[int]]:
        """Switches that the group goes to: those of its listeners, or the one that copies it to them; and the listeners' ports on
        `switch`.
        """
        family = self.plan.zone(group.zone).family
        listeners = [v for v in self.plan.viewers if v.name in group.listeners]
        near = [v for v in listeners if self.plan.zone(v.zone).family == family]
        targets = {v.switch for v in near}
        if len(near) < len(listeners):
            targets |= {s.name for s in self.plan.switches if s.copies_multicast}
        return targets, {v.port for v in near if v.switch == switch}

    def leads_to(self, switch: str, neighbour: str, targets: set[str]) -> bool:
        """Whether a link to this neighbour is on a way to one of them; on a ring both directions are."""
        graph = self._graph
        if not graph.has_edge(switch, neighbour):
            return False
        rest = graph.subgraph([node for node in graph if node != switch])
        return any(t != switch and nx.has_path(rest, neighbour, t) for t in targets)

    @cached_property
    def _graph(self) -> Graph:
        return lit_network(self.plan)

    def is_routed(self, group: StreamGroup) -> bool:
        """Whether a router has to pass the group on to its listeners: none of the written files does that."""
        family = self.plan.zone(group.zone).family
        away = [v for v in self.plan.viewers if v.name in group.listeners and self.plan.zone(v.zone).family != family]
        return bool(away) and not any(s.copies_multicast for s in self.plan.switches)

    def copies(self) -> Iterator[GroupCopy]:
        """The groups that reach listeners in another zone without a router: copied by the switches that do so."""
        listeners = {v.name: v for v in self.plan.viewers}
        for switch in self.plan.switches:
            for group in self.multicast.groups if switch.copies_multicast else ():
                for zone in dict.fromkeys(listeners[name].zone for name in group.listeners):
                    if self.plan.zone(zone).family != self.plan.zone(group.zone).family:
                        yield GroupCopy(switch.name, group.group, self.vlan(group.zone), zone)


def plan_network(plan: Plan) -> NetworkPlan:
    ports = plan_ports(plan, plan_power(plan))
    return NetworkPlan(plan, ports, plan_addresses(plan), plan_reach(plan), plan_multicast(plan))
