"""What follows from the plan alone, worked out once for it."""

from __future__ import annotations

from collections.abc import Callable
from functools import wraps
from typing import TypeVar

from zentrale.site.model import Plan

R = TypeVar("R")


def once(work_out: Callable[[Plan], R]) -> Callable[[Plan], R]:
    """Parts of the plan ask for the same; a plan never changes. Whoever is given the result must not change it either."""

    @wraps(work_out)
    def kept(plan: Plan) -> R:
        if work_out not in plan.kept:
            plan.kept[work_out] = work_out(plan)
        result: R = plan.kept[work_out]
        return result

    return kept
