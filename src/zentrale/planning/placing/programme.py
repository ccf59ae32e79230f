"""The mixed-integer programme of a placement: its variables and its constraints."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from zentrale.planning.placing.problem import PlacementProblem
from zentrale.planning.placing.weighing import Weighing
from zentrale.planning.solver import Rows, Solved, solve


@dataclass(frozen=True)
class Cut:
    """These cameras do not fit into this cabinet with no more than these switches."""

    cabinet: int
    cameras: tuple[int, ...]
    counts: tuple[int, ...]


class Programme:
    """Variables in order: camera-to-cabinet pairs, switch counts, cabinets used, one for each cut and type, and where
    cameras may be left over, one for each camera.

    without: a limit that is not set
    below: only what costs less
    """

    def __init__(
        self,
        problem: PlacementProblem,
        weighings: Sequence[Weighing] = (),
        cuts: Sequence[Cut] = (),
        *,
        without: str = "",
        elastic: bool = False,
        below: float = np.inf,
    ) -> None:
        self.problem = p = problem
        self.without = without
        cameras, cabinets = p.pairs()
        self.cameras, self.cabinets = cameras, cabinets
        self.pairs = len(cameras)
        self._pairs_of = [[i for i in range(self.pairs) if cabinets[i] == k] for k in range(len(p.cabinets))]
        self.k, self.s = len(p.cabinets), len(p.types)
        self.counts_at = self.pairs
        self.used_at = self.counts_at + self.k * self.s
        self.cut_at = self.used_at + self.k
        self.left_at = self.cut_at + len(cuts) * self.s
        self.size = self.left_at + (len(p.cameras) if elastic else 0)
        self.elastic = elastic
        self.budgets = p.budgets()
        self.rows = Rows()
        self.cuts = cuts
        self._assign()
        self._capacities()
        for weighing in weighings:
            self._weigh(weighing)
        for number, cut in enumerate(cuts):
            self._cut(number, cut)
        if np.isfinite(below):
            prices = self._prices()
            self.rows.add(list(range(self.size)), [float(p) / 100 for p in prices], -np.inf, below / 100)

    def count(self, cabinet: int, kind: int) -> int:
        return self.counts_at + cabinet * self.s + kind

    def _assign(self) -> None:
        """Every camera in one cabinet, and only in one that is used."""
        by_camera: list[list[int]] = [[] for _ in self.problem.cameras]
        for pair, (camera, cabinet) in enumerate(zip(self.cameras, self.cabinets, strict=True)):
            by_camera[camera].append(pair)
            self.rows.add([pair, self.used_at + cabinet], [1, -1], -np.inf, 0)
        for camera, pairs in enumerate(by_camera):
            more = [self.left_at + camera] if self.elastic else []
            self.rows.add([*pairs, *more], [1.0] * (len(pairs) + len(more)), 1, 1)

    def _capacities(self) -> None:
        p = self.problem
        for cabinet, choice in enumerate(p.cabinets):
            pairs = self._pairs_of[cabinet]
            counts = [self.count(cabinet, kind) for kind in range(self.s)]
            most = 10_000 if self.without == "max_switches" else choice.max_switches
            self.rows.add([*counts, self.used_at + cabinet], [*([1.0] * self.s), -float(most)], -np.inf, 0)
            self._hold(cabinet, pairs, counts)

    def _hold(self, cabinet: int, pairs: list[int], counts: list[int]) -> None:
        """The cameras of these pairs fit on the cabinet's switches, by their sums.

        Needs are nested: a port that feeds a high PoE type feeds the lower ones. So it is enough that, for each level,
        all that need at least that level fit into all that offer at least that level.
        """
        p = self.problem
        spare = 0.0 if self.without == "spare" else p.spare
        for level in p.levels():
            members = [i for i in pairs if p.needs[self.cameras[i]] >= level]
            if not members:
                continue
            self._fits(members, [1.0] * len(members), counts, [float(t.ports_for(level, spare)) for t in p.types])
            if level == 0 or self.without == "power":
                continue
            feeds = [t.poe_type >= level for t in p.types]
            for column, budgets in enumerate(self.budgets.T.tolist()):
                drawn = [float(p.watts[self.cameras[i], cabinet, column]) for i in members]
                self._fits(
                    members, drawn, counts, [b if feeding else 0.0 for b, feeding in zip(budgets, feeds, strict=True)]
                )
        if self.without != "uplink":
            loads = [float(p.loads_bps[self.cameras[i]]) / 1e6 for i in pairs]
            self._fits(pairs, loads, counts, [t.uplink_bps / 1e6 for t in p.types])

    def _fits(self, members: list[int], sizes: list[float], counts: list[int], rooms: list[float]) -> None:
        if members:
            self.rows.add([*members, *counts], [*sizes, *(-room for room in rooms)], -np.inf, 0)

    def _weigh(self, weighing: Weighing) -> None:
        pairs = [i for i in self._pairs_of[weighing.cabinet] if weighing.weights[self.cameras[i]] > 0]
        weights = [float(weighing.weights[self.cameras[i]]) for i in pairs]
        counts = [self.count(weighing.cabinet, kind) for kind in range(self.s)]
        self._fits(pairs, weights, counts, weighing.rooms.tolist())

    def _cut(self, number: int, cut: Cut) -> None:
        """Not all of them, unless there are more switches of some type: y = 1 means that type has more than it had."""
        pairs = [i for i in self._pairs_of[cut.cabinet] if self.cameras[i] in set(cut.cameras)]
        more = [self.cut_at + number * self.s + kind for kind in range(self.s)]
        size = float(len(cut.cameras))
        self.rows.add([*pairs, *more], [*([1.0] * len(pairs)), *([-size] * self.s)], -np.inf, size - 1)
        for kind, y in enumerate(more):
            self.rows.add([self.count(cut.cabinet, kind), y], [1.0, -float(cut.counts[kind] + 1)], 0, np.inf)

    def keep_to_cabinets_of(self, values: NDArray[np.float64]) -> None:
        for used in range(self.used_at, self.cut_at):
            if values[used] < 0.5:
                self.rows.add([used], [1.0], 0, 0)

    def _prices(self) -> NDArray[np.float64]:
        p, c = self.problem, np.zeros(self.size)
        c[: self.pairs] = p.runs_m[self.cameras, self.cabinets] * p.cable_price
        c[self.counts_at : self.used_at] = [t.price for _ in p.cabinets for t in p.types]
        c[self.used_at : self.cut_at] = [choice.price for choice in p.cabinets]
        return c

    def solve(
        self, costs: str, gap: float, *, whole: bool = True, nodes: int | None = None,
        stop: Callable[[], bool] | None = None, known: NDArray[np.float64] | None = None,
    ) -> Solved:  # fmt: skip
        """The cheapest by `costs`: money, how many cameras are left over, or nothing, where any will do.

        whole: cameras and switches are whole ones, not shares of one; the rest as the solver has it
        """
        p = self.problem
        c = self._prices() if costs == "money" else np.zeros(self.size)
        if costs == "left over":
            c[self.left_at :] = 1
        upper = np.ones(self.size)
        upper[self.counts_at : self.used_at] = [
            10_000 if self.without == "max_switches" else choice.max_switches for choice in p.cabinets for _ in p.types
        ]
        return solve(c, self.rows, upper, whole=whole, gap=gap, nodes=nodes, stop=stop, known=known)

    def values_of(self, placed: Mapping[int, Sequence[tuple[int, Sequence[int]]]]) -> NDArray[np.float64]:
        """The variables of a placement: for each cabinet its switches, each by type with its cameras."""
        values = np.zeros(self.size)
        pair_of = {pair: n for n, pair in enumerate(zip(self.cameras, self.cabinets, strict=True))}
        for cabinet, switches in placed.items():
            values[self.used_at + cabinet] = 1
            for kind, cameras in switches:
                values[self.count(cabinet, kind)] += 1
                for camera in cameras:
                    values[pair_of[camera, cabinet]] = 1
        for number, cut in enumerate(self.cuts):
            for kind in range(self.s):
                more = values[self.count(cut.cabinet, kind)] > cut.counts[kind]
                values[self.cut_at + number * self.s + kind] = float(more)
        return values

    def shares(self, values: NDArray[np.float64]) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
        """Shares of the cameras (cabinets, cameras), and counts of switches (cabinets, types), as they are."""
        shares = np.zeros((self.k, len(self.problem.cameras)))
        shares[self.cabinets, self.cameras] = values[: self.pairs]
        return shares, values[self.counts_at : self.used_at].reshape(self.k, self.s)

    def chosen(self, values: NDArray[np.float64]) -> tuple[list[list[int]], NDArray[np.int64]]:
        """The cameras of each cabinet, and the counts of switches by cabinet and type."""
        cameras: list[list[int]] = [[] for _ in self.problem.cabinets]
        for camera, cabinet, value in zip(self.cameras, self.cabinets, values, strict=False):
            if value > 0.5:
                cameras[cabinet].append(camera)
        counts = np.rint(values[self.counts_at : self.used_at]).astype(np.int64).reshape(self.k, self.s)
        return cameras, counts
