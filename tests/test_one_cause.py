"""One cause for many: said only where all that share a thing break alike, and nobody else does."""

from __future__ import annotations

import pytest

from conftest import zentrale
from zentrale.findings import Finding, finding
from zentrale.jobs.known.one_cause import broken_at, common
from zentrale.site.folder import SiteFolder
from zentrale.site.model import Plan
from zentrale.site.reading import read_plan
from zentrale.subjects import Kind, Ref


@pytest.fixture(scope="module")
def plan(tmp_path_factory: pytest.TempPathFactory) -> Plan:
    folder = tmp_path_factory.mktemp("one-cause") / "site"
    assert zentrale("new", str(folder), "--sample", "brackwater").code == 0
    return read_plan(SiteFolder(folder))


def faults(code: str, *names: str) -> list[Finding]:
    return [finding(code, Ref(Kind.CAMERA, name, "main stream"), "-", "-", "-") for name in names]


def said(plan: Plan, findings: list[Finding], looked_at: list[str] | None = None) -> list[tuple[str, int]]:
    names = looked_at or [c.name for c in plan.cameras]
    return [(c.what, len(c.cameras)) for c in common(plan, names, broken_at(plan, findings))]


def on(plan: Plan, switch: str) -> list[str]:
    return [c.name for c in plan.cameras if c.switch == switch]


def test_a_dead_switch_is_said_once_and_only_where_all_of_it_is_dead(plan: Plan) -> None:
    dead = on(plan, "pump-house")
    assert said(plan, faults("STR-1", *dead)) == [("switch pump-house", 8)]
    (alone,) = common(plan, [c.name for c in plan.cameras], broken_at(plan, faults("STR-1", *dead)))
    assert alone.says.startswith("8 cameras, all on switch pump-house and nobody else: its uplink")
    assert said(plan, faults("STR-1", *dead[1:])) == [], "one of them answers: it is not the switch"
    assert said(plan, faults("STR-1", *dead, "swing-bridge")) == [("switch pump-house", 8)]
    assert said(plan, faults("STR-3", *dead)) == [("switch pump-house", 8)], "alike higher up"
    mixed = faults("STR-1", *dead[:4]) + faults("SEC-3", *dead[4:])
    assert said(plan, mixed) == [], "not alike"
    assert said(plan, faults("STR-1", *dead, *on(plan, "lower-gates"))) == [
        ("switch pump-house", 8),
        ("switch lower-gates", 7),
    ]


def test_where_everybody_breaks_or_two_do_nothing_is_said(plan: Plan) -> None:
    assert said(plan, faults("STR-1", *(c.name for c in plan.cameras))) == []
    assert said(plan, faults("STR-1", *on(plan, "pump-house")), on(plan, "pump-house")) == [], "no other was looked at"
    two = on(plan, "pump-house")[:2]
    assert said(plan, faults("STR-1", *two), [*two, "swing-bridge"]) == []


def test_types_and_recorders_are_to_blame_where_switches_are_not(plan: Plan) -> None:
    vespers = [c.name for c in plan.cameras if c.type == "vesper-d4"]
    assert said(plan, faults("SEC-3", *vespers)) == [("type vesper-d4", len(vespers))]
    second = [c for c in plan.cameras if c.recorder == "recorder-2"]
    stopped = [
        finding("REC-1", Ref(Kind.RECORDER, "recorder-2", f"channel {c.channel}"), "-", "-", "-") for c in second
    ]
    assert said(plan, stopped) == [("recorder recorder-2", len(second))]
    assert said(plan, [*stopped, *faults("PIC-1", *(c.name for c in second))]) == [], (
        "black pictures have no cause in common"
    )
