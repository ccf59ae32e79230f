"""What router and access lists let through, for random plans and random packets: interpreters that are not theirs, and the
kernel.
"""

from __future__ import annotations

import ipaddress
import json
import random
import subprocess
import sys
from collections.abc import Iterator
from ipaddress import IPv4Address, IPv4Network
from pathlib import Path
from typing import Any

import pytest

from conftest import TYPES, make_site
from network_site import on_packets
from test_network_plan import passes
from zentrale.output.network import nftables, yang
from zentrale.planning.access_list import AccessRow, access_rows
from zentrale.planning.network import NetworkPlan, plan_network
from zentrale.site.folder import SiteFolder
from zentrale.site.reading import read_plan

# a with cameras, recorder and pool; b with viewers; c with a recorder's second leg and nobody's devices; d without a gateway; e
# and its secondary f share a leg.
PLAN = """\
[site]
name = "Random"
timezone = "Europe/London"
[[groups]]
name = "all"
main = { resolution = "320x180", fps = 10, bitrate_kbps = 300, keyframe_interval_s = 1 }
[[switches]]
name = "core"
cabinet = "hall"
type = "switch-8"
routes = true
[[recorders]]
name = "recorder"
type = "recorder-4"
zone = "a"
switch = "core"
port = 3
address = "10.1.0.5"
viewing = { zone = "c", switch = "core", port = 4, address = "10.3.0.21" }
[[viewers]]
name = "desk"
zone = "b"
switch = "core"
port = 5
"""
CAMERAS = """\
name,type,group,zone,switch,port,run_length_m,address,mac,recorder,channel
one,larch-2,all,a,core,1,20,10.1.0.11,,recorder,1
two,larch-2,all,b,core,2,20,10.2.0.12,,recorder,2
six,larch-2,all,f,core,6,20,10.5.0.16,,recorder,3
"""
ZONES = {"a": 1, "b": 2, "c": 3, "d": 4, "e": 5}
INTERESTING = [
    "10.1.0.5", "10.1.0.11", "10.1.0.40", "10.2.0.12", "10.2.0.77", "10.3.0.21", "10.3.0.9", "10.5.0.16", "10.5.0.60",
    "10.5.0.9", "198.51.100.7",
]  # fmt: skip


def random_plan(folder: Path, dice: random.Random) -> NetworkPlan:
    text = PLAN
    for name, number in ZONES.items():
        text += f'[[zones]]\nname = "{name}"\nvlan = {number}0\nsubnet = "10.{number}.0.0/24"\n'
        text += f'gateway = "10.{number}.0.1"\n' if name != "d" else ""
    text += '[[zones]]\nname = "f"\nvlan = 51\nsubnet = "10.5.0.0/24"\nprimary = "e"\npool = "10.5.0.50-10.5.0.70"\n'
    kinds = ["camera", "recorder", "viewer", "device"]
    for _ in range(dice.randint(1, 6)):
        ends = [dice.choice([*ZONES, "f", "internet", "*"]) for _ in range(2)]
        text += f'[[rules]]\nfrom = "{ends[0]}"\nto = "{ends[1]}"\nallow = {dice.choice(["true", "true", "false"])}\n'
        for key in ("from_kind", "to_kind"):
            text += f'{key} = "{dice.choice(kinds)}"\n' if dice.random() < 0.4 else ""
        if dice.random() < 0.7:
            protocol = dice.choice(["tcp", "udp", "icmp"])
            text += f'protocol = "{protocol}"\n'
            port = dice.choice(["554", "554-560", "80"])
            text += f'port = "{port}"\n' if protocol != "icmp" and dice.random() < 0.8 else ""
    return plan_network(read_plan(SiteFolder(make_site(folder, text, CAMERAS, TYPES))))


Sent = tuple[str, str, str, int]


def random_packets(dice: random.Random) -> Iterator[Sent]:
    for _ in range(80):
        source, target = dice.sample(INTERESTING, 2)
        if leg(source) != leg(target):
            yield (
                source,
                target,
                dice.choice(["tcp", "udp", "icmp"]),
                dice.choice([79, 80, 81, 553, 554, 555, 560, 561]),
            )


def leg(address: str) -> str:
    number = address.split(".")[1]
    return "wan" if number == "51" else f"vlan{number}0"


def in_list(rows: tuple[AccessRow, ...], packet: Sent) -> bool | None:
    """By the neutral rows: the first of the pair that fits decides. None where nobody of the plan has such an address."""
    source, target, protocol, port = packet

    def holds(networks: tuple[str, ...], address: str) -> bool:
        outside = not any(IPv4Address(address) in IPv4Network(f"10.{n}.0.0/24") for n in ZONES.values())
        return any(IPv4Address(address) in IPv4Network(n) for n in networks) if networks else outside

    for row in rows:
        first, _, last = row.port.partition("-")
        fits = row.protocol in ("any", protocol) and (row.port == "any" or int(first) <= port <= int(last or first))
        if fits and holds(row.origin_networks, source) and holds(row.to_networks, target):
            return row.verdict == "allow"
    return None


def in_yang(document: dict[str, Any], interface: str, packet: Sent, *, answer: bool = False) -> bool:
    """RFC 8519: the first entry of the lists attached to the interface that a packet comes in by decides."""
    acls = document["ietf-access-control-list:acls"]
    source, target, protocol, port = packet
    for attached in acls["attachment-points"]["interface"]:
        if attached["interface-id"] != interface:
            continue
        name = attached["ingress"]["acl-sets"]["acl-set"][0]["name"]
        for ace in next(acl for acl in acls["acl"] if acl["name"] == name)["aces"]["ace"]:
            told = ace.get("matches", {})
            ip = told.get("ipv4", {})
            fits = IPv4Address(source) in IPv4Network(ip.get("source-ipv4-network", "0.0.0.0/0"))
            fits &= IPv4Address(target) in IPv4Network(ip.get("destination-ipv4-network", "0.0.0.0/0"))
            fits &= ip.get("protocol") in (None, {"tcp": 6, "udp": 17, "icmp": 1}[protocol])
            for way, value in {k: v for p in ("tcp", "udp") for k, v in told.get(p, {}).items()}.items():
                low, high = value.get("lower-port", value.get("port")), value.get("upper-port", value.get("port"))
                fits &= low <= (port if (way == "source-port") == answer else 30_000) <= high
            if fits:
                return bool(ace["actions"]["forwarding"].endswith("accept"))
    return True  # the internet's interface is none of the plan's


@pytest.mark.parametrize("seed", range(10))
def test_file_and_access_list_and_yang_agree_on_every_packet(tmp_path: Path, seed: int) -> None:
    dice = random.Random(seed)
    net = random_plan(tmp_path, dice)
    rules, rows = nftables.router(net), access_rows(net.plan, net.reach)
    data = json.loads(yang.instance_data(net, net.plan.switches[0]))
    content = data["ietf-yang-instance-data:instance-data-set"]["content-data"]
    for packet in random_packets(dice):
        source, target, protocol, port = packet
        came = passes(rules, leg(source), leg(target), *packet)
        planned = in_list(rows, packet)
        assert planned in (None, came), (packet, rules)
        back = passes(rules, leg(target), leg(source), target, source, protocol, port)
        if came:
            assert in_yang(content, leg(source), packet), (packet, rules)
            answer = (target, source, protocol, port)
            assert in_yang(content, leg(target), answer, answer=True), "answers come back by their source port"
        elif leg(source) != "wan" and not back and not in_some_answer(rules, packet):
            assert not in_yang(content, leg(source), packet), (packet, rules)


def in_some_answer(rules: str, packet: Sent) -> bool:
    """Whether a list without conversations may take it for an answer: something of that protocol may begin the other way."""
    source, target, protocol, _ = packet
    return any(passes(rules, leg(target), leg(source), target, source, protocol, p) for p in (30_000,))


@on_packets
def test_the_kernel_decides_as_the_access_list_says(tmp_path: Path) -> None:
    tried = 0
    for seed in range(10, 15):
        dice = random.Random(seed)
        net = random_plan(tmp_path / str(seed), dice)
        packets = list(random_packets(dice))
        file = tmp_path / f"{seed}.nft"
        file.write_text(nftables.router(net))
        legs = {f"vlan{n}0": f"10.{n}.0.1/24" for n in ZONES.values()} | {"wan": "203.0.113.1/24"}
        asked = {"legs": legs, "rules": str(file), "packets": [[leg(p[0]), *p] for p in packets]}
        document = tmp_path / f"{seed}.json"
        document.write_text(json.dumps(asked))
        script = Path(__file__).with_name("kernel_router.py")
        done = subprocess.run(
            ["unshare", "--user", "--map-root-user", "--net", sys.executable, str(script), str(document)],
            capture_output=True, text=True, check=False,
        )  # fmt: skip
        assert done.returncode == 0, done.stderr
        came = set(json.loads(done.stdout))
        rows = access_rows(net.plan, net.reach)
        for number, packet in enumerate(packets):
            planned = in_list(rows, packet)
            if planned is not None:
                tried += 1
                assert (number in came) == planned, (packet, file.read_text())
    assert tried > 150


def test_networks_of_kinds_share_a_zone_without_a_gap(tmp_path: Path) -> None:
    """Worked out by hand for a: camera .11 and recorder .5; the rest of the /24 is nobody's in particular."""
    net = random_plan(tmp_path, random.Random(0))
    from zentrale.planning.access_list import Parties, elsewhere

    parties, zone = Parties(net.plan), net.plan.zone("a")
    assert parties.networks(zone, "camera") == ("10.1.0.11",) and parties.networks(zone, "recorder") == ("10.1.0.5",)
    rest = [IPv4Network(n) for n in parties.networks(zone, "device")]
    assert sum(n.num_addresses for n in rest) == 254 and parties.networks(zone, "viewer") == ()
    assert parties.networks(zone, None) == ("10.1.0.0/24",)
    assert set(parties.networks(net.plan.zone("f"), None)) >= {"10.5.0.16", "10.5.0.64/30"}
    outside = [ipaddress.ip_network(n) for n in elsewhere(net.plan)]
    assert sum(n.num_addresses for n in outside) == 2**32 - 5 * 256
