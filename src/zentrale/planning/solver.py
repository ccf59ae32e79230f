"""Linear and mixed-integer programmes, solved by HiGHS: rows are gathered one by one, and a search can be stopped at any
moment, told a plan that is known to hold, and asked how good its best one is.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any

import highspy
import numpy as np
from numpy.typing import NDArray

from zentrale.silence import nothing_printed

_STATUS = highspy.HighsModelStatus
# Settled for good: by any other ending there may be values that were not found.
_SETTLED = (_STATUS.kOptimal, _STATUS.kInfeasible)


@dataclass(frozen=True)
class Solved:
    """What came out of a programme.

    values:     of its variables, None where none were found
    bound:      no values cost less
    open:       it was stopped, so that there may be values, or cheaper ones
    row_prices: (rows,) what one more unit of a row's limit would change the cost by; of programmes in shares only
    """

    values: NDArray[np.float64] | None
    cost: float
    bound: float
    open: bool
    row_prices: NDArray[np.float64]


class Rows:
    """Rows of a programme, each with its least and its most."""

    def __init__(self) -> None:
        self.starts, self.columns, self.values = [0], list[int](), list[float]()
        self.low, self.high = list[float](), list[float]()

    def add(self, columns: Sequence[int], values: Sequence[float], low: float, high: float) -> None:
        self.columns += columns
        self.values += values
        self.starts.append(len(self.columns))
        self.low.append(low)
        self.high.append(high)

    @classmethod
    def of(cls, matrix: NDArray[np.float64], high: NDArray[np.float64]) -> Rows:
        """Those of a full matrix, each at most `high`."""
        rows = cls()
        for line, most in zip(matrix, high.tolist(), strict=True):
            columns = np.flatnonzero(line)
            rows.add(columns.tolist(), line[columns].tolist(), -np.inf, most)
        return rows


def solve(
    costs: NDArray[np.float64], rows: Rows, upper: NDArray[np.float64], *, whole: bool, gap: float = 0.0,
    nodes: int | None = None, stop: Callable[[], bool] | None = None, known: NDArray[np.float64] | None = None,
) -> Solved:  # fmt: skip
    """The values from 0 to `upper` that cost least.

    whole: the values are whole numbers; gap: a share of the cost by which it may be dearer than it need be
    nodes: branches to look at, at most; stop: asked again and again whether to end
    known: values that are known to hold all rows
    """
    with nothing_printed():
        solver: Any = highspy.Highs()  # type: ignore[no-untyped-call]
    for name, value in (("output_flag", False), ("threads", 1), ("random_seed", 0), ("mip_rel_gap", gap)):
        solver.setOptionValue(name, value)
    if nodes is not None:
        solver.setOptionValue("mip_max_nodes", nodes)
    solver.passModel(_model(costs, rows, upper, whole))
    if known is not None:
        solution = highspy.HighsSolution()
        solution.col_value = known.tolist()
        solver.setSolution(solution)
    if stop is not None:

        def ask(event: Any) -> None:
            if stop():
                event.interrupt()

        for callback in (solver.cbMipInterrupt, solver.cbSimplexInterrupt):
            callback.subscribe(ask)
    solver.run()
    info, status = solver.getInfo(), solver.getModelStatus()
    found = info.primal_solution_status == highspy.SolutionStatus.kSolutionStatusFeasible
    solution = solver.getSolution()
    values = np.array(solution.col_value) if found else None
    cost = float(info.objective_function_value) if found else np.inf
    bound = float(info.mip_dual_bound) if whole else cost if status == _STATUS.kOptimal else -np.inf
    prices = np.zeros(0) if whole else np.array(solution.row_dual)
    return Solved(values, cost, bound, status not in _SETTLED, prices)


def _model(costs: NDArray[np.float64], rows: Rows, upper: NDArray[np.float64], whole: bool) -> highspy.HighsLp:
    model = highspy.HighsLp()
    model.num_col_, model.num_row_ = len(costs), len(rows.low)
    model.col_cost_, model.col_lower_, model.col_upper_ = costs, np.zeros(len(costs)), upper
    model.row_lower_, model.row_upper_ = np.array(rows.low), np.array(rows.high)
    model.a_matrix_.format_ = highspy.MatrixFormat.kRowwise
    model.a_matrix_.start_ = np.array(rows.starts, dtype=np.int32)
    model.a_matrix_.index_ = np.array(rows.columns, dtype=np.int32)
    model.a_matrix_.value_ = np.array(rows.values)
    if whole:
        model.integrality_ = [highspy.HighsVarType.kInteger] * len(costs)
    return model
