"""The hand-over pack: one self-contained page, the camera list, the contact sheet and the figures."""

from __future__ import annotations

import base64
import csv
import io
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from datetime import datetime

from zentrale import quantities
from zentrale.findings import Finding, Severity, Verdict, worst_first
from zentrale.output.contact_sheet import SheetPicture, contact_sheet
from zentrale.output.coverage_figure import coverage_figure
from zentrale.output.csv_tables import safe_cell
from zentrale.output.figures import MeasuredRate, bandwidth_figure, power_figure, storage_figure
from zentrale.output.hours import HoursOfChannel
from zentrale.output.network_figures import reach_figure, topology_figure
from zentrale.output.page import environment
from zentrale.output.recordings_figure import recordings_figure
from zentrale.planning.detail import DetailPlan
from zentrale.planning.ports import PortTables
from zentrale.planning.power import PowerPlan
from zentrale.planning.reach import ReachPlan
from zentrale.planning.storage import StoragePlan
from zentrale.planning.traffic import TrafficPlan
from zentrale.site.model import Plan


@dataclass(frozen=True)
class DeviceRow:
    """One device as built, all as text for a table."""

    name: str
    title: str
    kind: str
    shows: str
    maker: str
    model: str
    firmware: str
    serial: str
    address: str
    mac: str
    switch: str
    port: str
    run_length_m: str
    recorder: str
    channel: str
    main: str = ""
    sub: str = ""
    recording: str = ""
    verdict: str = ""
    severity: str = ""
    not_judged: str = ""
    seen: str = ""  # when and from where it was discovered
    measured: str = ""  # when and from where its streams were measured


@dataclass(frozen=True)
class SeenAtPort:
    """What a switch told of one of its ports: who is there, its state, the watts drawn, and when; all as text."""

    device: str
    state: str
    watts: str
    when: str


@dataclass(frozen=True)
class JournalRow:
    at: datetime
    subject: str
    step: str
    before: str
    after: str
    state: str


@dataclass(frozen=True)
class Settled:
    """A finding that was open once and is not any more, and what settled it."""

    finding: Finding
    how: str


@dataclass(frozen=True)
class NeverAsked:
    """What acceptance needs and no run looked at, or could judge: it is not known, and not counted as good."""

    what: str
    subjects: tuple[str, ...]


@dataclass(frozen=True)
class PackContent:
    """Everything the pack tells. Times are None where that step was never run."""

    plan: Plan
    made_at: datetime
    discovered_at: datetime | None
    verified_at: datetime | None
    vantage: str
    power: PowerPlan
    traffic: TrafficPlan
    storage: StoragePlan
    reach: ReachPlan
    ports: PortTables
    detail: DetailPlan
    devices: Sequence[DeviceRow]
    rates: Sequence[MeasuredRate]
    pictures: Sequence[SheetPicture]
    open_findings: Sequence[Finding]
    settled: Sequence[Settled]
    journal: Sequence[JournalRow]
    access_refused: int = 0
    access_tried: int = 0
    remarks: Sequence[str] = field(default_factory=tuple)
    never_asked: Sequence[NeverAsked] = field(default_factory=tuple)
    not_judged: Sequence[NeverAsked] = field(default_factory=tuple)  # of streams that were measured
    recorded: tuple[Sequence[HoursOfChannel], float] = ((), 0.0)  # what the recorders keep, and when that was asked
    origins: Mapping[Finding, str] = field(default_factory=dict)  # by which run, when and from where each was found
    ports_seen: Mapping[tuple[str, int], SeenAtPort] = field(default_factory=dict)  # by switch and port
    walls: bytes = b""  # all of them on a sheet; empty where none is planned


def verdicts_of(devices: Sequence[DeviceRow]) -> dict[Verdict, int]:
    """How many cameras have each verdict."""
    verdicts = [Verdict(device.verdict) for device in devices if device.verdict]
    return {verdict: verdicts.count(verdict) for verdict in Verdict}


def render(content: PackContent) -> dict[str, bytes]:
    """The files of the pack by name."""
    sheet = contact_sheet(f"{content.plan.site.name}: pictures of all cameras", content.pictures)
    figures = {
        "power.png": power_figure(content.plan, content.power),
        "bandwidth.png": bandwidth_figure(content.plan, content.traffic, content.rates),
        "storage.png": storage_figure(content.plan, content.storage),
        "topology.png": topology_figure(content.plan, content.traffic),
        "reach.png": reach_figure(content.plan, content.reach),
    }
    if content.detail.ground is not None:
        figures["coverage.png"] = coverage_figure(content.plan, content.detail)
    if content.walls:
        figures["walls.png"] = content.walls
    hours, asked = content.recorded
    if hours:
        title = f"{content.plan.site.name}: what the recorders keep"
        figures["recordings.png"] = recordings_figure(title, content.plan.site.timezone, hours, asked)
    files = {"contact-sheet.png": sheet, **figures}
    page = _page(content, {name: _data_uri(data) for name, data in files.items()})
    return {
        "index.html": page,
        "cameras.csv": devices_csv(content.devices),
        "ports.csv": _ports_csv(content.ports, content.ports_seen),
        **files,
    }


def devices_csv(devices: Sequence[DeviceRow]) -> bytes:
    """The device list for a spreadsheet: UTF-8 with a mark, so that it opens with the right letters."""
    text = io.StringIO()
    names = list(DeviceRow.__dataclass_fields__)
    writer = csv.writer(text)
    writer.writerow(names)
    for device in devices:
        writer.writerow([safe_cell(getattr(device, name)) for name in names])
    return text.getvalue().encode("utf-8-sig")


def _ports_csv(ports: PortTables, seen: Mapping[tuple[str, int], SeenAtPort]) -> bytes:
    """The port map: a row for each port that is used."""
    text = io.StringIO()
    writer = csv.writer(text)
    writer.writerow(["switch", "port", "label", "device", "mode", "zones", "rate_mbps", "poe", "priority",
                     "seen", "seen_state", "seen_w", "seen_at"])  # fmt: skip
    for row in ports.rows:
        there = seen.get((row.switch, row.port))
        if row.kind != "free" or (there is not None and there.device):
            cells = [row.switch, str(row.port), row.label, row.device, row.mode, "; ".join(row.zones), str(row.rate_mbps),
                     "on" if row.poe else "off", row.priority]  # fmt: skip
            cells += [there.device, there.state, there.watts, there.when] if there else ["", "not read", "", ""]
            writer.writerow([safe_cell(cell) for cell in cells])
    return text.getvalue().encode("utf-8-sig")


def _data_uri(png: bytes) -> str:
    return "data:image/png;base64," + base64.b64encode(png).decode()


def _page(content: PackContent, images: dict[str, str]) -> bytes:
    templates = environment()
    templates.filters["moment"] = lambda m: "not yet" if m is None else quantities.moment(m)
    findings = worst_first(content.open_findings)
    faults = sum(f.severity is Severity.FAULT for f in findings)
    warnings = sum(f.severity is Severity.WARNING for f in findings)
    text = templates.get_template("handover.html.j2").render(
        c=content, site=content.plan.site, findings=findings, faults=faults, warnings=warnings, images=images,
        verdicts=verdicts_of(content.devices), count=quantities.count, power=quantities.power, bitrate=quantities.bitrate,
    )  # fmt: skip
    return text.encode("utf-8")
