"""Back-up power: how long a battery carries what it feeds, or how large it would have to be."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

from zentrale import quantities
from zentrale.findings import Finding, finding
from zentrale.site.model import Battery, Mode, Plan


@dataclass(frozen=True)
class BatteryPower:
    """One battery. `load_w` is at its outlet in the worst mode, PoE devices of the switches it feeds included.

    `run_time_min` is that of an aged battery; `needed_wh` the name-plate capacity for the wanted time, None where no
    time is wanted.
    """

    battery: str
    feeds: tuple[str, ...]
    mode: Mode
    load_w: float
    capacity_wh: float
    run_time_min: float
    wanted_min: float | None
    needed_wh: float | None


def battery_power(plan: Plan, battery: Battery, poe_draw_w: Mapping[str, Mapping[Mode, float]]) -> BatteryPower:
    """`poe_draw_w` is the PoE draw of each switch by mode.

    Run time = capacity x aged share x usable share x inverter efficiency / load.
    """
    own = {s.name: plan.switch_type(s).self_w for s in plan.switches}
    own |= {r.name: plan.recorder_type(r).power_w for r in plan.recorders}

    def load(mode: Mode) -> float:
        return sum(own[name] + poe_draw_w.get(name, {}).get(mode, 0.0) for name in battery.feeds)

    mode = max(Mode, key=load)
    load_w = load(mode)
    share = battery.aged_share * battery.usable_share * battery.inverter_efficiency
    run_time_min = 60 * battery.capacity_wh * share / load_w if load_w else float("inf")
    needed = None if battery.wanted_min is None else load_w * battery.wanted_min / 60 / share
    return BatteryPower(
        battery.name, battery.feeds, mode, load_w, battery.capacity_wh, run_time_min, battery.wanted_min, needed
    )


def battery_finding(power: BatteryPower) -> Finding | None:
    """A finding where the wanted time is not reached."""
    if power.wanted_min is None or power.needed_wh is None or power.run_time_min >= power.wanted_min:
        return None
    measured = (
        f"{quantities.seconds(60 * power.run_time_min)} at {quantities.power(power.load_w)}, mode {power.mode.value}"
    )
    advice = f"fit a battery of {power.needed_wh:.0f} Wh, or feed less from it"
    limit = quantities.seconds(60 * power.wanted_min)
    return finding("PWR-7", f"battery {power.battery}", measured, limit, "site.toml [[batteries]] wanted_min", advice)
