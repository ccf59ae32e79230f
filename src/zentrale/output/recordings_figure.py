"""What recorders keep, drawn: one row a channel, time across."""

from __future__ import annotations

from collections.abc import Sequence
from zoneinfo import ZoneInfo

import matplotlib.dates as mdates
from matplotlib.patches import Patch

from zentrale.output.figures import new_figure, png
from zentrale.output.hours import HoursOfChannel

_KEPT, _ON_MOTION, _GAP, _WANTED = "#3f5f8a", "#a8cbe0", "#b00020", "#e4e4e4"
_FINEST = 2000  # pieces in a row: more cannot be seen


def recordings_figure(title: str, timezone: str, rows: Sequence[HoursOfChannel], now: float) -> bytes:
    """As PNG. What is too short to be seen, above all a hole, is drawn wider than it is."""
    zone = ZoneInfo(timezone)
    figure = new_figure(len(rows), title)
    axes = figure.add_subplot()
    first = min((s[0] for row in rows for s in row.spans), default=now - 86400)
    visible = (now - first) / 600

    def day(seconds: float) -> float:
        return seconds / 86400  # as this library counts time

    def seen(a: float, b: float) -> tuple[float, float]:
        return day(min(a, now - visible)), day(max(b - a, visible))

    for number, row in enumerate(rows):
        colour, hatch = (_ON_MOTION, "//") if row.on_motion else (_KEPT, "")
        bars = [seen(a, b) for a, b in _thinned(row.spans, visible / 4)]
        due = [(day(a), day(b) - day(a)) for a, b in _thinned(row.wanted, visible / 4)]
        axes.broken_barh(due, (number - 0.45, 0.9), facecolors=_WANTED, edgecolor="none")
        axes.broken_barh(bars, (number - 0.35, 0.7), facecolors=colour, edgecolor="none", hatch=hatch)
        holes = [seen(a, b) for a, b in row.gaps[:_FINEST]]
        axes.broken_barh(holes, (number - 0.42, 0.84), facecolors="white", edgecolor=_GAP, linewidth=1.2, hatch="xxx")
        if not row.spans:
            axes.text(day(now), number, "nothing known  ", ha="right", va="center", color=_GAP)
    axes.set_yticks(range(len(rows)), [row.label for row in rows])
    axes.set_ylim(len(rows) - 0.4, -0.6)
    axes.set_xlim(day(first), day(now))
    locator = mdates.AutoDateLocator(tz=zone)  # type: ignore[no-untyped-call]
    axes.xaxis.set_major_locator(locator)
    axes.xaxis.set_major_formatter(mdates.ConciseDateFormatter(locator, tz=zone))  # type: ignore[no-untyped-call]
    axes.set_xlabel(f"time by the recorders' clocks [{timezone}]")
    axes.grid(axis="x", alpha=0.3)
    figure.legend(
        handles=[
            Patch(facecolor=_WANTED, label="planned to be recorded"),
            Patch(facecolor=_KEPT, label="recorded"),
            Patch(facecolor=_ON_MOTION, hatch="//", label="recorded as things move"),
            Patch(facecolor="white", edgecolor=_GAP, hatch="xxx", label="hole: it was to be recorded"),
        ],
        loc="outside lower center", ncols=4,
    )  # fmt: skip
    return png(figure)


def _thinned(spans: Sequence[tuple[float, float]], apart_s: float) -> list[tuple[float, float]]:
    """Pieces that nobody could tell apart are one; what hides between them, a hole, is drawn over it."""
    found: list[tuple[float, float]] = []
    for start, end in spans:
        if found and start - found[-1][1] < apart_s:
            found[-1] = found[-1][0], end
        else:
            found.append((start, end))
    return found
