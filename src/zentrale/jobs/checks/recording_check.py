"""Asking the recorders: does each planned channel record, the right camera, and does what is stored grow?"""

from __future__ import annotations

from collections.abc import Collection, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace

from zentrale.errors import DeviceError, NotFoundError
from zentrale.field import scheduler
from zentrale.field.scheduler import Failure
from zentrale.findings import Finding, finding
from zentrale.jobs.checks.check import Check, Layer, Need, Round
from zentrale.jobs.checks.seen import ChannelResult
from zentrale.jobs.known.entry_judged import seen_there
from zentrale.jobs.known.found_devices import FoundDevice
from zentrale.jobs.passwords.access import entered
from zentrale.jobs.passwords.keyring import Keyring
from zentrale.jobs.recorders.driver import ChannelSample, Sample, recorded_url
from zentrale.jobs.recorders.recorder_registry import driver_of, opened, planned_channels
from zentrale.logbook.evidence import Judged
from zentrale.protocols.onvif import recording_jobs, search
from zentrale.site.model import Camera, Plan, Recorder
from zentrale.subjects import Kind, Ref

CHANNEL = "channel"  # the kind of its observations
BUDGET_S = 240.0  # for one recorder: two requests a channel, each of which may take 12 s


Samples = Mapping[str, Sample | DeviceError]


@dataclass(frozen=True)
class RecorderChecks:
    """The channels of the cameras asked for, and what is to be said of the recorders themselves."""

    channels: tuple[ChannelResult, ...]
    recorders: tuple[Judged, ...] = ()
    not_found: tuple[Finding, ...] = ()


async def sample_recorders(plan: Plan, found: Mapping[str, FoundDevice], keyring: Keyring) -> Samples:
    """The state of all channels of all recorders that have cameras; an error where one could not be asked."""
    used = {c.recorder for c in plan.cameras}
    recorders = [r for r in plan.recorders if r.name in used]
    results = await scheduler.run(
        recorders, lambda r: _sample(plan, r, found.get(r.name), keyring), at_once=len(recorders) or 1,
        budget_s=keyring.budget(BUDGET_S),
    )  # fmt: skip
    return {
        r.name: _as_error(result) if isinstance(result, Failure) else result
        for r, result in zip(recorders, results, strict=True)
    }


def _as_error(failure: Failure[Recorder]) -> DeviceError:
    return failure.error if isinstance(failure.error, NotFoundError) else DeviceError(failure.message)


async def _sample(plan: Plan, recorder: Recorder, seen: FoundDevice | None, keyring: Keyring) -> Sample:
    driver = driver_of(plan, recorder)
    if not driver.has_service:
        return await opened(keyring, recorder, None).sample({})
    if seen is None or not seen.url:
        raise NotFoundError("the last discovery did not find it, so its channels were not asked")
    await keyring.ready()
    async with entered(keyring, seen, recorder) as client:
        return await opened(keyring, recorder, client).sample(planned_channels(plan, plan.cameras, recorder.name))


async def check_recorders(
    plan: Plan,
    cameras: Sequence[Camera],
    found: Mapping[str, FoundDevice],
    keyring: Keyring,
    before: Samples,
    addresses: Mapping[str, str],
    missing: Collection[str] = (),
) -> RecorderChecks:
    """Compare the channels of `cameras` now with the plan and with the sample taken `before`.

    addresses: the main stream address of each camera that told one
    missing: cameras that have a finding of their own already: that their channel does not record follows from it
    """
    after = await sample_recorders(plan, found, keyring)
    results = []
    for camera in cameras:
        sample, earlier = after[camera.recorder], before[camera.recorder]
        if isinstance(sample, DeviceError):
            results.append(ChannelResult(camera.recorder, camera.channel, camera.name, "not known", None))
            continue
        was = None if isinstance(earlier, DeviceError) else earlier.channels.get(camera.channel)
        result = _judge(camera, sample.channels.get(camera.channel), was, addresses.get(camera.name))
        results.append(replace(result, findings=()) if camera.name in missing else result)
    judged, not_found = [], []
    for name in dict.fromkeys(c.recorder for c in cameras):
        sample, ref, source = after[name], Ref(Kind.RECORDER, name), f"site.toml recorder {name}"
        if isinstance(sample, NotFoundError):
            not_found.append(finding("DIS-1", ref, str(sample), "an answer", source))
        elif not driver_of(plan, next(r for r in plan.recorders if r.name == name)).has_service:
            by_hand = finding("REC-5", ref, str(sample), "every channel looked at", source)
            judged.append(Judged(ref, frozenset({"REC-5"}), (by_hand,)))
        elif isinstance(sample, DeviceError):
            judged.append(Judged(ref, frozenset({"REC-3"}), (finding("REC-3", ref, str(sample), "an answer", source),)))
        else:
            judged.append(
                Judged(ref, frozenset({"REC-3", "REC-4", "REC-6"}), tuple(f for f in sample.findings if f.ref == ref))
            )
            judged += seen_there(ref, found[name].address) if name in found else []
            channels = {**dict.fromkeys(sample.channels, ()), **_by_channel(name, sample.findings)}
            judged += [
                Judged(Ref(Kind.RECORDER, name, f"channel {n}"), frozenset({"REC-7", "REC-8", "REC-9"}), some)
                for n, some in channels.items()
            ]
    return RecorderChecks(tuple(results), tuple(judged), tuple(not_found))


def _by_channel(recorder: str, findings: Sequence[Finding]) -> dict[int, tuple[Finding, ...]]:
    noticed: dict[int, tuple[Finding, ...]] = {}
    for item in findings:
        number = item.ref.part.removeprefix("channel ") if item.ref is not None else ""
        if number.isdigit():
            noticed[int(number)] = (*noticed.get(int(number), ()), item)
    return noticed


def _judge(camera: Camera, now: ChannelSample | None, was: ChannelSample | None, address: str | None) -> ChannelResult:
    result = ChannelResult(camera.recorder, camera.channel, camera.name, "free", None, records=False)
    if now is None or now.state is None:
        measured = "the channel is free" if now else "there is no such channel"
        item = finding("REC-2", result.ref, measured, camera.name, camera.where)
        return replace(result, findings=(item,))
    result = replace(result, state=now.state.state, stored_until=now.stored.latest)
    if address is not None and now.url != address:
        measured = f"it takes in {now.url} ({now.name or 'unnamed'})"
        item = finding("REC-2", result.ref, measured, f"{address} ({camera.name})", camera.where)
        return replace(result, findings=(item,))
    grows = (
        was is None or now.stored.latest is None or was.stored.latest is None or now.stored.latest > was.stored.latest
    )
    known = (
        now.stored.status != search.NOT_TOLD
    )  # its search service lacks the operation: then its job's word is all there is
    if now.state.state != recording_jobs.ACTIVE or (known and (now.stored.latest is None or not grows)):
        cause = now.state.error or (
            "the recorder does not tell why"
            if not known
            else "nothing is stored"
            if now.stored.latest is None
            else "what is stored does not grow"
        )
        measured = f"{camera.name}: state {now.state.state}; {cause}"
        item = finding("REC-1", result.ref, measured, "recording", camera.where)
        return replace(result, findings=(item,))
    return replace(result, records=True)


class Recording(Check):
    """Asks the recorders before and after the streams were measured: what is stored must have grown meanwhile."""

    name = "recording"
    layer = Layer.RECORDING
    codes = frozenset({"REC-1", "REC-2", "REC-3", "REC-4", "REC-5", "REC-6", "REC-7", "REC-8", "REC-9", "DIS-1"})
    doing = "asking the recorders"

    async def prepare(self, round: Round) -> None:
        round.keep(self, await sample_recorders(round.plan, round.found, round.keyring))

    async def observe(self, round: Round) -> None:
        targets = [t for t in round.targets if "main" in t.streams]
        main = {t.camera.name: recorded_url(t.camera, t.streams["main"]) for t in targets}
        missing = {u.camera.name for u in round.unresolved}
        before: Samples = round.kept(self, {})
        checks = await check_recorders(round.plan, round.cameras, round.found, round.keyring, before, main, missing)
        round.keep(self, checks)
        round.channels = checks.channels
        round.findings += checks.not_found
        for channel in round.channels:
            if channel.records is not None:
                round.observe(CHANNEL, channel.ref, "ONVIF", channel.document())

    def judge(self, round: Round) -> Iterator[Judged]:
        yield from round.kept(self, RecorderChecks(())).recorders
        missing = {u.camera.name for u in round.unresolved}
        for channel in round.channels:
            if channel.records is not None and channel.camera not in missing:
                yield Judged(channel.ref, frozenset({"REC-1", "REC-2"}), channel.findings)

    def needs(self, plan: Plan, camera: Camera) -> list[Need]:
        recorder = next(r for r in plan.recorders if r.name == camera.recorder)
        if not driver_of(plan, recorder).has_service:
            return []  # told as REC-5: a person has to look
        where = f"{camera.recorder} channel {camera.channel}"
        channel = Ref(Kind.RECORDER, camera.recorder, f"channel {camera.channel}")
        return [Need("recording never asked for", where, channel, "REC-1")]
