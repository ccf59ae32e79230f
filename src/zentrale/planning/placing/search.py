"""Where switches should stand: which cabinets to use, which switches to put there, which camera goes where, at least cost.

Solved exactly as a mixed-integer programme over cabinets and counts of switch types; the cameras of a cabinet are then
dealt out to its switches one by one, and where that cannot be done the programme is told so and solved again. So the
proven gap holds for the plan that comes out.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from zentrale.planning.placing.dealing import Cost, Dealt, cost_of, deal_out, dealt_out, fits, mended
from zentrale.planning.placing.problem import LIMITS, PlacementProblem
from zentrale.planning.placing.programme import Cut, Programme
from zentrale.planning.placing.weighing import Weighing, broken, sharpened

_ROUNDS = 25  # cuts beyond this have not been seen; the bound is still right, only the dealing out is not
_EXPLAIN_NODES = 2000
_HELD = 1e-3  # a weighing that is just kept is worth sharpening
# Shares of the time: kept for what comes after tightening; of what is left then, for the first plan, and for a better one
# with the same cabinets; and of all, for mending.
_AFTER_TIGHTENING, _FIRST, _AMONG, _MENDING = 0.65, 0.3, 0.1, 0.15


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
    """The cheapest placement, to within `gap` of the proven bound, in at most about `time_s` seconds of `clock`; with that
    of the process's CPU time a busy machine gives the same answer as an idle one.

    Where the time does not suffice, the best found; its `gap` says how good it is. It is never dearer than `by_hand`.
    """
    return plain_reasons(problem) or _Search(problem, gap, time_s, clock).run()


class _Search:
    """For a placement and the proof that it is good: the best so far, what nothing can cost less than, and what has
    been learnt of what fits where.
    """

    def __init__(self, problem: PlacementProblem, gap: float, time_s: float, clock: Callable[[], float]) -> None:
        self.problem, self.gap, self.time_s, self.clock = problem, gap, time_s, clock
        self.ends = clock() + 0.95 * time_s  # the last step takes its time
        self.nearest = by_hand(problem)
        self.best: Dealt | None = self.nearest
        self.bound = 0.0
        self.weighings = _tightened(problem, lambda: clock() >= self.ends - _AFTER_TIGHTENING * time_s)
        self.cuts: list[Cut] = []

    def run(self) -> Solution | Infeasible:
        """First a good plan; then whether there is one cheaper by more than the gap. That there is none, is the proof."""
        for number in range(_ROUNDS):
            below = np.inf if self.best is None else cost_of(self.problem, self.best).total * (1 - self.gap)
            first = number == 0
            programme = Programme(self.problem, self.weighings, self.cuts, below=np.inf if first else below)
            known = programme.values_of(self.best) if first and self.best is not None else None
            solved = programme.solve(
                "money", (1.1 if first else 2) * self.gap, stop=self._until(_FIRST if first else 1), known=known
            )
            self.bound = max(
                self.bound, min(solved.bound, below) if solved.values is not None or solved.open else below
            )
            if solved.values is None and self.best is None:
                if solved.open and first:
                    continue  # with all the time there is
                return Infeasible(out_of_time=True) if solved.open else explain(self.problem, self.weighings, self.cuts)
            if solved.values is None:
                break
            self._learn(programme, solved.values)
            if self._good(self.best) or self.clock() >= self.ends:
                break
        if self.best is None:
            return Infeasible(out_of_time=True)
        cost = cost_of(self.problem, self.best)
        gap = max(0.0, cost.total - self.bound) / cost.total if cost.total else 0.0
        hand = None if self.nearest is None else cost_of(self.problem, self.nearest)
        return Solution(_named(self.problem, self.best), cost, self.bound, gap, hand)

    def _learn(self, programme: Programme, values: NDArray[np.float64]) -> None:
        """Deals out what the programme found, and where that is not good enough, what it finds in the same cabinets."""
        found, failed = dealt_out(self.problem, *programme.chosen(values))
        self._keep(found)
        if not self._good(self.best):
            programme.keep_to_cabinets_of(values)
            better = programme.solve("money", 0.5 * self.gap, stop=self._until(_AMONG), known=values).values
            if better is not None:
                found, failed = dealt_out(self.problem, *programme.chosen(better))
        if found is not None:
            until = min(self.ends, self.clock() + _MENDING * self.time_s)
            self._keep(
                mended(self.problem, found, self.weighings, failed, lambda d: self._good(d) or self.clock() >= until)
            )
        self.cuts += failed

    def _keep(self, found: Dealt | None) -> None:
        if found is not None and (
            self.best is None or cost_of(self.problem, found).total < cost_of(self.problem, self.best).total
        ):
            self.best = found

    def _good(self, dealt: Dealt | None) -> bool:
        return dealt is not None and cost_of(self.problem, dealt).total * (1 - self.gap) <= self.bound

    def _until(self, share: float) -> Callable[[], bool]:
        """Whether this share of the time that is left now is over."""
        until = self.clock() + share * (self.ends - self.clock())
        return lambda: self.clock() >= until


def _tightened(problem: PlacementProblem, stop: Callable[[], bool]) -> list[Weighing]:
    """Weighings that bring the bound of the programme in shares of cameras near that in whole ones."""
    weighings: list[Weighing] = []
    while not stop():
        programme = Programme(problem, weighings)
        values = programme.solve("money", 0.0, whole=False, nodes=_EXPLAIN_NODES).values
        if values is None:
            break
        shares, counts = programme.shares(values)
        new = [w for k in range(len(problem.cabinets)) for w in broken(problem, k, shares[k], counts[k])]
        if not new:
            held = [w.broken_by(shares[w.cabinet], counts[w.cabinet]) > -_HELD for w in weighings]
            return [sharpened(problem, w) if h else w for w, h in zip(weighings, held, strict=True)]
        weighings += new
    return weighings


def _named(problem: PlacementProblem, dealt: Dealt) -> tuple[PlacedCabinet, ...]:
    placed = []
    for cabinet, switches in sorted(dealt.items()):
        names = tuple(
            PlacedSwitch(problem.types[kind].name, tuple(problem.cameras[c] for c in some)) for kind, some in switches
        )
        runs = {problem.cameras[c]: float(problem.runs_m[c, cabinet]) for _, some in switches for c in some}
        placed.append(PlacedCabinet(problem.cabinets[cabinet].name, names, runs))
    return tuple(placed)


def by_hand(problem: PlacementProblem) -> Dealt | None:
    """As it is done without a computer: every camera to its nearest cabinet, and there the cheapest number of switches
    of one type. None where some cabinet has no such type.
    """
    nearest = np.argmin(problem.runs_m, axis=1)
    dealt: Dealt = {}
    for k, choice in enumerate(problem.cabinets):
        cameras = np.flatnonzero(nearest == k).tolist()
        options = []
        for s, kind in enumerate(problem.types):
            for number in range(1, choice.max_switches + 1 if cameras else 1):
                if fits(problem, k, cameras, [number if n == s else 0 for n in range(len(problem.types))]):
                    options.append((number * kind.price, s, number))
                    break
        if cameras and not options:
            return None
        if cameras:
            _, s, number = min(options)
            switches, _ = deal_out(problem, k, cameras, [number if n == s else 0 for n in range(len(problem.types))])
            if switches is None:
                return None
            dealt[k] = [(kind, some) for kind, some in switches if some]
    return dealt


def plain_reasons(problem: PlacementProblem) -> Infeasible | None:
    """What needs no programme to see: cameras beyond every cabinet, and PoE types that nobody sells."""
    beyond = []
    for camera in np.flatnonzero(problem.runs_m.min(axis=1) > problem.max_run_m):
        k = int(np.argmin(problem.runs_m[camera]))
        beyond.append((problem.cameras[camera], problem.cabinets[k].name, float(problem.runs_m[camera, k])))
    best = max((t.poe_type for t in problem.types), default=0)
    not_fed = tuple(name for name, need in zip(problem.cameras, problem.needs, strict=True) if need > best)
    return Infeasible(tuple(beyond), not_fed) if beyond or not_fed else None


def explain(problem: PlacementProblem, weighings: Sequence[Weighing] = (), cuts: Sequence[Cut] = ()) -> Infeasible:
    """Which cameras are left over, and which limits are in the way."""
    programme = Programme(problem, weighings, cuts, elastic=True)
    solved = programme.solve("left over", 0.0, nodes=_EXPLAIN_NODES)
    values = solved.values
    left: tuple[str, ...] = ()
    if values is not None:
        left = tuple(name for name, v in zip(problem.cameras, values[programme.left_at :], strict=True) if v > 0.5)
    limits = []
    for name in LIMITS:
        if Programme(problem, without=name).solve("nothing", 0.5, nodes=_EXPLAIN_NODES).values is not None:
            limits.append(name)
    return Infeasible(left_over=left, limits=tuple(limits), out_of_time=solved.open and not left)
