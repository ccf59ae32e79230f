"""Putting a camera's main stream onto its planned channel of a recorder, over ONVIF Receiver and Recording Control."""

from __future__ import annotations

import asyncio
from collections.abc import Awaitable, Callable, Collection, Mapping
from dataclasses import dataclass, replace
from datetime import datetime
from urllib.parse import urlsplit

from zentrale.errors import DeviceError, NotOfferedError, UnreachableError
from zentrale.jobs.known.step_form import Step
from zentrale.jobs.recorders.onvif_lists import Held, Lists, RecorderChannels, with_credentials
from zentrale.jobs.recorders.passes import Passes
from zentrale.protocols.onvif import recording, recording_jobs
from zentrale.protocols.onvif.recording import Receiver, Recording
from zentrale.protocols.onvif.recording_jobs import FIRST_VIDEO, VIDEO, JobSource, RecordingJob
from zentrale.protocols.xml import Element

_LOOKS, _LOOK_EVERY_S = 6, 3.0  # after an answer that did not come: a slow recorder has made it by then


@dataclass(frozen=True)
class ChannelState:
    """What channel `number` records: the camera's name as the recorder has it, its stream's URL without a password, the mode
    of its job (Active, Idle; empty where there is none), and what the job says is wrong.

    user, key: the account it was given last, and the fingerprint of its password; empty where no run of ours gave it one
    """

    number: int
    camera: str = ""
    location: str = ""
    url: str = ""
    mode: str = ""
    error: str = ""
    user: str = ""
    key: str = ""


class Channel(Step[ChannelState]):
    """Run it within the recorder's turn: channels are made and given by number.

    elsewhere: cameras that have, or are about to get, their own channel: what is left of them on this one is taken over. With
               this camera itself among them it may still be on another one
    """

    name = "channel"

    def __init__(
        self,
        channels: RecorderChannels,
        number: int,
        camera: str,
        place: str,
        url: str,
        passes: Passes,
        elsewhere: Collection[str] = (),
    ) -> None:
        self.channels = channels
        super().__init__(channels.client)
        self._number = number
        self._camera = camera
        self._place = place
        self._url = url
        self._passes = passes
        self._given = passes.given
        self._elsewhere = elsewhere
        self._held = Held(Recording(""))
        self._lists: Lists | None = None

    @property
    def held(self) -> Held:
        """What the channel held when it was looked at."""
        return self._held

    async def look(self) -> ChannelState:
        lists = self._lists = await self.channels.lists()
        held = self._held = lists.held(self._number)
        if held.job is None and self._url:
            await self.channels.check_room(self._number, lists)
        if self._url and held.url != self._url:
            await self._check_free(held)
            if self._camera not in self._elsewhere:
                self._check_not_elsewhere(lists)
        state = await self.channels.job_state(held.job) if held.job is not None and held.url else None
        error = (state.error or "not told") if state is not None and state.state == recording_jobs.ERROR else ""
        mode = held.job.mode if held.job is not None and held.url else ""
        own = held.url and (held.url == self._url or held.item.name == self._camera)
        given = self._given if own else ("", "")
        return ChannelState(self._number, held.item.name, held.item.location, held.url, mode, error, *given)

    async def _check_free(self, held: Held) -> None:
        """Raises DeviceError where it records somebody else's stream, or points at it. A job that idles, and a receiver that
        points nowhere, are how most recorders ship: they are used.
        """
        job, name = held.job, held.item.name
        if job is None:
            return
        other = (
            "plan another channel"
            if job.profile
            else "plan another channel, or free this one in the recorder's own page"
        )
        if job.profile:
            raise DeviceError(
                f"channel {self._number} records a picture of the recorder's own (profile {job.receiver_token}); {other}"
            )
        if held.url and name != self._camera and name not in self._elsewhere:
            raise DeviceError(f"channel {self._number} is taken: it takes in {held.url} ({name or 'unnamed'}); {other}")
        if not held.url and job.mode == recording_jobs.ACTIVE:
            told = (await self.channels.job_state(job)).state
            if told in (recording_jobs.ACTIVE, "PartiallyActive"):
                raise DeviceError(
                    f"channel {self._number} is taken: it records ({told}), and does not tell from where; {other}"
                )

    async def recording_state(self) -> tuple[str, datetime | None]:
        """What the recorder says of the channel's job (Active where it records, else with its own words), and until when it
        has pictures; None where it does not tell.
        """
        await self.look()
        if self._held.job is None:
            return "no job", None
        told = await self.channels.job_state(self._held.job)
        try:
            latest = (await self.channels.stored(self._held.item)).latest
        except NotOfferedError:
            latest = None
        return f"{told.state}: {told.error}" if told.error else told.state, latest

    def _check_not_elsewhere(self, lists: Lists) -> None:
        """Never record a camera twice."""
        uris = {r.token: r.uri for r in lists.receivers}
        for other in lists.jobs:
            if other.recording_token != self._held.item.token and uris.get(other.receiver_token) == self._url:
                number = lists.number_of(other.recording_token)
                where = f"channel {number}" if number is not None else "another channel"
                raise DeviceError(f"it is on {where} already, planned is {self._number}; free that channel first")

    def freed(self) -> ChannelState:
        """The channel as it was before anything was given to it: with its own name."""
        kept = self._lists.numbering.channels.get(self._number) if self._lists else None
        return ChannelState(self._number, kept.name if kept else "")

    def facts(self) -> Mapping[str, object]:
        """Which of the recorder's own things the channel is, and by which rule."""
        held = self._held
        return {
            "recording_name": held.item.name or None, "recording_token": held.item.token or None,
            "receiver_token": held.receiver.token if held.receiver else None, "source_id": held.item.source_id or None,
            "numbered": self._rule(),
        }  # fmt: skip

    def remark(self) -> str:
        if not self._held.item.token:
            return ""
        called = f' "{self._held.item.name}"' if self._held.item.name else ""
        return f"its recording{called} ({self._held.item.token}), {self._rule()}"

    def _rule(self) -> str:
        numbering = self._lists.numbering if self._lists else None
        kept = numbering.channels.get(self._number) if numbering else None
        return kept.rule.value if kept else ""

    async def read_back(self, wanted: ChannelState) -> ChannelState:
        """What it was told to record. Whether it does, and why not, `verify` asks: pulling takes a recorder a while."""
        await self.channels.again("recordings", "jobs", "receivers")
        return replace(await self.look(), error="")

    def wanted(self, now: ChannelState) -> ChannelState:
        user, key = self._passes.wanted if self._url else ("", "")
        return ChannelState(self._number, self._camera, self._place, self._url, recording_jobs.ACTIVE, "", user, key)

    def holds(self, now: ChannelState, wanted: ChannelState) -> bool:
        """The place in words is written along, and not changed for its own sake: recorders shorten it."""
        return replace(now, location="") == replace(wanted, location="")

    async def apply(self, now: ChannelState, wanted: ChannelState) -> None:
        held = self._held
        if not wanted.url:
            await self._free(wanted)
            return
        credentials = self._passes.of(wanted.key, wanted.camera)
        if credentials is None:
            raise DeviceError("the password for it is not in the vault")
        if not self.client.url.startswith("https:"):
            self.client.rules.check_readable(self.client.host, credentials)
        item = held.item if held.item.token else await self._make_recording()
        uri = with_credentials(wanted.url, credentials)
        configured = replace(item, name=wanted.camera, location=wanted.location, address=wanted.url)
        await self.channels.write("trc", recording.set_recording(configured))
        receiver = held.receiver or self._left_behind(wanted.url, self._lists)
        if receiver is None:
            token = await self._make_receiver(uri, wanted.url)
        else:
            token = receiver.token
            mode = receiver.mode if receiver.mode not in ("", "NeverConnect") else "AlwaysConnect"
            await self.channels.write("trv", recording.configure_receiver(replace(receiver, uri=uri, mode=mode)))
        job = held.job
        if job is not None and job.receiver_token != token:
            await self.channels.write("trc", recording_jobs.delete_job(job.token))
            job = None
        if job is None:
            track = next(iter(item.tracks_of(VIDEO)), FIRST_VIDEO)
            source = JobSource(token, tracks=(("video", track),))
            await self._make_job(RecordingJob("", item.token, token, sources=(source,)))
        elif job.mode != wanted.mode:
            await self.channels.write("trc", recording_jobs.set_job_mode(job.token, wanted.mode))
        for further in self._further():
            if further.uri and urlsplit(further.uri).hostname == urlsplit(wanted.url).hostname:  # of this camera, too
                other = replace(further, uri=with_credentials(further.uri, credentials))
                await self.channels.write("trv", recording.configure_receiver(other))
        self._given = wanted.user, wanted.key

    def _further(self) -> list[Receiver]:
        return self._lists.further(self._held) if self._lists is not None else []

    async def _free(self, wanted: ChannelState) -> None:
        """The channel as it was before it was given: idle and empty where it came with a job, else without job and receiver."""
        assert self._lists is not None
        item, job, receiver = self._held.item, self._held.job, self._held.receiver
        kept = self._lists.numbering.channels.get(self._number)
        emptied = job is not None and receiver is not None and kept is not None and kept.had_job
        if emptied and job is not None and receiver is not None:
            await self.channels.write("trc", recording_jobs.set_job_mode(job.token, recording_jobs.IDLE))
            try:
                await self.channels.write("trv", recording.configure_receiver(replace(receiver, uri="")))
            except UnreachableError:
                raise
            except DeviceError:
                emptied = False  # it takes no empty address: then without them
        if not emptied and job is not None:
            await self.channels.write("trc", recording_jobs.delete_job(job.token))
        elif self._further() and job is not None:  # what came with it stays, what was added goes
            await self.channels.write("trc", recording_jobs.set_job(replace(job, sources=job.sources[:1])))
        gone = [receiver] if receiver is not None and not emptied else []
        for token in dict.fromkeys(r.token for r in (*gone, *self._further())):
            await self.channels.write("trv", recording.delete_receiver(token))
        if item.token:
            freed = replace(item, name=wanted.camera, location=wanted.location, address=wanted.url)
            await self.channels.write("trc", recording.set_recording(freed))

    def _left_behind(self, address: str, lists: Lists | None) -> Receiver | None:
        """A receiver for this camera that no job uses: an interrupted run made it."""
        assert lists is not None
        used = {s.token for j in lists.jobs for s in j.sources} | {j.receiver_token for j in lists.jobs}
        return next((r for r in lists.receivers if r.uri == address and r.token not in used), None)

    # What is made anew: never asked for twice, since its answer may only be late

    async def _make_recording(self) -> Recording:
        """Recordings are made one by one until the channel's number is among them; one that does not add to them ends it."""
        lists = await self.channels.lists()
        while True:
            found = lists.numbering.recordings.get(self._number)
            if found is not None:
                return found
            count = len(lists.numbering.recordings)

            async def made(count: int = count) -> str:
                return "made" if len(await self.channels.recordings()) > count else ""

            await self._made("trc", recording.create_recording(Recording("")), made)
            lists = await self.channels.again("recordings")
            if len(lists.numbering.recordings) <= count:
                raise DeviceError(f"it answered OK to CreateRecording, and still has {count} channels")

    async def _make_receiver(self, uri: str, address: str) -> str:
        async def made() -> str:
            receiver = self._left_behind(address, await self.channels.again("jobs", "receivers"))
            return receiver.token if receiver else ""

        response = await self._made("trv", recording.create_receiver(uri), made)
        token = response if isinstance(response, str) else recording.parse_create_receiver(response)
        return token or await made()

    async def _make_job(self, job: RecordingJob) -> None:
        async def made() -> str:
            jobs = await self.channels.jobs()
            return next((j.token for j in jobs if j.receiver_token == job.receiver_token), "")

        await self._made("trc", recording_jobs.create_job(job), made)

    async def _made(self, service: str, request: Element, made: Callable[[], Awaitable[str]]) -> Element | str:
        """Its answer; where none came, what `made` finds. Raises UnreachableError where nothing was made in time."""
        try:
            return await self.channels.write(service, request)
        except UnreachableError:
            for _ in range(_LOOKS):
                await asyncio.sleep(_LOOK_EVERY_S)
                try:
                    token = await made()
                except UnreachableError:
                    continue
                if token:
                    return token
            raise

    def untouched(self, now: ChannelState, left: ChannelState) -> bool:
        """Whether it records just now is nobody's change."""
        return self.holds(replace(now, error=""), left)

    def back(self, now: ChannelState, before: ChannelState) -> ChannelState:
        return before if before.url else replace(before, mode="", error="")

    def shown(self, state: ChannelState) -> str:
        if not state.url:
            return f"channel {state.number}: {state.camera or 'free'}"
        idle = "" if state.mode in ("", recording_jobs.ACTIVE) else f", {state.mode}"
        error = f", error: {state.error}" if state.error else ""
        named = "" if state.camera == self._camera else f" ({state.camera or 'unnamed'})"
        user = f" as {state.user}" if state.user else ""
        return f"channel {state.number}: {state.url}{user}{named}{idle}{error}"
