"""Measuring every stream at the same time, and saying what is wrong with each."""

from __future__ import annotations

import asyncio
import hashlib
import socket
from collections.abc import Iterator, Mapping, Sequence
from concurrent.futures import Future
from dataclasses import replace

from zentrale.errors import Cause, DeviceError
from zentrale.field import scheduler
from zentrale.field.causes import cause_of
from zentrale.field.limits import open_files
from zentrale.field.scheduler import Failure
from zentrale.findings import Finding, finding
from zentrale.jobs.checks.check import Check, Need, Request, Round
from zentrale.jobs.checks.seen import StreamResult, Target
from zentrale.jobs.known.layer import Layer
from zentrale.jobs.known.planned import ref_of
from zentrale.jobs.streams.aspects import (
    BIT_RATE,
    CODES_OF,
    FRAME_RATE,
    KEY_INTERVAL,
    NOT_PLAYING,
    PAUSES,
    codes_judged,
    unjudged,
)
from zentrale.jobs.streams.judging import (
    BY_ARRIVAL,
    code_of_stream,
    judge_against_plan,
    judge_group,
    judge_smartness,
    lateness_finding,
    paused_together,
    planned_group,
)
from zentrale.jobs.streams.judging_pictures import PICTURE_CODES
from zentrale.jobs.streams.measuring import aside, measure, worker
from zentrale.jobs.streams.reference import Reference, compared, references
from zentrale.logbook.evidence import Judged, Notes, note
from zentrale.protocols.streams.figures import spread
from zentrale.protocols.streams.meter import StreamMeasurement
from zentrale.quantities import timestamp
from zentrale.site.folder import write_atomically
from zentrale.site.model import Camera, Plan
from zentrale.subjects import Kind, Ref

STREAM, PICTURE = "stream", "picture"  # kinds of observations
_FILES_OF_ONE = 4  # the connection, and two sockets over UDP; one for whatever is written meanwhile
LEAST_S = 5.0
_UNDER_WAY = {"everything": "it was still being measured"}
BUDGET_S = 60.0  # for one stream, beside what is asked for


async def measure_planned(
    round: Round, target: Target, stream: str, known: Mapping[Ref, Reference] | None = None
) -> StreamResult:
    """`known` are the reference pictures of cameras' main streams."""
    plan, request = round.plan, round.request
    camera, address = target.camera, target.streams[stream]
    ref = ref_of(camera, f"{stream} stream")
    visit = replace(
        target.visit, transport=request.transport, multicast=bool(planned_group(camera, stream)),
        patience_s=request.patience_s, answer_s=request.answer_s,
    )  # fmt: skip

    written: list[Future[None]] = []

    def so_far(measured: StreamMeasurement) -> None:
        """A long measurement is written down as it goes: one that is interrupted keeps what it had."""
        unfinished = StreamResult(camera.name, stream, address.url, measured, "", (), not_judged=_UNDER_WAY)
        notes = Notes()
        notes.observe(STREAM, ref, "RTSP", stream_document(unfinished))
        written.append(worker.submit(note, round.keyring.logbook, round.run, notes))

    reference = (known or {}).get(ref_of(camera)) if stream == "main" else None
    wants_picture = request.pictures_folder is not None or reference is not None
    result = await measure(
        ref, camera.where, address, visit, request.duration_s, plan.policy, so_far, wants_picture=wants_picture
    )
    for writing in written:
        await asyncio.wrap_future(writing)  # what this machine could not write is told
    findings = list(result.findings)
    if result.measured is not None:
        source = f"site.toml group {camera.group}"
        planned = plan.streams(camera)[stream]
        findings += judge_against_plan(ref, result.measured, planned, source, plan.policy)
        findings += judge_smartness(ref, result.measured, planned)
        findings += judge_group(ref, result.measured, planned_group(camera, stream), camera.where)
        if camera.rtsp_port is not None:  # a translation of addresses stands before it: it names what is behind that
            findings = [f for f in findings if f.code != "STR-36"]
    beside = await aside(compared, reference, result.picture, ref, plan.policy)
    findings += beside or []
    kept = None
    if result.picture is not None and request.pictures_folder is not None:
        name = f"{camera.name}-{stream}.jpg"
        await aside(write_atomically, request.pictures_folder / name, result.picture)
        kept = name, hashlib.sha256(result.picture).hexdigest()
    judged = StreamResult(camera.name, stream, address.url, result.measured, result.error, tuple(findings))
    cause = cause_of(result.cause) if result.cause is not None else None
    judged = replace(judged, picture_file=kept, looked_at=result.looked_at, compared=beside is not None, cause=cause)
    return with_unjudged(plan, camera, judged)


def with_unjudged(plan: Plan, camera: Camera, result: StreamResult) -> StreamResult:
    """The result with what the plan says of the stream and was not judged."""
    if result.measured is None:
        return result
    planned, group = plan.streams(camera)[result.stream], planned_group(camera, result.stream)
    return replace(result, not_judged=unjudged(result.measured, planned, group=group, decoded=result.looked_at))


def without_what_this_machine_did(streams: Sequence[StreamResult]) -> list[StreamResult]:
    """Streams that paused together while this machine was late are not judged by when their packets came."""
    measured = [(place, s.measured) for place, s in enumerate(streams) if s.measured is not None]
    found = list(streams)
    for index in paused_together([m for _, m in measured]):
        place = measured[index][0]
        kept = tuple(f for f in streams[place].findings if f.code not in BY_ARRIVAL)
        unknown = dict.fromkeys((FRAME_RATE, BIT_RATE, KEY_INTERVAL, PAUSES), "this machine came late")
        found[place] = replace(streams[place], findings=kept, not_judged={**streams[place].not_judged, **unknown})
    return found


def judge_stream(plan: Plan, result: StreamResult) -> Judged:
    """What this measurement says of the stream; nothing of what could not be measured."""
    camera = next(c for c in plan.cameras if c.name == result.camera)
    found = {f.code for f in result.findings}
    codes = NOT_PLAYING if found & NOT_PLAYING else frozenset[str]()
    if result.measured is not None:
        codes |= codes_judged(result.measured, plan.streams(camera)[result.stream])
        codes -= {code for aspect in result.not_judged for code in CODES_OF.get(aspect, ())}
        codes |= PICTURE_CODES if result.looked_at else frozenset[str]()
        codes |= {"PIC-5"} if result.compared else frozenset[str]()
        codes |= {"PIC-4"} if len(result.measured.shots) > 1 else frozenset[str]()
    return Judged(result.ref, codes | found, result.findings)


class Streams(Check):
    along = True
    name = "streams"
    layer = Layer.STREAM
    codes = frozenset({f"STR-{number}" for number in range(1, 39)} | PICTURE_CODES | {"PIC-4", "PIC-5"})
    doing = "measuring the streams"

    async def observe(self, round: Round) -> None:
        wanted = [(t, stream) for t in round.targets for stream in round.plan.streams(t.camera) if stream in t.streams]
        known = await aside(references, round.keyring.logbook)
        room = await asyncio.to_thread(open_files, _FILES_OF_ONE * len(wanted))
        measured = await scheduler.run(
            wanted, lambda w: measure_planned(round, *w, known), at_once=max(1, room // _FILES_OF_ONE),
            budget_s=_budget_s(round.request),
        )  # fmt: skip
        streams = [_not_measured(round, m) if isinstance(m, Failure) else m for m in measured]
        for target in round.targets:
            for stream in round.plan.streams(target.camera):
                if stream not in target.streams:
                    wrong = target.failed.get(stream)
                    code, reason = ("STR-22", wrong) if wrong else ("STR-19", f"the camera offers no {stream} stream")
                    streams.append(_no_stream(target.camera, stream, "", reason, code, cause=Cause.PATH))
        late = lateness_finding([s.measured for s in streams if s.measured], _this_machine())
        round.keep(self, [late] if late else [])
        streams = without_what_this_machine_did(streams)
        for result in streams:
            round.observe(STREAM, result.ref, "RTSP", stream_document(result))
            if result.picture_file is not None:
                name, digest = result.picture_file
                round.observe(PICTURE, result.ref, "decoded key frame", {"file": name, "sha256": digest})
        for left in round.unresolved:  # not asked for: no observation
            streams += [
                StreamResult(left.camera.name, s, "", None, left.reason, ()) for s in round.plan.streams(left.camera)
            ]
        order = {c.name: i for i, c in enumerate(round.cameras)}
        round.streams = sorted(streams, key=lambda s: (order[s.camera], s.stream))

    def judge(self, round: Round) -> Iterator[Judged]:
        if any(s.measured for s in round.streams):
            yield Judged(_this_machine(), frozenset({"STR-17", "STR-38"}), tuple(round.kept(self, list[Finding]())))
        missing = {u.camera.name for u in round.unresolved}
        for result in round.streams:
            if result.camera not in missing:
                yield judge_stream(round.plan, result)

    def needs(self, plan: Plan, camera: Camera) -> list[Need]:
        return [
            Need("stream never measured", f"{camera.name} {stream}", ref_of(camera, f"{stream} stream"), "STR-1")
            for stream in plan.streams(camera)
        ]


def _this_machine() -> Ref:
    return Ref(Kind.MACHINE, socket.gethostname())


def _not_measured(round: Round, failure: Failure[tuple[Target, str]]) -> StreamResult:
    target, stream = failure.item
    round.reports += [failure.report] if failure.report else []
    cause = cause_of(failure.error) if isinstance(failure.error, DeviceError) else None
    code = code_of_stream(failure)
    return _no_stream(target.camera, stream, target.streams[stream].url, failure.message, code, cause=cause)


def _no_stream(
    camera: Camera, stream: str, url: str, reason: str, code: str = "STR-1", *, cause: Cause | None = None
) -> StreamResult:
    item = finding(code, ref_of(camera, f"{stream} stream"), reason, "a stream that plays", camera.where)
    return StreamResult(camera.name, stream, url, None, reason, (item,), cause=cause)


def seconds_needed(plan: Plan, cameras: Sequence[Camera]) -> float:
    """How long to measure these cameras, so that the key-frame interval of each of their streams shows."""
    needs_s = [stream.needs_s for camera in cameras for stream in plan.streams(camera).values()]
    return max(LEAST_S, 1 + max(needs_s, default=0.0))


def _budget_s(request: Request) -> float:
    """For one stream, where the camera serves one of three at a time, and each answer takes its time."""
    return 3 * request.duration_s + 6 * request.answer_s + BUDGET_S if request.budget_s is None else request.budget_s


def stream_document(stream: StreamResult) -> dict[str, object]:
    """One stream with stable keys and units in them; None for what could not be measured."""
    m = stream.measured
    return {
        "camera": stream.camera,
        "stream": stream.stream,
        "url": stream.url,
        "transport": m.transport if m else None,
        "verdict": stream.verdict.value,
        "severity": stream.severity.value if stream.severity else None,
        "not_judged": list(stream.unjudged),
        "error": stream.error or None,
        "cause": stream.cause.value if stream.cause else None,
        "codec": m.codec if m else None,
        "profile": m.profile if m else None,
        "width_px": m.width_px if m else None,
        "height_px": m.height_px if m else None,
        "fps": _rounded(m.fps, 2) if m else None,
        "bitrate_bps": round(m.bitrate_bps) if m and m.bitrate_bps is not None else None,
        "bitrate_by_second_bps": list(m.bitrate_by_second) if m else [],
        "bitrate_counts": ("received" if m.packets_lost else "all") if m else None,
        **_spread("bitrate", "_bps", m.whole_seconds_bps if m else (), 0),
        **_spread("fps", "", m.fps_by_second if m else (), 2),
        "rate_varies": m.rate_varies if m else None,
        "keyframe_interval_s": _rounded(m.keyframe_interval_s, 3) if m else None,
        "keyframe_shortest_s": _rounded(m.keyframe_shortest_s, 3) if m else None,
        "keyframe_longest_s": _rounded(m.keyframe_longest_s, 3) if m else None,
        "key_picture_bytes": _rounded(m.key_picture_bytes, 0) if m else None,
        "other_picture_bytes": _rounded(m.other_picture_bytes, 0) if m else None,
        "changes": [{"after_s": round(at_s, 3), "what": what} for at_s, what in m.changes] if m else [],
        "packets_received": m.packets_received if m else 0,
        "packets_lost": m.packets_lost if m else 0,
        "packets_open": m.packets_open if m else 0,
        "packets_of_other_types": m.packets_of_others if m else 0,
        "packets_reordered": m.packets_reordered if m else 0,
        "packets_doubled": m.packets_doubled if m else 0,
        "reorder_depth_packets": m.reorder_depth if m else 0,
        "packets_late": m.packets_late if m else 0,
        "source_changes": m.source_changes if m else 0,
        "sequence_jumps": m.sequence_jumps if m else 0,
        "longest_gap_s": _rounded(m.longest_gap_s, 3) if m else None,
        "stopped_at": timestamp(m.stopped_at) if m and m.stopped_at else None,
        "clock_ratio": _rounded(m.clock_ratio, 4) if m else None,
        "sender_clock_ratio": _rounded(m.sender_clock_ratio, 4) if m else None,
        "behind_s": _rounded(m.behind_s, 3) if m else None,
        "receive_window_bytes": m.receive_window_bytes if m else None,
        "tcp_segments_out_of_order": m.segments_out_of_order if m else None,
        "intra_refresh": m.intra_refresh if m else None,
        "reading_pace_s": _rounded(m.reading_pace_s, 3) if m else None,
        "packets_dropped_here": m.packets_dropped_here if m else 0,
        "packets_strange": m.packets_strange if m else 0,
        "strangers": list(m.strangers) if m else [],
        "multicast_group": (m.group or None) if m else None,
        "multicast_failed": (m.multicast_failed or None) if m else None,
        "sessions_at_most": m.sessions_at_most if m else None,
        "jitter_ms": _rounded(m.jitter_ms, 2) if m else None,
        "jitter_worst_ms": _rounded(m.jitter_worst_ms, 2) if m else None,
        "first_picture_s": _rounded(m.first_picture_s, 3) if m else None,
        "frames": m.frames if m else 0,
        "frames_damaged": m.frames_damaged if m else 0,
        "measured_s": _rounded(m.measured_s, 2) if m else None,
    }


def _spread(what: str, unit: str, seconds: Sequence[float], digits: int) -> dict[str, float | None]:
    figures = spread(seconds) or (None, None, None)
    return {
        f"{what}_{name}{unit}": _rounded(value, digits)
        for name, value in zip(("lowest", "highest", "p5"), figures, strict=True)
    }


def _rounded(value: float | None, digits: int) -> float | None:
    return None if value is None else round(value, digits)
