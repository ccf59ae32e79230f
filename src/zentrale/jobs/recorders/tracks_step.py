"""What of a camera goes onto its channel beside the main stream's picture: its sub stream, and sound."""

from __future__ import annotations

from dataclasses import replace
from typing import NamedTuple

from zentrale.errors import DeviceError, NotOfferedError
from zentrale.jobs.known.step_form import Step
from zentrale.jobs.recorders.channel_holds import TracksState, further_source, tracks_of
from zentrale.jobs.recorders.onvif_lists import Held, Lists, RecorderChannels, with_credentials
from zentrale.jobs.recorders.passes import Passes
from zentrale.protocols.onvif import recording, recording_jobs
from zentrale.protocols.onvif.recording import Recording
from zentrale.protocols.onvif.recording_jobs import AUDIO, FIRST_AUDIO, FIRST_VIDEO, VIDEO, JobSource


class Wanted(NamedTuple):
    """What the plan wants on the channel: sound (None: as it is), and the sub stream's address without a password, empty where
    that is not recorded.
    """

    sound: bool | None = None
    sub: str = ""


class Tracks(Step[TracksState]):
    """Run it within the recorder's turn, once the camera has its channel."""

    name = "tracks"
    at_recorder = True
    needs = ("channel",)
    place = "recording: streams and sound"

    def __init__(self, channels: RecorderChannels, number: int, camera: str, wanted: Wanted, passes: Passes) -> None:
        super().__init__(channels.client)
        self.channels = channels
        self._number = number
        self._camera = camera
        self._wanted = wanted
        self._passes = passes
        self._held = Held(Recording(""))
        self._lists: Lists | None = None
        self._made_a_track = False

    def aim(self) -> str:
        return ", ".join(filter(None, (self._sub_told(self._wanted.sub), _sound_told(self._wanted.sound))))

    async def look(self) -> TracksState:
        lists = self._lists = await self.channels.lists()
        self._held = lists.held(self._number)
        return tracks_of(lists, self._number)

    def wanted(self, now: TracksState) -> TracksState:
        sound = now.sound if self._wanted.sound is None else self._wanted.sound
        return TracksState(self._number, sound, self._wanted.sub)

    async def apply(self, now: TracksState, wanted: TracksState) -> None:
        job = self._held.job
        if job is None:
            raise DeviceError(f"channel {self._number} has no recording job")
        if not job.sources or job.sources[0].profile:
            raise NotOfferedError("what its job records comes from no receiver")
        further, rest = further_source(job), list(job.sources[2:])
        main = job.sources[0]
        if now.sound != wanted.sound:
            main = await self._with_sound(main, sound=wanted.sound)
        if wanted.sub and now.sub != wanted.sub:
            further = await self._with_sub(further, wanted.sub)
        leaves = further if not wanted.sub else None
        sources = [main, *([further] if further and not leaves else []), *rest]
        changed = replace(job, sources=tuple(sources))
        if changed.sources != job.sources:
            await self.channels.write("trc", recording_jobs.set_job(changed))
        if leaves is not None:
            await self._clear_up(leaves.token)

    async def _with_sound(self, main: JobSource, *, sound: bool) -> JobSource:
        item = self._held.item
        tracks = item.tracks_of(AUDIO) or ([] if item.tracks else [FIRST_AUDIO])
        if not sound:
            gone = {*tracks, FIRST_AUDIO}
            return replace(main, tracks=tuple(t for t in main.tracks if t[1] not in gone))
        track = tracks[0] if tracks else await self._make_track(AUDIO)
        return replace(main, tracks=(*main.tracks, ("audio", track)))

    async def _with_sub(self, further: JobSource | None, url: str) -> JobSource:
        credentials = self._passes.of("", self._camera) if self._passes.current is None else self._passes.current
        if credentials is None:
            raise DeviceError("the password for it is not in the vault")
        if not self.client.url.startswith("https:"):
            self.client.rules.check_readable(self.client.host, credentials)
        uri = with_credentials(url, credentials)
        assert self._lists is not None and self._held.job is not None
        if further is not None:
            held = next((r for r in self._lists.receivers if r.token == further.token), None)
            if held is not None:
                await self.channels.write("trv", recording.configure_receiver(replace(held, uri=uri)))
                return further
        taken = {track for source in self._held.job.sources for _, track in source.tracks} or {FIRST_VIDEO}
        free = [t for t in self._held.item.tracks_of(VIDEO) if t not in taken]
        track = free[0] if free else await self._make_track(VIDEO)
        used = {s.token for j in self._lists.jobs for s in j.sources}
        left = next((r for r in self._lists.receivers if r.uri == url and r.token not in used), None)
        token = left.token if left is not None else await self._make_receiver(uri)
        return JobSource(token, tracks=(("video", track),))

    async def _make_track(self, kind: str) -> str:
        """Asked first, since what it answers to one track too many is told less clearly."""
        limits, options = await self.channels.limits(), await self.channels.options(self._held.item.token)
        spare = options.spare_audio if kind == AUDIO else options.spare_video
        if not limits.dynamic_tracks or spare == 0:
            have = len(self._held.item.tracks_of(kind))
            why = "it makes none (DynamicTracks)" if not limits.dynamic_tracks else "no more fit in"
            raise NotOfferedError(f"its recording has {have} tracks for {kind.lower()}, and {why}")
        self._made_a_track = True
        request = recording_jobs.create_track(self._held.item.token, kind)
        token = recording_jobs.parse_create_track(await self.channels.write("trc", request))
        if not token:
            raise DeviceError("it answered OK to CreateTrack, and told no token")
        return token

    async def _make_receiver(self, uri: str) -> str:
        token = recording.parse_create_receiver(await self.channels.write("trv", recording.create_receiver(uri)))
        if not token:
            raise DeviceError("it answered OK to CreateReceiver, and told no token")
        return token

    async def _clear_up(self, token: str) -> None:
        lists = await self.channels.again("jobs", "receivers")
        used = {source.token for job in lists.jobs for source in job.sources}
        if token not in used and token in {r.token for r in lists.receivers}:
            await self.channels.write("trv", recording.delete_receiver(token))

    async def read_back(self, wanted: TracksState) -> TracksState:
        if self._made_a_track:
            self.channels.forget()
        else:
            await self.channels.again("jobs", "receivers")
        return await self.look()

    def shown(self, state: TracksState) -> str:
        return f"{self._sub_told(state.sub)}, {_sound_told(state.sound)}"

    def _sub_told(self, url: str) -> str:
        return f"sub stream {url}" if url else "no sub stream"


def _sound_told(sound: bool | None) -> str:
    return "" if sound is None else f"{'with' if sound else 'without'} sound"
