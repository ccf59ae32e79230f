"""Asking the recorders: does each planned channel record, the right camera, by its rule, and does what is stored grow?"""

from __future__ import annotations

from collections.abc import Collection, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import UTC, datetime
from zoneinfo import ZoneInfo

from zentrale import quantities
from zentrale.errors import DeviceError, NotFoundError
from zentrale.field import scheduler
from zentrale.field.scheduler import Failure
from zentrale.findings import Finding, finding
from zentrale.jobs.checks.channel_judging import Around, Motion, judge
from zentrale.jobs.checks.check import Check, Need, Round, Samples
from zentrale.jobs.checks.motion_watch import heard
from zentrale.jobs.checks.seen import ChannelResult
from zentrale.jobs.known.entry_judged import judge_clock, seen_there
from zentrale.jobs.known.found_devices import FoundDevice
from zentrale.jobs.known.layer import Layer
from zentrale.jobs.passwords.access import entered
from zentrale.jobs.passwords.keyring import Keyring
from zentrale.jobs.recorders.driver import Sample, recorded_url
from zentrale.jobs.recorders.recorder_registry import driver_of, opened, planned_channels
from zentrale.logbook.evidence import Judged
from zentrale.protocols.onvif import recording_jobs
from zentrale.protocols.onvif.events import STORAGE_FAILURE, Message
from zentrale.site.model import Camera, Plan, Recorder
from zentrale.subjects import Kind, Ref

CHANNEL = "channel"  # the kind of its observations
BUDGET_S = 240.0  # for one recorder: two requests a channel, each of which may take 12 s
_SEVERAL = 2


@dataclass(frozen=True)
class _Before:
    """The first look: what the recorders held, and when that was."""

    samples: Samples
    at: datetime


@dataclass(frozen=True)
class RecorderChecks:
    """The channels of the cameras asked for, and what is to be said of the recorders themselves."""

    channels: tuple[ChannelResult, ...]
    recorders: tuple[Judged, ...] = ()
    not_found: tuple[Finding, ...] = ()


async def sample_recorders(
    plan: Plan, cameras: Sequence[Camera], found: Mapping[str, FoundDevice], keyring: Keyring, *, whole: bool = True
) -> Samples:
    """The state of all channels of the recorders of `cameras`; an error where one could not be asked."""
    used = {c.recorder for c in cameras}
    recorders = [r for r in plan.recorders if r.name in used]
    results = await scheduler.run(
        recorders, lambda r: _sample(plan, r, found.get(r.name), keyring, whole=whole), at_once=len(recorders) or 1,
        budget_s=keyring.budget(BUDGET_S),
    )  # fmt: skip
    return {
        r.name: _as_error(result) if isinstance(result, Failure) else result
        for r, result in zip(recorders, results, strict=True)
    }


def _as_error(failure: Failure[Recorder]) -> DeviceError:
    return failure.error if isinstance(failure.error, NotFoundError) else DeviceError(failure.message)


async def _sample(plan: Plan, recorder: Recorder, seen: FoundDevice | None, keyring: Keyring, *, whole: bool) -> Sample:
    driver = driver_of(plan, recorder)
    if not driver.has_service:
        return await opened(keyring, recorder, None).sample({})
    if seen is None or not seen.url:
        raise NotFoundError("the last discovery did not find it, so its channels were not asked")
    await keyring.ready()
    async with entered(keyring, seen, recorder) as client:
        planned = planned_channels(plan, plan.cameras, recorder.name)
        return await opened(keyring, recorder, client).sample(planned, whole=whole)


def judge_recorders(
    plan: Plan,
    cameras: Sequence[Camera],
    found: Mapping[str, FoundDevice],
    samples: tuple[Samples, Samples],
    around: Mapping[str, Around],
    missing: Collection[str] = (),
) -> RecorderChecks:
    """The channels of `cameras` as they are, against the plan and as they were before: `samples` are both looks.

    around:  what is known beside, by camera
    missing: cameras that have a finding of their own already: that their channel does not record follows from it
    """
    before, after = samples
    results: list[ChannelResult] = []
    judged: list[Judged] = []
    not_found: list[Finding] = []
    for name in dict.fromkeys(c.recorder for c in cameras):
        own = [c for c in cameras if c.recorder == name]
        sample, earlier = after[name], before.get(name, Sample())
        if isinstance(sample, DeviceError):
            results += [ChannelResult(name, c.channel, c.name, "not known", None) for c in own]
            told = _not_asked(plan, name, sample)
            not_found += told if isinstance(sample, NotFoundError) else []
            judged += [
                Judged(f.ref, frozenset({f.code}), (f,))
                for f in told
                if f.ref and not isinstance(sample, NotFoundError)
            ]
            continue
        was = {} if isinstance(earlier, DeviceError) else earlier.channels
        wanted = planned_channels(plan, own, name)
        some = [
            judge(
                c, wanted[c.channel], sample.channels.get(c.channel), was.get(c.channel), around.get(c.name, Around())
            )
            for c in own
        ]
        some = [replace(r, findings=()) if r.camera in missing else r for r in some]
        some, whole = _keeps_nothing(name, some, sample)
        results += some
        judged += _of_recorder(plan, name, sample, found)
        if whole or any(r.records and r.state == recording_jobs.ACTIVE for r in some):
            judged.append(Judged(Ref(Kind.RECORDER, name), frozenset({"REC-15"}), tuple(whole)))
    order = {c.name: number for number, c in enumerate(cameras)}
    return RecorderChecks(tuple(sorted(results, key=lambda r: order[r.camera])), tuple(judged), tuple(not_found))


def _not_asked(plan: Plan, name: str, error: DeviceError) -> list[Finding]:
    ref, source = Ref(Kind.RECORDER, name), f"site.toml recorder {name}"
    if isinstance(error, NotFoundError):
        return [finding("DIS-1", ref, str(error), "an answer", source)]
    if not driver_of(plan, plan.recorder(name)).has_service:
        return [finding("REC-5", ref, str(error), "every channel looked at", source)]
    return [finding("REC-3", ref, str(error), "an answer", source)]


def _of_recorder(plan: Plan, name: str, sample: Sample, found: Mapping[str, FoundDevice]) -> list[Judged]:
    """What was said of the recorder itself, and of its channels whether they are planned or not."""
    ref = Ref(Kind.RECORDER, name)
    judged = [
        Judged(ref, frozenset({"REC-3", "REC-4", "REC-6"}), tuple(f for f in sample.findings if f.ref == ref)),
    ]
    if sample.hardware is not None:
        judged.append(Judged(ref, frozenset({"REC-16"}), tuple(_failed(ref, sample.hardware))))
    if sample.clock_offset_s is not None:
        judged.append(judge_clock(ref, sample.clock_offset_s, plan.policy))
    judged += seen_there(ref, found[name].address) if name in found else []
    channels = {**dict.fromkeys(sample.channels, ()), **_by_channel(name, sample.findings)}
    judged += [
        Judged(Ref(Kind.RECORDER, name, f"channel {n}"), frozenset({"REC-7", "REC-8", "REC-9"}), some)
        for n, some in channels.items()
    ]
    return judged


def _failed(ref: Ref, hardware: Sequence[Message]) -> Iterator[Finding]:
    """In the recorder's own words."""
    for message in hardware:
        which = ", ".join(f"{n} {v}" for n, v in message.source.items())
        says = ", ".join(f"{n} {v}" for n, v in message.data.items())
        when = f" since {quantities.moment(message.utc)}" if message.utc is not None else ""
        measured = f"{message.topic.rpartition('/')[2]}: {which}: {says}{when}"
        yield finding("REC-16", ref, measured, "no failure", "its own events")


def _keeps_nothing(name: str, some: list[ChannelResult], sample: Sample) -> tuple[list[ChannelResult], list[Finding]]:
    """Where all of its channels that are active keep nothing, that is the recorder's, and theirs follow from it."""
    active = [r for r in some if r.state == recording_jobs.ACTIVE and not r.waits]
    stands = [r for r in active if any(f.code == "REC-1" for f in r.findings)]
    if len(stands) < _SEVERAL or len(stands) < len(active):
        return some, []
    newest = max((r.stored_until for r in stands if r.stored_until is not None), default=None)
    since = f"newest stored time stands since {quantities.moment(newest)}" if newest else "nothing is stored"
    listed = f"; it lists {', '.join(sample.disks)}" if sample.disks else ""
    measured = f"keeps nothing: {since}, though {len(stands)} channels call themselves active{listed}"
    ref = Ref(Kind.RECORDER, name)
    whole = finding("REC-15", ref, measured, "what is taken in is kept", "two looks at what is stored")
    told = [m for m in sample.hardware or () if m.topic == STORAGE_FAILURE]
    cause = next((f.name for f in _failed(ref, told)), "")  # the recorder names it itself
    names = {r.camera for r in stands}
    beneath = [_beneath(r, cause or whole.name) if r.camera in names else r for r in some]
    return beneath, [replace(whole, caused_by=cause)]


def _beneath(result: ChannelResult, cause: str) -> ChannelResult:
    told = tuple(replace(f, caused_by=cause) if f.code == "REC-1" else f for f in result.findings)
    return replace(result, findings=told)


def _by_channel(recorder: str, findings: Sequence[Finding]) -> dict[int, tuple[Finding, ...]]:
    noticed: dict[int, tuple[Finding, ...]] = {}
    for item in findings:
        number = item.ref.part.removeprefix("channel ") if item.ref is not None else ""
        if number.isdigit():
            noticed[int(number)] = (*noticed.get(int(number), ()), item)
    return noticed


class Recording(Check):
    """Asks the recorders before and after the streams were measured: what is stored must have grown meanwhile. Cameras that are
    recorded on motion are listened to in between.
    """

    along = True
    name = "recording"
    layer = Layer.RECORDING
    codes = frozenset({"DIS-1", "CLK-1", *(f"REC-{n}" for n in range(1, 17) if n != 10)})
    doing = "asking the recorders"

    async def prepare(self, round: Round) -> None:
        samples = await sample_recorders(round.plan, round.on_channels, round.found, round.keyring, whole=False)
        round.keep(self, _Before(samples, datetime.now(UTC)))

    async def observe(self, round: Round) -> None:
        before = round.kept(self, _Before({}, datetime.now(UTC)))
        motion = await heard(round.listening, round.found, round.keyring)
        after = await sample_recorders(round.plan, round.on_channels, round.found, round.keyring)
        round.samples = after
        around = {c.name: self._around(round, c, before, after, motion.get(c.name)) for c in round.on_channels}
        missing = {u.camera.name for u in round.unresolved}
        checks = judge_recorders(
            round.plan, round.on_channels, round.found, (before.samples, after), around, missing
        )  # fmt: skip
        round.keep(self, checks)
        round.channels = checks.channels
        round.findings += checks.not_found
        for channel in round.channels:
            if channel.records is not None or channel.waits:
                round.observe(CHANNEL, channel.ref, "ONVIF", channel.document())

    def _around(self, round: Round, camera: Camera, before: _Before, after: Samples, motion: Motion | None) -> Around:
        target = next((t for t in round.targets if t.camera.name == camera.name), None)
        streams = {} if target is None else {n: recorded_url(camera, a) for n, a in target.streams.items()}
        sizes = {
            s.stream: (s.measured.width_px, s.measured.height_px)
            for s in round.streams
            if s.camera == camera.name and s.measured is not None and s.measured.width_px and s.measured.height_px
        }
        zone = ZoneInfo(round.plan.site.timezone)
        local = before.at.astimezone(zone), datetime.now(zone)
        sample = after.get(camera.recorder)
        offset_s = (sample.clock_offset_s or 0.0) if isinstance(sample, Sample) else 0.0
        account = round.plan.policy.recorder_account
        return Around(
            streams.get("main"), streams.get("sub"), sizes, local, datetime.now(UTC), offset_s, motion, account
        )  # fmt: skip

    def judge(self, round: Round) -> Iterator[Judged]:
        yield from round.kept(self, RecorderChecks(())).recorders
        missing = {u.camera.name for u in round.unresolved}
        for channel in round.channels:
            if channel.camera not in missing and (channel.records is not None or channel.waits):
                yield Judged(channel.ref, channel.judged, channel.findings)

    def needs(self, plan: Plan, camera: Camera) -> list[Need]:
        recorder = next(r for r in plan.recorders if r.name == camera.recorder)
        if not driver_of(plan, recorder).has_service:
            return []  # told as REC-5: a person has to look
        where = f"{camera.recorder} channel {camera.channel}"
        channel = Ref(Kind.RECORDER, camera.recorder, f"channel {camera.channel}")
        return [Need("recording never seen", where, channel, "REC-1")]
