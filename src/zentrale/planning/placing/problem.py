"""The placement of switches as numbers: what the plan's cameras need, what its cabinets and switch types offer."""

from __future__ import annotations

import math
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from zentrale.planning import poe
from zentrale.planning.attached import Attached, attached
from zentrale.planning.flows import sent_by_cameras
from zentrale.planning.power import port_draw_w, thing_power
from zentrale.planning.topology import lit_network, paths_from
from zentrale.planning.traffic import OVERHEAD
from zentrale.site.model import Camera, Mode, Plan, Switch, SwitchType

# Limits that may be in the way, by the names under which an explanation tells them.
LIMITS = ("max_switches", "power", "uplink", "spare")


@dataclass(frozen=True)
class SwitchChoice:
    """A switch type as placement sees it. `budget_w` and `uplink_bps` are what may be used of them; `by_class`: the budget
    counts what a device's class reserves, not what it draws.
    """

    name: str
    ports: int
    poe_ports: int
    poe_type: int
    budget_w: float
    uplink_bps: float
    price: float
    by_class: bool = False

    def ports_for(self, level: int, spare: float) -> int:
        """Ports that feed a device that needs PoE type `level` (0: any port), less the share that stays free."""
        ports = self.ports if level == 0 else self.poe_ports if self.poe_type >= level else 0
        return math.floor(ports * (1 - spare) + 1e-9)


@dataclass(frozen=True)
class CabinetChoice:
    """`price` is what using it costs, its fibre included."""

    name: str
    price: float
    max_switches: int


@dataclass(frozen=True)
class PlacementProblem:
    """Everything in arrays, by camera and cabinet.

    runs_m:    (cameras, cabinets) fixed cable [m]
    needs:     (cameras,) PoE type that feeds it, 0 for a camera fed otherwise
    watts:     (cameras, cabinets, modes) at the switch port, cable loss included [W]; with `class_column` the last is what
               the class reserves
    loads_bps: (cameras,) through the uplink [bit/s]
    spare:     share of ports that stay free
    """

    cameras: tuple[str, ...]
    cabinets: tuple[CabinetChoice, ...]
    types: tuple[SwitchChoice, ...]
    runs_m: NDArray[np.float64]
    needs: NDArray[np.int64]
    watts: NDArray[np.float64]
    loads_bps: NDArray[np.float64]
    max_run_m: float
    spare: float
    cable_price: float
    class_column: bool = False

    def only(self, cameras: list[int]) -> PlacementProblem:
        """The same with these cameras alone."""
        return replace(
            self, cameras=tuple(self.cameras[c] for c in cameras), runs_m=self.runs_m[cameras], needs=self.needs[cameras],
            watts=self.watts[cameras], loads_bps=self.loads_bps[cameras],
        )  # fmt: skip

    def pairs(self) -> tuple[list[int], list[int]]:
        """Camera and cabinet of every pair within reach."""
        cameras, cabinets = np.nonzero(self.runs_m <= self.max_run_m)
        return cameras.tolist(), cabinets.tolist()

    def takes(self, cabinet: int) -> NDArray[np.float64]:
        """What a camera takes of a switch there: (resources, cameras), the resources being ports, PoE ports, each column
        of watts and Mbit/s of uplink.
        """
        fed = (self.needs > 0).astype(np.float64)
        return np.vstack(
            [np.ones(len(self.cameras)), fed, (self.watts[:, cabinet] * fed[:, None]).T, self.loads_bps / 1e6]
        )

    def offers(self) -> NDArray[np.float64]:
        """What one switch of each type has of these: (types, resources)."""
        return np.array([
            [t.ports_for(0, self.spare), t.ports_for(t.poe_type, self.spare) if t.poe_type else 0,
             *budgets, t.uplink_bps / 1e6] for t, budgets in zip(self.types, self.budgets(), strict=True)
        ])  # fmt: skip

    def budgets(self) -> NDArray[np.float64]:
        """What one switch of each type has for each column of watts: (types, columns). Where its budget does not count
        that way, what no cameras on its ports exceed.
        """
        columns = self.watts.shape[2]
        most = self.watts.max(axis=(0, 1), initial=0.0)
        rows = []
        for kind in self.types:
            counts = [not self.class_column or kind.by_class == (column == columns - 1) for column in range(columns)]
            rows.append(
                [kind.budget_w if c else kind.poe_ports * m for c, m in zip(counts, most.tolist(), strict=True)]
            )
        return np.array(rows).reshape(len(self.types), columns)

    def feeds(self) -> NDArray[np.bool_]:
        """Whether a type has the PoE that a camera needs: (cameras, types)."""
        has = np.array([t.poe_type if t.poe_ports else 0 for t in self.types])
        return np.asarray((self.needs[:, None] <= has) | (self.needs[:, None] == 0))

    def levels(self) -> list[int]:
        """The PoE types that some camera needs, and 0 for all."""
        return sorted({0, *(int(need) for need in self.needs)})


def problem_of(plan: Plan) -> tuple[PlacementProblem | None, list[str]]:
    """The problem, or None with what the plan lacks for it."""
    asked = plan.placement.switch_types
    types = [t for t in plan.switch_types if t.price is not None and (not asked or t.name in asked)]
    lacks = [f"price of switch type {name}" for name in asked if name not in {t.name for t in types}]
    cameras = [c for c in plan.networked_devices if not c.wireless]
    things = placed_things(plan)
    if not types:
        lacks.append("price of at least one switch type (types.toml)")
    if not plan.cabinets:
        lacks.append("[[cabinets]] with x_m and y_m, or with runs in runs.csv (site.toml)")
    runs = np.array([[_run_m(plan, c, n) for n in range(len(plan.cabinets))] for c in cameras], dtype=np.float64)
    if plan.cabinets:
        nowhere = [c for c, row in zip(cameras, runs, strict=True) if np.isinf(row).all()]
        known = "x_m and y_m of both (site.toml), or a row in runs.csv"
        lacks += [f"a way from {c.name} ({c.where}) to any cabinet: {known}" for c in nowhere]
    if lacks or not cameras:
        return None, lacks
    for camera, row in zip(cameras, runs, strict=True):
        row[[not _carries(plan, camera, float(run)) for run in row]] = math.inf
    by_class = any(t.poe_budgeting == "class" for t in types)
    watts = [[_watts(plan, c, float(run), by_class) for run in row] for c, row in zip(cameras, runs, strict=True)]
    sent = sent_by_cameras(plan)
    prices = plan.placement
    loads = [sum(sent[lens.name] for lens in plan.lenses(c)) * OVERHEAD for c in cameras]
    needs = [_need(plan, c) for c in cameras]
    for thing in things.values():
        stands = [k.name == plan.switch(thing.switch).cabinet for k in plan.cabinets]
        runs = np.vstack([runs, [0.0 if here else math.inf for here in stands]])
        power = thing_power(plan, thing)
        taken = [max(power.draw_w.values()), *([power.reserved_w] if by_class else [])]
        watts.append([taken if here and thing.fed is not None else [0.0] * len(taken) for here in stands])
        needs.append(0 if thing.fed is None else poe.needed_type(thing.counted_class))
        loads.append((thing.traffic_mbps or 0.0) * 1e6)
    return PlacementProblem(
        (*(c.name for c in cameras), *things),
        tuple(CabinetChoice(k.name, k.price + k.fibre_m * prices.fibre_price_per_m, k.max_switches) for k in plan.cabinets),
        tuple(_choice(plan, t, core_rate_mbps(plan)) for t in types),
        runs,
        np.array(needs, dtype=np.int64),
        np.array(watts, dtype=np.float64),
        np.array(loads, dtype=np.float64),
        plan.policy.max_run_m, prices.spare_percent / 100, prices.cable_price_per_m, by_class,
    ), []  # fmt: skip


def placed_things(plan: Plan) -> dict[str, Attached]:
    """What hangs on the switches that go, and so has to find a port in its own cabinet again; by a name that no camera has."""
    kept = kept_switches(plan)
    return {
        f"{thing.name} ({thing.switch}:{thing.port})": thing for thing in attached(plan) if thing.switch not in kept
    }


def kept_switches(plan: Plan) -> set[str]:
    """Those that are not placed anew: with recorders, viewers, wireless cameras, or things that stand in no cabinet of the plan,
    and those on the ways between them.
    """
    middle = core(plan)
    ways = paths_from(lit_network(plan), middle.name)
    return {middle.name, *(switch for name in holding_switches(plan) for switch in (name, *ways.get(name, ())))}


def holding_switches(plan: Plan) -> list[str]:
    """Those that something stands at that is not placed."""
    cabinets = {k.name for k in plan.cabinets}
    held = [leg.switch for recorder in plan.recorders for leg in recorder.legs()]
    held += [v.switch for v in plan.viewers] + [c.switch for c in plan.cameras if c.wireless]
    held += [s.name for s in plan.switches if s.routes or s.copies_multicast]
    return held + [t.switch for t in attached(plan) if plan.switch(t.switch).cabinet not in cabinets]


def core(plan: Plan) -> Switch:
    """The switch at which the ways from the cabinets meet: that of the first recorder."""
    return plan.switch(plan.recorders[0].switch) if plan.recorders else plan.switches[0]


def core_rate_mbps(plan: Plan) -> int:
    """Line rate of its fastest ports."""
    kind = plan.switch_type(core(plan))
    return max(kind.rate_mbps(port) for port in range(1, kind.ports + 1))


def _choice(plan: Plan, kind: SwitchType, core_mbps: int) -> SwitchChoice:
    uplink = min(kind.rate_mbps(kind.ports), core_mbps) * 1e6 * plan.policy.link_load_percent / 100
    budget = kind.poe_budget_w * (1 - plan.policy.poe_reserve_percent / 100)
    uplinks = kind.uplink_ports or 1  # a switch without uplinks of its own gives up a port
    return SwitchChoice(kind.name, kind.ports - uplinks, min(kind.poe_ports, kind.ports - uplinks),
                        kind.poe_type if kind.poe_ports else 0, budget, uplink, kind.price or 0.0,
                        kind.poe_budgeting == "class")  # fmt: skip


def _run_m(plan: Plan, camera: Camera, cabinet: int) -> float:
    """As measured; else the straight line times the route factor; infinite where neither is known."""
    there = plan.cabinets[cabinet]
    measured = plan.run_m(camera, there)
    if measured is not None:
        return measured
    if camera.x_m is None or camera.y_m is None or there.x_m is None or there.y_m is None:
        return math.inf
    return math.hypot(camera.x_m - there.x_m, camera.y_m - there.y_m) * plan.placement.route_factor


def _need(plan: Plan, camera: Camera) -> int:
    return poe.needed_type(plan.camera_type(camera).counted_class) if plan.supply(camera) == "poe" else 0


def _watts(plan: Plan, camera: Camera, run_m: float, by_class: bool) -> list[float]:
    """In the worst mode, which holds all others; and what its class reserves, where a switch type counts that."""
    if plan.supply(camera) != "poe" or math.isinf(run_m):
        return [0.0] * (1 + by_class)
    kind = plan.camera_type(camera)
    reserved = [poe.supply_power_w(kind.counted_class)] if by_class else []
    drawn = port_draw_w(plan, camera, Mode.WORST, run_m)
    return [drawn or 0.0, *reserved]  # none of these runs is taken: see _carries


def _carries(plan: Plan, camera: Camera, run_m: float) -> bool:
    """Whether a cable of that length carries what the camera draws in any mode."""
    fed = plan.supply(camera) == "poe" and not math.isinf(run_m)
    return not fed or port_draw_w(plan, camera, Mode.WORST, run_m) is not None
