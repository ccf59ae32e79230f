"""Walls of the control room: which stream in which panel, and what their machines have to bear."""

from __future__ import annotations

from zentrale import quantities
from zentrale.jobs.parts.part import Asked, Fact, Made, Page, Part, Request
from zentrale.planning.walls.decoder import Load, megapixels
from zentrale.planning.walls.wall_plan import PanelView, WallPlan, WallsPlan, plan_walls
from zentrale.site.model import Plan

_CASES = ("worst", "together", "enlarged", "changing")


def calculate(plan: Plan, made: Made, request: Request) -> WallsPlan:
    return plan_walls(plan)


def document(result: WallsPlan) -> dict[str, object]:
    return {"walls": [_wall(made) for made in result.walls]}


def _wall(made: WallPlan) -> dict[str, object]:
    first = made.first_break
    return {
        "wall": made.wall.name, "viewer": made.wall.viewer, "source": made.wall.source, "pixels": list(made.wall.pixels),
        "panels": [_panel(view) for view in made.panels],
        **{case: _load(getattr(made.states, case)) for case in _CASES},
        "limits": {
            "judged": made.judged, "borne": made.borne, "all_moments": made.all_moments,
            "first": first[1].breaks[0].limit if first else None, "case": first[0] if first else None,
            "mends": made.mends,
        },
    }  # fmt: skip


def _panel(view: PanelView) -> dict[str, object]:
    place = view.panel.plan
    return {
        "panel": view.name, "row": place.row, "column": place.column, "rows": place.rows, "columns": place.columns,
        "pixels": list(view.panel.pixels), "cameras": [c.name for c in view.panel.cameras], "stream": view.offer.stream,
        "streams": list(view.offer.names), "seconds": place.seconds if view.panel.is_round else None,
        "priority": place.priority, "decoder": view.engine or None, "scale": round(view.scale, 3), "looks": view.looks,
        "keyframe_wait_s": view.wait_s or None,
    }  # fmt: skip


def _load(load: Load) -> dict[str, object]:
    return {
        "streams": load.streams, "pixels_per_s": round(load.pixels_per_s), "frames_per_s": round(load.frames_per_s, 3),
        "bitrate_bps": round(load.bitrate_bps), "memory_bytes": round(load.memory_bytes), "when": load.when,
        "shares": {name: round(share, 4) if share < 1e9 else None for name, share in load.shares.items()},
        "breaks": [{"limit": b.limit, "value": b.value, "most": b.most} for b in load.breaks],
    }  # fmt: skip


def show(page: Page, plan: Plan, result: WallsPlan, asked: Asked) -> None:
    if not result.walls:
        page.heading("Walls")
        page.line("none is planned: [[walls]] of site.toml, or walls.csv (`zentrale help walls`)")
    for made in result.walls:
        width, height = made.wall.pixels
        page.heading(f"Wall {made.wall.name}: {width}x{height} px, by {made.wall.viewer}")
        rows = []
        for view in made.panels:
            place = view.panel.plan
            span = f" ({place.rows}x{place.columns})" if place.rows * place.columns > 1 else ""
            cameras = [c.name for c in view.panel.cameras]
            shown = cameras[0] if len(cameras) == 1 else f"{len(cameras)} in turn, {place.seconds:g} s each"
            rows.append([
                view.name, f"{place.row},{place.column}{span}", shown, view.offer.stream,
                quantities.resolution(*view.panel.pixels), _looks(plan, view), view.engine or "-",
            ])  # fmt: skip
        page.table(["panel", "row, column", "camera", "stream", ">px", "looks", "decoder"], rows)
        page.line()
        columns = ["case", ">streams", ">decoded", ">frames/s", ">bit rate", ">memory", ">of the limit", ""]
        page.table(columns, (_row(case, getattr(made.states, case), made) for case in _CASES))
        page.line(f"worst: {made.states.worst.when}" + ("" if made.all_moments else ", of the rounds' first moments"))
        page.line(f"enlarged: {made.states.enlarged.when}, by its main stream, while the others go on")


def _looks(plan: Plan, view: PanelView) -> str:
    if view.looks == "enlarged":
        return f"enlarged {view.scale:.1f} times"
    return f"{1 / view.scale**2:.1f} px for each shown" if view.looks == "wasted" else "as sharp as the panel"


def _row(case: str, load: Load, made: WallPlan) -> list[str]:
    share = "-" if not load.shares else "none" if load.share > 1e9 else f"{load.share:.0%}"
    state = "not judged" if not made.judged else "fault|breaks" if load.breaks else "ok|borne"
    return [
        case, str(load.streams), megapixels(load.pixels_per_s), f"{load.frames_per_s:.0f}", quantities.bitrate(load.bitrate_bps),
        quantities.size(load.memory_bytes), share, state,
    ]  # fmt: skip


def facts(plan: Plan, result: WallsPlan) -> list[Fact]:
    found = []
    for made in result.walls:
        for case in _CASES:
            rate = getattr(made.states, case).pixels_per_s
            found.append(Fact("wall", f"{made.wall.name}, {case}", megapixels(rate), rate))
        for view in made.panels:
            shown = ", ".join(c.name for c in view.panel.cameras)
            found.append(Fact("wall panel", f"{made.wall.name} {view.name}", f"{shown}: {view.offer.stream}"))
    return found


def summary(plan: Plan, result: WallsPlan) -> str:
    panels = sum(len(made.panels) for made in result.walls)
    broken = [made.wall.name for made in result.walls if made.first_break]
    more = f"; {quantities.listed(broken)}: more than its machine bears" if broken else ""
    return f"{quantities.count(len(result.walls), 'wall')}, {quantities.count(panels, 'panel')}{more}"


def applies(plan: Plan) -> bool:
    return bool(plan.walls)


PART = Part("walls", calculate, document, show, applies=applies, facts=facts, summary=summary)
