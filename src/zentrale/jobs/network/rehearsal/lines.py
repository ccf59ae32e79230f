"""What a line of a written file is about: a port, a rule of a switch or of the router, a leg, a recorder, a zone."""

from __future__ import annotations

import ipaddress
import re
from dataclasses import dataclass

from zentrale.jobs.network.rehearsal import pages
from zentrale.jobs.network.rehearsal.deviations import Deviation
from zentrale.jobs.network.rehearsal.script import port_name
from zentrale.output.network import names, nftables, querier
from zentrale.planning.network import NetworkPlan


@dataclass(frozen=True)
class About:
    """`kind` port, leg, flow, switch, rule, recorder, dhcp, querier, radius or table (that is only compared). `ports`, `vlans`
    and `groups` are those in which the line that stands and the planned one differ.
    """

    kind: str
    subject: str
    switch: str = ""
    name: str = ""
    ports: frozenset[int] = frozenset()
    vlans: frozenset[int] = frozenset()
    groups: frozenset[str] = frozenset()


def about(line: Deviation, net: NetworkPlan) -> About:
    folder, _, file = line.file.rpartition("/")
    if file == "openvswitch.sh":
        return _of_switch(line, net, folder)
    if file in ("ports.csv", "linux.sh"):
        pattern = r"^(\d+)," if file == "ports.csv" else r"\bp(\d+)\b"
        ports = frozenset(int(p) for text in line.texts() for p in re.findall(pattern, text))
        return About("table", _port_subject(net, folder, min(ports)) if ports else line.file, folder, ports=ports)
    if file == querier.FILE:
        return About("querier", f"querier of switch {folder}", folder)
    if folder == "dhcp":
        return About("dhcp", f"zone {file.removesuffix('.conf')}", name=file.removesuffix(".conf"))
    if file == "router.nft":
        return About("rule", f"router{_rule_number(line, net)}")
    if file.endswith(".nft"):
        name = file.removesuffix(".nft")
        return About("recorder", f"recorder {name}", name=name)
    return About("radius" if file.startswith("radius") else "other", line.file, folder)


def _of_switch(line: Deviation, net: NetworkPlan, switch: str) -> About:
    text = " ".join(line.texts())
    ports = {p for t in line.texts() if (p := port_name(t)) is not None}
    if ports:
        vlans = _differing(line, r"\b(?:tag=|trunks=|,)(\d+)(?=[,\s]|$)")
        return About(
            "port",
            _port_subject(net, switch, min(ports)),
            switch,
            ports=frozenset(ports),
            vlans=frozenset(map(int, vlans)),
        )
    if re.search(rf"\b{names.PAGE}\b", text):
        return About("page", f"page of switch {switch}", switch, name=pages.station_of(switch))
    leg = re.search(r"\bvlan(\d+)\b", text)
    if leg and "actions=" not in text:
        vlan = int(leg[1])
        zone = next((z for z in net.routed_zones() if z.vlan == vlan), None)
        subject = f"gateway of zone {zone.name}" if zone else f"leg {names.vlan(vlan)} of switch {switch}"
        return About("leg", subject, switch, vlans=frozenset([vlan]))
    if "actions=" in text:
        touched = _differing(line, r"\b(?:in_port=|reg2=|output:)(\d+)\b")
        vlans = set(re.findall(r"\b(?:reg0=|dl_vlan=)(\d+)\b", text))
        groups = frozenset(re.findall(r"nw_dst=([\d.]+)", text))
        return About(
            "flow", f"switch {switch}", switch, "", frozenset(map(int, touched)), frozenset(map(int, vlans)), groups
        )
    return About("switch", f"switch {switch}", switch)


def _rule_number(line: Deviation, net: NetworkPlan) -> str:
    """The rule of the plan that the line is written from."""
    for written in nftables.router(net).splitlines():
        rule, _, comment = written.partition("  # ")
        if comment and rule.strip() in line.texts():
            return f", {comment}"
    return ""


def _differing(line: Deviation, pattern: str) -> set[str]:
    """What only one of the two lines names; where both name the same, all of it."""
    stands, planned = (set(re.findall(pattern, text)) for text in (line.stands, line.planned))
    return stands ^ planned or stands | planned


def _port_subject(net: NetworkPlan, switch: str, port: int) -> str:
    row = next((r for r in net.ports.of(switch) if r.port == port), None)
    device = f" ({row.device})" if row is not None and row.kind != "link" and row.device else ""
    return f"port {switch}:{port}{device}"


def fits(rule: str, enters: str, leaves: str, source: str, target: str, protocol: str, port: int) -> bool:
    """Whether a line for nftables, of the words that router.nft has, fits the first packet of a conversation."""
    if "accept" not in rule and "drop" not in rule:
        return False
    for word, name in (("iifname", enters), ("oifname", leaves)):
        for sign, listed in re.findall(rf'\b{word} (!= )?(\{{[^}}]*\}}|"[^"]*")', rule):
            if (f'"{name}"' in listed) == bool(sign):
                return False
    for word, address in (("saddr", source), ("daddr", target)):
        for sign, listed in re.findall(rf"\bip {word} (!= )?(\{{[^}}]*\}}|[\d./-]+)", rule):
            if _holds(listed, address) == bool(sign):
                return False
    for kind, listed in re.findall(r"\b(tcp|udp) dport (\{[^}]*\}|[\d-]+)", rule):
        ranges = [(int(a), int(b or a)) for a, b in re.findall(r"(\d+)(?:\s*-\s*(\d+))?", listed)]
        if kind != protocol or not any(a <= port <= b for a, b in ranges):
            return False
    return all(kind == protocol for kind in re.findall(r"\bl4proto (\w+)", rule))


def _holds(listed: str, address: str) -> bool:
    for entry in listed.strip("{} ").split(","):
        first, dash, last = entry.strip().partition("-")
        try:
            if dash and ipaddress.IPv4Address(first) <= ipaddress.IPv4Address(address) <= ipaddress.IPv4Address(last):
                return True
            if not dash and ipaddress.IPv4Address(address) in ipaddress.IPv4Network(first, strict=False):
                return True
        except ValueError:
            continue  # somebody's own words: they fit nothing that is known here
    return False
