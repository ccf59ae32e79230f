"""Asking the recorders: does each planned channel record, the right camera, and does what is stored grow?"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import datetime

from zentrale.errors import DeviceError
from zentrale.field import scheduler
from zentrale.field.device import GONE_PATIENCE_S, Device
from zentrale.field.scheduler import Failure
from zentrale.findings import Finding, finding
from zentrale.jobs.access import find_entry
from zentrale.jobs.found import FoundDevice
from zentrale.jobs.keyring import Keyring
from zentrale.jobs.recorder_steps import RecorderChannels
from zentrale.protocols.onvif import recording
from zentrale.quantities import timestamp
from zentrale.site.model import Camera, Plan, Recorder

BUDGET_S = 240.0  # for one recorder: two requests a channel, each of which may take 12 s


@dataclass(frozen=True)
class ChannelResult:
    """One planned channel. `stored_until` is the recorder's time of the last picture it stored."""

    recorder: str
    channel: int
    camera: str
    state: str
    stored_until: datetime | None
    findings: tuple[Finding, ...] = ()

    def document(self) -> dict[str, object]:
        return {
            "recorder": self.recorder, "channel": self.channel, "camera": self.camera, "state": self.state,
            "stored_until": timestamp(self.stored_until) if self.stored_until else None,
        }  # fmt: skip


@dataclass(frozen=True)
class _Channel:
    name: str
    url: str
    state: recording.JobState | None
    stored: recording.Stored


Sample = Mapping[int, _Channel]
Samples = Mapping[str, Sample | DeviceError]


async def sample_recorders(plan: Plan, found: Mapping[str, FoundDevice], keyring: Keyring) -> Samples:
    """The state of all channels of all recorders that have cameras; an error where one could not be asked."""
    used = {c.recorder for c in plan.cameras}
    recorders = [r for r in plan.recorders if r.name in used]
    results = await scheduler.run(
        recorders, lambda r: _sample(plan, r, found.get(r.name), keyring), at_once=len(recorders) or 1,
        budget_s=keyring.budget(BUDGET_S),
    )  # fmt: skip
    return {
        r.name: DeviceError(result.message) if isinstance(result, Failure) else result
        for r, result in zip(recorders, results, strict=True)
    }


async def _sample(plan: Plan, recorder: Recorder, seen: FoundDevice | None, keyring: Keyring) -> Sample:
    if seen is None or not seen.url:
        raise DeviceError("the last discovery did not find it")
    await keyring.ready()
    async with Device(
        seen.url, keyring.rules(recorder), endpoint=seen.own_endpoint, patience_s=GONE_PATIENCE_S
    ) as client:
        await client.system_time()
        keys = keyring.keys(seen.identity, [recorder.name], plan.maker(recorder))
        entry = await find_entry(client, keyring, keys, recorder.name)
        if entry.closed:
            raise DeviceError(f"it did not let us in: {entry.told()}")
        channels = RecorderChannels(client)
        jobs = {job.recording_token: job for job in await channels.jobs()}
        uris = {receiver.token: receiver.uri for receiver in await channels.receivers()}
        sample = {}
        for number, item in enumerate(await channels.recordings(), start=1):
            job = jobs.get(item.token)
            if job is None:
                sample[number] = _Channel(item.name, "", None, recording.Stored(None, None, ""))
                continue
            state, stored = await channels.job_state(job), await channels.stored(item)
            sample[number] = _Channel(item.name, uris.get(job.receiver_token, ""), state, stored)
        return sample


async def check_recorders(
    plan: Plan,
    cameras: Sequence[Camera],
    found: Mapping[str, FoundDevice],
    keyring: Keyring,
    before: Samples,
    addresses: Mapping[str, str],
) -> list[ChannelResult]:
    """Compare the channels of `cameras` now with the plan and with the sample taken `before`.

    addresses: the main stream address of each camera that told one
    """
    after = await sample_recorders(plan, found, keyring)
    results = []
    told: set[str] = set()
    for camera in cameras:
        sample = after[camera.recorder]
        if isinstance(sample, DeviceError):
            result = ChannelResult(camera.recorder, camera.channel, camera.name, "not known", None)
            if camera.recorder not in told:
                told.add(camera.recorder)
                source = f"site.toml recorder {camera.recorder}"
                item = finding("REC-3", f"recorder {camera.recorder}", str(sample), "an answer", source)
                result = replace(result, findings=(item,))
            results.append(result)
            continue
        earlier = before[camera.recorder]
        was = None if isinstance(earlier, DeviceError) else earlier.get(camera.channel)
        results.append(_judge(camera, sample.get(camera.channel), was, addresses.get(camera.name)))
    return results


def _judge(camera: Camera, now: _Channel | None, was: _Channel | None, address: str | None) -> ChannelResult:
    subject = f"channel {camera.channel} of {camera.recorder}"
    result = ChannelResult(camera.recorder, camera.channel, camera.name, "free", None)
    if now is None or now.state is None:
        item = finding(
            "REC-2",
            subject,
            "the channel is free" if now else "there is no such channel",
            camera.name,
            camera.source,
        )
        return replace(result, findings=(item,))
    result = replace(result, state=now.state.state, stored_until=now.stored.latest)
    if address is not None and now.url != address:
        measured = f"it takes in {now.url} ({now.name or 'unnamed'})"
        return replace(
            result, findings=(finding("REC-2", subject, measured, f"{address} ({camera.name})", camera.source),)
        )
    grows = (
        was is None or now.stored.latest is None or was.stored.latest is None or now.stored.latest > was.stored.latest
    )
    if now.state.state != recording.ACTIVE or now.stored.latest is None or not grows:
        cause = now.state.error or (
            "nothing is stored" if now.stored.latest is None else "what is stored does not grow"
        )
        measured = f"{camera.name}: state {now.state.state}; {cause}"
        return replace(result, findings=(finding("REC-1", subject, measured, "recording", camera.source),))
    return result
