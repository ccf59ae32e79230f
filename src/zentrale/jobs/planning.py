"""Running the parts of the plan calculation that are asked for."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from zentrale.findings import Finding
from zentrale.planning.power import PowerPlan, plan_power
from zentrale.planning.traffic import TrafficPlan, plan_traffic
from zentrale.site.model import Plan


@dataclass(frozen=True)
class Calculation:
    """The parts that were asked for; the others are None."""

    power: PowerPlan | None
    traffic: TrafficPlan | None

    @property
    def findings(self) -> list[Finding]:
        return [f for part in (self.power, self.traffic) if part is not None for f in part.findings]

    def document(self) -> dict[str, object]:
        """Plain values with stable keys and units in them."""
        document: dict[str, object] = {}
        if self.power is not None:
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
                for s in self.power.switches
            ]
            document["fed_apart"] = [{"camera": name, "supply": supply} for name, supply in self.power.apart]
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
                for b in self.power.batteries
            ]
        if self.traffic is not None:
            document["links"] = [
                {
                    "kind": link.kind,
                    "name": link.name,
                    "load_bps": round(link.load_bps),
                    "rate_bps": round(link.rate_bps),
                    "cameras": list(link.cameras),
                }
                for link in self.traffic.links
            ]
            document["recorders"] = [
                {
                    "recorder": r.recorder,
                    "channels": r.channels,
                    "channels_used": r.channels_used,
                    "ingest_bps": round(r.ingest_bps),
                    "ingest_limit_bps": round(r.ingest_limit_bps),
                }
                for r in self.traffic.recorders
            ]
        return document


def calculate(plan: Plan, parts: Sequence[str]) -> Calculation:
    """`parts` are names as `zentrale plan` takes them: power, traffic."""
    return Calculation(
        plan_power(plan) if "power" in parts else None,
        plan_traffic(plan) if "traffic" in parts else None,
    )
