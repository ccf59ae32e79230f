"""The channel of a camera at a recorder's own port: the recorder takes it in by itself, and is told only whose it is."""

from __future__ import annotations

from dataclasses import replace

from zentrale.errors import DeviceError
from zentrale.jobs.known.step_form import Step
from zentrale.jobs.recorders.channel_step import Channel, ChannelState
from zentrale.jobs.recorders.onvif_lists import Held, RecorderChannels
from zentrale.protocols.onvif import recording, recording_jobs
from zentrale.protocols.onvif.recording import Recording


class OwnChannel(Step[ChannelState]):
    """Run it within the recorder's turn. Its source stays as the recorder has made it; port: the recorder's, for messages"""

    name = Channel.name

    def __init__(self, channels: RecorderChannels, number: int, camera: str, shows: str, port: int) -> None:
        super().__init__(channels.client)
        self.channels = channels
        self._number = number
        self._camera = camera
        self._shows = shows
        self._port = port
        self._held = Held(Recording(""))

    async def look(self) -> ChannelState:
        lists = await self.channels.lists()
        held = self._held = lists.held(self._number)
        if held.job is None or not (held.url or held.job.profile or held.job.mode == recording_jobs.ACTIVE):
            raise DeviceError(
                f"channel {self._number} takes nothing in: look at the cable and the light of port {self._port} at the recorder"
            )
        return ChannelState(self._number, held.item.name, held.item.location, held.url, held.job.mode)

    def wanted(self, now: ChannelState) -> ChannelState:
        return replace(now, camera=self._camera, location=self._shows, mode=recording_jobs.ACTIVE)

    def holds(self, now: ChannelState, wanted: ChannelState) -> bool:
        """The place in words is written along, and not changed for its own sake: recorders shorten it. From where it takes its
        camera in is its own.
        """
        return replace(now, location="", url="") == replace(wanted, location="", url="")

    async def apply(self, now: ChannelState, wanted: ChannelState) -> None:
        if (now.camera, now.location) != (wanted.camera, wanted.location):
            named = replace(self._held.item, name=wanted.camera, location=wanted.location)
            await self.channels.write("trc", recording.set_recording(named))
        if self._held.job is not None and now.mode != wanted.mode:
            await self.channels.write("trc", recording_jobs.set_job_mode(self._held.job.token, wanted.mode))

    async def read_back(self, wanted: ChannelState) -> ChannelState:
        await self.channels.again("recordings", "jobs", "receivers")
        return await self.look()

    def shown(self, state: ChannelState) -> str:
        idle = "" if state.mode == recording_jobs.ACTIVE else f", {state.mode}"
        return f"channel {state.number}: {state.camera or 'unnamed'}, at its own port {self._port}{idle}"
