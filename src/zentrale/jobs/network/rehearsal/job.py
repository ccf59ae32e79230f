"""`network rehearse`: the written files on software switches, and real packets through them, held against the plan."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterator, Sequence
from contextlib import ExitStack, contextmanager
from dataclasses import dataclass
from ipaddress import IPv4Address
from pathlib import Path
from typing import TypeVar

from zentrale import quantities
from zentrale.field.lab import probing, servers
from zentrale.field.lab import switch as lab_switch
from zentrale.field.lab.namespaces import LabError, Lack
from zentrale.field.lab.probing import Wire
from zentrale.field.lab.servers import load_rules
from zentrale.findings import Finding, finding
from zentrale.jobs.network.reading_back import against_switch, disagreements
from zentrale.jobs.network.rehearsal import services, trial
from zentrale.jobs.network.rehearsal.causes import Cause, Causes, read_switch
from zentrale.jobs.network.rehearsal.failing import Failed, Failing
from zentrale.jobs.network.rehearsal.loading import Load
from zentrale.jobs.network.rehearsal.services import DhcpResult, MulticastResult
from zentrale.jobs.network.rehearsal.slips import Broken, Slip
from zentrale.jobs.network.rehearsal.stage import Builder, Stage
from zentrale.jobs.network.rehearsal.trial import Differing, PartyCell, Reached
from zentrale.jobs.network.writing import FOLDER
from zentrale.planning.network import NetworkPlan

T = TypeVar("T")
_SOURCE = "packets on the rehearsed network"
_EXAMPLES = 3


@dataclass(frozen=True)
class Rehearsal:
    """`took` is how long each part took [s]; `broken` what was broken on purpose, in words; `added` what stood there beside the
    plan; `packets` how many pairs were tried, of all kinds together.
    """

    cells: tuple[PartyCell, ...]
    findings: tuple[Finding, ...]
    dhcp: tuple[DhcpResult, ...]
    multicast: MulticastResult | None
    added: tuple[str, ...]
    broken: str
    packets: int
    stations: int
    took: dict[str, float]


class Rehearser:
    """One rehearsal. `written` is the folder that holds network/; `room` a place that goes with this process; `told` hears what
    is being done.
    """

    def __init__(self, net: NetworkPlan, written: Path, room: Path, told: Callable[[str], None]) -> None:
        self._net = net
        self._written = written
        self._room = room
        self._told = told
        self._took: dict[str, float] = {}
        self._findings: list[Finding] = []
        self._stack = ExitStack()
        self._lacks = servers.lacks()
        self._explained: set[str] = set()

    def rehearse(self, slip: Slip | None = None) -> Rehearsal:
        """Raises LabError where this machine does not do it, InputError for a slip that the site has no place for."""
        with self._stack:
            probing.raise_limits()
            self._read_back()
            builder = Builder(self._net, self._room, slip.cables(self._net) if slip else ())
            stage = self._timed("building the site", builder.make)
            self._timed("switching on", lambda: self._switch_on(stage, builder))
            loaded = {name: read_switch(name, switch) for name, switch in stage.switches.items()}
            for name, state in loaded.items():
                held = {port: (p.untagged, p.tagged) for port, p in state.ports.items()}
                for where, told in against_switch(self._written / FOLDER / name, held):
                    self._find("NET-9", f"port {where}", told, "one network")
            broken = slip.make(stage, builder) if slip else Broken("")
            for server in broken.servers:
                self._stack.callback(server.stop)
            self._settle(builder)
            return self._tried(stage, Causes(stage, loaded), broken)

    def fail_in_turn(self) -> list[Failed]:
        """Each part taken away, and what it cost; findings where that is not what the plan foretold. Raises LabError."""
        with self._stack:
            probing.raise_limits()
            builder = Builder(self._net, self._room)
            stage = self._timed("building the site", builder.make)
            self._timed("switching on", lambda: self._switch_on(stage, builder))
            self._settle(builder)
            with Wire(stage.inside_legs(), stage.spaces) as wire:
                results = Failing(stage, builder, wire, self._written, self._told).all()
        for item in results:
            if not item.as_foretold:
                more, fewer = set(item.lost) - set(item.foretold), set(item.foretold) - set(item.lost)
                told = [f"lost too: {', '.join(sorted(more))}"] if more else []
                told += [f"not lost: {', '.join(sorted(fewer))}"] if fewer else []
                self._find("NET-11", item.part, "; ".join(told), f"{len(item.foretold)} cameras lost")
        return results

    def judge_load(self, load: Load) -> None:
        """Findings where a link carries other than planned, where one is too small, and where a stream does not play."""
        full = any(item.full for item in load.links)
        for item in load.links:
            missing = full and item.seen_bps < item.planned_bps  # behind a link that is too small, which is told
            if not item.as_planned and not missing:
                share = quantities.share(item.seen_bps, item.rate_bps)
                limit = f"{quantities.bitrate(item.expected_bps)} (plan traffic)"
                self._find(
                    "NET-12", f"link {item.link}", f"{quantities.bitrate(item.seen_bps)}, {share} of line rate", limit
                )
        for stream in load.played:
            if stream.error:
                ref = f"camera {stream.camera}, {stream.stream} stream"
                self._find("NET-12", ref, f"at {stream.receiver}: {stream.error}", "a stream that plays")
        hurt = [s for s in load.played if s.lost]
        for link in (x for x in load.links if x.full and hurt):
            worst = max(hurt, key=lambda s: s.lost / (s.lost + s.packets))
            share = quantities.share(worst.lost, worst.lost + worst.packets)
            told = f"{quantities.count(len(hurt), 'stream')} lost packets, {share} of {worst.camera}'s {worst.stream} stream"
            limit = f"at most {quantities.bitrate(link.rate_bps)}"
            self._find("NET-13", f"link {link.link}", f"{quantities.bitrate(link.planned_bps)} planned; {told}", limit)

    @property
    def findings(self) -> tuple[Finding, ...]:
        return tuple(self._findings)

    @contextmanager
    def standing(self, laptop: str = "") -> Iterator[Stage]:
        """The site as it stands, with a laptop in this zone where one is named: for whoever works in it. Raises LabError."""
        with self._stack:
            probing.raise_limits()
            builder = Builder(self._net, self._room, laptop=laptop)
            stage = self._timed("building the site", builder.make)
            self._timed("switching on", lambda: self._switch_on(stage, builder))
            self._settle(builder)
            yield stage

    def _settle(self, builder: Builder) -> None:
        left = self._timed("until all ports are open", builder.settle)
        if left:
            self._find("NET-2", f"port {left[0]}", f"spanning tree does not open {', '.join(left)}", "open within 45 s")

    def only_files(self, lacks: Sequence[Lack]) -> tuple[Finding, ...]:
        """What is left where this machine has no namespaces or no software switches: the files read back."""
        for lack in lacks:
            self._not_rehearsed(lack, "real packets through the network")
        self._read_back()
        return tuple(self._findings)

    def _timed(self, what: str, work: Callable[[], T]) -> T:
        self._told(what)
        begun = time.monotonic()
        result = work()
        self._took[what] = time.monotonic() - begun
        return result

    def _read_back(self) -> None:
        for switch in self._net.plan.switches:
            for where, told in disagreements(self._written / FOLDER / switch.name):
                self._find("NET-9", f"port {where}", told, "one network")

    def _find(self, code: str, subject: str, measured: str, limit: str) -> None:
        self._findings.append(finding(code, subject, measured, limit, _SOURCE))

    def _switch_on(self, stage: Stage, builder: Builder) -> None:
        missing = lab_switch.lacks()
        if missing:
            raise LabError(f"{missing[0].what} is missing: {missing[0].advice}")
        for switch in self._net.plan.switches:
            self._stack.callback(stage.switches[switch.name].stop)
            builder.switch_on(switch.name, self._written / FOLDER / switch.name / "openvswitch.sh")
        lacking = {lack.what for lack in self._lacks}
        for lack in self._lacks:
            self._not_rehearsed(lack, {"nft": "what router and recorders let through", "dnsmasq": "DHCP"}[lack.what])
        if "nft" not in lacking:
            self._load_rules(stage)
        without: list[str] = []
        if "dnsmasq" not in lacking:
            started, without = services.start_servers(stage, self._written)
            for server in started:
                self._stack.callback(server.stop)
        for told in without:
            self._find("NET-10", "rehearsal", told, "all of the network")
        if self._net.gateways_without_router():
            self._find("NET-10", "rehearsal", "ways between zones: no switch of the plan routes", "all of the network")

    def _not_rehearsed(self, lack: Lack, what: str) -> None:
        self._find("NET-10", "rehearsal", f"{what}: {lack.what} is missing; {lack.advice}", "all of the network")

    def _load_rules(self, stage: Stage) -> None:
        router = self._net.router()
        if router is not None and self._net.routed_zones():
            load_rules(stage.space_of(router.name), self._written / FOLDER / "router.nft")
        for recorder in self._net.plan.recorders:
            if recorder.viewing is not None and recorder.name in stage.spaces:
                load_rules(stage.spaces[recorder.name], self._written / FOLDER / f"{recorder.name}.nft")

    def _tried(self, stage: Stage, causes: Causes, broken: Broken) -> Rehearsal:
        dhcp: list[DhcpResult] = []
        multicast: MulticastResult | None = None
        with Wire(stage.inside_legs(), stage.spaces) as wire:
            storm = trial.circles(stage, wire)
            if storm:
                self._circles(stage, causes)
                return self._result(stage, Reached((), (), 0), dhcp, multicast, broken)
            reached = Reached((), (), 0)
            routed = not self._net.gateways_without_router() and not any(lack.what == "nft" for lack in self._lacks)

            def reach() -> None:
                nonlocal reached
                reached = trial.try_all(stage, wire, routed=routed)

            self._timed("who reaches whom", reach)
            twice = dict(services.who_answers_twice(stage, wire))
            self._judge_reach(causes, reached.differing, set(twice))
            self._judge_twice(stage, twice)
            if not any(lack.what == "dnsmasq" for lack in self._lacks):
                self._timed("DHCP", lambda: dhcp.extend(services.ask_for_addresses(stage, wire)))
                self._judge_dhcp(stage, dhcp)
            if any(self._net.is_routed(g) for g in self._net.multicast.groups):
                what = "multicast that a router passes from zone to zone: no written file does that"
                self._find("NET-10", "rehearsal", what, "all of the network")
            if any(not self._net.is_routed(g) for g in self._net.multicast.groups):
                multicast = self._groups(stage, wire, broken)
        return self._result(stage, reached, dhcp, multicast, broken)

    def _result(
        self,
        stage: Stage,
        reached: Reached,
        dhcp: Sequence[DhcpResult],
        multicast: MulticastResult | None,
        broken: Broken,
    ) -> Rehearsal:
        return Rehearsal(
            reached.cells, tuple(self._findings), tuple(dhcp), multicast, tuple(stage.added), broken.what, reached.packets,
            len(stage.stations), self._took,
        )  # fmt: skip

    def _circles(self, stage: Stage, causes: Causes) -> None:
        for switch in stage.switches.values():  # it eats this machine's time
            switch.stop()
        for cause in causes.second_ways() or [Cause("network", "a ring of cables")]:
            self._find("NET-6", cause.subject, f"{cause.what}; a frame to all is copied without end", "each frame once")

    def _groups(self, stage: Stage, wire: Wire, broken: Broken) -> MulticastResult:
        if not broken.no_querier:
            queriers, without = services.start_queriers(stage)
            for querier in queriers:
                self._stack.callback(querier.stop)
            for told in without:
                self._find("NET-10", "rehearsal", told, "all of the network")
        found: list[MulticastResult] = []
        self._timed("multicast", lambda: found.append(services.try_groups(stage, wire)))
        self._judge_groups(found[0])
        return found[0]

    # What came of it, as findings

    def _judge_reach(self, causes: Causes, differing: Sequence[Differing], twice: set[str]) -> None:
        """One finding for each cause, with the cells that differ because of it."""
        by_cause: dict[tuple[str, Cause], list[Differing]] = {}
        for item in differing:
            if {item.origin.address, item.to.address} & twice:
                continue  # it follows from two devices having one address, which is told as that
            by_cause.setdefault(("NET-1" if item.came else "NET-2", causes.of(item)), []).append(item)
        for (code, cause), items in by_cause.items():
            limit = "nothing arrives" if code == "NET-1" else "it arrives"
            if code == "NET-2":
                self._explained |= {leg.station for item in items for leg in (item.origin, item.to)}
            self._find(code, cause.subject, f"{cause.what}; {'; '.join(_cells(items))}", limit)

    def _judge_twice(self, stage: Stage, twice: dict[str, set[str]]) -> None:
        by_mac = {leg.mac: leg for leg in stage.legs}
        for address, macs in twice.items():
            legs = [by_mac[m] for m in sorted(macs) if m in by_mac]
            places = [stage.places[leg] for leg in legs]
            who = [f"{x.station} at {p.switch} port {p.port}" for x, p in zip(legs, places, strict=True)]
            who += [f"MAC address {m}" for m in sorted(macs) if m not in by_mac]
            self._find("NET-5", f"address {address}", " and ".join(who), "one device")

    def _judge_dhcp(self, stage: Stage, results: Sequence[DhcpResult]) -> None:
        by_mac = {leg.mac: leg for leg in stage.legs}
        rogues: dict[tuple[str, str], list[str]] = {}
        for told in results:
            planned = self._planned_server(stage, told.zone)
            strange = [s for s in told.servers if planned and s[1] != planned]
            for server in strange:
                rogues.setdefault((told.zone, server[1]), []).append(told.client)
            zone = self._net.plan.zone(told.zone)
            pool = self._net.pool(zone)
            if strange or told.client in self._explained:  # told already, with the cause
                continue
            if told.planned and told.given != told.planned:
                self._find("NET-3", f"device {told.client}", told.given or "no address", told.planned)
            elif not told.planned and told.given and not (pool and pool[0] <= IPv4Address(told.given) <= pool[1]):
                limit = f"one of {pool[0]} to {pool[1]}" if pool else "none"
                self._find("NET-3", told.client, told.given, limit)
        for (zone_name, mac), clients in rogues.items():
            leg = by_mac.get(mac)
            where = (
                f"{leg.station} at {stage.places[leg].switch} port {stage.places[leg].port}"
                if leg
                else f"MAC address {mac}"
            )
            self._find(
                "NET-4", f"zone {zone_name}", f"{where} offered addresses to {len(clients)} devices", "one server"
            )

    def _planned_server(self, stage: Stage, zone: str) -> str:
        at = services.server_place(stage, self._net.plan.zone(zone))
        if at is None:
            return ""
        legs = [leg for leg in stage.legs if leg.station == at[0] and leg.interface == at[1]]
        return legs[0].mac if legs else services.mac_at(stage, at[0], at[1])

    def _judge_groups(self, result: MulticastResult) -> None:
        for zone in result.not_queried:
            lost = ", ".join(result.forgotten)
            effect = f"; once the switches had forgotten their members, {lost} got nothing any more" if lost else ""
            self._find("NET-8", f"zone {zone}", f"no question within 3 s{effect}", "a question every second, here")
        for group in result.groups:
            missing = [n for n in group.joined if n not in group.got]
            if missing:
                told = f"{', '.join(missing)} joined and got nothing"
                self._find("NET-7", f"group {group.group} of {group.sender}", told, "it arrives")
            if group.astray:
                some = ", ".join(group.astray[:_EXAMPLES])
                self._find("NET-7", f"group {group.group} of {group.sender}", f"also seen at {some}", "members alone")
        if result.forgotten and not result.not_queried:
            self._find(
                "NET-7", "groups", f"{', '.join(result.forgotten)} got nothing any more after a while", "it goes on"
            )


def _cells(items: Sequence[Differing]) -> Iterator[str]:
    """Which devices, and by what, a few of each."""
    by_pair: dict[tuple[str, str], set[str]] = {}
    for item in items:
        by_pair.setdefault((item.origin.mark, item.to.mark), set()).add(item.kind)
    names = [f"{a.split(' in ')[0]} to {b.split(' in ')[0]}" for a, b in by_pair]
    kinds = sorted({k for some in by_pair.values() for k in some})
    more = f" and {len(names) - _EXAMPLES} more pairs" if len(names) > _EXAMPLES else ""
    yield f"{', '.join(names[:_EXAMPLES])}{more} ({', '.join(kinds)})"
