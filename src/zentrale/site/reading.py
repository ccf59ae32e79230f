"""Reading and checking the plan files. All errors at once, each with file, line, field, found and expected."""

from __future__ import annotations

import csv
import io
import re
import tomllib
from collections.abc import Callable, Iterable, Sequence
from pathlib import Path
from typing import Any

from pydantic import ValidationError

from zentrale.errors import PlanError
from zentrale.site.folder import PLAN_FILES, SiteFolder
from zentrale.site.model import (
    Battery,
    Camera,
    CameraType,
    Group,
    Link,
    Part,
    Plan,
    Policy,
    Recorder,
    RecorderType,
    Site,
    Switch,
    SwitchType,
    Zone,
)
from zentrale.site.timezone import posix_timezone
from zentrale.site.toml_lines import line_of

SITE_PARTS = ("site", "policy", "zones", "groups", "switches", "links", "recorders", "batteries")
TYPE_PARTS = ("camera_types", "switch_types", "recorder_types")
CAMERA_COLUMNS = tuple(name for name in Camera.model_fields if name != "row")
REQUIRED_COLUMNS = tuple(n for n, f in Camera.model_fields.items() if f.is_required())
MAX_FILE_BYTES = 16 * 1024 * 1024  # a schedule of 4,000 cameras is under 1 MB

Location = tuple[str | int, ...]
Where = Callable[[Sequence[str | int]], str]

_TABLES: dict[str, type[Part]] = {"site": Site, "policy": Policy}
_LISTS: dict[str, type[Part]] = {
    "zones": Zone,
    "groups": Group,
    "camera_types": CameraType,
    "switch_types": SwitchType,
    "recorder_types": RecorderType,
    "switches": Switch,
    "links": Link,
    "recorders": Recorder,
    "batteries": Battery,
    "cameras": Camera,
}
# Which field of which part names an item of which other part.
_REFERENCES = (
    ("switches", "type", "switch_types"),
    ("recorders", "type", "recorder_types"),
    ("recorders", "zone", "zones"),
    ("recorders", "switch", "switches"),
    ("cameras", "type", "camera_types"),
    ("cameras", "group", "groups"),
    ("cameras", "zone", "zones"),
    ("cameras", "switch", "switches"),
    ("cameras", "recorder", "recorders"),
)


def read_plan(folder: SiteFolder, cameras: str | None = None) -> Plan:
    """Read, type and cross-check the plan of `folder`. Raises PlanError with every problem found.

    cameras: text to take instead of the file cameras.csv, to check it before it is written
    """
    problems: list[str] = []
    site_text, site_data = _read_toml(folder.site_file, SITE_PARTS, problems)
    types_text, types_data = _read_toml(folder.types_file, TYPE_PARTS, problems)
    name = folder.cameras_file.name
    text = _read_text(folder.cameras_file, problems) if cameras is None else cameras
    camera_rows = [] if text is None else _parse_cameras(name, text, problems)
    if problems and not (site_data and types_data and camera_rows):
        raise PlanError(problems)
    data: dict[str, Any] = {**site_data, **types_data, "cameras": camera_rows}

    def where(location: Sequence[str | int]) -> str:
        if location and location[0] == "cameras":
            row = camera_rows[int(location[1])]["row"] if len(location) > 1 else 1
            return f"cameras.csv line {row}"
        if location and location[0] in TYPE_PARTS:
            return f"types.toml line {line_of(types_text, location)}"
        return f"site.toml line {line_of(site_text, location)}"

    draft = _Draft(data, where)
    problems += draft.problems
    problems += cross_check(draft)
    if problems:
        raise PlanError(sorted(problems, key=_place))
    return Plan(**draft.parts)


_PLACE = re.compile(r"(\S+)(?: line (\d+))?")


def _place(problem: str) -> tuple[int, int]:
    """File and line of a problem, so that a person goes through each file once, from top to bottom."""
    match = _PLACE.match(problem)
    file, line = (match[1].rstrip(":"), int(match[2] or 0)) if match else ("", 0)
    return (PLAN_FILES.index(file) if file in PLAN_FILES else -1), line


class _Draft:
    """The plan's parts one by one: those that are right as objects, the others as problems.

    So one wrong field does not hide what else is wrong. `parts` holds the objects, `origin` the place of each in its
    file, `names` every name that is given, right or wrong.
    """

    def __init__(self, data: dict[str, Any], where: Where) -> None:
        self.where = where
        self.problems: list[str] = []
        self.parts: dict[str, Any] = {}
        self.origin: dict[str, list[int]] = {}
        self.names: dict[str, set[str]] = {}
        for part, kind in _TABLES.items():
            table = self._object(kind, data.get(part, {} if part == "policy" else None), (part,))
            if table is not None:
                self.parts[part] = table
        for part, kind in _LISTS.items():
            self._list(part, kind, data.get(part, []))

    def _list(self, part: str, kind: type[Part], items: Any) -> None:
        if not isinstance(items, list):
            self.problems.append(f"{self.where((part,))}: found [{part}]; expected [[{part}]], once for each")
            items = []
        pairs = [(i, o) for i, raw in enumerate(items) if (o := self._object(kind, raw, (part, i))) is not None]
        self.parts[part] = tuple(o for _, o in pairs)
        self.origin[part] = [i for i, _ in pairs]
        self.names[part] = {raw["name"] for raw in items if isinstance(raw, dict) and isinstance(raw.get("name"), str)}

    def _object(self, kind: type[Part], raw: Any, location: tuple[str | int, ...]) -> Part | None:
        if raw is None:
            self.problems.append(f"{self.where(())}: [{location[0]}] is missing; expected the table [{location[0]}]")
            return None
        try:
            return kind.model_validate(raw)
        except ValidationError as error:
            details = error.errors(include_url=False)
            self.problems += [_describe({**e, "loc": (*location, *e["loc"])}, self.where) for e in details]
            return None

    def items(self, part: str) -> list[tuple[tuple[str | int, ...], Any]]:
        """The right objects of a part, each with its location."""
        return [((part, i), o) for i, o in zip(self.origin[part], self.parts[part], strict=True)]


def _read_text(path: Path, problems: list[str]) -> str | None:
    try:
        if path.stat().st_size > MAX_FILE_BYTES:
            problems.append(f"{path.name}: larger than {MAX_FILE_BYTES // 1024 // 1024} MB; expected a plan file")
            return None
        return path.read_text(encoding="utf-8-sig")
    except FileNotFoundError:
        problems.append(f"{path.name}: missing; expected in {path.parent}")
    except IsADirectoryError:
        problems.append(f"{path.name}: is a folder; expected a text file")
    except UnicodeDecodeError as error:
        problems.append(f"{path.name}: not UTF-8 at byte {error.start}; save it as UTF-8 text")
    except OSError as error:
        problems.append(f"{path.name}: cannot be read: {error.strerror}")
    return None


def _read_toml(path: Path, parts: tuple[str, ...], problems: list[str]) -> tuple[str, dict[str, Any]]:
    text = _read_text(path, problems)
    if text is None:
        return "", {}
    try:
        data = tomllib.loads(text)
    except tomllib.TOMLDecodeError as error:
        problems.append(f"{path.name}: not valid TOML: {error}")
        return text, {}
    for name in sorted(set(data) - set(parts)):
        problems.append(
            f"{path.name} line {line_of(text, (name,))}: found [{name}]; expected one of: {', '.join(parts)}"
        )
    return text, {name: value for name, value in data.items() if name in parts}


def _parse_cameras(name: str, text: str, problems: list[str]) -> list[dict[str, Any]]:
    reader = csv.reader(io.StringIO(text), strict=True)
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
                problems += _header_problems(name, line, header)
                continue
            if len(cells) > len(header):
                problems.append(
                    f"{name} line {line}: found {len(cells)} cells; expected {len(header)} as in the header"
                )
                continue
            row: dict[str, Any] = {
                column: cell
                for column, cell in zip(header, cells, strict=False)
                if column in CAMERA_COLUMNS and (cell or column in REQUIRED_COLUMNS)
            }
            rows.append({**row, "row": line})
    except csv.Error as error:
        problems.append(f"{name} line {reader.line_num}: not valid CSV: {error}; expected commas and double quotes")
    if not header:
        problems.append(f"{name} line 1: empty; expected a header row: {','.join(CAMERA_COLUMNS)}")
    return rows


def _header_problems(name: str, line: int, header: list[str]) -> list[str]:
    problems = [
        f"{name} line {line}: column {column!r} is missing; expected a header with {', '.join(REQUIRED_COLUMNS)}"
        for column in REQUIRED_COLUMNS
        if column not in header
    ]
    problems += [
        f"{name} line {line}: found column {column!r}; expected one of: {', '.join(CAMERA_COLUMNS)}"
        for column in header
        if column not in CAMERA_COLUMNS
    ]
    return problems


def _describe(error: Any, where: Where) -> str:
    """A pydantic error as a sentence: where, which field, what was found, what was expected."""
    location = tuple(error["loc"])
    field = ".".join(str(part) for part in location if not isinstance(part, int))
    message = str(error["msg"]).removeprefix("Value error, ")
    kind = error["type"]
    if kind == "missing":
        return f"{where(location)}: field {location[-1]!r} is missing; expected a value"
    if kind == "extra_forbidden":
        return f"{where(location)}: found the unknown field {location[-1]!r}; correct its spelling or remove it"
    expected = message if message.startswith("expected") else f"expected: {message[0].lower()}{message[1:]}"
    found = error["input"]
    shown = repr(found) if isinstance(found, str | int | float) else type(found).__name__
    return f"{where(location)}: field {field}: found {shown}; {expected}"


def cross_check(draft: _Draft) -> list[str]:
    """What no field can tell alone: names that must exist, names and places that must be used once."""
    where = draft.where
    problems: list[str] = []
    if "site" in draft.parts:
        try:
            posix_timezone(draft.parts["site"].timezone)
        except ValueError as error:
            problems.append(f"{where(('site', 'timezone'))}: field site.timezone: {error}")
    for part in _LISTS:
        if part != "links":
            problems += _used_once("name", [(item.name, (*at, "name")) for at, item in draft.items(part)], where)
    for part, field, target in _REFERENCES:
        problems += [
            problem
            for at, item in draft.items(part)
            if (problem := _must_exist((*at, field), getattr(item, field), draft.names[target], target, where))
        ]
    devices = [(at, d) for part in ("recorders", "cameras") for at, d in draft.items(part)]
    ports = [((*at, "port"), d.switch, d.port) for at, d in devices]
    for at, link in draft.items("links"):
        for end in ("a", "b"):
            name, _, port = getattr(link, end).rpartition(":")
            if not name or not (port.isascii() and port.isdigit()) or len(port) > 4:
                found = getattr(link, end)
                problems.append(
                    f"{where((*at, end))}: field {end}: found {found!r}; expected SWITCH:PORT such as core:25"
                )
                continue
            problem = _must_exist((*at, end), name, draft.names["switches"], "switches", where)
            problems += [problem] if problem else []
            ports.append(((*at, end), name, int(port)))
    problems += _check_ports(draft, ports)
    if "policy" in draft.parts:
        groups = draft.parts["policy"].resilient_groups
        asked = [_must_exist(("policy", "resilient_groups"), g, draft.names["groups"], "groups", where) for g in groups]
        problems += [problem for problem in asked if problem]
    fed = draft.names["switches"] | draft.names["recorders"]
    for at, battery in draft.items("batteries"):
        feeds = [_must_exist((*at, "feeds"), name, fed, "switches or recorders", where) for name in battery.feeds]
        problems += [problem for problem in feeds if problem]
    for field in ("address", "mac"):
        taken = [(value, (*at, field)) for at, device in devices if (value := getattr(device, field))]
        problems += _used_once(field, taken, where)
    cameras = draft.items("cameras")
    channels = [(f"{c.recorder} channel {c.channel}", (*at, "channel")) for at, c in cameras]
    return problems + _used_once("channel", channels, where)


def _must_exist(location: Location, value: str, names: set[str], part: str, where: Where) -> str | None:
    if value in names:
        return None
    kind = part.replace("_", " ").removesuffix("es" if part == "switches" else "s")
    have = ", ".join(sorted(names)) if names else "none is defined"
    return f"{where(location)}: field {location[-1]}: found {value!r}; expected a {kind}: {have}"


def _check_ports(draft: _Draft, ports: list[tuple[Location, str, int]]) -> list[str]:
    """Every port must exist on its switch and be used once."""
    types = {t.name: t for t in draft.parts["switch_types"]}
    switches = {s.name: types.get(s.type) for s in draft.parts["switches"]}
    problems = []
    for location, name, port in ports:
        kind = switches.get(name)
        if kind is not None and not 1 <= port <= kind.ports:
            problems.append(
                f"{draft.where(location)}: field {location[-1]}: found port {port}; expected 1 to {kind.ports} "
                f"(switch {name} is a {kind.name})"
            )
    return problems + _used_once("port", [(f"{name}:{port}", at) for at, name, port in ports], draft.where)


def _used_once(what: str, uses: Iterable[tuple[str, Location]], where: Where) -> list[str]:
    first: dict[str, Location] = {}
    problems = []
    for value, location in uses:
        if value in first:
            problems.append(
                f"{where(location)}: field {location[-1]}: {what} {value!r} is already used at {where(first[value])}; "
                "expected each only once"
            )
        else:
            first[value] = location
    return problems
