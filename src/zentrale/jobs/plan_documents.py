"""The results of planning as plain values: stable keys, units in their names."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import fields, is_dataclass
from enum import Enum
from typing import Any

from zentrale.planning.addresses import AddressPlan
from zentrale.planning.detail import DetailPlan
from zentrale.planning.failures import Failure
from zentrale.planning.multicast import MulticastPlan
from zentrale.planning.placement import PlacementPlan
from zentrale.planning.placing.search import Infeasible, Solution
from zentrale.planning.power import PowerPlan
from zentrale.planning.reach import ReachPlan
from zentrale.planning.resilience import ResiliencePlan
from zentrale.planning.storage import RecorderStorage
from zentrale.planning.traffic import TrafficPlan


def plain(value: Any) -> Any:
    """Dataclasses as dictionaries, enums by value, numbers short enough to read."""
    if is_dataclass(value) and not isinstance(value, type):
        return {field.name: plain(getattr(value, field.name)) for field in fields(value)}
    if isinstance(value, Enum):
        return value.value
    if isinstance(value, float):
        return round(value) if abs(value) >= 1e5 else round(value, 3)
    if isinstance(value, dict):
        return {str(plain(key)): plain(item) for key, item in value.items()}
    if isinstance(value, tuple | list):
        return [plain(item) for item in value]
    return value


def reach_document(reach: ReachPlan) -> dict[str, object]:
    return {
        "who_reaches_whom": [
            {
                "from_kind": c.origin.kind, "from_zone": c.origin.zone, "to_kind": c.to.kind, "to_zone": c.to.zone,
                "allowed": c.allowed, "why": c.why, "wanted": c.wanted,
            }
            for c in reach.cells
        ]
    }  # fmt: skip


def multicast_document(multicast: MulticastPlan) -> dict[str, object]:
    return {
        "multicast_groups": plain(multicast.groups),
        "multicast_zones": plain(multicast.zones),
        "multicast_links": plain(multicast.links),
        "fast_leave_ports": list(multicast.fast_leave),
    }


def detail_document(detail: DetailPlan) -> dict[str, object]:
    cameras = [
        {
            "camera": d.camera, "view_deg": plain(d.view.horizontal_deg), "target_m": d.target_m,
            "pixels_per_m": plain(d.pixels_per_m), "level": d.level or None, "wants": d.wants or None,
            "reach_m": plain(d.reach_m),
        }
        for d in detail.cameras
    ]  # fmt: skip
    return {"detail": cameras, "areas": plain(detail.areas), "without_lens": list(detail.without_lens)}


def placement_document(placement: PlacementPlan) -> dict[str, object]:
    result = placement.result
    if isinstance(result, Solution):
        total = {"total": plain(result.cost.total), **plain(result.cost)}
        hand = plain(result.by_hand.total) if result.by_hand else None
        summary = {
            "cost": total,
            "bound": plain(result.bound),
            "gap": round(result.gap, 5),
            "nearest_cabinet_cost": hand,
        }
        rows = [
            {"camera": camera, "cabinet": k.cabinet, "switch_number": number, "switch_type": switch.type,
             "run_length_m": plain(k.runs_m[camera])}
            for k in result.cabinets
            for number, switch in enumerate(k.switches, start=1)
            for camera in switch.cameras
        ]  # fmt: skip
        return {"placement": summary, "placed_cameras": rows}
    reason = plain(result) if isinstance(result, Infeasible) else None
    return {"placement": {"infeasible": reason, "lacks": list(placement.lacks)}}


def address_document(addresses: AddressPlan) -> dict[str, object]:
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


def resilience_document(resilience: ResiliencePlan) -> dict[str, object]:
    def failures(items: Sequence[Failure]) -> list[dict[str, object]]:
        return [
            {
                "fails": f.name,
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


def power_document(power: PowerPlan) -> dict[str, object]:
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
                    "goes_dark": s.going_dark.index(p.camera) + 1,
                    "reserved_w": p.reserved_w,
                    "draw_w": {mode.value: round(draw, 2) for mode, draw in p.draw_w.items()},
                    "granted_w": {mode.value: round(granted, 2) for mode, granted in p.granted_w.items()},
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


def traffic_document(traffic: TrafficPlan) -> dict[str, object]:
    document: dict[str, object] = {}
    document["links"] = [
        {
            "kind": link.kind,
            "name": link.name,
            "load_bps": round(link.load_bps),
            "towards": link.towards,
            "back_bps": round(link.back_bps),
            "rate_bps": round(link.rate_bps),
            "burst_together_bps": round(link.burst.together_bps) if link.burst else None,
            "burst_spread_bps": round(link.burst.spread_bps) if link.burst else None,
            "burst_buffer_bytes": plain(link.burst.buffer_bytes) if link.burst else None,
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
    document["estimated_bitrates"] = list(traffic.estimated)
    return document


def storage_document(recorder: RecorderStorage) -> dict[str, object]:
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
                "kept_days": None if (kept := recorder.kept_days(c)) is None else round(kept, 2),
                "keep_days": c.keep_days,
                "max_days": c.max_days,
            }
            for c in recorder.cameras
        ],
    }
