"""Putting a camera's main stream onto its planned channel of a recorder, over ONVIF Receiver and Recording Control."""

from __future__ import annotations

import asyncio
from collections.abc import Iterable
from urllib.parse import quote

from zentrale.errors import DeviceError
from zentrale.field.device import Device
from zentrale.jobs.steps import Step
from zentrale.protocols.http_auth import Credentials
from zentrale.protocols.onvif import recording
from zentrale.protocols.onvif.recording import Receiver, Recording, RecordingJob
from zentrale.protocols.rtsp_client import StreamAddress
from zentrale.site.model import Camera


def with_credentials(url: str, credentials: Credentials) -> str:
    """The address with user and password, as a receiver needs it. Never to be shown or logged."""
    scheme, _, rest = url.partition("://")
    return f"{scheme}://{quote(credentials.user, safe='')}:{quote(credentials.password, safe='')}@{rest}"


def recorded_address(camera: Camera, address: StreamAddress) -> str:
    """What the recorder is given: the stream at the address where the plan puts the camera, not where a device says."""
    return address.at(camera.address) if camera.address else address.url


class RecorderChannels:
    """The channels of one recorder. Cameras take turns: a recorder is asked and changed by one at a time."""

    def __init__(self, client: Device) -> None:
        self.client = client
        self.turn = asyncio.Lock()

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

    async def step(self, number: int, camera: str, place: str, url: str, credentials: Credentials) -> Step:
        """The step that makes channel `number` record `url`. Call it, and apply it, within `turn`."""
        item = await self.channel(number)
        jobs, receivers = await self.jobs(), await self.receivers()
        job = next((j for j in jobs if item.token and j.recording_token == item.token), None)
        receiver = next((r for r in receivers if job and r.token == job.receiver_token), None)
        await self._check_free(number, camera, url, item, receiver, jobs, receivers)
        after = f"channel {number}: {url}"
        right = job is not None and receiver is not None and receiver.uri == url and item.name == camera
        state = await self.job_state(job) if job is not None else None
        if right and state is not None and state.state != recording.ERROR:
            return Step("channel", after, after, _nothing)
        wanted_uri = with_credentials(url, credentials)

        async def apply() -> None:
            await self._apply(number, camera, place, url, wanted_uri, job, receiver)

        if state is not None and state.state == recording.ERROR:
            before = f"channel {number}: {item.name or 'unnamed'}, error: {state.error or 'not told'}"
        else:
            before = f"channel {number}: {item.name or 'free'}"
        return Step("channel", before, after, apply)

    async def _check_free(
        self,
        number: int,
        camera: str,
        url: str,
        item: Recording,
        receiver: Receiver | None,
        jobs: Iterable[RecordingJob],
        receivers: Iterable[Receiver],
    ) -> None:
        """Never take a channel from something else, and never record a camera twice."""
        if receiver is not None and receiver.uri != url and item.name != camera:
            raise DeviceError(
                f"channel {number} is taken by {item.name or receiver.uri}; free it on the recorder first"
            )
        uris = {r.token: r.uri for r in receivers}
        for other in jobs:
            if other.recording_token != item.token and uris.get(other.receiver_token) == url:
                names = [r.token for r in await self.recordings()]
                where = names.index(other.recording_token) + 1 if other.recording_token in names else "another channel"
                raise DeviceError(f"it is on channel {where} already, planned is {number}; free that channel first")

    async def _apply(
        self,
        number: int,
        camera: str,
        place: str,
        url: str,
        wanted_uri: str,
        job: RecordingJob | None,
        receiver: Receiver | None,
    ) -> None:
        item = await self._ensure_recording(number)
        await self.client.call("trc", recording.set_recording(Recording(item.token, camera, place, url)))
        if receiver is None:
            # One that an interrupted run left behind is taken up.
            used = {j.receiver_token for j in await self.jobs()}
            receiver = next((r for r in await self.receivers() if r.uri == url and r.token not in used), None)
        if receiver is None:
            token = recording.parse_create_receiver(
                await self.client.call("trv", recording.create_receiver(wanted_uri))
            )
        else:
            token = receiver.token
            await self.client.call("trv", recording.configure_receiver(token, wanted_uri))
        if job is not None and job.receiver_token != token:
            await self.client.call("trc", recording.delete_job(job.token))
            job = None
        if job is None:
            await self.client.call("trc", recording.create_job(RecordingJob("", item.token, token)))

    async def _ensure_recording(self, number: int) -> Recording:
        while True:
            item = await self.channel(number)
            if item.token:
                return item
            await self.client.call("trc", recording.create_recording(Recording("")))


async def _nothing() -> None:
    """The step of a channel that is as planned."""
