"""Plan and packets side by side: who is to reach whom, and who did."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from matplotlib.axes import Axes
from matplotlib.patches import Patch, Rectangle

from zentrale.output.figures import new_figure, png

_YES, _NO, _WRONG, _RED, _GREY = "#2f4b6e", "#eceff2", "#ffd9de", "#b00020", "#59636e"
_PLAIN = {"boxstyle": "round,pad=0.15", "facecolor": "white", "edgecolor": "none"}  # so that words stand on no stripes


@dataclass(frozen=True)
class Cell:
    """`planned`: the plan lets it through; `came` of `tried` pairs got through, `wrong` of them otherwise than planned."""

    origin: str
    to: str
    planned: bool
    came: int
    tried: int
    wrong: int


def rehearsal_figure(site: str, parties: Sequence[str], cells: Sequence[Cell], packets: int) -> bytes:
    """Two matrices, PNG."""
    some = [p for p in parties if any(p in (c.origin, c.to) for c in cells)]
    figure = new_figure(round(len(some) * 1.4), f"{site}: who reaches whom (row begins, column answers)")
    left, right = figure.subplots(1, 2)
    _matrix(left, some, cells, "as planned", packets=False)
    _matrix(right, some, cells, f"as packets went ({packets:,} pairs tried)", packets=True)
    words = ((_YES, "", "reaches"), (_NO, "", "does not reach"), (_WRONG, "////", "OTHERWISE THAN PLANNED"))
    handles = [
        Patch(facecolor=face, hatch=hatch, edgecolor=_RED if hatch else _GREY, label=text)
        for face, hatch, text in words
    ]
    figure.legend(handles=handles, loc="outside lower center", ncols=3, fontsize=11)
    return png(figure)


def _matrix(axes: Axes, parties: Sequence[str], cells: Sequence[Cell], title: str, *, packets: bool) -> None:
    at = {party: i for i, party in enumerate(parties)}
    for cell in cells:
        row, column = at[cell.origin], at[cell.to]
        yes = cell.came > 0 if packets else cell.planned
        wrong = packets and cell.wrong > 0
        axes.add_patch(
            Rectangle(
                (column - 0.48, row - 0.48), 0.96, 0.96, facecolor=_WRONG if wrong else _YES if yes else _NO,
                hatch="////" if wrong else None, edgecolor=_RED if wrong else "#ffffff",
            )
        )  # fmt: skip
        text = "yes" if yes else "no"
        if packets:
            text = f"{cell.wrong} of {cell.tried}\nWRONG" if wrong else f"{cell.came}\nof {cell.tried}"
        axes.text(
            column, row, text, ha="center", va="center", fontsize=7.5 if wrong else 8.5,
            color=_RED if wrong else "white" if yes else _GREY,
            fontweight="bold" if yes or wrong else None, bbox=_PLAIN if wrong else None,
        )  # fmt: skip
    names = [p.replace(" in ", ",\n") for p in parties]
    axes.set_xlim(-0.5, len(parties) - 0.5)
    axes.set_ylim(len(parties) - 0.5, -0.5)
    axes.set_xticks(range(len(parties)), names, fontsize=8.5, rotation=45 if len(parties) > 5 else 0)
    axes.set_yticks(range(len(parties)), names, fontsize=8.5)
    axes.set_title(title, fontsize=12)
    axes.set_xlabel("to")
    axes.set_ylabel("from")
    axes.set_aspect("equal")
