"""The rules that are written for switches and routers, followed frame by frame by an interpreter that is not theirs."""

from __future__ import annotations

import ipaddress
import re
import subprocess
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from pathlib import Path

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from conftest import TYPES, make_site, zentrale
from network_site import CAMERAS, SITE, on_packets, six
from zentrale.jobs.network.reading_back import disagreements
from zentrale.output.network import dhcp, linux, names, nftables, openvswitch, querier, tables
from zentrale.output.network.registry import network_files
from zentrale.planning.network import NetworkPlan, plan_network
from zentrale.site.folder import SiteFolder
from zentrale.site.model import Plan
from zentrale.site.reading import read_plan

# An interpreter of the few OpenFlow actions and matches that the rules use (Open vSwitch, ovs-actions(7), ovs-fields(7)).


@dataclass
class Packet:
    """On one switch: where it came in, its tag (0: none), and the registers of the pipeline."""

    in_port: int
    source: str
    target: str
    tag: int = 0
    registers: dict[int, int] = field(default_factory=dict)


@dataclass
class Rule:
    table: int
    priority: int
    match: dict[str, str]
    actions: str


@dataclass
class Bridge:
    """One switch as its rules make it. `learned` is table 10: family and address to port."""

    rules: list[Rule]
    learned: dict[tuple[int, str], int] = field(default_factory=dict)
    out: list[tuple[int, int]] = field(default_factory=list)  # port and tag
    normal: int = 0

    @classmethod
    def of(cls, script: str) -> Bridge:
        rules = []
        for line in re.findall(r"^(table=\d+.*)$", script, re.M):
            head, _, actions = line.partition(",actions=")
            words = dict(w.partition("=")[::2] for w in head.split(","))
            rules.append(Rule(int(words.pop("table")), int(words.pop("priority", "32768")), words, actions))
        return cls(sorted(rules, key=lambda r: -r.priority))

    def take_in(self, packet: Packet) -> list[tuple[int, int]]:
        """The ports that it leaves by, each with its tag."""
        self.out = []
        self._table(0, packet)
        return [(port, tag) for port, tag in self.out if port != packet.in_port]

    def _table(self, number: int, packet: Packet) -> None:
        if number == 10:
            packet.registers[2] = self.learned.get((packet.registers[1], packet.target), 0)
            return
        rule = next((r for r in self.rules if r.table == number and self._fits(r, packet)), None)
        for action in _actions(rule.actions) if rule else ():
            self._act(action, packet)

    def _fits(self, rule: Rule, packet: Packet) -> bool:
        many = packet.target.startswith(("ff", "01"))
        for key, value in rule.match.items():
            told: Callable[[str], bool] = {
                "in_port": lambda v: packet.in_port == int(v),
                "vlan_tci": lambda _: packet.tag == 0,
                "dl_vlan": lambda v: packet.tag == int(v),
                "dl_dst": lambda _: many,
                "dl_src": lambda _: packet.source.startswith("01"),
                "reg0": lambda v: packet.registers.get(0, 0) == int(v),
                "reg2": lambda v: packet.registers.get(2, 0) == int(v),
                "ip": lambda _: False,  # only groups have such rules, and none is sent here
            }[key]
            if not told(value):
                return False
        return True

    def _act(self, action: str, packet: Packet) -> None:
        if action == "drop":
            return
        if action == "NORMAL":
            self.normal += 1
        elif action == "strip_vlan":
            packet.tag = 0
        elif action.startswith("mod_vlan_vid:"):
            packet.tag = int(action.split(":")[1])
        elif action.startswith("output:"):
            self.out.append((int(action.split(":")[1]), packet.tag))
        elif action.startswith("resubmit"):
            self._table(int(re.findall(r"\d+", action)[0]), packet)
        elif action.startswith("learn"):
            self.learned[packet.registers[1], packet.source] = packet.in_port
        else:
            found = re.fullmatch(r"load:(\d+)->NXM_NX_REG(\d)\[\]", action)
            assert found, action
            packet.registers[int(found[2])] = int(found[1])


def _actions(text: str) -> list[str]:
    """Split at commas that stand in no brackets."""
    found, depth = [""], 0
    for letter in text:
        depth += (letter == "(") - (letter == ")")
        if letter == "," and not depth:
            found.append("")
        else:
            found[-1] += letter
    return found


class Wires:
    """All switches with the cables between them."""

    def __init__(self, plan: Plan, net: NetworkPlan) -> None:
        self.bridges = {s.name: Bridge.of(openvswitch.commands(net, s)) for s in plan.switches}
        self.far = {end: other for k in plan.links for end, other in (k.ends(), k.ends()[::-1])}

    def send(self, switch: str, port: int, source: str, target: str) -> set[tuple[str, int]]:
        """The ports of devices at which a frame arrives."""
        arrived: set[tuple[str, int]] = set()
        waiting = [(switch, Packet(port, source, target))]
        for _ in range(500):
            if not waiting:
                return arrived
            at, packet = waiting.pop()
            for out, tag in self.bridges[at].take_in(packet):
                if (at, out) in self.far:
                    other, other_port = self.far[at, out]
                    waiting.append((other, Packet(other_port, source, target, tag)))
                else:
                    assert tag == 0, "devices get frames without a tag"
                    arrived.add((at, out))
        raise AssertionError("it goes round in circles")


FAMILY = """\
[site]
name = "Family"
timezone = "Europe/London"
[[zones]]
name = "servers"
vlan = 30
subnet = "10.30.0.0/24"
[[zones]]
name = "alone"
vlan = 20
subnet = "10.30.0.0/24"
primary = "servers"
[[zones]]
name = "together"
vlan = 21
subnet = "10.30.0.0/24"
primary = "servers"
private = "community"
[[groups]]
name = "all"
main = { resolution = "320x180", fps = 10, bitrate_kbps = 300, keyframe_interval_s = 1 }
"""


def family_site(folder: Path, parents: list[int], places: list[tuple[int, str]]) -> Plan:
    """Switches as a tree, each joined to its parent by its last port; devices at a switch in a zone."""
    text, used = FAMILY, [0] * (len(parents) + 1)
    for i in range(len(parents) + 1):
        text += f'[[switches]]\nname = "s{i}"\ncabinet = "c"\ntype = "switch-8"\n'
    for i, parent in enumerate(parents, start=1):
        text += f'[[links]]\na = "s{i}:10"\nb = "s{parent}:{9 - used[parent]}"\nrate_mbps = 1000\n'
        used[parent] += 1
    rows, port, cameras = CAMERAS.splitlines()[0] + "\n", [0] * (len(parents) + 1), 0
    for number, (switch, zone) in enumerate(places):
        port[switch] += 1
        if zone == "servers":
            text += (
                f'[[recorders]]\nname = "d{number}"\ntype = "recorder-4"\nzone = "servers"\nswitch = "s{switch}"\n'
                f'port = {port[switch]}\naddress = "10.30.0.{200 + number}"\n'
            )
        else:
            cameras += 1
            rows += f"d{number},larch-2,all,{zone},s{switch},{port[switch]},20,10.30.0.{20 + number},,d0,{cameras}\n"
    return read_plan(SiteFolder(make_site(folder, text, rows, TYPES.replace("channels = 4", "channels = 16"))))


def may_reach(a: str, b: str) -> bool:
    """RFC 5517 section 3: promiscuous ports reach all, community ports their own and promiscuous ones, isolated ones these."""
    return "servers" in (a, b) or a == b == "together"


@settings(max_examples=60, suppress_health_check=[HealthCheck.function_scoped_fixture], deadline=None)
@given(data=st.data())
def test_a_private_vlan_over_any_tree_of_switches_is_as_the_rfc_has_it(tmp_path: Path, data: st.DataObject) -> None:
    """Every frame, to all and to one, before and after the switches have learned who is where."""
    parents = [data.draw(st.integers(0, i)) for i in range(data.draw(st.integers(0, 3)))]
    zones = st.sampled_from(["servers", "alone", "together"])
    places = [
        (0, "servers"),
        *data.draw(st.lists(st.tuples(st.integers(0, len(parents)), zones), min_size=2, max_size=5)),
    ]
    if all(zone == "servers" for _, zone in places):
        places.append((0, "alone"))
    plan = family_site(tmp_path, parents, places)
    wires = Wires(plan, plan_network(plan))
    ports = {f"d{i}": (switch, zone) for i, (switch, zone) in enumerate(places)}
    at = {r.name: (r.switch, r.port) for r in plan.recorders} | {c.name: (c.switch, c.port) for c in plan.cameras}
    mac = {name: f"02:00:00:00:00:{i:02x}" for i, name in enumerate(at)}
    for target in ("to all", "not learned", "learned"):
        for name, (_, zone) in ports.items():
            allowed = {at[other] for other, (_, z) in ports.items() if other != name and may_reach(zone, z)}
            if target == "to all":
                assert wires.send(*at[name], mac[name], "ff:ff:ff:ff:ff:ff") == allowed
                continue
            for other in ports:
                if other != name:
                    arrived = wires.send(*at[name], mac[name], mac[other])
                    assert at[other] in arrived or at[other] not in allowed
                    # A receiver that is nobody's to reach may never be heard of here: then it is looked for, among those allowed.
                    known = target == "learned" and at[other] in allowed
                    assert arrived <= ({at[other]} if known else allowed)
    assert all(bridge.normal == 0 for bridge in wires.bridges.values()), "its own forwarding never sees the family"


# The router's rules


def passes(rules: str, enters: str, leaves: str, source: str, target: str, protocol: str, port: int) -> bool:
    """What nftables' forward chain does with the first packet of a conversation: the first line that fits decides."""
    for line in rules.splitlines():
        words = line.partition("#")[0].strip()
        if not words.endswith(("accept", "drop")) or "iifname" not in words:
            continue
        fits = True
        for way, name in (("i", enters), ("o", leaves)):
            for sign, listed in re.findall(rf'{way}ifname (!= )?(\{{[^}}]*\}}|"[^"]*")', words):
                fits &= (f'"{name}"' in listed) != bool(sign)
        for side, address in (("saddr", source), ("daddr", target)):
            for listed in re.findall(rf"ip {side} \{{ ([^}}]*) \}}", words):
                fits &= any(ipaddress.ip_address(address) in ipaddress.ip_network(n.strip()) for n in listed.split(","))
        for kind, first, last in re.findall(r"(tcp|udp) dport (\d+)(?:-(\d+))?", words):
            fits &= kind == protocol and int(first) <= port <= int(last or first)
        for kind in re.findall(r"meta l4proto (\w+)", words):
            fits &= kind == protocol
        if fits:
            return words.endswith("accept")
    return False


ROUTED = """\
[[zones]]
name = "guests"
vlan = 60
subnet = "10.60.0.0/24"
gateway = "10.60.0.1"
[[rules]]
from = "control"
to = "office"
protocol = "tcp"
port = "8000-8010"
[[rules]]
from = "guests"
to = "internet"
protocol = "udp"
allow = false
[[rules]]
from = "guests"
to = "internet"
"""


@pytest.mark.parametrize(
    ("enters", "leaves", "source", "target", "protocol", "port", "allowed"),
    [
        ("vlan50", "vlan40", "10.50.0.9", "10.40.0.21", "tcp", 554, True),
        ("vlan50", "vlan40", "10.50.0.9", "10.40.0.21", "tcp", 80, False),  # its rule names a port
        ("vlan50", "vlan40", "10.50.0.9", "10.40.0.22", "tcp", 554, False),  # and a recorder
        ("vlan40", "vlan50", "10.40.0.21", "10.50.0.9", "tcp", 554, False),  # it may not begin
        ("vlan40", "vlan50", "10.40.0.9", "10.50.0.9", "tcp", 8010, True),
        ("vlan40", "vlan50", "10.40.0.9", "10.50.0.9", "tcp", 8011, False),
        ("vlan50", "wan", "10.50.0.9", "198.51.100.1", "udp", 53, True),
        ("vlan60", "wan", "10.60.0.9", "198.51.100.1", "udp", 53, False),  # the rule before the one that allows all
        ("vlan60", "wan", "10.60.0.9", "198.51.100.1", "tcp", 443, True),
        ("vlan60", "vlan50", "10.60.0.9", "10.50.0.9", "tcp", 443, False),
        ("wan", "vlan50", "198.51.100.1", "10.50.0.9", "tcp", 443, False),
    ],
)
def test_the_router_lets_through_what_its_rules_say(
    tmp_path: Path, enters: str, leaves: str, source: str, target: str, protocol: str, port: int, allowed: bool
) -> None:
    net = plan_network(read_plan(SiteFolder(six(tmp_path, site=SITE + ROUTED))))
    assert passes(nftables.router(net), enters, leaves, source, target, protocol, port) is allowed


# What is written beside


def files(folder: Path, site: str, **more: str) -> dict[str, str]:
    net = plan_network(read_plan(SiteFolder(six(folder, site=site, wall=False, **more))))
    return {f.path: f.content.decode("utf-8-sig") for f in network_files(net)}


def test_what_a_plan_does_not_have_is_not_written(tmp_path: Path) -> None:
    bare = re.sub(r"pool = .*\n|gateway = .*\n|time_server = .*\n|viewing = .*\n", "", SITE)
    bare = re.sub(r"\[\[rules\]\](\n[^\[]+)", "", bare).replace("routes = true", "routes = false")
    written = files(tmp_path, bare)
    assert "router.nft" not in written and "recorder.nft" not in written and "radius-users.txt" not in written
    given = written["dhcp/recording.conf"]
    assert "dhcp-range=10.30.0.0,static,255.255.255.0" in given and "whoever is not named here gets nothing" in given
    assert "ntp-server" not in given and "internal" not in written["core/openvswitch.sh"]


def test_settings_of_a_switch_stand_in_each_of_its_files(tmp_path: Path) -> None:
    site = SITE.replace('name = "core"\n', 'name = "core"\nloop_protection = "rstp"\n')
    site += (
        '[[ports]]\nat = "east:1"\nenergy_saving = true\n[[ports]]\nat = "east:2"\npoe = false\nlabel = "by the door"\n'
    )
    written = files(tmp_path, site)
    assert "rstp_enable=true other_config:rstp-priority=4096" in written["core/openvswitch.sh"]
    assert "rstp-port-admin-edge=true" in written["core/openvswitch.sh"].split("# 3:")[1].splitlines()[1]
    assert "rapid (RSTP), on" in written["core/work-sheet.html"] and "ports 3-6" in written["core/work-sheet.html"]
    legs = written["core/openvswitch.sh"]
    assert (
        "ip link add vlan40 type veth peer name vlan40-s" in legs
        and "add-port core vlan40-s vlan_mode=access tag=40" in legs
    )
    east = written["east/ports.csv"].splitlines()
    assert east[1].split(",")[:5] == ["1", "east-1", "access", "20", ""] and east[1].split(",")[10] == "on"
    assert east[2].split(",")[1] == "by the door" and east[2].split(",")[7] == "off"
    assert "east/linux.sh" not in written, "its private VLAN goes over a trunk"


ONE_VLAN = SITE.replace('primary = "recording"\n', "").replace('zone = "recording"', 'zone = "cameras"')
ONE_VLAN = ONE_VLAN.replace('subnet = "10.30.0.0/24"', 'subnet = "10.31.0.0/24"', 1).replace(
    "copies_multicast = true\n", ""
)
SECOND = '[[links]]\na = "core:6"\nb = "east:10"\nrate_mbps = 1000\nbundle = "up"\n'
# All at one switch, the cameras isolated from one another.
ONE_SWITCH = re.sub(r"\[\[links\]\]\n.*\n.*\n.*\n", "", SITE).replace("copies_multicast = true\n", "")
AT_CORE = CAMERAS.replace(",east,", ",core,").replace(",west,1,", ",core,7,").replace(",west,2,", ",core,8,")


class LinuxBridge:
    """bridge(8), by hand: a frame belongs to the pvid of its port; it leaves by every other port with that VLAN, but for
    isolated to isolated ones; a bond's cables are one.
    """

    def __init__(self, script: str) -> None:
        self.pvid = dict(re.findall(r"^bridge vlan add dev (\S+) vid (\d+) pvid untagged$", script, re.M))
        self.tagged = set(re.findall(r"^bridge vlan add dev (\S+) vid (\d+)(?: self)?$", script, re.M))
        self.isolated = set(re.findall(r"^bridge link set dev (\S+) isolated on$", script, re.M))
        self.bonds = dict(re.findall(r"^ip link set (p\d+) master (bond\d+)$", script, re.M))

    def reached(self, port: str) -> set[str]:
        vlan = self.pvid[port]
        others = {p for p, v in self.pvid.items() if v == vlan and p != port and not {p, port} <= self.isolated}
        return others | {p for p, v in self.tagged if v == vlan}


def test_linux_commands_are_right_where_linux_can_do_it(tmp_path: Path) -> None:
    bundle = (
        ONE_VLAN.replace('b = "east:9"\nrate_mbps = 1000\n', 'b = "east:9"\nrate_mbps = 1000\nbundle = "up"\n') + SECOND
    )
    bundle = bundle.replace('name = "office"\n', 'name = "office"\nquerier = "core"\n')
    written = files(tmp_path / "a", bundle)
    core, east = (LinuxBridge(written[f"{s}/linux.sh"]) for s in ("core", "east"))
    assert core.reached("p3") == {"bond1", "p2"} and core.bonds == {"p1": "bond1", "p6": "bond1"}
    assert east.reached("p1") == {"p2", "bond9"}, "the recorder hears the cameras, in one VLAN and over both cables"
    assert (
        core.reached("p4") == {"p5", "core"}
        and "ip link add link core name vlan40 type vlan id 40" in written["core/linux.sh"]
    )
    assert written["core/linux.sh"].endswith("echo 1 > /proc/sys/net/ipv4/ip_forward\n")
    alone = files(tmp_path / "b", ONE_SWITCH, cameras=AT_CORE)
    hall = LinuxBridge(alone["core/linux.sh"])
    assert hall.reached("p3") == {"p1", "p2", "p7", "p8"} and hall.reached("p7") == {"p3"}, (
        "isolated: the recorder alone"
    )
    assert not list(disagreements(_folder(tmp_path / "c", alone, "core"))) and "core/linux.sh" not in files(
        tmp_path / "d", SITE
    )
    if on_packets.args[0]:
        return
    for line in (written["core/linux.sh"] + alone["core/linux.sh"]).splitlines():
        if line.startswith(("ip ", "bridge ")):
            done = subprocess.run(["unshare", "-Urn", "sh", "-c", line], capture_output=True, text=True, check=False)
            understood = ("RTNETLINK", "Cannot find", "Error: Unknown device", "Error: argument", "Error: Device")
            assert not done.stderr or done.stderr.startswith(understood), (line, done.stderr)


def _folder(at: Path, written: dict[str, str], switch: str) -> Path:
    for path, text in written.items():
        if path.startswith(f"{switch}/"):
            (at / path).parent.mkdir(parents=True, exist_ok=True)
            (at / path).write_text(text)
    return at / switch


def test_two_cables_that_carry_together_are_one(tmp_path: Path) -> None:
    second = '[[links]]\na = "core:6"\nb = "east:10"\nrate_mbps = 1000\nbundle = "up"\n'
    site = SITE.replace('b = "east:9"\nrate_mbps = 1000\n', 'b = "east:9"\nrate_mbps = 1000\nbundle = "up"\n') + second
    core = files(tmp_path, site)["core/openvswitch.sh"]
    assert "add-bond core bond1 p1 p6 lacp=active vlan_mode=trunk" in core and "add-port core p6" not in core
    assert "in_port=6,dl_vlan=20,actions=strip_vlan" in core, "what comes by the second is taken in too"
    assert "output:6" not in core, "and nothing of a private VLAN leaves by it"
    tree = site.replace('type = "switch-8"\n', 'type = "switch-8"\nloop_protection = "rstp"\n')
    core = files(tmp_path / "tree", tree)["core/openvswitch.sh"]
    assert "add-bond" not in core and "add-port core p6 vlan_mode=trunk" in core, "no spanning tree runs on bonds"


@given(st.text(alphabet="abcdefghijklmnopqrstuvwxyz0123456789-", min_size=1, max_size=40))
def test_names_fit_an_interface_and_stay_apart(name: str) -> None:
    assert len(names.short(name)) <= 15 and names.short(name) == names.short(name)
    assert names.short(f"a-long-name-of-a-switch-{name}") != names.short(f"a-long-name-of-a-switch-{name}x")


def test_planned_groups_go_towards_their_listeners_only(tmp_path: Path) -> None:
    """By hand: `core` copies to the wall in VLAN 40; the edge switches send the groups to their uplink, tagged as they came."""
    net = plan_network(read_plan(SiteFolder(six(tmp_path))))
    group = net.multicast.groups[0]
    east, core = (openvswitch.commands(net, net.plan.switch(s)) for s in ("east", "core"))
    assert f"table=1,priority=60,ip,reg0=20,nw_dst={group.group},actions=mod_vlan_vid:20,output:9\n" in east
    copy = "clone(set_field:4136->vlan_vid,load:65534->NXM_OF_IN_PORT[],NORMAL)"  # 4136: VLAN 40 and the bit that says "present"
    assert f"ip,dl_vlan=20,nw_dst={group.group},actions={copy},strip_vlan,load:20->" in core
    assert f"table=1,priority=60,ip,reg0=20,nw_dst={group.group},actions=drop\n" in core, "recorders get none of it"
    assert "mcast_snooping_enable=true other_config:mcast-snooping-disable-flood-unregistered=true" in core
    assert "mcast_querier 1" in linux.commands(net, net.plan.switch("core"))
    asks = querier.commands(net, net.plan.switch("core"))
    # RFC 2236: to all, type 0x11, answers within 10 tenths of a second, any group; of RFC 1112 and IEEE 802.1Q: VLAN 40.
    assert re.findall(r"packet=01005e000001.{12}8100002808004600.{20}0a28000ae000000194040000110aeef500000000", asks)
    assert 'sleep "${EVERY:-125}"' in asks and asks.count("packet-out") == 1, "the cameras' private VLAN needs none"
    labels = list(_labels(net))
    assert ("core:5", "wall") in labels and ("wall", "core:5") in labels and labels.count(("core:1", "east:9")) == 1
    assert dhcp.time_server(net) == "10.40.0.1"


def test_what_a_trunk_does_not_carry_and_who_is_isolated_gets_nothing(tmp_path: Path) -> None:
    """By hand: `core` takes the cameras' tag from `west` and not from `east`; a screen among isolated cameras gets no group."""
    spy = (
        '[[viewers]]\nname = "spy"\nzone = "cameras"\nswitch = "east"\nport = 6\nsource = "camera"\nmulticast = true\n'
    )
    narrow = '[[ports]]\nat = "core:1"\ntagged = ["recording"]\n'
    net = plan_network(read_plan(SiteFolder(six(tmp_path, site=SITE + spy + narrow))))
    core, east = (list(openvswitch.flows(net, net.plan.switch(s), net.ports.of(s))) for s in ("core", "east"))
    assert "table=0,priority=100,in_port=1,dl_vlan=20,actions=drop" in core
    assert not [f for f in core if "dl_vlan=20,actions=drop" in f and "in_port=1," not in f]
    assert not [f for f in core if "dl_vlan=30" in f and "drop" in f]
    groups = [f for f in east if "priority=60" in f]
    assert groups and not [f for f in groups if "output:6" in f]


def test_groups_that_a_router_would_pass_on_are_said_to_be_in_no_file(tmp_path: Path) -> None:
    gateway = 'subnet = "10.30.0.0/24"\ngateway = "10.30.0.1"'
    routed = SITE.replace("copies_multicast = true\n", "").replace('subnet = "10.30.0.0/24"', gateway, 1)
    net = plan_network(read_plan(SiteFolder(six(tmp_path / "routed", site=routed))))
    assert net.multicast.groups and all(net.is_routed(g) for g in net.multicast.groups)
    done = zentrale("network", "write", cwd=tmp_path / "routed")
    assert "multicast that the router passes from zone to zone" in " ".join(done.out.split())
    copied = plan_network(read_plan(SiteFolder(six(tmp_path / "copied"))))
    assert not any(copied.is_routed(g) for g in copied.multicast.groups)


def _labels(net: NetworkPlan) -> Iterator[tuple[str, str]]:
    yield from ((x.here, x.other) for x in tables.labels(net))


def test_only_answers_pass_without_a_rule_and_only_what_forwards_lets_through(tmp_path: Path) -> None:
    net = plan_network(read_plan(SiteFolder(six(tmp_path / "router", site=SITE + ROUTED))))
    states = re.findall(r"ct state (\S+) (\w+)", nftables.router(net))
    assert (
        states
        and {state for state, _ in states} == {"established,related"}
        and {verb for _, verb in states} == {"accept"}
    )
    apart = plan_network(read_plan(SiteFolder(six(tmp_path / "apart"))))
    recorder = next(r for r in apart.plan.recorders if r.viewing is not None)
    told = nftables.recorder(apart, recorder)
    assert "policy drop" in told and told.count(" drop\n") == 4, "each leg's address by the other, in IP and in ARP"
    forwarding = nftables.recorder(apart, recorder.model_copy(update={"forwards": True}))
    assert "policy drop" not in forwarding and " drop\n" not in forwarding


def test_only_frames_to_a_group_go_the_groups_way(tmp_path: Path) -> None:
    net = plan_network(read_plan(SiteFolder(six(tmp_path))))
    rules = [
        line
        for s in net.plan.switches
        for line in openvswitch.flows(net, s, net.ports.of(s.name))
        if "priority=60" in line
    ]
    groups = {g.group for g in net.multicast.groups}
    assert rules and {re.search(r"nw_dst=([\d.]+)", line)[1] if "nw_dst" in line else "any" for line in rules} <= groups  # type: ignore[index]
