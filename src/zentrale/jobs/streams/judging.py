"""Comparing what a stream delivers with what was planned for it."""

from __future__ import annotations

import math
from collections.abc import Iterable, Sequence
from typing import TypeVar

from zentrale import quantities
from zentrale.errors import (
    Cause,
    CertificateError,
    ClearTextError,
    DeviceError,
    LockedError,
    NotAskedError,
    PlayError,
    RefusedError,
    Whose,
)
from zentrale.field.causes import cause_of
from zentrale.field.scheduler import Failure
from zentrale.findings import Finding, finding
from zentrale.jobs.streams.aspects import (
    BIT_RATE,
    FRAME_RATE,
    KEY_INTERVAL,
    OWN_LATENESS_S,
    Pace,
    came_late,
    could_have_picture,
    fps_range,
    off,
    pace_of,
    unjudged,
    within_tcp,
)
from zentrale.protocols.streams.figures import Pause
from zentrale.protocols.streams.key_pictures import DEPACKETIZERS
from zentrale.protocols.streams.meter import CLOCK_TOLERANCE, StreamMeasurement
from zentrale.site.model import Camera, Policy, StreamPlan
from zentrale.subjects import Kind, Ref

_A_LITTLE_LATE_S, _AT_ONCE_S, _MANY = 0.1, 0.3, 3  # what makes pauses of several streams this machine's
_MOST_PAUSES = 5  # pictures whose place may stay empty before it is a pause
LEAST_BITS_PER_POINT = 0.0005  # a still scene with H.265 needs four times as much
T = TypeVar("T")
_RATE_ROUNDING = 0.05  # frames/s, and seconds: what time stamps of whole milliseconds leave
KEYFRAME_TOLERANCE = 0.25  # of the planned interval, and never less than one frame


def judge_delivery(
    subject: str | Ref, measured: StreamMeasurement, policy: Policy, *, decoded: bool
) -> Iterable[Finding]:
    """What is wrong with any stream, whatever was planned."""
    sent = measured.packets_received + measured.packets_lost
    lost_percent = _lost_percent(measured)
    if lost_percent > policy.loss_percent and not measured.packets_dropped_here:
        text = (
            f"{measured.packets_lost} of {sent} packets lost ({lost_percent:.2g} %) over {measured.transport.upper()}"
        )
        yield finding("STR-7", subject, text, f"at most {policy.loss_percent:g} %", "site.toml [policy] loss_percent",
                      _BY_ITSELF if within_tcp(measured) else "")  # fmt: skip
    if measured.jitter_ms is not None and measured.jitter_ms > policy.jitter_ms and not came_late(measured):
        yield finding("STR-8", subject, f"{measured.jitter_ms:.0f} ms jitter", f"at most {policy.jitter_ms:g} ms",
                      "site.toml [policy] jitter_ms")  # fmt: skip
    yield from _continuity(subject, measured, policy)
    yield from _clock(subject, measured)
    yield from _as_described(subject, measured)
    if measured.frames_damaged and not measured.packets_lost:
        text = f"{measured.frames_damaged} of {measured.frames} pictures came incomplete, though no packet was lost"
        yield finding("STR-11", subject, text, "whole pictures", "RFC 3550 marker bit and timestamps")
    if measured.codec not in DEPACKETIZERS:
        yield finding("STR-32", subject, f"{measured.codec or 'no codec named'}: its pictures are counted, not looked at",
                      f"one of {', '.join(DEPACKETIZERS)}", "its session description (SDP)")  # fmt: skip
    elif not decoded and could_have_picture(measured):
        got = f"{measured.packets_received} packets, {quantities.count(measured.frames, 'picture')}, no whole key frame"
        if measured.key_picture is not None:
            got = "a key frame arrived, but it is damaged"
        yield finding(
            "STR-9", subject, f"{got} in {measured.measured_s:.1f} s", "one decoded picture", "the stream itself"
        )
    if measured.ended_early:
        yield finding("STR-1", subject, f"the server closed the stream after {measured.measured_s:.1f} s",
                      "a stream that goes on", "RFC 2326")  # fmt: skip


def _lost_percent(measured: StreamMeasurement) -> float:
    sent = measured.packets_received + measured.packets_lost
    return 100 * measured.packets_lost / sent if sent else 0.0


def _as_described(subject: str | Ref, measured: StreamMeasurement) -> Iterable[Finding]:
    """What the server says beside what it does."""
    for contradiction in measured.contradictions:
        yield finding("STR-27", subject, contradiction, "the same in both", "its session description (SDP)")
    if measured.named_bases:
        text = f"its addresses name {', '.join(measured.named_bases)}"
        yield finding(
            "STR-36", subject, text, "the host and port that were reached", "Content-Base, RFC 2326 appendix C.1.1"
        )
    if measured.changes:
        text = "; ".join(f"after {quantities.seconds(at_s)} {what}" for at_s, what in measured.changes)
        yield finding("STR-33", subject, text, "a stream that goes on as it began", "the stream itself")
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


_BY_ITSELF = (
    "TCP loses nothing on the way: restart the camera's stream server, or what passes the stream on, and update its firmware; "
    "where it drops on purpose because its line is full, see whether arrivals fall behind too"
)


def lateness_finding(measured: Iterable[StreamMeasurement], machine: Ref | str = Kind.MACHINE.value) -> Finding | None:
    """Told once, of this machine: no camera is judged by it."""
    measured = list(measured)
    worst = max((m.own_lateness_s for m in measured), default=0.0)
    dropped = [m.packets_dropped_here for m in measured if m.packets_dropped_here]
    parts = [f"it read its sockets up to {quantities.seconds(worst)} late"] if worst > OWN_LATENESS_S else []
    if dropped:
        streams = quantities.count(len(dropped), "stream")
        parts.append(f"it had no room for {quantities.count(sum(dropped), 'datagram')} of {streams}")
    together = paused_together(measured)
    if together:
        paused = f"{len(together)} of {quantities.count(len(measured), 'stream')} paused at one moment"
        text = f"{paused}, when this machine was up to {quantities.seconds(worst)} late"
        return finding("STR-38", machine, text, "streams that pause each for itself", "while measuring")
    if not parts:
        return None
    text = "; ".join(parts)
    return finding("STR-17", machine, text, f"within {quantities.seconds(OWN_LATENESS_S)}", "while measuring")


def paused_together(measured: Sequence[StreamMeasurement]) -> frozenset[int]:
    """Which of the streams, by their place, paused at a moment at which most did, while this machine was late: whose doing it is
    cannot be told.
    """
    if max((m.own_lateness_s for m in measured), default=0.0) < _A_LITTLE_LATE_S:
        return frozenset()
    pauses = [
        (m.began_s + pause.after_s, m.began_s + pause.after_s + pause.length_s, place)
        for place, m in enumerate(measured)
        for pause in m.pauses
    ]
    found: set[int] = set()
    for begin_s, _, _ in pauses:
        at_once = {place for begin, end, place in pauses if begin <= begin_s + _AT_ONCE_S and end > begin_s}
        if len(at_once) >= max(_MANY, math.ceil(len(measured) / 2)):
            found |= at_once
    return frozenset(found)


# What is said of the moment at which packets came, or of how many pictures did.
BY_ARRIVAL = frozenset({"STR-4", "STR-5", "STR-6", "STR-8", "STR-10", "STR-12", "STR-16", "STR-33", "STR-34", "STR-37"})


def too_long(measured: StreamMeasurement, policy: Policy) -> Iterable[tuple[Pause, float]]:
    """The pauses that are longer than they may be, each with that limit [s]: by the rate at that time, since a source that takes
    a picture in three seconds is silent for as long; and by what this machine's own reading adds.
    """
    for pause in measured.pauses:
        allowed_s = policy.longest_gap_s or max(1.0, _MOST_PAUSES * pause.interval_s)
        if pause.length_s > allowed_s + measured.reading_pace_s:
            yield pause, allowed_s


def _continuity(subject: str | Ref, measured: StreamMeasurement, policy: Policy) -> Iterable[Finding]:
    """Whether it came without a break, in order, from one source."""
    found = [] if came_late(measured) else list(too_long(measured, policy))
    if found:
        pause, allowed_s = max(found, key=lambda gap: (not gap[0].ends, gap[0].length_s))
        text = f"no packet for {quantities.seconds(pause.length_s)}, {quantities.seconds(pause.after_s)} after it began"
        if not pause.ends:
            when = f" ({quantities.moment(measured.stopped_at)})" if measured.stopped_at else ""
            text = (
                f"it stopped {quantities.seconds(pause.after_s)} after it began{when}: no packet for "
                f"{quantities.seconds(pause.length_s)}, up to the end"
            )
        yield finding(
            "STR-12", subject, text, f"at most {quantities.seconds(allowed_s)}", "site.toml [policy] longest_gap_s"
        )
    if measured.packets_reordered or measured.packets_doubled:
        late = f", {measured.packets_late} too late for a player" if measured.packets_late else ""
        depth = (
            f", up to {quantities.count(measured.reorder_depth, 'place')}{late}" if measured.packets_reordered else ""
        )
        over = " over TCP" if within_tcp(measured) else ""
        text = f"{measured.packets_reordered} packets out of order{depth}; {measured.packets_doubled} twice{over}"
        yield finding("STR-13", subject, text, "each once, in its order", "RFC 3550 clause 5.1",
                      _BY_ITSELF if within_tcp(measured) else "")  # fmt: skip
    if measured.source_changes or measured.sequence_jumps:
        text = (
            f"{quantities.count(measured.source_changes, 'change')} of source, "
            f"{quantities.count(measured.sequence_jumps, 'jump')} of the sequence"
        )
        yield finding("STR-14", subject, text, "one source that goes on", "RFC 3550 clause 5.1")
    if measured.packets_foreign:
        text = f"{measured.packets_foreign} packets of another source at the same time"
        yield finding("STR-15", subject, text, "one source", "RFC 3550 clause 5.1")


def _clock(subject: str | Ref, measured: StreamMeasurement) -> Iterable[Finding]:
    pace = pace_of(measured)
    if pace is Pace.WRONG_CLOCK:
        text = f"its media clock runs {off(measured)}"
        yield finding("STR-16", subject, text, f"within {100 * CLOCK_TOLERANCE:g} %", "RFC 3550 clause 5.1")
    elif pace is Pace.NARROW_PATH:
        seconds = measured.whole_seconds_bps
        carried = sum(seconds) / len(seconds) if seconds else 0.0
        text = (
            f"arrivals fell {quantities.seconds(measured.behind_s)} behind in {quantities.seconds(measured.measured_s)}: the "
            f"path carries {quantities.bitrate(carried)} of {quantities.bitrate(measured.bitrate_bps or 0)}"
        )
        if measured.segments_out_of_order:
            text += (
                f"; {measured.segments_out_of_order} TCP segments came out of order, since some were lost or overtaken"
            )
        yield finding("STR-34", subject, text, "as fast as it is sent", "sender reports, RFC 3550 clause 6.4.1")


def judge_against_plan(
    subject: str | Ref, measured: StreamMeasurement, plan: StreamPlan, source: str, policy: Policy
) -> Iterable[Finding]:
    """Codec, resolution, frame rate, bit rate and key-frame interval against the plan; nothing of what `unjudged` names."""
    unknown = unjudged(measured, plan)
    if measured.codec != plan.codec:
        yield finding("STR-2", subject, measured.codec or "none named", plan.codec, source)
    sizes = measured.sizes or (
        [(measured.width_px, measured.height_px)] if measured.width_px and measured.height_px else []
    )
    if any(size != plan.resolution for size in sizes):
        text = ", then ".join(quantities.resolution(*size) for size in sizes)
        yield finding("STR-3", subject, text, quantities.resolution(*plan.resolution), source)
    if FRAME_RATE not in unknown:
        yield from _frame_rate(subject, measured, plan, source, policy)
    if BIT_RATE not in unknown:
        yield from _bit_rate(subject, measured, plan, source, policy)
    if KEY_INTERVAL not in unknown and plan.codec != "JPEG":
        yield from _key_interval(subject, measured, plan, source)


def _frame_rate(
    subject: str | Ref, measured: StreamMeasurement, plan: StreamPlan, source: str, policy: Policy
) -> Iterable[Finding]:
    allowed = plan.fps * policy.fps_tolerance_percent / 100
    if plan.min_fps is not None:
        low, high = fps_range(measured) or (measured.fps or 0.0, measured.fps or 0.0)
        if low < plan.min_fps - _RATE_ROUNDING or high > plan.fps + allowed:
            text = f"{low:.1f} to {high:.1f} frames/s"
            yield finding("STR-4", subject, text, f"{plan.min_fps:g} to {plan.fps:g} frames/s", source)
        return
    limit, step = f"{plan.fps:g} ± {allowed:.2g} frames/s", measured.rate_step
    if step is not None and any(abs(rate - plan.fps) > allowed for rate in (step.before, step.after)):
        text = f"{step.before:.1f}, after {quantities.seconds(step.after_s)} {step.after:.1f} frames/s"
        yield finding("STR-4", subject, text, limit, source)
    elif step is None and measured.fps is not None and abs(measured.fps - plan.fps) > allowed:
        yield finding("STR-4", subject, f"{measured.fps:.1f} frames/s", limit, source)


def _bit_rate(
    subject: str | Ref, measured: StreamMeasurement, plan: StreamPlan, source: str, policy: Policy
) -> Iterable[Finding]:
    assert measured.bitrate_bps is not None
    planned = quantities.bitrate(plan.bitrate_bps)
    text = quantities.bitrate(measured.bitrate_bps) + counts(measured)
    if measured.bitrate_bps > plan.bitrate_bps * (1 + policy.bitrate_over_percent / 100):
        yield finding("STR-5", subject, text, f"{planned} + {policy.bitrate_over_percent:g} %", source)
    elif plan.min_fps is None and measured.bitrate_bps < plan.bitrate_bps * (1 - policy.bitrate_under_percent / 100):
        yield finding("STR-10", subject, text, f"{planned} - {policy.bitrate_under_percent:g} %", source)


def counts(measured: StreamMeasurement) -> str:
    """What a bit rate is of, where packets are missing."""
    return (
        f" of what arrived ({_lost_percent(measured):.2g} % of its packets are lost)" if measured.packets_lost else ""
    )


def _key_interval(subject: str | Ref, measured: StreamMeasurement, plan: StreamPlan, source: str) -> Iterable[Finding]:
    interval, wanted = measured.keyframe_interval_s, plan.keyframe_interval_s
    if plan.max_keyframe_interval_s is not None:
        longest, slack = measured.keyframe_longest_s, max(1 / (plan.min_fps or plan.fps), _RATE_ROUNDING)
        if longest is not None and longest > plan.max_keyframe_interval_s + slack:
            text = f"up to {longest:.1f} s from one to the next"
            yield finding("STR-6", subject, text, f"at most {plan.max_keyframe_interval_s:g} s", source)
        elif interval is None and longest is None:
            text = f"no key frame in {measured.measured_s:.1f} s"
            yield finding("STR-6", subject, text, f"at most {plan.max_keyframe_interval_s:g} s", source)
    elif interval is None:
        text = f"one key frame or none in {measured.measured_s:.1f} s"
        yield finding("STR-6", subject, text, f"{wanted:g} s", source)
    elif abs(interval - wanted) > max(1 / plan.fps, KEYFRAME_TOLERANCE * wanted):
        yield finding("STR-6", subject, f"{interval:.1f} s", f"{wanted:g} s", source)


def judge_smartness(subject: str | Ref, measured: StreamMeasurement, plan: StreamPlan | None) -> Iterable[Finding]:
    """A smart codec, recognised by its own time stamps. A plan that has the keys for it expects one."""
    said = []
    if measured.rate_varies and (plan is None or plan.min_fps is None) and (range_ := fps_range(measured)):
        said.append(f"{range_[0]:.1f} to {range_[1]:.1f} frames/s")
    if measured.groups_vary and measured.rate_step is None and (plan is None or plan.max_keyframe_interval_s is None):
        said.append(
            f"key frames {measured.keyframe_shortest_s or 0:.1f} to {measured.keyframe_longest_s or 0:.1f} s apart"
        )
    if said:
        yield finding("STR-37", subject, f"{', '.join(said)}, by its own time stamps", "a steady rate, or limits in the plan",
                      "site.toml min_fps, max_keyframe_interval_s")  # fmt: skip


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


_CAUSES = {
    Cause.PASSWORD: "STR-18", Cause.FORBIDDEN: "STR-35", Cause.PATH: "STR-19", Cause.TRANSPORT: "STR-20", Cause.BUSY: "STR-21",
    Cause.DESCRIPTION: "STR-22", Cause.OTHER: "STR-22", Cause.CLOSED: "STR-23", Cause.SILENT: "STR-24",
    Cause.ELSEWHERE: "STR-25", Cause.NO_ANSWER: "STR-1", Cause.MACHINE: "ERR-2",
}  # fmt: skip


def code_of_failure(whose: Whose, other: str) -> str:
    """The code of what ended the work on a device: ours, where it was; else `other`."""
    return {Whose.DEFECT: "ERR-1", Whose.MACHINE: "ERR-2"}.get(whose, other)


def code_of_stream(failure: Failure[T]) -> str:
    """The code of what ended the work on a stream, or on a camera of which a stream was asked first."""
    if isinstance(failure.error, PlayError | RefusedError | NotAskedError | ClearTextError | CertificateError):
        return code_of(failure.error)
    return code_of_failure(failure.whose, "STR-1")


def code_of(error: DeviceError) -> str:
    """The code of the finding that says why a stream does not play."""
    if isinstance(error, LockedError):
        return "SEC-8"
    if isinstance(error, NotAskedError):
        return "SEC-7"
    if isinstance(error, ClearTextError | CertificateError):
        return "SEC-9"
    return _CAUSES[cause_of(error)]
