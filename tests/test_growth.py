"""What it takes to add one more: a class, its line in the registry, its finding code. Nothing else is touched, and it is
there in the commands, the journal, the evidence and the hand-over.
"""

from __future__ import annotations

import ast
import asyncio
import sys
import types
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import pytest

from conftest import make_site, zentrale
from strangers import Settable
from test_architecture import ROOT
from test_steps import HOST, Place, plays, serving
from zentrale.cli import plan as _plan_command  # noqa: F401 - its text is made of the parts before one is added
from zentrale.cli import work
from zentrale.findings import CATALOGUE, Entry, Finding, Severity, finding
from zentrale.jobs.checks.check import Check, Need, Round
from zentrale.jobs.checks.check_registry import CHECKS
from zentrale.jobs.finders.finder import Finder, Looked, Search, Sighting
from zentrale.jobs.finders.finder_registry import FINDERS
from zentrale.jobs.handing_over import hand_over
from zentrale.jobs.known.layer import Layer
from zentrale.jobs.known.planned import ref_of
from zentrale.jobs.known.step_form import Step
from zentrale.jobs.parts import part_registry as parts
from zentrale.jobs.parts.part import Asked, Made, Page, Part, Request
from zentrale.jobs.recorders.driver import ByHand, Sample
from zentrale.jobs.recorders.passes import Passes
from zentrale.jobs.recorders.recorder_kinds import KINDS
from zentrale.jobs.recorders.recorder_registry import speaking_onvif
from zentrale.jobs.recorders.work_sheet import WorkSheet
from zentrale.jobs.registration import channels
from zentrale.jobs.registration.undoing import undo
from zentrale.jobs.steps.bench import Bench
from zentrale.jobs.steps.step_registry import STEPS
from zentrale.jobs.verifying import run_checks
from zentrale.logbook.evidence import Judged, standings
from zentrale.logbook.store import Logbook
from zentrale.simulation.from_plan import fresh_site
from zentrale.site.model import Camera, Plan


@pytest.fixture(autouse=True)
def code(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setitem(CATALOGUE, "TST-1", Entry("TST-1", Severity.FAULT, "a new code", "what it means", "what to do"))


@dataclass(frozen=True)
class Lamp:
    on: bool


LAMP = {"on": False}


class LampStep(Step[Lamp]):
    name = "lamp"

    async def look(self) -> Lamp:
        return Lamp(LAMP["on"])

    def wanted(self, now: Lamp) -> Lamp:
        return Lamp(True)

    async def apply(self, now: Lamp, wanted: Lamp) -> None:
        LAMP["on"] = wanted.on

    def shown(self, state: Lamp) -> str:
        return "lit" if state.on else "dark"


def test_a_step(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    def steps(bench: Bench) -> list[Step[Any]]:
        return [LampStep(bench.client)]

    monkeypatch.setattr(
        sys.modules["zentrale.jobs.steps.step_registry"], "STEPS", [*STEPS, types.SimpleNamespace(steps=steps)]
    )
    camera = Settable(HOST)
    place = Place(tmp_path, camera)
    with serving(camera):
        place.discover()
        assert place.register(dry_run=True)["lamp"].before == "dark" and not LAMP["on"]
        result = place.registration()
        assert LAMP["on"] and place.register()["lamp"].outcome.value == "unchanged"
        with Logbook(place.folder.logbook_file) as log:
            assert ("lamp", "dark", "lit") in [(c.step, c.before, c.after) for c in log.changes()]
            assert result.run is not None
            asyncio.run(undo(place.keyring(log), result.run, lambda *_: None))
    assert not LAMP["on"]


class Dust(Check):
    name = "dust"
    layer = Layer.PICTURE
    codes = frozenset({"TST-1"})
    doing = "looking for dust"

    async def observe(self, round: Round) -> None:
        for camera in round.cameras:
            round.observe("dust", ref_of(camera), "by eye", {"grains": 3})

    def judge(self, round: Round) -> Iterator[Judged]:
        for camera in round.cameras:
            ref = ref_of(camera)
            yield Judged(ref, self.codes, (finding("TST-1", ref, "3 grains", "none", "good practice"),))

    def needs(self, plan: Plan, camera: Camera) -> list[Need]:
        return [Need("dust never looked for", camera.name, ref_of(camera), "TST-1")]


def test_a_check(tmp_path: Path) -> None:
    place = Place(tmp_path, Settable(HOST))
    CHECKS.append(Dust())
    try:
        with Logbook(place.folder.logbook_file) as log:
            asked = hand_over(place.plan, place.folder, log)
            assert ("dust never looked for", ("north",)) in [(n.what, n.subjects) for n in asked.never_asked]
            told = []
            with log.running("verify", "desk") as run:
                round = Round(place.plan, place.plan.cameras, place.keyring(log), None, {}, run)  # type: ignore[arg-type]
                asyncio.run(run_checks(round, CHECKS[-1:], lambda number, text: told.append(text)))
            assert told == ["looking for dust"] and [s.finding.code for s in standings(log)] == ["TST-1"]
            handed = hand_over(place.plan, place.folder, log)
            assert "TST-1" in [f.code for f in handed.open_findings]
            assert "dust never looked for" not in [n.what for n in handed.never_asked]
    finally:
        CHECKS.pop()


class Crystal(Finder):
    name = "crystal ball"

    def looks(self, search: Search) -> Looked:
        return Looked()

    async def find(self, search: Search) -> list[Sighting]:
        return [Sighting("127.0.77.99", self.name, ports=(8080,))]


def test_a_way_of_discovery(tmp_path: Path) -> None:
    site = make_site(tmp_path)
    FINDERS.append(Crystal())
    try:
        found = zentrale("discover", "--no-probe", "--no-sweep", "--json", cwd=site)
    finally:
        FINDERS.pop()
    assert [(d["address"], d["method"]) for d in found.json["devices"]] == [("127.0.77.99", "crystal ball")]


class Tape(WorkSheet):
    async def sample(self, planned: object, *, whole: bool = True) -> Sample:
        return Sample()

    def give(self, camera: Camera, url: str, passes: Passes) -> ByHand:
        return ByHand("tape", camera.channel, camera.name, url, "nobody")


def test_a_kind_of_recorder(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(channels, "take_reference", plays)
    camera = Settable(HOST)
    place = Place(tmp_path, camera)
    types = place.folder.types_file
    types.write_text(types.read_text().replace("[[recorder_types]]\n", '[[recorder_types]]\ncontrol = "tape"\n'))
    unknown = zentrale("check", cwd=tmp_path)
    line = types.read_text().splitlines().index('control = "tape"') + 1
    assert unknown.code == 2 and f"types.toml line {line}: field recorder_types.control: found 'tape'" in unknown.err
    assert "expected one of: onvif, by-hand" in unknown.err
    monkeypatch.setitem(KINDS, "tape", f"{Tape.__module__}:Tape")
    place.plan = work.plan_of(place.folder)
    with serving(camera):
        place.discover()
        assert [(b.recorder, b.channel, b.user) for b in place.registration().by_hand] == [("tape", 1, "nobody")]
    assert not fresh_site(place.plan, lambda name: ("02:00:00:00:00:01", HOST), speaking_onvif(place.plan)).recorders


@dataclass(frozen=True)
class Paint:
    litres: int
    findings: tuple[Finding, ...]


def test_a_part_of_the_plan(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    def calculate(plan: Plan, made: Made, request: Request) -> Paint:
        return Paint(len(plan.cameras), (finding("TST-1", "paint", "2 l", "3 l", "the tin"),))

    def show(page: Page, plan: Plan, result: Paint, asked: Asked) -> None:
        page.table(["paint", ">litres"], [["grey", str(result.litres)]])

    module = types.ModuleType("zentrale.jobs.parts.paint_part")
    module.PART = Part("paint", calculate, lambda r: {"paint": [{"litres": r.litres}]}, show)  # type: ignore[attr-defined]
    monkeypatch.setitem(sys.modules, module.__name__, module)
    monkeypatch.setitem(parts.PARTS, "paint", "how much paint")
    site = make_site(tmp_path)
    assert zentrale("plan", "paint", "--json", cwd=site).json["paint"] == [{"litres": 2}]
    shown = zentrale("plan", "paint", "--tables", cwd=site)
    assert shown.code == 1 and "grey" in shown.out and "TST-1" in shown.out
    assert (site / "output/plan/paint.csv").exists()


def test_each_of_them_stands_in_one_list_only() -> None:
    """A module of these rooms is imported by the registry of its room, and by nothing outside that would have to be
    changed for another one.
    """
    special = {  # what others use of a module beside its line in the list
        "steps.password", "steps.accounts", "steps.address", "steps.rotate", "checks.streams_check", "checks.strangers_check",
        "checks.recording_check", "parts.power_part", "parts.storage_part", "recorders.work_sheet",
    }  # fmt: skip
    frame = {
        "runner", "bench", "new_password", "whereabouts", "left_open", "passes", "check", "seen", "finder", "merging", "driver",
        "book", "numbering", "moves", "next_free", "onvif_lists", "channel_step", "own_channel_step", "channel_rules",
            "channel_judging", "stored_judging", "history", "kept_channels", "searching",
            "resolving", "motion_watch", "kept_rates", "told_of_itself", "channel_holds", "recorder_kinds", "part", "__init__",
    }  # fmt: skip
    assert len(special) <= 10
    users: dict[str, set[str]] = {}
    for path in ROOT.rglob("*.py"):
        for node in ast.walk(ast.parse(path.read_text())):
            names = []
            if isinstance(node, ast.ImportFrom) and node.module:
                names = [node.module, *(f"{node.module}.{a.name}" for a in node.names)]
            for name in names:
                users.setdefault(name.removeprefix("zentrale.jobs."), set()).add(str(path.relative_to(ROOT)))
    for room in ("steps", "checks", "finders", "recorders", "parts"):
        for path in (ROOT / "jobs" / room).glob("*.py"):
            module = f"{room}.{path.stem}"
            if path.stem not in frame and module not in special and not path.stem.endswith("_registry"):
                lists = {f"jobs/{room}/{room.removesuffix('s')}_registry.py", "jobs/recorders/channel_rules.py"}
                assert users.get(module, set()) <= lists, module
