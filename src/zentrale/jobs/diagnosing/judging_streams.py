"""Whether its streams play, and by which way. Pure."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field

from zentrale import quantities
from zentrale.errors import Cause
from zentrale.field.causes import cause_of
from zentrale.findings import Finding, Severity
from zentrale.jobs.checks.seen import StreamResult
from zentrale.jobs.diagnosing.climbing import Climb
from zentrale.jobs.diagnosing.diagnosis import Blame, Judged, breaks, holds, not_known
from zentrale.jobs.diagnosing.judging_device import NOT_REACHED
from zentrale.jobs.known.layer import Layer, layer_of
from zentrale.jobs.streams.aspects import came_late
from zentrale.jobs.streams.judging import too_long
from zentrale.jobs.streams.measuring import Measured
from zentrale.protocols.streams.meter import StreamMeasurement
from zentrale.site.model import Camera, Plan


@dataclass(frozen=True)
class StreamsSeen:
    """What was played of one camera.

    planned: main, sub and third, as the plan wants them; udp, tcp: its main stream besides, by these ways, None where not tried
    shares:  how well its picture agrees with the reference picture of each camera, by name; 1 is the same
    stored_whole: whether what is stored of the same time lacks nothing; None where that was not seen
    caught:  of its streams in a capture made elsewhere: how many packets are missing there, and how many there are; None without
    """

    planned: Sequence[StreamResult] = ()
    udp: Measured | None = None
    tcp: Measured | None = None
    shares: Mapping[str, float] = field(default_factory=dict)
    stored_whole: bool | None = None
    caught: tuple[int, int] | None = None

    @property
    def main(self) -> StreamResult | None:
        return next((s for s in self.planned if s.stream == "main"), None)


def judge_stream(plan: Plan, camera: Camera, climb: Climb | None, seen: StreamsSeen) -> Judged:
    if climb is None or climb.target is None:
        why = (
            NOT_REACHED
            if climb is None
            else "it was not let in"
            if climb.entry is None or climb.entry.closed
            else "not asked for"
        )
        if climb is not None and climb.unfit and not climb.by_rtsp:
            return _no_profile(plan, camera, climb, next(iter(climb.unfit)))
        why = next(iter(climb.unfit.values()), why) if climb is not None else why
        return not_known(Layer.STREAM, why)
    for stream in plan.streams(camera):
        if stream not in climb.target.streams and not climb.by_rtsp:
            return _no_profile(plan, camera, climb, stream)
    if not seen.planned:
        return not_known(Layer.STREAM, "there was no time left to play it")
    for result in seen.planned:
        if result.measured is None and result.cause is None:
            return not_known(Layer.STREAM, f"{result.stream} stream: {result.error}; run it again for this one alone")
        if result.measured is None:
            return _not_playing(camera, result)
    for result in seen.planned:
        assert result.measured is not None
        stopped = next((f for f in result.findings if f.code in ("STR-12", "STR-1")), None)
        if stopped is not None:
            return _stops(camera, result, stopped)
    wrong = [
        (r, f) for r in seen.planned for f in r.findings
        if f.severity is Severity.FAULT and layer_of(f.code) is Layer.STREAM
    ]  # fmt: skip
    if wrong:
        result, item = wrong[0]
        causes = [
            (
                "its settings were changed after it was registered",
                f"{item.code}: {item.measured}, planned {item.limit}",
            ),
            ("it was reset, or set anew by the recorder", "some recorders set what they record"),
        ]
        return breaks(
            Layer.STREAM, "DGN-31", Blame.CAMERA, f"{result.stream} stream: {item.title}: {item.measured}",
            "; ".join(f"{r.stream}: {f.code} {f.measured}" for r, f in wrong), causes, f"`zentrale register {camera.name}`",
        )  # fmt: skip
    for result in seen.planned:
        assert result.measured is not None
        if came_late(result.measured) and any(too_long(result.measured, plan.policy)):
            why = f"{result.stream} stream: it paused, or this machine came too late to see it go on"
            return not_known(Layer.STREAM, f"{why}; run it again for this one alone")
    return _other_ways(camera, seen)


def _no_profile(plan: Plan, camera: Camera, climb: Climb, stream: str) -> Judged:
    why = climb.unfit.get(stream, "")
    told = f"{quantities.count(climb.profiles or 0, 'profile')}" if climb.profiles is not None else ""
    seen = f"it tells {told}, none is the {stream} stream{f': {why}' if why else ''}" if told else why
    causes = [
        ("its media profile was deleted or changed", seen),
        ("another program, or a recorder, has set its profiles anew", "profiles go only where somebody deletes them"),
    ]
    return breaks(
        Layer.STREAM, "DGN-22", Blame.CAMERA, f"it has no profile for its {stream} stream", seen, causes,
        f"restore its settings: `zentrale backup --restore {camera.name}`; else make a profile in its own page, then "
        f"`zentrale register {camera.name}`",
    )  # fmt: skip


def _not_playing(camera: Camera, result: StreamResult) -> Judged:
    """By how far it got."""
    name, error, cause = result.stream, result.error, result.cause
    if cause is Cause.PATH:
        causes = [
            ("its stream server does not know the address that its own service tells", error),
            ("a profile was changed, and its server not restarted", "it names the address itself"),
        ]
        return breaks(
            Layer.STREAM, "DGN-23", Blame.CAMERA, f"its {name} stream is not at the address that it tells itself", error,
            causes, f"restart it: `zentrale restart {camera.name}`; if it stays so, update its firmware",
        )  # fmt: skip
    if cause is Cause.BUSY:
        causes = [
            ("others hold all the sessions it has: recorders, viewers, a phone", error),
            ("sessions of programs that crashed have not run out yet", "a restart frees them"),
        ]
        return breaks(
            Layer.STREAM, "DGN-24", Blame.CAMERA, f"it has no session free for its {name} stream", error, causes,
            f"find out who else watches it; `zentrale restart {camera.name}` frees what was left over",
        )  # fmt: skip
    if cause is Cause.SILENT and "first packet" in error:
        causes = [
            (
                "its encoder has stopped, and its stream server has not noticed",
                f"it answers PLAY, and sends nothing: {error}",
            ),
            ("something on the way lets its answers through and no packets", "answers and packets go one way over TCP"),
        ]
        return breaks(
            Layer.STREAM, "DGN-25", Blame.CAMERA, f"it answers PLAY and sends no packet of its {name} stream", error,
            causes, f"restart it: `zentrale restart {camera.name}`",
        )  # fmt: skip
    if cause in (Cause.PASSWORD, Cause.FORBIDDEN):
        causes = [
            ("its stream server has accounts of its own", f"the same password opens its ONVIF service; {error}"),
            ("it took a new password at one door only", "a restart makes it take it at both"),
        ]
        return breaks(
            Layer.STREAM, "DGN-29", Blame.PASSWORD, f"its {name} stream is not let out with the password that opens it",
            error, causes, f"restart it: `zentrale restart {camera.name}`; then look at its RTSP accounts in its own page",
        )  # fmt: skip
    if cause is Cause.MACHINE:
        causes = [("a limit of this machine", error)]
        return breaks(
            Layer.STREAM, "DGN-40", Blame.MACHINE, f"this machine could not play its {name} stream", error, causes,
            "close other programs, or raise the limit that is named; then run it again",
        )  # fmt: skip
    if cause is Cause.SILENT:
        causes = [
            ("its stream server hangs, or is overloaded", error),
            ("something that passes it on stands in between", "its port is open, and nothing comes back"),
        ]
        return breaks(
            Layer.STREAM, "DGN-30", Blame.CAMERA, f"its stream server does not answer in time for its {name} stream", error,
            causes, f"restart it: `zentrale restart {camera.name}`; then look who else watches it",
        )  # fmt: skip
    causes = [
        ("its stream server does not do what it should", error),
        ("something that passes it on stands in between", error),
    ]
    return breaks(
        Layer.STREAM, "DGN-30", Blame.CAMERA, f"its {name} stream does not play: {error.partition(': ')[2] or error}",
        error, causes,
        f"play it from the switch next to it: `zentrale diagnose {camera.name}` there; then restart it",
    )  # fmt: skip


def _stops(camera: Camera, result: StreamResult, item: Finding) -> Judged:
    causes = [
        ("its encoder or its stream server stops by itself", item.measured),
        ("its power or its link drops for a moment", "then it would have stopped answering too"),
    ]
    return breaks(
        Layer.STREAM, "DGN-28", Blame.CAMERA, f"its {result.stream} stream stops: {item.measured}", item.measured, causes,
        f"restart it: `zentrale restart {camera.name}`; if it comes back, update its firmware",
    )  # fmt: skip


def _other_ways(camera: Camera, seen: StreamsSeen) -> Judged:
    """Over UDP and, where planned, by multicast; over TCP it plays."""
    plays = "; ".join(f"{r.stream} {_figures(r.measured)}" for r in seen.planned if r.measured is not None)
    main = seen.main
    assert main is not None and main.measured is not None
    if main.measured.multicast_failed:
        causes = [
            ("multicast does not get through: snooping without a querier, or a router", main.measured.multicast_failed),
            ("its multicast is off, or set to another group", "its unicast stream plays"),
        ]
        return breaks(
            Layer.STREAM, "DGN-27", Blame.NETWORK, "its multicast stream does not come; unicast plays", plays, causes,
            "look whether a switch of this zone is querier (`zentrale plan multicast`), then at the group in its own page",
        )  # fmt: skip
    udp = seen.udp
    if udp is None:
        return holds(Layer.STREAM, f"plays: {plays}")
    stops = next((f for f in udp.findings if f.code in ("STR-12", "STR-1")), None)
    if udp.measured is not None and stops is not None:
        causes = [
            (
                "a filter or a firewall on the way ends what UDP it let through",
                f"{stops.measured}; over TCP it goes on",
            ),
            ("its own UDP sender stops", "its reports would stop at the same moment"),
        ]
        return breaks(
            Layer.STREAM, "DGN-26", Blame.NETWORK, f"over UDP it stops: {stops.measured}; over TCP it plays", plays, causes,
            "let the recorder and the viewers take it over TCP; else open UDP between its zone and here",
        )  # fmt: skip
    if udp.measured is not None:
        return holds(Layer.STREAM, f"plays over TCP and UDP: {plays}")
    cause = cause_of(udp.cause) if udp.cause is not None else None
    if cause is not Cause.SILENT or main.measured.transport != "tcp":
        return holds(Layer.STREAM, f"plays: {plays}; UDP is not served ({udp.error})")
    causes = [
        ("a filter or a firewall on the way lets no UDP through", f"it plays over TCP; over UDP: {udp.error}"),
        ("this machine's own firewall", "where other cameras do the same from here"),
        ("it sends UDP to somewhere else", "some name another address in SETUP"),
    ]
    return breaks(
        Layer.STREAM, "DGN-26", Blame.NETWORK, "no UDP packet of it comes; over TCP it plays", f"{plays}; UDP: {udp.error}",
        causes, "let the recorder and the viewers take it over TCP; else open UDP between its zone and here",
    )  # fmt: skip


def _figures(m: StreamMeasurement) -> str:
    size = quantities.resolution(m.width_px, m.height_px) if m.width_px and m.height_px else ""
    rate = f"{m.fps:.1f} frames/s" if m.fps else ""
    bits = quantities.bitrate(m.bitrate_bps) if m.bitrate_bps else ""
    return ", ".join(part for part in (f"{m.codec} {size}".strip(), rate, bits) if part)


def figures(seen: StreamsSeen) -> str:
    """What its main stream does, in a line."""
    main = seen.main
    if main is None or main.measured is None:
        return ""
    m = main.measured
    first = f", first picture after {quantities.seconds(m.first_picture_s)}" if m.first_picture_s is not None else ""
    return f"{_figures(m)}, {m.packets_lost} of {m.packets_lost + m.packets_received} packets lost{first}"
