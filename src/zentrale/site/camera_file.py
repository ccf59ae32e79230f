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


def camera_file_text(rows: Mapping[str, Mapping[str, str]], comments: Sequence[str]) -> str:
    """The file's text: comments first, then a header with all columns, then the rows in their order."""
    text = io.StringIO()
    for comment in comments:
        text.write(comment + "\n")
    writer = csv.writer(text, lineterminator="\n")
    writer.writerow(CAMERA_COLUMNS)
    writer.writerows([row[c] for c in CAMERA_COLUMNS] for row in rows.values())
    return text.getvalue()
