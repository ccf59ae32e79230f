"""Tables as people keep them: CSV in any usual encoding and separator, and XLSX. Cells come out as text.

A row keeps its number in the file, so that every later message can name it.
"""

from __future__ import annotations

import csv
import io
from collections.abc import Collection, Sequence
from dataclasses import dataclass
from datetime import date, datetime
from pathlib import Path
from zipfile import BadZipFile

from zentrale.errors import InputError
from zentrale.words import meant

MAX_FILE_BYTES = 32 * 1024 * 1024
MAX_ROWS, MAX_COLUMNS = 20_000, 200
_SEPARATORS = ";,\t|"


@dataclass(frozen=True)
class Row:
    """One row; `number` is its line in a CSV file, its row in a sheet."""

    number: int
    cells: tuple[str, ...]

    @property
    def filled(self) -> int:
        return sum(bool(cell) for cell in self.cells)


def file_bytes(path: Path, most: int, expected: str) -> bytes:
    """The whole file. Raises InputError where it cannot be read, or is larger than `most` bytes."""
    try:
        if path.stat().st_size > most:
            raise InputError(f"{path}: larger than {most // 1024 // 1024} MB", f"expected {expected}")
        return path.read_bytes()
    except OSError as error:
        raise InputError(f"{path}: cannot be read: {error.strerror}", f"expected {expected}") from None


def read_tables(path: Path, sheet: str | None = None) -> dict[str, list[Row]]:
    """All rows that hold anything, by sheet; a CSV file is one sheet without a name. Raises InputError for a file that is no
    table.
    """
    data = file_bytes(path, MAX_FILE_BYTES, "a CSV or XLSX file")
    if data[:4] == b"PK\x03\x04":
        sheets = {
            name: [Row(r.number, tuple(_clean(c) for c in r.cells)) for r in rows]
            for name, rows in read_sheets(path, data, sheet).items()
        }
    elif sheet is not None:
        raise InputError(f"{path}: has no sheets, so --sheet {sheet} fits nothing", "leave --sheet out")
    elif data[:8] == b"\xd0\xcf\x11\xe0\xa1\xb1\x1a\xe1":
        raise InputError(f"{path}: an old or encrypted spreadsheet", "save it as XLSX or CSV")
    else:
        sheets = {"": _read_csv(path, decode(data))}
    kept = {name: [row for row in rows if row.filled] for name, rows in sheets.items()}
    if not any(kept.values()):
        raise InputError(f"{path}: holds no filled row", "expected a header row and a row for each camera")
    if any(
        len(rows) > MAX_ROWS or max((len(r.cells) for r in rows), default=0) > MAX_COLUMNS for rows in kept.values()
    ):
        raise InputError(f"{path}: more than {MAX_ROWS} rows or {MAX_COLUMNS} columns", "expected a camera schedule")
    return kept


def decode(data: bytes) -> str:
    """UTF-8 or UTF-16 with a mark, UTF-8 without, else the Windows form of Latin-1."""
    if data.startswith((b"\xff\xfe", b"\xfe\xff")):
        return data.decode("utf-16", "replace")
    try:
        return data.decode("utf-8-sig")
    except UnicodeDecodeError:
        return data.decode("cp1252", "replace")


def _read_csv(path: Path, text: str) -> list[Row]:
    if "\x00" in text:
        raise InputError(f"{path}: not a text file", "expected CSV or XLSX")
    reader = csv.reader(io.StringIO(text, newline=""), delimiter=guess_separator(text.splitlines()[:50]))
    rows = []
    try:
        for cells in reader:
            rows.append(Row(reader.line_num, tuple(_clean(cell) for cell in cells)))
    except csv.Error as error:
        raise InputError(f"{path} line {reader.line_num}: not valid CSV: {error}", "save it again as CSV") from None
    return rows


def guess_separator(lines: Sequence[str]) -> str:
    """The separator that cuts the most lines into the same, largest number of cells."""

    def score(separator: str) -> tuple[int, int]:
        counts = [len(next(csv.reader([line], delimiter=separator), [])) for line in lines if line.strip()]
        best = max((c for c in counts if c > 1), key=lambda c: (counts.count(c), c), default=1)
        return (counts.count(best) if best > 1 else 0), best

    return max(_SEPARATORS, key=score)


def separator_of(text: str, columns: Collection[str]) -> str | None:
    """The separator by which the header holds most of these columns; None where it holds none of them by any."""
    header = next((line for line in text.splitlines() if line.strip() and not line.lstrip().startswith("#")), "")

    def known(separator: str) -> int:
        return sum(cell.strip() in columns for cell in next(csv.reader([header], delimiter=separator), []))

    best = max(",;\t|", key=known)
    return best if known(best) else None


def number_of(column: str, cell: str, separator: str) -> str:
    """A cell, its decimal comma a point where commas part no cells: spreadsheets of many countries save so."""
    decimal = separator != "," and column.endswith(("_m", "_deg")) and cell.count(",") == 1 and "." not in cell
    return cell.replace(",", ".") if decimal else cell


def read_sheet(path: Path, data: bytes) -> list[Row]:
    """The cells of the first sheet as they are. Raises InputError where it is none."""
    return next(iter(read_sheets(path, data).values()))


def read_sheets(path: Path, data: bytes, sheet: str | None = None) -> dict[str, list[Row]]:
    """The cells of each sheet as they are, or of the one that is asked for. Raises InputError where it is none."""
    import openpyxl
    from openpyxl.utils.exceptions import InvalidFileException

    try:
        book = openpyxl.load_workbook(io.BytesIO(data), data_only=True)
    except (BadZipFile, InvalidFileException, KeyError, ValueError, OSError, TypeError) as error:
        raise InputError(f"{path}: not a readable XLSX file ({error})", "save it again as XLSX or CSV") from None
    names = [page.title for page in book.worksheets]
    if not names:
        raise InputError(f"{path}: has no sheet with cells", "expected a camera schedule")
    if sheet is not None and sheet not in names:
        raise InputError(f"{path}: has no sheet {sheet!r}{meant(sheet, names)}", f"expected one of: {', '.join(names)}")
    return {
        page.title: [
            Row(number, tuple(_text(cell) for cell in cells[:MAX_COLUMNS]))
            for number, cells in enumerate(
                page.iter_rows(values_only=True, max_row=min(page.max_row, MAX_ROWS + 100)), start=1
            )
        ]
        for page in book.worksheets
        if sheet in (None, page.title)
    }


def _text(value: object) -> str:
    if value is None:
        return ""
    if isinstance(value, float) and value.is_integer():
        return str(int(value))
    if isinstance(value, datetime | date):
        return value.isoformat()
    return str(value)


def _clean(cell: str) -> str:
    """Without line breaks, hard spaces and repeated blanks."""
    return " ".join(cell.replace("\xa0", " ").split())
