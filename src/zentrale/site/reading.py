"""Reading and checking the plan files. All errors at once, each with file, line, field, found and expected."""

from __future__ import annotations

import csv
import io
import tomllib
from collections.abc import Callable, Iterable, Sequence
from pathlib import Path
from typing import Any

from pydantic import ValidationError

from zentrale.errors import PlanError
from zentrale.site.folder import SiteFolder
from zentrale.site.model import Camera, Plan
from zentrale.site.timezone import posix_timezone
from zentrale.site.toml_lines import line_of

SITE_PARTS = ("site", "policy", "zones", "groups", "switches", "links", "recorders")
TYPE_PARTS = ("camera_types", "switch_types", "recorder_types")
CAMERA_COLUMNS = tuple(name for name in Camera.model_fields if name != "row")
REQUIRED_COLUMNS = tuple(n for n, f in Camera.model_fields.items() if f.is_required())
MAX_FILE_BYTES = 16 * 1024 * 1024  # a schedule of 4,000 cameras is under 1 MB

Where = Callable[[Sequence[str | int]], str]


def read_plan(folder: SiteFolder) -> Plan:
    """Read, type and cross-check the plan of `folder`. Raises PlanError with every problem found."""
    problems: list[str] = []
    site_text, site_data = _read_toml(folder.site_file, SITE_PARTS, problems)
    types_text, types_data = _read_toml(folder.types_file, TYPE_PARTS, problems)
    camera_rows = _read_cameras(folder.cameras_file, problems)
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

    try:
        plan = Plan.model_validate(data)
    except ValidationError as error:
        problems += [_describe(e, where) for e in error.errors(include_url=False)]
        raise PlanError(problems) from None
    problems += cross_check(plan, where)
    if problems:
        raise PlanError(problems)
    return plan


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


def _read_cameras(path: Path, problems: list[str]) -> list[dict[str, Any]]:
    text = _read_text(path, problems)
    if text is None:
        return []
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
                problems += _header_problems(path.name, line, header)
                continue
            if len(cells) > len(header):
                problems.append(
                    f"{path.name} line {line}: found {len(cells)} cells; expected {len(header)} as in the header"
                )
                continue
            row: dict[str, Any] = {
                name: cell
                for name, cell in zip(header, cells, strict=False)
                if name in CAMERA_COLUMNS and (cell or name in REQUIRED_COLUMNS)
            }
            rows.append({**row, "row": line})
    except csv.Error as error:
        problems.append(
            f"{path.name} line {reader.line_num}: not valid CSV: {error}; expected commas and double quotes"
        )
    if not header:
        problems.append(f"{path.name} line 1: empty; expected a header row: {','.join(CAMERA_COLUMNS)}")
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


def cross_check(plan: Plan, where: Where) -> list[str]:
    """What no field can tell alone: names that must exist, names and places that must be used once."""
    problems: list[str] = []
    try:
        posix_timezone(plan.site.timezone)
    except ValueError as error:
        problems.append(f"{where(('site', 'timezone'))}: field site.timezone: {error}")
    for part in (
        "zones",
        "groups",
        "switches",
        "recorders",
        "camera_types",
        "switch_types",
        "recorder_types",
        "cameras",
    ):
        problems += _once(part, ((item.name, i) for i, item in enumerate(getattr(plan, part))), "name", where)

    def must_exist(location: tuple[str | int, ...], value: str, kind: str, known: Iterable[str]) -> None:
        names = sorted(known)
        if value not in names:
            have = ", ".join(names) if names else "none is defined"
            problems.append(f"{where(location)}: field {location[-1]}: found {value!r}; expected a {kind}: {have}")

    zones = {z.name for z in plan.zones}
    switches = {s.name: s for s in plan.switches}
    switch_types = {t.name: t for t in plan.switch_types}
    for i, switch in enumerate(plan.switches):
        must_exist(("switches", i, "type"), switch.type, "switch type of types.toml", switch_types)
    ports: list[tuple[str, tuple[str | int, ...]]] = []

    def check_port(location: tuple[str | int, ...], switch_name: str, port: int) -> None:
        switch = switches.get(switch_name)
        kind = switch_types.get(switch.type) if switch else None
        if kind and port > kind.ports:
            problems.append(
                f"{where(location)}: field {location[-1]}: found port {port}; expected 1 to {kind.ports} "
                f"(switch {switch_name} is a {kind.name})"
            )
        ports.append((f"{switch_name}:{port}", location))

    for i, link in enumerate(plan.links):
        for end in ("a", "b"):
            text = getattr(link, end)
            name, _, port = text.rpartition(":")
            if not name or not port.isdigit():
                problems.append(
                    f"{where(('links', i, end))}: field {end}: found {text!r}; expected SWITCH:PORT such as core:25"
                )
                continue
            must_exist(("links", i, end), name, "switch", switches)
            check_port(("links", i, end), name, int(port))
    for i, recorder in enumerate(plan.recorders):
        must_exist(
            ("recorders", i, "type"),
            recorder.type,
            "recorder type of types.toml",
            (t.name for t in plan.recorder_types),
        )
        must_exist(("recorders", i, "zone"), recorder.zone, "zone", zones)
        must_exist(("recorders", i, "switch"), recorder.switch, "switch", switches)
        check_port(("recorders", i, "port"), recorder.switch, recorder.port)
    for i, camera in enumerate(plan.cameras):
        must_exist(
            ("cameras", i, "type"), camera.type, "camera type of types.toml", (t.name for t in plan.camera_types)
        )
        must_exist(("cameras", i, "group"), camera.group, "group", (g.name for g in plan.groups))
        must_exist(("cameras", i, "zone"), camera.zone, "zone", zones)
        must_exist(("cameras", i, "switch"), camera.switch, "switch", switches)
        must_exist(("cameras", i, "recorder"), camera.recorder, "recorder", (r.name for r in plan.recorders))
        check_port(("cameras", i, "port"), camera.switch, camera.port)
    problems += _used_once("port", ports, where)
    devices = [(d, ("recorders", i)) for i, d in enumerate(plan.recorders)]
    devices_and_cameras = [*devices, *((c, ("cameras", i)) for i, c in enumerate(plan.cameras))]
    for field in ("address", "mac"):
        taken = [(value, (*at, field)) for device, at in devices_and_cameras if (value := getattr(device, field))]
        problems += _used_once(field, taken, where)
    channels = [(f"{c.recorder} channel {c.channel}", ("cameras", i, "channel")) for i, c in enumerate(plan.cameras)]
    return problems + _used_once("channel", channels, where)


def _once(part: str, names: Iterable[tuple[str, int]], field: str, where: Where) -> list[str]:
    return _used_once(field, [(name, (part, i, field)) for name, i in names], where)


def _used_once(what: str, uses: Iterable[tuple[str, tuple[str | int, ...]]], where: Where) -> list[str]:
    first: dict[str, tuple[str | int, ...]] = {}
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
