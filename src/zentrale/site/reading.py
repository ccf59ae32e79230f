"""Reading and checking the plan files. All errors at once, each with file, line, field, found and expected."""

from __future__ import annotations

import csv
import io
import re
import tomllib
from collections.abc import Callable, Collection, Mapping, Sequence
from pathlib import Path
from typing import Any

from zentrale.errors import PlanError
from zentrale.site.behind import behind_problems, fill_rows
from zentrale.site.cross_check import cross_check
from zentrale.site.draft import Draft
from zentrale.site.folder import OPTIONAL_FILES, PLAN_FILES, WALLS_FILE, SiteFolder
from zentrale.site.lenses import filled
from zentrale.site.model import Camera, Plan, Run
from zentrale.site.tables import decode, number_of, separator_of
from zentrale.site.toml_lines import line_of
from zentrale.site.walls.checked import as_shown, wall_problems
from zentrale.site.walls.sheet import walls_of
from zentrale.words import meant

SITE_PARTS = (
    "site", "policy", "zones", "groups", "recordings", "switches", "links", "recorders", "batteries", "access_points", "viewers",
    "walls", "ports", "rules", "reach", "cabinets", "placement", "accounts", "masks", "motion_areas", "inputs",
)  # fmt: skip
TYPE_PARTS = ("camera_types", "switch_types", "recorder_types", "viewer_types")
CAMERA_COLUMNS = tuple(name for name in Camera.model_fields if name != "row")
RUN_COLUMNS = tuple(name for name in Run.model_fields if name != "row")
REQUIRED_COLUMNS = tuple(n for n, f in Camera.model_fields.items() if f.is_required())
MAX_FILE_BYTES = 16 * 1024 * 1024  # a schedule of 4,000 cameras is under 1 MB


Bound = Mapping[str, tuple[str, int]]
NEXT = "next"  # in place of a channel's number: the lowest that is free


def read_plan(
    folder: SiteFolder,
    cameras: str | None = None,
    bound: Callable[[], Bound] = dict,
    types: str | None = None,
    kinds: Collection[str] | None = None,
) -> Plan:
    """Read, type and cross-check the plan of `folder`. Raises PlanError with every problem found.

    cameras: text to take instead of the file cameras.csv, to check it before it is written; types: instead of types.toml
    kinds:   of recorders that a type may name; None: any
    bound:   asked where rows have `next` for a channel: recorder and number by camera, as they were bound before
    """
    return _plan(*_draft(folder, cameras, bound, types=types, kinds=kinds))


def read_for_schedule(folder: SiteFolder, cameras: str | None = None) -> Plan:
    """The plan that another schedule is read for: without what is said of single cameras, which that one may bring or take away.
    `cameras` as for `read_plan`. Raises PlanError.
    """
    return _plan(*_draft(folder, cameras, dict, of_single=False))


def draft_for_schedule(folder: SiteFolder) -> tuple[Draft, list[str]]:
    """The parts of the plan without cameras, as far as they are right, and what is wrong with site.toml and types.toml.
    Raises PlanError where nothing of these can be read.
    """
    draft, problems, _ = _draft(folder, ",".join(CAMERA_COLUMNS) + "\n", dict, of_single=False)
    return draft, problems


_OF_SINGLE = ("masks", "motion_areas", "inputs", "ports", "walls")  # parts that name single cameras


def _plan(draft: Draft, problems: Sequence[str], next_channels: tuple[str, ...]) -> Plan:
    if problems:
        raise PlanError(problems)
    return Plan(**as_shown(draft.parts), next_channels=next_channels)


def _draft(
    folder: SiteFolder,
    cameras: str | None,
    bound: Callable[[], Bound],
    *,
    types: str | None = None,
    kinds: Collection[str] | None = None,
    of_single: bool = True,
) -> tuple[Draft, list[str], tuple[str, ...]]:
    """The parts, all problems in the order of files and lines, and the cameras whose channel is `next`."""
    problems: list[str] = []
    site_text, site_data = _read_toml(folder.site_file, SITE_PARTS, problems)
    types_text, types_data = _read_toml(folder.types_file, TYPE_PARTS, problems, types)
    name = folder.cameras_file.name
    text = _read_text(folder.cameras_file, problems, table=True) if cameras is None else cameras
    camera_rows = [] if text is None else _parse_rows(name, text, CAMERA_COLUMNS, REQUIRED_COLUMNS, problems)
    run_rows = _read_runs(folder.runs_file, problems) if of_single else []
    site_data = {part: table for part, table in site_data.items() if of_single or part not in _OF_SINGLE}
    drawn = _read_walls(folder.walls_file, problems) if of_single else []
    drawn_lines: dict[int, int] = {}  # of those that stand in walls.csv
    if drawn and isinstance(site_data.get("walls", []), list):
        written = site_data.get("walls", [])
        drawn_lines = {len(written) + n: wall.pop("line") for n, wall in enumerate(drawn)}
        site_data["walls"] = [*written, *drawn]
    fill_rows(camera_rows, site_data)
    next_channels = _number_next(camera_rows, bound)
    if problems and not (site_data and types_data and camera_rows):
        raise PlanError(problems)
    data: dict[str, Any] = {**site_data, **types_data, "cameras": camera_rows, "runs": run_rows}

    def where(location: Sequence[str | int]) -> str:
        for part, rows in (("cameras", camera_rows), ("runs", run_rows)):
            if location and location[0] == part:
                row = rows[int(location[1])]["row"] if len(location) > 1 else 1
                return f"{part}.csv line {row}"
        if len(location) > 1 and location[0] == "walls":
            number = int(location[1])
            if number in drawn_lines:
                row = site_data["walls"][number]["panels"][int(location[3])]["row"] if len(location) > 3 else 0
                return f"{WALLS_FILE} line {drawn_lines[number] + row}"
        if location and location[0] in TYPE_PARTS:
            return f"types.toml line {line_of(types_text, location)}"
        return f"site.toml line {line_of(site_text, location)}"

    draft = Draft(data, where)
    draft.parts["cameras"] = filled(draft.parts["cameras"])
    problems += draft.problems
    problems += [*cross_check(draft, kinds), *behind_problems(draft, next_channels), *wall_problems(draft)]
    return draft, sorted(problems, key=_place), next_channels


def _number_next(rows: Sequence[dict[str, Any]], bound: Callable[[], Bound]) -> tuple[str, ...]:
    """Put a number in place of each `next`: that which it was bound to, else the lowest that no other row of the recorder has.
    Returns the cameras that have one of these, in the order of the rows.
    """
    waiting = [row for row in rows if str(row.get("channel", "")).strip().lower() == NEXT]
    if not waiting:
        return ()
    kept = bound()
    taken = {(str(row.get("recorder")), str(row.get("channel", "")).strip()) for row in rows}
    for row in sorted(waiting, key=lambda r: str(r.get("name")) not in kept):
        recorder, number = kept.get(str(row.get("name")), ("", 0))
        if recorder != str(row.get("recorder")) or (recorder, str(number)) in taken:
            recorder = str(row.get("recorder"))
            number = next(n for n in range(1, len(rows) + len(taken) + 2) if (recorder, str(n)) not in taken)
        taken.add((recorder, str(number)))
        row["channel"] = str(number)
    return tuple(str(row.get("name")) for row in waiting)


_PLACE = re.compile(r"(\S+)(?: line (\d+))?")


def _place(problem: str) -> tuple[int, int]:
    """File and line of a problem, so that a person goes through each file once, from top to bottom."""
    match = _PLACE.match(problem)
    file, line = (match[1].rstrip(":"), int(match[2] or 0)) if match else ("", 0)
    files = (*PLAN_FILES, *OPTIONAL_FILES)
    return (files.index(file) if file in files else -1), line


def _read_text(path: Path, problems: list[str], *, table: bool = False) -> str | None:
    """None with a problem where it cannot be read. A `table` may have any encoding that spreadsheets save in."""
    try:
        if path.stat().st_size > MAX_FILE_BYTES:
            problems.append(f"{path.name}: larger than {MAX_FILE_BYTES // 1024 // 1024} MB; expected a plan file")
            return None
        return decode(path.read_bytes()) if table else path.read_text(encoding="utf-8-sig")
    except FileNotFoundError:
        problems.append(f"{path.name}: missing; expected in {path.parent}")
    except IsADirectoryError:
        problems.append(f"{path.name}: is a folder; expected a text file")
    except UnicodeDecodeError as error:
        problems.append(f"{path.name}: not UTF-8 at byte {error.start}; save it as UTF-8 text")
    except OSError as error:
        problems.append(f"{path.name}: cannot be read: {error.strerror}")
    return None


def _read_toml(
    path: Path, parts: tuple[str, ...], problems: list[str], given: str | None = None
) -> tuple[str, dict[str, Any]]:
    text = _read_text(path, problems) if given is None else given
    if text is None:
        return "", {}
    try:
        data = tomllib.loads(text)
    except tomllib.TOMLDecodeError as error:
        problems.append(_toml_problem(path.name, str(error)))
        return text, {}
    for name in sorted(set(data) - set(parts)):
        problems.append(
            f"{path.name} line {line_of(text, (name,))}: found [{name}]{meant(name, parts)}; "
            f"expected one of: {', '.join(parts)}"
        )
    return text, {name: value for name, value in data.items() if name in parts}


def _toml_problem(name: str, message: str) -> str:
    """What the parser says, in our words: where, and what is usual there."""
    place = re.search(r"line (\d+), column (\d+)", message)
    where = f"{name} line {place[1]}" if place else name
    column = f" at column {place[2]}" if place else " at its end"
    usual = "key = value on a line of its own, text in double quotes, lists in brackets, each key once"
    return f"{where}: not valid TOML{column}; expected {usual}"


def _read_runs(path: Path, problems: list[str]) -> list[dict[str, Any]]:
    text = _read_text(path, problems, table=True) if path.exists() else None
    return [] if text is None else _parse_rows(path.name, text, RUN_COLUMNS, RUN_COLUMNS, problems)


def _read_walls(path: Path, problems: list[str]) -> list[dict[str, Any]]:
    text = _read_text(path, problems, table=True) if path.exists() else None
    if text is None:
        return []
    head = next((line for line in text.splitlines() if line.lower().startswith(("wall", '"wall'))), "")
    return walls_of(path.name, text, max(",;\t", key=head.count), problems)


def _parse_rows(
    name: str, text: str, columns: tuple[str, ...], required: tuple[str, ...], problems: list[str]
) -> list[dict[str, Any]]:
    separator = separator_of(text, columns)
    if separator is None:
        first = next((line for line in text.splitlines() if line.strip() and not line.startswith("#")), "")
        if first:
            problems.append(
                f"{name} line 1: found {first[:60]!r}; expected a header with {', '.join(required)}. "
                "A schedule in another form is taken in with `zentrale import FILE`"
            )
            return []
    reader = csv.reader(io.StringIO(text), strict=True, delimiter=separator or ",")
    rows: list[dict[str, Any]] = []
    header: list[str] = []
    try:
        for cells in reader:
            cells = [cell.strip() for cell in cells]
            if not any(cells) or cells[0].startswith("#"):
                continue
            line = reader.line_num
            if not header:
                header = cells
                wrong = _header_problems(name, line, header, columns, required)
                problems += wrong
                if wrong:
                    return []  # each row would tell the same again
                continue
            if len(cells) > len(header):
                problems.append(
                    f"{name} line {line}: found {len(cells)} cells; expected {len(header)} as in the header"
                )
                continue
            row: dict[str, Any] = {
                column: number_of(column, cell, separator or ",")
                for column, cell in zip(header, cells, strict=False)
                if column in columns and (cell or column in required)
            }
            rows.append({**row, "row": line})
    except csv.Error as error:
        problems.append(f"{name} line {reader.line_num}: not valid CSV: {error}; expected commas and double quotes")
    if not header:
        problems.append(f"{name} line 1: empty; expected a header row: {','.join(columns)}")
    return rows


def _header_problems(
    name: str, line: int, header: list[str], columns: tuple[str, ...], required: tuple[str, ...]
) -> list[str]:
    problems = [
        f"{name} line {line}: column {column!r} is missing; expected a header with {', '.join(required)}"
        for column in required
        if column not in header
    ]
    problems += [
        f"{name} line {line}: found column {column!r}{meant(column, columns)}; expected one of: {', '.join(columns)}"
        for column in header
        if column not in columns
    ]
    return problems
