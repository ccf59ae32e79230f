"""What recorders hold, keep and tell: each channel against two looks at it, written down by hand."""

from __future__ import annotations

from dataclasses import replace
from datetime import UTC, datetime, timedelta
from zoneinfo import ZoneInfo

import pytest

from zentrale.jobs.checks.channel_judging import Around, Motion, judge
from zentrale.jobs.recorders.channel_holds import MOTION, RuleState, TracksState
from zentrale.jobs.recorders.driver import ChannelSample, PlannedChannel
from zentrale.protocols.onvif.recording_jobs import JobState
from zentrale.protocols.onvif.search import NOT_TOLD, Stored, StoredVideo
from zentrale.site.model import Camera, RecordingPlan

NOW = datetime(2026, 3, 4, 12, 0, 0, tzinfo=UTC)  # a Wednesday
URL = "rtsp://10.0.0.5/main"
CAMERA = Camera.model_validate({
    "name": "north", "type": "t", "group": "g", "zone": "z", "switch": "s", "port": 1, "run_length_m": 1, "recorder": "rec",
    "channel": 2, "row": 7,
})  # fmt: skip
ON_MOTION = RuleState(2, "motion", MOTION, 5, 20)
HOURS = RuleState(2, "timetable", hours=("Mon-Fri 07:00-19:00",))
MOTION_RULES = RecordingPlan(mode="motion", before_s=5, after_s=20)
HOUR_RULES = RecordingPlan(mode="timetable", timetable=("Mon-Fri 07:00-19:00",))


def held(state: str, until_s: float | None = 0, url: str = URL, error: str = "", name: str = "north") -> ChannelSample:
    latest = None if until_s is None else NOW + timedelta(seconds=until_s)
    return ChannelSample(name, url, JobState(state, error), Stored(latest, latest, ""))


def told(sample: ChannelSample, rule: RuleState) -> ChannelSample:
    return replace(sample, rule=rule)


ACTIVE, IDLE = held("Active", 5), held("Idle", 0)
UNTOLD = replace(ACTIVE, stored=Stored(None, None, NOT_TOLD))


@pytest.mark.parametrize(
    ("now", "before", "code", "words"),
    [
        (ACTIVE, held("Active", 0), None, ""),
        (ACTIVE, None, None, ""),
        (ACTIVE, held("Active", None), None, ""),
        (UNTOLD, UNTOLD, None, ""),
        (held("Active", 0), held("Active", 0), "REC-1", "newest stored time stands since"),
        (held("Active", None), None, "REC-1", "keeps nothing"),
        (held("Idle", 5), None, "REC-1", "state Idle"),
        (held("Error", 5, error="401 Unauthorized"), None, "REC-1", "401 Unauthorized"),
        (held("Active", 5, url="rtsp://10.0.0.9/x", name="other"), None, "REC-2", "rtsp://10.0.0.9/x (other)"),
        (ChannelSample("", "", None, Stored(None, None, "")), None, "REC-2", "the channel is free"),
        (None, None, "REC-2", "no such channel"),
    ],
)
def test_a_channel_records_or_the_cause_is_named(
    now: ChannelSample | None, before: ChannelSample | None, code: str | None, words: str
) -> None:
    result = judge(CAMERA, PlannedChannel("north"), now, before, Around(URL))
    assert [f.code for f in result.findings] == ([code] if code else [])
    assert result.records is (code is None)
    assert all(f.subject == "channel 2 of rec" and words in f.measured for f in result.findings)
    assert all("line 7" in f.limit_source for f in result.findings)


def at(hour: int, zone: str = "Europe/Berlin", day: int = 4) -> tuple[datetime, datetime]:
    moment = datetime(2026, 3, day, hour, tzinfo=ZoneInfo(zone))
    return moment, moment + timedelta(seconds=10)


LISTENED = NOW - timedelta(seconds=60)
LOOKED = NOW + timedelta(seconds=6)
MOVED, STILL = Motion(LISTENED, LOOKED, NOW - timedelta(seconds=9)), Motion(LISTENED, LOOKED)
JUST_NOW = Motion(LISTENED, LOOKED, NOW - timedelta(seconds=3))
NEVER = replace(IDLE, stored=Stored(None, None, "Stopped"))


@pytest.mark.parametrize(
    ("now", "rules", "around", "records", "codes"),
    [
        (told(IDLE, ON_MOTION), MOTION_RULES, Around(URL), True, []),  # it recorded once, and waits
        (told(NEVER, ON_MOTION), MOTION_RULES, Around(URL), None, ["REC-13"]),
        (told(NEVER, ON_MOTION), MOTION_RULES, Around(URL, motion=STILL), None, ["REC-13"]),
        (told(NEVER, ON_MOTION), MOTION_RULES, Around(URL, motion=MOVED), False, ["REC-1"]),
        (told(held("Idle", -600), ON_MOTION), MOTION_RULES, Around(URL, motion=MOVED), False, ["REC-1"]),
        (told(NEVER, ON_MOTION), MOTION_RULES, Around(URL, motion=JUST_NOW), None, ["REC-13"]),
        (told(ACTIVE, ON_MOTION), MOTION_RULES, Around(URL, motion=MOVED), True, []),
        (told(ACTIVE, ON_MOTION), MOTION_RULES, Around(URL, motion=STILL), True, ["REC-11"]),
        (told(ACTIVE, ON_MOTION), MOTION_RULES, Around(URL, motion=Motion(NOW - timedelta(seconds=20), LOOKED)), True, []),
        (told(ACTIVE, ON_MOTION), MOTION_RULES, Around(URL, motion=STILL, offset_s=3600), True, []),  # its clock is ahead
        (told(ACTIVE, RuleState(2)), MOTION_RULES, Around(URL), True, ["REC-11"]),
        (told(IDLE, RuleState(2)), MOTION_RULES, Around(URL), False, ["REC-1", "REC-11"]),
        (told(IDLE, HOURS), HOUR_RULES, Around(URL, local=at(12)), False, ["REC-1"]),
        (told(IDLE, HOURS), HOUR_RULES, Around(URL, local=at(20)), True, []),
        (told(IDLE, HOURS), HOUR_RULES, Around(URL, local=at(12, day=7)), True, []),  # a Saturday
        (told(NEVER, HOURS), HOUR_RULES, Around(URL, local=at(20)), None, ["REC-13"]),
        (told(ACTIVE, RuleState(2, "timetable", hours=("Mon-Fri 07:00-17:00",))), HOUR_RULES, Around(URL), True, ["REC-11"]),
        (told(ACTIVE, replace(HOURS, schedule="S7")), HOUR_RULES, Around(URL, local=at(12)), True, []),
        (replace(told(ACTIVE, RuleState(2)), user="admin"), RecordingPlan(), Around(URL, account="recorder"), True, ["REC-14"]),
        (replace(ACTIVE, tracks=TracksState(2, True)), RecordingPlan(), Around(URL), True, ["REC-11"]),
        (replace(ACTIVE, tracks=TracksState(2, True)), RecordingPlan(sound=True), Around(URL), True, []),
        (replace(ACTIVE, tracks=TracksState(2)), RecordingPlan(sub=True), Around(URL), True, ["REC-11"]),
    ],
)  # fmt: skip
def test_what_had_to_be_stored_depends_on_the_rule_that_the_recorder_holds(
    now: ChannelSample, rules: RecordingPlan, around: Around, records: bool | None, codes: list[str]
) -> None:
    result = judge(CAMERA, PlannedChannel("north", rules), now, held("Active", 0), around)
    assert ([f.code for f in result.findings], result.records) == (codes, records)
    assert result.verdict.value == ("not_judged" if records is None else "otherwise" if codes else "as_planned")


@pytest.mark.parametrize(
    ("stored", "told_as"),
    [
        ((1920, 1080), ""), ((1920, 1088), ""), ((1080, 1920), ""), ((640, 360), "its sub stream is stored, 640x360"),
        ((1280, 720), "another picture is stored, 1280x720"), ((0, 0), ""),
    ],
)  # fmt: skip
def test_the_stored_picture_is_that_of_the_main_stream(stored: tuple[int, int], told_as: str) -> None:
    """Whole macroblocks and a turned picture are the same; what nobody told or measured is not judged."""
    around = Around(URL, sizes={"main": (1920, 1080), "sub": (640, 360)})
    now = replace(ACTIVE, videos=(StoredVideo(*stored),))
    (*found,) = judge(CAMERA, PlannedChannel("north"), now, held("Active", 0), around).findings
    assert [f.code for f in found] == (["REC-12"] if told_as else []) and all(told_as in f.measured for f in found)
    with_sub = replace(now, videos=(StoredVideo(*stored), StoredVideo(1920, 1080)))
    for other, beside in ((with_sub, around), (now, Around(URL))):
        assert not judge(CAMERA, PlannedChannel("north"), other, held("Active", 0), beside).findings
