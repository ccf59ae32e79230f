"""Taking found devices into the plan: what `discover` saw and nobody planned, with a name each and a type from what it tells."""

from __future__ import annotations

import ipaddress
import re
import string
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path

from zentrale import quantities
from zentrale.errors import InputError, PlanError
from zentrale.field.sweep import networks_of
from zentrale.jobs.discovery.discovering import current_devices
from zentrale.jobs.discovery.matching import matched
from zentrale.jobs.known.device_states import State
from zentrale.jobs.known.found_devices import FoundDevice
from zentrale.jobs.known.planned import planned_devices
from zentrale.logbook.store import Logbook
from zentrale.site.camera_file import with_more_rows
from zentrale.site.draft import wrong_fields
from zentrale.site.folder import SiteFolder, write_atomically
from zentrale.site.headers import header_words, plain
from zentrale.site.model import CameraType, Plan, Zone
from zentrale.site.reading import CAMERA_COLUMNS, NEXT, read_plan
from zentrale.site.schedule import map_columns, place_name
from zentrale.site.tables import decode, read_tables
from zentrale.site.toml_lines import toml_string
from zentrale.site.values import normal_mac
from zentrale.words import clean

PATTERN = "camera-{n:02}"
_WIDTH = re.compile(r"(0?[1-9])?d?")  # of a number in a pattern
_OF_TYPE = ("day_w", "night_w", "poe_class")  # what a --default may say of the types that are made
_LONGEST = 80  # of a maker's and a model's name


@dataclass(frozen=True)
class Request:
    """Which devices, empty: all; `pattern` makes their names, a table of `macs` names them itself; `defaults` by our column."""

    maker: str = ""
    model: str = ""
    zone: str = ""
    ranges: tuple[str, ...] = ()
    macs: Path | None = None
    pattern: str = ""
    defaults: Mapping[str, str] = field(default_factory=dict)


@dataclass(frozen=True)
class Added:
    name: str
    address: str
    mac: str
    type: str
    channel: int


@dataclass(frozen=True)
class LeftOut:
    """`address` is empty where there is none."""

    address: str
    why: str


@dataclass(frozen=True)
class FoundImport:
    """A prepared import. `write` makes it so; until then nothing is touched. `open_columns` are those that nobody knows yet."""

    folder: SiteFolder
    added: tuple[Added, ...]
    left_out: tuple[LeftOut, ...]
    types: tuple[CameraType, ...]
    open_columns: tuple[str, ...]
    passed_over: int
    plan: Plan
    files: Mapping[Path, tuple[bytes, bytes]]

    def write(self) -> list[Path]:
        """Types first: a type that no camera has yet does no harm. Raises InputError where a file was changed meanwhile."""
        if not self.added:
            return []
        for path, (before, _) in self.files.items():
            if _bytes(path) != before:
                raise InputError(f"{path.name} was changed meanwhile", "nothing was written; run the command again")
        for path, (before, after) in self.files.items():
            if before != after:
                write_atomically(path, after)
        return [path for path, (before, after) in self.files.items() if before != after]


def prepare_found(folder: SiteFolder, plan: Plan, logbook: Logbook, request: Request) -> FoundImport:
    """Work out what enters the plan. Raises InputError for wrong usage, PlanError where no plan comes of it."""
    _check(plan, request)
    named = _named_macs(folder, request.macs)
    matching = matched(plan, logbook, current_devices(logbook))
    wanted = sorted((d for d in matching.extra if _is_wanted(d, plan, request, named)), key=_place)
    left_out = [LeftOut("", f"{mac} ({name}): {_why_not_there(mac, plan)}") for mac, name in named.items()
                if not any(mac in d.identity.macs for d in matching.extra)]  # fmt: skip
    chosen: list[tuple[FoundDevice, Zone, str]] = []
    for device in wanted:
        found = _seat(device, plan, request)
        if isinstance(found, str):
            left_out.append(LeftOut(device.address, found))
        else:
            chosen.append((device, *found))
    types = _Types(plan, request)
    rows = []
    for (device, zone, address), name in zip(chosen, _names(plan, chosen, request, named), strict=True):
        mac = next(iter(sorted(device.identity.macs)), "")
        row = dict.fromkeys(CAMERA_COLUMNS, "") | {"channel": NEXT} | _common(plan, request)
        row |= {c: v for c, v in request.defaults.items() if c in CAMERA_COLUMNS}
        row |= {"name": name, "type": types.of(device), "zone": zone.name, "address": address, "mac": mac}
        rows.append(row | ({} if mac else {"serial": clean(device.serial)[:_LONGEST]}))
    _number(plan, rows)
    types_before, cameras_before = _bytes(folder.types_file), _bytes(folder.cameras_file)
    types_after = types_before + types.text().encode("utf-8")
    cameras_after = with_more_rows(folder.cameras_file, rows) if rows else cameras_before
    new_plan = plan
    if rows:
        try:
            new_plan = read_plan(folder, decode(cameras_after), types=decode(types_after))
        except PlanError as error:
            raise PlanError(error.problems, "the plan with these devices", "import --found") from None
    return FoundImport(
        folder,
        tuple(Added(row["name"], row["address"], row["mac"], row["type"], int(row["channel"])) for row in rows),
        tuple(left_out),
        tuple(types.made.values()),
        tuple(c for c in ("switch", "port", "run_length_m") if any(not row[c] for row in rows)),
        len(matching.extra) - len(wanted),
        new_plan,
        {folder.types_file: (types_before, types_after), folder.cameras_file: (cameras_before, cameras_after)},
    )


def _place(device: FoundDevice) -> tuple[bool, bytes]:
    """By it devices are in the order of their addresses: 10.0.0.9 before 10.0.0.10."""
    return ":" in device.address, ipaddress.ip_address(device.address.partition("%")[0]).packed


def _bytes(path: Path) -> bytes:
    return path.read_bytes() if path.exists() else b""


def _check(plan: Plan, request: Request) -> None:
    zones = [z.name for z in plan.zones]
    if request.zone and request.zone not in zones:
        raise InputError(f"--zone {request.zone}: no such zone", f"expected one of: {', '.join(zones)}")
    for column in request.defaults:
        if column not in (*CAMERA_COLUMNS, *_OF_TYPE) or column in ("name", "address", "mac", "type"):
            known = [c for c in (*CAMERA_COLUMNS, *_OF_TYPE) if c not in ("name", "address", "mac", "type")]
            raise InputError(f"--default {column}: not for found devices", f"expected one of: {', '.join(known)}")

    said = {k: v for k, v in request.defaults.items() if k in _OF_TYPE}
    for column, what in wrong_fields(CameraType, {"name": "x", "maker": "x", "model": "x", **said}):
        raise InputError(f"--default {column or 'of a type'}: {what}", "correct it; nothing was written")


def _common(plan: Plan, request: Request) -> dict[str, str]:
    """Group and recorder: those that are named, or the only ones. Raises InputError where there is a choice."""
    found = {}
    for column, things in (("group", plan.groups), ("recorder", plan.recorders)):
        names = [thing.name for thing in things]
        if column in request.defaults:
            continue
        if len(names) != 1:
            have = ", ".join(names) or "none is planned: write one into site.toml first"
            raise InputError(
                f"the {column} of these devices is not said", f"say --default {column}=NAME, one of: {have}"
            )
        found[column] = names[0]
    return found


def _named_macs(folder: SiteFolder, file: Path | None) -> dict[str, str]:
    """Names by MAC address, from a table with columns mac and name. Raises InputError, and PlanError with each wrong row."""
    if file is None:
        return {}
    tables = {name: rows for name, rows in read_tables(file).items() if rows}
    rows = next(iter(tables.values()))
    mapped = map_columns(rows, {}, file.name, header_words(folder.path))
    for column in ("mac", "name"):
        if column not in mapped.columns:
            have = ", ".join(cell for cell in mapped.header.cells if cell)
            raise InputError(f"{file.name}: no column {column}", f"expected columns mac and name; found {have}")
    named: dict[str, str] = {}
    problems = []
    for row in (r for r in rows if r.number > mapped.header.number):
        mac, name = (
            row.cells[mapped.columns[c]] if mapped.columns[c] < len(row.cells) else "" for c in ("mac", "name")
        )
        try:
            normal = normal_mac(mac)
        except ValueError as error:
            problems.append(f"{file.name} row {row.number}, column mac: found {mac!r}; {error}")
            continue
        if not place_name(name):
            problems.append(
                f"{file.name} row {row.number}, column name: found {name!r}; expected a name with letters or digits"
            )
        elif normal in named:
            problems.append(
                f"{file.name} row {row.number}, column mac: {normal} is named already; expected each only once"
            )
        named[normal] = place_name(name)
    if problems:
        raise PlanError(problems, file.name, "import --found")
    return named


def _is_wanted(device: FoundDevice, plan: Plan, request: Request, named: Mapping[str, str]) -> bool:
    if request.maker and plain(request.maker) not in plain(device.maker):
        return False
    if request.model and plain(request.model) not in plain(device.model):
        return False
    if request.macs is not None and not device.identity.macs & set(named):
        return False
    address = ipaddress.ip_address(device.address.partition("%")[0])
    if request.ranges and not any(address in network for network in _networks(request.ranges)):
        return False
    there = _zones(plan, device.address)
    return not request.zone or not there or request.zone in [z.name for z in there]


def _networks(ranges: Sequence[str]) -> Iterator[ipaddress.IPv4Network]:
    for text in ranges:
        try:
            yield from networks_of(text)
        except ValueError as error:
            expected = "expected FIRST-LAST, such as 10.20.0.11-10.20.0.40, or a network such as 10.20.0.0/24"
            raise InputError(f"--range {text}: {error}", expected) from None


def _zones(plan: Plan, address: str) -> list[Zone]:
    return [zone for zone in plan.zones if zone.holds(address)]


def _why_not_there(mac: str, plan: Plan) -> str:
    planned = [d.name for d in planned_devices(plan).values() if d.mac == mac]
    return f"is planned as {planned[0]}" if planned else "not among the devices that the last discovery found"


def _seat(device: FoundDevice, plan: Plan, request: Request) -> tuple[Zone, str] | str:
    """Its zone and planned address; or why it does not enter the plan."""
    closed = {State.RTSP_ONLY.value: "speaks RTSP only: plan it by hand (`zentrale help howto-rtsp-only`)"}
    if device.state in closed or not device.speaks_onvif:
        return closed.get(device.state, f"not known to be a camera: {device.state}")
    if device.records:
        return "a recorder: write it into site.toml as [[recorders]]"
    if not clean(device.maker).strip() or not clean(device.model).strip():
        return f"does not tell maker and model ({device.state}); `zentrale vault add`, then `zentrale discover` again"
    macs = device.identity.macs
    zones = _zones(plan, device.address)
    if zones:
        zone = next((z for z in zones if z.name == request.zone), zones[0])
        planned = [d.name for d in planned_devices(plan).values() if d.host == device.address]
        return f"its address is planned for {planned[0]}" if planned else (zone, device.address)
    if not request.zone:
        return "in no zone's subnet; --zone NAME takes it in without an address"
    if not macs and not device.serial:
        return "tells neither MAC address nor serial number, and is in no zone's subnet: nothing to know it by"
    return next(z for z in plan.zones if z.name == request.zone), ""


def _names(
    plan: Plan, chosen: Sequence[tuple[FoundDevice, Zone, str]], request: Request, named: Mapping[str, str]
) -> list[str]:
    """In the order of the devices. Raises InputError for a pattern that is none, and for a name that would be there twice."""
    taken = {*planned_devices(plan), *(v.name for v in plan.viewers), *(a.name for a in plan.access_points)}
    pattern = request.pattern or PATTERN
    fields = _fields(pattern)
    names: list[str] = []
    number = 0
    for device, _, _ in chosen:
        own = next((named[mac] for mac in sorted(device.identity.macs) if mac in named), "")
        name = own
        while not name or (not request.pattern and not own and name in taken):
            number += 1
            name = _filled(fields, number, device)
        if name in taken or name in names:
            where = "is in the plan already" if name in taken else f"would be given twice (--name {pattern!r})"
            raise InputError(
                f"the name {name} {where}", "take another pattern, such as --name 'hall-{n:02}'; nothing was written"
            )
        names.append(name)
    return names


def _fields(pattern: str) -> list[tuple[str, str, str]]:
    """The parts of a pattern: text, field, width. Raises InputError."""
    expected = "expected small letters, digits, hyphens and {n} or {n:02}, such as 'hall-{n:02}'; {model} is its model"
    try:
        parts = [(text, name, spec or "") for text, name, spec, _ in string.Formatter().parse(pattern)]
    except ValueError as error:
        raise InputError(f"--name {pattern!r}: {error}", expected) from None
    for text, name, spec in parts:
        right = name is None or (name == "n" and _WIDTH.fullmatch(spec)) or (name == "model" and not spec)
        if not right or not re.fullmatch(r"[a-z0-9-]*", text):
            raise InputError(f"--name {pattern!r}: not a pattern for names", expected)
    return [(text, name or "", spec) for text, name, spec in parts]


def _filled(fields: Sequence[tuple[str, str, str]], number: int, device: FoundDevice) -> str:
    values = {"n": number, "model": place_name(device.model)}
    return "".join(text + (format(values[name], spec) if name else "") for text, name, spec in fields)


def _number(plan: Plan, rows: Sequence[dict[str, str]]) -> None:
    """The lowest free channel of its recorder for each that has `next`. Raises InputError where all are to have one."""
    taken = {(c.recorder, str(c.channel)) for c in plan.cameras}
    for row in rows:
        if row["channel"].strip().lower() == NEXT:
            row["channel"] = next(str(n) for n in range(1, 10_000) if (row["recorder"], str(n)) not in taken)
        elif not row["channel"].isdigit() or (row["recorder"], row["channel"]) in taken:
            raise InputError(f"channel {row['channel']} cannot be that of these devices", "say --channel next")
        taken.add((row["recorder"], row["channel"]))


class _Types:
    """Camera types of found devices: that of the plan for maker and model, else one that is made."""

    def __init__(self, plan: Plan, request: Request) -> None:
        self._known = {(plain(t.maker), plain(t.model)): t.name for t in plan.camera_types}
        self._names = {t.name for t in plan.camera_types}
        self._request = request
        self.made: dict[tuple[str, str], CameraType] = {}

    def of(self, device: FoundDevice) -> str:
        """The type's name."""
        key = plain(device.maker), plain(device.model)
        if key in self._known:
            return self._known[key]
        before = self.made.get(key)
        if before is None or before.max_resolution is None:
            self.made[key] = self._make(device, before.name if before else self._name(device))
        return self.made[key].name

    def _name(self, device: FoundDevice) -> str:
        model, maker = place_name(device.model) or "camera", place_name(device.maker)
        tries = (model, f"{maker}-{model}"[:60].strip("-"), *(f"{model[:55]}-{n}" for n in range(2, 10_000)))
        name = next(t for t in tries if t not in self._names)
        self._names.add(name)
        return name

    def _make(self, device: FoundDevice, name: str) -> CameraType:
        said = {k: v for k, v in self._request.defaults.items() if k in _OF_TYPE}
        cells: dict[str, object] = {
            "max_resolution": "x".join(map(str, device.max_resolution)) or None,
            "max_fps": device.max_fps or None,
            "max_bitrate_kbps": device.max_bitrate_kbps or None,
            "codecs": device.codecs or ("H264",),
        }
        own = {"name": name, "maker": _short(device.maker), "model": _short(device.model), **said}
        try:
            return CameraType.model_validate({**own, **cells})
        except ValueError:  # what it tells of itself is no size or rate
            return CameraType.model_validate(own)

    def text(self) -> str:
        """As it stands in types.toml."""
        parts = []
        for kind in self.made.values():
            lines = ["", "# Made from what the device tells; its data sheet has the rest: poe_class, day_w, night_w.",
                     "[[camera_types]]"]  # fmt: skip
            lines += [f"{key} = {toml_string(getattr(kind, key))}" for key in ("name", "maker", "model")]
            lines += [f"{key} = {value:g}" for key in ("poe_class", "day_w", "night_w", "max_fps", "max_bitrate_kbps")
                      if (value := getattr(kind, key)) is not None]  # fmt: skip
            if kind.max_resolution is not None:
                lines.append(f'max_resolution = "{quantities.resolution(*kind.max_resolution)}"')
            lines.append(f"codecs = [{', '.join(toml_string(codec) for codec in kind.codecs)}]")
            parts += [*lines, ""]
        return "\n".join(parts)


def _short(text: str) -> str:
    return clean(" ".join(text.split()), _LONGEST)
