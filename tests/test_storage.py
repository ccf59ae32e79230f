"""Days of storage against values worked out by hand."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from conftest import CAMERAS, SITE, TYPES, make_site, zentrale
from zentrale.planning.keeping import keeping, keeping_findings, recorded_rates
from zentrale.planning.storage import (
    StoragePlan,
    data_drives,
    drive_failure,
    plan_storage,
    recorded_share,
    usable_bytes,
)
from zentrale.planning.traffic import plan_traffic
from zentrale.site.folder import SiteFolder
from zentrale.site.model import RecordingPlan, Storage
from zentrale.site.reading import read_plan
from zentrale.site.values import timetable_minutes

DRIVES = 'storage = { drives = 4, drive_tb = 1, redundancy = "5" }\n'


def storage_of(folder: Path, recording: str = "", drives: str = DRIVES, types: str = TYPES) -> StoragePlan:
    site = SITE.replace("http_port = 8080\n", "http_port = 8080\n" + drives)
    if recording:
        site = site.replace("[[switches]]", f"recording = {{ {recording} }}\n[[switches]]")
    return plan_storage(read_plan(SiteFolder(make_site(folder, site, CAMERAS, types))))


def test_continuous_recording_by_hand(tmp_path: Path) -> None:
    """2 x 300 kbit/s: 2 x 300,000 / 8 x 86,400 x 1.02 = 6.6096 GB a day; 3 TB less 7 % hold 422.1 days of it."""
    (recorder,) = storage_of(tmp_path, "keep_days = 30").recorders
    assert sum(c.day_bytes for c in recorder.cameras) == pytest.approx(6.6096e9)
    assert recorder.usable_bytes == pytest.approx(2.79e12) and recorder.days == pytest.approx(422.1, abs=0.1)
    assert recorder.needed_bytes == pytest.approx(30 * 6.6096e9) and recorder.write_bps == 600_000
    assert recorder.drive_failure.startswith("nothing, slower until rebuilt")
    assert recorder.kept_days(recorder.cameras[0]) == pytest.approx(422.1, abs=0.1)
    (limited,) = storage_of(tmp_path / "limited", "keep_days = 30, max_days = 90").recorders
    assert limited.kept_days(limited.cameras[0]) == 90


def test_motion_timetable_and_sub_stream_by_hand(tmp_path: Path) -> None:
    motion = RecordingPlan(mode="motion", motion_share=0.1, events_per_hour=12, before_s=5, after_s=10)
    assert recorded_share(motion) == pytest.approx(0.1 + 12 * 15 / 3600)
    assert recorded_share(RecordingPlan(mode="motion", motion_share=0.9, events_per_hour=400, after_s=30)) == 1
    office = RecordingPlan(mode="timetable", timetable=("Mon-Fri 07:00-19:00", "Mon 18:00-20:00", "Sat 22:00-02:00"))
    assert recorded_share(office) == pytest.approx((5 * 12 + 1 + 4) / 168)
    (recorder,) = storage_of(tmp_path, "sub = true, keep_days = 1").recorders
    assert recorder.write_bps == 2 * (300_000 + 64_000)


@pytest.mark.parametrize(
    ("level", "drives", "data"), [("none", 3, 3), ("0", 3, 3), ("1", 2, 1), ("5", 4, 3), ("6", 6, 4), ("10", 6, 3)]
)
def test_redundancy_levels(level: str, drives: int, data: float) -> None:
    assert data_drives(level, drives) == data
    storage = Storage.model_validate(
        {"drives": drives + 1, "drive_tb": 2, "redundancy": level, "hot_spares": 1, "overhead_percent": 0}
    )
    assert usable_bytes(storage) == data * 2e12
    loses = {"none": f"1 in {drives}", "0": "all recordings"}.get(level, "nothing")
    assert loses in drive_failure(storage)


@pytest.mark.parametrize(("level", "drives"), [("1", 3), ("5", 2), ("6", 3), ("10", 5), ("10", 2), ("none", 0)])
def test_impossible_levels_are_refused(level: str, drives: int) -> None:
    with pytest.raises(ValueError, match="needs"):
        data_drives(level, drives)


LIMIT = 'channel_limits = [{ resolution = "320x180", channels = 1 }]\n'
# What is planned, and the one finding that it must bring.
CASES = [
    ("keep_days = 500", DRIVES, TYPES, "STO-1", "84 % of the wanted days"),
    ("keep_days = 40, max_days = 30", DRIVES, TYPES, "STO-2", "40 days wanted"),
    ("keep_days = 1", DRIVES.replace("4, drive_tb", "3, hot_spares = 1, drive_tb"), TYPES, "STO-3", "2 drives after 1"),
    ("keep_days = 1", DRIVES, TYPES.replace("channels = 4", "channels = 4\nbays = 2"), "STO-3", "4 drives"),
    ("keep_days = 20, max_days = 30", DRIVES, TYPES, "STO-4", "the drives hold 422.1 days of 2 cameras"),
    ("keep_days = 1", DRIVES, TYPES + "licences_included = 1\n", "CHN-3", "1 licences missing"),
    ("keep_days = 1", DRIVES, TYPES + LIMIT, "CHN-2", "2 cameras of 320x180"),
]  # fmt: skip


@pytest.mark.parametrize(("recording", "drives", "types", "code", "measured"), CASES)
def test_a_storage_fault_is_found(
    tmp_path: Path, recording: str, drives: str, types: str, code: str, measured: str
) -> None:
    found = storage_of(tmp_path, recording, drives, types).findings
    assert code in {f.code for f in found} <= {code, "STO-4"}
    assert any(measured in f.measured for f in found), found


def test_the_smallest_recorder_that_fits_is_named(tmp_path: Path) -> None:
    def kind(name: str, channels: int, ingest_mbps: float, bays: int) -> str:
        head = f'[[recorder_types]]\nname = "{name}"\nmaker = "Orrery"\nmodel = "{name}"\n'
        return f"{head}channels = {channels}\ningest_mbps = {ingest_mbps}\nbays = {bays}\n"

    types = (
        TYPES + kind("tiny", 1, 80, 8) + kind("slow", 2, 0.5, 8) + kind("flat", 2, 80, 2) + kind("large", 64, 500, 16)
    )
    storage = storage_of(tmp_path, "keep_days = 1", types=types)
    (recorder,) = storage.recorders
    reasons = {fit.type: fit.reasons for fit in recorder.fits}
    assert recorder.smallest_fit == "recorder-4"
    assert "1 channels for 2 cameras" in reasons["tiny"] and "600 kbit/s" in reasons["slow"][0]
    assert reasons["flat"] == ("2 bays for 4 drives",) and reasons["large"] == ()
    shown = zentrale("plan", "storage", "--json", cwd=tmp_path).json["storage"][0]
    assert shown["smallest_fitting_type"] == "recorder-4" and shown["days"] == pytest.approx(422.1, abs=0.1)


@given(st.integers(0, 6), st.integers(0, 6), st.integers(0, 1439), st.integers(1, 1440))
def test_a_timetable_covers_its_days_and_minutes(first: int, last: int, start: int, end: int) -> None:
    names = ("Mon", "Tue", "Wed", "Thu", "Fri", "Sat", "Sun")
    entry = f"{names[first]}-{names[last]} {start // 60:02d}:{start % 60:02d}-{end // 60:02d}:{end % 60:02d}"
    days = (last - first) % 7 + 1
    length = end - start if end > start else end + 1440 - start
    covered = timetable_minutes(entry)
    assert len(covered) == min(days * length, days * 1440 + max(0, length - 1440) if days < 7 else 7 * 1440)
    assert 1440 * first + start in covered


@pytest.mark.parametrize(
    "entry", ["Mo 07:00-08:00", "Mon 7-8", "Mon 25:00-26:00", "Mon 07:70-08:00", "", "Mon-Xyz 07:00-08:00"]
)
def test_a_wrong_timetable_is_told(entry: str) -> None:
    with pytest.raises(ValueError, match="expected"):
        timetable_minutes(entry)


# Both cameras ask 320x180 at 10 frames/s and 160x96 at 5: by hand 0.576 and 0.0768 Mpixel/s each.
SHORTCOMINGS = [
    ("own_panels = 2\nown_stream = 'main'", "decode_mpixel_s = 1.1", "TRF-9", "1.15 Mpixel/s, 2 pictures of the main streams",
     "decodes 1.1"),
    ("own_panels = 1\nown_stream = 'main'", "decode_mpixel_s = 1.1", "", "", ""),
    ("own_panels = 4", "decode_mpixel_s = 0.2", "", "", ""),
    ("", 'codecs = ["H265"]', "TYP-2", "H264 of 2 cameras: north, south", "does not take H264"),
    ("", 'codecs = ["H265", "H264"]', "", "", ""),
]  # fmt: skip


@pytest.mark.parametrize(("asked", "kind", "code", "measured", "reason"), SHORTCOMINGS)
def test_what_a_recorder_type_cannot_do(
    tmp_path: Path, asked: str, kind: str, code: str, measured: str, reason: str
) -> None:
    site = SITE.replace("http_port = 8080\n", f"http_port = 8080\n{DRIVES}\n{asked}\n")
    types = TYPES.replace("channels = 4", f"channels = 4\n{kind}")
    planned = plan_storage(read_plan(SiteFolder(make_site(tmp_path, site, types=types))))
    assert [f.code for f in planned.findings] == [code] * bool(code)
    assert all(measured in f.measured for f in planned.findings)
    (fit,) = planned.recorders[0].fits
    assert fit.fits is not bool(code) and all(reason in text for text in fit.reasons)


def test_what_its_own_screen_shows_is_taken_in_and_a_recorder_needs_drives(tmp_path: Path) -> None:
    """The sub streams of 64 kbit/s come in beside the main streams of 300 kbit/s."""
    site = SITE.replace("http_port = 8080\n", "http_port = 8080\nown_panels = 4\n")
    plan = read_plan(SiteFolder(make_site(tmp_path, site)))
    assert plan_traffic(plan).recorders[0].ingest_bps == 2 * 364_000
    (found,) = plan_storage(plan).findings
    assert (found.code, found.severity.value) == ("STO-5", "warning") and "2 cameras" in found.measured


def test_what_is_kept_at_measured_rates_is_worked_out_by_hand(tmp_path: Path) -> None:
    """Two cameras alike, 422.1 days of drives: one sends half as much again, so that 4/5 of the days are kept."""
    storage_of(tmp_path, "keep_days = 400, max_days = 500")
    plan, now = read_plan(SiteFolder(tmp_path)), datetime(2026, 3, 4, tzinfo=UTC)
    (planned,) = plan_storage(plan).recorders
    rate = planned.cameras[0].bitrate_bps
    (same,) = keeping(plan, {}, {}, now)
    assert same.measured == 0 and same.storage.days == planned.days and not keeping_findings(same)
    first, second = (c.camera for c in planned.cameras)
    (kept,) = keeping(plan, {first: 1.5 * rate, second: rate}, {first: now - timedelta(days=3)}, now)
    assert kept.storage.days == pytest.approx(422.1 * 4 / 5, abs=0.1)
    assert [c.over for c in kept.cameras] == [True, False]
    assert [c.goes.date().isoformat() for c in kept.cameras if c.goes] == ["2027-02-01", "2027-02-04"]
    short, more = keeping_findings(kept)
    assert (short.code, more.code) == ("STO-7", "STO-8")
    assert short.measured.startswith(
        "337.7 days of north; its oldest hour goes on 2027-02-01 (2 of 2 cameras measured)"
    )
    assert more.measured.startswith("450 kbit/s of north (2 of 2") and "300 kbit/s planned" in more.limit
    assert recorded_rates(plan, {(first, "main"): 5.0}) == {first: 5.0}
