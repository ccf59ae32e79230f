"""The tables of a JSON document as CSV files for a spreadsheet."""

from __future__ import annotations

import csv
import io
from collections.abc import Mapping, Sequence
from typing import Any

from zentrale.words import clean_lines


def csv_tables(document: Mapping[str, object]) -> dict[str, bytes]:
    """Every list of rows by name. A row's own rows become a table too, with the parent's first column before them."""
    tables: dict[str, list[dict[str, Any]]] = {}
    for name, value in document.items():
        if isinstance(value, list) and value and isinstance(value[0], dict):
            _collect(tables, name, value, {})
    return {name.replace("_", "-"): _csv(rows) for name, rows in tables.items()}


def _collect(
    tables: dict[str, list[dict[str, Any]]], name: str, rows: Sequence[Mapping[str, Any]], parent: Mapping[str, Any]
) -> None:
    for row in rows:
        flat: dict[str, Any] = dict(parent)
        for key, value in row.items():
            if isinstance(value, Mapping):
                flat |= {f"{key}_{inner}": item for inner, item in value.items()}
            elif not (isinstance(value, list) and value and isinstance(value[0], dict)):
                flat[key] = value
        tables.setdefault(name, []).append(flat)
        first = next(iter(row))
        for key, value in row.items():
            if isinstance(value, list) and value and isinstance(value[0], dict):
                _collect(tables, f"{name}_{key}", value, {**parent, first: row[first]})


def _csv(rows: Sequence[Mapping[str, Any]]) -> bytes:
    columns = list(dict.fromkeys(key for row in rows for key in row))
    text = io.StringIO()
    writer = csv.writer(text)
    writer.writerow(columns)
    for row in rows:
        writer.writerow([safe_cell(_cell(row.get(column))) for column in columns])
    return text.getvalue().encode("utf-8-sig")  # with a mark, so that it opens with the right letters


def _cell(value: Any) -> str:
    if value is None:
        return ""
    if isinstance(value, bool):
        return "yes" if value else "no"
    if isinstance(value, list):
        return "; ".join(str(item) for item in value)
    if isinstance(value, dict):
        return "; ".join(f"{key}: {item}" for key, item in value.items())
    return str(value)


def safe_cell(cell: str) -> str:
    """What a device or a plan tells must not become a formula in somebody's spreadsheet; a number stays one."""
    cell = clean_lines(cell)
    if cell.lstrip()[:1] in ("=", "+", "-", "@") and not cell[1:].replace(".", "", 1).isdigit():
        return f"'{cell}"
    return cell
