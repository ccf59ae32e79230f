"""Placement against trying everything, and what makes a placement impossible."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace
from itertools import product
from pathlib import Path
from time import process_time

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from conftest import CAMERAS, SITE, TYPES, make_site
from zentrale.errors import PlanError
from zentrale.planning.placed import as_placed, placed_findings
from zentrale.planning.placement import plan_placement
from zentrale.planning.placing.dealing import Dealt, cost_of, fits, mended
from zentrale.planning.placing.problem import CabinetChoice, PlacementProblem, SwitchChoice
from zentrale.planning.placing.programme import Cut
from zentrale.planning.placing.search import Infeasible, PlacedCabinet, PlacedSwitch, Solution, place
from zentrale.planning.placing.weighing import broken, sharpened
from zentrale.planning.power import plan_power
from zentrale.planning.traffic import plan_traffic
from zentrale.site.folder import SiteFolder
from zentrale.site.reading import read_plan

SMALL = SwitchChoice("small", 2, 2, 1, 20.0, 1e9, 100.0)
LARGE = SwitchChoice("large", 4, 4, 3, 70.0, 1e9, 260.0)


def problem(runs: list[list[float]], watts: list[float], needs: list[int], **more: object) -> PlacementProblem:
    """`watts` by camera, the same in every cabinet and in two modes."""
    cabinets = tuple(CabinetChoice(f"k{n}", 50.0, 2) for n in range(len(runs[0])))
    drawn = np.array([[[w, w / 2]] * len(cabinets) for w in watts])
    built = PlacementProblem(
        tuple(f"c{n}" for n in range(len(runs))), cabinets, (SMALL, LARGE), np.array(runs, dtype=float),
        np.array(needs, dtype=np.int64), drawn, np.full(len(runs), 1e6), 90.0, 0.0, 1.0,
    )  # fmt: skip
    return replace(built, **more)  # type: ignore[arg-type]


def everything(p: PlacementProblem) -> Iterator[float]:
    """The cost of every placement there is."""
    counts = [c for c in product(range(3), repeat=2) if sum(c) <= 2]
    for where in product(range(len(p.cabinets)), repeat=len(p.cameras)):
        if any(p.runs_m[c, k] > p.max_run_m for c, k in enumerate(where)):
            continue
        total = sum(p.runs_m[c, k] for c, k in enumerate(where)) * p.cable_price
        for k in range(len(p.cabinets)):
            cameras = [c for c, at in enumerate(where) if at == k]
            fitting = [a * 100 + b * 260 for a, b in counts if (a or b) and fits(p, k, cameras, [a, b])]
            total += (min(fitting) + 50) if cameras and fitting else np.inf if cameras else 0
        yield float(total)


@settings(max_examples=25)
@given(st.data())
def test_no_placement_is_cheaper_and_every_limit_holds(data: st.DataObject) -> None:
    cameras = data.draw(st.integers(1, 5))
    runs = [[data.draw(st.floats(5, 110)) for _ in range(2)] for _ in range(cameras)]
    needs = [data.draw(st.sampled_from([0, 1, 3])) for _ in range(cameras)]
    watts = [0.0 if need == 0 else data.draw(st.floats(3, 30 if need == 3 else 15)) for need in needs]
    p = problem(runs, watts, needs)
    best = min(everything(p), default=np.inf)
    plan = place(p, gap=1e-6)
    if not np.isfinite(best):
        assert isinstance(plan, Infeasible) and (plan.out_of_reach or plan.left_over)
        return
    assert isinstance(plan, Solution)
    assert plan.cost.total == pytest.approx(best, rel=1e-4) and plan.bound <= best * (1 + 1e-6)
    keeps_every_limit(p, plan)


def keeps_every_limit(p: PlacementProblem, plan: Solution) -> None:
    """Each camera once, and no switch with more than it holds."""
    types = {t.name: t for t in p.types}
    index = {name: n for n, name in enumerate(p.cameras)}
    where = {cabinet.name: k for k, cabinet in enumerate(p.cabinets)}
    seen = []
    for cabinet in plan.cabinets:
        k = where[cabinet.cabinet]
        assert len(cabinet.switches) <= p.cabinets[k].max_switches
        for switch in cabinet.switches:
            kind, members = types[switch.type], [index[c] for c in switch.cameras]
            assert len(members) <= kind.ports and p.watts[members, k].sum(axis=0).max(initial=0) <= kind.budget_w + 1e-6
            assert all(p.needs[m] <= kind.poe_type and p.runs_m[m, k] <= p.max_run_m for m in members)
            seen += members
    assert sorted(seen) == list(range(len(p.cameras)))


@pytest.mark.parametrize("seed", range(2))
def test_sixty_cameras_to_the_gap_that_was_asked_for(seed: int) -> None:
    random = np.random.default_rng(seed)
    cameras, cabinets = random.uniform(0, 120, (60, 2)), random.uniform(0, 120, (6, 2))
    runs = np.linalg.norm(cameras[:, None] - cabinets[None], axis=2)
    needs = random.choice([1, 1, 1, 3], 60)
    watts = np.where(needs == 3, random.uniform(15, 30, 60), random.uniform(5, 12, 60))
    choices = tuple(CabinetChoice(f"k{n}", 100.0 * n, 12) for n in range(6))
    p = problem(runs.tolist(), watts.tolist(), needs.tolist(), cabinets=choices, max_run_m=170.0)
    plan = place(p, gap=0.02, time_s=120, clock=process_time)
    assert isinstance(plan, Solution) and plan.gap <= 0.02 and plan.by_hand is not None
    assert plan.bound <= plan.cost.total <= plan.by_hand.total
    keeps_every_limit(p, plan)


def test_a_camera_that_does_not_fit_changes_places_with_a_neighbour() -> None:
    """Of three cameras of 13 W one goes next door, beside one of 5 W, and the dearer switch is not needed."""
    p = problem([[10.0, 30.0]] * 3 + [[30.0, 10.0]], [13.0, 13.0, 13.0, 5.0], [1] * 4)
    dear: Dealt = {0: [(1, [0, 1, 2])], 1: [(0, [3])]}
    better = mended(p, dear, [], [Cut(0, (0, 1, 2), (2, 0))], lambda dealt: False)
    assert cost_of(p, dear).switches == 360 and cost_of(p, better).switches == 300
    assert sorted(len(some) for _, some in better[0]) == [1, 1] and len(better[1][0][1]) == 2


def test_out_of_time_is_said_and_the_best_is_given() -> None:
    ticks = iter(range(0, 10_000, 100))
    plan = place(problem([[10.0, 20.0]] * 3, [13.0] * 3, [1] * 3), gap=1e-6, time_s=1, clock=lambda: float(next(ticks)))
    assert isinstance(plan, Solution) and plan.bound <= plan.cost.total and plan.cost.switches >= 260


def test_what_is_called_proven_is_no_more_than_was_proven() -> None:
    """The cheapest is known by trying everything; with no time to look the bound stays below it, and the gap says how far."""
    p = problem([[10.0, 60.0], [10.0, 60.0], [60.0, 10.0]], [13.0, 13.0, 5.0], [1, 1, 1])
    ticks = iter(range(0, 10_000, 100))
    plan = place(p, gap=0.4, time_s=1, clock=lambda: float(next(ticks)))
    cheapest = min(everything(p))
    assert isinstance(plan, Solution) and plan.bound <= cheapest + 1e-6 <= plan.cost.total + 2e-6
    assert plan.bound < plan.cost.total and plan.gap == pytest.approx((plan.cost.total - plan.bound) / plan.cost.total)


@settings(max_examples=40)
@given(st.data())
def test_what_one_switch_holds_never_outweighs_its_room(data: st.DataObject) -> None:
    """Whatever shares and counts a weighing was looked for with."""
    cameras = data.draw(st.integers(2, 6))
    needs = [data.draw(st.sampled_from([0, 1, 3])) for _ in range(cameras)]
    watts = [0.0 if need == 0 else data.draw(st.floats(3, 40)) for need in needs]
    p = problem([[10.0]] * cameras, watts, needs)
    shares = np.array([data.draw(st.floats(0, 1)) for _ in range(cameras)])
    counts = np.array([data.draw(st.floats(0, 2)) for _ in range(2)])
    for weighing in broken(p, 0, shares, counts):
        assert weighing.broken_by(shares, counts) > 0
        for kind, which in product(range(2), product([0, 1], repeat=cameras)):
            some = [c for c, chosen in enumerate(which) if chosen]
            switch = np.eye(2)[kind]
            if fits(p, 0, some, switch.astype(int).tolist()):
                for one in (weighing, sharpened(p, weighing)):
                    assert one.broken_by(np.array(which, dtype=float), switch) <= 1e-6


def test_weighings_see_what_sums_do_not() -> None:
    """Three cameras of 13 W on two switches of 20 W; and many light ones where one switch has few watts, one few ports."""
    whole = list(broken(problem([[10.0]] * 3, [13.0] * 3, [1] * 3), 0, np.ones(3), np.array([2.0, 0.0])))
    assert max(w.broken_by(np.ones(3), np.array([2.0, 0.0])) for w in whole) == pytest.approx(1)
    # 2 ports and 20 W beside 4 ports and 70 W: six cameras of 12 W have 72 of 90 W, but the first switch feeds only one.
    mixed = list(broken(problem([[10.0]] * 6, [12.0] * 6, [1] * 6), 0, np.ones(6), np.ones(2)))
    assert max(w.broken_by(np.ones(6), np.ones(2)) for w in mixed) >= 0.3


def test_sums_that_fit_and_cameras_that_do_not() -> None:
    """Three cameras of 13 W fit two switches of 20 W by their sum, but not one by one: a dearer switch it must be."""
    plan = place(problem([[10.0]] * 3, [13.0] * 3, [1] * 3), gap=1e-6)
    assert isinstance(plan, Solution) and plan.cost.switches == 260 and plan.gap < 1e-6
    assert [s.type for s in plan.cabinets[0].switches] == ["large"]


def test_what_makes_a_placement_impossible() -> None:
    beyond = place(problem([[95.0, 120.0], [10.0, 10.0]], [5, 5], [1, 1]))
    assert beyond == Infeasible(out_of_reach=(("c0", "k0", 95.0),))
    assert place(problem([[10.0]], [5], [4])) == Infeasible(not_fed=("c0",))
    crowd = place(problem([[10.0]] * 9, [5] * 9, [1] * 9))
    assert isinstance(crowd, Infeasible) and len(crowd.left_over) == 1 and crowd.limits == ("max_switches",)
    hungry = place(problem([[10.0]] * 6, [30.0] * 6, [3] * 6))
    assert isinstance(hungry, Infeasible) and "power" in hungry.limits and len(hungry.left_over) == 2
    spare = place(problem([[10.0]] * 8, [5] * 8, [1] * 8, spare=0.25))
    assert isinstance(spare, Infeasible) and set(spare.limits) == {"max_switches", "spare"}


def test_the_nearest_cabinet_by_hand_costs_more() -> None:
    """One camera each nearer to its own cabinet: by hand two cabinets and switches, else one and 20 m more."""
    plan = place(problem([[10.0, 20.0], [20.0, 10.0]], [5, 5], [1, 1]), gap=1e-6)
    assert isinstance(plan, Solution) and plan.by_hand is not None
    assert plan.by_hand.total == 2 * (100 + 50) + 20 and plan.cost.total == 100 + 50 + 30


CABINETS = """
[[cabinets]]
name = "hall"
x_m = 0
y_m = 0
[[cabinets]]
name = "yard"
x_m = 100
y_m = 0
fibre_m = 10
"""


def test_a_placement_from_the_plan_files(tmp_path: Path) -> None:
    site = SITE + CABINETS + "[placement]\ncable_price_per_m = 2\nfibre_price_per_m = 5\nroute_factor = 1.5\n"
    rows = CAMERAS.replace("channel\n", "channel,x_m,y_m\n").replace("recorder,1\n", "recorder,1,,\n")
    rows = rows.replace("recorder,3\n", "recorder,3,60,0\n")

    def planned(folder: str, cameras: str = rows, types: str = TYPES) -> object:
        return plan_placement(read_plan(SiteFolder(make_site(tmp_path / folder, site, cameras, types))))

    lacking = plan_placement(read_plan(SiteFolder(make_site(tmp_path / "a"))))
    assert lacking.result is None and any("[[cabinets]]" in what for what in lacking.lacks)
    priced = TYPES.replace("ports = 10", "ports = 10\nprice = 200")
    result = planned("b", types=priced)
    plan = result.result  # type: ignore[attr-defined]
    assert isinstance(plan, Solution)
    # Both in the hall: 20 m and 30 m as the schedule says. From 60 m off the yard is 40 m x 1.5 away.
    assert plan.cost.total == pytest.approx(200 + 2 * 50) and plan.cabinets[0].runs_m == {"north": 20, "south": 30}
    far = planned("c", rows.replace("cabinet,1,20", "cabinet,1,99"), priced)
    (found,) = far.findings  # type: ignore[attr-defined]
    assert (found.code, found.subject) == ("PLC-1", "camera north") and "99 m to hall" in found.measured


def test_measured_runs_decide_and_need_no_positions(tmp_path: Path) -> None:
    site = SITE + '[[cabinets]]\nname = "loft"\n[[cabinets]]\nname = "yard"\nprice = 10\n[placement]\n'
    folder = make_site(tmp_path / "a", site, types=TYPES.replace("ports = 10", "ports = 10\nprice = 200"))
    (folder / "runs.csv").write_text("camera,cabinet,run_length_m\nnorth,yard,5\n")
    lacking = plan_placement(read_plan(SiteFolder(folder)))
    assert lacking.result is None and "from south (cameras.csv line 3)" in lacking.lacks[0]
    (folder / "runs.csv").write_text("camera,cabinet,run_length_m\nnorth,yard,5\nsouth,yard,6\nsouth,loft,2\n")
    result = plan_placement(read_plan(SiteFolder(folder))).result
    assert isinstance(result, Solution)
    assert result.cost.total == pytest.approx(200 + 10 + 11) and result.cabinets[0].cabinet == "yard"

    wrong = "camera,cabinet,run_length_m\nnort,yard,5\nsouth,shed,6\nsouth,yard,far\nnorth,yard,5\nnorth,yard,8\n"
    (folder / "runs.csv").write_text(wrong)
    with pytest.raises(PlanError) as raised:
        read_plan(SiteFolder(folder))
    for line, words in ((2, "found 'nort'; expected a camera"), (3, "expected a cabinet: loft, yard"), (4, "'far'"),
                        (6, "already used at runs.csv line 5")):  # fmt: skip
        assert any(f"runs.csv line {line}" in row and words in row for row in raised.value.problems), line


def test_a_cabinet_with_half_a_position_is_told(tmp_path: Path) -> None:
    half = SITE + '[[cabinets]]\nname = "hall"\nx_m = 4\n'
    with pytest.raises(PlanError) as raised:
        read_plan(SiteFolder(make_site(tmp_path, half)))
    (problem_told,) = raised.value.problems
    assert problem_told.startswith("site.toml line ") and "field y_m is missing; expected it beside x_m" in problem_told


ONE_HALL = '[[cabinets]]\nname = "hall"\nprice = 10\n[placement]\nswitch_types = ["small"]\n'
SMALL_TYPE = """[[switch_types]]
name = "small"
maker = "Orrery"
model = "Tern 6"
ports = 6
poe_ports = 4
poe_budget_w = 40
uplink_ports = 1
uplink_rate_mbps = 2
price = 100
"""
DIRECT = (
    '[[viewers]]\nname = "desk"\nzone = "cameras"\nswitch = "cabinet"\nport = 7\nsource = "camera"\nstream = "main"\n'
)


@pytest.mark.parametrize(
    ("viewers", "types", "switches"),
    [
        ("", SMALL_TYPE, 1),
        # Each camera sends its 400 kbit/s twice, 844 kbit/s with overhead: two of them pass 70 % of 2 Mbit/s.
        (DIRECT, SMALL_TYPE, 2),
        # By multicast once: 2 x 2 x 422 is too much, 2 x 422 is not.
        (DIRECT + "multicast = true\n", SMALL_TYPE, 2),
        # The sub stream of 64 kbit/s: 2 x 490 kbit/s fit.
        (DIRECT.replace("main", "sub") + "multicast = true\n", SMALL_TYPE, 1),
        # By class 15.4 W are reserved for each, of which 27 W (30 less a tenth) hold one; by draw both.
        ("", SMALL_TYPE.replace("= 40", '= 30\npoe_budgeting = "class"'), 2),
        ("", SMALL_TYPE.replace("= 40", "= 30"), 1),
    ],
)
def test_placement_counts_as_the_other_parts_do(tmp_path: Path, viewers: str, types: str, switches: int) -> None:
    """What it shows is what `plan power` and `plan traffic` accept."""
    site = SITE.replace("bitrate_kbps = 300", "bitrate_kbps = 400") + ONE_HALL + viewers
    plan = read_plan(SiteFolder(make_site(tmp_path, site, types=TYPES + types)))
    made = plan_placement(plan)
    assert isinstance(made.result, Solution) and made.findings == ()
    assert sum(len(k.switches) for k in made.result.cabinets) == switches
    placed, said = as_placed(plan, made.result)
    assert {c.switch for c in placed.cameras} == set(said) and len(said) == switches
    bad = {f.code for f in (*plan_power(placed).findings, *plan_traffic(placed).findings) if f.severity.value != "note"}
    assert not bad
    # One switch for both, where two are needed, is told by the same parts.
    both = PlacedCabinet("hall", (PlacedSwitch("small", ("north", "south")),), {"north": 20.0, "south": 30.0})
    found = list(placed_findings(plan, replace(made.result, cabinets=(both,))))
    assert [f.code for f in found] == (["PLC-6"] if switches == 2 else [])


def test_what_is_shown_never_costs_more_than_the_nearest_cabinet() -> None:
    """Out of time from the beginning, it is the nearest cabinet's deal itself, with real switches for each camera."""
    ticks = iter(range(0, 10_000, 100))
    p = problem([[10.0, 20.0]] * 3 + [[20.0, 10.0]], [13.0] * 4, [1] * 4)
    plan = place(p, gap=1e-6, time_s=1, clock=lambda: float(next(ticks)))
    assert isinstance(plan, Solution) and plan.by_hand is not None and plan.cost.total <= plan.by_hand.total
    keeps_every_limit(p, plan)
