"""Comparing what a stream delivers with what was planned for it."""

from __future__ import annotations

from collections.abc import Iterable

from zentrale import quantities
from zentrale.errors import CertificateError, ClearTextError, DeviceError, LockedError, NotAskedError, Whose
from zentrale.field.causes import Cause, cause_of
from zentrale.findings import Finding, finding
from zentrale.protocols.streams.key_pictures import DEPACKETIZERS
from zentrale.protocols.streams.meter import StreamMeasurement
from zentrale.site.model import Camera, Policy, StreamPlan
from zentrale.subjects import Kind, Ref

OWN_LATENESS_S = 0.25  # later than this, this machine's own reading is in what it measures of arrival
CLOCK_RATE_TOLERANCE = 0.1  # crystals are right to 0.01 %; what is beyond is a wrong clock rate or a wrong time stamp
LEAST_BITS_PER_POINT = 0.0005  # a still scene with H.265 needs four times as much
KEYFRAME_TOLERANCE = 0.25  # of the planned interval, and never less than one frame


def judge_delivery(
    subject: str | Ref, measured: StreamMeasurement, policy: Policy, *, decoded: bool
) -> Iterable[Finding]:
    """What is wrong with any stream, whatever was planned."""
    sent = measured.packets_received + measured.packets_lost
    lost_percent = 100 * measured.packets_lost / sent if sent else 0.0
    if lost_percent > policy.loss_percent and not measured.packets_dropped_here:
        text = (
            f"{measured.packets_lost} of {sent} packets lost ({lost_percent:.2g} %) over {measured.transport.upper()}"
        )
        yield finding("STR-7", subject, text, f"at most {policy.loss_percent:g} %", "site.toml [policy] loss_percent")
    if measured.jitter_ms is not None and measured.jitter_ms > policy.jitter_ms and not _came_late(measured):
        yield finding("STR-8", subject, f"{measured.jitter_ms:.0f} ms jitter", f"at most {policy.jitter_ms:g} ms",
                      "site.toml [policy] jitter_ms")  # fmt: skip
    yield from _continuity(subject, measured, policy)
    yield from _as_described(subject, measured)
    if measured.frames_damaged and not measured.packets_lost:
        text = f"{measured.frames_damaged} of {measured.frames} pictures came incomplete, though no packet was lost"
        yield finding("STR-11", subject, text, "whole pictures", "RFC 3550 marker bit and timestamps")
    if measured.codec not in DEPACKETIZERS:
        yield finding("STR-32", subject, f"{measured.codec or 'no codec named'}: its pictures are counted, not looked at",
                      f"one of {', '.join(DEPACKETIZERS)}", "its session description (SDP)")  # fmt: skip
    elif not decoded and not (measured.packets_dropped_here and measured.key_picture is None):
        got = f"{measured.packets_received} packets, {quantities.count(measured.frames, 'picture')}, no whole key frame"
        if measured.key_picture is not None:
            got = "a key frame arrived, but it is damaged"
        yield finding(
            "STR-9", subject, f"{got} in {measured.measured_s:.1f} s", "one decoded picture", "the stream itself"
        )
    if measured.ended_early:
        yield finding("STR-1", subject, f"the server closed the stream after {measured.measured_s:.1f} s",
                      "a stream that goes on", "RFC 2326")  # fmt: skip


def _as_described(subject: str | Ref, measured: StreamMeasurement) -> Iterable[Finding]:
    """What the server says beside what it does."""
    for contradiction in measured.contradictions:
        yield finding("STR-27", subject, contradiction, "the same in both", "its session description (SDP)")
    if measured.sessions_at_most is not None:
        text = f"at most {quantities.count(measured.sessions_at_most, 'stream')} at once"
        yield finding("STR-26", subject, text, "all its streams, and a viewer", "its refusal of one more")
    if measured.packets_strange:
        more = ", ..." if len(measured.strangers) > 3 else ""
        text = f"{measured.packets_strange} datagrams from {', '.join(measured.strangers[:3])}{more}"
        yield finding("STR-30", subject, text, "datagrams of the negotiated sender only", "RFC 2326 clause 12.39")
    if measured.fps and measured.bitrate_bps is not None and measured.width_px and measured.height_px:
        bits_per_point = measured.bitrate_bps / (measured.width_px * measured.height_px * measured.fps)
        if bits_per_point < LEAST_BITS_PER_POINT:
            size = quantities.resolution(measured.width_px, measured.height_px)
            text = f"{quantities.bitrate(measured.bitrate_bps)} for {size} at {measured.fps:.1f} frames/s"
            least = LEAST_BITS_PER_POINT * measured.width_px * measured.height_px * measured.fps
            yield finding("STR-28", subject, text, f"{quantities.bitrate(least)} or more", "good practice")


def _came_late(measured: StreamMeasurement) -> bool:
    """Whether this machine was too busy for figures of arrival to be the stream's own."""
    return measured.own_lateness_s > OWN_LATENESS_S


def lateness_finding(measured: Iterable[StreamMeasurement], machine: Ref | str = Kind.MACHINE.value) -> Finding | None:
    """Told once, of this machine: no camera is judged by it."""
    measured = list(measured)
    worst = max((m.own_lateness_s for m in measured), default=0.0)
    dropped = [m.packets_dropped_here for m in measured if m.packets_dropped_here]
    told = [f"it read its sockets up to {quantities.seconds(worst)} late"] if worst > OWN_LATENESS_S else []
    if dropped:
        streams = quantities.count(len(dropped), "stream")
        told.append(f"it had no room for {quantities.count(sum(dropped), 'datagram')} of {streams}")
    if not told:
        return None
    text = "; ".join(told)
    return finding("STR-17", machine, text, f"within {quantities.seconds(OWN_LATENESS_S)}", "while measuring")


def _continuity(subject: str | Ref, measured: StreamMeasurement, policy: Policy) -> Iterable[Finding]:
    """Whether it came without a break, in order, from one source, by a clock that goes right."""
    allowed_s = policy.longest_gap_s or max(1.0, 5 / measured.fps if measured.fps else 1.0)
    if measured.longest_gap_s > allowed_s and not _came_late(measured):
        text = f"no packet for {quantities.seconds(measured.longest_gap_s)}"
        yield finding(
            "STR-12", subject, text, f"at most {quantities.seconds(allowed_s)}", "site.toml [policy] longest_gap_s"
        )
    if measured.packets_reordered or measured.packets_doubled:
        late = f", {measured.packets_late} too late for a player" if measured.packets_late else ""
        depth = (
            f", up to {quantities.count(measured.reorder_depth, 'place')}{late}" if measured.packets_reordered else ""
        )
        text = f"{measured.packets_reordered} packets out of order{depth}; {measured.packets_doubled} twice"
        yield finding("STR-13", subject, text, "each once, in its order", "RFC 3550 clause 5.1")
    if measured.source_changes or measured.sequence_jumps:
        text = (
            f"{quantities.count(measured.source_changes, 'change')} of source, "
            f"{quantities.count(measured.sequence_jumps, 'jump')} of the sequence"
        )
        yield finding("STR-14", subject, text, "one source that goes on", "RFC 3550 clause 5.1")
    if measured.packets_foreign:
        text = f"{measured.packets_foreign} packets of another source at the same time"
        yield finding("STR-15", subject, text, "one source", "RFC 3550 clause 5.1")
    ratio = measured.clock_ratio
    steady = measured.longest_gap_s < 1 and not _came_late(measured)
    # Both ends of the time of arrival may be off by as much as packets have kept waiting.
    span_s = measured.measured_s - 1
    unsure_s = max(CLOCK_RATE_TOLERANCE * span_s, 2 * measured.longest_gap_s + 0.2)
    if ratio is not None and steady and abs(ratio - 1) * span_s > unsure_s:
        text = f"its media clock runs {100 * abs(ratio - 1):.0f} % too {'fast' if ratio > 1 else 'slow'}"
        yield finding("STR-16", subject, text, f"within {100 * CLOCK_RATE_TOLERANCE:g} %", "RFC 3550 clause 5.1")


def judge_against_plan(
    subject: str | Ref, measured: StreamMeasurement, plan: StreamPlan, source: str, policy: Policy
) -> Iterable[Finding]:
    """Codec, resolution, frame rate, bit rate and key-frame interval against the plan."""
    if measured.codec != plan.codec:
        yield finding("STR-2", subject, measured.codec or "none named", plan.codec, source)
    if measured.width_px is not None and measured.height_px is not None:
        size = (measured.width_px, measured.height_px)
        if size != plan.resolution:
            yield finding(
                "STR-3", subject, quantities.resolution(*size), quantities.resolution(*plan.resolution), source
            )
    if measured.fps is not None:
        allowed = plan.fps * policy.fps_tolerance_percent / 100
        if abs(measured.fps - plan.fps) > allowed:
            limit = f"{plan.fps:g} ± {allowed:.2g} frames/s"
            yield finding("STR-4", subject, f"{measured.fps:.1f} frames/s", limit, source)
    if measured.bitrate_bps is not None and _whole_groups(measured, plan):
        planned = quantities.bitrate(plan.bitrate_bps)
        text = quantities.bitrate(measured.bitrate_bps)
        if measured.bitrate_bps > plan.bitrate_bps * (1 + policy.bitrate_over_percent / 100):
            yield finding("STR-5", subject, text, f"{planned} + {policy.bitrate_over_percent:g} %", source)
        elif measured.bitrate_bps < plan.bitrate_bps * (1 - policy.bitrate_under_percent / 100):
            yield finding("STR-10", subject, text, f"{planned} - {policy.bitrate_under_percent:g} %", source)
    if plan.codec == "JPEG":
        return
    interval, wanted = measured.keyframe_interval_s, plan.keyframe_interval_s
    if interval is not None and abs(interval - wanted) > max(1 / plan.fps, KEYFRAME_TOLERANCE * wanted):
        yield finding("STR-6", subject, f"{interval:.1f} s", f"{wanted:g} s", source)
    elif interval is None and measured.measured_s > 2 * wanted + 1:
        text = f"one key frame or none in {measured.measured_s:.1f} s"
        yield finding("STR-6", subject, text, f"{wanted:g} s", source)


def planned_group(camera: Camera, stream: str) -> str:
    """The multicast group that the plan gives this stream; empty where it is played by unicast."""
    group = {"main": camera.multicast_main, "sub": camera.multicast_sub}.get(stream)
    return str(group or "")


def judge_group(subject: str | Ref, measured: StreamMeasurement, planned: str, source: str) -> Iterable[Finding]:
    """Whether it is sent to the planned multicast group."""
    if planned and measured.group and measured.group.rpartition(":")[0] != planned:
        yield finding("STR-29", subject, measured.group, planned, source)
    if measured.multicast_failed:
        yield finding("STR-31", subject, measured.multicast_failed, f"a stream from {planned or 'the group'}", source)


# A stream that plays was let in, wherever it is; and the finding that it does not play is settled.
OURS = frozenset({"ERR-1", "ERR-2"})  # of this program, and of this machine
NOT_PLAYING = frozenset({"STR-1"}) | frozenset(f"STR-{number}" for number in range(18, 26))
_PLAYED = NOT_PLAYING | {f"STR-{number}" for number in (2, 11, 13, 14, 15, 26, 27, 28, 30, 32)} | {
    "SEC-7", "SEC-8", "SEC-9", *OURS,
}  # fmt: skip
_CAUSES = {
    Cause.PASSWORD: "STR-18", Cause.PATH: "STR-19", Cause.TRANSPORT: "STR-20", Cause.BUSY: "STR-21",
    Cause.DESCRIPTION: "STR-22", Cause.OTHER: "STR-22", Cause.CLOSED: "STR-23", Cause.SILENT: "STR-24",
    Cause.ELSEWHERE: "STR-25", Cause.NO_ANSWER: "STR-1", Cause.MACHINE: "ERR-2",
}  # fmt: skip


def code_of_failure(whose: Whose, other: str) -> str:
    """The code of what ended the work on a device: ours, where it was; else `other`."""
    return {Whose.DEFECT: "ERR-1", Whose.MACHINE: "ERR-2"}.get(whose, other)


def code_of(error: DeviceError) -> str:
    """The code of the finding that says why a stream does not play."""
    if isinstance(error, LockedError):
        return "SEC-8"
    if isinstance(error, NotAskedError):
        return "SEC-7"
    if isinstance(error, ClearTextError | CertificateError):
        return "SEC-9"
    return _CAUSES[cause_of(error)]


def codes_judged(measured: StreamMeasurement, plan: StreamPlan) -> frozenset[str]:
    """Which codes a measurement says something of: what could not be measured is neither well nor not."""
    told = {
        "STR-3": measured.width_px is not None,
        "STR-4": measured.fps is not None,
        "STR-5": measured.bitrate_bps is not None and _whole_groups(measured, plan),
        "STR-10": measured.bitrate_bps is not None and _whole_groups(measured, plan),
        "STR-6": measured.keyframe_interval_s is not None or plan.codec == "JPEG",
        "STR-8": measured.jitter_ms is not None and not _came_late(measured),
        "STR-7": not measured.packets_dropped_here,
        "STR-9": measured.codec in DEPACKETIZERS
        and (not measured.packets_dropped_here or measured.key_picture is not None),
        "STR-12": not _came_late(measured),
        "STR-29": bool(measured.group),
        "STR-31": bool(measured.group or measured.multicast_failed),
        "STR-16": measured.clock_ratio is not None and not _came_late(measured),
    }
    return _PLAYED | {code for code, judged in told.items() if judged}


def _whole_groups(measured: StreamMeasurement, plan: StreamPlan) -> bool:
    """Less than a whole group of pictures says nothing: its one key frame weighs too much, or is missing."""
    return measured.keyframe_interval_s is not None or measured.measured_s >= 2 * plan.keyframe_interval_s
