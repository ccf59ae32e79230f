"""What the packets say, as findings: one for each cause, and what follows from it beneath it."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import replace

from zentrale import quantities
from zentrale.field.lab.stations import Leg
from zentrale.findings import Finding, finding
from zentrale.jobs.network.rehearsal import addresses
from zentrale.jobs.network.rehearsal.addresses import DhcpResult
from zentrale.jobs.network.rehearsal.causes import Cause, Causes
from zentrale.jobs.network.rehearsal.letting_in import FILE as RADIUS_FILE
from zentrale.jobs.network.rehearsal.letting_in import LetIn
from zentrale.jobs.network.rehearsal.services import MulticastResult
from zentrale.jobs.network.rehearsal.stage import Stage
from zentrale.jobs.network.rehearsal.trial import Differing
from zentrale.output.network import querier

SOURCE = "packets on the rehearsed network"
_EXAMPLES = 3
_LINES = 4  # of a file that are told, of those that make no difference


class Verdicts:
    """`findings` come in the order in which they were judged: causes before what follows from them."""

    def __init__(self, stage: Stage, causes: Causes) -> None:
        self.findings: list[Finding] = []
        self._stage, self._causes = stage, causes
        self._names: dict[Cause, str] = {}  # of the finding that each cause has
        self._without_gateway: dict[tuple[str, str], list[Leg]] = {}  # by zone and gateway, where others have it
        self._explained: dict[str, str] = {}  # by station the finding that explains why it is not reached

    def find(
        self, code: str, subject: str, measured: str, limit: str, *, at: str = "", under: str = "", advice: str = ""
    ) -> str:
        """Returns the finding's name."""
        item = replace(finding(code, subject, measured, limit, SOURCE, advice), at=at, caused_by=under)
        self.findings.append(item)
        return item.name

    def _because(self, cause: Cause, code: str, measured: str, limit: str, subject: str = "") -> str:
        """The cause's own finding where it has none yet, else one beneath it. Returns the name of the cause's."""
        known = self._names.get(cause)
        if known is None:
            self._names[cause] = self.find(
                code, subject or cause.subject, f"{cause.what}; {measured}", limit, at=cause.at, advice=cause.advice
            )
            return self._names[cause]
        self.find(code, subject or cause.subject, measured, limit, under=known)
        return known

    # Gateways

    def gateways(self, asked: Mapping[Leg, str], answers: Mapping[Leg, set[str]], pinged: set[Leg]) -> None:
        plan = self._stage.net.plan
        by_zone: dict[str, list[Leg]] = {}
        for leg in asked:
            by_zone.setdefault(plan.zone(self._stage.places[leg].party.zone).family, []).append(leg)
        for name, legs in by_zone.items():
            gateway, vlan = asked[legs[0]], plan.zone(name).vlan
            lost = [leg for leg in legs if leg not in pinged]
            if lost and len(lost) < len(legs):
                self._without_gateway[name, gateway] = lost
            elif lost:
                what = "answers ARP and no ping" if set(legs) & set(answers) else "does not answer"
                cause = self._causes.leg(vlan) or Cause(f"gateway of zone {name}", f"{gateway} {what}")
                told = self._because(
                    cause, "NET-15", f"{gateway}: {len(legs)} devices asked, none had an answer", "an answer"
                )
                self._explained |= {leg.station: told for leg in legs}
            others = {mac for leg in legs for mac in answers.get(leg, ())}
            if len(others) > 1:
                who = [self._who(mac) for mac in sorted(others)]
                self.find("NET-5", f"address {gateway}", " and ".join(who), "one device")

    def _who(self, mac: str) -> str:
        leg = next((x for x in self._stage.legs if x.mac == mac), None)
        if leg is None:
            return f"MAC address {mac}"
        place = self._stage.places[leg]
        return f"{leg.station} at {place.switch} port {place.port}"

    # Who reaches whom

    def reach(self, differing: Sequence[Differing], twice: Mapping[str, set[str]]) -> None:
        by_cause: dict[Cause, list[Differing]] = {}
        for item in differing:
            if not {item.origin.address, item.to.address} & set(twice):
                by_cause.setdefault(self._causes.of(item), []).append(item)  # else it follows from the address
        for cause, items in by_cause.items():
            lost, came = [d for d in items if not d.came], [d for d in items if d.came]
            if lost:
                name = self._because(cause, "NET-2", "; ".join(_cells(lost)), "it arrives")
                for leg in (leg for d in lost for leg in (d.origin, d.to)):
                    self._explained.setdefault(leg.station, name)
            if came:
                self._because(cause, "NET-1", "; ".join(_cells(came)), "nothing arrives")
        for (zone, gateway), legs in self._without_gateway.items():
            for under in dict.fromkeys(self._explained.get(leg.station, "") for leg in legs):
                some = [leg.station for leg in legs if self._explained.get(leg.station, "") == under]
                text = f"{gateway}: no answer for {', '.join(some[:_EXAMPLES])}{' and others' if len(some) > _EXAMPLES else ''}"
                self.find("NET-15", f"gateway of zone {zone}", text, "an answer", under=under)
        for address, macs in twice.items():
            self.find("NET-5", f"address {address}", " and ".join(self._who(m) for m in sorted(macs)), "one device")

    # DHCP

    def dhcp(self, results: Sequence[DhcpResult]) -> None:
        plan = self._stage.net.plan
        rogues: dict[tuple[str, str], list[str]] = {}
        for result in results:
            zone = plan.zone(result.zone)
            planned = addresses.server_mac(self._stage, zone)
            strange = [mac for _, mac in result.servers if planned and mac != planned]
            for mac in strange:
                rogues.setdefault((result.zone, mac), []).append(result.client)
            if not strange and not result.as_planned:
                self._address(result, addresses.file_of(zone))
            if not strange and result.servers:
                self._options(result, addresses.file_of(zone))
        for (name, mac), clients in rogues.items():
            measured = f"{self._who(mac)} offered addresses to {len(clients)} devices"
            self.find("NET-4", f"zone {name}", measured, "one server")

    def _address(self, result: DhcpResult, file: str) -> None:
        stranger = "-" in result.planned or not result.planned
        subject = result.client if stranger else f"device {result.client}"
        limit = f"one of {result.planned.replace('-', ' to ')}" if "-" in result.planned else result.planned or "none"
        measured = result.given or "no address"
        line = self._causes.about_file(file, "dhcp-range" if stranger else result.mac or result.planned)
        if line is None and not stranger:
            line = self._causes.about_file(file, f",{result.planned},", f",{result.client}")
        if line is not None:
            self._because(line, "NET-3", measured, limit, subject)
            return
        self.find("NET-3", subject, measured, limit, under=self._explained.get(result.station, ""))

    def _options(self, result: DhcpResult, file: str) -> None:
        for name, planned in addresses.options_of(self._stage.net, self._stage.net.plan.zone(result.zone)).items():
            given, word = getattr(result, name), {"router": "gateway", "time_server": "time server"}.get(name, name)
            subject = f"zone {result.zone}, {word}"
            if given == planned or any(f.code == "NET-17" and f.subject == subject for f in self.findings):
                continue
            words = {"router": "option:router", "time_server": "option:ntp-server", "mask": "dhcp-range"}
            line = self._causes.about_file(file, words[name])
            measured = f"{word} {given or 'none'} for {result.client} and others"
            if line is not None:
                self._because(line, "NET-17", measured, planned or "none", subject)
            else:
                self.find("NET-17", subject, measured, planned or "none")

    # Multicast

    def groups(self, result: MulticastResult, ended: Mapping[str, str]) -> None:
        """`ended`: queriers that did not go on, by file, and the finding that says so."""
        net = self._stage.net
        for zone in result.not_queried:
            lost = ", ".join(result.forgotten)
            effect = f"; once the switches had forgotten their members, {lost} got nothing any more" if lost else ""
            measured, limit = f"no question within 3 s{effect}", "a question every second, here"
            planned = next((z.querier for z in net.multicast.zones if z.zone == zone), "")
            file = f"{planned}/{querier.FILE}"
            line = self._causes.about_file(file, f"8100{net.vlan(zone):04x}") or self._causes.about_file(file)
            if file in ended:
                self.find("NET-8", f"zone {zone}", measured, limit, under=ended[file])
            elif line is not None:
                self._because(line, "NET-8", measured, limit, f"zone {zone}")
            else:
                self.find("NET-8", f"zone {zone}", measured, limit)
        for group in result.groups:
            missing = [n for n in group.joined if n not in group.got]
            parts = [f"{', '.join(missing)} joined and got nothing"] if missing else []
            parts += [f"also seen at {', '.join(group.astray[:_EXAMPLES])}"] if group.astray else []
            for measured in parts:
                self._group(group.group, group.sender, measured, [group.sender, *missing])
        if result.forgotten and not result.not_queried:
            self.find(
                "NET-7", "groups", f"{', '.join(result.forgotten)} got nothing any more after a while", "it goes on"
            )

    def _group(self, group: str, sender: str, measured: str, stations: Sequence[str]) -> None:
        subject, limit = f"group {group} of {sender}", "it arrives" if "nothing" in measured else "members alone"
        line = self._causes.group(group)
        if line is not None:
            self._because(line, "NET-7", measured, limit, subject)
            return
        under = next((self._explained[s] for s in stations if s in self._explained), "")
        self.find("NET-7", subject, measured, limit, under=under)

    # RADIUS, files

    def let_in(self, results: Sequence[LetIn]) -> None:
        for result in (r for r in results if not r.as_planned):
            line = self._causes.about_file(RADIUS_FILE, result.name) or self._causes.about_file(RADIUS_FILE)
            subject = f"port {result.port} ({result.device})"
            if line is not None:
                self._because(line, "NET-16", result.told, result.planned, subject)
            else:
                self.find("NET-16", subject, result.told, result.planned)

    def read_back(self, differences: Sequence[tuple[str, str]]) -> None:
        """Where two files, or a file and its switch, do not say the same of a port."""
        for where, what in differences:
            switch, _, port = where.rpartition(":")
            cause = self._causes.at_port(switch, int(port)) if port.isdigit() else None
            if cause is not None:
                self._because(cause, "NET-9", what, "one network")
            else:
                self.find("NET-9", f"port {where}", what, "one network")

    def unseen(self) -> None:
        """Lines that differ from the plan, and of which no packet told anything."""
        by_file: dict[str, list[str]] = {}
        first: dict[str, str] = {}
        for line in self._causes.unseen():
            by_file.setdefault(line.file, []).append(f"line {line.line} {line.in_words}")
            first.setdefault(line.file, line.at)
        for file, some in by_file.items():
            more = f"; and {len(some) - _LINES} more" if len(some) > _LINES else ""
            self.find("NET-14", file, f"{'; '.join(some[:_LINES])}{more}", "as the plan has it now", at=first[file])

    def circles(self) -> None:
        for cause in self._causes.second_ways() or [Cause("network", "a ring of cables")]:
            self._because(cause, "NET-6", "a frame to all is copied without end", "each frame once")


def _cells(items: Sequence[Differing]) -> Iterator[str]:
    """Which devices, and by what, a few of each."""
    by_pair: dict[tuple[str, str], set[str]] = {}
    for item in items:
        by_pair.setdefault((item.origin.mark, item.to.mark), set()).add(item.kind)
    names = [f"{a.split(' in ')[0]} to {b.split(' in ')[0]}" for a, b in by_pair]
    kinds = sorted({k for some in by_pair.values() for k in some})
    more = f" and {len(names) - _EXAMPLES} more pairs" if len(names) > _EXAMPLES else ""
    some = f"{quantities.listed(kinds, 2 * _EXAMPLES)}"
    yield f"{', '.join(names[:_EXAMPLES])}{more} ({some})"
