"""walls.csv: walls as people draw them in a spreadsheet, one block a wall.

    wall,control-left,viewer,control-wall,pixels,3840x2160
    lock-mast,<,upper-gate-north,upper-gate-south
    ^,^,lower-gate-north,upper-*; lower-*; 10 s

The first cell of a block is `wall`, the second its name, and then field and value by turns. Each row below is a row of its grid,
up to an empty line or the next wall. In a cell stand the cameras, groups or patterns that it shows, for a round with `10 s`, and
`priority 1` where it is to be sharp first, with semicolons between. A panel over several cells has its text in the first one
and `<` (as on the left) or `^` (as above) in the others; the same text side by side is one panel, too.
"""

from __future__ import annotations

import csv
import io
import re
from collections.abc import Iterator
from typing import Any

from zentrale.site.walls.parts import MOST_CELLS

FIELDS = ("viewer", "pixels", "bezel_px", "source")
_SECONDS = re.compile(r"(\d+(?:[.,]\d+)?)\s*s(?:ec|econds?)?", re.IGNORECASE)
_PRIORITY = re.compile(r"prio(?:rity)?\s*(\d)", re.IGNORECASE)
_PANEL = re.compile(r"panel\s+(\S.*)", re.IGNORECASE)


def walls_of(name: str, text: str, separator: str, problems: list[str]) -> list[dict[str, Any]]:
    """The walls as tables of site.toml have them, each with its `line`. What is wrong is added to `problems`."""
    blocks: list[tuple[int, list[str], list[list[str]]]] = []
    open_ = False
    reader = csv.reader(io.StringIO(text), strict=True, delimiter=separator)
    try:
        for cells in reader:
            cells = [cell.strip() for cell in cells]
            if not any(cells) or cells[0].startswith("#"):
                open_ = False
            elif cells[0].lower() == "wall":
                blocks.append((reader.line_num, cells, []))
                open_ = True
            elif not open_:
                found = f"found {cells[0][:40]!r}; expected a line that begins with `wall` and its name"
                problems.append(f"{name} line {reader.line_num}: {found}")
            else:
                blocks[-1][2].append(cells)
    except csv.Error as error:
        problems.append(f"{name} line {reader.line_num}: not valid CSV: {error}; expected commas and double quotes")
    return [wall for block in blocks if (wall := _wall(name, *block, problems)) is not None]


def _wall(name: str, line: int, head: list[str], grid: list[list[str]], problems: list[str]) -> dict[str, Any] | None:
    head = head[: max((i + 1 for i, cell in enumerate(head) if cell), default=0)]
    fields = {key.lower(): value for key, value in zip(head[2::2], head[3::2], strict=False)}
    unknown = [key for key in fields if key not in FIELDS]
    if len(head) < 2 or len(head) % 2 or unknown:
        found = f"found {unknown[0]!r}" if unknown else f"found {len(head)} cells"
        problems.append(
            f"{name} line {line}: {found}; expected wall, its name, and then fields with values: {', '.join(FIELDS)}"
        )
        return None
    if not grid:
        problems.append(
            f"{name} line {line}: wall {head[1]!r} has no grid; expected its rows below it, without an empty line"
        )
        return None
    columns = max(i + 1 for row in grid for i, cell in enumerate(row) if cell)
    if max(columns, len(grid)) > MOST_CELLS:
        found = f"found a grid of {len(grid)} rows and {columns} columns; expected {MOST_CELLS} of each at most"
        problems.append(f"{name} line {line}: {found}")
        return None
    rows = [[*row[:columns], *[""] * (columns - len(row))] for row in grid]
    panels = list(_panels(name, line, rows, problems))
    return {"name": head[1], **fields, "rows": len(rows), "columns": columns, "panels": panels, "line": line}


def _panels(name: str, line: int, rows: list[list[str]], problems: list[str]) -> Iterator[dict[str, Any]]:
    """One for each piece of the grid; what is no rectangle is told, and left out."""
    owner: dict[tuple[int, int], tuple[int, int]] = {}
    for r, row in enumerate(rows):
        for c, cell in enumerate(row):
            left, above = owner.get((r, c - 1)), owner.get((r - 1, c))
            if cell in ("<", "^"):
                before = left if cell == "<" else above
                if before is None:
                    problems.append(
                        f"{name} line {line + 1 + r}: found {cell!r} in column {c + 1}, and no panel is "
                        f"{'on its left' if cell == '<' else 'above it'}; expected what it shows"
                    )
                    continue
                owner[r, c] = before
            elif cell:
                alike = [o for o in (left, above) if o is not None and rows[o[0]][o[1]] == cell]
                owner[r, c] = alike[0] if alike else (r, c)
    pieces: dict[tuple[int, int], list[tuple[int, int]]] = {}
    for place, first in owner.items():
        pieces.setdefault(first, []).append(place)
    for (r, c), cells in pieces.items():
        height, width = (max(place[i] for place in cells) - (r, c)[i] + 1 for i in (0, 1))
        if len(cells) != height * width or min(place[1] for place in cells) < c:
            problems.append(
                f"{name} line {line + 1 + r}: the panel in column {c + 1} is no rectangle; expected whole rows of < and ^"
            )
            continue
        yield {"row": r + 1, "column": c + 1, "rows": height, "columns": width, **_cell(rows[r][c], r, c)}


def _cell(text: str, row: int, column: int) -> dict[str, Any]:
    found: dict[str, Any] = {"panel": f"{row + 1}-{column + 1}"}
    cameras = []
    for word in (part.strip() for part in re.split(r"[;\n|]", text)):
        if seconds := _SECONDS.fullmatch(word):
            found["seconds"] = float(seconds[1].replace(",", "."))
        elif priority := _PRIORITY.fullmatch(word):
            found["priority"] = int(priority[1])
        elif panel := _PANEL.fullmatch(word):
            found["panel"] = panel[1]
        elif word:
            cameras.append(word)
    return {**found, "cameras": cameras}
