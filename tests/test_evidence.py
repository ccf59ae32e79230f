"""What stays open and what was settled on the way; and what a recorder's channel is said to do."""

from __future__ import annotations

import json
import os
import sqlite3
from collections.abc import Iterator
from datetime import UTC, datetime
from pathlib import Path

import pytest

from conftest import CAMERAS, make_site
from zentrale.findings import Finding, finding
from zentrale.jobs.handing_over import hand_over, sort_findings
from zentrale.logbook.evidence import Notes, chain_breaks, latest, note, standings
from zentrale.logbook.schema import VERSION_1, VERSION_2
from zentrale.logbook.store import Logbook
from zentrale.site.folder import SiteFolder
from zentrale.site.reading import read_plan
from zentrale.subjects import Kind, Ref

NOW = datetime(2026, 4, 1, 12, 0, tzinfo=UTC)
URL = "rtsp://127.0.71.11:8554/live/main"


NORTH, SOUTH = Ref(Kind.CAMERA, "north"), Ref(Kind.CAMERA, "south")
MAIN = Ref(Kind.CAMERA, "north", "main stream")


def item(code: str, ref: Ref = NORTH) -> Finding:
    return finding(code, ref, "measured", "limit", "source")


@pytest.fixture
def folder(tmp_path: Path) -> SiteFolder:
    return SiteFolder(make_site(tmp_path))


@pytest.fixture
def log(folder: SiteFolder) -> Iterator[Logbook]:
    with Logbook(folder.logbook_file) as log:
        yield log


def look(log: Logbook, command: str, ref: Ref, codes: str, *found: str, seen: dict[str, object] | None = None) -> int:
    """A run that looked for `codes` at `ref` and found some of them."""
    with log.running(command, "laptop") as number:
        notes = Notes()
        notes.judge(ref, codes.split(), [item(code, ref) for code in found])
        if seen is not None:
            notes.observe("stream", ref, "RTSP", seen)
        note(log, number, notes)
    return number


def sorted_codes(folder: SiteFolder, log: Logbook, *planned: Finding) -> tuple[list[str], list[str]]:
    open_findings, settled = sort_findings(read_plan(folder), log, planned)
    return [f.code for f in open_findings], [s.finding.code for s in settled]


def test_a_finding_is_open_until_the_same_is_looked_for_at_the_same_subject_and_is_well(
    folder: SiteFolder, log: Logbook
) -> None:
    look(log, "verify", MAIN, "STR-1 STR-3 STR-7", "STR-3", "STR-7")
    assert sorted_codes(folder, log) == (["STR-3", "STR-7"], [])
    look(log, "verify", Ref(Kind.CAMERA, "south", "main stream"), "STR-3 STR-7")
    look(log, "discover", NORTH, "DIS-1 STR-3")
    look(log, "verify", MAIN, "STR-1", "STR-1")  # it did not play: nothing is known of its resolution
    assert sorted_codes(folder, log) == (["STR-3", "STR-7", "STR-1"], []), "another subject, or not asked"
    look(log, "verify", MAIN, "STR-1 STR-3 STR-7", "STR-7")
    assert sorted_codes(folder, log, item("PWR-1")) == (["PWR-1", "STR-7"], ["STR-3", "STR-1"])
    log.rename("north", "gate")
    rows = CAMERAS.replace("north,", "gate,")
    (folder.path / "cameras.csv").write_text(rows)
    assert sorted_codes(folder, log)[0] == ["STR-7"], "it stays with the camera, whatever its row is called"
    (folder.path / "cameras.csv").write_text(rows.replace("gate,", "new,"))
    assert sorted_codes(folder, log) == ([], []), "a camera that left the plan is nobody's fault any more"


def test_two_findings_of_one_code_in_one_look_both_stand(log: Logbook) -> None:
    with log.running("verify", "laptop") as number:
        notes = Notes()
        notes.judge(MAIN, ["STR-27"], [finding("STR-27", MAIN, what, "the same", "SDP") for what in ("size", "rate")])
        note(log, number, notes)
    assert [s.finding.measured for s in standings(log) if s.settled_by is None] == ["size", "rate"]


def test_an_interrupted_run_keeps_what_it_has_and_a_running_one_is_not_called_so(log: Logbook) -> None:
    with pytest.raises(KeyboardInterrupt), log.running("verify", "laptop", {"cameras": ["north"]}) as number:
        notes = Notes()
        notes.judge(MAIN, {"STR-7"}, [item("STR-7", MAIN)])
        note(log, number, notes)
        raise KeyboardInterrupt
    log.begin_run("verify", "laptop")
    died = log.begin_run("verify", "laptop")
    log.execute("UPDATE run SET process = ? WHERE id = ?", (f"{os.uname().nodename} 999999 1.00", died))
    assert [(r.state, r.scope) for r in log.runs()] == [
        ("interrupted", {}), ("begun", {}), ("interrupted", {"cameras": ["north"]}),
    ]  # fmt: skip
    assert [s.settled_at for s in standings(log)] == [None]


SEEN = {
    "codec": "H264",
    "width_px": 320,
    "height_px": 180,
    "fps": 10.0,
    "bitrate_bps": 3e5,
    "new_in_a_later_version": 1,
}


@pytest.mark.parametrize(
    ("spoil", "where"),
    [
        ("UPDATE observation SET content = replace(content, '320', '1920') WHERE id = 2", "observation 2"),
        ("UPDATE observation SET at = '2026-01-01T00:00:00+00:00' WHERE id = 2", "observation 2"),
        ("DELETE FROM observation WHERE id = 2", "observation 3"),
        ("DELETE FROM observation WHERE id = 3", "run 3 (`verify`): 1 observations were written, 0 are there"),
    ],
)
def test_a_changed_observation_shows(folder: SiteFolder, log: Logbook, spoil: str, where: str) -> None:
    for _ in range(3):
        look(log, "verify", MAIN, "STR-1", seen=dict(SEEN))
    assert chain_breaks(log) == [] and latest(log, "stream")[MAIN].content == SEEN
    log.execute(spoil)
    assert where in chain_breaks(log)[0]
    assert sorted_codes(folder, log)[0] == ["EVD-1"]


def test_a_pack_says_what_was_never_asked_and_when_each_was_measured(folder: SiteFolder, log: Logbook) -> None:
    plan = read_plan(folder)
    result = hand_over(plan, folder, log)
    text = (result.folder / "index.html").read_text()
    assert not result.verified and "NOT VERIFIED" in text and "No discovery was run" in text
    never = {n.what: n.subjects for n in result.never_asked}
    assert never["stream never measured"] == ("north main", "north sub", "south main", "south sub")
    assert never["never looked for"] == ("north", "south", "recorder")
    look(log, "verify", MAIN, "STR-1", seen=SEEN)
    look(log, "verify", Ref(Kind.CAMERA, "south", "main stream"), "STR-1", seen=SEEN)
    log.end_change(log.begin_change(1, NORTH, "name", "a", "b"))
    result = hand_over(plan, folder, log)
    text = (result.folder / "index.html").read_text()
    assert "changed after the last verification" in text and "in several runs" in text and "NOT READY" in text
    assert {n.what: n.subjects for n in result.never_asked}["stream never measured"] == ("north sub", "south sub")
    assert "H264 320x180 10.0 fps 300 kbit/s" in text


def test_a_logbook_of_today_is_brought_up_to_date_with_all_it_says(tmp_path: Path) -> None:
    """Written with the statements of version 2, as that version wrote them."""
    old = sqlite3.connect(tmp_path / "log")
    old.executescript(VERSION_1 + VERSION_2 + "PRAGMA user_version = 2;")
    old.execute(
        "INSERT INTO run VALUES (1, 'discover', 'lo', '2026-01-01T10:00:00+00:00', '2026-01-01T10:01:00+00:00')"
    )
    old.execute(
        "INSERT INTO run VALUES (2, 'verify', 'desk', '2026-01-01T11:00:00+00:00', '2026-01-01T11:01:00+00:00')"
    )
    seen = [
        (1, "device", "north", {"address": "127.0.71.11", "url": "", "method": "sweep"}),
        (2, "stream", "north main", {**SEEN, "camera": "north", "stream": "main"}),
        (2, "channel", "north", {"recorder": "recorder", "channel": 1, "state": "Active"}),
    ]
    for run, kind, subject, content in seen:
        row = (run, "2026-01-01T11:00:30+00:00", kind, subject, "x", json.dumps(content))
        old.execute("INSERT INTO seen (run, at, kind, subject, method, content) VALUES (?, ?, ?, ?, ?, ?)", row)
    for run, code, subject, measured in (
        (1, "SEC-1", "camera north", "m"), (2, "STR-3", "camera north, main stream", "m"),
        (2, "REC-1", "channel 1 of recorder", "m"), (2, "REG-1", "camera north", "step name: no"),
    ):  # fmt: skip
        old.execute("INSERT INTO finding VALUES (?, ?, 'fault', ?, ?, 'l', 's', 'a')", (run, code, subject, measured))
    old.execute(
        "INSERT INTO done VALUES (1, 1, '2026-01-01T10:30:00+00:00', 'camera north', 'name', 'a', 'b', 'done', '')"
    )
    old.commit()
    old.close()
    with Logbook(tmp_path / "log") as log:
        assert chain_breaks(log) == []
        assert (
            latest(log, "stream")[MAIN].vantage == "desk" and latest(log, "device")[NORTH].content["method"] == "sweep"
        )
        open_now = {(s.finding.code, s.finding.subject) for s in standings(log) if s.settled_at is None}
        assert open_now == {
            ("SEC-1", "camera north"), ("STR-3", "camera north, main stream"), ("REC-1", "channel 1 of recorder"),
            ("REG-1", "camera north, step name"),
        }  # fmt: skip
        assert [(c.ref, c.step, c.before) for c in log.changes()] == [(NORTH, "name", "a")]
        look(log, "verify", MAIN, "STR-3")
        assert len([s for s in standings(log) if s.settled_at is None]) == 3
