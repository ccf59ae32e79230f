"""Taking in a camera schedule as people keep it: which column is which, and what each cell means.

Guesses are shown, never hidden: the mapping of columns, names made from places, defaults taken from the plan.
"""

from __future__ import annotations

import re
from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass, field
from itertools import pairwise

from zentrale import quantities
from zentrale.errors import InputError, NoHeaderError
from zentrale.site.draft import Draft, wrong_fields
from zentrale.site.headers import COLUMNS, Words, known_columns, plain
from zentrale.site.model import Camera
from zentrale.site.reading import NEXT, REQUIRED_COLUMNS
from zentrale.site.tables import Row
from zentrale.site.values import mac_end, normal_mac
from zentrale.words import meant

OPTIONAL = tuple(name for name, field in Camera.model_fields.items() if not field.is_required() and name != "row")
_HEADER_SEARCH_ROWS = 40
_NUMBER = re.compile(r"[+-]?\d+(?:[.,' ]\d+)*")
_LENGTH_UNITS = {"": 1.0, "m": 1.0, "mtr": 1.0, "metre": 1.0, "metres": 1.0, "meter": 1.0, "meters": 1.0,
                 "km": 1000.0, "cm": 0.01, "ft": 0.3048, "feet": 0.3048, "'": 0.3048}  # fmt: skip
_ANGLE_UNITS = {"": 1.0, "°": 1.0, "deg": 1.0, "degree": 1.0, "degrees": 1.0}


@dataclass(frozen=True)
class Mapped:
    """Which column of the file is which of ours: `columns` by our name, the header as the file has it; a person said which
    those are that were `asked` for.
    """

    header: Row
    columns: Mapping[str, int]
    asked: tuple[str, ...] = ()

    def title(self, column: str) -> str:
        return self.header.cells[self.columns[column]]

    def unused(self) -> list[str]:
        used = set(self.columns.values())
        return [cell for index, cell in enumerate(self.header.cells) if cell and index not in used]


@dataclass
class Schedule:
    """The rows as our columns, with what was guessed and what is wrong; `unmapped` are columns that nothing is taken for,
    `in_part` rows with something wrong, without it.
    """

    rows: list[tuple[int, dict[str, str]]] = field(default_factory=list)
    problems: list[str] = field(default_factory=list)
    guesses: list[str] = field(default_factory=list)
    unmapped: list[str] = field(default_factory=list)
    in_part: list[tuple[int, dict[str, str]]] = field(default_factory=list)


def _short_mac(text: str) -> str:
    """The last digits of a MAC address, where a cell holds no more of it; else nothing."""
    try:
        return mac_end(text)
    except ValueError:
        return ""


def place_name(text: str) -> str:
    """A camera's name made from a place: Upper Gate (north) gives upper-gate-north."""
    return plain(text).replace(" ", "-")[:63].strip("-")


def parse_number(text: str) -> float:
    """A number in any usual spelling: 1.234,5 and 1,234.5 and 9,6. Raises ValueError."""
    body = text.strip().replace("'", "").replace(" ", "")
    if not re.fullmatch(r"[+-]?\d+(?:[.,]\d+)*", body):
        raise ValueError(f"found {text!r}; expected a number")
    decimal = max(body.rfind(","), body.rfind("."))
    if decimal < 0:
        return float(body)
    mark, count = body[decimal], body.count(body[decimal])
    other = "." if mark == "," else ","
    if count > 1:
        if other in body or any(len(group) != 3 for group in body.split(mark)[1:]):
            raise ValueError(f"found {text!r}; expected a number")
        return float(body.replace(mark, ""))  # 1,234,567: a mark that comes twice groups thousands
    if other in body or len(body) - decimal - 1 != 3 or body.lstrip("+-").startswith("0"):
        return float(body[:decimal].replace(other, "").replace(mark, "") + "." + body[decimal + 1 :])
    if mark == ",":
        return float(body.replace(",", ""))  # 1,234: three digits after one comma are thousands
    return float(body)


def parse_quantity(text: str, units: Mapping[str, float]) -> float:
    """A number with or without its unit: 72m, 9,6 W, 0.1 km. Raises ValueError."""
    match = _NUMBER.match(text.strip())
    if not match:
        raise ValueError(f"found {text!r}; expected a number")
    unit = text.strip()[match.end() :].strip().rstrip(".").lower()
    if unit not in units:
        known = ", ".join(u for u in units if u)
        raise ValueError(f"found {text!r}; expected a number in one of: {known}")
    return parse_number(match[0]) * units[unit]


def parse_length_m(text: str) -> float:
    return parse_quantity(text, _LENGTH_UNITS)


def parse_whole(text: str) -> int:
    """The one whole number in a cell such as 'Port 05' or 'CH 3'. Raises ValueError."""
    numbers = re.findall(r"\d+", text)
    if len(numbers) != 1 or re.search(r"\d[.,]\d", text):
        raise ValueError(f"found {text!r}; expected one whole number")
    return int(numbers[0])


def map_columns(
    rows: Sequence[Row],
    given: Mapping[str, str],
    source: str,
    words: Words,
    saved: tuple[str, Mapping[str, str]] = ("", {}),
) -> Mapped:
    """Find the header row and say which column is which. `given` are our columns with the header to take for each; `words`
    what is known to stand above them; `saved` a file with such as are given, of which `given` has precedence.

    Raises NoHeaderError where no header row is found, InputError where a header that is given is not there.
    """
    for column in given:
        if column not in COLUMNS:
            raise InputError(
                f"--map {column}: no such column{meant(column, COLUMNS)}", f"expected one of: {', '.join(COLUMNS)}"
            )
    from_file = {column: title for column, title in saved[1].items() if column not in given}
    for column in from_file:
        if column not in COLUMNS:
            raise InputError(f"{saved[0]}: no such column: {column}", "correct the line or remove the file")
    given = {**from_file, **given}
    wanted = {plain(header) for header in given.values()}
    header, fitting = best_header(rows, words, wanted)
    if header is None or fitting < 2:
        raise NoHeaderError(
            f"{source}: found no header row in the first {_HEADER_SEARCH_ROWS} filled rows",
            f"expected a row with names such as {', '.join(COLUMNS[:6])}; or name them with --map COLUMN=HEADER",
        )
    columns = known_columns(header.cells, words, skip=wanted)
    titles = [plain(cell) for cell in header.cells]
    for column, title in given.items():
        if plain(title) not in titles:
            have = ", ".join(cell for cell in header.cells if cell)
            where, advice = f"--map {column}={title}", ""
            if column in from_file:
                where, advice = f"{saved[0]}: {column} = {title}", "; --map has precedence, or remove the file"
            near = meant(title, [cell for cell in header.cells if cell])
            raise InputError(
                f"{where}: row {header.number} has no such header{near}", f"expected one of: {have}{advice}"
            )
        columns[column] = titles.index(plain(title))
    return Mapped(header, columns)


def best_header(rows: Sequence[Row], words: Words, wanted: Collection[str] = ()) -> tuple[Row | None, int]:
    """The row that most likely is the header, and how many of its titles are known; those that are `wanted` count twice."""

    def fits(row: Row) -> int:
        return len(known_columns(row.cells, words)) + 2 * sum(plain(cell) in wanted for cell in row.cells)

    # A title row above the table fits by chance in one cell at most.
    searched = rows[:_HEADER_SEARCH_ROWS]
    candidates = [row for row in searched if row.filled > 1]
    # A header of two rows, such as Network over Switch and Port, counts where it says more than either of them.
    candidates += [_joined(upper, lower) for upper, lower in pairwise(searched) if lower.number == upper.number + 1]
    header = max(candidates, key=fits, default=None)
    return header, 0 if header is None else fits(header)


def _joined(upper: Row, lower: Row) -> Row:
    """Two header rows as one: what stands above several columns, in merged cells, counts for each of them."""
    above, cells = "", []
    for index in range(max(len(upper.cells), len(lower.cells))):
        top = upper.cells[index] if index < len(upper.cells) else ""
        bottom = lower.cells[index] if index < len(lower.cells) else ""
        above = top or (above if bottom else "")
        cells.append(f"{above} {bottom}".strip() if bottom else top)
    return Row(lower.number, tuple(cells))


def interpret(
    rows: Sequence[Row],
    mapped: Mapped,
    known_words: Mapping[str, Mapping[str, str]],
    defaults: Mapping[str, str],
    source: str,
) -> Schedule:
    """The rows below the header as rows of cameras.csv. What is wrong is told with row and column, all at once; a row with
    anything wrong is not among `rows`. `known_words` are `spellings` of the plan.
    """
    schedule = Schedule()
    known = _Known(known_words, defaults, schedule.guesses)
    below = [row for row in rows if row.number > mapped.header.number]
    wrong: dict[tuple[str, str], list[int]] = {}
    for row in below:
        cells = {c: row.cells[i] for c, i in mapped.columns.items() if i < len(row.cells) and row.cells[i]}
        if len(cells) < 2 or (len(cells) < 3 and "name" not in cells):
            continue  # a heading between groups of rows, or a sum below them
        made: dict[str, str] = {}
        bad: list[tuple[str, str]] = []
        for column in COLUMNS:
            try:
                made[column] = known.value(column, cells)
            except ValueError as error:
                bad.append((column, str(error)))
        filled = {c: text for c, text in made.items() if text and text != NEXT}
        missing = {c for c in REQUIRED_COLUMNS if c not in filled}
        bad += [(column, what) for column, what in wrong_fields(Camera, filled) if column not in missing]
        for column, what in bad:
            wrong.setdefault((column, what), []).append(row.number)
        if not bad:
            schedule.rows.append((row.number, made))
        else:
            schedule.in_part.append((row.number, _in_part(made, {c for c, _ in bad}, known_words, row.number)))
    for (column, what), numbers in wrong.items():
        schedule.problems.append(_problem(mapped, column, what, numbers, source))
        schedule.unmapped += [column] if column not in mapped.columns and column in REQUIRED_COLUMNS else []
    if not schedule.rows and not wrong:
        schedule.problems.append(f"{source}: no camera row below the header in row {mapped.header.number}")
    return schedule


def _in_part(
    made: Mapping[str, str], bad: set[str], words: Mapping[str, Mapping[str, str]], number: int
) -> dict[str, str]:
    """The row with something that is wrong nowhere in place of its wrong cells, so that the rest of it can be checked."""
    row = {column: "" if column in bad else made.get(column, "") for column in COLUMNS}
    row |= {c: next(iter(words[c].values()), "") for c in ("type", "group", "zone", "recorder") if not row[c]}
    row["name"] = row["name"] or f"row-{number}"
    row["port"] = row["port"] if row["switch"] else ""
    if bad & {"recorder", "channel"}:
        row["channel"] = NEXT
    return row


def _problem(mapped: Mapped, column: str, error: str, numbers: Sequence[int], source: str) -> str:
    """What is wrong with a column, once for all the rows that have it."""
    if column not in mapped.columns and column not in ("switch", "port"):
        left = f" (not used yet: {', '.join(mapped.unused())})" if mapped.unused() else ""
        choice = "" if error.endswith("a value") else f" ({error.partition('; expected ')[2]})"
        return (
            f"{source}: no column is taken for {column}{choice}; --map {column}=HEADER says which it is{left}, "
            f"--default {column}=VALUE gives all the same"
        )
    title = f" ({mapped.title(column)})" if column in mapped.columns else ""
    rows = quantities.listed(list(map(str, numbers)), 12)
    return f"{source} row{'s' if len(numbers) > 1 else ''} {rows}, column {column}{title}: {error}"


def spellings(draft: Draft) -> dict[str, dict[str, str]]:
    """For each column that names a thing of the plan: what people write for it, with the plan's own word. A thing with an error
    of its own is known by its name.
    """
    parts = draft.parts
    found = {column: {name: name for name in draft.names[part]} for column, part in _THINGS.items()}
    found["switch"] |= {s.cabinet: s.name for s in parts["switches"]}
    found["zone"] |= {spelled: z.name for z in parts["zones"] for spelled in (str(z.vlan), f"vlan {z.vlan}")}
    found["type"] |= {spelled: t.name for t in parts["camera_types"] for spelled in (t.model, f"{t.maker} {t.model}")}
    return found


_THINGS = {"group": "groups", "switch": "switches", "recorder": "recorders", "zone": "zones", "type": "camera_types"}


class _Known:
    """Cells as the plan's own words: types, groups, zones, switches and recorders by any spelling that fits one."""

    def __init__(self, words: Mapping[str, Mapping[str, str]], defaults: Mapping[str, str], guesses: list[str]) -> None:
        self.defaults = defaults
        self.guesses = guesses
        self.words = words

    def value(self, column: str, cells: Mapping[str, str]) -> str:
        """The cell in our form. Raises ValueError with what was found and expected."""
        text = cells.get(column, "") or self.defaults.get(column, "")
        if column == "mac_end" and not text:
            text = _short_mac(cells.get("mac", ""))  # some write there what the label tells
        if column in ("switch", "port"):
            text = self._split_port(column, cells) or text
        if column in self.words:
            return self._word(column, text)
        if column == "title" and not text and place_name(name := cells.get("name", "")) != name:
            return name  # as the customer writes it
        if not text:
            if column in OPTIONAL:
                return ""
            raise ValueError("the cell is empty or the column missing; expected a value")
        if column == "name":
            return self._name(text)
        if column.endswith("_m"):
            return f"{parse_length_m(text):g}"
        if column.endswith("_deg"):
            return f"{parse_quantity(text, _ANGLE_UNITS):g}"
        if column == "wants":
            return text.lower().replace("ize", "ise")
        if column in ("supply", "priority", "route", "cable_kind", "cable_category"):
            return text.lower()
        if column == "channel" and text.lower() == NEXT:
            return NEXT
        if column in ("port", "channel", "conductor_awg", "http_port", "rtsp_port"):
            return str(parse_whole(text))
        if column == "mac":
            return "" if _short_mac(text) else normal_mac(text)
        return text

    def _split_port(self, column: str, cells: Mapping[str, str]) -> str:
        """A switch and its port in one cell: upper-gates:3, or 'Upper gates / 3'."""
        if "switch" in cells and "port" in cells:
            return ""
        match = re.fullmatch(
            r"(.*?[^\s:/])\s*[:/]\s*(?:port\s*)?(\d+)", cells.get("switch") or cells.get("port", ""), re.I
        )
        return "" if match is None else match[1] if column == "switch" else match[2]

    def _name(self, text: str) -> str:
        name = place_name(text)
        if not name:
            raise ValueError(f"found {text!r}; expected a name with letters or digits")
        if name != text:
            self.guesses.append(f"name {text!r} becomes {name}")
        return name

    def _word(self, column: str, text: str) -> str:
        words = self.words[column]
        have = ", ".join(sorted(set(words.values()))) or "none is defined in the plan"
        if not text:
            only = set(words.values())
            if len(only) == 1:
                (word,) = only
                guess = f"{column}: {word}, since the plan has only this one"
                if guess not in self.guesses:
                    self.guesses.append(guess)
                return word
            if column in OPTIONAL:
                return ""
            raise ValueError(f"the cell is empty or the column missing; expected one of: {have}")
        fits = {name for spelling, name in words.items() if plain(spelling) == plain(text)}
        if len(fits) != 1:
            raise ValueError(f"found {text!r}; expected one of: {have}")
        return fits.pop()
