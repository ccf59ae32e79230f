"""What a channel holds beside its stream, as the recorder tells it and as the plan wants it: when it records, and what."""

from __future__ import annotations

from dataclasses import dataclass, replace

from zentrale import quantities
from zentrale.errors import NotOfferedError, RemoteProtocolError
from zentrale.jobs.recorders.onvif_lists import Lists, RecorderChannels
from zentrale.protocols.onvif.recording_jobs import AUDIO, FIRST_AUDIO, JobSource, RecordingJob
from zentrale.protocols.onvif.schedule import Schedule
from zentrale.site.model import RecordingPlan
from zentrale.site.values import timetable_entries

# ONVIF Core and Analytics: what a camera says when something moves, by its picture or by the cells of its detector.
MOTION = ("tns1:RuleEngine/CellMotionDetector/Motion", "tns1:VideoSource/MotionAlarm")
CONTINUOUS, BY_MOTION, BY_HOURS, BY_EVENTS = "continuous", "motion", "timetable", "events"
OTHER_HOURS = "hours that are not told, or not each week alike"


@dataclass(frozen=True)
class RuleState:
    """Of channel `number`. `mode`: continuous, motion, timetable, or events where it waits for others than motion.

    topics, before_s, after_s: what begins it, and what is kept around that; hours: as entries of a timetable; schedule: its token
    """

    number: int
    mode: str = CONTINUOUS
    topics: tuple[str, ...] = ()
    before_s: float = 0.0
    after_s: float = 0.0
    hours: tuple[str, ...] = ()
    schedule: str = ""

    @property
    def plain(self) -> RuleState:
        """Without the token, which says nothing of what holds."""
        return replace(self, schedule="")


def planned(number: int, rules: RecordingPlan) -> RuleState:
    """What the plan says of channel `number`, without regard to what its recorder can do."""
    if rules.mode == BY_MOTION:
        return RuleState(number, BY_MOTION, MOTION, rules.before_s, rules.after_s)
    return RuleState(number, rules.mode, hours=timetable_entries(rules.minutes))


def in_words(state: RuleState) -> str:
    if state.mode == CONTINUOUS:
        return "always"
    parts = []
    if state.topics:
        what = "on motion" if state.mode == BY_MOTION else f"on {quantities.listed(state.topics, 4)}"
        around = [f"{s:g} s {w}" for s, w in ((state.before_s, "before"), (state.after_s, "after")) if s]
        parts.append(what + (f", {' and '.join(around)}" if around else ""))
    if state.hours:
        parts.append(quantities.listed(state.hours, 14))
    return "; ".join(parts) or "never"


async def rule_of(channels: RecorderChannels, number: int, job: RecordingJob | None) -> RuleState:
    """As the recorder tells it; without a job as a new one is. Raises DeviceError."""
    state = RuleState(number)
    if job is None:
        return state
    if job.events is not None:
        motion = set(job.events.topics) <= set(MOTION)
        mode, topics = (BY_MOTION, MOTION) if motion else (BY_EVENTS, job.events.topics)
        state = RuleState(number, mode, topics, job.events.before_s, job.events.after_s)
    if job.schedule:
        mode = BY_HOURS if state.mode == CONTINUOUS else state.mode
        state = replace(state, mode=mode, hours=await _hours(channels, job.schedule), schedule=job.schedule)
    return state


async def _hours(channels: RecorderChannels, token: str) -> tuple[str, ...]:
    """One that it names and does not tell is none that the plan could mean."""
    try:
        found = next((s for s in await channels.schedules() if s.token == token), None)
    except NotOfferedError:
        found = None
    return (OTHER_HOURS,) if found is None else hours_of(found)


def hours_of(found: Schedule) -> tuple[str, ...]:
    from zentrale.protocols import weekly  # a calendar's reader is loaded where there is one

    try:
        return (OTHER_HOURS,) if found.special else timetable_entries(weekly.minutes_of(found.standard))
    except RemoteProtocolError:
        return (OTHER_HOURS,)


@dataclass(frozen=True)
class TracksState:
    """Of channel `number`: whether sound is recorded, and the sub stream's address, empty where it is not."""

    number: int
    sound: bool = False
    sub: str = ""


def tracks_of(lists: Lists, number: int) -> TracksState:
    """As the recorder tells it; a channel without a job as one with a new job is."""
    held = lists.held(number)
    if held.job is None:
        return TracksState(number)
    uris = {r.token: r.uri for r in lists.receivers}
    audio = {*held.item.tracks_of(AUDIO), FIRST_AUDIO}
    heard = any(track in audio for source in held.job.sources for _, track in source.tracks)
    further = further_source(held.job)
    return TracksState(number, heard, uris.get(further.token, "") if further else "")


def further_source(job: RecordingJob) -> JobSource | None:
    """The source beside the main stream's, where it has one that is a receiver."""
    return next((s for s in job.sources[1:2] if not s.profile), None)
