"""From the plan to its ports: is its row complete, is there a link, does it answer where it should, what is open. Pure."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from ipaddress import ip_address

from zentrale import quantities
from zentrale.field.knocking import Knock, Knocked
from zentrale.findings import Finding, Severity
from zentrale.jobs.diagnosing.diagnosis import Blame, Judged, breaks, holds, not_known
from zentrale.jobs.diagnosing.ground import DEFAULT, Ground, Place, places, service_ports
from zentrale.jobs.known.found_devices import FoundDevice
from zentrale.jobs.known.layer import Layer
from zentrale.jobs.known.planned import Planned
from zentrale.site.model import Camera, Plan


@dataclass(frozen=True)
class Reach:
    """How far up a device can be reached: where it answers, and at which of its ports.

    place: None where it answers nowhere; web, stream: None where that port is not open, or it has none
    """

    place: Place | None
    web: Knock | None
    stream: Knock | None
    ours: bool  # nothing says that somebody else is there

    @property
    def host(self) -> str:
        return self.place.host if self.place is not None else ""


def reach(plan: Plan, row: Planned, seen: FoundDevice | None, ground: Ground) -> Reach:
    """Where it is planned before where it was seen before its maker's default; by its endpoint wherever that answers."""
    known = places(plan, row, seen)
    there = [p for p in known if ground.answers(p.host) and not _another_there(row, seen, p.host, ground)]
    if seen is not None and seen.own_endpoint:
        hosts = [h for h, told in ground.endpoints.items() if seen.own_endpoint in told]
        there += [Place(h, "answered the probe") for h in hosts if h not in {p.host for p in there}]
    if not there:
        there = [p for p in known if p.why != DEFAULT and ground.answers(p.host)]
    place = next(iter(there), None)
    if place is None:
        return Reach(None, None, None, ours=False)
    web, streams = service_ports(row, seen)
    sweep = plan.policy.sweep_ports
    stream = _open(ground, place.host, [*streams, *(p for p in sweep if p not in web)]) if streams else None
    web_port = _open(ground, place.host, [*web, *(p for p in sweep if p not in streams)])
    ours = place.why != DEFAULT and not _another_there(row, seen, place.host, ground)
    return Reach(place, web_port, stream, ours)


def _open(ground: Ground, host: str, ports: Sequence[int]) -> Knock | None:
    knocks = (ground.knocks.get((host, port)) for port in ports)
    return next((k for k in knocks if k is not None and k.outcome is Knocked.OPEN), None)


def _another_there(row: Planned, seen: FoundDevice | None, host: str, ground: Ground) -> bool:
    """Whether what the network tells says that somebody else answers at this address, and nobody besides."""
    macs = set(ground.macs.get(host, ()))
    own = {row.mac} if row.mac else set(seen.identity.macs) if seen is not None else set()
    if macs and own and not macs & own and not (isinstance(row, Camera) and row.translated):
        return True
    told = ground.endpoints.get(host, frozenset())
    endpoint = seen.own_endpoint if seen is not None else ""
    return bool(endpoint and told and endpoint not in told and not macs & own)


def judge_plan(plan: Plan, row: Planned, problems: Sequence[Finding]) -> Judged:
    """`problems`: what the plan files alone say against this device."""
    lacking = [] if row.host else ["no address is planned"]
    lacking += [] if row.switch or (isinstance(row, Camera) and row.wireless) else ["no switch is planned"]
    where = row.where if isinstance(row, Camera) else f"site.toml recorder {row.name}"
    cannot = _cannot(plan, row) if isinstance(row, Camera) else ""
    first = next((f for f in problems if f.severity is Severity.FAULT), None)
    if first is not None or cannot:
        says = f"{first.title}: {first.measured}" if first is not None else cannot
        do = first.advice if first is not None else f"correct its group or its type ({where})"
        because = f"{first.code}: expected {first.limit}" if first is not None else f"its type {row.type} in types.toml"
        return breaks(Layer.PLAN, "DGN-1", Blame.PLAN, says, says, [("the plan asks for what cannot be", because)], do)
    return holds(Layer.PLAN, f"{'; '.join(lacking) or 'row complete, type can do it'}; {where}")


def _cannot(plan: Plan, camera: Camera) -> str:
    """What the plan wants of it that its type does not do; empty where it does all."""
    kind = plan.camera_type(camera)
    for name, stream in plan.streams(camera).items():
        wide, high = stream.resolution
        if kind.max_resolution is not None and wide * high > kind.max_resolution[0] * kind.max_resolution[1]:
            most = quantities.resolution(*kind.max_resolution)
            return f"{name} stream {quantities.resolution(wide, high)} is planned; {kind.model} does {most} at most"
        if stream.codec not in kind.codecs:
            return f"{name} stream {stream.codec} is planned; {kind.model} does {', '.join(kind.codecs)}"
        if kind.max_fps is not None and stream.fps > kind.max_fps:
            return f"{name} stream {stream.fps:g} frames/s is planned; {kind.model} does {kind.max_fps:g} at most"
    return ""


def judge_link(row: Planned, at: Reach, ground: Ground) -> Judged:
    """By what its switch tells, else by who answers ARP on our own link."""
    why = ground.switches.why(row) if ground.switches is not None else None
    if why is not None and (at.place is None or at.place.why == DEFAULT):
        dark = "power" in why.seen
        causes = [
            (
                "it gets no power, or is not plugged in" if dark else "its cable, its plug, or the port",
                f"its switch tells it: {why.seen}",
            ),
            ("the device is dead", "a dead one looks the same at its port"),
        ]
        return breaks(Layer.LINK, "DGN-2", Blame.NETWORK, why.seen, f"its switch: {why.seen}", causes, why.do)
    up = _at_switch(row, ground)
    host = at.host or row.host
    if host and ground.macs.get(host):
        return holds(Layer.LINK, f"{', '.join(ground.macs[host])} answers ARP at {host}{up}")
    adapter = ground.on_link(host) if host else None
    if at.place is not None:
        looped = ip_address(at.host).is_loopback
        way = f"on {adapter.name}" if adapter else "over loopback" if looped else "by way of a router"
        return (
            holds(Layer.LINK, up.lstrip("; ")) if up else not_known(Layer.LINK, f"reached {way}, so no neighbour entry")
        )
    if adapter is not None and host in ground.asked:
        causes = [
            ("it is off or unplugged", f"no ARP answer at {host} on {adapter.name}"),
            ("its cable, its plug, or its port at the switch", f"planned at {port_of(row)}"),
            ("it has another address", f"only {host} was asked for on this link"),
        ]
        do = f"look at {port_of(row)}: link light and PoE; then at the plug at the device, then at the cable"
        return breaks(
            Layer.LINK, "DGN-3", Blame.NETWORK, f"nobody answers ARP at {host} on {adapter.name}",
            f"no neighbour entry for {host} on {adapter.name}{up}", causes, do,
        )  # fmt: skip
    if up:
        return holds(Layer.LINK, up.lstrip("; "))
    return not_known(Layer.LINK, "no link of this machine's own leads there, and no switch tells")


def port_of(row: Planned) -> str:
    return row.place if isinstance(row, Camera) else f"{row.switch} port {row.port}"


def _at_switch(row: Planned, ground: Ground) -> str:
    """What its switch tells of its port, where that is up."""
    told = ground.switches
    one = next((a for a in told.asked if a.name == row.switch), None) if told is not None else None
    port = one.seen.port(row.port) if one is not None and one.seen is not None and row.port else None
    if port is None or not port.up:
        return ""
    watts = f", {port.poe.power_w:.1f} W" if port.poe is not None and port.poe.power_w is not None else ""
    return f"; {row.switch} port {row.port} is up{watts}"
