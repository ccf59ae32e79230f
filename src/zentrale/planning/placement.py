"""Where switches should stand: which cabinets to use, which switches to put there, which camera goes where, at least cost.

Solved exactly as a mixed-integer programme over cabinets and counts of switch types; the cameras of a cabinet are then
dealt out to its switches one by one, and where that cannot be done the programme is told so and solved again. So the
proven gap holds for the plan that comes out.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from zentrale import quantities
from zentrale.findings import Finding, finding
from zentrale.planning import poe
from zentrale.planning.placement_problem import LIMITS, CabinetChoice, PlacementProblem, problem_of
from zentrale.planning.placement_programme import Cut, Programme
from zentrale.site.model import Plan

_ROUNDS = 25  # cuts beyond this have not been seen; the bound is still right, only the dealing out is not
_EXPLAIN_S = 10.0
_DEAL_S = 2.0
_SAFETY = 0.25  # of a typical draw: about half of what is left over on a switch whose cameras are dealt out


@dataclass(frozen=True)
class PlacedSwitch:
    """One switch of a type, and its cameras."""

    type: str
    cameras: tuple[str, ...]


@dataclass(frozen=True)
class PlacedCabinet:
    cabinet: str
    switches: tuple[PlacedSwitch, ...]
    runs_m: dict[str, float]


@dataclass(frozen=True)
class Cost:
    """In the currency of the site."""

    switches: float
    cable: float
    cabinets: float

    @property
    def total(self) -> float:
        return self.switches + self.cable + self.cabinets


@dataclass(frozen=True)
class Solution:
    """`bound` is what no plan can cost less than; `gap` how far above it this one is, as a share of its cost.

    by_hand: the cost when every camera goes to its nearest cabinet; None where that does not fit
    """

    cabinets: tuple[PlacedCabinet, ...]
    cost: Cost
    bound: float
    gap: float
    by_hand: Cost | None


@dataclass(frozen=True)
class Infeasible:
    """Why there is no plan.

    out_of_reach: cameras beyond every cabinet, with the nearest and its distance [m]
    not_fed:      cameras that need a PoE type no switch type has
    left_over:    a smallest set of cameras that cannot be placed when the others are
    limits:       limits each of which, dropped alone, would make room
    out_of_time:  no plan was found in the time given; it is not proven that there is none
    """

    out_of_reach: tuple[tuple[str, str, float], ...] = ()
    not_fed: tuple[str, ...] = ()
    left_over: tuple[str, ...] = ()
    limits: tuple[str, ...] = ()
    out_of_time: bool = False


def place(
    problem: PlacementProblem, *, gap: float = 0.01, time_s: float = 60.0, clock: Callable[[], float] = lambda: 0.0
) -> Solution | Infeasible:
    """The cheapest placement, to within `gap` of the proven bound, in at most about `time_s` seconds of `clock`.

    Where the time does not suffice, the best found; its `gap` says how good it is.
    """
    reason = _plain_reasons(problem)
    if reason is not None:
        return reason
    began = clock()
    cuts: list[Cut] = []
    best: tuple[Cost, tuple[PlacedCabinet, ...]] | None = None
    bound = 0.0
    used: list[int] = []
    for number in range(_ROUNDS):
        left_s = time_s - (clock() - began)
        if number and (left_s <= 0 or (best is not None and best[0].total - bound <= gap * best[0].total)):
            break
        if number % 3:
            # Only the cabinets chosen last, and cameras told apart by switch type: quick, and easier to deal out.
            chosen = _by_type(problem, used, _SAFETY * (number % 3 - 1), gap / 5, min(left_s, time_s / 4))
            if chosen is None:
                continue
        else:
            # The whole problem gives the bound.
            programme = Programme(problem, cuts)
            wanted = gap * (0.9 if number == 0 else 0.3)
            values, proven, late = programme.solve("money", wanted, max(1.0, left_s))
            bound = max(bound, proven)
            if values is None:
                if best is not None:
                    break
                return Infeasible(out_of_time=True) if late else explain(problem, cuts)
            used = np.flatnonzero(values[programme.used_at : programme.cut_at] > 0.5).tolist()
            chosen = programme.chosen(values)
        found, failed = _dealt(problem, *chosen)
        cuts += failed
        if found is not None and (best is None or found[0].total < best[0].total):
            best = found
    if best is None:
        return Infeasible(out_of_time=True)
    cost, cabinets = best
    share = max(0.0, cost.total - bound) / cost.total if cost.total else 0.0
    return Solution(cabinets, cost, bound, share, by_hand(problem))


def _by_type(
    problem: PlacementProblem, used: Sequence[int], safety: float, gap: float, time_s: float
) -> tuple[list[list[int]], NDArray[np.int64]] | None:
    """The cameras of each cabinet, and counts of switches, when only `used` cabinets may serve and every camera goes to
    a switch type of its cabinet: each pair of cabinet and type is a cabinet of its own.
    """
    kinds = len(problem.types)
    virtual = [(k, s) for k in used for s in range(kinds)]
    at = [k for k, _ in virtual]
    runs = problem.runs_m[:, at].copy()
    for column, (_, s) in enumerate(virtual):
        runs[problem.needs > problem.types[s].poe_type, column] = np.inf
    places = tuple(CabinetChoice(f"{k} {s}", 0.0, problem.cabinets[k].max_switches) for k, s in virtual)
    programme = Programme(replace(problem, cabinets=places, runs_m=runs, watts=problem.watts[:, at]), [], safety=safety)
    for n, (_, s) in enumerate(virtual):
        others = [programme.count(n, other) for other in range(kinds) if other != s]
        programme.row(others, [1.0] * len(others), 0, 0)
    for k in used:
        together = [programme.count(n, s) for n, (cabinet, s) in enumerate(virtual) if cabinet == k]
        programme.row(together, [1.0] * len(together), 0, problem.cabinets[k].max_switches)
    values, _, _ = programme.solve("money", gap, max(1.0, time_s))
    if values is None:
        return None
    by_place, place_counts = programme.chosen(values)
    chosen: list[list[int]] = [[] for _ in problem.cabinets]
    counts = np.zeros((len(problem.cabinets), kinds), dtype=np.int64)
    for n, (k, _) in enumerate(virtual):
        chosen[k] += by_place[n]
        counts[k] += place_counts[n]
    return chosen, counts


def _dealt(
    problem: PlacementProblem, chosen: Sequence[Sequence[int]], counts: NDArray[np.int64]
) -> tuple[tuple[Cost, tuple[PlacedCabinet, ...]] | None, list[Cut]]:
    """The cameras of each cabinet on real switches: where the counted ones do not hold them one by one, on the
    cheapest that do. Also what the programme must learn from it. None where some cabinet holds its cameras on nothing.
    """
    placed, cuts, complete = [], [], True
    for cabinet, cameras in enumerate(chosen):
        if not cameras:
            counts[cabinet] = 0
            continue
        dealt = deal_out(problem, cabinet, cameras, counts[cabinet].tolist())
        if dealt is None:
            cuts.append(Cut(cabinet, tuple(cameras), tuple(counts[cabinet].tolist())))
            dealt = deal_out(problem, cabinet, cameras)
            if dealt is None:
                complete = False
                continue
            counts[cabinet] = np.bincount([kind for kind, _ in dealt], minlength=len(problem.types))
        switches = tuple(
            PlacedSwitch(problem.types[t].name, tuple(problem.cameras[c] for c in some)) for t, some in dealt
        )
        runs = {problem.cameras[c]: float(problem.runs_m[c, cabinet]) for c in cameras}
        placed.append(PlacedCabinet(problem.cabinets[cabinet].name, switches, runs))
    return ((_cost(problem, chosen, counts), tuple(placed)) if complete else None), cuts


def deal_out(
    problem: PlacementProblem, cabinet: int, cameras: Sequence[int], counts: Sequence[int] | None = None
) -> list[tuple[int, list[int]]] | None:
    """The cameras of a cabinet on its switches, or without `counts` on the cheapest that hold them: switch type and
    cameras of each. None where they do not fit.
    """
    given = None if counts is None else [kind for kind, count in enumerate(counts) for _ in range(count)]
    if given is not None and len(given) <= 1:
        return [(kind, list(cameras)) for kind in given]
    slots = problem.cabinets[cabinet].max_switches if given is None else len(given)
    # Each place for a switch is a cabinet of its own that holds one.
    places = tuple(CabinetChoice(str(n), 0.0, 1) for n in range(slots))
    runs = np.repeat(problem.runs_m[list(cameras), cabinet][:, None], slots, axis=1)
    watts = np.repeat(problem.watts[list(cameras), cabinet][:, None, :], slots, axis=1)
    small = PlacementProblem(
        tuple(problem.cameras[c] for c in cameras), places, problem.types, runs, problem.needs[list(cameras)],
        watts, problem.loads_bps[list(cameras)], np.inf, problem.spare, 0.0,
    )  # fmt: skip
    programme = Programme(small, [])
    for n in range(slots):
        if given is not None:
            programme.row([programme.count(n, given[n])], [1.0], 1, 1)
        elif n:  # places are alike: fill them in order, the dearer switch first
            prices = [t.price + 1 for t in problem.types]
            before = [programme.count(n - 1, kind) for kind in range(len(problem.types))]
            here = [programme.count(n, kind) for kind in range(len(problem.types))]
            programme.row([*before, *here], [*prices, *(-price for price in prices)], 0, np.inf)
    values, _, _ = programme.solve("nothing" if given is not None else "money", 0.0, _DEAL_S)
    if values is None:
        return None
    counted = np.rint(values[programme.counts_at : programme.used_at]).reshape(slots, -1)
    dealt: list[tuple[int, list[int]]] = [(int(np.argmax(row)), []) for row in counted]
    for camera, place_at, value in zip(programme.cameras, programme.cabinets, values, strict=False):
        if value > 0.5:
            dealt[place_at][1].append(cameras[camera])
    return [(kind, some) for (kind, some), row in zip(dealt, counted, strict=True) if row.any()]


def _cost(problem: PlacementProblem, chosen: Sequence[Sequence[int]], counts: np.ndarray) -> Cost:
    switches = sum(float(counts[k, s]) * t.price for k in range(len(chosen)) for s, t in enumerate(problem.types))
    cable = sum(float(problem.runs_m[c, k]) for k, cameras in enumerate(chosen) for c in cameras) * problem.cable_price
    used = sum(problem.cabinets[k].price for k, cameras in enumerate(chosen) if cameras or counts[k].any())
    return Cost(switches, cable, used)


def by_hand(problem: PlacementProblem) -> Cost | None:
    """As it is done without a computer: every camera to its nearest cabinet, and there the cheapest number of switches
    of one type. None where some cabinet has no such type.
    """
    nearest = np.argmin(problem.runs_m, axis=1)
    chosen = [np.flatnonzero(nearest == k).tolist() for k in range(len(problem.cabinets))]
    counts = np.zeros((len(problem.cabinets), len(problem.types)), dtype=int)
    for k, cameras in enumerate(chosen):
        options = []
        for s, kind in enumerate(problem.types):
            for number in range(1, problem.cabinets[k].max_switches + 1 if cameras else 1):
                wanted = [number if n == s else 0 for n in range(len(problem.types))]
                if deal_out_fits(problem, k, cameras, wanted):
                    options.append((number * kind.price, s, number))
                    break
        if cameras and not options:
            return None
        if options:
            _, s, number = min(options)
            counts[k, s] = number
    return _cost(problem, chosen, counts)


def deal_out_fits(problem: PlacementProblem, cabinet: int, cameras: Sequence[int], counts: Sequence[int]) -> bool:
    """Whether these switches hold these cameras: by their sums first, since most fail there."""
    kinds = [(t, n) for t, n in zip(problem.types, counts, strict=True) if n]
    chosen = list(cameras)
    for level in problem.levels():
        members = [c for c in chosen if problem.needs[c] >= level]
        if len(members) > sum(n * t.ports_for(level, problem.spare) for t, n in kinds):
            return False
        drawn = problem.watts[members, cabinet].sum(axis=0) if members and level else np.zeros(1)
        if (drawn > sum(n * t.budget_w for t, n in kinds if t.poe_type >= level)).any():
            return False
    if float(problem.loads_bps[chosen].sum()) > sum(n * t.uplink_bps for t, n in kinds):
        return False
    return deal_out(problem, cabinet, chosen, counts) is not None


def _plain_reasons(problem: PlacementProblem) -> Infeasible | None:
    """What needs no programme to see: cameras beyond every cabinet, and PoE types that nobody sells."""
    beyond = []
    for camera in np.flatnonzero(problem.runs_m.min(axis=1) > problem.max_run_m):
        k = int(np.argmin(problem.runs_m[camera]))
        beyond.append((problem.cameras[camera], problem.cabinets[k].name, float(problem.runs_m[camera, k])))
    best = max((t.poe_type for t in problem.types), default=0)
    not_fed = tuple(name for name, need in zip(problem.cameras, problem.needs, strict=True) if need > best)
    return Infeasible(tuple(beyond), not_fed) if beyond or not_fed else None


def explain(problem: PlacementProblem, cuts: Sequence[Cut] = ()) -> Infeasible:
    """Which cameras are left over, and which limits are in the way."""
    values, _, late = (programme := Programme(problem, cuts, elastic=True)).solve("left over", 0.0, _EXPLAIN_S)
    left: tuple[str, ...] = ()
    if values is not None:
        left = tuple(name for name, v in zip(problem.cameras, values[programme.left_at :], strict=True) if v > 0.5)
    limits = []
    for name in LIMITS:
        found, _, _ = Programme(problem, [], without=name).solve("nothing", 0.5, _EXPLAIN_S)
        if found is not None:
            limits.append(name)
    return Infeasible(left_over=left, limits=tuple(limits), out_of_time=late and not left)


@dataclass(frozen=True)
class PlacementPlan:
    """`lacks` says what the plan must name before a placement can be worked out."""

    result: Solution | Infeasible | None
    lacks: tuple[str, ...]
    findings: tuple[Finding, ...]


def plan_placement(
    plan: Plan, *, gap: float = 0.01, time_s: float = 60.0, clock: Callable[[], float] = lambda: 0.0
) -> PlacementPlan:
    """The cheapest placement of the plan's cameras, with findings."""
    problem, lacks = problem_of(plan)
    if problem is None:
        return PlacementPlan(None, tuple(lacks), ())
    result = place(problem, gap=gap, time_s=time_s, clock=clock)
    if isinstance(result, Infeasible):
        return PlacementPlan(result, (), tuple(_infeasible_findings(plan, result)))
    findings = []
    if result.gap > gap:
        text = f"gap of {100 * result.gap:.1f} % after {time_s:g} s"
        findings.append(finding("PLC-4", "placement", text, f"{100 * gap:g} %", "the time given"))
    return PlacementPlan(result, (), tuple(findings))


_LIMIT_WORDS = {
    "max_switches": "max_switches of the cabinets (site.toml [[cabinets]])",
    "power": "PoE power in the worst mode (types.toml poe_budget_w, site.toml poe_reserve_percent)",
    "uplink": "uplink load (types.toml uplink_rate_mbps, site.toml link_load_percent)",
    "spare": "the wanted spare share (site.toml [placement] spare_percent)",
}


def _infeasible_findings(plan: Plan, reason: Infeasible) -> Iterator[Finding]:
    for name, cabinet, run_m in reason.out_of_reach:
        measured = f"{run_m:.0f} m to {cabinet}, the nearest"
        source = f"site.toml [policy] max_run_m; {plan.camera(name).source}"
        yield finding("PLC-1", f"camera {name}", measured, f"{plan.policy.max_run_m:g} m", source)
    for name in reason.not_fed:
        kind = plan.camera_type(plan.camera(name))
        measured = f"PoE class {kind.poe_class} needs type {poe.needed_type(kind.poe_class)}"
        yield finding(
            "PLC-3", f"camera {name}", measured, "a switch type with it and a price", "types.toml [[switch_types]]"
        )
    if reason.out_of_reach or reason.not_fed:
        return
    if reason.out_of_time:
        yield finding("PLC-4", "placement", "nothing found in the time given", "a plan", "the time given")
        return
    left = quantities.count(len(reason.left_over), "camera")
    measured = f"{left} left over: {', '.join(reason.left_over[:8])}{' and more' if len(reason.left_over) > 8 else ''}"
    words = "; or ".join(_LIMIT_WORDS[limit] for limit in reason.limits)
    advice = f"each of these, dropped alone, would make room: {words}" if words else ""
    yield finding(
        "PLC-2", "placement", measured, "a place for every camera", "site.toml [[cabinets]], types.toml", advice
    )
