"""What stays open and what was settled on the way; and what a recorder's channel is said to do."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta
from pathlib import Path

import pytest

from conftest import make_site
from zentrale.findings import Finding, finding
from zentrale.jobs.checking_channels import _Channel, _judge
from zentrale.jobs.handing_over import hand_over, sort_findings
from zentrale.logbook.store import Logbook
from zentrale.protocols.onvif import recording
from zentrale.site.folder import SiteFolder
from zentrale.site.model import Camera
from zentrale.site.reading import read_plan

NOW = datetime(2026, 4, 1, 12, 0, tzinfo=UTC)
URL = "rtsp://127.0.71.11:8554/live/main"


def item(code: str, subject: str = "camera north") -> Finding:
    return finding(code, subject, "measured", "limit", "source")


@pytest.fixture
def log(tmp_path: Path) -> Logbook:
    return Logbook(tmp_path / "log.sqlite")


def run(log: Logbook, command: str, *findings: Finding, step: str = "", subject: str = "camera north") -> None:
    number = log.begin_run(command, "laptop")
    if step:
        log.end_change(log.begin_change(number, subject, step, "before", "after"))
    log.finish_run(number, findings)


def sorted_codes(log: Logbook, *planned: Finding) -> tuple[list[str], list[str]]:
    open_findings, settled = sort_findings(log, planned, log.changes())
    return [f.code for f in open_findings], [s.finding.code for s in settled]


def test_a_default_password_is_settled_by_the_change_of_it(log: Logbook) -> None:
    run(log, "discover", item("SEC-1"), item("CLK-1"), item("DIS-3"))
    assert sorted_codes(log) == (["SEC-1", "CLK-1", "DIS-3"], [])
    run(log, "register", step="password")
    assert sorted_codes(log) == (["CLK-1", "DIS-3"], ["SEC-1"])
    run(log, "register", step="time", subject="camera south")
    assert sorted_codes(log) == (["CLK-1", "DIS-3"], ["SEC-1"]), "another camera's clock settles nothing"


def test_a_failed_change_settles_nothing(log: Logbook) -> None:
    run(log, "discover", item("SEC-1"))
    number = log.begin_run("register", "")
    log.end_change(log.begin_change(number, "camera north", "password", "a", "b"), "refused")
    log.finish_run(number, [item("REG-1")])
    assert sorted_codes(log) == (["SEC-1", "REG-1"], [])


def test_only_the_newest_run_counts_and_the_older_ones_are_settled(log: Logbook) -> None:
    run(log, "verify", item("STR-3"), item("STR-7"))
    run(log, "verify", item("STR-7"))
    assert sorted_codes(log) == (["STR-7"], ["STR-3"])
    run(log, "verify")
    assert sorted_codes(log, item("PWR-1")) == (["PWR-1"], ["STR-7", "STR-3"]), (
        "the plan's own findings are always open"
    )


def test_a_pack_before_anything_was_done_says_so(tmp_path: Path) -> None:
    folder = SiteFolder(make_site(tmp_path))
    with Logbook(folder.logbook_file) as log:
        result = hand_over(read_plan(folder), folder, log)
        text = (result.folder / "index.html").read_text()
        assert not result.verified and "NOT VERIFIED" in text and "No discovery was run" in text
        run(log, "verify")
        run(log, "register", step="name")
        hand_over(read_plan(folder), folder, log)
        assert "changed after the last verification" in (result.folder / "index.html").read_text()


CAMERA = Camera.model_validate({
    "name": "north", "type": "t", "group": "g", "zone": "z", "switch": "s", "port": 1, "run_length_m": 1, "recorder": "rec",
    "channel": 2, "row": 7,
})  # fmt: skip


def channel(state: str, until_s: float | None = 0, url: str = URL, error: str = "", name: str = "north") -> _Channel:
    latest = None if until_s is None else NOW + timedelta(seconds=until_s)
    return _Channel(name, url, recording.JobState(state, error), recording.Stored(latest, latest, ""))


@pytest.mark.parametrize(
    ("now", "before", "code", "words"),
    [
        (channel(recording.ACTIVE, 5), channel(recording.ACTIVE, 0), None, ""),
        (channel(recording.ACTIVE, 5), None, None, ""),
        (channel(recording.ACTIVE, 5), channel(recording.ACTIVE, None), None, ""),
        (channel(recording.ACTIVE, 0), channel(recording.ACTIVE, 0), "REC-1", "does not grow"),
        (channel(recording.ACTIVE, None), None, "REC-1", "nothing is stored"),
        (channel(recording.IDLE, 5), None, "REC-1", "state Idle"),
        (channel(recording.ERROR, 5, error="401 Unauthorized"), None, "REC-1", "401 Unauthorized"),
        (
            channel(recording.ACTIVE, 5, url="rtsp://10.0.0.9/x", name="other"),
            None,
            "REC-2",
            "rtsp://10.0.0.9/x (other)",
        ),
        (_Channel("", "", None, recording.Stored(None, None, "")), None, "REC-2", "the channel is free"),
        (None, None, "REC-2", "no such channel"),
    ],
)
def test_a_channel_records_or_the_cause_is_named(
    now: _Channel | None, before: _Channel | None, code: str | None, words: str
) -> None:
    result = _judge(CAMERA, now, before, URL)
    assert [f.code for f in result.findings] == ([code] if code else [])
    assert all(
        f.subject == "channel 2 of rec" and words in f.measured and "line 7" in f.limit_source for f in result.findings
    )
