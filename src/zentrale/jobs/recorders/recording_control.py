"""A recorder with the ONVIF Receiver, Recording Control and Recording Search services."""

from __future__ import annotations

from zentrale.field.device import Device
from zentrale.jobs.recorders.driver import ChannelSample, Driver, Sample
from zentrale.jobs.recorders.onvif_lists import RecorderChannels, doubles
from zentrale.jobs.recorders.passes import Passes
from zentrale.jobs.steps.channel import Channel
from zentrale.protocols.onvif import recording
from zentrale.site.model import Camera


class OnvifRecorder(Driver):
    kind = "onvif"

    def __init__(self, client: Device | None) -> None:
        super().__init__(client)
        assert client is not None
        self.lists = RecorderChannels(client)

    def give(self, camera: Camera, url: str, passes: Passes) -> Channel:
        return Channel(self.lists, camera.channel, camera.name, camera.shows, url, passes)

    async def sample(self) -> Sample:
        jobs, receivers, recordings = (
            await self.lists.jobs(), await self.lists.receivers(), await self.lists.recordings(),
        )  # fmt: skip
        by_recording = {job.recording_token: job for job in jobs}
        uris = {receiver.token: receiver.uri for receiver in receivers}
        channels = {}
        for number, item in enumerate(recordings, start=1):
            job = by_recording.get(item.token)
            if job is None:
                channels[number] = ChannelSample(item.name, "", None, recording.Stored(None, None, ""))
                continue
            state, stored = await self.lists.job_state(job), await self.lists.stored(item)
            channels[number] = ChannelSample(item.name, uris.get(job.receiver_token, ""), state, stored)
        return Sample(channels, tuple(doubles(recordings, jobs, receivers)))

    async def doubles(self) -> tuple[str, ...]:
        lists = await self.lists.recordings(), await self.lists.jobs(), await self.lists.receivers()
        return tuple(doubles(*lists))
