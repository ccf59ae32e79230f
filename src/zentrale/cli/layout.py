"""How text is laid out for the width there is: no name, number or address is ever broken inside."""

from __future__ import annotations

import os
import textwrap
from collections.abc import Collection, Sequence
from typing import TextIO

from rich.cells import cell_len

PIPE_WIDTH = 180  # columns of tables where output is no terminal
_LEAST = 40
_GAP = 3  # blanks between columns
_UNDER = "  "


def width_of(stream: TextIO) -> int | None:
    """COLUMNS where it is set, else the terminal's; None where there is neither: then lines are not wrapped."""
    columns = os.environ.get("COLUMNS", "")
    if columns.isascii() and columns.isdigit() and int(columns) > 0:
        return max(_LEAST, int(columns))
    if stream.isatty():
        return max(_LEAST, os.get_terminal_size(stream.fileno()).columns)
    return None


def wrapped(text: str, width: int | None, indent: str = "", first: str | None = None) -> list[str]:
    """The lines of `text`, broken between words; `first` stands before the first line, `indent` before the others."""
    begin = indent if first is None else first
    if width is None or len(begin) + len(text) <= width:
        return [begin + text]
    lines = textwrap.wrap(
        text, width, initial_indent=begin, subsequent_indent=indent, break_long_words=False, break_on_hyphens=False
    )
    return lines or [begin]


def longest_word(text: str) -> int:
    return max((cell_len(word) for line in text.splitlines() for word in line.split()), default=0)


def column_widths(
    columns: Sequence[str], rows: Sequence[Sequence[str]], width: int, numbers: Collection[int] = ()
) -> list[int] | None:
    """Widths at which every word of every cell is whole; None where that does not fit, so that rows are to be stacked."""
    cells = [[column, *(row[i] if i < len(row) else "" for row in rows)] for i, column in enumerate(columns)]
    wanted = [max(cell_len(line) for cell in column for line in (cell.splitlines() or [""])) for column in cells]
    # A number stays with its unit; other words may go to the next line.
    least = [
        max(longest_word(cell) for cell in column) if i not in numbers else wanted[i] for i, column in enumerate(cells)
    ]
    room = width - _GAP * (len(columns) - 1) - 1
    if sum(wanted) <= room:
        return wanted
    if sum(least) > room:
        return None
    # What is left goes to the columns that want most, a blank at a time being too fine: by the share they lack.
    left = room - sum(least)
    lacking = [w - n for w, n in zip(wanted, least, strict=True)]
    given = [min(lack, left * lack // max(1, sum(lacking))) for lack in lacking]
    return [n + g for n, g in zip(least, given, strict=True)]


def stacked(columns: Sequence[str], row: Sequence[str], width: int) -> list[str]:
    """A row as a few lines: its first cell, then each other cell with its column's name, wrapped between pairs."""
    pairs = [
        " ".join(f"{column} {cell}".split()) if column else " ".join(cell.split())
        for column, cell in zip(columns[1:], row[1:], strict=False)
        if cell and cell != "-"
    ]
    lines, line = [row[0] if row else ""], ""
    for pair in pairs:
        joined = f"{line}, {pair}" if line else _UNDER + pair
        if line and len(joined) > width:
            lines += wrapped(line.strip() + ",", width, _UNDER * 2, _UNDER)
            line = _UNDER + pair
        else:
            line = joined
    if line:
        lines += wrapped(line.strip(), width, _UNDER * 2, _UNDER)
    return lines
