"""The classic slips, made on purpose in a copy of the files or at a device: to practise on, and to see that each is found."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, field, replace
from ipaddress import IPv4Address

from zentrale.errors import InputError
from zentrale.field.lab.namespaces import End
from zentrale.field.lab.servers import DhcpServer, lacks_rules
from zentrale.field.lab.stations import set_up_one
from zentrale.jobs.network.rehearsal.script import Script, file_of
from zentrale.jobs.network.rehearsal.stage import Builder, Stage, switch_space
from zentrale.jobs.network.standing import Standing
from zentrale.output.network import names, querier
from zentrale.planning.network import NetworkPlan
from zentrale.planning.ports import PortRow


@dataclass
class Broken:
    """What a slip did, in words, and what it keeps running."""

    what: str
    servers: list[DhcpServer] = field(default_factory=list)


def _nothing(net: NetworkPlan, standing: Standing) -> str:
    return ""


@dataclass(frozen=True)
class Slip:
    """`cables` are laid before the network stands; `edit` changes the files before they are loaded, `make` devices that stand.
    Each of the last two says in words what it did. All raise InputError where the site has no place.
    """

    name: str
    about: str
    edit: Callable[[NetworkPlan, Standing], str] = _nothing
    make: Callable[[Stage, Builder], Broken] = lambda stage, builder: Broken("")
    cables: Callable[[NetworkPlan], tuple[tuple[End, End], ...]] = lambda net: ()


def slip(name: str) -> Slip:
    """Raises InputError for a name that is none."""
    found = next((s for s in SLIPS if s.name == name), None)
    if found is None:
        raise InputError(f"--break {name}: no such slip", f"expected one of: {', '.join(s.name for s in SLIPS)}")
    return found


def _no_place(name: str, lacks: str) -> InputError:
    return InputError(f"--break {name}: {lacks}", "choose another slip for this site")


def _edit(standing: Standing, switch: str, change: Callable[[Script], None]) -> None:
    """The switch's file, as somebody left it who had other ports in mind."""

    def edited(text: str) -> str:
        script = Script(text)
        change(script)
        return script.text

    standing.change(file_of(switch), edited)


def _camera_row(net: NetworkPlan, name: str) -> PortRow:
    row = next((r for r in net.ports.rows if r.kind == "camera" and r.mode == "access"), None)
    if row is None:
        raise _no_place(name, "no camera stands at a port of its own")
    return row


def _wrong_vlan(net: NetworkPlan, standing: Standing) -> str:
    row = _camera_row(net, "wrong-vlan")
    family = net.plan.zone(row.access).family
    others = [z for z in net.plan.zones if z.family != family]
    if not others:
        raise _no_place("wrong-vlan", "the site has one VLAN")
    other = next((z for z in others if not net.is_private(z.name)), others[0])
    _edit(standing, row.switch, lambda script: script.set_vlan(row.port, other.vlan))
    return f"{row.switch} port {row.port} ({row.device}) is put into VLAN {other.vlan} ({other.name})"


def _trunk_row(net: NetworkPlan, name: str) -> tuple[PortRow, str]:
    """A trunk port of a switch with cameras, and the zone of these."""
    for row in net.ports.rows:
        zones = {r.access for r in net.ports.of(row.switch) if r.kind == "camera" and r.mode == "access"}
        if row.kind == "link" and row.mode == "trunk" and (here := [z for z in row.tagged if z in zones]):
            return row, here[0]
    raise _no_place(name, "no cameras stand behind a link between switches")


def _trunk(net: NetworkPlan, standing: Standing) -> str:
    row, zone = _trunk_row(net, "trunk-without-zone")
    vlan = net.vlan(zone)
    _edit(standing, row.switch, lambda script: script.without_vlan(row.port, vlan))
    return f"{row.switch} port {row.port}, the trunk {row.label}, is left without VLAN {vlan} ({zone})"


def _per_switch(net: NetworkPlan, standing: Standing) -> str:
    """What comes by a trunk goes to every port of its VLAN, as where ports are only protected from their neighbours."""
    done = []
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
        rules = [f"table=0,priority=150,in_port={t.port},dl_vlan={vlan},actions={actions}" for t in trunks]

        def protect(script: Script, rules: Sequence[str] = rules) -> None:
            for rule in rules:
                script.add_flow(rule)

        _edit(standing, switch.name, protect)
        done.append(switch.name)
    if len(done) < 2:
        raise _no_place("per-switch-protection", "isolated ports stand on fewer than two switches")
    return f"isolated ports are kept apart on each of {', '.join(done)}, and not across their trunks"


def _forwarding(net: NetworkPlan, standing: Standing) -> str:
    recorder = next((r for r in net.plan.recorders if r.viewing is not None and not r.forwards), None)
    if recorder is None:
        raise _no_place("recorder-forwards", "no recorder has a second leg")
    if lacks_rules():
        raise _no_place("recorder-forwards", "nft is missing here, so nothing keeps its legs apart")
    standing.change(f"{recorder.name}.nft", lambda text: text.replace("policy drop;", "policy accept;", 1))
    return f"{recorder.name} forwards packets between its legs"


def _second_dhcp(stage: Stage, builder: Builder) -> Broken:
    net = stage.net
    for zone in net.gives_addresses():
        legs = [leg for leg, p in stage.places.items() if p.party.zone == zone.name and p.party.kind != "camera"]
        if len(legs) > 1 or (legs and net.router() is not None and zone in net.routed_zones()):
            leg = legs[-1]
            file = stage.folder / "slip.dhcp.conf"
            first = int(zone.subnet.network_address)
            start, end = IPv4Address(first + 1), IPv4Address(first + 20)
            file.write_text(f"port=0\nno-ping\ndhcp-range={start},{end},{zone.subnet.netmask},3600\n")
            server = DhcpServer(stage.spaces[leg.station], leg.interface, file, stage.folder / "slip.dhcp")
            return Broken(f"a second DHCP server answers at {leg.station} in {zone.name}", [server])
    raise _no_place("second-dhcp", "no zone has a DHCP server and another device that sees all of it")


def _no_querier(net: NetworkPlan, standing: Standing) -> str:
    files = [f for f in standing.files if f.endswith(f"/{querier.FILE}")]
    if not files:
        raise _no_place("no-querier", "nobody watches by multicast")
    for file in files:
        standing.change(file, lambda text: re.sub(r"^  (# VLAN|ovs-ofctl packet-out).*\n", "", text, flags=re.M))
    return "nobody asks for multicast groups"


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


def _ring_ports(net: NetworkPlan) -> tuple[PortRow, PortRow, tuple[int, int]]:
    """Two free ports of two switches that are joined already, and the ports that join them."""
    for link in net.plan.links:
        ends = link.ends()
        free = [
            next(
                (r for r in net.ports.of(s) if r.mode == "off" and r.kind in ("free", "link") and not _lit(net, r)),
                None,
            )
            for s, _ in ends
        ]
        carried = any(r.tagged for r in net.ports.of(ends[0][0]) if r.port == ends[0][1])
        if link.lit and free[0] is not None and free[1] is not None and carried:
            return free[0], free[1], (ends[0][1], ends[1][1])
    raise _no_place("ring", "no two joined switches have a free port each")


def _lit(net: NetworkPlan, row: PortRow) -> bool:
    return any(link.lit and (row.switch, row.port) in link.ends() for link in net.plan.links)


def _ring_cable(net: NetworkPlan) -> tuple[tuple[End, End], ...]:
    a, b, _ = _ring_ports(net)
    return ((End(switch_space(a.switch), names.port(a.port)), End(switch_space(b.switch), names.port(b.port))),)


def _ring(net: NetworkPlan, standing: Standing) -> str:
    a, b, joined = _ring_ports(net)
    for row, old in ((a, joined[0]), (b, joined[1])):

        def second_way(script: Script, row: PortRow = row, old: int = old) -> None:
            script.add_like(old, row.port, names.port(row.port))
            script.without_tree()

        _edit(standing, row.switch, second_way)
    return f"{a.switch} port {a.port} and {b.switch} port {b.port} are joined too, without spanning tree"


SLIPS: list[Slip] = [
    Slip("wrong-vlan", "a camera's port in another VLAN", _wrong_vlan),
    Slip("trunk-without-zone", "a trunk that does not carry the camera zone", _trunk),
    Slip("per-switch-protection", "isolated ports kept apart on each switch only", _per_switch),
    Slip("recorder-forwards", "a recorder that forwards between its legs", _forwarding),
    Slip("second-dhcp", "another DHCP server in the zone", make=_second_dhcp),
    Slip("no-querier", "nobody asks for multicast groups", _no_querier),
    Slip("duplicate-address", "two cameras with one address", make=_duplicate),
    Slip("ring", "two switches joined twice without spanning tree", _ring, cables=_ring_cable),
]


def in_words() -> Iterator[str]:
    for item in SLIPS:
        yield f"{item.name}: {item.about}"
