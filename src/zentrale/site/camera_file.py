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


def with_more_rows(path: Path, rows: Sequence[Mapping[str, str]]) -> bytes:
    """The file with these rows at its end, all else in it as it was, its encoding, separator and line ends too. A column that it
    does not have is added where one of these has something in it.
    """
    if not path.exists():
        return camera_file_text({row["name"]: row for row in rows}, ()).encode("utf-8")
    data = path.read_bytes()
    text = decode(data)
    end = "\r\n" if "\r\n" in text else "\n"
    separator = separator_of(text, CAMERA_COLUMNS) or ","
    lines = text.splitlines()
    at = next((i for i, line in enumerate(lines) if line.strip() and not line.lstrip().startswith("#")), None)
    if at is None:
        at = len(lines)
        lines.append(separator.join(CAMERA_COLUMNS[: CAMERA_COLUMNS.index("channel") + 1]))
    header = [cell.strip() for cell in next(csv.reader([lines[at]], delimiter=separator))]
    more = [c for c in CAMERA_COLUMNS if c not in header and any(row[c] for row in rows)]
    lines[at] = separator.join([lines[at], *more])
    words = io.StringIO()
    writer = csv.writer(words, delimiter=separator, lineterminator=end)
    writer.writerows([row.get(c, "") for c in [*header, *more]] for row in rows)
    whole = end.join(lines) + end + words.getvalue()
    if data.startswith((b"\xff\xfe", b"\xfe\xff")):
        return whole.encode("utf-16")
    marked = data.startswith(b"\xef\xbb\xbf")
    try:
        data.decode("utf-8")
    except UnicodeDecodeError:
        return whole.encode("cp1252", "replace")
    return whole.encode("utf-8-sig" if marked else "utf-8")


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
