"""Which sheet of a file is the camera schedule."""

from __future__ import annotations

import shlex
from collections.abc import Iterable, Sequence
from pathlib import Path

from zentrale import quantities
from zentrale.errors import InputError
from zentrale.site.header_guess import likely_header
from zentrale.site.headers import Words, known_columns, plain
from zentrale.site.schedule import best_header
from zentrale.site.tables import Row, read_tables

_ENOUGH = 3  # known titles that make a sheet a camera table


def camera_table(
    file: Path, sheet: str | None, kept: str, titles: Iterable[str], words: Words
) -> tuple[str, list[Row]]:
    """The sheet that holds the camera table, and its name: `sheet` where that is asked for, else that which was `kept`, else the
    one that looks like it; `titles` are wanted above its columns. Raises InputError with a line on each sheet where none, or
    more than one, does.
    """
    tables = read_tables(file, sheet)
    if sheet is None and kept in tables:
        return kept, tables[kept]
    filled = {name: rows for name, rows in tables.items() if rows}
    if len(filled) == 1:
        return next(iter(filled.items()))
    wanted = {plain(title) for title in titles}
    fits = {}
    for name, rows in filled.items():
        header, fitting = best_header(rows, words, wanted)
        below = 0 if header is None else sum(row.number > header.number and row.filled > 1 for row in rows)
        columns = set() if header is None else set(known_columns(header.cells, words))
        fits[name] = (fitting if below and ({"name", "type"} <= columns or wanted) else 0, below)
    best = max(fits, key=lambda name: fits[name][0])
    good = [name for name in fits if fits[name][0] >= _ENOUGH]
    if len(good) == 1 or (good and fits[best][0] > max(fits[n][0] for n in good if n != best) + 1):
        return best, filled[best]
    tables_at_all = [name for name, rows in filled.items() if likely_header(rows) is not None]
    if not good and len(tables_at_all) == 1:
        return tables_at_all[0], filled[tables_at_all[0]]
    text = "; ".join(f"{name}: {_said(filled[name], words)}" for name in filled)
    what = "several sheets look like a camera table" if good else "no sheet looks like a camera table"
    raise InputError(f"{file.name}: {what}: {text}", f"say which one it is: --sheet {shlex.quote(best)}")


def _said(rows: Sequence[Row], words: Words) -> str:
    header, fitting = best_header(rows, words)
    if header is None or fitting < 2:
        return quantities.count(len(rows), "row")
    titles = [cell for cell in header.cells if cell]
    return f"{quantities.count(len(rows), 'row')} with {quantities.listed(titles, 4)}"
