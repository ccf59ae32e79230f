"""Back-up power: how long a battery carries what it feeds, or how large it would have to be."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass

import networkx as nx

from zentrale import quantities
from zentrale.findings import Finding, finding
from zentrale.planning.feeders import feeder_of, feeders
from zentrale.planning.topology import lit_network
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


def battery_power(
    plan: Plan, battery: Battery, poe_draw_w: Mapping[tuple[str, str], Mapping[Mode, float]]
) -> BatteryPower:
    """`poe_draw_w` is the PoE draw of each feeder (switch or recorder, and its name) by mode, at its ports; its supply takes
    more by what it loses.

    Run time = capacity x aged share x usable share x inverter efficiency / load.
    """
    own = {s.name: plan.switch_type(s).self_w for s in plan.switches}
    own |= {r.name: plan.recorder_type(r).power_w for r in plan.recorders}
    efficiency = {(f.what, f.name): f.ports.poe_efficiency for f in feeders(plan) if f.name in battery.feeds}

    def load(mode: Mode) -> float:
        poe = (poe_draw_w.get(feeder, {}).get(mode, 0.0) / share for feeder, share in efficiency.items())
        return sum(own[name] for name in battery.feeds) + sum(poe)

    mode = max(Mode, key=lambda m: (round(load(m), 9), m is not Mode.WORST))
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
    measured = f"{quantities.seconds(60 * power.run_time_min)} at {quantities.power(power.load_w)}, {power.mode.said}"
    advice = f"fit a battery of {power.needed_wh:.0f} Wh, or feed less from it"
    limit = quantities.seconds(60 * power.wanted_min)
    return finding("PWR-7", f"battery {power.battery}", measured, limit, "site.toml [[batteries]] wanted_min", advice)


def blackout_findings(plan: Plan) -> Iterator[Finding]:
    """What is lost at once when the mains fails, though a battery is there: cameras whose switch is on none, and recorders
    that run on without their switch, or without a way to cameras that run on.
    """
    fed = {name for battery in plan.batteries for name in battery.feeds}
    if not fed:
        return
    source, graph = "site.toml [[batteries]] feeds", lit_network(plan)
    graph.remove_nodes_from([s.name for s in plan.switches if s.name not in fed])
    dark: dict[str, list[str]] = {}
    cut_off: dict[tuple[str, str], list[str]] = {}
    for camera in plan.cameras:
        recorder = plan.recorder(camera.recorder)
        at = feeder_of(plan, camera)
        if at is None:
            continue
        if at.name not in fed:
            if plan.supply(camera) == "poe":
                dark.setdefault(at.subject, []).append(camera.name)
        elif camera.behind:
            continue  # its recorder runs on, and no cable of the network is between them
        elif recorder.name in fed and recorder.switch in fed and not nx.has_path(graph, camera.switch, recorder.switch):
            cut_off.setdefault((camera.switch, recorder.name), []).append(camera.name)
    for subject, names in dark.items():
        lost = f"{quantities.count(len(names), 'camera')} dark at once when the mains fails: {quantities.listed(names, 14)}"
        yield finding("PWR-12", subject, lost, "a battery that feeds it", source)
    for recorder in plan.recorders:
        if recorder.name in fed and recorder.switch not in fed:
            own = [c for c in plan.cameras if c.recorder == recorder.name]
            if own and all(c.behind for c in own):
                continue
            records = "only the cameras at its own ports" if any(c.behind for c in own) else "nothing"
            measured = f"runs on, but its switch {recorder.switch} does not: it records {records}"
            yield finding(
                "PWR-13", f"recorder {recorder.name}", measured, f"a battery that feeds {recorder.switch}", source
            )
    for (switch, name), names in cut_off.items():
        measured = (
            f"runs on, but the way to {name} leads over one that does not: {quantities.listed(names, 14)} not recorded"
        )
        yield finding("PWR-13", f"switch {switch}", measured, f"a battery for each switch on the way to {name}", source)
