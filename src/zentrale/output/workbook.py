"""Tables as one spreadsheet file (Office Open XML, ECMA-376), a sheet each."""

from __future__ import annotations

import io
from collections.abc import Mapping, Sequence
from typing import Any

from zentrale.output.csv_tables import safe_cell


def workbook(tables: Mapping[str, Sequence[Mapping[str, Any]]]) -> bytes:
    """Rows of one kind each, with their keys as titles. Numbers stay numbers; text cannot be taken for a formula."""
    from openpyxl import Workbook  # takes its time to load
    from openpyxl.styles import Font

    book = Workbook()
    for name, rows in tables.items():
        sheet = book.create_sheet(name)
        titles = list(dict.fromkeys(key for row in rows for key in row))
        sheet.append(titles)
        for cell in sheet[1]:
            cell.font = Font(bold=True)
        for row in rows:
            sheet.append([_cell(row.get(key)) for key in titles])
        sheet.freeze_panes = "A2"
        for column, title in enumerate(titles, 1):
            longest = max([len(title), *(len(str(row.get(title) or "")) for row in rows)])
            sheet.column_dimensions[sheet.cell(1, column).column_letter].width = min(60, longest + 2)
    book.remove(book.worksheets[0])  # the empty one that it comes with
    data = io.BytesIO()
    book.save(data)
    return data.getvalue()


def _cell(value: Any) -> Any:
    return safe_cell(value) if isinstance(value, str) else value
