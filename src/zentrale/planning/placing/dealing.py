"""Dealing out the cameras of a cabinet to its switches, one by one, and changing cameras with neighbours where they do
not fit.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from zentrale.planning.placing.problem import CabinetChoice, PlacementProblem
from zentrale.planning.placing.programme import Cut, Programme
from zentrale.planning.placing.weighing import Weighing

_DEAL_NODES = 500
_NEIGHBOURS = (1, 2, 3)  # that change cameras with a cabinet

# What stands where: for each used cabinet its switches, each by type with its cameras, all by number.
Dealt = dict[int, list[tuple[int, list[int]]]]


@dataclass(frozen=True)
class Cost:
    """In the currency of the site."""

    switches: float
    cable: float
    cabinets: float

    @property
    def total(self) -> float:
        return self.switches + self.cable + self.cabinets


def cost_of(problem: PlacementProblem, dealt: Dealt) -> Cost:
    switches = sum(problem.types[kind].price for placed in dealt.values() for kind, _ in placed)
    runs = sum(float(problem.runs_m[c, k]) for k, placed in dealt.items() for _, some in placed for c in some)
    return Cost(switches, runs * problem.cable_price, sum(problem.cabinets[k].price for k in dealt))


def dealt_out(
    problem: PlacementProblem, chosen: Sequence[Sequence[int]], counts: NDArray[np.int64], *, more: bool = True
) -> tuple[Dealt | None, list[Cut]]:
    """The cameras of each cabinet on real switches: where the counted ones do not hold them one by one, with `more` on
    the cheapest that do. Also what the programme must learn from it. None where some cabinet's cameras stand on nothing.
    """
    placed: Dealt = {}
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


def mended(
    problem: PlacementProblem, dealt: Dealt, weighings: Sequence[Weighing], failed: Sequence[Cut],
    stop: Callable[[Dealt], bool],
) -> Dealt:  # fmt: skip
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
        if other is not None and cost_of(problem, other).total < cost_of(problem, dealt).total * (1 - 1e-9):
            dealt = other
    return dealt


def _exchanged(
    problem: PlacementProblem, dealt: Dealt, weighings: Sequence[Weighing], group: list[int], counts: Sequence[int]
) -> Dealt | None:
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
            programme.rows.add([programme.count(n, kind)], [1.0], 1, 1)
        solved = programme.solve("money", 0.002, nodes=_DEAL_NODES)
        if solved.values is None:
            return None
        found, failed = dealt_out(small, *programme.chosen(solved.values), more=False)
        if found is not None:
            again = {k: switches for k, switches in dealt.items() if k not in group}
            for n, switches in found.items():
                again.setdefault(at[n], []).extend((kind, [cameras[c] for c in some]) for kind, some in switches)
            return again
        fixed |= {at[cut.cabinet]: list(cut.counts) for cut in failed}
    return None


def deal_out(
    problem: PlacementProblem, cabinet: int, cameras: Sequence[int], counts: Sequence[int] | None = None
) -> tuple[list[tuple[int, list[int]]] | None, bool]:
    """The cameras of a cabinet on its switches, or without `counts` on the cheapest that hold them: switch type and
    cameras of each. None where they do not fit; then also whether that is only for lack of branches looked at.
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
        watts, problem.loads_bps[list(cameras)], np.inf, problem.spare, 0.0, problem.class_column,
    )  # fmt: skip
    programme = Programme(small)
    for n in range(slots):
        if given is not None:
            programme.rows.add([programme.count(n, given[n])], [1.0], 1, 1)
        elif n:  # places are alike: fill them in order, the dearer switch first
            prices = [t.price + 1 for t in problem.types]
            before = [programme.count(n - 1, kind) for kind in range(len(problem.types))]
            here = [programme.count(n, kind) for kind in range(len(problem.types))]
            programme.rows.add([*before, *here], [*prices, *(-price for price in prices)], 0, np.inf)
    solved = programme.solve("nothing" if given is not None else "money", 0.0, nodes=_DEAL_NODES)
    values = solved.values
    if values is None:
        return None, solved.open
    counted = np.rint(values[programme.counts_at : programme.used_at]).reshape(slots, -1)
    dealt: list[tuple[int, list[int]]] = [(int(np.argmax(row)), []) for row in counted]
    for camera, place_at, value in zip(programme.cameras, programme.cabinets, values, strict=False):
        if value > 0.5:
            dealt[place_at][1].append(cameras[camera])
    return [(kind, some) for (kind, some), row in zip(dealt, counted, strict=True) if row.any()], False


def fits(problem: PlacementProblem, cabinet: int, cameras: Sequence[int], counts: Sequence[int]) -> bool:
    """Whether these switches hold these cameras: by their sums first, since most fail there."""
    counted, budgets = list(zip(problem.types, counts, strict=True)), problem.budgets()
    kinds = [(t, n) for t, n in counted if n]
    chosen = list(cameras)
    for level in problem.levels():
        members = [c for c in chosen if problem.needs[c] >= level]
        if len(members) > sum(n * t.ports_for(level, problem.spare) for t, n in kinds):
            return False
        drawn = problem.watts[members, cabinet].sum(axis=0) if members and level else np.zeros(1)
        room = sum(
            (n * b for (t, n), b in zip(counted, budgets, strict=True) if n and t.poe_type >= level), np.zeros(1)
        )
        if (drawn > room).any():
            return False
    if float(problem.loads_bps[chosen].sum()) > sum(n * t.uplink_bps for t, n in kinds):
        return False
    return deal_out(problem, cabinet, chosen, counts)[0] is not None
