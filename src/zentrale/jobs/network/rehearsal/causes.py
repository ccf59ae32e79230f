"""Which wire or rule makes packets go otherwise than planned, read from switches and devices as they are."""

from __future__ import annotations

import ipaddress
import json
import re
from collections.abc import Iterator
from dataclasses import dataclass
from functools import cached_property
from itertools import pairwise
from typing import Any

import networkx as nx

from zentrale.field.lab.switch import LabSwitch
from zentrale.jobs.network.rehearsal.stage import Place, Stage
from zentrale.jobs.network.rehearsal.trial import Differing
from zentrale.output.network import names
from zentrale.planning.topology import lit_network, paths_from
from zentrale.site.model import INTERNET

_RULE = 80  # characters of a rule that a person reads
_LEARNED = "table=10,"  # what a switch has learned is no rule of anybody


@dataclass(frozen=True)
class PortState:
    """As the switch has it: untagged VLAN (0: none) and those that it carries with a tag."""

    untagged: int
    tagged: frozenset[int]


@dataclass(frozen=True)
class SwitchState:
    ports: dict[str, PortState]
    rules: frozenset[str]


def read_switch(name: str, switch: LabSwitch) -> SwitchState:
    """What it holds now. Raises LabError."""
    told = json.loads(switch.tell("ovs-vsctl", "--format=json", "--columns=name,tag,trunks", "list", "Port"))
    ports = {row[0]: PortState(next(iter(_numbers(row[1])), 0), frozenset(_numbers(row[2]))) for row in told["data"]}
    lines = switch.tell("ovs-ofctl", "-O", "OpenFlow13", "--no-stats", "--names", "dump-flows", names.short(name))
    rules = frozenset(line.strip() for line in lines.splitlines() if "actions=" in line and _LEARNED not in line)
    return SwitchState(ports, rules)


def _numbers(cell: Any) -> list[int]:
    """A value of OVSDB (RFC 7047 section 5.1): a number, or a set of them."""
    return [int(n) for n in cell[1]] if isinstance(cell, list) else [int(cell)]


@dataclass(frozen=True)
class Cause:
    """`subject` is the wire, device or rule as a person finds it; `what` is the matter with it."""

    subject: str
    what: str


class Causes:
    """`loaded` is what each switch held when its commands had been loaded."""

    def __init__(self, stage: Stage, loaded: dict[str, SwitchState]) -> None:
        self._stage = stage
        self._plan = stage.net.plan
        self._loaded = loaded
        self._now = {name: read_switch(name, switch) for name, switch in stage.switches.items()}

    def of(self, item: Differing) -> Cause:
        """What the plan itself says where nothing else is to be seen."""
        origin, to = self._stage.places[item.origin], self._stage.places[item.to]
        for told in (*self._ports(item, origin, to), *self._ways(item, origin, to)):
            return told
        return Cause(f"{origin.party} to {to.party}", item.planned)

    def _ports(self, item: Differing, *places: Place) -> Iterator[Cause]:
        for leg, place in zip((item.origin, item.to), places, strict=True):
            if place.port and (told := self._port(place)):
                yield Cause(f"port {place.switch}:{place.port} ({leg.station})", told)
        for leg, place in zip((item.origin, item.to), places, strict=True):
            if place.party.zone == INTERNET:
                continue
            subnet = self._plan.zone(place.party.zone).subnet
            if not item.came and ipaddress.IPv4Address(leg.address) not in subnet:
                yield Cause(f"{place.party.kind} {leg.station}", f"its address {leg.address} lies outside of {subnet}")
            others = [x.station for x in self._stage.legs if x.address == leg.address and x.station != leg.station]
            if others:
                yield Cause(f"address {leg.address}", " and ".join(sorted({leg.station, *others})))

    def _port(self, place: Place) -> str:
        """What is wrong with a device's own port; empty where nothing is."""
        row = next(r for r in self._stage.net.ports.of(place.switch) if r.port == place.port)
        zone = self._plan.zone(place.party.zone)
        if row.mode == "off":
            return "is off"
        state = self._now[place.switch].ports.get(names.port(place.port)) if place.switch in self._now else None
        if state is None:
            return "is not set on the switch"
        if row.mode == "access" and state.untagged != zone.vlan:
            return f"is in {self._vlan(state.untagged)}, planned in {self._vlan(zone.vlan)}"
        return ""

    def _vlan(self, number: int) -> str:
        zone = next((z.name for z in self._plan.zones if z.vlan == number), "")
        return f"VLAN {number} ({zone})" if zone else f"VLAN {number}" if number else "no VLAN"

    @cached_property
    def _graph(self) -> Any:
        return lit_network(self._plan)

    def _ways(self, item: Differing, origin: Place, to: Place) -> Iterator[Cause]:
        if not item.came and INTERNET not in (origin.party.zone, to.party.zone):
            yield from self._trunks(origin, to)
        if item.came:
            for recorder in self._plan.recorders:
                station = self._stage.stations.get(recorder.name)
                if station and len(station.legs) > 1 and not recorder.forwards and self._forwards(recorder.name):
                    yield Cause(f"recorder {recorder.name}", "forwards packets between its legs")
        yield from self._rules(dict.fromkeys((origin.switch, to.switch)))

    def _forwards(self, station: str) -> bool:
        told = self._stage.spaces[station].call("cat", "/proc/sys/net/ipv4/ip_forward").strip() == "1"
        return told and "policy drop" not in self._stage.spaces[station].call("nft", "list", "ruleset")

    def _trunks(self, origin: Place, to: Place) -> Iterator[Cause]:
        """Ports between switches on the way that do not carry the sender's VLAN."""
        graph = self._graph
        vlans = {self._plan.zone(p.party.zone).vlan for p in (origin, to)}
        zones = {z.vlan: z for z in self._plan.zones}
        if origin.switch not in graph or to.switch not in graph:
            return
        way = paths_from(graph, origin.switch).get(to.switch, [])
        for near, far in pairwise(way):
            for index in graph.edges[near, far]["members"]:
                for (switch, port), (other, _) in (ends := self._plan.links[index].ends(), ends[::-1]):
                    state = self._now[switch].ports.get(names.port(port))
                    lacking = sorted(v for v in vlans if state is not None and v not in state.tagged)
                    if (
                        state is not None
                        and state.tagged
                        and lacking
                        and zones[lacking[0]].family == zones[min(vlans)].family
                    ):
                        told = f"the trunk to {other} does not carry {self._vlan(lacking[0])}"
                        yield Cause(f"port {switch}:{port}", told)

    def _rules(self, switches: dict[str, None]) -> Iterator[Cause]:
        for name in (*switches, *self._now):
            if name not in self._now:
                continue
            more = sorted(self._now[name].rules - self._loaded[name].rules)
            fewer = sorted(self._loaded[name].rules - self._now[name].rules)
            if more:
                yield Cause(f"switch {name}", f"has a rule that its file does not have: {_short(more[0])}")
            elif fewer:
                yield Cause(f"switch {name}", f"lacks a rule of its file: {_short(fewer[0])}")

    def second_ways(self) -> list[Cause]:
        """Where frames may go round in circles: ports that no file has, and the links of planned rings."""
        found = []
        for name, state in self._now.items():
            more = sorted(set(state.ports) - set(self._loaded[name].ports), key=_number)
            found += [Cause(f"port {name}:{_number(p)}", "is in use, and no file has it") for p in more if _number(p)]
        if found:
            return found
        rings = nx.cycle_basis(nx.Graph([link.switches() for link in self._plan.links if link.lit]))
        for ring in rings:
            bare = [s for s in ring if self._plan.switch(s).loop_protection in (None, "none")]
            if bare:
                found.append(Cause(f"ring {' - '.join(ring)}", f"no spanning tree on {', '.join(bare)}"))
        return found


def _number(port: str) -> int:
    return int(port[1:]) if port[:1] == "p" and port[1:].isdigit() else 0


def _short(rule: str) -> str:
    told = re.sub(r"\s+", " ", rule)
    return told if len(told) <= _RULE else f"{told[:_RULE]}..."
