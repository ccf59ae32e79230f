"""The classic slips, made on purpose on a network that stands: to practise on, and to see that each of them is found."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass, field, replace

from zentrale.errors import InputError
from zentrale.field.lab.namespaces import End
from zentrale.field.lab.servers import DhcpServer
from zentrale.field.lab.stations import set_up_one
from zentrale.jobs.network.rehearsal.stage import Builder, Stage, switch_space
from zentrale.output.network import names, openvswitch
from zentrale.planning.network import NetworkPlan
from zentrale.planning.ports import PortRow
from zentrale.site.model import Switch


@dataclass
class Broken:
    """What a slip did, in words, and what it keeps running. `no_querier`: nobody is to ask for groups."""

    what: str
    servers: list[DhcpServer] = field(default_factory=list)
    no_querier: bool = False


Make = Callable[[Stage, Builder], Broken]


@dataclass(frozen=True)
class Slip:
    """`cables` are laid before the network stands; `make` does the rest. Both raise InputError where the site has no place."""

    name: str
    about: str
    make: Make
    cables: Callable[[NetworkPlan], tuple[tuple[End, End], ...]] = lambda net: ()


def slip(name: str) -> Slip:
    """Raises InputError for a name that is none."""
    found = next((s for s in SLIPS if s.name == name), None)
    if found is None:
        raise InputError(f"--break {name}: no such slip", f"expected one of: {', '.join(s.name for s in SLIPS)}")
    return found


def _no_place(name: str, lacks: str) -> InputError:
    return InputError(f"--break {name}: {lacks}", "choose another slip for this site")


def _reload(stage: Stage, builder: Builder, switch: Switch, rows: list[PortRow]) -> None:
    """The switch as somebody set it who had other ports in mind."""
    others = [r for r in stage.net.ports.rows if r.switch != switch.name]
    net = replace(stage.net, ports=replace(stage.net.ports, rows=(*others, *rows)))
    script = stage.folder / f"slip.{switch.name}.sh"
    script.write_text(openvswitch.commands(net, switch))
    builder.load(switch.name, script)


def _camera_row(net: NetworkPlan, name: str) -> PortRow:
    row = next((r for r in net.ports.rows if r.kind == "camera" and r.mode == "access"), None)
    if row is None:
        raise _no_place(name, "no camera stands at a port of its own")
    return row


def _wrong_vlan(stage: Stage, builder: Builder) -> Broken:
    net = stage.net
    row = _camera_row(net, "wrong-vlan")
    family = net.plan.zone(row.access).family
    other = next((z for z in net.plan.zones if z.family != family), None)
    if other is None:
        raise _no_place("wrong-vlan", "the site has one VLAN")
    switch = net.plan.switch(row.switch)
    rows = [replace(r, access=other.name, role="") if r is row else r for r in net.ports.of(row.switch)]
    _reload(stage, builder, switch, rows)
    return Broken(f"{row.switch} port {row.port} ({row.device}) is put into VLAN {other.vlan} ({other.name})")


def _trunk_row(net: NetworkPlan, name: str) -> tuple[PortRow, str]:
    """A trunk port of a switch with cameras, and the zone of these."""
    for row in net.ports.rows:
        zones = {r.access for r in net.ports.of(row.switch) if r.kind == "camera" and r.mode == "access"}
        if row.kind == "link" and row.mode == "trunk" and (here := [z for z in row.tagged if z in zones]):
            return row, here[0]
    raise _no_place(name, "no cameras stand behind a link between switches")


def _trunk(stage: Stage, builder: Builder) -> Broken:
    row, zone = _trunk_row(stage.net, "trunk-without-zone")
    rows = [
        replace(r, tagged=tuple(z for z in r.tagged if z != zone)) if r is row else r
        for r in stage.net.ports.of(row.switch)
    ]
    _reload(stage, builder, stage.net.plan.switch(row.switch), rows)
    vlan = stage.net.vlan(zone)
    return Broken(f"{row.switch} port {row.port}, the trunk {row.label}, is left without VLAN {vlan} ({zone})")


def _per_switch(stage: Stage, builder: Builder) -> Broken:
    """What comes by a trunk goes to every port of its VLAN, as where ports are only protected from their neighbours."""
    net, done = stage.net, []
    for switch in net.plan.switches:
        rows = [r for r in net.ports.of(switch.name) if r.mode != "off"]
        isolated = [r for r in rows if r.role == "isolated"]
        trunks = [r for r in rows if r.mode == "trunk" and r.kind == "link"]
        if not isolated or not trunks:
            continue
        vlan = net.vlan(isolated[0].access)
        outputs = ",".join(f"output:{r.port}" for r in isolated if net.vlan(r.access) == vlan)
        promiscuous = ",".join(f"output:{r.port}" for r in rows if r.role == "promiscuous")
        on = ",".join(f"output:{r.port}" for r in trunks if vlan in {net.vlan(z) for z in r.tagged})
        actions = ",".join(a for a in ("strip_vlan", outputs, promiscuous, f"mod_vlan_vid:{vlan}", on) if a)
        for trunk in trunks:
            rule = f"table=0,priority=150,in_port={trunk.port},dl_vlan={vlan},actions={actions}"
            stage.switches[switch.name].tell(
                "ovs-ofctl", "-O", "OpenFlow13", "add-flow", names.short(switch.name), rule
            )
        done.append(switch.name)
    if len(done) < 2:
        raise _no_place("per-switch-protection", "isolated ports stand on fewer than two switches")
    return Broken(f"isolated ports are kept apart on each of {', '.join(done)}, and not across their trunks")


def _forwarding(stage: Stage, builder: Builder) -> Broken:
    recorder = next((r for r in stage.net.plan.recorders if r.viewing is not None and not r.forwards), None)
    if recorder is None:
        raise _no_place("recorder-forwards", "no recorder has a second leg")
    space = stage.spaces[recorder.name]
    space.call("nft", "flush", "ruleset")
    space.set("ipv4/ip_forward", "1")
    for leg in stage.stations[recorder.name].legs:
        space.set(f"ipv4/conf/{leg.interface}/forwarding", "1")
    return Broken(f"{recorder.name} forwards packets between its legs, and its rules are gone")


def _second_dhcp(stage: Stage, builder: Builder) -> Broken:
    net = stage.net
    for zone in net.gives_addresses():
        legs = [leg for leg, p in stage.places.items() if p.party.zone == zone.name and p.party.kind != "camera"]
        if len(legs) > 1 or (legs and net.router() is not None and zone in net.routed_zones()):
            leg = legs[-1]
            file = stage.folder / "slip.dhcp.conf"
            first = int(zone.subnet.network_address)
            file.write_text(
                f"port=0\nno-ping\ndhcp-range={_dotted(first + 1)},{_dotted(first + 20)},{zone.subnet.netmask},3600\n"
            )
            server = DhcpServer(stage.spaces[leg.station], leg.interface, file, stage.folder / "slip.dhcp")
            return Broken(f"a second DHCP server answers at {leg.station} in {zone.name}", [server])
    raise _no_place("second-dhcp", "no zone has a DHCP server and another device that sees all of it")


def _dotted(number: int) -> str:
    return ".".join(str(number >> shift & 255) for shift in (24, 16, 8, 0))


def _no_querier(stage: Stage, builder: Builder) -> Broken:
    if not [z for z in stage.net.multicast.zones if not stage.net.is_private(z.zone)]:
        raise _no_place("no-querier", "nobody watches by multicast")
    return Broken("nobody asks for multicast groups", no_querier=True)


def _duplicate(stage: Stage, builder: Builder) -> Broken:
    cameras = [s for s in stage.stations.values() if stage.places[s.legs[0]].party.kind == "camera"]
    pairs = [(a, b) for a in cameras for b in cameras if a is not b and _zone(stage, a.name) == _zone(stage, b.name)]
    if not pairs:
        raise _no_place("duplicate-address", "the site has fewer than two cameras in one zone")
    taken, other = pairs[0]
    old, new = other.legs[0], replace(other.legs[0], address=taken.legs[0].address)
    stage.places = {new if leg == old else leg: place for leg, place in stage.places.items()}
    stage.stations[other.name] = replace(other, legs=(new,))
    stage.spaces[other.name].call("ip", "address", "del", f"{old.address}/{old.prefix}", "dev", old.interface)
    set_up_one(stage.stations[other.name], stage.spaces[other.name], builder.neighbours())
    return Broken(f"{other.name} has the address of {taken.name}, {new.address}")


def _zone(stage: Stage, station: str) -> str:
    return stage.places[stage.stations[station].legs[0]].party.zone


def _ring_ports(net: NetworkPlan) -> tuple[PortRow, PortRow, tuple[str, ...]]:
    """Two free ports of two switches that are joined already, and the zones on the link between them."""
    for link in net.plan.links:
        (a, a_port), (b, _) = link.ends()
        free = [
            next(
                (r for r in net.ports.of(s) if r.mode == "off" and r.kind in ("free", "link") and not _lit(net, r)),
                None,
            )
            for s in (a, b)
        ]
        carried = next((r.tagged for r in net.ports.of(a) if r.port == a_port), ())
        if link.lit and free[0] is not None and free[1] is not None and carried:
            return free[0], free[1], carried
    raise _no_place("ring", "no two joined switches have a free port each")


def _lit(net: NetworkPlan, row: PortRow) -> bool:
    return any(link.lit and (row.switch, row.port) in link.ends() for link in net.plan.links)


def _ring_cable(net: NetworkPlan) -> tuple[tuple[End, End], ...]:
    a, b, _ = _ring_ports(net)
    return ((End(switch_space(a.switch), names.port(a.port)), End(switch_space(b.switch), names.port(b.port))),)


def _ring(stage: Stage, builder: Builder) -> Broken:
    a, b, zones = _ring_ports(stage.net)
    for row, other in ((a, b), (b, a)):
        joined = replace(
            row, kind="link", mode="trunk", tagged=zones, device=f"{other.switch}:{other.port}", label="a second way"
        )
        rows = [joined if r is row else r for r in stage.net.ports.of(row.switch)]
        switch = stage.net.plan.switch(row.switch).model_copy(update={"loop_protection": "none"})
        _reload(stage, builder, switch, rows)
    return Broken(f"{a.switch} port {a.port} and {b.switch} port {b.port} are joined too, without spanning tree")


SLIPS: list[Slip] = [
    Slip("wrong-vlan", "a camera's port in another VLAN", _wrong_vlan),
    Slip("trunk-without-zone", "a trunk that does not carry the camera zone", _trunk),
    Slip("per-switch-protection", "isolated ports kept apart on each switch only", _per_switch),
    Slip("recorder-forwards", "a recorder that forwards between its legs", _forwarding),
    Slip("second-dhcp", "another DHCP server in the zone", _second_dhcp),
    Slip("no-querier", "nobody asks for multicast groups", _no_querier),
    Slip("duplicate-address", "two cameras with one address", _duplicate),
    Slip("ring", "two switches joined twice without spanning tree", _ring, _ring_cable),
]


def told() -> Iterator[str]:
    for item in SLIPS:
        yield f"{item.name}: {item.about}"
