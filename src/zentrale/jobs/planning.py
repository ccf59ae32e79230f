"""Running the parts of the plan calculation that are asked for, and writing what comes out."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import Any

from zentrale.errors import InputError
from zentrale.findings import Finding
from zentrale.jobs.parts.part import Asked, Fact, Page, Part, R, Request
from zentrale.jobs.parts.part_registry import PARTS, load
from zentrale.jobs.switches.kept import watts_seen
from zentrale.logbook.store import Logbook
from zentrale.output.csv_tables import csv_tables
from zentrale.planning.keeping import RecorderKeeping
from zentrale.site.camera_file import camera_file_text, read_camera_rows
from zentrale.site.folder import SiteFolder, write_atomically
from zentrale.site.model import Plan

__all__ = [
    "Calculation", "Request", "calculate", "held_addresses", "measured_keeping", "seen_watts",
    "write_figures", "write_proposals",
    "write_tables",
]  # fmt: skip


class Calculation:
    """The parts that were asked for, each calculated once; one that another needs is calculated along, and not shown."""

    def __init__(self, plan: Plan, parts: Sequence[Part[Any]], request: Request) -> None:
        self.plan = plan
        self._request = request
        self._made: dict[str, Any] = {}
        self.parts = tuple(parts)
        for part in parts:
            self.of(part)

    def of(self, part: Part[R]) -> R:
        if part.name not in self._made:
            self._made[part.name] = part.calculate(self.plan, self, self._request)
        result: R = self._made[part.name]
        return result

    def get(self, part: Part[R]) -> R | None:
        """The result of a part, where it was asked for."""
        return self.of(part) if part in self.parts else None

    @property
    def findings(self) -> list[Finding]:
        """Each once, though several parts have it."""
        return list(dict.fromkeys(f for part in self.parts for f in self.of(part).findings))

    def facts(self) -> list[Fact]:
        """What is worth comparing with another state of the plan, part by part."""
        return [fact for part in self.parts for fact in part.facts(self.plan, self.of(part))]

    def document(self) -> dict[str, object]:
        """Plain values with stable keys and units in them."""
        document: dict[str, object] = {}
        for part in self.parts:
            own = part.document(self.of(part))
            assert not own.keys() & document.keys(), f"{part.name} has a key of another part"
            document |= own
        return document

    def show(self, page: Page, asked: Asked) -> None:
        for part in self.parts:
            part.show(page, self.plan, self.of(part), asked)

    def summaries(self) -> list[tuple[str, str]]:
        """A line for each part, by its name."""
        return [(part.name, part.summary(self.plan, self.of(part))) for part in self.parts]


def calculate(plan: Plan, names: Sequence[str], request: Request | None = None) -> Calculation:
    """`names` are those of the registry. What does not apply to this plan is left out, unless it is asked for alone."""
    parts = [load(name) for name in PARTS if name in names]
    wanted = [part for part in parts if len(parts) == 1 or part.applies(plan)]
    return Calculation(plan, wanted, request or Request())


def write_figures(result: Calculation, folder: SiteFolder) -> list[Path]:
    """Draw the parts that were calculated; returns the files."""
    drawn: dict[str, bytes] = {}
    for part in result.parts:
        drawn |= part.figures(result.plan, result.of(part))
    for name, data in drawn.items():
        write_atomically(folder.output / name, data)
    return [folder.output / name for name in drawn]


def write_tables(result: Calculation, folder: SiteFolder) -> list[Path]:
    """Every table of the result as CSV, and what else a part has for it; returns the files."""
    made = {f"plan/{name}.csv": data for name, data in csv_tables(result.document()).items()}
    for part in result.parts:
        made |= {f"{part.folder}/{name}": data for name, data in part.books(result.of(part)).items()}
    for name, data in made.items():
        write_atomically(folder.output / name, data)
    return [folder.output / name for name in made]


def measured_keeping(plan: Plan, folder: SiteFolder) -> list[RecorderKeeping]:
    """What is kept at the rates that `verify` measured. Raises InputError where it measured none, StorageError."""
    from zentrale.jobs.checks.kept_rates import keeping_as_measured  # with all that measures

    nothing = InputError("nothing was measured yet", "run `zentrale verify` first")
    if not folder.logbook_file.exists():
        raise nothing
    with Logbook(folder.logbook_file) as logbook:
        found = keeping_as_measured(plan, logbook)
    if not any(recorder.measured for recorder in found):
        raise nothing
    return found


def held_addresses(folder: SiteFolder) -> dict[str, str]:
    """Where the registered devices are, by name; nothing where there is no logbook yet. Raises StorageError."""
    if not folder.logbook_file.exists():
        return {}
    with Logbook(folder.logbook_file) as logbook:
        return {device.name: device.host for device in logbook.known()}


def seen_watts(folder: SiteFolder) -> dict[str, dict[str, float]]:
    """What the switches were seen to give; nothing where there is no logbook yet. Raises StorageError."""
    if not folder.logbook_file.exists():
        return {}
    with Logbook(folder.logbook_file) as logbook:
        return watts_seen(logbook)


def write_proposals(result: Calculation, folder: SiteFolder) -> list[Path]:
    """Enter what the parts propose into cameras.csv, all else in it staying as it is, and write the files that go with it.
    Returns the files that were written.
    """
    cells = {cell: text for part in result.parts for cell, text in part.proposes(result.of(part)).items()}
    written = []
    if cells:
        rows, comments = read_camera_rows(folder.cameras_file)
        for (name, column), text in cells.items():
            rows[name][column] = text
        write_atomically(folder.cameras_file, camera_file_text(rows, comments).encode("utf-8"))
        written.append(folder.cameras_file)
    for part in result.parts:
        for name, data in part.lists(result.of(part)).items():
            write_atomically(folder.output / name, data)
            written.append(folder.output / name)
    return written
