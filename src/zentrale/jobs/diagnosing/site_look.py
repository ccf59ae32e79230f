"""The look at all devices that are asked about: reached, climbed, played, recorded; nothing is concluded yet."""

from __future__ import annotations

import asyncio
from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path

from zentrale.errors import DeviceError, NotFoundError
from zentrale.field import pictures, scheduler
from zentrale.field.scheduler import Failure
from zentrale.field.visit import Visit
from zentrale.jobs.checks.check import Check, Request, Round
from zentrale.jobs.checks.check_registry import CHECKS
from zentrale.jobs.checks.seen import Target, Unresolved
from zentrale.jobs.diagnosing.climbing import Climb, climb, climb_by_rtsp, earlier_addresses, service_url
from zentrale.jobs.diagnosing.ground import Ground
from zentrale.jobs.diagnosing.judging_reach import Reach, reach
from zentrale.jobs.diagnosing.judging_streams import StreamsSeen
from zentrale.jobs.known.layer import Layer
from zentrale.jobs.known.planned import Planned, ref_of, whole_devices
from zentrale.jobs.streams.judging_pictures import Outlines, agreement, outlines_of
from zentrale.jobs.streams.measuring import Measured, aside, measure
from zentrale.jobs.streams.reference import references
from zentrale.jobs.streams.rtsp_only import is_rtsp_only
from zentrale.protocols.rtsp_client import Transport
from zentrale.site.model import Camera, Plan
from zentrale.subjects import Kind

AT_ONCE = 32
STREAM_S = 6.0  # long enough for two reports of a sender, and for key pictures to be laid side by side
ANSWER_S = 5.0  # what each answer of a stream server may take
STORED_S = 5.0
_CLIMB_S, _PLAY_S = 12.0, 14.0
_WAITS_S = 2.0  # for a service, before its streams are asked for where they were
_EVERY = 64  # devices: of a site as large as that all are knocked at, of a larger one those beside the ones asked about


@dataclass
class SiteLook:
    """What was seen. `climbs`, `reached` and `streams` by the name of the row."""

    plan: Plan
    round: Round
    ground: Ground
    reached: dict[str, Reach] = field(default_factory=dict)
    climbs: dict[str, Climb] = field(default_factory=dict)
    failures: dict[str, str] = field(default_factory=dict)
    streams: dict[str, StreamsSeen] = field(default_factory=dict)


def device_row(plan: Plan, row: Planned) -> Planned:
    """The row that stands for its device: a further lens has neither address nor port of its own."""
    return plan.device_of(row) if isinstance(row, Camera) else row


def beside(plan: Plan, rows: Sequence[Planned]) -> list[Planned]:
    """At whom is knocked: those asked about, their recorders, and who is at their switches; of a small site, all."""
    every = [d for d in whole_devices(plan).values() if not (isinstance(d, Camera) and d.behind)]
    if len(every) <= _EVERY:
        return every
    names = {device_row(plan, r).name for r in rows}
    switches = {r.switch for r in rows if r.switch}
    recorders = {r.recorder for r in rows if isinstance(r, Camera)}
    return [d for d in every if d.name in names | recorders or (isinstance(d, Camera) and d.switch in switches)]


async def look_at(look_round: Round, ground: Ground, recorders: Sequence[Planned]) -> SiteLook:
    """Up all their ways. The cameras are those of the round."""
    plan = look_round.plan
    seen = SiteLook(plan, look_round, ground)
    rows: list[Planned] = [*look_round.cameras, *recorders]
    for row in (*rows, *look_round.behind):
        device = device_row(plan, row)
        seen.reached[row.name] = reach(plan, device, look_round.found.get(device.name), ground)
    along = [check for check in CHECKS if check.along]
    before = asyncio.gather(*(check.prepare(look_round) for check in along))
    try:
        await _climb_all(seen, rows)
        await before
    finally:
        before.cancel()
    for check in along:
        if check.layer is Layer.STREAM:
            await _play_all(seen, check)
        elif check.layer > Layer.ACCESS:  # up to there the climb has looked
            await check.observe(look_round)
        for judged in check.judge(look_round):
            look_round.say(judged)
    await look_round.write()
    return seen


async def _climb_all(seen: SiteLook, rows: Sequence[Planned]) -> None:
    keyring = seen.round.keyring
    await keyring.ready()
    results = await scheduler.run(
        rows, lambda row: _climb(seen, row), at_once=AT_ONCE, budget_s=keyring.budget(_CLIMB_S)
    )
    for row, result in zip(rows, results, strict=True):
        if isinstance(result, Failure):
            seen.failures[row.name] = result.message
            seen.round.reports += [result.report] if result.report else []
        elif result is not None:
            seen.climbs[row.name] = result
        _into_round(seen, row)


async def _climb(seen: SiteLook, row: Planned) -> Climb | None:
    """By its service; by RTSP where it has none, or where that does not answer in time."""
    plan, keyring = seen.plan, seen.round.keyring
    at, device = seen.reached[row.name], device_row(plan, row)
    known = seen.round.found.get(device.name)
    if isinstance(row, Camera) and is_rtsp_only(plan, row):
        return await _by_rtsp(seen, row) if at.stream is not None and at.ours else None
    if at.web is None:
        return await _by_rtsp(seen, row) if isinstance(row, Camera) and at.stream is not None and at.ours else None
    url = service_url(at.host, at.web.port, known)
    asking = asyncio.create_task(climb(keyring, row, known, url, may_enter=at.ours, streams=isinstance(row, Camera)))
    try:
        done, _ = await asyncio.wait({asking}, timeout=_WAITS_S)
        remembered = isinstance(row, Camera) and at.ours and at.stream is not None and earlier_addresses(keyring, row)
        aside_task = (
            asyncio.create_task(_by_rtsp(seen, row)) if not done and remembered and isinstance(row, Camera) else None
        )
        found = await asking
        if (
            aside_task is None
            and found.target is None
            and found.entry is None
            and remembered
            and isinstance(row, Camera)
        ):
            aside_task = asyncio.create_task(_by_rtsp(seen, row))
    finally:
        asking.cancel()
    if aside_task is not None:
        other = await aside_task
        if found.target is None and found.entry is None:
            found.target, found.entry = other.target, other.entry
            found.refused = found.refused or other.refused
    return found


async def _by_rtsp(seen: SiteLook, camera: Camera) -> Climb:
    at, device = seen.reached[camera.name], device_row(seen.plan, camera)
    assert at.stream is not None
    known = seen.round.found.get(device.name)
    return await climb_by_rtsp(seen.round.keyring, camera, known, at.host, at.stream.port)


def _into_round(seen: SiteLook, row: Planned) -> None:
    """What the checks need of it: its target, or why there is none."""
    if not isinstance(row, Camera):
        return
    found = seen.climbs.get(row.name)
    if found is not None and found.target is not None:
        visit = replace(found.target.visit, where_lost=True)
        seen.round.targets.append(replace(found.target, visit=visit))
        return
    at = seen.reached[row.name]
    if row.name in seen.failures:
        return  # that it was not done in time here is said of nobody
    if found is not None and found.entry is not None and found.entry.closed:
        seen.round.unresolved.append(Unresolved(row, found.entry.in_words(), "SEC-3", found.entry, observed=True))
        return
    if at.place is None or not at.ours:
        where = device_row(seen.plan, row).host or "any address that is known"
        reason = f"nothing of it answers at {where}"
    else:
        reason = (found.failed or str(found.refused or "") or next(iter(found.unfit.values()), "")) if found else ""
        reason = reason or "it could not be asked for its streams"
    seen.round.unresolved.append(Unresolved(row, reason, "STR-1", observed=True))


async def _play_all(seen: SiteLook, as_planned: Check) -> None:
    """As planned and, at the same time, the main stream by the ways that the plan does not name."""
    targets = list(seen.round.targets)
    more = [(t, way) for t in targets for way in _other_ways(seen.plan, t)]
    _, others = await asyncio.gather(
        as_planned.observe(seen.round),
        scheduler.run(more, lambda pair: _play(seen, *pair), at_once=2 * AT_ONCE, budget_s=_PLAY_S),
    )
    # What was not done in the time that there is may be this machine's doing: nobody is accused by it.
    seen.round.streams = [
        replace(s, findings=()) if s.measured is None and scheduler.OUT_OF_TIME in s.error else s
        for s in seen.round.streams
    ]
    played: dict[tuple[str, Transport], Measured] = {}
    for (target, way), result in zip(more, others, strict=True):
        if isinstance(result, Measured):
            played[target.camera.name, way] = result
    shares = await aside(_shares, seen.round)
    for target in targets:
        name = target.camera.name
        planned = [s for s in seen.round.streams if s.camera == name]
        seen.streams[name] = StreamsSeen(
            planned, played.get((name, Transport.UDP)), played.get((name, Transport.TCP)), shares.get(name, {})
        )


def _other_ways(plan: Plan, target: Target) -> list[Transport]:
    if "main" not in target.streams:
        return []
    multicast = bool(target.camera.multicast_main)
    behind = target.camera.rtsp_port is not None  # no datagram finds its way back through a translation of addresses
    return [*([] if behind else [Transport.UDP]), *([Transport.TCP] if multicast else [])]


async def _play(seen: SiteLook, target: Target, way: Transport) -> Measured:
    camera = target.camera
    visit: Visit = replace(target.visit, transport=way, patience_s=0.0, answer_s=ANSWER_S)
    return await measure(
        ref_of(camera, f"main stream over {way.value}"), camera.where, target.streams["main"], visit, STREAM_S,
        seen.plan.policy, wants_picture=False,
    )  # fmt: skip


def _shares(look_round: Round) -> dict[str, dict[str, float]]:
    """How well each camera's picture agrees with the reference picture of each."""
    known: dict[str, Outlines] = {}
    for ref, reference in references(look_round.keyring.logbook).items():
        image = pictures.from_jpeg(reference.jpeg) if ref.kind is Kind.CAMERA else None
        if image is not None:
            known[ref.name] = outlines_of(image)
    found: dict[str, dict[str, float]] = {}
    for result in look_round.streams:
        jpeg = _written(look_round, result.picture_file[0]) if result.picture_file and result.stream == "main" else None
        image = pictures.from_jpeg(jpeg) if jpeg is not None else None
        if image is not None:
            own = outlines_of(image)
            found[result.camera] = {name: agreement(own, other) for name, other in known.items()}
    return found


def _written(look_round: Round, name: str) -> bytes | None:
    folder: Path | None = look_round.request.pictures_folder
    path = folder / name if folder is not None else None
    return path.read_bytes() if path is not None and path.exists() else None


def request_for(names: Sequence[str], folder: Path, seconds: float) -> Request:
    return Request(
        min(9.0, max(STREAM_S, seconds)), None, folder, ANSWER_S, STORED_S,
        patience_s=0.0, budget_s=_PLAY_S, played_of=frozenset(names),
    )  # fmt: skip


def error_of(seen: SiteLook, recorder: str) -> DeviceError | None:
    """Why a recorder could not be asked."""
    sample = seen.round.samples.get(recorder)
    if sample is None:
        return NotFoundError("it was not asked")
    return sample if isinstance(sample, DeviceError) else None
