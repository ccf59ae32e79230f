"""What a decoded picture shows, as far as its points tell: nothing but black or white, no edge, or no change.

A first judgement, which accuses only what no scene looks like: thresholds are far from those of a dark, foggy or quiet one.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from zentrale.findings import Finding, finding
from zentrale.subjects import Ref

PICTURE_CODES = frozenset({"PIC-1", "PIC-2", "PIC-3"})
_BLACK, _WHITE, _NEARLY_ALL = 24, 235, 0.985  # luma of 255; 16 and 235 are black and white (ITU-R BT.709 table 4)
_WIDTH = 640  # pictures are compared at this width
_SHARPEST, _EDGE = 99.9, 0.06  # of the steps from point to point, the sharpest, against the range of the picture
_CONTRAST = 40  # below this range there is nothing that could be sharp
_SAME_SHARE = 0.9999
REFERENCE_SIZE = (64, 36)  # points: what stays the same when leaves move and the light changes
_SAME_PLACE = 0.2  # a camera that looks at the same place has twice this by day and night; one that was turned has less


@dataclass(frozen=True)
class Look:
    """black, white: share of the points that are; range: of luma between the darkest and the brightest hundredth;
    edge: the sharpest step from one point to the next, as a share of that range, at a width of 640 points
    """

    black: float
    white: float
    range: float
    edge: float


def look_at(luma: npt.NDArray[np.uint8]) -> Look:
    """`luma`: rows by columns."""
    factor = max(1, luma.shape[1] // _WIDTH)
    counts = np.bincount(luma[::factor, ::factor].ravel(), minlength=256)  # not every point: it need not cost more
    below = np.cumsum(counts) / counts.sum()
    low, high = (int(np.searchsorted(below, share)) for share in (0.01, 0.99))
    columns = luma.shape[1] // factor * factor
    small = np.zeros((-(-luma.shape[0] // factor), columns // factor), np.int16)
    for column in range(factor):  # one after the other: along a short axis, sums cost ten times as much
        small += luma[::factor, column:columns:factor]
    small //= factor
    steps = np.abs(np.diff(small, axis=1)).astype(np.uint8)
    rises = np.cumsum(np.bincount(steps.ravel(), minlength=256))
    sharpest = int(np.searchsorted(rises, _SHARPEST / 100 * max(1, steps.size)))
    edge = sharpest / (high - low) if high > low else 0.0
    return Look(float(below[_BLACK - 1]), float(1 - below[_WHITE - 1]), float(high - low), edge)


def judge_picture(subject: str | Ref, look: Look) -> Iterable[Finding]:
    if look.black > _NEARLY_ALL:
        yield finding(
            "PIC-1", subject, f"{100 * look.black:.0f} % of it is black", "a scene", "the decoded key picture"
        )
    elif look.white > _NEARLY_ALL:
        yield finding(
            "PIC-2", subject, f"{100 * look.white:.0f} % of it is white", "a scene", "the decoded key picture"
        )
    elif look.range >= _CONTRAST and look.edge < _EDGE:
        text = f"its sharpest edge rises by {100 * look.edge:.0f} % of its contrast from point to point"
        yield finding(
            "PIC-3", subject, text, f"{100 * _EDGE:g} % or more at {_WIDTH} points", "the decoded key picture"
        )


def alike(one: npt.NDArray[np.float64], other: npt.NDArray[np.float64]) -> float:
    """How well the edges of two small pictures lie on one another: 1 for the same, about 0 where they have nothing in common
    (correlation of the steps' sizes). Brightness does not matter, nor what moves in a small part of it.
    """
    first, second = (_steps(picture) for picture in (one, other))
    length = float(np.sqrt((first**2).sum() * (second**2).sum()))
    return float((first * second).sum() / length) if length else 0.0


def _steps(picture: npt.NDArray[np.float64]) -> npt.NDArray[np.float64]:
    down, across = np.gradient(picture)
    size = np.hypot(across, down)
    return np.asarray(size - size.mean())


def judge_against_reference(
    subject: str | Ref, reference: npt.NDArray[np.float64], seen: npt.NDArray[np.float64], taken: str
) -> Iterable[Finding]:
    """Both at the same size, `REFERENCE_SIZE`. Night, snow and crowds change a picture too: worth a look, and no more."""
    share = alike(reference, seen)
    if share < _SAME_PLACE:
        text = f"its edges agree to {100 * max(share, 0):.0f} % with those of its reference picture of {taken}"
        yield finding(
            "PIC-5", subject, text, f"{100 * _SAME_PLACE:.0f} % or more", "the reference picture in the logbook"
        )


def judge_change(subject: str | Ref, first: npt.NDArray[np.uint8], later: npt.NDArray[np.uint8]) -> Iterable[Finding]:
    """Two pictures of one stream, some time apart."""
    if first.shape == later.shape and float((first == later).mean()) >= _SAME_SHARE:
        yield finding("PIC-4", subject, "a key picture and a later one are the same to the point", "a picture that lives",
                      "two decoded key pictures")  # fmt: skip
