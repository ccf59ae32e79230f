"""cameras.csv as text cells: what is needed to change some of them and write the rest back as it was."""

from __future__ import annotations

import csv
import io
from collections.abc import Mapping, Sequence
from pathlib import Path

from zentrale.site.reading import CAMERA_COLUMNS
from zentrale.site.tables import decode, number_of, separator_of

Rows = dict[str, dict[str, str]]


def read_camera_rows(path: Path) -> tuple[Rows, list[str]]:
    """The rows by camera name, and the comment lines. A file that is not there is empty.

    The file must be one that the plan was read from: what is wrong in it is told there.
    """
    if not path.exists():
        return {}, []
    text = decode(path.read_bytes())
    separator = separator_of(text, CAMERA_COLUMNS) or ","
    lines = text.splitlines()
    comments = [line for line in lines if line.lstrip().startswith("#")]
    table = list(csv.reader((line for line in lines if line.strip() and line not in comments), delimiter=separator))
    header = [cell.strip() for cell in table[0]]
    rows = [
        {column: number_of(column, cell.strip(), separator) for column, cell in zip(header, cells, strict=False)}
        for cells in table[1:]
        if any(cells)
    ]
    return {row["name"]: {c: row.get(c, "") for c in CAMERA_COLUMNS} for row in rows}, comments


def camera_columns(path: Path) -> tuple[str, ...]:
    """The columns that the file has, in its order; all there are where it is not there."""
    text = decode(path.read_bytes()) if path.exists() else ""
    lines = [line for line in text.splitlines() if line.strip() and not line.lstrip().startswith("#")]
    separator = separator_of(text, CAMERA_COLUMNS) or ","
    header = next(csv.reader(lines[:1], delimiter=separator), [])
    return tuple(cell.strip() for cell in header if cell.strip() in CAMERA_COLUMNS) or CAMERA_COLUMNS


def camera_file_text(
    rows: Mapping[str, Mapping[str, str]], comments: Sequence[str], columns: Sequence[str] = CAMERA_COLUMNS
) -> str:
    """The file's text: comments first, then a header with these columns, then the rows in their order. A column that is not
    among them is added where a row has something in it.
    """
    more = [c for c in CAMERA_COLUMNS if c not in columns and any(row[c] for row in rows.values())]
    columns = [*columns, *more]
    text = io.StringIO()
    for comment in comments:
        text.write(comment + "\n")
    writer = csv.writer(text, lineterminator="\n")
    writer.writerow(columns)
    writer.writerows([row[c] for c in columns] for row in rows.values())
    return text.getvalue()
