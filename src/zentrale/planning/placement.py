"""Where switches should stand: which cabinets to use, which switches to put there, which camera goes where, at least cost.

Solved exactly as a mixed-integer programme over cabinets and counts of switch types; the cameras of a cabinet are then
dealt out to its switches one by one, and where that cannot be done the programme is told so and solved again. So the
proven gap holds for the plan that comes out.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from zentrale.planning.placement_problem import LIMITS, CabinetChoice, PlacementProblem
from zentrale.planning.placement_programme import Cut, Programme

_ROUNDS = 25  # cuts beyond this have not been seen; the bound is still right, only the dealing out is not
_EXPLAIN_S = 10.0


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


def place(problem: PlacementProblem, *, gap: float = 0.01, time_s: float = 60.0) -> Solution | Infeasible:
    """The cheapest placement, to within `gap` of the proven bound, in at most about `time_s` seconds."""
    reason = _plain_reasons(problem)
    if reason is not None:
        return reason
    cuts: list[Cut] = []
    for _ in range(_ROUNDS):
        programme = Programme(problem, cuts)
        values, bound, late = programme.solve("money", gap, time_s)
        if values is None:
            return Infeasible(out_of_time=True) if late else explain(problem, cuts)
        chosen = [[c for c, k, v in zip(programme.cameras, programme.cabinets, values, strict=False) if k == n and v > 0.5]
                  for n in range(len(problem.cabinets))]  # fmt: skip
        counts = np.rint(values[programme.counts_at : programme.used_at]).astype(int).reshape(programme.k, programme.s)
        placed, failed = [], []
        for cabinet, cameras in enumerate(chosen):
            dealt = deal_out(problem, cabinet, cameras, counts[cabinet].tolist())
            if dealt is None:
                failed.append(Cut(cabinet, tuple(cameras), tuple(counts[cabinet].tolist())))
            elif cameras:
                names = tuple(
                    PlacedSwitch(problem.types[t].name, tuple(problem.cameras[c] for c in some)) for t, some in dealt
                )
                runs = {problem.cameras[c]: float(problem.runs_m[c, cabinet]) for c in cameras}
                placed.append(PlacedCabinet(problem.cabinets[cabinet].name, names, runs))
        if not failed:
            cost = _cost(problem, chosen, counts)
            share = max(0.0, cost.total - bound) / cost.total if cost.total else 0.0
            return Solution(tuple(placed), cost, bound, share, by_hand(problem))
        cuts += failed
    return Infeasible(out_of_time=True)


def deal_out(
    problem: PlacementProblem, cabinet: int, cameras: Sequence[int], counts: Sequence[int]
) -> list[tuple[int, list[int]]] | None:
    """The cameras of a cabinet on its switches: switch type and cameras of each, or None where they do not fit."""
    switches = [kind for kind, count in enumerate(counts) for _ in range(count)]
    if len(switches) <= 1:
        return [(kind, list(cameras)) for kind in switches]
    alone = [
        CabinetChoice(str(n), 0.0, 1) for n in range(len(switches))
    ]  # each switch as a cabinet of its own that can hold only this one
    runs = np.repeat(problem.runs_m[list(cameras), cabinet][:, None], len(switches), axis=1)
    watts = np.repeat(problem.watts[list(cameras), cabinet][:, None, :], len(switches), axis=1)
    small = PlacementProblem(
        tuple(problem.cameras[c] for c in cameras), tuple(alone), problem.types, runs, problem.needs[list(cameras)],
        watts, problem.loads_bps[list(cameras)], np.inf, problem.spare, 0.0,
    )  # fmt: skip
    programme = Programme(small, [])
    for n, kind in enumerate(switches):
        programme.row([programme.count(n, kind)], [1.0], 1, 1)
    values, _, _ = programme.solve("nothing", 0.5, _EXPLAIN_S)
    if values is None:
        return None
    dealt: list[tuple[int, list[int]]] = [(kind, []) for kind in switches]
    for camera, switch, value in zip(programme.cameras, programme.cabinets, values, strict=False):
        if value > 0.5:
            dealt[switch][1].append(cameras[camera])
    return dealt


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
    return sum(n for _, n in kinds) == 1 or deal_out(problem, cabinet, chosen, counts) is not None


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
