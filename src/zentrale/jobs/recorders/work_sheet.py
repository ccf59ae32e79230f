"""A recorder without a service that this program speaks: a person enters its channels, by a work sheet."""

from __future__ import annotations

import csv
import io
from collections.abc import Mapping, Sequence
from pathlib import Path

from zentrale.errors import DeviceError
from zentrale.jobs.recorders.driver import ByHand, Driver, PlannedChannel, Sample
from zentrale.jobs.recorders.passes import Passes
from zentrale.output.csv_tables import safe_cell
from zentrale.site.folder import SiteFolder, write_atomically
from zentrale.site.model import Camera


class WorkSheet(Driver):
    has_service = False

    def give(self, camera: Camera, url: str, passes: Passes) -> ByHand:
        return ByHand(camera.recorder, camera.channel, camera.name, url, passes.wanted[0])

    async def sample(self, planned: Mapping[int, PlannedChannel], *, whole: bool = True) -> Sample:
        raise DeviceError("it has no service to ask; look at its own screen")


def work_sheet(lines: Sequence[ByHand]) -> bytes:
    """The work sheet of one recorder as CSV, by channel, with a column to tick."""
    text = io.StringIO()
    writer = csv.writer(text)
    writer.writerow(["channel", "camera", "stream", "user", "password", "done"])
    for line in sorted(lines, key=lambda item: item.channel):
        cells = [str(line.channel), line.camera, line.url, line.user, "in the vault", ""]
        writer.writerow([safe_cell(cell) for cell in cells])
    return text.getvalue().encode("utf-8-sig")


def write_work_sheets(folder: SiteFolder, lines: Sequence[ByHand]) -> list[Path]:
    """One for each recorder; returns the files. Raises StorageError."""
    written = []
    for recorder in dict.fromkeys(line.recorder for line in lines):
        path = folder.output / "work-sheets" / f"{recorder}.csv"
        write_atomically(path, work_sheet([line for line in lines if line.recorder == recorder]))
        written.append(path)
    return written
