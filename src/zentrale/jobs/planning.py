"""Running the parts of the plan calculation that are asked for, and writing what comes out."""

from __future__ import annotations

import os
import sys
import time
from collections.abc import Sequence
from dataclasses import dataclass, field
from pathlib import Path

from zentrale.findings import Finding
from zentrale.jobs import plan_documents as documents
from zentrale.output.csv_tables import csv_tables
from zentrale.planning.addresses import AddressPlan, plan_addresses
from zentrale.planning.detail import DetailPlan, plan_detail
from zentrale.planning.multicast import MulticastPlan, plan_multicast
from zentrale.planning.placement import PlacementPlan, plan_placement
from zentrale.planning.ports import PortTables, plan_ports
from zentrale.planning.power import PowerPlan, plan_power
from zentrale.planning.reach import ReachPlan, plan_reach
from zentrale.planning.resilience import ResiliencePlan, plan_resilience
from zentrale.planning.storage import StoragePlan, plan_storage
from zentrale.planning.traffic import TrafficPlan, plan_traffic
from zentrale.site.camera_file import camera_file_text, read_camera_rows
from zentrale.site.folder import SiteFolder, write_atomically
from zentrale.site.model import Plan
from zentrale.site.outline import Outline


@dataclass(frozen=True)
class Request:
    """How to calculate. `pairs`: for resilience, also let every two parts fail at once; `placement_s`: how long to search
    for a placement.
    """

    outline: Outline = field(default_factory=Outline)
    pairs: bool = False
    placement_s: float = 60.0


@dataclass(frozen=True)
class Calculation:
    """The parts that were asked for; the others are None."""

    power: PowerPlan | None = None
    traffic: TrafficPlan | None = None
    storage: StoragePlan | None = None
    reach: ReachPlan | None = None
    addresses: AddressPlan | None = None
    ports: PortTables | None = None
    multicast: MulticastPlan | None = None
    resilience: ResiliencePlan | None = None
    detail: DetailPlan | None = None
    placement: PlacementPlan | None = None

    @property
    def findings(self) -> list[Finding]:
        parts = (
            self.power, self.traffic, self.storage, self.reach, self.addresses, self.ports, self.multicast, self.resilience,
            self.detail, self.placement,
        )  # fmt: skip
        return [f for part in parts if part is not None for f in part.findings]

    def document(self) -> dict[str, object]:
        """Plain values with stable keys and units in them."""
        document: dict[str, object] = {}
        if self.power is not None:
            document |= documents.power_document(self.power)
        if self.traffic is not None:
            document |= documents.traffic_document(self.traffic)
        if self.storage is not None:
            document["storage"] = [documents.storage_document(recorder) for recorder in self.storage.recorders]
        if self.reach is not None:
            document |= documents.reach_document(self.reach)
        if self.addresses is not None:
            document |= documents.address_document(self.addresses)
        if self.ports is not None:
            document["ports"] = documents.plain(self.ports.rows)
        if self.multicast is not None:
            document |= documents.multicast_document(self.multicast)
        if self.resilience is not None:
            document |= documents.resilience_document(self.resilience)
        if self.detail is not None:
            document |= documents.detail_document(self.detail)
        if self.placement is not None:
            document |= documents.placement_document(self.placement)
        return document


def calculate(plan: Plan, parts: Sequence[str], request: Request | None = None) -> Calculation:
    """`parts` are names as `zentrale plan` takes them. A placement is searched only where there are cabinets."""
    request = request or Request()
    power = plan_power(plan) if {"power", "resilience", "ports"} & set(parts) else None
    wants_placement = "placement" in parts and (plan.cabinets or len(parts) == 1)
    return Calculation(
        power if "power" in parts else None,
        plan_traffic(plan) if "traffic" in parts else None,
        plan_storage(plan) if "storage" in parts else None,
        plan_reach(plan) if "zones" in parts else None,
        plan_addresses(plan) if "addresses" in parts else None,
        plan_ports(plan, power) if power is not None and "ports" in parts else None,
        plan_multicast(plan) if "multicast" in parts else None,
        plan_resilience(plan, power, pairs=request.pairs) if power is not None and "resilience" in parts else None,
        plan_detail(plan, request.outline) if "detail" in parts else None,
        _placement(plan, request.placement_s) if wants_placement else None,
    )


def _placement(plan: Plan, time_s: float) -> PlacementPlan:
    """HiGHS, which solves it, writes remarks straight to the process's standard output, past every option: not into
    the result of a command.
    """
    sys.stdout.flush()
    kept = os.dup(1)
    nowhere = os.open(os.devnull, os.O_WRONLY)
    try:
        os.dup2(nowhere, 1)
        return plan_placement(plan, time_s=time_s, clock=time.monotonic)
    finally:
        os.dup2(kept, 1)
        os.close(kept)
        os.close(nowhere)


def write_figures(plan: Plan, result: Calculation, folder: SiteFolder) -> list[Path]:
    """Draw the parts that were calculated; returns the files."""
    from zentrale.output import coverage_figure, figures, network_figures  # drawing takes a second to load

    drawn: dict[str, bytes] = {}
    if result.power is not None:
        drawn["power.png"] = figures.power_figure(plan, result.power)
    if result.traffic is not None:
        drawn["bandwidth.png"] = figures.bandwidth_figure(plan, result.traffic, [])
        drawn["topology.png"] = network_figures.topology_figure(plan, result.traffic)
    if result.storage is not None:
        drawn["storage.png"] = figures.storage_figure(plan, result.storage)
    if result.reach is not None:
        drawn["reach.png"] = network_figures.reach_figure(plan, result.reach)
    if result.detail is not None and result.detail.ground is not None:
        drawn["coverage.png"] = coverage_figure.coverage_figure(plan, result.detail)
    for name, data in drawn.items():
        write_atomically(folder.output / name, data)
    return [folder.output / name for name in drawn]


def write_tables(result: Calculation, folder: SiteFolder) -> list[Path]:
    """Every table of the result as CSV; returns the files."""
    written = []
    for name, data in csv_tables(result.document()).items():
        path = folder.output / "plan" / f"{name}.csv"
        write_atomically(path, data)
        written.append(path)
    return written


def write_addresses(folder: SiteFolder, addresses: AddressPlan) -> Path | None:
    """Enter the proposed addresses into cameras.csv; all else in it stays. Returns the file where it changed."""
    proposals = addresses.proposals()
    if not proposals:
        return None
    rows, comments = read_camera_rows(folder.cameras_file)
    for name, address in proposals.items():
        rows[name]["address"] = address
    write_atomically(folder.cameras_file, camera_file_text(rows, comments).encode("utf-8"))
    return folder.cameras_file
