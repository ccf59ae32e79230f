"""How rounds fall: which camera each panel shows in each moment, when all rounds begin at once.

Rounds whose times agree begin anew together after a while, and all moments up to there are looked at. Where they hardly agree
that is hours away, or days; then sooner or later every camera of one round meets every camera of the others, the heaviest too.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from zentrale.planning.walls.panels import Panel

MOST_MOMENTS = 2048
_TICKS = 1000  # a second
Ints = npt.NDArray[np.int64]


@dataclass(frozen=True)
class Moments:
    """at_s:  when something changes, up to where all begins anew [s], shape (moments,)
    shown: for each panel which of its cameras it shows then, shape (moments,)
    whole: whether these are all moments; else it is the one in which the heaviest meet, whichever these are (`shown` is empty)
    """

    at_s: npt.NDArray[np.float64]
    shown: tuple[Ints, ...]
    whole: bool


def moments_of(panels: Sequence[Panel]) -> Moments:
    """Of rounds whose cameras send alike nothing depends, so that their changes are no moments."""
    turning = {n: p for n, p in enumerate(panels) if p.is_round and any(len(set(o.plans)) > 1 for o in p.offers)}
    steps = {n: max(1, round(_TICKS * (p.plan.seconds or 1))) for n, p in turning.items()}
    period = math.lcm(*(steps[n] * len(p.cameras) for n, p in turning.items()))
    if sum(period // step for step in set(steps.values())) > MOST_MOMENTS:
        return Moments(np.zeros(1), (), False)
    ticks = np.unique(np.concatenate([np.zeros(1, np.int64), *(np.arange(0, period, s) for s in set(steps.values()))]))
    shown = tuple(
        (ticks // steps[n]) % len(p.cameras) if n in steps else np.zeros(len(ticks), np.int64)
        for n, p in enumerate(panels)
    )
    return Moments(ticks / _TICKS, shown, True)
