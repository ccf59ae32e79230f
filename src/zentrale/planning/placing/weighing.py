"""What the sums of a cabinet do not say: that its cameras must fit switch by switch.

Summed up, a switch with ports to spare and one with power to spare help each other out; standing side by side they do not.
So cameras are given weights, and each switch type a room: the most that any cameras weigh which one such switch holds. The
cameras of a cabinet then weigh at most the rooms of its switches together. Weights are looked for that the programme's
present answer breaks: cutting planes.

How it works. Let x[i] be camera i's share in the cabinet (0 to 1) and n[k] how many switches of type k stand there. What
one switch of type k can hold is a set F[k] of groups of cameras: those that keep to all of its budgets (ports, PoE ports,
watts, uplink). For any weights w >= 0 let r[k] be the most that a group of F[k] weighs. Then every placement of whole
cameras keeps to

    sum over i of w[i] x[i]  <=  sum over k of r[k] n[k],

whatever w is, so that each such row may be added to the programme without losing a placement; it is of use where the
present answer, with parts of cameras, breaks it. `broken` looks for such w in two ways (`_by_type`: the prices of dealing
the shares out to types, each with a budget of its own; `_by_size`: large ones counted, since of cameras beyond a quarter of
a budget one switch holds three). `_room` bounds r[k] from above by letting one camera count in part; `sharpened` makes it
smaller by a proven bound of the knapsack of whole cameras.

Shapes. `weights` and `shares` are float64 of shape (cameras,), in the order of `problem.cameras`; `rooms` and `counts`
float64 of shape (types,), in the order of `problem.types`; `takes` (resources, cameras) and `offers` (types, resources) are
what a camera takes and a switch has; resource 0 are ports, 1 ports with PoE, then columns of watts, and last the uplink in
Mbit/s. `feeds` (cameras, types) is bool: whether that type can feed it.

What always holds. A room is never smaller than the truth: where a programme is not solved, the sum of all weights stands in
for it, and of a branching that ends early its bound is taken, not its best answer. So a row may be weak and is never wrong,
and the bound that a placement is judged by stays one. tests/test_placement.py holds costs and bounds against all placements
of small sites.

Why not switch by switch from the start: a variable for each camera, cabinet and single switch makes alike switches
exchangeable, and branching then proves the same thing once for each order of them.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from zentrale.planning.placing.problem import PlacementProblem
from zentrale.planning.solver import Rows, solve

_BROKEN = 1e-3  # by less than this a weighing is not worth a row
_SMALL = 1e-6
_NODES = 200  # a room is proven well enough after so many branches
_LARGE = 9  # up to so many cameras in one budget it matters that they are whole ones


@dataclass(frozen=True, eq=False)
class Weighing:
    """In this cabinet: weights (cameras,) of the cameras, rooms (types,) of one switch of each type."""

    cabinet: int
    weights: NDArray[np.float64]
    rooms: NDArray[np.float64]

    def among(self, cameras: Sequence[int], cabinet: int) -> Weighing:
        """The same of these cameras alone, the cabinet having this number."""
        return Weighing(cabinet, self.weights[cameras], self.rooms)

    def broken_by(self, shares: NDArray[np.float64], counts: NDArray[np.float64]) -> float:
        """How much the cameras, each by its share in this cabinet, weigh beyond the rooms of these switches."""
        return float(self.weights @ shares - self.rooms @ counts)


def broken(
    problem: PlacementProblem, cabinet: int, shares: NDArray[np.float64], counts: NDArray[np.float64]
) -> Iterator[Weighing]:
    """Weighings that shares (cameras,) and counts (types,) of a cabinet break, though they fit by their sums."""
    found = (_by_type(problem, cabinet, shares, counts), _by_size(problem, cabinet, shares, counts))
    yield from (w for w in found if w is not None and w.broken_by(shares, counts) > _BROKEN)


def _ones(problem: PlacementProblem, cameras: list[int]) -> NDArray[np.float64]:
    shares = np.zeros(len(problem.cameras))
    shares[cameras] = 1
    return shares


def _weighed(problem: PlacementProblem, cabinet: int, weights: NDArray[np.float64]) -> Weighing:
    reach = problem.runs_m[:, cabinet] <= problem.max_run_m
    whole = np.where(reach, np.round(np.maximum(weights, 0), 6), 0.0)
    rooms = [_room(problem, cabinet, whole, kind) for kind in range(len(problem.types))]
    return Weighing(cabinet, whole, np.array(rooms))


def _room(problem: PlacementProblem, cabinet: int, weights: NDArray[np.float64], kind: int) -> float:
    """The most that cameras weigh which one switch of this type holds; of one camera a share may count."""
    some = np.flatnonzero((weights > 0) & problem.feeds()[:, kind])
    if not len(some):
        return 0.0
    rows = Rows.of(problem.takes(cabinet)[:, some], problem.offers()[kind])
    solved = solve(-weights[some], rows, np.ones(len(some)), whole=False)
    return float(weights[some].sum()) if solved.values is None else -solved.cost


def sharpened(problem: PlacementProblem, weighing: Weighing) -> Weighing:
    """The same with the rooms that whole cameras leave: a knapsack for each type, to a proven bound."""
    rooms = weighing.rooms.copy()
    for kind in np.flatnonzero(rooms % 1 > _SMALL).tolist():
        some = np.flatnonzero((weighing.weights > 0) & problem.feeds()[:, kind])
        rows = Rows.of(problem.takes(weighing.cabinet)[:, some], problem.offers()[kind])
        solved = solve(-weighing.weights[some], rows, np.ones(len(some)), whole=True, gap=0.005, nodes=_NODES)
        rooms[kind] = min(rooms[kind], -solved.bound)
    return Weighing(weighing.cabinet, weighing.weights, rooms)


def _by_type(
    problem: PlacementProblem, cabinet: int, shares: NDArray[np.float64], counts: NDArray[np.float64]
) -> Weighing | None:
    """From dealing the shares out to the switch types: what an own budget for each type leaves over, its prices weigh."""
    takes, offers, feeds = problem.takes(cabinet), problem.offers(), problem.feeds()
    here, have = np.flatnonzero(shares > _SMALL), np.flatnonzero(counts > _SMALL)
    camera, kind = np.nonzero(feeds[np.ix_(here, have)])
    resources = len(takes)
    if not len(camera):
        return None
    # A row for each camera's share, then one for each type's resource; a column for each camera and type.
    rows = Rows()
    for n, share in enumerate(shares[here].tolist()):
        of_camera = np.flatnonzero(camera == n)
        rows.add(of_camera.tolist(), [1.0] * len(of_camera), -np.inf, share)
    for n, k in enumerate(have.tolist()):
        of_kind = np.flatnonzero(kind == n)
        for taken, room in zip(takes[:, here[camera[of_kind]]].tolist(), (offers[k] * counts[k]).tolist(), strict=True):
            rows.add(of_kind.tolist(), taken, -np.inf, room)
    solved = solve(-np.ones(len(camera)), rows, np.full(len(camera), np.inf), whole=False)
    if solved.values is None or shares[here].sum() + solved.cost < _SMALL:
        return None
    price = -solved.row_prices[len(here) :].reshape(len(have), resources)
    weights = np.ones(len(problem.cameras))
    for n, k in enumerate(have.tolist()):
        weights = np.minimum(weights, np.where(feeds[:, k], price[n] @ takes, 1.0))
    return _weighed(problem, cabinet, weights)


def _by_size(
    problem: PlacementProblem, cabinet: int, shares: NDArray[np.float64], counts: NDArray[np.float64]
) -> Weighing | None:
    """From counting the large ones: of cameras beyond a quarter of a budget it holds three, whatever the sum says."""
    takes, offers, feeds = problem.takes(cabinet), problem.offers(), problem.feeds()
    reach = problem.runs_m[:, cabinet] <= problem.max_run_m
    best: Weighing | None = None
    for level in problem.levels():
        for resource in range(2, len(takes)):
            order = np.argsort(takes[resource], kind="stable")
            order = order[(reach & (problem.needs >= level) & (takes[resource] > 0))[order]]
            sizes = takes[resource][order]
            limits = np.divide.outer(offers[:, resource], np.arange(1, _LARGE)).ravel()
            for first in np.unique(np.searchsorted(sizes, limits, "right")).tolist():
                members = order[first:]
                if shares[members].sum() < _SMALL:
                    continue
                fits = np.searchsorted(np.cumsum(sizes[first:]), offers[:, resource], "right")
                rooms = np.where(feeds[members].any(axis=0), np.minimum(fits, offers[:, 0]), 0.0)
                weighing = Weighing(cabinet, _ones(problem, members.tolist()), rooms)
                if best is None or weighing.broken_by(shares, counts) > best.broken_by(shares, counts):
                    best = weighing
    return best
