"""A recorder with the ONVIF Receiver, Recording Control and Recording Search services."""

from __future__ import annotations

from collections.abc import Collection, Iterator, Mapping
from dataclasses import replace
from typing import Any

from zentrale.errors import DeviceError, NotOfferedError
from zentrale.field.device import Device
from zentrale.findings import Finding, finding
from zentrale.jobs.known.planned import ref_of
from zentrale.jobs.known.step_form import Step, StepResult
from zentrale.jobs.passwords.keyring import Keyring
from zentrale.jobs.recorders import channel_rules
from zentrale.jobs.recorders.book import ChannelBook
from zentrale.jobs.recorders.channel_holds import rule_of, tracks_of
from zentrale.jobs.recorders.channel_step import Channel
from zentrale.jobs.recorders.driver import ChannelSample, Driver, PlannedChannel, Sample, Streamed
from zentrale.jobs.recorders.kept_channels import KeptChannels
from zentrale.jobs.recorders.moves import Mover, is_taken
from zentrale.jobs.recorders.onvif_lists import Held, Lists, RecorderChannels, doubles, doubles_finding
from zentrale.jobs.recorders.own_channel_step import OwnChannel
from zentrale.jobs.recorders.passes import Passes
from zentrale.jobs.recorders.told_of_itself import Told, told_of_itself
from zentrale.protocols.onvif import search
from zentrale.protocols.onvif.recording_jobs import RecordingJob
from zentrale.protocols.onvif.search import Stored
from zentrale.site.model import Camera, Recorder
from zentrale.subjects import Kind, Ref

_NOTHING_STORED = Stored(None, None, "")


class OnvifRecorder(Driver):
    speaks_onvif = True

    def __init__(self, client: Device | None, book: ChannelBook) -> None:
        super().__init__(client, book)
        assert client is not None
        self.lists = RecorderChannels(client, book)

    def give(self, camera: Camera, url: str, passes: Passes) -> Channel:
        return Channel(self.lists, camera.channel, camera.name, camera.shows, url, passes)

    def own_port(self, camera: Camera) -> OwnChannel:
        return OwnChannel(self.lists, camera.channel, camera.name, camera.shows, camera.port)

    def rules(self, camera: Camera, stream: Streamed, passes: Passes) -> list[Step[Any]]:
        return channel_rules.steps(self.lists, camera.channel, ref_of(camera), stream, passes)

    async def sample(self, planned: Mapping[int, PlannedChannel], *, whole: bool = True) -> Sample:
        assert self.client is not None
        offset = self.client.clock_offset.total_seconds() if await self.client.read_clock() else None
        lists = await self.lists.lists()
        channels = {}
        for number in sorted(lists.numbering.recordings):
            held = lists.held(number)
            if held.job is None:
                channels[number] = ChannelSample(held.item.name, "", None, _NOTHING_STORED)
            else:
                channels[number] = await self._channel(lists, number, held, held.job, whole=whole and number in planned)
        seen = await told_of_itself(self.client) if whole else Told()  # last: what hangs there takes nothing with it
        return Sample(channels, tuple(self._findings(lists, planned)), offset, seen.hardware, seen.disks)

    async def _channel(self, lists: Lists, number: int, held: Held, job: RecordingJob, *, whole: bool) -> ChannelSample:
        state = await self.lists.job_state(job)
        try:
            stored = await self.lists.stored(held.item)
        except NotOfferedError:
            stored = Stored(None, None, search.NOT_TOLD)
        sample = ChannelSample(held.item.name, _source(lists, number, job), state, stored)
        if not whole:
            return sample
        try:
            rule = await rule_of(self.lists, number, job)
        except DeviceError:
            rule = None  # a schedule that it names, and does not tell
        return replace(
            sample, user=held.receiver.user if held.receiver is not None else "", rule=rule,
            tracks=tracks_of(lists, number), videos=await self.lists.videos(held.item, stored.latest),
        )  # fmt: skip

    def kept(self) -> KeptChannels:
        assert self.client is not None
        return KeptChannels(self.client, self.lists)

    async def taken(self) -> Collection[int]:
        lists = await self.lists.lists()
        return [number for number in lists.numbering.recordings if is_taken(lists.held(number))]

    async def settle(self, keyring: Keyring, run: int, recorder: Recorder) -> list[StepResult]:
        async with self.turn:
            return await Mover(keyring, run, recorder, self.lists).settle()

    async def noticed(self, planned: Mapping[int, PlannedChannel]) -> tuple[Finding, ...]:
        return tuple(self._findings(await self.lists.lists(), planned))

    def _findings(self, lists: Lists, planned: Mapping[int, PlannedChannel]) -> Iterator[Finding]:
        name, numbering = self.book.recorder, lists.numbering
        ref = Ref(Kind.RECORDER, name)
        if (double := doubles_finding(name, doubles(lists))) is not None:
            yield double
        if numbering.against:
            yield finding("REC-6", ref, numbering.against, "names in the order of the list", "its own lists")
        for kept in numbering.gone:
            part = Ref(Kind.RECORDER, name, f"channel {kept.number}")
            was = f"{kept.token}{f' ({kept.name})' if kept.name else ''} is in its list no more"
            yield finding("REC-7", part, was, "every recording that was numbered", "logbook")
        for number, wanted in sorted(planned.items()):
            item = numbering.recordings.get(number)
            kept_days = item.retention_s / 86400 if item is not None else 0.0
            max_days = wanted.rules.max_days
            recorded = item is not None and lists.held(number).job is not None
            if recorded and max_days is not None and not 0 < kept_days <= max_days:
                measured = f"{kept_days:g} days" if kept_days else "no limit"
                part = Ref(Kind.RECORDER, name, f"channel {number}")
                limit = f"at most {max_days:g} days"
                yield finding("REC-9", part, measured, limit, f"site.toml max_days of the group of {wanted.camera}")
        for number in sorted(numbering.recordings):
            held = lists.held(number)
            if number not in planned and held.job is not None and held.url:
                measured = f"it takes in {held.url} ({held.item.name or 'unnamed'})"
                part = Ref(Kind.RECORDER, name, f"channel {number}")
                yield finding("REC-8", part, measured, "no camera is planned there", "cameras.csv")


def _source(lists: Lists, number: int, job: RecordingJob) -> str:
    return f"its own profile {job.receiver_token}" if job.profile else lists.held(number).url
