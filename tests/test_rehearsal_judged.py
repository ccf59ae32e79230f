"""What the rehearsal makes of packets, without any: wishes before rules, causes from switches, loads against the plan."""

from __future__ import annotations

import dataclasses
import json
import socket
import struct
from collections.abc import Iterable
from pathlib import Path
from typing import Any, cast

import pytest
from hypothesis import given
from hypothesis import strategies as st

from conftest import zentrale
from network_site import CAMERAS, SITE, six
from zentrale.errors import LabError
from zentrale.field.lab.dhcp_client import Client, ask_all
from zentrale.field.lab.probing import Wire
from zentrale.field.lab.stations import Leg
from zentrale.field.lab.switch import LabSwitch
from zentrale.findings import Finding, count_faults
from zentrale.jobs.network.reading_back import PortSays, against_switch, disagreements
from zentrale.jobs.network.rehearsal import edges, linux_trial
from zentrale.jobs.network.rehearsal.addresses import DhcpResult
from zentrale.jobs.network.rehearsal.causes import Causes
from zentrale.jobs.network.rehearsal.deviations import deviations
from zentrale.jobs.network.rehearsal.failing import Failed
from zentrale.jobs.network.rehearsal.held import PortState, read_switch
from zentrale.jobs.network.rehearsal.loading import Carried, Load, Played, divisor_of, judge_load
from zentrale.jobs.network.rehearsal.services import GroupResult, MulticastResult
from zentrale.jobs.network.rehearsal.slips import slip
from zentrale.jobs.network.rehearsal.stage import Place, Stage, mac_of
from zentrale.jobs.network.rehearsal.trial import Differing, expected
from zentrale.jobs.network.rehearsal.verdicts import Verdicts
from zentrale.jobs.network.standing import Standing, as_planned
from zentrale.output.network import names
from zentrale.planning.network import NetworkPlan, plan_network
from zentrale.planning.reach import Party
from zentrale.protocols import dhcp, frames, radius
from zentrale.simulation.from_plan import BY_HAND, fresh_site
from zentrale.site.folder import SiteFolder
from zentrale.site.reading import read_plan


def network(folder: Path, site: str = SITE, **more: Any) -> NetworkPlan:
    return plan_network(read_plan(SiteFolder(six(folder, site=site, **more))))


class Held:
    """In the place of a switch: tells what ovs-vsctl tells of interfaces, and of ports as RFC 7047 section 5.1 has sets."""

    def tell(self, *command: str) -> str:
        if command[-1] == "Interface":
            data: list[list[Any]] = [[["uuid", f"i{n}"], f"p{n}"] for n in (1, 2, 6, 9)]
        else:
            of = {n: ["uuid", f"i{n}"] for n in (1, 2, 6, 9)}
            data = [["p1", 20, ["set", []], of[1]], ["bond2", ["set", []], 20, ["set", [of[2], of[6]]]],
                    ["p9", ["set", []], ["set", [20, 30]], of[9]]]  # fmt: skip
        return json.dumps({"headings": [], "data": data})


def stands(net: NetworkPlan, folder: Path, *changes: tuple[str, str, str]) -> Standing:
    """The plan's files, with words changed in some of them."""
    standing = as_planned(net, folder / "standing")
    for file, old, new in changes:
        assert old in standing.files[file].text, (old, standing.files[file].text)
        standing.change(file, lambda text, old=old, new=new: text.replace(old, new, 1))  # type: ignore[misc]
    return standing


def staged(net: NetworkPlan, folder: Path) -> Stage:
    """The legs of the plan's devices at their ports."""
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
    return stage


def pair(stage: Stage, a: str, b: str) -> tuple[Leg, Leg]:
    by_name = {leg.mark: leg for leg in stage.places}
    return by_name[a], by_name[b]


EAST, WEST = "east-1 in cameras", "west-1 in cameras"
RECORDER, VIEWING = "recorder in recording", "recorder in control"


def test_what_a_switch_tells_is_read_whatever_form_it_has() -> None:
    carried = PortState(0, frozenset({20}))
    assert read_switch(cast(LabSwitch, Held())) == {
        "p1": PortState(20, frozenset()), "p2": carried, "p6": carried, "p9": PortState(0, frozenset({20, 30})),
    }, "the cables of a bond have what the bond has"  # fmt: skip


LOST = ("tcp/554", False)
EAST_SH, CORE_SH, RULES = "east/openvswitch.sh", "core/openvswitch.sh", "router.nft"
RULE, PAIR = "router, rule 1: office to recorder in control", "device in office to recorder in control"


@pytest.mark.parametrize(
    ("change", "pair_of", "seen", "subject", "line"),
    [
        ((EAST_SH, "tag=20", "tag=50"), "EAST RECORDER", LOST, "port east:1 (east-1)", 8),
        ((EAST_SH, "trunks=30,20", "trunks=30"), "EAST RECORDER", LOST, "port east:9", 12),
        (
            (EAST_SH, "trunks=30,20", "trunks=30"),
            "WEST RECORDER",
            LOST,
            "camera in cameras to recorder in recording",
            0,
        ),
        ((RULES, "dport 554", "dport 553"), "OFFICE VIEWING", LOST, RULE, 9),
        ((RULES, "dport 554", "dport 554-555"), "OFFICE VIEWING", ("tcp/555", True), RULE, 9),
        ((RULES, "dport 554", "dport 554-555"), "OFFICE VIEWING", ("tcp/80", True), PAIR, 0),
        (
            ("recorder.nft", "policy drop", "policy accept"),
            "EAST VIEWING",
            ("through recorder", True),
            "recorder recorder",
            10,
        ),
        ((CORE_SH, "10.50.0.1/24", "10.50.0.2/24"), "OFFICE VIEWING", LOST, "gateway of zone office", 22),
    ],
)
def test_the_line_at_fault_is_named(
    tmp_path: Path, change: tuple[str, str, str], pair_of: str, seen: tuple[str, bool], subject: str, line: int
) -> None:
    net = network(tmp_path)
    stage = staged(net, tmp_path)
    office = Leg("office", "eth0", "02:00:00:00:00:50", "10.50.0.9", 24, "device in office")
    stage.places[office] = Place(Party("device", "office"), "core", 0)
    marks = {"EAST": EAST, "WEST": WEST, "RECORDER": RECORDER, "VIEWING": VIEWING, "OFFICE": office.mark}
    origin, to = pair(stage, *(marks[word] for word in pair_of.split()))
    causes = Causes(stage, deviations(stands(net, tmp_path, change)))
    cause = causes.of(Differing(origin, to, seen[0], came=seen[1], planned="as the plan says"))
    assert (cause.subject, cause.at) == (subject, f"{change[0]} line {line}" if line else "")
    if line:
        text = (tmp_path / "standing/network" / change[0]).read_text().splitlines()
        assert change[2] in text[line - 1], "the line as an editor counts it"


def test_a_rule_more_and_a_cable_more_are_named(tmp_path: Path) -> None:
    net = network(tmp_path)
    stage, standing = staged(net, tmp_path), stands(net, tmp_path)
    _ring = slip("ring").edit(net, standing)
    causes = Causes(stage, deviations(standing))
    assert [c.subject for c in causes.second_ways()] == ["port core:6", "port east:3"] and "core port 6" in _ring
    leak = stands(
        net,
        tmp_path / "leak",
        ("west/openvswitch.sh", "table=30,reg0=20,actions=", "table=30,reg0=20,actions=output:1,"),
    )
    causes = Causes(stage, deviations(leak))
    origin, to = pair(stage, WEST, EAST)
    cause = causes.of(Differing(to, origin, "arp", came=True, planned=""))
    assert (cause.subject, cause.at) == ("switch west", "west/openvswitch.sh line 29") and not causes.unseen()
    twice = dataclasses.replace(to, address=origin.address)
    stage.places[twice] = stage.places.pop(to)
    assert (
        Causes(stage, []).of(Differing(origin, twice, "udp/5004", came=False, planned="")).subject
        == "address 10.30.0.13"
    )


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


def test_both_edges_of_every_rule_are_asked_for_and_one_past_each(tmp_path: Path) -> None:
    more = '[[rules]]\nfrom = "control"\nto = "office"\nprotocol = "udp"\nport = "8000-65535"\n'
    asked = edges.named(network(tmp_path, SITE + more).plan, "tcp dport { 80, 3000-3002 } accept")
    assert {("tcp", p) for p in (553, 554, 555, 7999, 8000, 65535, 79, 81, 2999, 3003)} <= set(asked)
    assert ("udp", 65535) in asked and ("icmp", 0) in asked and not {p for _, p in asked} & {65536, 3001}
    others = edges.strangers(network(tmp_path, SITE).plan, "")
    assert len(set(others)) == 20 and not set(others) & set(asked)


def told(findings: Iterable[Finding]) -> list[tuple[str, str, str]]:
    return [(f.code, str(f.subject), f.measured) for f in findings]


def test_a_link_is_judged_by_what_fits_of_what_is_planned(tmp_path: Path) -> None:
    """Line rate 100 Mbit/s: what is planned beyond it cannot arrive, and what lies behind is not accused."""
    good, less = Carried("a - b", 1e8, 5e7, 4.6e7), Carried("a - b", 1e8, 5e7, 4e7)
    full, behind = Carried("c - d", 1e8, 1.2e8, 1e8), Carried("e - f", 1e9, 1.2e8, 9e7)
    assert good.as_planned and not less.as_planned and full.as_planned and full.full and full.expected_bps == 1e8
    net = network(tmp_path)
    found = told(judge_load(Load(1, (good, less), (Played("east-1", "main", "recorder", 1e6, 3, 997),), 0)))
    assert [(c, s) for c, s, _ in found] == [("NET-12", "link a - b")], "a lost packet alone may be this machine's"
    lost = Played("east-1", "main", "recorder", 1e6, 100, 900)
    found = told(judge_load(Load(1, (full, behind), (lost, Played("east-2", "main", "recorder", error="refused")), 0)))
    assert [(c, s) for c, s, _ in found] == [
        ("NET-12", "camera east-2, main stream"),
        ("NET-13", "link c - d"),
    ]
    assert "10 % of east-1's main stream" in found[1][2]
    assert divisor_of(net.plan) == 1, "a few small streams are not divided"
    assert Failed("link x", ("a",), ("a",)).as_foretold and not Failed("link x", (), ("a",)).as_foretold


def test_addresses_and_groups_are_judged(tmp_path: Path) -> None:
    net = network(tmp_path)
    stage = staged(net, tmp_path)
    own = next(leg for leg in stage.places if leg.mark == RECORDER)
    right, wrong = (("10.30.0.5", own.mac),), (("10.30.0.99", "02:00:00:00:00:99"),)
    pool = "10.30.0.200-10.30.0.210"
    options = {"time_server": "10.40.0.1", "mask": "255.255.255.0"}
    given = {
        "east-1": ("10.30.0.11", "10.30.0.11"), "east-2": ("10.30.0.12", "10.30.0.204"), "a stranger": (pool, "10.30.0.205"),
        "another": (pool, "10.30.0.77"),
    }  # fmt: skip
    results = [DhcpResult("recording", name, *told, right, **options) for name, told in given.items()]
    results += [
        DhcpResult("recording", "west-1", "10.30.0.13", "", ()), DhcpResult("recording", "nobody's", pool, "", ()),
        DhcpResult("recording", "the last", pool, "10.30.0.203", right, wanted="10.30.0.210", router="10.30.0.1", **options),
        DhcpResult("recording", "west-2", "", "10.30.0.3", wrong),
    ]  # fmt: skip
    verdicts = Verdicts(stage, Causes(stage, []))
    verdicts.dhcp(results)
    assert told(verdicts.findings) == [
        ("NET-3", "device east-2", "10.30.0.204"), ("NET-3", "another", "10.30.0.77"), ("NET-3", "device west-1", "no address"),
        ("NET-3", "nobody's", "no address"), ("NET-3", "the last", "10.30.0.203"),
        ("NET-17", "zone recording, gateway", "gateway 10.30.0.1 for the last and others"),
        ("NET-4", "zone recording", "MAC address 02:00:00:00:00:99 offered addresses to 1 devices"),
    ]  # fmt: skip
    verdicts = Verdicts(stage, Causes(stage, []))
    groups = (
        GroupResult("239.0.0.1", "east-1", ("wall",), ("wall",), ()), GroupResult("239.0.0.2", "east-2", ("wall",), (), ()),
        GroupResult("239.0.0.3", "west-1", (), (), ("west-2",)),
    )  # fmt: skip
    verdicts.groups(MulticastResult(groups, (), ("control",), ("wall",)), {})
    assert [(c, s) for c, s, _ in told(verdicts.findings)] == [
        ("NET-8", "zone control"), ("NET-7", "group 239.0.0.2 of east-2"), ("NET-7", "group 239.0.0.3 of west-1"),
    ]  # fmt: skip
    assert "wall got nothing any more" in told(verdicts.findings)[0][2]


def test_what_follows_from_a_cause_stands_beneath_it(tmp_path: Path) -> None:
    net = network(tmp_path)
    stage = staged(net, tmp_path)
    change = ("east/openvswitch.sh", "tag=20", "tag=50")
    verdicts = Verdicts(stage, Causes(stage, deviations(stands(net, tmp_path, change))))
    origin, to = pair(stage, EAST, RECORDER)
    verdicts.reach(
        [Differing(origin, to, "arp", came=False, planned=""), Differing(origin, to, "ipv6", came=True, planned="")], {}
    )
    verdicts.dhcp([DhcpResult("recording", "east-1", "10.30.0.11", "", (), "east-1", origin.mac)])
    verdicts.read_back([("east:1", "table: 20; the switch holds 50")])
    first, *rest = verdicts.findings
    assert (first.name, first.at, first.caused_by) == ("NET-2 port east:1 (east-1)", "east/openvswitch.sh line 8", "")
    assert [(f.code, f.caused_by) for f in rest] == [(c, first.name) for c in ("NET-1", "NET-3", "NET-9")]
    assert count_faults(verdicts.findings) == 1


def test_a_gateway_that_answers_some_is_said_of_the_others(tmp_path: Path) -> None:
    net = network(tmp_path)
    stage = staged(net, tmp_path)
    viewing, wall = (
        pair(stage, VIEWING, VIEWING)[0],
        Leg("wall", "eth0", "02:00:00:00:00:40", "10.40.0.9", 24, "wall in control"),
    )
    stage.places[wall] = Place(Party("viewer", "control"), "core", 5)
    asked, answers = dict.fromkeys((viewing, wall), "10.40.0.1"), {viewing: {"02:00:00:00:00:fe"}}
    verdicts = Verdicts(stage, Causes(stage, []))
    verdicts.gateways(asked, answers, {viewing})
    verdicts.reach([], {})
    assert told(verdicts.findings) == [("NET-15", "gateway of zone control", "10.40.0.1: no answer for wall")]
    explained = Verdicts(stage, Causes(stage, []))
    explained.gateways(asked, answers, {viewing})
    explained.reach([Differing(viewing, wall, "arp", came=False, planned="same VLAN 40")], {})
    assert [(f.code, bool(f.caused_by)) for f in explained.findings] == [("NET-2", False), ("NET-15", True)]


def test_what_the_kernel_holds_of_a_bridge_is_held_against_its_commands(tmp_path: Path) -> None:
    """As `bridge -j vlan show` tells it (bridge(8)): the VLAN of untagged frames has two flags, tagged ones have none."""
    told = [
        {"ifname": "east", "vlans": [{"vlan": 1, "flags": ["PVID", "Egress Untagged"]}]},
        {"ifname": "p1", "vlans": [{"vlan": 20, "flags": ["PVID", "Egress Untagged"]}]},
        {"ifname": "p9", "vlans": [{"vlan": 20}, {"vlan": 40}]},
    ]
    kernel = linux_trial.read_vlans(json.dumps(told))
    assert kernel == {1: PortSays(True, "", 20, frozenset()), 9: PortSays(True, "", 0, frozenset({20, 40}))}
    east = network(tmp_path).plan.switch("east")
    assert not list(linux_trial.differences(kernel, kernel, east))
    ((where, said),) = linux_trial.differences({**kernel, 1: PortSays(True, "", 21, frozenset())}, kernel, east)
    assert where == "east:1" and "untagged 21" in said and "holds 20" in said
    assert linux_trial.lacking(LabError("ip link: RTNETLINK answers: Operation not supported"))
    assert not linux_trial.lacking(LabError("sh: 12: Syntax error"))


def test_radius_is_asked_as_the_standard_has_it() -> None:
    """The example of RFC 2865 section 7.1: nemo logs in with the secret xyzzy5461, in bytes."""
    authenticator, secret = bytes.fromhex("0f403f9473978057bd83d5cb98f4227a"), b"xyzzy5461"
    assert radius.hidden(b"arctangent", authenticator, secret).hex() == "0dbe708d93d413ce3196e43f782a0aee"
    accept = bytes.fromhex("0200002686fe220e7624ba2a1005f6bf9b55e0b20606000000010f06000000000e06c0a80103")
    assert radius.answer(accept, authenticator, secret) == radius.Answer(radius.ACCEPT, 0)
    assert (
        radius.answer(accept, authenticator, b"other") is None
        and radius.answer(accept[:30], authenticator, secret) is None
    )
    sent = radius.request(7, authenticator, secret, "nemo", "arctangent", "00-11-22-33-44-55")
    assert (
        sent[:2].hex() == "0107"
        and sent[4:20] == authenticator
        and b"00-11-22-33-44-55" in sent
        and b"arctangent" not in sent
    )


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

    net = network(tmp_path, site)
    if name == "wrong-vlan":
        rows = tuple(r for r in net.ports.rows if r.kind != "camera")
        net = dataclasses.replace(net, ports=dataclasses.replace(net.ports, rows=rows))
    with pytest.raises(InputError, match=lacks):
        slip(name).cables(net)
        slip(name).edit(net, stands(net, tmp_path))


def test_devices_from_the_box_are_those_of_the_plan(tmp_path: Path) -> None:
    """Each with its own address, MAC address and what is planned to be set; one that speaks RTSP only is set by hand already."""
    net = network(tmp_path, cameras=CAMERAS)
    site = fresh_site(
        net.plan, lambda name: None if name == "west-2" else ("02:00:00:00:00:01", "10.30.0.9"), ["recorder"]
    )
    assert [c.name for c in site.cameras] == ["east-1", "east-2", "west-1"] and not site.cameras[0].accounts
    planned = site.cameras[0].planned_main
    assert planned is not None and (planned.resolution, planned.bitrate_kbps, planned.govlength) == (
        (320, 180),
        300,
        10,
    )
    slow = fresh_site(net.plan, lambda name: ("02:00:00:00:00:01", "10.30.0.9"), [], 2)
    assert slow.cameras[0].main.bitrate_kbps == 150 and slow.cameras[0].anonymous_viewing
    types = tmp_path / "types.toml"
    types.write_text(
        types.read_text().replace('model = "Larch 2"', 'model = "Larch 2"\nonvif = false\nmain_path = "/a"', 1)
    )
    plan = read_plan(SiteFolder(tmp_path))
    alone = fresh_site(plan, lambda name: ("02:00:00:00:00:01", "10.30.0.9"), []).cameras[0]
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
    ports = (r for r in net.ports.of("east") if r.mode != "off")
    held = {
        f"p{r.port}": (net.vlan(r.access) if r.access else 0, frozenset(net.vlan(z) for z in r.tagged)) for r in ports
    }
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
    asked = ask_all(cast(Wire, Echo()), [Client(leg, leg.mac) for leg in legs])
    assert [(a.given, a.offers[0].message.server, a.offers[0].from_mac) for a in asked] == [
        ("10.0.0.1", "10.0.0.254", "02:00:00:00:00:fe"), ("10.0.0.2", "10.0.0.254", "02:00:00:00:00:fe"),
    ]  # fmt: skip
