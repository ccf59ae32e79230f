"""What failures cost, on a network small enough to see through: a ring of three switches, and a tail."""

from __future__ import annotations

from pathlib import Path

import pytest

from conftest import CAMERAS, SITE, TYPES, make_site, zentrale
from zentrale.planning.power import plan_power
from zentrale.planning.resilience import ResiliencePlan, plan_resilience
from zentrale.site.folder import SiteFolder
from zentrale.site.reading import read_plan

# cabinet (recorder) - east - west - cabinet is a ring; tail hangs on west alone.
RING = "".join(f'[[switches]]\nname = "{n}"\ncabinet = "{n}"\ntype = "switch-8"\n' for n in ("east", "west", "tail"))


def link(a: str, b: str, rate: int = 100, lit: str = "true") -> str:
    return f'[[links]]\na = "{a}"\nb = "{b}"\nrate_mbps = {rate}\nlit = {lit}\n'


LINKS = link("cabinet:7", "east:7") + link("east:8", "west:8") + link("west:7", "cabinet:8") + link("west:6", "tail:6")
ROWS = (
    CAMERAS.splitlines()[0]
    + "\n"
    + "".join(
        f"{name},x,larch-2,all,cameras,{switch},1,20,,,recorder,{channel}\n"
        for channel, (name, switch) in enumerate([("c-east", "east"), ("c-west", "west"), ("c-tail", "tail")], start=1)
    )
)


def resilience_of(
    folder: Path, links: str = LINKS, *, policy: str = "", types: str = TYPES, pairs: bool = False
) -> ResiliencePlan:
    site = SITE.replace("[policy]", f"[policy]\n{policy}") + RING + links
    plan = read_plan(SiteFolder(make_site(folder, site, ROWS, types)))
    return plan_resilience(plan, plan_power(plan), pairs=pairs)


def costs(plan: ResiliencePlan) -> dict[str, set[str]]:
    return {failure.name: set(failure.lost) for failure in plan.singles}


def test_a_ring_survives_any_one_link_and_a_tail_does_not(tmp_path: Path) -> None:
    plan = resilience_of(tmp_path)
    everything = {"c-east", "c-west", "c-tail"}
    assert costs(plan) == {
        "switch cabinet": everything,
        "recorder recorder": everything,
        "switch west": {"c-west", "c-tail"},
        "switch east": {"c-east"},
        "switch tail": {"c-tail"},
        "link west:6 - tail:6": {"c-tail"},
    }
    assert plan.harmless == 3 and not plan.findings
    assert [f.name for f in plan.singles][:2] == ["recorder recorder", "switch cabinet"], "dearest first"
    parted = {f.name: f.parted_zones for f in plan.singles}
    assert parted["link west:6 - tail:6"] == ("cameras",) and parted["switch tail"] == ()


def test_a_dark_link_is_no_detour_and_a_parallel_one_is(tmp_path: Path) -> None:
    dark = LINKS.replace(link("east:8", "west:8"), link("east:8", "west:8", lit="false"))
    assert costs(resilience_of(tmp_path / "a", dark))["link cabinet:7 - east:7"] == {"c-east"}
    double = resilience_of(tmp_path / "b", LINKS + link("west:5", "tail:5", rate=10))
    assert "link west:6 - tail:6" not in costs(double)


def test_pairs_are_told_where_two_cost_more_than_each(tmp_path: Path) -> None:
    pairs = {failure.name: failure.lost for failure in resilience_of(tmp_path, pairs=True).pairs}
    assert pairs["link cabinet:7 - east:7 and link west:7 - cabinet:8"] == ("c-east", "c-tail", "c-west")
    assert pairs["link cabinet:7 - east:7 and link east:8 - west:8"] == ("c-east",)
    assert not any("recorder" in name for name in pairs), "everything is lost with the recorder alone"


def test_what_must_stay_and_does_not(tmp_path: Path) -> None:
    plan = resilience_of(tmp_path, policy='resilient_groups = ["all"]')
    found = {f.subject: f.measured for f in plan.findings}
    assert {f.code for f in plan.findings} == {"RES-1"}
    assert set(found) == {"switch cabinet", "recorder recorder", "switch west", "link west:6 - tail:6"}
    assert found["switch west"].endswith("1 camera that must stay: c-tail"), "its own camera does not count"


def test_a_detour_that_overloads_a_link(tmp_path: Path) -> None:
    """Each camera sends 300 kbit/s: with one side of the ring gone, all three go over one link of 0.6 of that."""
    thin = LINKS.replace("rate_mbps = 100", "rate_mbps = 1", 3)
    site = SITE.replace("bitrate_kbps = 300", "bitrate_kbps = 400") + RING + thin
    plan = read_plan(SiteFolder(make_site(tmp_path, site, ROWS, TYPES)))
    found = plan_resilience(plan, plan_power(plan)).findings
    assert {(f.code, f.subject) for f in found} == {
        ("RES-2", "link cabinet:7 - east:7"), ("RES-2", "link west:7 - cabinet:8"),
    }  # fmt: skip
    assert all("127 %" in f.measured for f in found)


def test_a_lost_supply_counts_as_a_part(tmp_path: Path) -> None:
    types = TYPES.replace("poe_budget_w = 60", "poe_budget_w = 60\npoe_budget_one_supply_w = 1")
    lost = costs(resilience_of(tmp_path, types=types))
    assert lost["supply east"] == {"c-east"} and "supply cabinet" not in lost


def test_plan_resilience_is_shown_and_exported(tmp_path: Path) -> None:
    make_site(tmp_path, SITE + RING + LINKS, ROWS, TYPES)
    shown = zentrale("plan", "resilience", "--pairs", cwd=tmp_path)
    assert shown.code == 0 and "dearest first" in shown.out and "3 parts may fail without any loss" in shown.out
    document = zentrale("plan", "resilience", "--pairs", "--json", cwd=tmp_path).json
    assert document["harmless_parts"] == 3 and len(document["pairs_of_failures"]) >= 3
    west = next(f for f in document["single_failures"] if f["parts"][0]["name"] == "west")
    assert west["cameras_lost"] == ["c-tail", "c-west"]
    assert west["fullest_link_share"] == pytest.approx(0.3 * 1478 / 1400 / 100, rel=0.02)
