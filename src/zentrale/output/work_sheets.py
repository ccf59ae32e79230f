"""Work sheets: what a person enters at each device, to print and to tick off, and as a table."""

from __future__ import annotations

import csv
import io
from collections.abc import Sequence
from dataclasses import astuple, dataclass, replace

from zentrale import quantities
from zentrale.output.csv_tables import safe_cell
from zentrale.output.page import environment

_MANY = 3  # devices
_DEVICES = (
    "What is to be set by hand, device by device. Passwords are in the vault. What can be seen is ticked off by the next "
    "`zentrale register`."
)


@dataclass(frozen=True)
class Line:
    """`where` in the device's own page, in words; `seen` when it was seen to be done, empty where it was not."""

    what: str
    where: str
    enter: str
    why: str
    seen: str = ""


@dataclass(frozen=True)
class Sheet:
    """Of one device; `about` says how to find it."""

    device: str
    about: str
    lines: tuple[Line, ...]

    @property
    def open(self) -> int:
        return sum(not line.seen for line in self.lines)


def sheet_csv(sheet: Sheet) -> bytes:
    """UTF-8 with a mark, as spreadsheets want it; the last column is when it was seen to be done."""
    text = io.StringIO()
    writer = csv.writer(text)
    writer.writerow(["what", "where", "enter", "why", "done"])
    for line in sheet.lines:
        writer.writerow([safe_cell(cell) for cell in astuple(line)])
    return text.getvalue().encode("utf-8-sig")


@dataclass(frozen=True)
class Common:
    """A line that is the same on many devices: told once, with their names to tick."""

    line: Line
    devices: tuple[str, ...]


def sheets_page(site: str, sheets: Sequence[Sheet]) -> bytes:
    """A page of its own with all of them; what several devices have in common stands first, once."""
    devices: dict[Line, list[str]] = {}
    for sheet in sheets:
        for line in sheet.lines:
            devices.setdefault(line, []).append(sheet.device)
    common = [Common(line, tuple(names)) for line, names in devices.items() if len(names) >= _MANY]
    common_lines = {c.line for c in common}
    own = [replace(s, lines=tuple(line for line in s.lines if line not in common_lines)) for s in sheets]
    template = environment().get_template("work_sheets.html.j2")
    return template.render(
        site=site,
        about=_DEVICES,
        common=common,
        sheets=[s for s in own if s.lines],
        when=quantities.to_the_minute(quantities.now()),
    ).encode()
