"""What recorders hold, keep and tell: rules as they are sent, against the standard's own order of elements, and each channel
against two looks at it, written down by hand.
"""

from __future__ import annotations

import asyncio
import re
import runpy
from dataclasses import replace
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any
from zoneinfo import ZoneInfo

import pytest
from hypothesis import given
from hypothesis import strategies as st

from conftest import make_site
from test_channels import SITE_32, TOWER, TYPES_32, Rack, fixed, serving
from test_steps import hurry
from tower import Tower
from zentrale.errors import RemoteProtocolError
from zentrale.jobs.checks.channel_judging import Around, Motion, judge
from zentrale.jobs.known.step_form import Outcome
from zentrale.jobs.recorders.channel_holds import MOTION, RuleState, TracksState
from zentrale.jobs.recorders.driver import ChannelSample, PlannedChannel
from zentrale.jobs.registration import by_hand
from zentrale.jobs.registration.undoing import undo
from zentrale.logbook.store import Logbook
from zentrale.output.work_sheets import sheets_page
from zentrale.protocols import weekly
from zentrale.protocols.onvif.recording_jobs import JobState
from zentrale.protocols.onvif.search import NOT_TOLD, Stored, StoredVideo
from zentrale.simulation.recorder_ring import Ring
from zentrale.site.model import Camera, RecordingPlan
from zentrale.site.reading import read_plan
from zentrale.site.values import timetable_entries, timetable_minutes

__all__ = ["hurry"]

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


@pytest.mark.parametrize(("age_s", "records"), [(2, None), (59, None), (61, False), (-4, None), (-30, False)])
def test_an_index_that_is_written_by_the_minute_is_no_fault_yet(age_s: float, records: bool | None) -> None:
    """The recorder's clock is an hour ahead of ours."""
    stands = held("Active", 0)
    around = Around(URL, asked_at=NOW + timedelta(seconds=age_s - 3600), offset_s=3600)
    result = judge(CAMERA, PlannedChannel("north"), stands, stands, around)
    assert result.records is records and [f.code for f in result.findings] == [
        "REC-1" if records is False else "REC-13"
    ]


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
        (replace(ACTIVE, tracks=TracksState(2, True)), RecordingPlan(), Around(URL), True, []),  # nobody said
        (replace(ACTIVE, tracks=TracksState(2, True)), RecordingPlan(sound=False), Around(URL), True, ["REC-11"]),
        (replace(ACTIVE, tracks=TracksState(2, True)), RecordingPlan(sound=True), Around(URL), True, []),
        (replace(ACTIVE, tracks=TracksState(2)), RecordingPlan(sub=True), Around(URL), True, ["REC-11"]),
    ],
)  # fmt: skip
def test_what_had_to_be_stored_depends_on_the_rule_that_the_recorder_holds(
    now: ChannelSample, rules: RecordingPlan, around: Around, records: bool | None, codes: list[str]
) -> None:
    result = judge(CAMERA, PlannedChannel("north", rules), now, held("Active", 0), around)
    assert ([f.code for f in result.findings], result.records) == (codes, records)
    assert ("REC-1" in result.judged) is (records is not None) and "REC-12" not in result.judged, (
        "nobody told of pictures"
    )
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


EVENTS = "EventRecording='true' BeforeEventLimit='PT3S' AfterEventLimit='PT1M' MaxRecordings='4.0'"


def ruled(folder: Path, rules: str, **more: object) -> tuple[Rack, Tower, str]:
    """A rack whose one camera is on channel 2, recorded by these rules, and the token of its job."""
    tower, tokens = fixed(4)
    for name, value in more.items():
        setattr(tower, name, value)
    place = Rack(folder, tower, [2])
    set_rules(place, rules)
    return place, tower, f"j{tokens[2]}"


def set_rules(place: Rack, rules: str) -> None:
    site = SITE_32.replace('name = "all"\n', f'name = "all"\nrecording = {{ {rules} }}\n')
    make_site(place.folder.path, site, place.folder.cameras_file.read_text(), TYPES_32)
    place.plan = read_plan(place.folder)


def test_a_rule_is_sent_in_the_standards_order_and_what_was_there_stays(tmp_path: Path) -> None:
    """ONVIF schema, RecordingJobConfiguration: RecordingToken, Mode, Priority, Source, Extension, EventFilter."""
    place, tower, job = ruled(tmp_path, 'mode = "motion", before_s = 2, after_s = 20', can=EVENTS)
    with serving(place.camera, tower):
        place.discover(), place.discover(TOWER)
        assert place.register(dry_run=True)["recording"].outcome is Outcome.WOULD_CHANGE and not tower.sent
        done = place.registration()
        told, inner = tower.sent[job]
        order = re.findall(
            r"<tt:(RecordingToken|Mode|Priority|Source|Extension|EventFilter|Filter|Topic|Before|After)>", inner
        )
        assert order == [
            "RecordingToken", "Mode", "Priority", "Source", "EventFilter", "Filter", "Topic", "Before", "After"
        ]  # fmt: skip
        assert "<tt:Priority>7</tt:Priority>" in inner and "ScheduleToken" not in told
        assert "<tt:Before>PT2S</tt:Before><tt:After>PT20S</tt:After>" in inner
        assert "tns1:VideoSource/MotionAlarm" in inner and not {"REC-10", "REG-3"} & {f.code for f in done.findings}
        before = tower.changed
        assert place.register()["recording"].outcome is Outcome.UNCHANGED and tower.changed == before
        set_rules(place, 'mode = "continuous"')
        assert place.register()["recording"].outcome is Outcome.CHANGED and "EventFilter" not in tower.sent[job][1]
        with Logbook(place.folder.logbook_file) as log:
            assert done.run is not None
            back = {u.change.step: u.why for u in asyncio.run(undo(place.keyring(log), done.run, lambda *_: None))}
    assert "as it was before: always" in back["recording"]


def test_what_it_keeps_around_an_event_is_asked_first_and_its_rounding_told(tmp_path: Path) -> None:
    place, tower, job = ruled(
        tmp_path, 'mode = "motion", before_s = 8, after_s = 20', can=EVENTS, makes_of={"PT20S": "PT30S"}
    )
    with serving(place.camera, tower):
        place.discover(), place.discover(TOWER)
        done = place.registration()
        (step,) = [s for d in done.results for s in d.steps if s.step == "recording"]
        assert step.outcome is Outcome.CHANGED and "on motion, 3 s before and 30 s after" in step.after
        assert "rounded by the device" in step.note and "<tt:Before>PT3S</tt:Before>" in tower.sent[job][1]
        (less,) = [f for f in done.findings if f.code == "REC-10"]
        assert less.measured == "at most 3 s before and 20 s after an event" and "8 s before" in less.limit
        assert place.register()["recording"].outcome is Outcome.UNCHANGED, "what it rounded once is not asked for again"


def test_what_no_service_sets_is_on_the_sheet_until_the_recorder_does_it(tmp_path: Path) -> None:
    place, tower, _ = ruled(tmp_path, 'mode = "motion", before_s = 2, keep_days = 30, sub = true')
    with serving(place.camera, tower):
        place.discover(), place.discover(TOWER)
        done = place.registration()
        told = {f.measured for f in done.findings if f.code == "REG-3" and f.subject == "recorder recorder"}
        assert len(told) == 1 and "recording on motion, 2 s before: channel 2 (c1)" in told.pop()
        with Logbook(place.folder.logbook_file) as log:
            made = by_hand.sheets(place.plan, done.results, log)
            assert [s.device for s in made] == ["recorder"], "it is nothing of the camera's"
            lines = {line.what: (line.enter, line.why) for line in made[0].lines}
            assert lines["channel 2: kept"][0] == "at least 30 days, then the oldest first"
            assert lines["channel 2 (c1): recording"] == (
                "on motion, 2 s before", "it does not offer it to a program: its jobs wait for no events (EventRecording)",
            )  # fmt: skip
            assert "channel 2 (c1): tracks" in lines and done.run is not None
            page = sheets_page("x", made).decode()
            assert "channel 2 (c1), recording: schedule or mode" in page and "channel 2, recording: overwriting" in page
            by_hand.keep(log, done.run, done.results, made)
            tower.can = EVENTS  # as after a new firmware
            done = place.registration()
            seen = {line.what: line.seen for s in by_hand.sheets(place.plan, done.results, log) for line in s.lines}
    assert seen["channel 2 (c1): recording"] and not seen["channel 2 (c1): tracks"]


# A schedule as another program wrote it: folded lines (RFC 5545 clause 3.1), one event a day, a length in place of an end.
FOREIGN = """BEGIN:VCALENDAR
PRODID:-//x
VERSION:2.0
BEGIN:VEVENT
SUMMARY:work
 ing hours
DTSTART;TZID=Europe/Berlin:20200106T070000
DURATION:PT12H
RRULE:FREQ=WEEKLY;WKST=MO;BYDAY=MO,TU,WE
UID:1
END:VEVENT
BEGIN:VEVENT
DTSTART:19700101T070000
DTEND:19700101T190000
RRULE:FREQ=WEEKLY;INTERVAL=1;BYDAY=TH,FR
UID:2
END:VEVENT
END:VCALENDAR
"""


def test_hours_become_a_schedule_once_and_one_that_is_there_is_used(tmp_path: Path) -> None:
    rules = 'mode = "timetable", timetable = ["Mon-Fri 07:00-19:00"]'
    place, tower, job = ruled(tmp_path, rules, hides=frozenset())
    with serving(place.camera, tower):
        place.discover(), place.discover(TOWER)
        done = place.registration()
        name, calendar = tower.schedules["S9"]
        lines = calendar.split()
        assert "DTSTART:19700105T070000" in lines and "DTEND:19700105T190000" in lines, "a Monday, in local time"
        assert "RRULE:FREQ=WEEKLY;BYDAY=MO,TU,WE,TH,FR" in lines and name == "recording Mon-Fri 07:00-19:00"
        assert 'ScheduleToken="S9"' in tower.sent[job][0]
        with Logbook(place.folder.logbook_file) as log:
            assert done.run is not None
            back = {
                u.change.step: u.taken_back for u in asyncio.run(undo(place.keyring(log), done.run, lambda *_: None))
            }
        assert back["recording"] and not tower.schedules and "ScheduleToken" not in tower.sent[job][0]
        tower.schedules["S2"] = "people's own", FOREIGN
        assert place.register()["recording"].outcome is Outcome.CHANGED
        assert 'ScheduleToken="S2"' in tower.sent[job][0] and list(tower.schedules) == ["S2"]
        set_rules(place, 'mode = "continuous"')
        assert place.register()["recording"].outcome is Outcome.CHANGED and list(tower.schedules) == ["S2"], "not ours"


@pytest.mark.parametrize(
    "wrong",
    [
        "",
        "x",
        "RRULE:FREQ=MONTHLY",
        "RRULE:FREQ=WEEKLY;INTERVAL=2",
        "RRULE:FREQ=WEEKLY;UNTIL=20300101",
        "EXDATE:20200107",
    ],
)
def test_a_calendar_that_is_not_each_week_alike_is_none_of_ours(wrong: str) -> None:
    text = FOREIGN.replace("RRULE:FREQ=WEEKLY;WKST=MO;BYDAY=MO,TU,WE", wrong or "X-NOTHING:1", 1)
    with pytest.raises(RemoteProtocolError, match="no weekly iCalendar"):
        weekly.minutes_of(text if wrong != "x" else "not a calendar")


@given(st.sets(st.integers(0, 7 * 1440 - 1), max_size=40), st.integers(1, 900))
def test_hours_come_back_from_their_entries_and_their_calendar(starts: set[int], length: int) -> None:
    minutes = {(start + n) % (7 * 1440) for start in starts for n in range(length)}
    assert {m for entry in timetable_entries(minutes) for m in timetable_minutes(entry)} == minutes
    assert weekly.minutes_of(weekly.calendar_text(minutes, "n, \\ ;")) == minutes


def test_healthy_recorders_are_well_and_a_failed_disk_is_the_cause_of_all() -> None:
    """Stand-ins of two characters, with the installed program; the cause stands there only where the recorder names it."""
    root = Path(__file__).parent.parent
    tool = runpy.run_path(str(root / "tools" / "recorder_faults.py"))
    faults, page = {f.name: f for f in tool["FAULTS"]}, (root / "docs" / "recorder-faults.md").read_text()
    assert all(f"| {name} |" in page for name in faults), "run python tools/recorder_faults.py"
    assert tool["rounds"](2) == 0
    failed = {code: words for _, code, words in tool["said"](faults["disk failed"])}
    assert "StorageFailure: Token disk-1: Failed true" in failed["REC-16"]
    assert all("follows from REC-16" in failed[code] for code in ("REC-1", "REC-15")), "it says why"


def test_sub_stream_sound_and_hours_are_set_once_recorded_and_taken_back(tmp_path: Path) -> None:
    tool = runpy.run_path(str(Path(__file__).parent.parent / "tools" / "recorder_faults.py"))
    rules = 'mode = "timetable", timetable = ["Mon-Sun 00:00-24:00"], sub = true, sound = true, max_days = 28'
    site = tool["Site"](tmp_path, [tool["FULL"]], rules)

    def steps(done: Any) -> dict[str, tuple[str, str]]:
        (camera,) = [d for d in done["devices"] if d["device"] == "camera c1"]
        return {s["step"]: (s["outcome"], s["after"]) for s in camera["steps"] if s["step"] in ("tracks", "recording")}

    with site.playing():
        held = {
            "tracks": ("changed", "sub stream rtsp://127.0.73.11:8554/live/sub, with sound"),
            "recording": ("changed", "Mon-Sun 00:00-24:00"),
        }  # fmt: skip
        assert steps(site.set_up()) == held
        assert {outcome for outcome, _ in steps(site.run("register")).values()} == {"unchanged"}
        verified = site.run("verify", "--seconds", "3")
        assert [c["records"] for c in verified["channels"]] == [True, True]
        assert not [f for f in verified["findings"] if f["code"].startswith("REC")]
        back = {c["step"] for c in site.run("register", "--undo", "2")["taken_back"]}
        assert back >= {"tracks", "recording", "channel", "retention"}
        assert steps(site.run("register")) == held, "from what it was before"


@given(st.lists(st.integers(1, 3000), max_size=300), st.floats(0.01, 0.7))
def test_a_ring_holds_the_newest_packets_whole_and_in_order(sizes: list[int], every_s: float) -> None:
    ring = Ring(200_000)
    sent = [(1000 + n * every_s, bytes([n % 256]) * size) for n, size in enumerate(sizes)]
    for at, packet in sent:
        ring.add([packet], at)
    held = list(ring.stored())
    assert held == sent[len(sent) - len(held) :] and sum(len(p) + 12 for _, p in held) <= 200_000 + 64 * 1024 + 3012
    assert len(held) == len(sent) or sum(sizes) > 70_000, "nothing goes before there is need"
    assert (ring.first_s, ring.last_s) == ((held[0][0], sent[-1][0]) if sent else (None, None))
    ring.close()
