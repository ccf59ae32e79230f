"""Which cabinets, which switches, which camera where, at least cost."""

from __future__ import annotations

import time

from zentrale.jobs.parts.part import Asked, Made, Page, Part, Request, plain
from zentrale.planning.placement import PlacementPlan, plan_placement
from zentrale.planning.placing.search import Infeasible, Solution
from zentrale.site.model import Plan


def calculate(plan: Plan, made: Made, request: Request) -> PlacementPlan:
    return plan_placement(plan, time_s=request.placement_s, clock=time.process_time)


def _has_cabinets(plan: Plan) -> bool:
    return bool(plan.cabinets)


def document(placement: PlacementPlan) -> dict[str, object]:
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


def show(page: Page, plan: Plan, result: PlacementPlan, asked: Asked) -> None:
    show_placement(page, plan, result, full=asked.full)


def show_placement(page: Page, plan: Plan, placement: PlacementPlan, *, full: bool) -> None:

    page.heading("Cheapest placement of switches")
    result = placement.result
    if result is None:
        page.line("the plan lacks for it: " + ("; ".join(placement.lacks) or "cameras with a cable"))
        return
    if not isinstance(result, Solution):
        page.line("there is none: see the findings")
        return
    price = plan.site.currency
    rows = []
    for cabinet in result.cabinets:
        for switch in cabinet.switches:
            longest = max((cabinet.runs_m[c] for c in switch.cameras), default=0.0)
            names = ", ".join(switch.cameras) if full else f"{len(switch.cameras)}"
            rows.append([cabinet.cabinet, switch.type, names, f"{longest:.0f} m"])
    page.table(["cabinet", "switch", "cameras" if full else ">cameras", ">longest run"], rows)
    cost = result.cost
    parts = f"switches {cost.switches:.0f}, cable {cost.cable:.0f}, cabinets and fibre {cost.cabinets:.0f}"
    page.line(f"{cost.total:.0f} {price}: {parts}", "bold")
    page.line(f"no placement costs less than {result.bound:.0f} {price}: proven gap {100 * result.gap:.2f} %")
    if result.by_hand is not None:
        saving = result.by_hand.total - cost.total
        page.line(
            f"every camera to its nearest cabinet would cost {result.by_hand.total:.0f} {price}, {saving:.0f} more"
        )
    else:
        page.line("every camera to its nearest cabinet does not fit")


def summary(plan: Plan, result: PlacementPlan) -> str:
    found = result.result
    if found is None:
        return "not calculated, the plan lacks for it: " + "; ".join(result.lacks[:2])
    if not isinstance(found, Solution):
        return "there is none"
    return f"{found.cost.total:.0f} {plan.site.currency} at least cost, proven to {100 * found.gap:.1f} %"


PART = Part("placement", calculate, document, show, applies=_has_cabinets, summary=summary)
