"""Two captures side by side as a figure: what was lost between the two places in each second, and how long each packet took."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from matplotlib.ticker import MaxNLocator

from zentrale.output.figures import new_figure, png

Row = tuple[str, Sequence[int], Sequence[float]]  # a stream: its name, lost by second, delays [ms]
MOST = 12


def compare_figure(title: str, rows: Sequence[Row]) -> bytes:
    """The streams that lost most, at most twelve."""
    some = sorted(rows, key=lambda row: -sum(row[1]))[:MOST]
    figure = new_figure(2 * len(some) + 4, title)
    axes = figure.subplots(len(some), 2, squeeze=False, gridspec_kw={"width_ratios": [3, 2]})
    for (name, lost, delays), (left, right) in zip(some, axes, strict=True):
        left.bar(range(len(lost)), lost, width=0.9, color="#b0413e")
        left.set_title(f"{name}: {sum(lost)} lost between", fontsize=9, loc="left")
        left.set_ylabel("packets")
        left.yaxis.set_major_locator(MaxNLocator(integer=True))
        left.set_ylim(0, max(1, *lost))
        right.hist(np.clip(delays, 0, float(np.percentile(delays, 99.5)) or 1), bins=40, color="#4a6fa5")
        right.set_title(f"median {float(np.median(delays)):.2f} ms", fontsize=9, loc="left")
        right.set_ylabel("packets")
    axes[-1][0].set_xlabel("second of the time that both caught")
    axes[-1][1].set_xlabel("delay between the two places [ms]")
    return png(figure)
