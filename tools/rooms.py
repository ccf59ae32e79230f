"""Draws the table of the rooms within jobs/ into docs/architecture.md: `python tools/rooms.py`."""

from __future__ import annotations

import ast
from collections.abc import Iterator
from functools import cache
from pathlib import Path

import zentrale

ROOT = Path(zentrale.__file__).parent
PAGE = Path(__file__).parent.parent / "docs" / "architecture.md"
BEGIN, END = "<!-- rooms of jobs: python tools/rooms.py -->\n", "<!-- end of the rooms of jobs -->\n"


def imports(tree: ast.Module) -> Iterator[str]:
    """Everything that a module imports, by its dotted name, also within functions."""
    for node in ast.walk(tree):
        if isinstance(node, ast.Import):
            yield from (alias.name for alias in node.names)
        elif isinstance(node, ast.ImportFrom) and node.module:
            yield node.module
            yield from (f"{node.module}.{alias.name}" for alias in node.names)


def sub_room(name: str, parent: str) -> str | None:
    """The room within `parent` that a module is in; empty for those that stand in `parent` itself, None for all others."""
    parts = name.split(".")
    if parts[:2] != ["zentrale", parent] or len(parts) < 3:
        return None
    return parts[2] if (ROOT / parent / parts[2]).is_dir() else ""


@cache
def arrows(parent: str) -> dict[str, set[str]]:
    """By each room within `parent` those that it stands on; the modules beside the rooms are the room without a name."""
    found: dict[str, set[str]] = {}
    for path in sorted((ROOT / parent).rglob("*.py")):
        name = ".".join(("zentrale", *path.relative_to(ROOT).with_suffix("").parts)).removesuffix(".__init__")
        here = sub_room(name, parent)
        if here is not None:
            there = {
                room
                for target in imports(ast.parse(path.read_text()))
                if (room := sub_room(target, parent)) is not None
            }
            found.setdefault(here, set()).update(there - {here})
    return found


def table() -> str:
    """From the lowest to the highest."""
    left, order = dict(arrows("jobs")), list[str]()
    while left:
        free = sorted(room for room, below in left.items() if not below & set(left)) or sorted(left)
        order += free
        left = {room: below for room, below in left.items() if room not in free}
    below = arrows("jobs")
    lines = ["| room | stands on | lines |", "|---|---|---|"]
    for room in order:
        files = (ROOT / "jobs" / room).rglob("*.py") if room else (ROOT / "jobs").glob("*.py")
        count = sum(len(path.read_text().splitlines()) for path in files)
        names = ", ".join(f"{name}/" for name in order if name and name in below[room]) or "nothing"
        lines.append(f"| {f'{room}/' if room else 'beside the rooms'} | {names} | {round(count, -2):,} |")
    return "\n".join(lines) + "\n"


def main() -> None:
    text = PAGE.read_text(encoding="utf-8")
    before, after = text[: text.index(BEGIN) + len(BEGIN)], text[text.index(END) :]
    PAGE.write_text(before + table() + after, encoding="utf-8")


if __name__ == "__main__":
    main()
