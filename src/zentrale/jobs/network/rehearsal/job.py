"""`network rehearse`: the written files on software switches, and real packets through them, held against the plan."""

from __future__ import annotations

import re
import time
from collections.abc import Callable, Iterator, Sequence
from contextlib import ExitStack, contextmanager
from dataclasses import dataclass, replace
from pathlib import Path
from typing import TypeVar

from zentrale.errors import FileRefusedError, LabError
from zentrale.field.lab import beginnings, probing, servers
from zentrale.field.lab import switch as lab_switch
from zentrale.field.lab.namespaces import Lack
from zentrale.field.lab.probing import Wire
from zentrale.field.lab.servers import load_rules
from zentrale.field.lab.stations import Leg
from zentrale.findings import Finding, finding
from zentrale.jobs.network.reading_back import against_switch, disagreements, linux_commands
from zentrale.jobs.network.rehearsal import addresses, letting_in, linux_trial, services, trial
from zentrale.jobs.network.rehearsal.addresses import DhcpResult
from zentrale.jobs.network.rehearsal.causes import Causes
from zentrale.jobs.network.rehearsal.deviations import deviations
from zentrale.jobs.network.rehearsal.failing import Failed, Failing
from zentrale.jobs.network.rehearsal.held import read_switch
from zentrale.jobs.network.rehearsal.letting_in import LetIn
from zentrale.jobs.network.rehearsal.loading import Load, judge_load
from zentrale.jobs.network.rehearsal.script import file_of
from zentrale.jobs.network.rehearsal.services import MulticastResult
from zentrale.jobs.network.rehearsal.slips import Broken, Slip
from zentrale.jobs.network.rehearsal.stage import INTERNET_HOST, WAN, Builder, Stage, has_interface, interface_mac
from zentrale.jobs.network.rehearsal.trial import PartyCell, Reached
from zentrale.jobs.network.rehearsal.untried import Untried, untried
from zentrale.jobs.network.rehearsal.verdicts import SOURCE, Verdicts
from zentrale.jobs.network.standing import NO_MORE, Standing
from zentrale.jobs.network.writing import FOLDER
from zentrale.planning.network import NetworkPlan
from zentrale.site.model import Zone

T = TypeVar("T")

_BUSY = "{:,} packets that this machine did not carry, being too busy; run it again when less runs here"


@dataclass(frozen=True)
class Rehearsal:
    """`took` is how long each part took [s]; `broken` what was broken on purpose, in words; `added` what stood there beside the
    plan; `packets` how many pairs were tried, of all kinds together; `open` how many of them this machine was too busy
    for; `not_tried` what of the files no packet told of.
    """

    cells: tuple[PartyCell, ...]
    findings: tuple[Finding, ...]
    dhcp: tuple[DhcpResult, ...]
    multicast: MulticastResult | None
    let_in: tuple[LetIn, ...]
    added: tuple[str, ...]
    not_tried: tuple[Untried, ...]
    broken: str
    packets: int
    stations: int
    took: dict[str, float]
    open: int = 0


class Rehearser:
    """One rehearsal. `standing` are the files, in a copy that is its own; `room` a place that goes with this process; `say`
    hears what is being done.
    """

    def __init__(self, net: NetworkPlan, standing: Standing, room: Path, say: Callable[[str], None]) -> None:
        self._net = net
        self._standing = standing
        self._room = room
        self._say = say
        self._took: dict[str, float] = {}
        self._findings: list[Finding] = []
        self._stack = ExitStack()
        self._lacks = servers.lacks()
        self._no_rules, self._no_dhcp = ({x.what for x in self._lacks} >= {tool} for tool in ("nft", "dnsmasq"))
        self._without: dict[str, str] = {}  # files that were not loaded, and why
        self._queriers: list[services.Querier] = []
        self._served: list[Zone] = []  # zones with a DHCP server

    def rehearse(self, slip: Slip | None = None) -> Rehearsal:
        """Raises LabError where this machine does not do it, InputError for a slip that the site has no place for."""
        with self._stack:
            probing.raise_limits()
            broken = slip.edit(self._net, self._standing) if slip else ""
            cables = slip.cables(self._net) if slip else ()
            builder = Builder(self._net, self._standing, self._room, cables, with_pages=True)
            stage = self._timed("building the site", builder.make)
            try:
                self._timed("switching on", lambda: self._switch_on(stage, builder))
            except FileRefusedError:
                return self._nothing_tried(stage, broken)
            made = slip.make(stage, builder) if slip else Broken("")
            for server in made.servers:
                self._stack.callback(server.stop)
            taken = [line for line in deviations(self._standing) if self._is_loaded(line.file)]
            verdicts = Verdicts(stage, Causes(stage, taken))
            differences = self._differences(stage)
            result = self._tried(stage, builder, verdicts, broken or made.what)
            verdicts.read_back(differences)
            verdicts.unseen()
            return replace(result, findings=(*self._findings, *verdicts.findings))

    def fail_in_turn(self) -> list[Failed]:
        """Each part taken away, and what it cost; findings where that is not what the plan foretold. Raises LabError."""
        with self.standing() as stage, Wire(stage.inside_legs(), stage.spaces) as wire:
            results = Failing(stage, self._builder, wire, self._say).all()
        for item in results:
            if not item.as_foretold:
                more, fewer = set(item.lost) - set(item.foretold), set(item.foretold) - set(item.lost)
                parts = [f"lost too: {', '.join(sorted(more))}"] if more else []
                parts += [f"not lost: {', '.join(sorted(fewer))}"] if fewer else []
                self._find("NET-11", item.part, "; ".join(parts), f"{len(item.foretold)} cameras lost")
        return results

    def judge_load(self, load: Load) -> None:
        self._findings += judge_load(load)

    @property
    def findings(self) -> tuple[Finding, ...]:
        return tuple(self._findings)

    @contextmanager
    def standing(self, laptop: str = "") -> Iterator[Stage]:
        """The site as it stands, with a laptop in this zone where one is named: for whoever works in it. Raises LabError."""
        with self._stack:
            probing.raise_limits()
            self._builder = Builder(self._net, self._standing, self._room, laptop=laptop)
            stage = self._timed("building the site", self._builder.make)
            self._timed("switching on", lambda: self._switch_on(stage, self._builder))
            self._settle(self._builder)
            with Wire(stage.legs, stage.spaces) as wire:
                self._find_gateways(stage, self._builder, wire)
            yield stage

    def only_files(self, lacks: Sequence[Lack]) -> tuple[Finding, ...]:
        """What is left where this machine has no namespaces or no software switches: the files read back."""
        for lack in lacks:
            self._not_rehearsed(lack, "real packets through the network")
        for where, what in self._read_back():
            self._find("NET-9", f"port {where}", what, "one network")
        return tuple(self._findings)

    def _timed(self, what: str, work: Callable[[], T]) -> T:
        self._say(what)
        begun = time.monotonic()
        result = work()
        self._took[what] = time.monotonic() - begun
        return result

    def _find(self, code: str, subject: str, measured: str, limit: str) -> None:
        self._findings.append(finding(code, subject, measured, limit, SOURCE))

    # Files

    def _read_back(self) -> list[tuple[str, str]]:
        folders = (self._standing.folder / FOLDER / switch.name for switch in self._net.plan.switches)
        return [difference for folder in folders for difference in disagreements(folder)]

    def _differences(self, stage: Stage) -> list[tuple[str, str]]:
        """Between files, between a file and its switch, and between commands for Linux and the kernel that took them."""
        found = self._read_back()
        for name, switch in stage.switches.items():
            held = {port: (p.untagged, p.tagged) for port, p in read_switch(switch).items()}
            try:
                found += against_switch(self._standing.folder / FOLDER / name, held)
            except (OSError, ValueError, KeyError):
                continue  # it cannot be read back, which is told
        for planned in self._net.plan.switches:
            file = linux_trial.file_of(planned)
            if file not in self._standing.files or self._standing.files[file].state == NO_MORE:
                continue
            try:
                kernel = linux_trial.held(self._net, self._standing, planned)
                found += linux_trial.differences(linux_commands(self._standing.files[file].text), kernel, planned)
                self._without[file] = "loaded and read back, with no packet through it"
            except LabError as error:
                if linux_trial.lacking(error):
                    self._without[file] = "read back only: this kernel has no bridge with VLANs"
                else:
                    found.append((f"{planned.name}", f"linux.sh: {error}"))
        return found

    def _is_loaded(self, file: str) -> bool:
        lacking = (".nft" if self._no_rules else "", ".conf" if self._no_dhcp else "")
        return file not in self._without and not any(kind and file.endswith(kind) for kind in lacking)

    def _switch_on(self, stage: Stage, builder: Builder) -> None:
        missing = lab_switch.lacks()
        if missing:
            raise LabError(f"{missing[0].what} is missing: {missing[0].advice}")
        for switch in self._net.plan.switches:
            self._stack.callback(stage.switches[switch.name].stop)
            try:
                builder.switch_on(switch.name)
            except FileRefusedError as error:
                self._refused(file_of(switch.name), error)
                raise
        for lack in self._lacks:
            self._not_rehearsed(lack, {"nft": "what router and recorders let through", "dnsmasq": "DHCP"}[lack.what])
        if not self._no_rules:
            self._load_rules(stage)
        if not self._no_dhcp:
            self._start_dhcp(stage)
        self._queriers = services.start_queriers(stage, self._standing)
        for querier in self._queriers:
            self._stack.callback(querier.process.kill)
        if self._net.gateways_without_router():
            self._find("NET-10", "rehearsal", "ways between zones: no switch of the plan routes", "all of the network")

    def _not_rehearsed(self, lack: Lack, what: str) -> None:
        self._find("NET-10", "rehearsal", f"{what}: {lack.what} is missing; {lack.advice}", "all of the network")

    def _load_rules(self, stage: Stage) -> None:
        spaces = {}
        router = self._net.router()
        if router is not None and self._net.routed_zones():
            spaces["router.nft"] = stage.space_of(router.name)
        for recorder in self._net.plan.recorders:
            if recorder.viewing is not None and recorder.name in stage.spaces:
                spaces[f"{recorder.name}.nft"] = stage.spaces[recorder.name]
        for file, space in spaces.items():
            try:
                load_rules(space, self._standing.path(file))
            except LabError as error:
                self._refused(file, error)
                self._no_rules = True  # nothing keeps networks apart: what passes between them is nobody's fault

    def _start_dhcp(self, stage: Stage) -> None:
        for zone in self._net.gives_addresses():
            file = addresses.file_of(zone)
            at = addresses.server_place(stage, zone)
            if at is None:
                text = f"{file}: neither router nor recorder stands in {zone.name}"
                self._find("NET-10", "rehearsal", text, "all of the network")
                continue
            if not has_interface(stage.spaces[at[0]], at[1]):
                self._without[file] = f"the router has no leg {at[1]}"
                continue
            try:
                self._stack.callback(addresses.start_server(stage, zone, self._standing.path(file)).stop)
                self._served.append(zone)
            except LabError as error:
                self._refused(file, error)

    def _refused(self, file: str, error: LabError) -> None:
        """In the program's own words, without the places that only this rehearsal has."""
        words = str(error).replace(f"{self._standing.folder / FOLDER}/", "")
        found = re.search(
            rf"{re.escape(file)}[:,]? (?:line )?(\d+)|at line (\d+) of", words.replace(f"{file}:", f"{file}: ")
        )
        at = f"{file} line {found[1] or found[2]}" if found else file
        if b"\r\n" in self._standing.files[file].content:
            words = f"its lines end as those of Windows do (CRLF), and have to end as those of Unix; {words}"
        self._findings.append(replace(finding("NET-18", file, words, "a file that is taken", SOURCE), at=at))
        self._without[file] = "refused by the program that it is for"

    def _nothing_tried(self, stage: Stage, broken: str) -> Rehearsal:
        left = [Untried(f, "a switch did not take its file") for f in self._standing.files if f not in self._without]
        return Rehearsal(
            (),
            tuple(self._findings),
            (),
            None,
            (),
            tuple(stage.added),
            tuple(left),
            broken,
            0,
            len(stage.stations),
            self._took,
        )

    # Packets

    def _settle(self, builder: Builder) -> None:
        left = self._timed("until all ports are open", builder.settle)
        if left:
            self._find("NET-2", f"port {left[0]}", f"spanning tree does not open {', '.join(left)}", "open within 45 s")

    def _find_gateways(
        self, stage: Stage, builder: Builder, wire: Wire
    ) -> tuple[dict[Leg, str], dict[Leg, set[str]], set[Leg]]:
        """Those that answer are entered at the devices: who answers nobody is a way out for nobody."""
        plan = self._net.plan
        asked = {}
        for leg in stage.inside_legs():
            family = plan.zone(plan.zone(stage.places[leg].party.zone).family)
            if family.gateway is not None and self._net.router() is not None and family.holds(leg.address):
                asked[leg] = str(family.gateway)
        answers, pinged = beginnings.gateways(wire, asked)
        for leg, macs in answers.items():
            builder.enter_gateway(leg, min(macs))
        router = self._net.router()
        if router is not None and INTERNET_HOST in stage.stations:
            outside = stage.stations[INTERNET_HOST].legs[0]
            stage.gateways[outside] = interface_mac(stage.space_of(router.name), WAN)
        return asked, answers, pinged

    def _tried(self, stage: Stage, builder: Builder, verdicts: Verdicts, broken: str) -> Rehearsal:
        """Without its findings, which `verdicts` has."""
        dhcp: list[DhcpResult] = []
        let_in: list[LetIn] = []
        multicast: MulticastResult | None = None
        reached = Reached((), (), 0)
        self._settle(builder)
        with Wire(stage.legs, stage.spaces) as wire:
            storm = trial.circles(stage, wire)
            if storm:
                for switch in stage.switches.values():  # it eats this machine's time
                    switch.stop()
                verdicts.circles()
            else:
                asked, answers, pinged = self._find_gateways(stage, builder, wire)
                verdicts.gateways(asked, answers, pinged)
                routed = not self._net.gateways_without_router() and not self._no_rules
                rules = self._standing.files["router.nft"].text if "router.nft" in self._standing.files else ""
                tried = trial.Trial(stage, wire, rules, routed=routed)
                reached = self._timed("who reaches whom", tried.run)
                verdicts.reach(reached.differing, dict(services.who_answers_twice(stage, wire)))
                if reached.open:
                    self._find("NET-10", "rehearsal", _BUSY.format(reached.open), "all of the network")
                if not self._no_dhcp:
                    dhcp = self._timed("DHCP", lambda: addresses.ask_for_addresses(stage, wire, self._served))
                    verdicts.dhcp(dhcp)
                multicast = self._groups(stage, wire, verdicts)
        if letting_in.FILE in self._standing.files and servers.radius_tool() and not storm:
            let_in = self._timed("RADIUS", self._ask_radius)
            verdicts.let_in(let_in)
        not_tried = untried(
            stage, self._standing, self._without, storm=bool(storm), rules=not self._no_rules, dhcp=not self._no_dhcp
        )
        return Rehearsal(
            reached.cells, (), tuple(dhcp), multicast, tuple(let_in), tuple(stage.added), tuple(not_tried), broken,
            reached.packets, len(stage.stations), self._took, reached.open,
        )  # fmt: skip

    def _groups(self, stage: Stage, wire: Wire, verdicts: Verdicts) -> MulticastResult | None:
        groups = self._net.multicast.groups
        if any(self._net.is_routed(g) for g in groups):
            what = "multicast that a router passes from zone to zone: no written file does that"
            self._find("NET-10", "rehearsal", what, "all of the network")
        if all(self._net.is_routed(g) for g in groups):
            return None
        result = self._timed("multicast", lambda: services.try_groups(stage, wire))
        ended = {}
        for item in self._queriers:
            if told := item.ended():
                self._refused(item.file, LabError(f"{item.file}: {told}"))
                ended[item.file] = self._findings[-1].name
        verdicts.groups(result, ended)
        return result

    def _ask_radius(self) -> list[LetIn]:
        try:
            server = servers.RadiusServer(self._standing.path(letting_in.FILE), self._room / "radius")
        except LabError as error:
            self._refused(letting_in.FILE, error)
            return []
        try:
            return letting_in.ask_all(self._net)
        finally:
            server.stop()
