"""Who reaches whom: from zones, private VLANs, router rules and recorder legs, against what the customer wants.

A cell says whether devices of one kind in one zone may begin to talk to those of another, and the rule or wire that
decides it. Answers to what was allowed come back (a stateful router).
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from ipaddress import IPv4Address

from zentrale import quantities
from zentrale.findings import Finding, finding
from zentrale.planning.flows import leg_towards, same_network, watched
from zentrale.planning.walls.panels import shown_cameras
from zentrale.site.model import EVERYWHERE, INTERNET, Plan, Reach, Recorder, Rule


@dataclass(frozen=True)
class Party:
    """Devices of one kind in one zone: camera, recorder, viewer, switch (its own page), or device for a zone with none of the
    first three. The internet is a party of its own.
    """

    kind: str
    zone: str

    def __str__(self) -> str:
        return INTERNET if self.zone == INTERNET else f"{self.kind} in {self.zone}"


@dataclass(frozen=True)
class Cell:
    """`wanted` None: the policy says nothing of it. `before` is how it would be in one flat network."""

    origin: Party
    to: Party
    allowed: bool
    why: str
    wanted: bool | None
    before: bool

    @property
    def as_wanted(self) -> bool:
        return self.wanted is None or self.wanted == self.allowed


@dataclass(frozen=True)
class ReachPlan:
    parties: tuple[Party, ...]
    cells: tuple[Cell, ...]
    findings: tuple[Finding, ...]

    def cell(self, origin: Party, to: Party) -> Cell | None:
        return next((c for c in self.cells if c.origin == origin and c.to == to), None)


def plan_reach(plan: Plan) -> ReachPlan:
    """The whole matrix, with findings."""
    parties = tuple(_parties(plan))
    way_out = any(zone.gateway for zone in plan.zones)
    cells = []
    for origin in parties:
        for to in parties:
            if origin.zone == INTERNET == to.zone:
                continue
            allowed, why = reaches(plan, origin, to)
            before = way_out if INTERNET in (origin.zone, to.zone) else True
            cells.append(
                Cell(origin, to, allowed, why, wanted_between(plan, origin, to), before and origin.zone != INTERNET)
            )
    findings = [*_policy_findings(cells), *_need_findings(plan), *_forwarding_findings(plan)]
    return ReachPlan(parties, tuple(cells), tuple(findings))


def _parties(plan: Plan) -> Iterator[Party]:
    kinds: dict[str, list[str]] = {zone.name: [] for zone in plan.zones}
    for camera in plan.networked:
        kinds[camera.zone].append("camera")
    for recorder in plan.recorders:
        for leg in recorder.legs():
            kinds[leg.zone].append("recorder")
    for viewer in plan.viewers:
        kinds[viewer.zone].append("viewer")
    pages = {s.management.zone for s in plan.switches if s.management is not None}
    for zone, found in kinds.items():
        for kind in dict.fromkeys([*(found or ["device"]), *(["switch"] if zone in pages else [])]):
            yield Party(kind, zone)
    yield Party(INTERNET, INTERNET)


Service = tuple[str, int]  # protocol and port
RTSP: Service = ("tcp", 554)  # IANA


def reaches(plan: Plan, origin: Party, to: Party, service: Service | None = None) -> tuple[bool, str]:
    """Directly, or through recorders that forward from leg to leg; with that service, or with anything at all."""
    direct = _direct(plan, origin, to, service)
    if direct[0]:
        return direct
    seen = {origin.zone}
    waiting: list[tuple[Party, tuple[str, ...]]] = [(origin, ())]
    while waiting:
        at, through = waiting.pop(0)
        for recorder in plan.recorders:
            for entry, leaving in _forwarding(recorder):
                if leaving in seen or not reaches_at_layer_2(plan, at, Party("recorder", entry))[0]:
                    continue
                seen.add(leaving)
                way = (*through, recorder.name)
                # Whatever leaves the second leg looks to the others like the recorder's own neighbour there.
                step = Party("recorder", leaving)
                if leaving == to.zone or _direct(plan, step, to, service)[0]:
                    return True, f"through {' and '.join(way)}, which forwards from leg to leg"
                waiting.append((step, way))
    return direct


def _forwarding(recorder: Recorder) -> Iterator[tuple[str, str]]:
    """Zones it takes packets from and puts them into."""
    if recorder.forwards and recorder.viewing is not None:
        yield recorder.zone, recorder.viewing.zone
        yield recorder.viewing.zone, recorder.zone


def _direct(plan: Plan, origin: Party, to: Party, service: Service | None) -> tuple[bool, str]:
    if INTERNET not in (origin.zone, to.zone) and same_network(plan, origin.zone, to.zone):
        return reaches_at_layer_2(plan, origin, to)
    return _routed(plan, origin, to, service)


def reaches_at_layer_2(plan: Plan, origin: Party, to: Party) -> tuple[bool, str]:
    """Within one VLAN, or one private VLAN (RFC 5517 section 3)."""
    if INTERNET in (origin.zone, to.zone) or not same_network(plan, origin.zone, to.zone):
        return False, "another VLAN"
    a, b = plan.zone(origin.zone), plan.zone(to.zone)
    if a.name == b.name:
        if a.primary is not None and a.private == "isolated":
            return False, f"isolated VLAN {a.vlan}: only promiscuous ports are reached (RFC 5517)"
        return True, f"same VLAN {a.vlan}"
    if a.primary is not None and b.primary is not None:
        return False, f"VLANs {a.vlan} and {b.vlan} are apart in one private VLAN (RFC 5517)"
    return True, f"promiscuous port of private VLAN {(b if a.primary else a).vlan}"


def _routed(plan: Plan, origin: Party, to: Party, service: Service | None) -> tuple[bool, str]:
    for party in (origin, to):
        if party.zone != INTERNET and not _gateway(plan, party.zone):
            return False, f"{party.zone} has no gateway"
    for number, rule in enumerate(plan.rules, start=1):
        if not fits(rule, origin, to) or (service is not None and not rule.takes(*service)):
            continue
        some = "" if rule.protocol == "any" else f" for {' '.join(filter(None, (rule.protocol, rule.port)))}"
        if rule.allow or not some or service is not None:
            return rule.allow, f"rule {number} {'allows' if rule.allow else 'forbids'} it{some}"
    return False, "no rule allows it"


def _gateway(plan: Plan, zone: str) -> IPv4Address | None:
    known = plan.zone(zone)
    return known.gateway or (plan.zone(known.primary).gateway if known.primary else None)


def fits(entry: Rule | Reach, origin: Party, to: Party) -> bool:
    """`*` means every other zone and the internet."""
    if EVERYWHERE in (entry.origin, entry.to) and origin.zone == to.zone:
        return False
    return (
        entry.origin in (origin.zone, EVERYWHERE)
        and entry.to in (to.zone, EVERYWHERE)
        and entry.from_kind in (None, origin.kind)
        and entry.to_kind in (None, to.kind)
    )


def wanted_between(plan: Plan, origin: Party, to: Party) -> bool | None:
    """A wish that somebody reaches another is none of switches' pages unless it says so: they are asked, and begin nothing."""
    asked_only = origin.kind == "switch"
    return next(
        (
            entry.wanted
            for entry in plan.reach
            if fits(entry, origin, to) and not (asked_only and entry.wanted and entry.from_kind is None)
        ),
        None,
    )


def _policy_findings(cells: list[Cell]) -> Iterator[Finding]:
    for cell in cells:
        if cell.as_wanted:
            continue
        code = "RCH-1" if cell.allowed else "RCH-2"
        limit = "does not reach it" if cell.allowed else "reaches it"
        yield finding(code, f"{cell.origin} to {cell.to}", cell.why, limit, "site.toml [[reach]]")


_VIEWING_LEG = (
    'give the recorder a second leg there: viewing = {{ zone = "{zone}", switch, port, address }} of [[recorders]] in site.toml; '
    "or let the router pass it: a gateway in both zones and a rule"
)


def _need_findings(plan: Plan) -> Iterator[Finding]:
    """What the work itself needs: recorders reach their cameras, viewers what they show."""
    pairs: dict[tuple[Party, Party], list[str]] = {}
    for camera in plan.networked:
        recorder = plan.recorder(camera.recorder)
        origins = [Party("recorder", leg.zone) for leg in recorder.legs()]
        service = (RTSP[0], camera.rtsp_port or RTSP[1])
        if not any(reaches(plan, origin, Party("camera", camera.zone), service)[0] for origin in origins):
            pairs.setdefault((origins[0], Party("camera", camera.zone)), []).append(camera.name)
    for viewer in plan.viewers:
        origin = Party("viewer", viewer.zone)
        walls = plan.walls_of(viewer)
        shown = watched(plan, viewer) if walls else []
        if viewer.source == "recorder" or any(w.relayed for w in shown):
            named = {w.camera.recorder for w in shown if w.relayed} if walls else {r.name for r in plan.recorders}
            for recorder in (r for r in plan.recorders if r.name in named):
                to = Party("recorder", leg_towards(recorder, viewer.zone).zone)
                if not reaches(plan, origin, to)[0]:
                    pairs.setdefault((origin, to), []).append(viewer.name)
        if viewer.source == "recorder":
            continue
        own = [c for wall in walls if wall.source != "recorder" for c in shown_cameras(plan, wall)]
        hidden = [
            c for c in (own if walls else plan.cameras) if c.behind and (not viewer.groups or c.group in viewer.groups)
        ]
        for recorder_name in dict.fromkeys(c.behind for c in hidden):
            some = [c.name for c in hidden if c.behind == recorder_name]
            measured = (
                f"{quantities.listed(some, 6)}: on the network inside {recorder_name}, which no other device reaches"
            )
            what = f"its wall {walls[0].name}" if walls else f"viewer {viewer.name}"
            advice = f'give {what} source = "recorder", or {"panels" if walls else "groups"} without them'
            yield finding(
                "RCH-3", f"viewer {viewer.name} to cameras at {recorder_name}", measured, "reaches it", "site.toml [[viewers]]",
                advice,
            )  # fmt: skip
        asked = [w.camera for w in shown if not w.relayed and not w.multicast]
        if asked or not (viewer.multicast or walls):  # groups are copied to it; it asks no camera
            seen = asked if walls else plan.networked
            zones = dict.fromkeys(c.zone for c in seen if not viewer.groups or c.group in viewer.groups)
            for to in (Party("camera", zone) for zone in zones):
                if not reaches(plan, origin, to, RTSP)[0]:
                    pairs.setdefault((origin, to), []).append(viewer.name)
    for (origin, to), names in pairs.items():
        what = f"{quantities.count(len(names), 'device')}: {quantities.listed(names, 6)}"
        why = reaches(plan, origin, to, RTSP if to.kind == "camera" else None)[1]
        advice = _VIEWING_LEG.format(zone=origin.zone) if (origin.kind, to.kind) == ("viewer", "recorder") else ""
        yield finding("RCH-3", f"{origin} to {to}", f"{why} ({what})", "reaches it", "cameras.csv, site.toml", advice)


def _forwarding_findings(plan: Plan) -> Iterator[Finding]:
    for recorder in plan.recorders:
        if recorder.forwards and recorder.viewing is not None:
            measured = f"forwards between {recorder.zone} and {recorder.viewing.zone}"
            source = f"site.toml recorder {recorder.name}"
            yield finding("RCH-4", f"recorder {recorder.name}", measured, "two legs that stay apart", source)
