"""When a channel records: always, while something moves, or by a timetable (a recording job's event filter and schedule)."""

from __future__ import annotations

from dataclasses import replace

from zentrale import quantities
from zentrale.errors import DeviceError, NotOfferedError
from zentrale.findings import finding
from zentrale.jobs.known.step_form import Step
from zentrale.jobs.recorders.channel_holds import (
    BY_HOURS,
    BY_MOTION,
    OTHER_HOURS,
    RuleState,
    hours_of,
    in_words,
    planned,
    rule_of,
)
from zentrale.jobs.recorders.onvif_lists import Held, Lists, RecorderChannels
from zentrale.protocols.onvif import recording_jobs, schedule
from zentrale.protocols.onvif.recording import Recording
from zentrale.protocols.onvif.recording_jobs import EventFilter
from zentrale.protocols.onvif.schedule import Schedule
from zentrale.site.model import RecordingPlan
from zentrale.site.values import timetable_minutes
from zentrale.subjects import Kind, Ref

_NAMED = "recording "  # how names of schedules begin that this program made


class Rule(Step[RuleState]):
    """Run it within the recorder's turn, once the camera has its channel. The job's priority stays as it is."""

    name = "recording"
    at_recorder = True
    needs = ("channel",)
    place = "recording: schedule or mode"

    def __init__(
        self, channels: RecorderChannels, number: int, rules: RecordingPlan, camera: Ref, rate_kbps: float = 0.0
    ) -> None:
        """`rate_kbps`: of what is recorded, as planned; 0 where that is not looked at."""
        super().__init__(channels.client)
        self._rate_kbps = rate_kbps
        self.channels = channels
        self._planned = planned(number, rules)
        self._number = number
        self._camera = camera
        self._held = Held(Recording(""))
        self._lists: Lists | None = None
        self._limits = (0.0, 0.0)

    def aim(self) -> str:
        return in_words(self._planned)

    async def look(self) -> RuleState:
        self._lists = await self.channels.lists()
        self._held = self._lists.held(self._number)
        now = await rule_of(self.channels, self._number, self._held.job)
        limits = await self.channels.limits()
        if limits.max_rate_kbps and self._rate_kbps > limits.max_rate_kbps:
            part = Ref(Kind.CAMERA, self._camera.name, "recording")
            most = f"at most {quantities.bitrate(1000 * limits.max_rate_kbps)} a channel (MaxRate)"
            planned_rate = f"{quantities.bitrate(1000 * self._rate_kbps)} planned"
            self.noticed = (finding("REC-17", part, most, planned_rate, "site.toml, streams"),)
        if self._planned.mode == BY_MOTION:
            if not limits.events:
                raise NotOfferedError("its jobs wait for no events (EventRecording)")
            self._limits = limits.before_limit_s, limits.after_limit_s
        if self._planned.mode == BY_HOURS:
            await self.channels.schedules()  # without such a service it is not offered
        return now

    def wanted(self, now: RuleState) -> RuleState:
        """As planned, as far as it may keep before and after an event; what is less is told."""
        wanted = self._planned
        before, after = (
            min(s, most or s) for s, most in zip((wanted.before_s, wanted.after_s), self._limits, strict=True)
        )
        if (before, after) != (wanted.before_s, wanted.after_s):
            part = Ref(Kind.CAMERA, self._camera.name, "recording")
            most = f"at most {before:g} s before and {after:g} s after an event"
            less = finding("REC-10", part, most, in_words(wanted), "site.toml, recording")
            self.noticed = (*(f for f in self.noticed if f.code != less.code), less)
        return replace(
            wanted, before_s=before, after_s=after, schedule=now.schedule if now.hours == wanted.hours else ""
        )

    def holds(self, now: RuleState, wanted: RuleState) -> bool:
        return now.plain == wanted.plain

    def near(self, now: RuleState, wanted: RuleState) -> bool:
        """Its own steps of seconds: as much as was asked for or more, within a quarter of a minute."""
        same = replace(now.plain, before_s=wanted.before_s, after_s=wanted.after_s) == wanted.plain
        pairs = ((now.before_s, wanted.before_s), (now.after_s, wanted.after_s))
        return same and all(0 <= held - asked <= 15 for held, asked in pairs)

    async def apply(self, now: RuleState, wanted: RuleState) -> None:
        """What it did before, on the way back, too. A schedule that no job needs any more goes where this program made it."""
        assert self._lists is not None
        job = self._held.job
        if job is None:
            raise DeviceError(f"channel {self._number} has no recording job")
        token = await self._scheduled(wanted) if wanted.hours else ""
        events = EventFilter(wanted.topics, wanted.before_s, wanted.after_s) if wanted.topics else None
        await self.channels.write("trc", recording_jobs.set_job(replace(job, events=events, schedule=token)))
        if job.schedule and job.schedule != token:
            await self._clear_up(job.schedule)

    async def _scheduled(self, wanted: RuleState) -> str:
        """The token of a schedule with these hours: one that is there, else a new one, never asked for twice."""
        from zentrale.protocols import weekly

        there = await self.channels.schedules()
        by_token = {s.token: s for s in there}
        if wanted.schedule in by_token:
            return wanted.schedule
        if (found := next((s for s in there if hours_of(s) == wanted.hours), None)) is not None:
            return found.token
        if OTHER_HOURS in wanted.hours:
            raise DeviceError(f"its schedule {wanted.schedule} is in its list no more")
        name = _NAMED + ", ".join(wanted.hours)
        minutes = frozenset(minute for entry in wanted.hours for minute in timetable_minutes(entry))
        made = Schedule("", name[:64], weekly.calendar_text(minutes, name))
        token = schedule.parse_create(await self.channels.write("tsc", schedule.create(made)))
        if not token:
            raise DeviceError("it answered OK to CreateSchedule, and told no token")
        return token

    async def _clear_up(self, token: str) -> None:
        used = {job.schedule for job in await self.channels.jobs()}
        ours = {s.token for s in await self.channels.schedules() if s.name.startswith(_NAMED)}
        if token in ours - used:
            await self.channels.write("tsc", schedule.delete(token))

    async def read_back(self, wanted: RuleState) -> RuleState:
        """Which job the channel has is known by now."""
        jobs = {job.token: job for job in (await self.channels.again("jobs")).jobs}
        return await rule_of(self.channels, self._number, jobs.get(self._held.job.token) if self._held.job else None)

    def shown(self, state: RuleState) -> str:
        return in_words(state)
