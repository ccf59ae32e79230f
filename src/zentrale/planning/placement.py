"""The cheapest placement of the plan's own cameras and switches, and what stands in its way."""

from __future__ import annotations

import math
from collections.abc import Callable, Iterator
from dataclasses import dataclass

from zentrale import quantities
from zentrale.findings import Finding, finding
from zentrale.planning import poe
from zentrale.planning.placed import placed_findings
from zentrale.planning.placing.problem import placed_things, problem_of
from zentrale.planning.placing.search import Infeasible, Solution, place, plain_reasons
from zentrale.site.model import Plan


@dataclass(frozen=True)
class PlacementPlan:
    """`lacks` says what the plan must name before a placement can be worked out."""

    result: Solution | Infeasible | None
    lacks: tuple[str, ...]
    findings: tuple[Finding, ...]


def plan_placement(
    plan: Plan, *, gap: float = 0.01, time_s: float = 60.0, clock: Callable[[], float] = lambda: 0.0
) -> PlacementPlan:
    """The cheapest placement of the plan's cameras, with findings."""
    problem, lacks = problem_of(plan)
    if problem is None:
        return PlacementPlan(None, tuple(lacks), ())
    apart = plain_reasons(problem)
    findings = [] if apart is None else list(_infeasible_findings(plan, apart))
    if apart is not None:  # the rest can be placed all the same
        gone = {name for name, _, _ in apart.out_of_reach} | set(apart.not_fed)
        problem = problem.only([i for i, name in enumerate(problem.cameras) if name not in gone])
        if not problem.cameras:
            return PlacementPlan(apart, (), tuple(findings))
    result = place(problem, gap=gap, time_s=time_s, clock=clock)
    if isinstance(result, Infeasible):
        return PlacementPlan(result, (), (*findings, *_infeasible_findings(plan, result)))
    if result.gap > gap * (1 + 1e-6):  # the proof is that of the gap itself, to rounding
        text = f"gap of {100 * result.gap:.1f} % after {time_s:g} s"
        findings.append(finding("PLC-4", "placement", text, f"{100 * gap:g} %", "the time given"))
    return PlacementPlan(result, (), (*findings, *placed_findings(plan, result)))


_LIMIT_WORDS = {
    "max_switches": "max_switches of the cabinets (site.toml [[cabinets]])",
    "power": "PoE power in the worst mode (types.toml poe_budget_w, site.toml poe_reserve_percent)",
    "uplink": "uplink load (types.toml uplink_rate_mbps, site.toml link_load_percent)",
    "spare": "the wanted spare share (site.toml [placement] spare_percent)",
}


def _infeasible_findings(plan: Plan, reason: Infeasible) -> Iterator[Finding]:
    for name, cabinet, run_m in reason.out_of_reach:
        measured = (
            f"{run_m:.0f} m to {cabinet}, the nearest"
            if run_m < math.inf
            else "no cabinet whose cable carries its power"
        )
        source = f"site.toml [policy] max_run_m; {plan.camera(name).where}"  # a thing stands in its cabinet already
        yield finding("PLC-1", f"camera {name}", measured, f"{plan.policy.max_run_m:g} m", source)
    things = placed_things(plan)
    for name in reason.not_fed:
        thing = things.get(name)
        poe_class = thing.counted_class if thing else plan.camera_type(plan.camera(name)).counted_class
        measured = f"PoE class {poe_class} needs type {poe.needed_type(poe_class)}"
        subject = f"{thing.kind} {thing.name}" if thing else f"camera {name}"
        yield finding("PLC-3", subject, measured, "a switch type with it and a price", "types.toml [[switch_types]]")
    if reason.out_of_reach or reason.not_fed:
        return
    if reason.out_of_time:
        yield finding("PLC-4", "placement", "nothing found in the time given", "a plan", "the time given")
        return
    left = quantities.count(len(reason.left_over), "device" if set(reason.left_over) & set(things) else "camera")
    measured = f"{left} left over: {quantities.listed(reason.left_over, 8)}"
    words = "; or ".join(_LIMIT_WORDS[limit] for limit in reason.limits)
    advice = f"each of these, dropped alone, would make room: {words}" if words else ""
    yield finding(
        "PLC-2", "placement", measured, "a place for every camera", "site.toml [[cabinets]], types.toml", advice
    )
