"""Running the parts of the plan calculation that are asked for."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

from zentrale.findings import Finding
from zentrale.planning.addresses import AddressPlan, plan_addresses
from zentrale.planning.power import PowerPlan, plan_power
from zentrale.planning.resilience import Failure, ResiliencePlan, plan_resilience
from zentrale.planning.storage import RecorderStorage, StoragePlan, plan_storage
from zentrale.planning.traffic import TrafficPlan, plan_traffic
from zentrale.site.camera_file import camera_file_text, read_camera_rows
from zentrale.site.folder import SiteFolder, write_atomically
from zentrale.site.model import Plan


@dataclass(frozen=True)
class Calculation:
    """The parts that were asked for; the others are None."""

    power: PowerPlan | None
    traffic: TrafficPlan | None
    storage: StoragePlan | None
    resilience: ResiliencePlan | None
    addresses: AddressPlan | None

    @property
    def findings(self) -> list[Finding]:
        return [
            f
            for part in (self.power, self.traffic, self.storage, self.addresses, self.resilience)
            if part is not None
            for f in part.findings
        ]

    def document(self) -> dict[str, object]:
        """Plain values with stable keys and units in them."""
        document: dict[str, object] = {}
        if self.power is not None:
            document |= _power_document(self.power)
        if self.traffic is not None:
            document |= _traffic_document(self.traffic)
        if self.storage is not None:
            document["storage"] = [_storage_document(recorder) for recorder in self.storage.recorders]
        if self.resilience is not None:
            document |= _resilience_document(self.resilience)
        if self.addresses is not None:
            document |= _address_document(self.addresses)
        return document


def _address_document(addresses: AddressPlan) -> dict[str, object]:
    return {
        "zones": [
            {
                "zone": z.zone,
                "vlan": z.vlan,
                "subnet": str(z.network),
                "gateway": str(z.gateway) if z.gateway else None,
                "infrastructure": str(z.infrastructure) if z.infrastructure else None,
                "fixed": str(z.fixed),
                "pool": str(z.pool) if z.pool else None,
                "devices": z.devices,
            }
            for z in addresses.zones
        ],
        "addresses": [
            {
                "name": d.name,
                "kind": d.kind,
                "zone": d.zone,
                "address": str(d.address),
                "mac": d.mac or None,
                "given": d.given,
            }
            for d in addresses.devices
        ],
    }


def _resilience_document(resilience: ResiliencePlan) -> dict[str, object]:
    def failures(items: Sequence[Failure]) -> list[dict[str, object]]:
        return [
            {
                "parts": [{"kind": part.kind, "name": part.name} for part in f.parts],
                "cameras_lost": list(f.lost),
                "zones_parted": list(f.parted_zones),
                "fullest_link": f.worst_link or None,
                "fullest_link_share": round(f.worst_share, 4) if f.worst_link else None,
            }
            for f in items
        ]

    return {
        "single_failures": failures(resilience.singles),
        "pairs_of_failures": failures(resilience.pairs),
        "harmless_parts": resilience.harmless,
    }


def _power_document(power: PowerPlan) -> dict[str, object]:
    document: dict[str, object] = {}
    document["switches"] = [
        {
            "switch": s.switch,
            "cabinet": s.cabinet,
            "poe_supply_w": s.budget_w,
            "draw_w": {mode.value: round(draw, 2) for mode, draw in s.draw_w.items()},
            "reserved_w": round(s.reserved_w, 2),
            "left_w": round(s.left_w, 2),
            "worst_mode": s.worst_mode.value,
            "dark": {mode.value: list(names) for mode, names in s.dark.items() if names},
            "dark_one_supply": {m.value: list(names) for m, names in s.dark_one_supply.items() if names},
            "ports": [
                {
                    "port": p.port,
                    "camera": p.camera,
                    "run_length_m": p.run_length_m,
                    "poe_class": p.poe_class,
                    "priority": p.priority.value,
                    "reserved_w": p.reserved_w,
                    "draw_w": {mode.value: round(draw, 2) for mode, draw in p.draw_w.items()},
                }
                for p in s.ports
            ],
        }
        for s in power.switches
    ]
    document["fed_apart"] = [{"camera": name, "supply": supply} for name, supply in power.apart]
    document["batteries"] = [
        {
            "battery": b.battery,
            "feeds": list(b.feeds),
            "worst_mode": b.mode.value,
            "load_w": round(b.load_w, 2),
            "capacity_wh": b.capacity_wh,
            "run_time_min": round(b.run_time_min, 1) if b.load_w else None,
            "wanted_min": b.wanted_min,
            "needed_wh": None if b.needed_wh is None else round(b.needed_wh),
        }
        for b in power.batteries
    ]
    return document


def _traffic_document(traffic: TrafficPlan) -> dict[str, object]:
    document: dict[str, object] = {}
    document["links"] = [
        {
            "kind": link.kind,
            "name": link.name,
            "load_bps": round(link.load_bps),
            "rate_bps": round(link.rate_bps),
            "cameras": list(link.cameras),
        }
        for link in traffic.links
    ]
    document["recorders"] = [
        {
            "recorder": r.recorder,
            "channels": r.channels,
            "channels_used": r.channels_used,
            "ingest_bps": round(r.ingest_bps),
            "ingest_limit_bps": round(r.ingest_limit_bps),
        }
        for r in traffic.recorders
    ]
    return document


def _storage_document(recorder: RecorderStorage) -> dict[str, object]:
    return {
        "recorder": recorder.recorder,
        "write_bps": round(recorder.write_bps),
        "needed_bytes": round(recorder.needed_bytes),
        "usable_bytes": None if recorder.usable_bytes is None else round(recorder.usable_bytes),
        "days": None if recorder.days is None else round(recorder.days, 2),
        "drive_failure_costs": recorder.drive_failure,
        "smallest_fitting_type": recorder.smallest_fit or None,
        "types": [
            {"type": f.type, "fits": f.fits, "reasons": list(f.reasons), "licences_missing": f.licences_missing}
            for f in recorder.fits
        ],
        "cameras": [
            {
                "camera": c.camera,
                "mode": c.mode,
                "recorded_share": round(c.share, 4),
                "bitrate_bps": round(c.bitrate_bps),
                "day_bytes": round(c.day_bytes),
                "keep_days": c.keep_days,
                "max_days": c.max_days,
            }
            for c in recorder.cameras
        ],
    }


def calculate(plan: Plan, parts: Sequence[str], *, pairs: bool = False) -> Calculation:
    """`parts` are names as `zentrale plan` takes them: power, traffic, storage, addresses, resilience.

    pairs: for resilience, also let every two parts fail at once
    """
    power = plan_power(plan) if {"power", "resilience"} & set(parts) else None
    return Calculation(
        power if "power" in parts else None,
        plan_traffic(plan) if "traffic" in parts else None,
        plan_storage(plan) if "storage" in parts else None,
        plan_resilience(plan, power, pairs=pairs) if power is not None and "resilience" in parts else None,
        plan_addresses(plan) if "addresses" in parts else None,
    )


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
