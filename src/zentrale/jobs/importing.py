"""Taking a camera schedule into cameras.csv: a preview of what would change, then all of it or nothing."""

from __future__ import annotations

import shlex
import tomllib
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path

from zentrale.errors import InputError, PlanError
from zentrale.site.camera_file import camera_file_text, read_camera_rows
from zentrale.site.folder import SiteFolder, write_atomically
from zentrale.site.header_guess import likely_columns, likely_header
from zentrale.site.model import Plan
from zentrale.site.reading import CAMERA_COLUMNS, read_for_schedule, read_plan
from zentrale.site.schedule import COLUMNS, OPTIONAL, Mapped, NoHeaderError, interpret, map_columns
from zentrale.site.tables import Row, read_table

MAPPING_FILE = "import.toml"


@dataclass(frozen=True)
class CellChange:
    column: str
    before: str
    after: str


@dataclass(frozen=True)
class RowChange:
    """What the import does to one camera; `cells` is empty for one that is added or stays."""

    name: str
    row: int
    added: bool
    cells: tuple[CellChange, ...] = ()


@dataclass(frozen=True)
class Request:
    """`mapping` holds our columns with the header to take; `defaults` our columns with the value where a cell is empty."""

    file: Path
    sheet: str | None = None
    mapping: Mapping[str, str] = field(default_factory=dict)
    defaults: Mapping[str, str] = field(default_factory=dict)
    remove_missing: bool = False
    save_mapping: bool = False


@dataclass(frozen=True)
class Import:
    """A prepared import. `write` makes it so; until then nothing is touched."""

    folder: SiteFolder
    mapped: Mapped
    mapping_source: str
    guesses: tuple[str, ...]
    changes: tuple[RowChange, ...]
    missing: tuple[str, ...]
    removed: bool
    text: str
    plan: Plan
    saved_mapping: Mapping[str, str] | None

    @property
    def changes_anything(self) -> bool:
        return any(c.added or c.cells for c in self.changes) or (self.removed and bool(self.missing))

    def write(self) -> list[Path]:
        written = []
        if self.changes_anything:
            write_atomically(self.folder.cameras_file, self.text.encode("utf-8"))
            written.append(self.folder.cameras_file)
        if self.saved_mapping is not None:
            path = self.folder.path / MAPPING_FILE
            write_atomically(path, _mapping_text(self.saved_mapping).encode("utf-8"))
            written.append(path)
        return written


def prepare_import(folder: SiteFolder, request: Request) -> Import:
    """Read the schedule and work out what it changes. Raises InputError for a file or option that cannot be used,
    PlanError with every row that is wrong.
    """
    base = read_for_schedule(folder, ",".join(CAMERA_COLUMNS) + "\n")
    saved = _saved_mapping(folder)
    rows = read_table(request.file, request.sheet)
    source = request.file.name
    for column in request.defaults:
        if column not in COLUMNS:
            raise InputError(f"--default {column}: no such column", f"expected one of: {', '.join(COLUMNS)}")
    try:
        mapped = map_columns(rows, request.mapping, source, (MAPPING_FILE, saved))
    except NoHeaderError as error:
        raise _with_guess(error, rows, base, request.file) from None
    if folder.cameras_file.exists():
        read_for_schedule(folder)  # only a plan that is right is updated: nothing half understood is written back
    existing, comments = read_camera_rows(folder.cameras_file)
    common = _in_common(existing)
    schedule = interpret(rows, mapped, base, {**common, **request.defaults}, source)
    schedule.guesses += [
        f"{column}: {value}, as all cameras of the plan"
        for column, value in common.items()
        if column not in mapped.columns
    ]
    problems = schedule.problems or _named_twice(schedule.rows, source)
    if problems:
        raise PlanError(problems, source, "import")
    changes = [_change(number, made, existing.get(made["name"])) for number, made in schedule.rows]
    imported = {made["name"]: _merged(made, existing.get(made["name"])) for _, made in schedule.rows}
    missing = tuple(name for name in existing if name not in imported)
    kept = {n: r for n, r in existing.items() if n in imported or not request.remove_missing}
    text = camera_file_text({**kept, **imported}, comments)
    plan = _check(folder, text, {made["name"]: number for number, made in schedule.rows}, source)
    mapping = {c: mapped.title(c) for c in mapped.columns} if request.save_mapping else None
    origin = f"saved in {MAPPING_FILE}" if saved else "guessed"
    return Import(
        folder,
        mapped,
        origin,
        tuple(schedule.guesses),
        tuple(changes),
        missing,
        request.remove_missing,
        text,
        plan,
        mapping,
    )


def _with_guess(error: NoHeaderError, rows: Sequence[Row], plan: Plan, file: Path) -> InputError:
    """The error with the row that may be the header, and the command that takes it as its cells suggest."""
    header = likely_header(rows)
    if header is None:
        return error
    found = likely_columns(rows, header, plan)
    words = [shlex.quote(f"{column}={title}") for column, title in found.items()]
    command = " ".join(["zentrale import", shlex.quote(str(file)), *(f"--map {word}" for word in words), "--dry-run"])
    advice = f"if it is, say which column is which; by their cells: `{command}`" if found else error.advice
    titles = ", ".join(cell for cell in header.cells if cell)
    return InputError(
        f"{file.name}: row {header.number} may be the header, but too few of its names are known: {titles}", advice
    )


def _in_common(existing: Mapping[str, Mapping[str, str]]) -> dict[str, str]:
    """What all cameras of the plan share, for a schedule that does not say it."""
    common = {}
    for column in ("zone", "group", "recorder"):
        values = {row[column] for row in existing.values()}
        if len(values) == 1:
            common[column] = values.pop()
    return common


def _named_twice(rows: Sequence[tuple[int, Mapping[str, str]]], source: str) -> list[str]:
    first: dict[str, int] = {}
    problems = []
    for number, made in rows:
        if made["name"] in first:
            problems.append(
                f"{source} row {number}: the name {made['name']!r} stands in row {first[made['name']]} already"
            )
        first.setdefault(made["name"], number)
    return problems


def _merged(made: Mapping[str, str], before: Mapping[str, str] | None) -> dict[str, str]:
    """A schedule that does not name an optional value does not take it away."""
    if before is None:
        return dict(made)
    return {c: before[c] if not made[c] and c in OPTIONAL else made[c] for c in CAMERA_COLUMNS}


def _change(number: int, made: Mapping[str, str], before: Mapping[str, str] | None) -> RowChange:
    if before is None:
        return RowChange(made["name"], number, added=True)
    after = _merged(made, before)
    cells = tuple(CellChange(c, before[c], after[c]) for c in CAMERA_COLUMNS if not _same(before[c], after[c]))
    return RowChange(made["name"], number, added=False, cells=cells)


def _same(a: str, b: str) -> bool:
    """Equal, or the same number in another spelling: 42 and 42.0."""
    if a == b:
        return True
    try:
        return float(a) == float(b)
    except ValueError:
        return False


def _check(folder: SiteFolder, text: str, numbers: Mapping[str, int], source: str) -> Plan:
    """The plan with the new cameras. Its problems are told with the row of the schedule they come from."""
    try:
        return read_plan(folder, text)
    except PlanError as error:
        names = {i: line.split(",", 1)[0] for i, line in enumerate(text.splitlines(), start=1)}
        problems = []
        for problem in error.problems:
            line = int(problem.split(" line ")[1].split(":")[0]) if problem.startswith("cameras.csv line ") else 0
            number = numbers.get(names.get(line, ""))
            where, _, what = problem.partition(": ")
            problems.append(f"{source} row {number} ({names[line]}): {what}" if number else f"{where}: {what}")
        raise PlanError(problems, source, "import") from None


def _saved_mapping(folder: SiteFolder) -> dict[str, str]:
    path = folder.path / MAPPING_FILE
    if not path.exists():
        return {}
    try:
        columns = tomllib.loads(path.read_text(encoding="utf-8"))["columns"]
        return {str(ours): str(theirs) for ours, theirs in columns.items()}
    except (OSError, UnicodeDecodeError, tomllib.TOMLDecodeError, KeyError, AttributeError):
        raise InputError(
            f"{path}: not a saved mapping", "expected a table [columns]; correct it or remove it"
        ) from None


def _mapping_text(mapping: Mapping[str, str]) -> str:
    lines = [f"{ours} = {_toml_string(theirs)}" for ours, theirs in mapping.items()]
    return "\n".join(["# Which column of the schedule is which; `zentrale import` reads it.", "[columns]", *lines, ""])


def _toml_string(text: str) -> str:
    return '"' + text.replace("\\", "\\\\").replace('"', '\\"') + '"'
