"""A recorder's channels, as it tells them: recordings, the jobs that fill them, the receivers that pull the streams."""

from __future__ import annotations

from collections.abc import Sequence
from urllib.parse import quote

from zentrale.errors import DeviceError
from zentrale.field.device import Device
from zentrale.findings import Finding, finding
from zentrale.protocols.http_auth import Credentials
from zentrale.protocols.onvif import recording
from zentrale.protocols.onvif.recording import Receiver, Recording, RecordingJob
from zentrale.subjects import Kind, Ref


def with_credentials(url: str, credentials: Credentials) -> str:
    """The address with user and password, as a receiver needs it. Never to be shown or logged."""
    scheme, _, rest = url.partition("://")
    return f"{scheme}://{quote(credentials.user, safe='')}:{quote(credentials.password, safe='')}@{rest}"


class RecorderChannels:
    """The channels of one recorder."""

    def __init__(self, client: Device) -> None:
        self.client = client

    async def channel(self, number: int) -> Recording:
        """The recording that is channel `number`; made where the recorder makes them as needed."""
        recordings = await self.recordings()
        if number <= len(recordings):
            return recordings[number - 1]
        limits = recording.parse_capabilities(
            await self.client.call("trc", recording.ask("recording", "GetServiceCapabilities"))
        )
        if not limits.dynamic_recordings or number > (limits.max_recordings or number):
            raise DeviceError(
                f"it has {max(len(recordings), limits.max_recordings)} channels; channel {number} is planned"
            )
        return Recording("")

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


def doubles(recordings: Sequence[Recording], jobs: Sequence[RecordingJob], receivers: Sequence[Receiver]) -> list[str]:
    """What a recorder holds twice, in words: two jobs for one channel, one camera on two channels, unused receivers."""
    numbers = {r.token: n for n, r in enumerate(recordings, start=1)}
    uris = {r.token: r.uri for r in receivers}
    told = []
    by_recording: dict[str, int] = {}
    by_uri: dict[str, list[str]] = {}
    for job in jobs:
        by_recording[job.recording_token] = by_recording.get(job.recording_token, 0) + 1
        uri = uris.get(job.receiver_token)
        if uri:
            by_uri.setdefault(uri, []).append(str(numbers.get(job.recording_token, "?")))
    told += [f"{n} jobs for channel {numbers.get(token, '?')}" for token, n in by_recording.items() if n > 1]
    told += [f"{uri} on channels {', '.join(where)}" for uri, where in by_uri.items() if len(set(where)) > 1]
    used = {j.receiver_token for j in jobs}
    spare = [r.uri for r in receivers if r.token not in used and r.uri in by_uri]
    told += [f"a second receiver of {uri}, which no channel uses" for uri in dict.fromkeys(spare)]
    return told


def doubles_finding(recorder: str, told: Sequence[str]) -> Finding | None:
    if not told:
        return None
    return finding("REC-4", Ref(Kind.RECORDER, recorder), "; ".join(told), "each camera once", "its own lists")
