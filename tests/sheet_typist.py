"""Run in namespaces of its own: five Open vSwitches from their maker, a laptop at a port, and somebody who types work sheets.

Reads {laptop, vlan: of the pages, links: [[a, b]], unplugged: ["a - b"], order, pages: {switch: [interface, address]}, sheets:
{switch: lines as `network write --sheet --json` has them}} from its first argument. Each line is one command, made here from its
words alone; after each the laptop looks for every page, without a tag and with that of the pages' VLAN. Prints {failed, commands:
{switch: [...]}, access: [rules], looked: times}.
"""

from __future__ import annotations

import json
import re
import select
import socket
import struct
import sys
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

from zentrale.field.lab.namespaces import End, Namespace, build, make_room
from zentrale.field.lab.switch import LabSwitch

PORTS = range(1, 11)  # of a switch
NOTHING = (  # what Open vSwitch has not, or does by itself
    r"configuration", r"energy-saving Ethernet", r"PoE", r"PoE: priority", r"VLANs",
)  # fmt: skip


def numbers(text: str) -> list[int]:
    """1-4, 7"""
    return [
        n
        for part in re.findall(r"\d+(?:-\d+)?", text)
        for n in range(int(part.split("-")[0]), int(part.split("-")[-1]) + 1)
    ]


def begins(switch: str, page: str, address: str) -> list[str]:
    """As it comes: every port untagged in VLAN 1, its page there, too."""
    bridge = f'set Bridge {switch} "datapath_type=${{DATAPATH:-system}}" other_config:rstp-forward-delay=4'
    made = [f"ovs-vsctl --if-exists del-br {switch} -- add-br {switch} -- {bridge}"]
    made += [
        f"ovs-vsctl add-port {switch} p{n} vlan_mode=access tag=1 -- set Interface p{n} ofport_request={n}"
        for n in PORTS
    ]
    made += leg(switch, page, 1, address)
    return made


def leg(switch: str, name: str, vlan: int, address: str) -> list[str]:
    return [
        f"ip link show {name}-s > /dev/null 2>&1 || ip link add {name} type veth peer name {name}-s", f"ip link set {name}-s up",
        f"ovs-vsctl add-port {switch} {name}-s vlan_mode=access tag={vlan} other_config:rstp-port-admin-edge=true",
        f"ip address replace {address}/24 dev {name}", f"ip link set {name} up",
    ]  # fmt: skip


class Typist:
    def __init__(self, asked: dict[str, Any]) -> None:
        self.asked, self.made = asked, {name: set[int]() for name in asked["sheets"]}
        self.access: list[str] = []
        self.bundles: dict[tuple[str, str], str] = {}

    def command(self, switch: str, where: str, enter: str) -> list[str]:
        """What a line means to Open vSwitch."""
        if where == "VLANs":
            self.made[switch].add(int(re.match(r"VLAN (\d+)", enter)[1]))  # type: ignore[index]
        if any(re.fullmatch(known, where) for known in NOTHING):
            return []
        port = re.fullmatch(r"ports: (\d+)", where)
        if port:
            return [self.port(switch, port[1], enter)]
        if where == "ports":
            return ["ovs-vsctl " + " -- ".join(f"del-port p{n}" for n in numbers(enter.removeprefix("off: ")))]
        if where.startswith("bundle "):
            return [self.bundled(switch, where, str(numbers(enter.partition(" into")[0])[0]))]
        if where.startswith("access list"):
            self.access.append(rule(enter))
            return []
        return self.settings(switch, where, enter)

    def port(self, switch: str, port: str, enter: str) -> str:
        vlans = {word: re.search(rf"\b{word} VLAN (\d+(?:, \d+)*)", enter) for word in ("tagged", "untagged")}
        tagged = ",".join(re.findall(r"\d+", vlans["tagged"][1])) if vlans["tagged"] else ""
        used = {int(v) for found in vlans.values() if found for v in re.findall(r"\d+", found[1])} - {1}
        assert used <= self.made[switch], f"{switch}: {enter}: a VLAN that was not made before"
        native = re.search(r"taken into VLAN (\d+), too", enter) or re.search(
            r"untagged VLAN (\d+) in place of its tag", enter
        )
        if native:
            if "too" in enter:
                return f"ovs-vsctl set Port p{port} vlan_mode=native-tagged tag={native[1]}"
            untagged = f"set Port p{port} vlan_mode=native-untagged tag={native[1]}"
            return f"ovs-vsctl {untagged} -- remove Port p{port} trunks {native[1]}"
        if "still taken in" in enter:
            return f"ovs-vsctl add Port p{port} trunks {tagged} -- set Port p{port} vlan_mode=native-tagged tag=1"
        if "stays" in enter:
            return f"ovs-vsctl set Port p{port} vlan_mode=native-untagged tag=1 trunks={tagged}"
        if "tagged frames only" in enter:
            return f"ovs-vsctl set Port p{port} vlan_mode=trunk{f' trunks={tagged}' if tagged else ''} -- clear Port p{port} tag"
        assert vlans["untagged"], enter
        return f"ovs-vsctl set Port p{port} vlan_mode=access tag={vlans['untagged'][1]} -- clear Port p{port} trunks"

    def bundled(self, switch: str, where: str, port: str) -> str:
        first = self.bundles.setdefault((switch, where), port)
        if first == port:
            return f"ovs-vsctl set Port p{port} lacp=active"
        made = f"--id=@i create Interface name=p{port} ofport_request={port} -- add Port p{first} interfaces @i"
        return f"ovs-vsctl del-port p{port} -- {made}"

    def settings(self, switch: str, where: str, enter: str) -> list[str]:
        if where == "spanning tree" and enter.startswith("off"):
            return [f"ovs-vsctl set Bridge {switch} rstp_enable=false"]
        if where == "spanning tree: edge ports":
            return [
                "ovs-vsctl "
                + " -- ".join(f"set Port p{n} other_config:rstp-port-admin-edge=true" for n in numbers(enter))
            ]
        if where == "spanning tree: priority":
            return [f"ovs-vsctl set Bridge {switch} other_config:rstp-priority={enter}"]
        if where == "spanning tree: kind" and enter == "rapid (RSTP), on":
            return [f"ovs-vsctl set Bridge {switch} rstp_enable=true"]
        if where == "management: address":
            page, address = self.asked["pages"][switch]
            assert enter.startswith(f"{address}, mask 255.255.255.0") and "VLAN 1 as it is" in enter, enter
            way = re.search(r"gateway ([\d.]+)", enter)
            return [f"ip route replace default via {way[1]} dev {page}"] if way else []
        if where == "management: VLAN":
            return [f"ovs-vsctl set Port {self.asked['pages'][switch][0]}-s tag={numbers(enter)[0]}"]
        if where == "routing":
            return ["echo 1 > /proc/sys/net/ipv4/ip_forward"]
        found = re.fullmatch(r"VLAN (\d+): address ([\d.]+), mask 255.255.255.0", enter)
        assert where == "routing: addresses" and found, f"{where}: {enter}"
        if f"vlan{found[1]}" == self.asked["pages"][switch][0]:
            return [f"ip address add {found[2]}/24 dev vlan{found[1]}"]
        return [" && ".join(f"({part})" for part in leg(switch, f"vlan{found[1]}", int(found[1]), found[2]))]


def rule(enter: str) -> str:
    """A line of the access list, for nftables."""
    if enter.startswith("allow answers"):
        return "ct state established,related accept"
    found = re.fullmatch(
        r"(allow|drop)(?: (\w+))? in by VLAN (\d+) from ([\d./, ]+); out by VLAN (\d+) to ([\d./, ]+)(?:; to port (\d+))?",
        enter,
    )
    if found is None:
        assert enter == "drop all else", enter
        return "drop"
    verdict, protocol, enters, sources, leaves, targets, port = found.groups()
    service = f" {protocol} dport {port}" if port else ""
    ends = f'iifname "vlan{enters}" ip saddr {{ {sources} }} oifname "vlan{leaves}" ip daddr {{ {targets} }}'
    return f"{ends}{service} {'accept' if verdict == 'allow' else 'drop'}"


class Laptop:
    """Looks for pages by ARP (RFC 826), as ping does first, from its port."""

    MAC, ADDRESS = bytes.fromhex("025a71000099"), "10.10.0.250"

    def __init__(self, space: Namespace, vlan: int) -> None:
        self.tags = [b"", struct.pack("!HH", 0x8100, vlan)][: 1 if vlan == 1 else 2]
        with space.inside():
            self.sock = socket.socket(socket.AF_PACKET, socket.SOCK_RAW, socket.htons(3))
            self.sock.bind(("eth0", 3))

    def look(self, pages: list[str], within_s: float) -> set[str]:
        """The pages that do not answer by then."""
        left, end = set(pages), time.monotonic() + within_s
        while self.sock in select.select([self.sock], [], [], 0)[0]:
            self.sock.recv(2048)
        while left and time.monotonic() < end:
            for page in left:
                asked = struct.pack("!HHBBH6s4s6s4s", 1, 0x0800, 6, 4, 1, self.MAC, socket.inet_aton(self.ADDRESS), bytes(6),
                                    socket.inet_aton(page))  # fmt: skip
                for tag in self.tags:
                    self.sock.send(b"\xff" * 6 + self.MAC + tag + b"\x08\x06" + asked)
            until = time.monotonic() + 0.25
            while left and (ready := select.select([self.sock], [], [], max(0.0, until - time.monotonic()))[0]):
                frame = ready[0].recv(2048)
                at = 18 if frame[12:14] == b"\x81\x00" else 14
                if frame[at - 2 : at] == b"\x08\x06" and frame[at + 6 : at + 8] == b"\x00\x02":
                    left.discard(socket.inet_ntoa(frame[at + 14 : at + 18]))
        return left


def run(asked: dict[str, Any]) -> dict[str, Any]:
    room = make_room()
    cables = []
    for a, b in asked["links"]:
        cables.append(tuple(End(x.split(":")[0], f"p{x.split(':')[1]}") for x in (a, b)))
    at, port = asked["laptop"].split(":")
    cables.append((End(at, f"p{port}"), End("laptop", "eth0", "02:5a:71:00:00:99")))
    taken = {(end.space, end.interface) for ends in cables for end in ends}
    free = [(name, f"p{n}") for name in asked["sheets"] for n in PORTS if (name, f"p{n}") not in taken]
    cables += [(End(name, p), End("nobody", f"{name}-{p}")) for name, p in free]
    spaces = build([*asked["sheets"], "laptop", "nobody"], cables)  # type: ignore[arg-type]
    laptop, typist = Laptop(spaces["laptop"], asked["vlan"]), Typist(asked)
    switches = {name: LabSwitch(spaces[name], room / name) for name in asked["sheets"]}
    commands: dict[str, list[str]] = {}
    looked = 0
    try:
        for name, switch in switches.items():
            commands[name] = begins(name, *asked["pages"][name])
            switch.start()
        plug: Callable[[str, str], None] = lambda link, state: [  # noqa: E731
            spaces[e.split(":")[0]].call("ip", "link", "set", f"p{e.split(':')[1]}", state) for e in link.split(" - ")
        ]  # type: ignore[assignment]
        for link in asked["unplugged"]:
            plug(link, "down")
        for name, switch in switches.items():
            for command in commands[name]:
                switch.tell("sh", "-c", command)
        for link in asked["unplugged"]:
            plug(link, "down")  # a switch puts its ports up
        pages = [address for _, address in asked["pages"].values()]
        if gone := laptop.look(pages, 10):
            return {"failed": f"before the first line: {gone}"}
        for turn in (1, 2, 3, 4):
            for name in asked["order"]:
                for line in (x for x in asked["sheets"][name] if x["round"] == turn):
                    where, enter = line["where"], line["enter"]
                    if where == "cables":
                        for part in enter.removesuffix(" at once").split("; "):
                            for link in (
                                part.removeprefix("un").removeprefix("plug in ").removeprefix("plug ").split(", ")
                            ):
                                plug(link, "down" if part.startswith("un") else "up")
                    elif where == "on the laptop":
                        assert set(re.findall(r"[\d.]{7,}", enter)) <= set(pages), enter
                    else:
                        for command in typist.command(name, where, enter):
                            switches[name].tell("sh", "-c", command)
                            commands[name].append(command)
                    looked += 1
                    if gone := laptop.look(pages, 45):
                        return {"failed": f"{name}, line {line['number']} ({where}: {enter}): {gone} do not answer"}
    finally:
        for switch in switches.values():
            switch.stop()
    return {"failed": "", "commands": commands, "access": typist.access, "looked": looked}


if __name__ == "__main__":
    print(json.dumps(run(json.loads(Path(sys.argv[1]).read_text()))))
