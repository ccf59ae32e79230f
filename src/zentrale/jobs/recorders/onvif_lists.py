"""A recorder's channels, as it tells them: recordings, the jobs that fill them, the receivers that pull the streams."""

from __future__ import annotations

import asyncio
import time
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Literal
from urllib.parse import quote

from zentrale.errors import DeviceError, NotOfferedError, RefusedError, UnreachableError
from zentrale.field.device import Device
from zentrale.findings import Finding, finding
from zentrale.jobs.recorders.book import ChannelBook
from zentrale.jobs.recorders.numbering import Numbering
from zentrale.jobs.recorders.searching import recordings_found
from zentrale.protocols.http_auth import Credentials
from zentrale.protocols.onvif import recording, recording_jobs, schedule, search
from zentrale.protocols.onvif.recording import Receiver, RecorderLimits, Recording
from zentrale.protocols.onvif.recording_jobs import RecordingJob, RecordingOptions
from zentrale.protocols.onvif.schedule import Schedule
from zentrale.protocols.onvif.search import StoredVideo
from zentrale.protocols.xml import Element
from zentrale.subjects import Kind, Ref

_KEPT_S = 5.0
_MOST_PAGES = 16  # of a list of schedules


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
    recordings: tuple[Recording, ...]
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

    def further(self, held: Held) -> list[Receiver]:
        """What a channel takes in beside its main stream."""
        tokens = {s.token for s in (held.job.sources[1:] if held.job is not None else ()) if not s.profile}
        return [r for r in self.receivers if r.token in tokens]

    def number_of(self, token: str) -> int | None:
        return self.numbering.number_of(token)


class RecorderChannels:
    """The channels of one recorder, numbered as its `book` has it.

    Its lists are as long as it has channels, so what was just asked is not asked again for the next camera: they are kept for a
    few seconds, and forgotten whenever something is written, or is to be read back.
    """

    def __init__(self, client: Device, book: ChannelBook) -> None:
        self.client = client
        self.book = book
        self._kept: tuple[float, Lists] | None = None
        self._known: Lists | None = None  # as they were told last, whatever was written since
        self._limits: RecorderLimits | None = None
        self._schedules: list[Schedule] | None = None
        self._tells_no_videos = False

    async def write(self, service: str, request: Element) -> Element:
        """Raises DeviceError."""
        self.forget()
        try:
            return await self.client.call(service, request)
        finally:
            self.forget()

    def forget(self) -> None:
        """What is asked next is asked of the recorder."""
        self._kept = self._schedules = None

    async def lists(self) -> Lists:
        """Everything at once, with the number of each channel. Raises DeviceError."""
        if self._kept is not None and time.monotonic() - self._kept[0] < _KEPT_S:
            return self._kept[1]
        return await self.again("recordings", "jobs", "receivers")

    async def again(self, *which: Literal["recordings", "jobs", "receivers"]) -> Lists:
        """Those lists anew that a change may show in; the others are as they were. Raises DeviceError."""
        before = self._known
        wanted = {"recordings", "jobs", "receivers"} if before is None else set(which)
        recordings = await self.recordings() if "recordings" in wanted or before is None else before.recordings
        jobs = await self.jobs() if "jobs" in wanted or before is None else before.jobs
        receivers = await self.receivers() if "receivers" in wanted or before is None else before.receivers
        numbering = await asyncio.to_thread(self.book.numbered, recordings, {j.recording_token for j in jobs})
        self._known = Lists(numbering, tuple(recordings), tuple(jobs), tuple(receivers))
        self._kept = time.monotonic(), self._known
        return self._known

    async def numbering(self) -> Numbering:
        """Which recording is which channel, also of a recorder that lets nobody tell it what to record. Raises DeviceError."""
        recordings = await self.recordings()
        try:
            jobs = await self.jobs()
        except NotOfferedError:
            jobs = []
        return await asyncio.to_thread(self.book.numbered, recordings, {j.recording_token for j in jobs})

    async def limits(self) -> RecorderLimits:
        """What its service takes; asked once."""
        if self._limits is None:
            try:
                answer = await self.client.call("trc", recording.ask("recording", "GetServiceCapabilities"))
                self._limits = recording.parse_capabilities(answer)
            except NotOfferedError:
                self._limits = RecorderLimits(0, 0, dynamic_recordings=False)
        return self._limits

    async def options(self, token: str) -> RecordingOptions:
        """What more a recording takes; nothing is known where it does not say."""
        if not (await self.limits()).options:
            return RecordingOptions()
        try:
            return recording_jobs.parse_options(await self.client.call("trc", recording_jobs.get_options(token)))
        except NotOfferedError:
            return RecordingOptions()

    async def schedules(self) -> list[Schedule]:
        """Raises NotOfferedError where it has no such service."""
        if self._schedules is None:
            found, start = [], ""
            for _ in range(_MOST_PAGES):
                some, start = schedule.parse_list(await self.client.call("tsc", schedule.get_list(start)))
                found += some
                if not start or not some:
                    break
            self._schedules = found
        return self._schedules

    async def check_room(self, number: int, lists: Lists) -> None:
        """Raises DeviceError where channel `number` is not there and cannot be made, or takes no job."""
        gone = next((k for k in lists.numbering.gone if k.number == number), None)
        limits, item = await self.limits(), lists.numbering.recordings.get(number)
        if item is not None or (limits.dynamic_recordings and number <= (limits.max_recordings or number)):
            if limits.max_jobs and len(lists.jobs) >= limits.max_jobs:
                raise DeviceError(f"it takes {limits.max_jobs} recording jobs (MaxRecordingJobs), and has as many")
            if item is not None and (await self.options(item.token)).spare_jobs == 0:
                raise DeviceError(f"its recording {item.token}, channel {number}, takes no job (GetRecordingOptions)")
            return
        if gone is not None:
            raise DeviceError(f"its recording {gone.token}, which was channel {number}, is in its list no more")
        have = max(len(lists.numbering.channels), limits.max_recordings)
        raise DeviceError(f"it has {have} channels; channel {number} is planned")

    async def recordings(self) -> list[Recording]:
        """By Recording Control, else by its search."""
        try:
            return recording.parse_recordings(
                await self.client.call("trc", recording.ask("recording", "GetRecordings"))
            )
        except NotOfferedError as error:
            try:
                return await recordings_found(self.client)
            except NotOfferedError:
                raise error from None

    async def jobs(self) -> list[RecordingJob]:
        return recording_jobs.parse_jobs(await self.client.call("trc", recording.ask("recording", "GetRecordingJobs")))

    async def receivers(self) -> list[Receiver]:
        """None where it has no such service: what it records comes from profiles of its own."""
        try:
            return recording.parse_receivers(await self.client.call("trv", recording.ask("receiver", "GetReceivers")))
        except NotOfferedError:
            return []

    async def job_state(self, job: RecordingJob) -> recording_jobs.JobState:
        return recording_jobs.parse_job_state(await self.client.call("trc", recording_jobs.get_job_state(job.token)))

    async def stored(self, item: Recording) -> search.Stored:
        answer = await self.client.call("tse", search.get_recording_information(item.token))
        return search.parse_information(answer)

    async def videos(self, item: Recording, latest: datetime | None) -> tuple[StoredVideo, ...]:
        """The pictures that were stored last; none where it does not tell. A recorder that lacks it is asked once."""
        if latest is None or self._tells_no_videos:
            return ()
        try:
            answer = await self.client.call("tse", search.get_media_attributes(item.token, latest))
        except NotOfferedError:
            self._tells_no_videos = True
            return ()
        except (RefusedError, UnreachableError):
            raise
        except DeviceError:
            return ()  # optional, and not everywhere well kept
        return tuple(search.parse_media_attributes(answer))


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
