"""The site as a laboratory: every planned device at its port, with its address; one stranger in each zone that has no device;
the internet behind the router.

How it works. A namespace for each switch (in it an Open vSwitch of its own, which runs the switch's written file, byte for
byte) and for each station; veth pairs are the cables. `Builder.make` plugs in, `switch_on` powers a switch on and loads its
file, `settle` waits for the trees. `Stage.places` says of each leg (interface of a station) where it stands: Leg -> Place.
Neighbours are entered by hand and for good, so that ARP shows nothing but what is asked by ARP. What always holds: no line
of a file is changed, left out or made better; what the rehearsal adds (pages, a laptop, strangers) goes on ports of its own
and stands in `added`. Why whole namespaces: rules, VLAN interfaces and DHCP servers of the files then work as on the real
thing, and two rehearsals never meet.
"""

from __future__ import annotations

import hashlib
import ipaddress
import re
import socket
import time
from collections.abc import Iterator
from dataclasses import dataclass, field
from pathlib import Path

from zentrale.errors import FileRefusedError, InputError, LabError
from zentrale.field.lab import servers
from zentrale.field.lab.namespaces import End, Namespace, build, whole_checksums
from zentrale.field.lab.stations import Leg, Station, set_up, set_up_one
from zentrale.field.lab.switch import LabSwitch
from zentrale.jobs.network.rehearsal import pages
from zentrale.jobs.network.rehearsal.script import Script, file_of, flows_with
from zentrale.jobs.network.standing import Standing
from zentrale.output.network import names, openvswitch
from zentrale.planning.network import NetworkPlan
from zentrale.planning.reach import Party
from zentrale.site.model import INTERNET, Camera, Recorder, Switch, Zone

# Documentation addresses (RFC 5737), for what lies outside.
OUTSIDE, ROUTER_OUTSIDE, OUTSIDE_BITS = "198.51.100.1", "198.51.100.2", 24
WAN = "wan"
# Stations beside the plan's, whose names have no dots.
LAPTOP, INTERNET_HOST = "laptop.here", "host.internet"
_SETTLE_S = 1.5  # nobody asks a switch that still learns its cables
_TREE_WITHIN_S, _LOOK_EVERY_S = 45.0, 0.2  # twice the delay of 15 s, and time to agree (IEEE 802.1Q table 13-5)
_ADDED_PORT = 30_000  # OpenFlow ports that the rehearsal adds to a switch


@dataclass(frozen=True)
class Place:
    """Where a leg stands: which party of the plan it is, at which port of which switch (0: none of the plan's)."""

    party: Party
    switch: str
    port: int


@dataclass
class Stage:
    """The laboratory, once it stands. `added` says in words what is there beside the plan."""

    net: NetworkPlan
    folder: Path
    spaces: dict[str, Namespace] = field(default_factory=dict)
    switches: dict[str, LabSwitch] = field(default_factory=dict)
    stations: dict[str, Station] = field(default_factory=dict)
    places: dict[Leg, Place] = field(default_factory=dict)
    added: list[str] = field(default_factory=list)
    expected: dict[tuple[Party, Party, str], tuple[bool, bool, str]] = field(default_factory=dict)  # by kind of packets
    gateways: dict[Leg, str] = field(default_factory=dict)  # MAC address of the gateway that answered a leg

    @property
    def legs(self) -> list[Leg]:
        return list(self.places)

    def inside_legs(self) -> list[Leg]:
        """Without the internet's, which is on no switch."""
        return [leg for leg, place in self.places.items() if place.party.zone != INTERNET]

    def space_of(self, switch: str) -> Namespace:
        return self.spaces[switch_space(switch)]


def switch_space(name: str) -> str:
    """What its namespace is called, apart from those of devices."""
    return f"switch.{name}"


def mac_of(name: str, given: str) -> str:
    """A device's MAC address; one of its own where the plan gives none (locally administered, IEEE 802)."""
    return given or "02:5a:fd:" + ":".join(re.findall("..", hashlib.sha256(name.encode()).hexdigest()[:6]))


@dataclass(frozen=True)
class _Added:
    """A port that a switch has beside its file: an untagged one of the VLAN, reached by whatever reaches the port `like` (0: by
    the switch's own forwarding alone).
    """

    switch: str
    interface: str
    number: int
    vlan: int
    like: int


class Builder:
    """Makes the stage. `standing` are the files that switches and recorders are given; `extra` are links beside the plan's, for
    what is rehearsed as a slip.
    """

    def __init__(
        self,
        net: NetworkPlan,
        standing: Standing,
        folder: Path,
        extra: tuple[tuple[End, End], ...] = (),
        laptop: str = "",
        *,
        with_pages: bool = False,
    ) -> None:
        """`laptop`: the zone in which somebody plugs one in; empty for none. `with_pages`: those of the switches stand here; then
        no switch can be switched off and on again.
        """
        self._stage = Stage(net, folder)
        self._standing = standing
        self._laptop = laptop
        self._pages = [s for s in net.plan.switches if with_pages and s.management is not None]
        self._net = net
        self._plan = net.plan
        self._cables: list[tuple[End, End]] = list(extra)
        self._added: list[_Added] = []

    def make(self) -> Stage:
        """Namespaces and cables, with addresses; the switches are off. Raises LabError."""
        stage = self._stage
        for camera in self._plan.networked_devices:
            self._camera(camera)
        for recorder in self._plan.recorders:
            self._recorder(recorder)
        for viewer in self._plan.viewers:
            address = self._free_address(viewer.zone, viewer.name)
            self._device(viewer.name, "viewer", viewer.zone, viewer.switch, viewer.port, address)
        for switch in self._pages:
            self._page(switch)
        router = self._net.router()
        if self._laptop:
            self._plug_in(self._laptop)
        if router is not None:
            for zone in self._empty_zones():
                self._stranger(zone, router)
            self._outside(router)
        for link in self._plan.links:
            if link.lit:
                (a, a_port), (b, b_port) = link.ends()
                self._cables.append(
                    (End(switch_space(a), names.port(a_port)), End(switch_space(b), names.port(b_port)))
                )
        spaces = [switch_space(s.name) for s in self._plan.switches] + list(stage.stations)
        stage.spaces = build(spaces, self._cables)
        neighbours = self.neighbours()
        own = {pages.station_of(s.name) for s in self._pages}
        set_up([s for s in stage.stations.values() if s.name not in own], stage.spaces, neighbours)
        for switch in self._plan.switches:
            made = LabSwitch(stage.space_of(switch.name), stage.folder / switch.name)
            stage.switches[switch.name] = made
        return stage

    def neighbours(self) -> dict[str, str]:
        return {leg.address: leg.mac for leg in self._stage.places}

    def ways(self, zone: str) -> str:
        """Whom a device of the zone sends to what is elsewhere: the zone's gateway; where there is none, a recorder, as somebody
        would try who wants to get out.
        """
        family = self._plan.zone(self._plan.zone(zone).family)
        if family.gateway is not None:
            return str(family.gateway)
        legs = [
            leg for r in self._plan.recorders for leg in r.legs() if self._plan.zone(leg.zone).family == family.name
        ]
        return str(legs[0].address) if legs else ""

    def _add(self, name: str, kind: str, legs: list[tuple[str, str, int, str, str]], **more: object) -> None:
        """Legs as zone, switch, port, address and MAC address."""
        made = []
        for index, (zone, switch, port, address, mac) in enumerate(legs):
            bits = self._plan.zone(zone).subnet.prefixlen
            leg = Leg(name, names.leg(index), mac_of(f"{name} {index}", mac), address, bits, f"{name} in {zone}")
            made.append(leg)
            self._stage.places[leg] = Place(Party(kind, zone), switch, port)
            if port:
                end = End(name, leg.interface, leg.mac)
                self._cables.append((End(switch_space(switch), names.port(port)), end))
        self._stage.stations[name] = Station(name, tuple(made), **more)  # type: ignore[arg-type]

    def _device(self, name: str, kind: str, zone: str, switch: str, port: int, address: str, mac: str = "") -> None:
        self._add(name, kind, [(zone, switch, port, address, mac)], gateways=_one_or_none(self.ways(zone)))

    def _camera(self, camera: Camera) -> None:
        known = self._net.device(camera.name)
        address = str(known.address) if known else camera.host
        if not address or camera.translated or not camera.port:
            why = "gives it no address of its own" if camera.port else "does not say its port"
            self._stage.added.append(f"{camera.name} is not there: the plan {why}")
            return
        taken = {(place.switch, place.port) for place in self._stage.places.values()}
        if camera.wireless and (camera.switch, camera.port) in taken:
            self._stage.added.append(
                f"{camera.name} is not there: another device stands behind its access point already"
            )
            return
        row = next(r for r in self._net.ports.of(camera.switch) if r.port == camera.port)
        if camera.wireless and row.mode == "trunk":
            self._stage.added.append(f"{camera.name} is not there: its access point puts several zones onto one port")
            return
        self._device(camera.name, "camera", camera.zone, camera.switch, camera.port, address, camera.mac or "")

    def _page(self, switch: Switch) -> None:
        if not self._net.has_page_of_its_own(switch):
            self._stage.added.append(
                f"the page of {switch.name} is not there: it is at the router, where no packet is tried"
            )
        elif (own := switch.management) is not None:
            name = pages.station_of(switch.name)
            self._add(name, "switch", [(own.zone, switch.name, 0, str(own.address), "")])

    def _recorder(self, recorder: Recorder) -> None:
        """Its system forwards, so that what keeps its legs apart is its file, or nothing."""
        legs = [(x.zone, x.switch, x.port, str(x.address), x.mac or "") for x in recorder.legs()]
        gateways = [str(g) for x in recorder.legs() if (g := self._plan.zone(x.zone).gateway)]
        kept_apart = recorder.viewing is not None and not servers.lacks_rules()
        self._add(recorder.name, "recorder", legs, gateways=tuple(gateways), forwards=recorder.forwards or kept_apart)

    def _empty_zones(self) -> Iterator[Zone]:
        taken = {place.party.zone for place in self._stage.places.values() if place.party.kind != "switch"}
        yield from (z for z in self._net.routed_zones() if z.name not in taken)

    def _stranger(self, zone: Zone, router: Switch) -> None:
        """A device of nobody in particular, at a port that is added for it."""
        name = f"device.{zone.name}"
        address = self._free_address(zone.name, name)
        self._add(name, "device", [(zone.name, router.name, 0, address, "")], gateways=_one_or_none(str(zone.gateway)))
        leg = self._stage.stations[name].legs[0]
        like = names.INTERNAL_PORT + zone.vlan if self._net.is_private(zone.name) else 0
        added = _Added(router.name, f"x{zone.vlan}", _ADDED_PORT + len(self._added), zone.vlan, like)
        self._cables.append((End(switch_space(router.name), added.interface), End(name, leg.interface, leg.mac)))
        self._added.append(added)
        self._stage.added.append(f"a device in {zone.name}, where the plan has none, at a port added to {router.name}")

    def _plug_in(self, zone: str) -> None:
        """A laptop at a port that is added for it: beside the zone's first device, else at the router. Raises InputError."""
        router, known = self._net.router(), self._plan.zone(zone)
        place = next((p for p in self._stage.places.values() if p.port and p.party.zone == zone), None)
        at = place.switch if place else router.name if router else self._plan.switches[0].name
        like = place.port if place else 0
        if like == 0 and self._net.is_private(zone):
            if router is None or known.gateway is None:
                raise InputError(
                    f"--from {zone}: nobody stands in it, so no file says how a port of this private VLAN is",
                    "choose a zone with a device in it",
                )
            like = names.INTERNAL_PORT + known.vlan
        number = self._plan.switch_type(self._plan.switch(at)).ports + 1
        self._added.append(_Added(at, names.port(number), number, known.vlan, like))
        self._add(
            LAPTOP,
            "device",
            [(zone, at, number, self._free_address(zone, LAPTOP), "")],
            gateways=_one_or_none(self.ways(zone)),
        )
        self._stage.added.append(f"a laptop in {zone}, at a port added to {at}")

    def _outside(self, router: Switch) -> None:
        leg = Leg(INTERNET_HOST, names.leg(0), mac_of(INTERNET, ""), OUTSIDE, OUTSIDE_BITS, INTERNET)
        self._stage.places[leg] = Place(Party(INTERNET, INTERNET), router.name, 0)
        routes = tuple((str(zone.subnet), ROUTER_OUTSIDE) for zone in self._plan.zones if zone.primary is None)
        self._stage.stations[INTERNET_HOST] = Station(INTERNET_HOST, (leg,), routes=routes)
        self._cables.append((End(switch_space(router.name), WAN), End(INTERNET_HOST, leg.interface, leg.mac)))

    def _free_address(self, zone: str, name: str) -> str:
        """For a device whose address nobody plans: from the zone's pool or the end of its block."""
        block = self._net.block(zone)
        taken = {str(d.address) for d in self._net.addresses.devices} | {x.address for x in self._stage.places}
        reserved = self._net.pool(self._plan.zone(self._plan.zone(zone).family))
        for host in reversed(list(block.network.hosts()) if block.network.prefixlen >= 20 else []):
            inside = reserved is not None and reserved[0] <= host <= reserved[1]
            if str(host) not in taken and host != block.gateway and not inside:
                return str(host)
        return str(ipaddress.IPv4Address(int(block.network.broadcast_address) - 1))

    def switch_on(self, name: str) -> None:
        """Power on and the commands of its file, byte for byte; then what the rehearsal adds. Raises LabError."""
        stage, switch = self._stage, self._stage.switches[name]
        router = self._net.router()
        self._before(switch.space, is_router=router is not None and router.name == name)
        switch.start()
        try:
            switch.load(self._standing.path(file_of(name)))
            if names.short(name) not in switch.tell("ovs-vsctl", "list-br").split():
                raise LabError(f"{self._standing.path(file_of(name))}: makes no bridge {names.short(name)}")
        except LabError as error:
            raise FileRefusedError(str(error)) from None
        self._add_ports(name, switch)
        page = stage.stations.get(pages.station_of(name))
        if page is not None:
            pages.take_out(switch.space, stage.spaces[page.name], page, self.neighbours())
        if router is not None and router.name == name:
            self._after_router(switch.space, stage)

    def _add_ports(self, name: str, switch: LabSwitch) -> None:
        script = Script(self._standing.files[file_of(name)].text)
        flows: list[str] = []
        bridge = script.bridge() or names.short(name)
        for added in (a for a in self._added if a.switch == name):
            switch.tell(
                "ovs-vsctl", "add-port", bridge, added.interface, f"tag={added.vlan}", "vlan_mode=access",
                "other_config:rstp-port-admin-edge=true", "--", "set", "Interface", added.interface,
                f"ofport_request={added.number}",
            )  # fmt: skip
            if added.like:
                flows = flows_with(flows or script.flows, added.like, added.number)
        if flows:
            switch.tell("ovs-ofctl", "-O", "OpenFlow13", "replace-flows", bridge, "-", text="\n".join([*flows, ""]))

    def settle(self) -> list[str]:
        """Waits until all ports are as they stay, then forgets what was learned before; the ports that never came to it."""
        time.sleep(_SETTLE_S)
        trees = {n: s for n, s in self._stage.switches.items() if s.has_tree(names.short(n))}
        end = time.monotonic() + _TREE_WITHIN_S
        left: list[str] = []
        while trees and time.monotonic() < end:
            left = [f"{name}:{port}" for name, switch in trees.items() for port in switch.unsettled(names.short(name))]
            if not left:
                break
            time.sleep(_LOOK_EVERY_S)
        for name, switch in trees.items():
            switch.forget(names.short(name), openvswitch.LEARNED)
        return left

    def _before(self, space: Namespace, *, is_router: bool) -> None:
        for where in ("all", "default", *([WAN] if is_router else [])):
            for key in ("route_localnet", "accept_local"):
                space.set(f"ipv4/conf/{where}/{key}", "1")
            space.set(f"ipv4/conf/{where}/rp_filter", "0")

    def _after_router(self, space: Namespace, stage: Stage) -> None:
        """Its way out, its neighbours, and what may pass."""
        outside = Station(
            "router",
            (Leg("router", WAN, "", ROUTER_OUTSIDE, OUTSIDE_BITS, "router"),),
            gateways=(OUTSIDE,),
            forwards=True,
        )
        set_up_one(outside, space, self.neighbours())
        # Its system sees what passes the ports of the switch that it is, too, and is not to answer there.
        space.set("ipv4/conf/all/arp_ignore", "1")
        for zone in self._net.routed_zones():
            interface = names.vlan(zone.vlan)
            if not has_interface(space, interface):
                continue  # its file makes no such leg: nobody answers there, and that is told
            space.set(f"ipv4/conf/{interface}/route_localnet", "1")
            space.set(f"ipv4/conf/{interface}/rp_filter", "0")
            with space.inside():
                whole_checksums(interface)
            mac = interface_mac(space, interface)
            lines = [
                f"neigh replace {leg.address} lladdr {leg.mac} dev {interface} nud permanent"
                for leg, place in stage.places.items()
                if place.party.zone != INTERNET and self._plan.zone(place.party.zone).family == zone.name
            ]
            space.call("ip", "-batch", "-", text="\n".join([*lines, ""]))
            for leg in stage.inside_legs():  # found before, and now behind a new interface
                if leg in stage.gateways and self._plan.zone(stage.places[leg].party.zone).family == zone.name:
                    self.enter_gateway(leg, mac)
        wan = interface_mac(space, WAN)
        stage.spaces[INTERNET_HOST].call(
            "ip", "neigh", "replace", ROUTER_OUTSIDE, "lladdr", wan, "dev", names.leg(0), "nud", "permanent"
        )

    def enter_gateway(self, leg: Leg, mac: str) -> None:
        """For good, as all neighbours here. Raises LabError."""
        gateway, space = self.ways(self._stage.places[leg].party.zone), self._stage.spaces[leg.station]
        space.call("ip", "neigh", "replace", gateway, "lladdr", mac, "dev", leg.interface, "nud", "permanent")
        self._stage.gateways[leg] = mac


def _one_or_none(gateway: str) -> tuple[str, ...]:
    return (gateway,) if gateway else ()


def has_interface(space: Namespace, interface: str) -> bool:
    with space.inside():
        return interface in {name for _, name in socket.if_nameindex()}


def interface_mac(space: Namespace, interface: str) -> str:
    told = space.call("ip", "-o", "link", "show", "dev", interface)
    found = re.search(r"link/ether ([0-9a-f:]{17})", told)
    return found[1] if found else ""
