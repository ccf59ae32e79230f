"""What failures cost, on a network small enough to see through: a ring of three switches, and a tail."""

from __future__ import annotations

from pathlib import Path

import pytest

from conftest import CAMERAS, SITE, TYPES, make_site, zentrale
from zentrale.planning.failures import Network
from zentrale.planning.power import plan_power
from zentrale.planning.resilience import ResiliencePlan, plan_resilience
from zentrale.planning.traffic import plan_traffic
from zentrale.site.folder import SiteFolder
from zentrale.site.reading import read_plan

# cabinet (recorder) - east - west - cabinet is a ring; tail hangs on west alone.
PROTECTED = 'type = "switch-8"\nloop_protection = "rstp"\n'
RING = "".join(f'[[switches]]\nname = "{n}"\ncabinet = "{n}"\n{PROTECTED}' for n in ("east", "west", "tail"))
SITE = SITE.replace('type = "switch-8"\n', PROTECTED, 1)


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


def test_a_detour_carries_what_viewers_ask_for_too(tmp_path: Path) -> None:
    """Cameras send 200 kbit/s to the recorder and again to a screen in the cabinet, 1.0557 times that with overhead. Over the
    one link of 1 Mbit/s that is left of the ring: 6 x 200 x 1.0557 = 1.27 of 1. A bundle of three such links carries it.
    """
    screen = '[[viewers]]\nname = "desk"\nzone = "cameras"\nswitch = "cabinet"\nport = 5\nstream = "main"\nsource = "camera"\n'
    site = SITE.replace("bitrate_kbps = 300", "bitrate_kbps = 200") + RING + screen
    thin = LINKS.replace("rate_mbps = 100", "rate_mbps = 1", 3)
    plan = read_plan(SiteFolder(make_site(tmp_path / "a", site + thin, ROWS, TYPES)))
    gone = "link cabinet:7 - east:7"
    (found,) = [f for f in plan_resilience(plan, plan_power(plan)).findings if f.subject == gone]
    assert f"{100 * 6 * 0.2 * 1478 / 1400:.0f} % on link west:7 - cabinet:8" in found.measured

    def bundled(line: str) -> str:
        return line.rstrip() + '\nbundle = "b"\n'

    one, *more = (link(f"west:{port}", f"cabinet:{other}", 1) for port, other in ((7, 8), (5, 10), (4, 6)))
    wide = thin.replace(one, "".join(map(bundled, (one, *more))))
    plan = read_plan(SiteFolder(make_site(tmp_path / "b", site + wide, ROWS, TYPES)))
    (load,) = [load for load in plan_traffic(plan).links if load.name == "west:7+5+4 - cabinet:8+10+6"]
    assert load.rate_bps == 3e6
    singles = {f.name: f for f in plan_resilience(plan, plan_power(plan)).singles}
    network = Network(plan, plan_power(plan))
    assert "link west:7 - cabinet:8" not in singles, "two links of the bundle are left"
    left = network.fail((next(p for p in network.parts if p.name == "west:7 - cabinet:8"),))
    assert left.worst_share == pytest.approx(4 * 0.2 * 1478 / 1400 / 2), "two cameras' streams on two links"


@pytest.mark.parametrize(
    ("changes", "code", "words"),
    [
        ({}, "", ""),
        ({"rstp": "mstp"}, "", ""),
        ({"rstp": "ring"}, "RES-3", "ring on cabinet, rstp on east, rstp on west"),
        ({"rstp": "none"}, "RES-3", "none on cabinet"),
        ({'loop_protection = "rstp"\n': ""}, "RES-4", "not said of cabinet"),
    ],
)
def test_a_ring_needs_what_opens_it(tmp_path: Path, changes: dict[str, str], code: str, words: str) -> None:
    site = SITE + RING + LINKS
    for right, wrong in changes.items():
        site = site.replace(right, wrong, 1)
    plan = read_plan(SiteFolder(make_site(tmp_path, site, ROWS, TYPES)))
    found = [f for f in plan_resilience(plan, plan_power(plan)).findings if f.code in ("RES-3", "RES-4")]
    assert [f.code for f in found] == [code] * bool(code)
    assert all(f.subject == "ring cabinet, east, west" and words in f.measured for f in found), "the tail is in no ring"


def test_two_links_are_a_ring_unless_they_are_a_bundle(tmp_path: Path) -> None:
    bare = (SITE + RING).replace('loop_protection = "rstp"\n', "")
    two = link("west:6", "tail:6") + link("west:5", "tail:5")

    def told(folder: str, links: str) -> list[str]:
        plan = read_plan(SiteFolder(make_site(tmp_path / folder, bare + links, ROWS, TYPES)))
        return [f.subject for f in plan_resilience(plan, plan_power(plan)).findings]

    assert (
        told("a", two) == ["ring west, tail"] and told("b", two.replace("lit = true", "lit = true\nbundle = 'b'")) == []
    )


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
