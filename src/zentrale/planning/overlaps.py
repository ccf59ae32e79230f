"""Which cameras watch the same ground: two of them are never taken down together."""

from __future__ import annotations

from collections.abc import Sequence
from itertools import combinations

import numpy as np

from zentrale.planning.detail import LEVELS, View, view_of
from zentrale.site.model import Camera, Plan

_LEVEL = "detect"  # IEC 62676-4: from this on it is of use that a camera sees a place
_POINTS = 60  # along each side of the box that both could see


def overlapping(plan: Plan, cameras: Sequence[Camera]) -> set[frozenset[str]]:
    """Pairs of names. A camera whose place is not planned may watch what any other does, so it pairs with all of them."""
    views = {c.name: view_of(plan, c) for c in cameras}
    pairs = set()
    for one, other in combinations(views, 2):
        first, second = views[one], views[other]
        if first is None or second is None or _share(first, second):
            pairs.add(frozenset((one, other)))
    return pairs


def _share(one: View, other: View) -> bool:
    """Whether a point on the ground is seen well enough by both. Boxes first; then a grid over what both boxes hold."""
    a, b = one.bounds(_LEVEL), other.bounds(_LEVEL)
    west, east, south, north = max(a[0], b[0]), min(a[1], b[1]), max(a[2], b[2]), min(a[3], b[3])
    if west >= east or south >= north:
        return False
    x, y = np.meshgrid(np.linspace(west, east, _POINTS), np.linspace(south, north, _POINTS))
    both = (one.pixels_per_m(x, y) >= LEVELS[_LEVEL]) & (other.pixels_per_m(x, y) >= LEVELS[_LEVEL])
    return bool(both.any())
