"""Taking a camera schedule into cameras.csv: a preview of what would change, then all of it or nothing."""

from __future__ import annotations

import re
import shlex
import tomllib
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path

from zentrale import quantities
from zentrale.errors import InputError, NoHeaderError, PlanError
from zentrale.site.camera_file import camera_file_text, read_camera_rows
from zentrale.site.camera_table import camera_table
from zentrale.site.folder import SiteFolder, write_atomically
from zentrale.site.header_guess import likely_columns, likely_header
from zentrale.site.headers import COLUMNS, Words, header_words
from zentrale.site.model import Plan
from zentrale.site.reading import CAMERA_COLUMNS, REQUIRED_COLUMNS, draft_for_schedule, read_for_schedule, read_plan
from zentrale.site.schedule import OPTIONAL, Mapped, interpret, map_columns, spellings
from zentrale.site.tables import Row
from zentrale.site.toml_lines import toml_string
from zentrale.words import meant

MAPPING_FILE = "import.toml"
_ASKED = (*REQUIRED_COLUMNS[:2], "switch", "port", "run_length_m", *REQUIRED_COLUMNS[2:])  # where no title is known

# A column of ours, the titles that it may be, the number of the likeliest, and the plan's words for what can stand there; the
# number of the title, or one word for all rows, or None.
Ask = Callable[[str, Sequence[str], int | None, Sequence[str]], int | str | None]


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
class Saved:
    """What is kept for the next time: the sheet, and by our column its title and the value of an empty cell."""

    sheet: str = ""
    columns: Mapping[str, str] = field(default_factory=dict)
    defaults: Mapping[str, str] = field(default_factory=dict)


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
    saved: Saved | None
    sheet: str
    asked: tuple[str, ...] = ()
    for_all: Mapping[str, str] = field(default_factory=dict)

    @property
    def changes_anything(self) -> bool:
        return any(c.added or c.cells for c in self.changes) or (self.removed and bool(self.missing))

    def write(self) -> list[Path]:
        written = []
        if self.changes_anything:
            write_atomically(self.folder.cameras_file, self.text.encode("utf-8"))
            written.append(self.folder.cameras_file)
        if self.saved is not None:
            path = self.folder.path / MAPPING_FILE
            write_atomically(path, _mapping_text(self.saved).encode("utf-8"))
            written.append(path)
        return written


def prepare_import(folder: SiteFolder, request: Request, ask: Ask | None = None) -> Import:
    """Read the schedule and work out what it changes. Raises InputError for a file or option that cannot be used,
    PlanError with everything that is wrong in it and in the plan.

    ask: who says which title stands for a column that none is known for, where somebody can
    """
    draft, plan_problems = draft_for_schedule(folder)
    saved = _saved(folder)
    for column in (*request.defaults, *saved.defaults):
        if column not in COLUMNS:
            raise InputError(
                f"--default {column}: no such column{meant(column, COLUMNS)}", f"expected one of: {', '.join(COLUMNS)}"
            )
    words, known = header_words(folder.path), spellings(draft)
    titles = (*saved.columns.values(), *request.mapping.values())
    sheet, rows = camera_table(request.file, request.sheet, saved.sheet, titles, words)
    source = f"{request.file.name}, sheet {sheet}," if sheet and request.sheet is None else request.file.name
    before = [p for p in _problems_of(folder) if p not in plan_problems] if folder.cameras_file.exists() else []
    existing, comments = ({}, []) if before else read_camera_rows(folder.cameras_file)
    common = _in_common(existing)
    defaults = {**common, **saved.defaults, **request.defaults}
    mapped, for_all = _mapped(request, rows, words, known, saved, source, defaults, ask)
    defaults |= for_all
    schedule = interpret(rows, mapped, known, defaults, source)
    guesses = [f"{column}: {value}, as all cameras of the plan" for column, value in common.items()
               if column not in mapped.columns and column not in request.defaults]  # fmt: skip
    every = sorted([*schedule.rows, *schedule.in_part], key=lambda pair: pair[0])
    problems = [*plan_problems, *before, *schedule.problems, *_named_twice(every, source)]
    changes = [_change(number, made, existing.get(made["name"])) for number, made in schedule.rows]
    imported = {made["name"]: _merged(made, existing.get(made["name"])) for _, made in schedule.rows}
    missing = tuple(name for name in existing if name not in imported)
    kept = {n: r for n, r in existing.items() if n in imported or not request.remove_missing}
    text = camera_file_text({**kept, **imported}, comments)
    plan, wrong = _checked(folder, kept, every, comments, source)
    problems += [problem for problem in wrong if problem not in problems]
    if problems or plan is None:
        raise PlanError(
            problems, source, "import", _line_to_type(request, rows, mapped, words, known, schedule.unmapped)
        )
    return Import(
        folder,
        mapped,
        f"saved in {MAPPING_FILE}" if saved.columns else "guessed",
        (*schedule.guesses, *guesses, *_left_open(schedule.rows, imported)),
        tuple(changes),
        missing,
        request.remove_missing,
        text,
        plan,
        Saved(sheet, {c: mapped.title(c) for c in mapped.columns}, {**saved.defaults, **request.defaults, **for_all})
        if request.save_mapping
        else None,
        sheet,
        mapped.asked,
        for_all,
    )


def _mapped(
    request: Request,
    rows: Sequence[Row],
    words: Words,
    known: Mapping[str, Mapping[str, str]],
    saved: Saved,
    source: str,
    defaults: Mapping[str, str],
    ask: Ask | None,
) -> tuple[Mapped, dict[str, str]]:
    """Which title is which column: as it is given, saved or known; what is left of the necessary is asked for. Beside it what was
    answered for all rows alike.
    """
    given = dict(request.mapping)
    try:
        mapped = map_columns(rows, given, source, words, (MAPPING_FILE, saved.columns))
    except NoHeaderError as error:
        header = likely_header(rows)
        if ask is None or header is None:
            raise _with_guess(error, rows, words, known, request) from None
        columns = {c: header.cells.index(title) for c, title in likely_columns(rows, header, words, known).items()}
        mapped = Mapped(header, {})
        wanted = [c for c in _ASKED if c not in defaults]
    else:
        columns = {} if ask is None else _likely(rows, mapped, words, known)
        wanted = [
            c
            for c in REQUIRED_COLUMNS
            if c not in mapped.columns and c not in defaults and len(known.get(c, "12")) != 1
        ]
    if ask is None:
        return mapped, {}
    found, for_all = dict(mapped.columns), dict[str, str]()
    for column in wanted:
        titles = [(i, cell) for i, cell in enumerate(mapped.header.cells) if cell and i not in found.values()]
        likely = next((n for n, (i, _) in enumerate(titles) if i == columns.get(column)), None)
        values = sorted(set(known.get(column, {}).values()))
        answer = ask(column, [cell for _, cell in titles], likely, values) if titles or values else None
        if isinstance(answer, str):
            for_all[column] = answer
        elif answer is not None:
            found[column] = titles[answer][0]
    return Mapped(mapped.header, found, tuple(c for c in found if c not in mapped.columns)), for_all


def _likely(
    rows: Sequence[Row], mapped: Mapped, words: Words, known: Mapping[str, Mapping[str, str]]
) -> dict[str, int]:
    """The columns that titles not used so far may be, by what stands below them."""
    found = likely_columns(rows, mapped.header, words, known)
    used = set(mapped.columns.values())
    places = {column: mapped.header.cells.index(title) for column, title in found.items()}
    return {column: i for column, i in places.items() if column not in mapped.columns and i not in used}


def _line_to_type(
    request: Request,
    rows: Sequence[Row],
    mapped: Mapped,
    words: Words,
    known: Mapping[str, Mapping[str, str]],
    unmapped: Sequence[str],
) -> str:
    """The command that says what is not known, as far as cells tell it; empty where all columns are known."""
    if not unmapped:
        return ""
    likely = _likely(rows, mapped, words, known)
    titles = {c: mapped.header.cells[likely[c]] if c in likely else "HEADER" for c in dict.fromkeys(unmapped)}
    return f"the line to type: `{_command(request, titles)}`"


def _command(request: Request, more: Mapping[str, str]) -> str:
    """This import once more as a dry run, with these titles."""
    mapping = {**request.mapping, **more}
    words = [] if request.sheet is None else ["--sheet", shlex.quote(request.sheet)]
    words += [f"--map {shlex.quote(f'{column}={title}')}" for column, title in mapping.items()]
    words += [f"--default {shlex.quote(f'{column}={value}')}" for column, value in request.defaults.items()]
    return " ".join(["zentrale import", shlex.quote(str(request.file)), *words, "--dry-run"])


def _with_guess(
    error: NoHeaderError, rows: Sequence[Row], words: Words, known: Mapping[str, Mapping[str, str]], request: Request
) -> InputError:
    """The error with the row that may be the header, and the command that takes it as its cells suggest."""
    header = likely_header(rows)
    if header is None:
        return error
    found = likely_columns(rows, header, words, known)
    advice = (
        f"if it is, say which column is which; by their cells: `{_command(request, found)}`" if found else error.advice
    )
    titles = ", ".join(cell for cell in header.cells if cell)
    return InputError(
        f"{request.file.name}: row {header.number} may be the header, but too few of its names are known: {titles}",
        advice,
    )


def _problems_of(folder: SiteFolder) -> list[str]:
    """What is wrong in the plan as it is: only a plan that is right is updated, nothing half understood is written back."""
    try:
        read_for_schedule(folder)
    except PlanError as error:
        return error.problems
    return []


def _left_open(
    rows: Sequence[tuple[int, Mapping[str, str]]], imported: Mapping[str, Mapping[str, str]]
) -> Iterator[str]:
    """Columns that nobody knows yet, with the rows that leave them open."""
    for column in ("switch", "port", "run_length_m"):
        numbers = [n for n, made in rows if not imported[made["name"]][column] and not made["wireless"]]
        if numbers:
            some = quantities.listed(list(map(str, numbers)))
            yield f"{column}: left open in row{'s' if len(numbers) > 1 else ''} {some}; `zentrale check` keeps the list"


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


_LINE = re.compile(r"cameras\.csv line (\d+)")


def _checked(
    folder: SiteFolder,
    kept: Mapping[str, Mapping[str, str]],
    every: Sequence[tuple[int, Mapping[str, str]]],
    comments: Sequence[str],
    source: str,
) -> tuple[Plan | None, list[str]]:
    """The plan with the new cameras; or its problems, each with the row of the schedule that it comes from."""
    rows, numbers = dict(kept), {}
    for number, made in every:
        name = made["name"] if made["name"] not in numbers else f"{made['name'][:50]}-row-{number}"
        numbers[name] = number
        rows[name] = _merged(made, kept.get(name)) | {"name": name}
    text = camera_file_text(rows, comments)
    try:
        return read_plan(folder, text), []
    except PlanError as error:
        names = {i: line.split(",", 1)[0] for i, line in enumerate(text.splitlines(), start=1)}

        def row(match: re.Match[str]) -> str:
            name = names.get(int(match[1]), "")
            old_name = name.removesuffix(f"-row-{numbers.get(name)}")
            return (
                f"{source} row {numbers[name]} ({old_name})"
                if name in numbers
                else f"cameras.csv, {name or 'its header'}"
            )

        return None, [_LINE.sub(row, problem) for problem in error.problems]


def _saved(folder: SiteFolder) -> Saved:
    path = folder.path / MAPPING_FILE
    if not path.exists():
        return Saved()
    try:
        saved = tomllib.loads(path.read_text(encoding="utf-8"))
        columns, defaults = (
            {str(k): str(v) for k, v in saved.get(part, {}).items()} for part in ("columns", "defaults")
        )
        return Saved(str(saved.get("sheet", "")), columns, defaults)
    except (OSError, UnicodeDecodeError, tomllib.TOMLDecodeError, AttributeError):
        raise InputError(
            f"{path}: not a saved mapping", "expected a table [columns]; correct it or remove it"
        ) from None


def _mapping_text(saved: Saved) -> str:
    def table(name: str, values: Mapping[str, str]) -> list[str]:
        return ["", f"[{name}]", *(f"{key} = {toml_string(value)}" for key, value in values.items())] if values else []

    lines = [f"sheet = {toml_string(saved.sheet)}"] if saved.sheet else []
    lines += [*table("columns", saved.columns), *table("defaults", saved.defaults)]
    return "\n".join(["# How the schedule is read; `zentrale import` takes it from here.", *lines, ""])
