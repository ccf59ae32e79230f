"""What the rehearsal makes of packets, without any: wishes before rules, causes from switches, loads against the plan."""

from __future__ import annotations

import dataclasses
import json
import socket
import struct
from collections.abc import Mapping
from pathlib import Path
from typing import Any, cast

import pytest
from hypothesis import given
from hypothesis import strategies as st

from conftest import zentrale
from network_site import CAMERAS, SITE, six
from zentrale.field.lab.dhcp_client import ask_all
from zentrale.field.lab.probing import Wire
from zentrale.field.lab.stations import Leg
from zentrale.field.lab.switch import LabSwitch
from zentrale.jobs.network.reading_back import against_switch, disagreements
from zentrale.jobs.network.rehearsal.causes import Causes, PortState, SwitchState, read_switch
from zentrale.jobs.network.rehearsal.failing import Failed
from zentrale.jobs.network.rehearsal.job import Rehearser
from zentrale.jobs.network.rehearsal.loading import Carried, Load, Played, divisor_of
from zentrale.jobs.network.rehearsal.services import DhcpResult, GroupResult, MulticastResult
from zentrale.jobs.network.rehearsal.slips import slip
from zentrale.jobs.network.rehearsal.stage import Place, Stage, mac_of
from zentrale.jobs.network.rehearsal.trial import Differing, expected, services
from zentrale.output.network import names
from zentrale.planning.network import NetworkPlan, plan_network
from zentrale.planning.reach import Party
from zentrale.protocols import dhcp, frames
from zentrale.simulation.from_plan import BY_HAND, fresh_site
from zentrale.site.folder import SiteFolder
from zentrale.site.reading import read_plan


def network(folder: Path, site: str = SITE, **more: Any) -> NetworkPlan:
    return plan_network(read_plan(SiteFolder(six(folder, site=site, **more))))


class Held:
    """In the place of a switch: tells what ovs-vsctl and ovs-ofctl tell (RFC 7047 section 5.1 for sets)."""

    def __init__(self, ports: Mapping[str, PortState], rules: str = "") -> None:
        self.ports, self.rules = ports, rules

    def tell(self, *command: str) -> str:
        if command[0] == "ovs-ofctl":
            return f"NXST_FLOW reply (xid=0x4):\n{self.rules}\n table=10, priority=10,reg1=0x1e actions=load:0x1->NXM_NX_REG2[]"
        data = [
            [name, p.untagged or ["set", []], ["set", sorted(p.tagged)] if len(p.tagged) != 1 else next(iter(p.tagged))]
            for name, p in self.ports.items()
        ]
        return json.dumps({"headings": ["name", "tag", "trunks"], "data": data})


def as_planned(net: NetworkPlan, name: str) -> dict[str, PortState]:
    return {
        names.port(r.port): PortState(net.vlan(r.access) if r.access else 0, frozenset(net.vlan(z) for z in r.tagged))
        for r in net.ports.of(name)
        if r.mode != "off"
    }


def staged(net: NetworkPlan, folder: Path, changed: Mapping[str, Mapping[str, PortState]] | None = None) -> Stage:
    """The legs of the plan's devices at their ports, and switches that hold what is planned but for what is `changed`."""
    stage = Stage(net, folder)
    for camera in net.plan.cameras:
        leg = Leg(
            camera.name,
            "eth0",
            mac_of(camera.name, camera.mac or ""),
            camera.host,
            24,
            f"{camera.name} in {camera.zone}",
        )
        stage.places[leg] = Place(Party("camera", camera.zone), camera.switch, camera.port)
    for recorder in net.plan.recorders:
        for index, x in enumerate(recorder.legs()):
            leg = Leg(
                recorder.name,
                names.leg(index),
                mac_of(f"r{index}", ""),
                str(x.address),
                24,
                f"{recorder.name} in {x.zone}",
            )
            stage.places[leg] = Place(Party("recorder", x.zone), x.switch, x.port)
    for switch in net.plan.switches:
        held = {**as_planned(net, switch.name), **(changed or {}).get(switch.name, {})}
        stage.switches[switch.name] = cast(LabSwitch, Held(held, "priority=0 actions=NORMAL"))
    return stage


def pair(stage: Stage, a: str, b: str) -> tuple[Leg, Leg]:
    by_name = {leg.mark: leg for leg in stage.places}
    return by_name[a], by_name[b]


EAST, WEST = "east-1 in cameras", "west-1 in cameras"
RECORDER, VIEWING = "recorder in recording", "recorder in control"


def test_what_a_switch_tells_is_read_whatever_form_it_has() -> None:
    held = Held(
        {
            "p1": PortState(20, frozenset()),
            "p9": PortState(0, frozenset({20, 30})),
            "p8": PortState(0, frozenset({20})),
        },
        " x actions=drop",
    )
    state = read_switch("east", cast(LabSwitch, held))
    assert state.ports == held.ports and state.rules == {"x actions=drop"}, "what it has learned is no rule"


@pytest.mark.parametrize(
    ("changed", "subject", "what"),
    [
        ({"east": {"p1": PortState(50, frozenset())}}, "port east:1 (east-1)", "is in VLAN 50 (office), planned in VLAN 20"),
        ({"east": {"p9": PortState(0, frozenset({30}))}}, "port east:9", "the trunk to core does not carry VLAN 20 (cameras)"),
        ({"core": {"p1": PortState(0, frozenset({20}))}}, "port core:1", "the trunk to east does not carry VLAN 30 (recording)"),
        ({}, "camera in cameras to recorder in recording", "promiscuous port of private VLAN 30"),
    ],
)  # fmt: skip
def test_the_wire_at_fault_is_named(
    tmp_path: Path, changed: dict[str, dict[str, PortState]], subject: str, what: str
) -> None:
    net = network(tmp_path)
    stage = staged(net, tmp_path, changed)
    loaded = {
        s.name: SwitchState(as_planned(net, s.name), frozenset({"priority=0 actions=NORMAL"}))
        for s in net.plan.switches
    }
    origin, to = pair(stage, EAST, RECORDER)
    cause = Causes(stage, loaded).of(
        Differing(origin, to, "tcp/554", came=False, planned="promiscuous port of private VLAN 30")
    )
    assert cause.subject == subject and cause.what.startswith(what)


def test_a_rule_more_or_less_and_a_cable_more_are_named(tmp_path: Path) -> None:
    net = network(tmp_path)
    stage = staged(net, tmp_path, {"west": {"p5": PortState(0, frozenset({20, 30}))}})
    cast(Any, stage.switches["east"]).rules = "priority=150,in_port=p9 actions=output:p1"
    loaded = {
        s.name: SwitchState(as_planned(net, s.name), frozenset({"priority=0 actions=NORMAL"}))
        for s in net.plan.switches
    }
    causes = Causes(stage, loaded)
    origin, to = pair(stage, WEST, EAST)
    cause = causes.of(Differing(origin, to, "arp", came=False, planned=""))
    assert cause.subject == "switch east" and "has a rule that its file does not have: priority=150" in cause.what
    assert [c.subject for c in causes.second_ways()] == ["port west:5"]
    twice = dataclasses.replace(to, address=origin.address)
    stage.places[twice] = stage.places.pop(to)
    assert causes.of(Differing(origin, twice, "udp/5004", came=False, planned="")).subject == "address 10.30.0.13"


def test_what_the_customer_wants_counts_more_than_what_the_plan_comes_to(tmp_path: Path) -> None:
    """Kind by kind: whether it may arrive, and whether it must."""
    wish = '[[reach]]\nfrom = "{}"\nto = "{}"\nwanted = {}\n'
    net = network(
        tmp_path, SITE + wish.format("cameras", "recording", "false") + wish.format("cameras", "control", "true")
    )
    stage = staged(net, tmp_path)
    may, must, why = expected(stage, pair(stage, EAST, RECORDER), "arp")
    assert (may, must) == (False, False) and "the customer wants it kept apart" in why
    assert expected(stage, pair(stage, EAST, VIEWING), "tcp/554")[:2] == (True, True), "wanted, though no rule lets it"
    assert expected(stage, pair(stage, EAST, VIEWING), "udp/5004")[:2] == (False, False)
    assert expected(stage, pair(stage, RECORDER, EAST), "multicast")[:2] == (True, False), (
        "a group of nobody need not arrive"
    )
    assert expected(stage, pair(stage, EAST, WEST), "ipv6 to one")[:2] == (False, False)
    assert services(net.plan) == [("tcp", 554), ("udp", 5004)]


def judge(net: NetworkPlan, folder: Path) -> Rehearser:
    return Rehearser(net, folder / "output", folder, lambda text: None)


def told(rehearser: Rehearser) -> list[tuple[str, str, str]]:
    return [(f.code, str(f.subject), f.measured) for f in rehearser.findings]


def test_a_link_is_judged_by_what_fits_of_what_is_planned(tmp_path: Path) -> None:
    """Line rate 100 Mbit/s: what is planned beyond it cannot arrive, and what lies behind is not accused."""
    good, less = Carried("a - b", 1e8, 5e7, 4.6e7), Carried("a - b", 1e8, 5e7, 4e7)
    full, behind = Carried("c - d", 1e8, 1.2e8, 1e8), Carried("e - f", 1e9, 1.2e8, 9e7)
    assert good.as_planned and not less.as_planned and full.as_planned and full.full and full.expected_bps == 1e8
    net = network(tmp_path)
    rehearser = judge(net, tmp_path)
    rehearser.judge_load(Load(1, (good, less), (Played("east-1", "main", "recorder", 1e6, 3, 997),), 0))
    assert [(c, s) for c, s, _ in told(rehearser)] == [("NET-12", "link a - b")], (
        "a lost packet alone may be this machine's"
    )
    rehearser = judge(net, tmp_path)
    lost = Played("east-1", "main", "recorder", 1e6, 100, 900)
    rehearser.judge_load(Load(1, (full, behind), (lost, Played("east-2", "main", "recorder", error="refused")), 0))
    assert [(c, s) for c, s, _ in told(rehearser)] == [
        ("NET-12", "camera east-2, main stream"),
        ("NET-13", "link c - d"),
    ]
    assert "10 % of east-1's main stream" in told(rehearser)[1][2]
    assert divisor_of(net.plan) == 1, "a few small streams are not divided"
    assert Failed("link x", ("a",), ("a",)).as_foretold and not Failed("link x", (), ("a",)).as_foretold


def test_addresses_and_groups_are_judged(tmp_path: Path) -> None:
    net = network(tmp_path)
    stage, rehearser = staged(net, tmp_path), judge(net, tmp_path)
    own = next(leg for leg in stage.places if leg.mark == RECORDER)
    right, wrong = (("10.30.0.5", own.mac),), (("10.30.0.99", "02:00:00:00:00:99"),)
    results = [
        DhcpResult("recording", "east-1", "10.30.0.11", "10.30.0.11", right),
        DhcpResult("recording", "east-2", "10.30.0.12", "10.30.0.204", right),
        DhcpResult("recording", "west-1", "10.30.0.13", "", ()),
        DhcpResult("recording", "a stranger", "", "10.30.0.205", right),
        DhcpResult("recording", "another", "", "10.30.0.77", right),
        DhcpResult("recording", "west-2", "", "10.30.0.3", wrong),
    ]
    rehearser._judge_dhcp(stage, results)
    codes = [(c, s, m) for c, s, m in told(rehearser)]
    assert codes == [
        ("NET-3", "device east-2", "10.30.0.204"), ("NET-3", "device west-1", "no address"), ("NET-3", "another", "10.30.0.77"),
        ("NET-4", "zone recording", "MAC address 02:00:00:00:00:99 offered addresses to 1 devices"),
    ]  # fmt: skip
    rehearser = judge(net, tmp_path)
    groups = (
        GroupResult("239.0.0.1", "east-1", ("wall",), ("wall",), ()), GroupResult("239.0.0.2", "east-2", ("wall",), (), ()),
        GroupResult("239.0.0.3", "west-1", (), (), ("west-2",)),
    )  # fmt: skip
    rehearser._judge_groups(MulticastResult(groups, (), ("control",), ("wall",)))
    assert [(c, s) for c, s, _ in told(rehearser)] == [
        ("NET-8", "zone control"), ("NET-7", "group 239.0.0.2 of east-2"), ("NET-7", "group 239.0.0.3 of west-1"),
    ]  # fmt: skip
    assert "wall got nothing any more" in told(rehearser)[0][2]


@pytest.mark.parametrize(
    ("name", "site", "lacks"),
    [
        ("wrong-vlan", SITE, "no camera stands at a port of its own"),
        (
            "ring",
            SITE.partition("[[links]]")[0] + "[[recorders]]" + SITE.partition("[[recorders]]")[2],
            "no two joined switches",
        ),
    ],
)
def test_a_slip_that_has_no_place_says_what_is_lacking(tmp_path: Path, name: str, site: str, lacks: str) -> None:
    from zentrale.errors import InputError
    from zentrale.jobs.network.rehearsal.stage import Builder

    net = network(tmp_path, site)
    if name == "wrong-vlan":
        rows = tuple(r for r in net.ports.rows if r.kind != "camera")
        net = dataclasses.replace(net, ports=dataclasses.replace(net.ports, rows=rows))
    with pytest.raises(InputError, match=lacks):
        slip(name).cables(net)
        slip(name).make(Stage(net, tmp_path), Builder(net, tmp_path))


def test_devices_from_the_box_are_those_of_the_plan(tmp_path: Path) -> None:
    """Each with its own address, MAC address and what is planned to be set; one that speaks RTSP only is set by hand already."""
    net = network(tmp_path, cameras=CAMERAS)
    site = fresh_site(net.plan, lambda name: None if name == "west-2" else ("02:00:00:00:00:01", "10.30.0.9"))
    assert [c.name for c in site.cameras] == ["east-1", "east-2", "west-1"] and not site.cameras[0].accounts
    planned = site.cameras[0].planned_main
    assert planned is not None and (planned.resolution, planned.bitrate_kbps, planned.govlength) == (
        (320, 180),
        300,
        10,
    )
    slow = fresh_site(net.plan, lambda name: ("02:00:00:00:00:01", "10.30.0.9"), 2)
    assert slow.cameras[0].main.bitrate_kbps == 150 and slow.cameras[0].anonymous_viewing
    types = tmp_path / "types.toml"
    types.write_text(
        types.read_text().replace('model = "Larch 2"', 'model = "Larch 2"\nonvif = false\nmain_path = "/a"', 1)
    )
    plan = read_plan(SiteFolder(tmp_path))
    alone = fresh_site(plan, lambda name: ("02:00:00:00:00:01", "10.30.0.9")).cameras[0]
    assert (alone.onvif, alone.accounts, alone.main_path, alone.main) == (False, (BY_HAND,), "/a", planned)


@given(st.binary(max_size=80), st.sampled_from(["ports.csv", "linux.sh", "instance-data.json"]))
def test_a_file_that_was_spoilt_is_a_disagreement_and_no_more(
    tmp_path_factory: pytest.TempPathFactory, noise: bytes, name: str
) -> None:
    folder = tmp_path_factory.mktemp("spoilt") / "east"
    folder.mkdir()
    for kind in ("ports.csv", "linux.sh", "instance-data.json"):
        (folder / kind).write_bytes(noise if kind == name else b"")
    assert list(disagreements(folder)), "it is said, and nothing breaks"


def test_the_port_table_is_held_against_the_switch_itself(tmp_path: Path) -> None:
    folder = six(tmp_path)
    zentrale("network", "write", cwd=folder)
    net = plan_network(read_plan(SiteFolder(folder)))
    held = {port: (p.untagged, p.tagged) for port, p in as_planned(net, "east").items()}
    assert not list(against_switch(folder / "output/network/east", held))
    held["p2"] = (21, frozenset())
    ((where, said),) = against_switch(folder / "output/network/east", held)
    assert where == "east:2" and "untagged 20" in said and "the switch holds" in said and "untagged 21" in said


class Echo:
    """In the place of all wires: a server that offers each client an address, and acknowledges what it has offered."""

    def __init__(self) -> None:
        self.waiting: list[tuple[Leg, frames.Frame]] = []

    def forget(self) -> None:
        self.waiting.clear()

    def send(self, leg: Leg, data: bytes) -> None:
        frame = frames.parse(data)
        packet = frames.udp_of(frame) if frame else None
        assert packet is not None and packet[0] == ("0.0.0.0", 68) and packet[1] == ("255.255.255.255", 67)
        body = packet[2]
        number, kind = struct.unpack_from("!I", body, 4)[0], body[242]
        address = socket.inet_aton(f"10.0.0.{number}")
        answer = (
            bytes((2, 1, 6, 0)) + body[4:12] + bytes(4) + address + bytes(8) + body[28:44] + bytes(192) + body[236:240]
        )
        answer += bytes((53, 1, dhcp.OFFER if kind == dhcp.DISCOVER else dhcp.ACK, 54, 4, 10, 0, 0, 254, 255))
        told = frames.parse(
            frames.udp(frames.BROADCAST, "02:00:00:00:00:fe", ("10.0.0.254", 67), ("255.255.255.255", 68), answer)
        )
        assert told is not None
        self.waiting.append((leg, told))

    def seen(self, wait_s: float) -> list[tuple[Leg, frames.Frame]]:
        told, self.waiting = self.waiting, []
        return told


def test_a_client_asks_takes_and_is_acknowledged() -> None:
    legs = [Leg(f"d{i}", "eth0", f"02:00:00:00:00:0{i}", "", 24, "") for i in (1, 2)]
    asked = ask_all(cast(Wire, Echo()), [(leg, leg.mac) for leg in legs])
    assert [(a.given, a.offers[0].message.server, a.offers[0].from_mac) for a in asked] == [
        ("10.0.0.1", "10.0.0.254", "02:00:00:00:00:fe"), ("10.0.0.2", "10.0.0.254", "02:00:00:00:00:fe"),
    ]  # fmt: skip
