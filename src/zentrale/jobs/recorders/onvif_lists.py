"""A recorder's channels, as it tells them: recordings, the jobs that fill them, the receivers that pull the streams."""

from __future__ import annotations

import asyncio
from collections.abc import Sequence
from dataclasses import dataclass
from urllib.parse import quote

from zentrale.errors import DeviceError
from zentrale.field.device import Device
from zentrale.findings import Finding, finding
from zentrale.jobs.recorders.book import ChannelBook
from zentrale.jobs.recorders.numbering import Numbering
from zentrale.protocols.http_auth import Credentials
from zentrale.protocols.onvif import recording
from zentrale.protocols.onvif.recording import Receiver, Recording, RecordingJob
from zentrale.subjects import Kind, Ref


def with_credentials(url: str, credentials: Credentials) -> str:
    """The address with user and password, as a receiver needs it. Never to be shown or logged."""
    scheme, _, rest = url.partition("://")
    return f"{scheme}://{quote(credentials.user, safe='')}:{quote(credentials.password, safe='')}@{rest}"


@dataclass(frozen=True)
class Held:
    """What a recorder holds for one channel. `item` without a token: there is no recording for it yet."""

    item: Recording
    job: RecordingJob | None = None
    receiver: Receiver | None = None

    @property
    def url(self) -> str:
        """Whither its receiver points; empty where it points nowhere."""
        return self.receiver.uri if self.receiver is not None and recording.points_somewhere(self.receiver.uri) else ""


@dataclass(frozen=True)
class Lists:
    """All of a recorder's lists, of one moment."""

    numbering: Numbering
    jobs: tuple[RecordingJob, ...]
    receivers: tuple[Receiver, ...]

    def held(self, number: int) -> Held:
        """What it holds for a channel; of several jobs for one recording the one that has a receiver."""
        item = self.numbering.recordings.get(number)
        if item is None:
            return Held(Recording(""))
        receivers = {r.token: r for r in self.receivers}
        own = [j for j in self.jobs if j.recording_token == item.token]
        job = next((j for j in own if j.receiver_token in receivers), next(iter(own), None))
        return Held(item, job, receivers.get(job.receiver_token) if job is not None and not job.profile else None)

    def number_of(self, token: str) -> int | None:
        return self.numbering.number_of(token)


class RecorderChannels:
    """The channels of one recorder, numbered as its `book` has it."""

    def __init__(self, client: Device, book: ChannelBook) -> None:
        self.client = client
        self.book = book

    async def lists(self) -> Lists:
        """Everything at once, with the number of each channel. Raises DeviceError."""
        recordings, jobs, receivers = await self.recordings(), await self.jobs(), await self.receivers()
        numbering = await asyncio.to_thread(self.book.numbered, recordings, {j.recording_token for j in jobs})
        return Lists(numbering, tuple(jobs), tuple(receivers))

    async def check_room(self, number: int, lists: Lists) -> None:
        """Raises DeviceError where channel `number` is not there and cannot be made."""
        gone = next((k for k in lists.numbering.gone if k.number == number), None)
        limits = recording.parse_capabilities(
            await self.client.call("trc", recording.ask("recording", "GetServiceCapabilities"))
        )
        if limits.dynamic_recordings and number <= (limits.max_recordings or number):
            return
        if gone is not None:
            raise DeviceError(f"its recording {gone.token}, which was channel {number}, is in its list no more")
        have = max(len(lists.numbering.channels), limits.max_recordings)
        raise DeviceError(f"it has {have} channels; channel {number} is planned")

    async def recordings(self) -> list[Recording]:
        return recording.parse_recordings(await self.client.call("trc", recording.ask("recording", "GetRecordings")))

    async def jobs(self) -> list[RecordingJob]:
        return recording.parse_jobs(await self.client.call("trc", recording.ask("recording", "GetRecordingJobs")))

    async def receivers(self) -> list[Receiver]:
        return recording.parse_receivers(await self.client.call("trv", recording.ask("receiver", "GetReceivers")))

    async def job_state(self, job: RecordingJob) -> recording.JobState:
        return recording.parse_job_state(await self.client.call("trc", recording.get_job_state(job.token)))

    async def stored(self, item: Recording) -> recording.Stored:
        answer = await self.client.call("tse", recording.get_recording_information(item.token))
        return recording.parse_information(answer)


def doubles(lists: Lists) -> list[str]:
    """What a recorder holds twice, in words: two jobs for one channel, one camera on two channels, unused receivers."""
    numbers = {k.token: n for n, k in lists.numbering.channels.items()}
    uris = {r.token: r.uri for r in lists.receivers if recording.points_somewhere(r.uri)}
    parts = []
    by_recording: dict[str, int] = {}
    by_uri: dict[str, list[str]] = {}
    for job in lists.jobs:
        by_recording[job.recording_token] = by_recording.get(job.recording_token, 0) + 1
        uri = uris.get(job.receiver_token)
        if uri:
            by_uri.setdefault(uri, []).append(str(numbers.get(job.recording_token, "?")))
    parts += [f"{n} jobs for channel {numbers.get(token, '?')}" for token, n in by_recording.items() if n > 1]
    parts += [f"{uri} on channels {', '.join(where)}" for uri, where in by_uri.items() if len(set(where)) > 1]
    used = {j.receiver_token for j in lists.jobs}
    spare = [uris[r.token] for r in lists.receivers if r.token not in used and uris.get(r.token) in by_uri]
    parts += [f"a second receiver of {uri}, which no channel uses" for uri in dict.fromkeys(spare)]
    return parts


def doubles_finding(recorder: str, doubles: Sequence[str]) -> Finding | None:
    if not doubles:
        return None
    return finding("REC-4", Ref(Kind.RECORDER, recorder), "; ".join(doubles), "each camera once", "its own lists")
