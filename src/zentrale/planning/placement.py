"""Where switches should stand: which cabinets to use, which switches to put there, which camera goes where, at least cost.

Solved exactly as a mixed-integer programme over cabinets and counts of switch types; the cameras of a cabinet are then
dealt out to its switches one by one, and where that cannot be done the programme is told so and solved again. So the
proven gap holds for the plan that comes out.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from zentrale.planning.placement_problem import LIMITS, CabinetChoice, PlacementProblem
from zentrale.planning.placement_programme import Cut, Programme
from zentrale.planning.placement_weighing import Weighing, broken, sharpened

_ROUNDS = 25  # cuts beyond this have not been seen; the bound is still right, only the dealing out is not
_EXPLAIN_S = 10.0
_DEAL_S = 2.0
_NEIGHBOURS = (1, 2, 3)  # that exchange cameras with a cabinet whose cameras did not fit
_HELD = 1e-3  # a weighing that is just kept is worth sharpening
_AMONG = 0.2  # for a better plan with the same cabinets
_MENDING = 0.15
_FIRST = 0.3  # of the time for the first plan, which may need mending and a proof
_CUTTING = 2 / 3  # of the time is kept for what comes after the first tightening


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


# What stands where: for each used cabinet its switches, each by type with its cameras, all by number.
_Dealt = dict[int, list[tuple[int, list[int]]]]


def place(
    problem: PlacementProblem, *, gap: float = 0.01, time_s: float = 60.0, clock: Callable[[], float] = lambda: 0.0
) -> Solution | Infeasible:
    """The cheapest placement, to within `gap` of the proven bound, in at most about `time_s` seconds of `clock`.

    Where the time does not suffice, the best found; its `gap` says how good it is.
    """
    reason = _plain_reasons(problem)
    if reason is not None:
        return reason
    ends = clock() + 0.95 * time_s  # the last step takes its time

    def stop() -> bool:
        return clock() >= ends

    def good(dealt: _Dealt) -> bool:
        return _cost(problem, dealt).total * (1 - gap) <= bound

    def enough(dealt: _Dealt) -> bool:
        return stop() or good(dealt) or clock() >= mending

    weighings = _tightened(problem, lambda: clock() >= ends - _CUTTING * time_s)
    cuts: list[Cut] = []
    best: _Dealt | None = None
    bound = mending = 0.0
    for _ in range(_ROUNDS):
        # First a good plan; then whether there is one cheaper by more than the gap. That there is none, is the proof.
        below = np.inf if best is None else _cost(problem, best).total * (1 - gap)
        programme = Programme(problem, weighings, cuts, below=below)
        left = max(1.0, ends - clock())
        values, proven, late = programme.solve("money", 2 * gap, left * (_FIRST if best is None else 1))
        bound = max(bound, min(proven, below) if values is not None or late else below)
        if values is None:
            if best is None:
                return Infeasible(out_of_time=True) if late else explain(problem, weighings, cuts)
            break
        found, failed = _dealt(problem, *programme.chosen(values))
        if found is None or not good(found):
            programme.keep_to_cabinets_of(values)
            better, _, _ = programme.solve("money", 0.5 * gap, left * _AMONG)
            if better is not None:
                found, failed = _dealt(problem, *programme.chosen(better))
        if found is not None:
            mending = clock() + _MENDING * time_s
            found = _mended(problem, found, weighings, failed, enough)
            if best is None or _cost(problem, found).total < _cost(problem, best).total:
                best = found
        if stop() or (best is not None and good(best)):
            break
        cuts += failed
    if best is None:
        return Infeasible(out_of_time=True)
    cost = _cost(problem, best)
    share = max(0.0, cost.total - bound) / cost.total if cost.total else 0.0
    return Solution(_named(problem, best), cost, bound, share, by_hand(problem))


def _tightened(problem: PlacementProblem, stop: Callable[[], bool]) -> list[Weighing]:
    """Weighings that bring the bound of the programme in shares of cameras near that in whole ones."""
    weighings: list[Weighing] = []
    while not stop():
        programme = Programme(problem, weighings)
        values, _, _ = programme.solve("money", 0.0, _EXPLAIN_S, whole=False)
        if values is None:
            break
        shares, counts = programme.shares(values)
        new = [w for k in range(len(problem.cabinets)) for w in broken(problem, k, shares[k], counts[k])]
        if not new:
            held = [w.broken_by(shares[w.cabinet], counts[w.cabinet]) > -_HELD for w in weighings]
            return [sharpened(problem, w) if h else w for w, h in zip(weighings, held, strict=True)]
        weighings += new
    return weighings


def _dealt(
    problem: PlacementProblem, chosen: Sequence[Sequence[int]], counts: NDArray[np.int64], *, more: bool = True
) -> tuple[_Dealt | None, list[Cut]]:
    """The cameras of each cabinet on real switches: where the counted ones do not hold them one by one, with `more` on
    the cheapest that do. Also what the programme must learn from it. None where some cabinet's cameras stand on nothing.
    """
    placed: _Dealt = {}
    cuts, complete = [], True
    for cabinet, cameras in enumerate(chosen):
        if not cameras:
            continue
        dealt, late = deal_out(problem, cabinet, cameras, counts[cabinet].tolist())
        if dealt is None:
            if not late:
                cuts.append(Cut(cabinet, tuple(cameras), tuple(counts[cabinet].tolist())))
            dealt, _ = deal_out(problem, cabinet, cameras) if more else (None, False)
        if dealt is None:
            complete = False
        else:
            placed[cabinet] = [(kind, some) for kind, some in dealt if some]
    return (placed if complete else None), cuts


def _mended(
    problem: PlacementProblem, dealt: _Dealt, weighings: Sequence[Weighing], failed: Sequence[Cut],
    stop: Callable[[_Dealt], bool],
) -> _Dealt:  # fmt: skip
    """The same or a cheaper placement: cabinet by cabinet keeps its switches and changes cameras with some neighbours,
    the rest staying as it is. First those whose cameras did not fit on the switches counted for them, with these.
    """
    reach = (problem.runs_m <= problem.max_run_m).astype(np.int64)
    shared = reach.T @ reach  # cameras that both of two cabinets could serve
    wanted = {cut.cabinet: cut.counts for cut in failed}
    anchors = [(k, size) for size in _NEIGHBOURS for k in wanted]
    anchors += [(k, size) for size in _NEIGHBOURS for k in sorted(dealt) if k not in wanted]
    for cabinet, size in anchors:
        if stop(dealt):
            break
        counts = np.bincount([kind for kind, _ in dealt.get(cabinet, [])], minlength=len(problem.types))
        by_shared = np.argsort(-shared[cabinet], kind="stable").tolist()
        near = [k for k in by_shared if k != cabinet and shared[cabinet, k]][:size]
        other = _exchanged(problem, dealt, weighings, [cabinet, *near], wanted.get(cabinet, counts.tolist()))
        if other is not None and _cost(problem, other).total < _cost(problem, dealt).total * (1 - 1e-9):
            dealt = other
    return dealt


def _exchanged(
    problem: PlacementProblem, dealt: _Dealt, weighings: Sequence[Weighing], group: list[int], counts: Sequence[int]
) -> _Dealt | None:
    """A placement in which the first cabinet of the group has just these switches, and the others what they need.

    Where the cameras of one of these do not fit switch by switch either, it keeps its switches too in the next attempt.
    """
    cameras = sorted(c for k in group for _, some in dealt.get(k, []) for c in some)
    fixed = {group[0]: list(counts)}
    for _ in group:
        # Each switch of a cabinet whose switches are fixed is a cabinet of its own.
        slots = [(k, kind) for k, counted in fixed.items() for kind, count in enumerate(counted) for _ in range(count)]
        free = [k for k in group if k not in fixed]
        at = [k for k, _ in slots] + free
        own = tuple(CabinetChoice(str(n), 0.0, 1) for n in range(len(slots)))
        small = replace(
            problem, cameras=tuple(problem.cameras[c] for c in cameras),
            cabinets=own + tuple(problem.cabinets[k] for k in free),
            runs_m=problem.runs_m[np.ix_(cameras, at)], needs=problem.needs[cameras],
            watts=problem.watts[np.ix_(cameras, at)], loads_bps=problem.loads_bps[cameras],
        )  # fmt: skip
        programme = Programme(small, [w.among(cameras, at.index(w.cabinet)) for w in weighings if w.cabinet in free])
        for n, (_, kind) in enumerate(slots):
            programme.row([programme.count(n, kind)], [1.0], 1, 1)
        values, _, _ = programme.solve("money", 0.002, _DEAL_S)
        if values is None:
            return None
        found, failed = _dealt(small, *programme.chosen(values), more=False)
        if found is not None:
            again = {k: switches for k, switches in dealt.items() if k not in group}
            for n, switches in found.items():
                again.setdefault(at[n], []).extend((kind, [cameras[c] for c in some]) for kind, some in switches)
            return again
        fixed |= {at[cut.cabinet]: list(cut.counts) for cut in failed}
    return None


def _named(problem: PlacementProblem, dealt: _Dealt) -> tuple[PlacedCabinet, ...]:
    placed = []
    for cabinet, switches in sorted(dealt.items()):
        names = tuple(
            PlacedSwitch(problem.types[kind].name, tuple(problem.cameras[c] for c in some)) for kind, some in switches
        )
        runs = {problem.cameras[c]: float(problem.runs_m[c, cabinet]) for _, some in switches for c in some}
        placed.append(PlacedCabinet(problem.cabinets[cabinet].name, names, runs))
    return tuple(placed)


def deal_out(
    problem: PlacementProblem, cabinet: int, cameras: Sequence[int], counts: Sequence[int] | None = None
) -> tuple[list[tuple[int, list[int]]] | None, bool]:
    """The cameras of a cabinet on its switches, or without `counts` on the cheapest that hold them: switch type and
    cameras of each. None where they do not fit; then also whether that is only for lack of time.
    """
    given = None if counts is None else [kind for kind, count in enumerate(counts) for _ in range(count)]
    if given is not None and len(given) <= 1:
        return [(kind, list(cameras)) for kind in given], False
    slots = problem.cabinets[cabinet].max_switches if given is None else len(given)
    # Each place for a switch is a cabinet of its own that holds one.
    places = tuple(CabinetChoice(str(n), 0.0, 1) for n in range(slots))
    runs = np.repeat(problem.runs_m[list(cameras), cabinet][:, None], slots, axis=1)
    watts = np.repeat(problem.watts[list(cameras), cabinet][:, None, :], slots, axis=1)
    small = PlacementProblem(
        tuple(problem.cameras[c] for c in cameras), places, problem.types, runs, problem.needs[list(cameras)],
        watts, problem.loads_bps[list(cameras)], np.inf, problem.spare, 0.0,
    )  # fmt: skip
    programme = Programme(small)
    for n in range(slots):
        if given is not None:
            programme.row([programme.count(n, given[n])], [1.0], 1, 1)
        elif n:  # places are alike: fill them in order, the dearer switch first
            prices = [t.price + 1 for t in problem.types]
            before = [programme.count(n - 1, kind) for kind in range(len(problem.types))]
            here = [programme.count(n, kind) for kind in range(len(problem.types))]
            programme.row([*before, *here], [*prices, *(-price for price in prices)], 0, np.inf)
    values, _, late = programme.solve("nothing" if given is not None else "money", 0.0, _DEAL_S)
    if values is None:
        return None, late
    counted = np.rint(values[programme.counts_at : programme.used_at]).reshape(slots, -1)
    dealt: list[tuple[int, list[int]]] = [(int(np.argmax(row)), []) for row in counted]
    for camera, place_at, value in zip(programme.cameras, programme.cabinets, values, strict=False):
        if value > 0.5:
            dealt[place_at][1].append(cameras[camera])
    return [(kind, some) for (kind, some), row in zip(dealt, counted, strict=True) if row.any()], False


def _cost(problem: PlacementProblem, dealt: _Dealt) -> Cost:
    switches = sum(problem.types[kind].price for placed in dealt.values() for kind, _ in placed)
    runs = sum(float(problem.runs_m[c, k]) for k, placed in dealt.items() for _, some in placed for c in some)
    return Cost(switches, runs * problem.cable_price, sum(problem.cabinets[k].price for k in dealt))


def by_hand(problem: PlacementProblem) -> Cost | None:
    """As it is done without a computer: every camera to its nearest cabinet, and there the cheapest number of switches
    of one type. None where some cabinet has no such type.
    """
    nearest = np.argmin(problem.runs_m, axis=1)
    dealt: _Dealt = {}
    for k, choice in enumerate(problem.cabinets):
        cameras = np.flatnonzero(nearest == k).tolist()
        options = []
        for s, kind in enumerate(problem.types):
            for number in range(1, choice.max_switches + 1 if cameras else 1):
                if deal_out_fits(problem, k, cameras, [number if n == s else 0 for n in range(len(problem.types))]):
                    options.append((number * kind.price, s, number))
                    break
        if cameras and not options:
            return None
        if cameras:
            _, s, number = min(options)
            dealt[k] = [(s, cameras)] + [(s, [])] * (number - 1)  # only the cost counts here
    return _cost(problem, dealt)


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
    return deal_out(problem, cabinet, chosen, counts)[0] is not None


def _plain_reasons(problem: PlacementProblem) -> Infeasible | None:
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
    values, _, late = (programme := Programme(problem, weighings, cuts, elastic=True)).solve(
        "left over", 0.0, _EXPLAIN_S
    )
    left: tuple[str, ...] = ()
    if values is not None:
        left = tuple(name for name, v in zip(problem.cameras, values[programme.left_at :], strict=True) if v > 0.5)
    limits = []
    for name in LIMITS:
        found, _, _ = Programme(problem, without=name).solve("nothing", 0.5, _EXPLAIN_S)
        if found is not None:
            limits.append(name)
    return Infeasible(left_over=left, limits=tuple(limits), out_of_time=late and not left)
