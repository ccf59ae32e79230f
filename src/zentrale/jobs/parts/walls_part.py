"""Walls of the control room: which stream in which panel, and what their machines have to bear."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

from zentrale import quantities
from zentrale.findings import Finding
from zentrale.jobs.parts.part import Asked, Fact, Made, Page, Part, Request
from zentrale.planning.multicast import plan_multicast
from zentrale.planning.walls.decoder import Load, megapixels
from zentrale.planning.walls.panels import picture_size
from zentrale.planning.walls.wall_plan import PanelView, WallPlan, plan_walls
from zentrale.site.model import Plan

_CASES = ("worst", "together", "enlarged", "changing")


@dataclass(frozen=True)
class WallsResult:
    """The walls, and what is known for drawing them and writing them out."""

    plan: Plan
    walls: tuple[WallPlan, ...]
    findings: tuple[Finding, ...]
    request: Request
    pixels_per_m: Mapping[str, float]  # of the main stream at the camera's target

    def resolved(self, view: PanelView) -> list[float | None]:
        """Pixels per metre that each camera of a panel has on the wall, at its target; None without lens or place."""
        found: list[float | None] = []
        for camera, stream in zip(view.panel.cameras, view.offer.plans, strict=True):
            own, main = self.pixels_per_m.get(camera.name), self.plan.streams(camera)["main"]
            shown = min(stream.resolution[0], picture_size(stream.resolution, view.panel.pixels)[0])
            found.append(None if own is None else own * shown / main.resolution[0])
        return found


def calculate(plan: Plan, made: Made, request: Request) -> WallsResult:
    from zentrale.planning.detail import target_pixels_per_m  # with all that draws maps

    found = plan_walls(plan)
    shown = {c.name: c for made_ in found.walls for view in made_.panels for c in view.panel.cameras}
    known = {name: value for name, c in shown.items() if (value := target_pixels_per_m(plan, c)) is not None}
    return WallsResult(plan, found.walls, found.findings, request, known)


def document(result: WallsResult) -> dict[str, object]:
    return {"walls": [_wall(result, made) for made in result.walls]}


def _wall(result: WallsResult, made: WallPlan) -> dict[str, object]:
    first = made.first_break
    return {
        "wall": made.wall.name, "viewer": made.wall.viewer, "source": made.wall.source, "pixels": list(made.wall.pixels),
        "panels": [_panel(result, view) for view in made.panels],
        **{case: _load(getattr(made.states, case)) for case in _CASES[:-1]},
        "changing": {**_load(made.states.changing), "keyframe_wait_s": _longest_wait_s(made)},
        "limits": {
            "judged": made.judged, "borne": made.borne, "all_moments": made.all_moments,
            "first": first[1].breaks[0].limit if first else None, "case": first[0] if first else None,
            "mends": made.mends,
        },
    }  # fmt: skip


def _longest_wait_s(made: WallPlan) -> float:
    """How long both streams of a round may be open."""
    return max((view.wait_s for view in made.panels), default=0.0)


def _panel(result: WallsResult, view: PanelView) -> dict[str, object]:
    place = view.panel.plan
    return {
        "panel": view.name, "row": place.row, "column": place.column, "rows": place.rows, "columns": place.columns,
        "pixels": list(view.panel.pixels), "cameras": [c.name for c in view.panel.cameras], "stream": view.offer.stream,
        "streams": list(view.offer.names), "seconds": place.seconds if view.panel.is_round else None,
        "priority": place.priority, "decoder": view.engine or None, "scale": round(view.scale, 3), "looks": view.looks,
        "keyframe_wait_s": view.wait_s or None,
        "pixels_per_m": [None if r is None else round(r, 1) for r in result.resolved(view)],
    }  # fmt: skip


def _load(load: Load) -> dict[str, object]:
    return {
        "streams": load.streams, "pixels_per_s": round(load.pixels_per_s), "frames_per_s": round(load.frames_per_s, 3),
        "bitrate_bps": round(load.bitrate_bps), "memory_bytes": round(load.memory_bytes), "when": load.when,
        "shares": {name: round(share, 4) if share < 1e9 else None for name, share in load.shares.items()},
        "breaks": [{"limit": b.limit, "value": b.value, "most": b.most} for b in load.breaks],
    }  # fmt: skip


def show(page: Page, plan: Plan, result: WallsResult, asked: Asked) -> None:
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
            least = min((r for r in result.resolved(view) if r is not None), default=None)
            rows.append([
                view.name, shown, view.offer.stream, _looks(view), "-" if least is None else f"{least:.0f}",
                f"{place.row},{place.column}{span}", quantities.resolution(*view.panel.pixels), view.engine or "-",
            ])  # fmt: skip
        columns = ["panel", "camera", "stream", "looks", ">px/m", "?row, column", "?>px", "?decoder"]
        page.table(columns, rows)
        page.line()
        columns = ["case", ">streams", ">decoded", ">bit rate", ">of the limit", "", "?>frames/s", "?>memory"]
        page.table(columns, (_row(case, getattr(made.states, case), made) for case in _CASES))
        page.line(f"worst: {made.states.worst.when}")
        page.line(f"enlarged: {made.states.enlarged.when} by its main stream, while the others go on")
        if _longest_wait_s(made):
            page.line(
                f"changing: two streams in each round, for up to {_longest_wait_s(made):g} s, until a key picture came"
            )


def _looks(view: PanelView) -> str:
    if view.looks == "enlarged":
        return f"enlarged {view.scale:.1f} times"
    return f"{1 / view.scale**2:.1f} px for one" if view.looks == "wasted" else "sharp"


def _row(case: str, load: Load, made: WallPlan) -> list[str]:
    share = "-" if not load.shares else "none" if load.share > 1e9 else f"{load.share:.0%}"
    state = "not judged" if not made.judged else "fault|breaks" if load.breaks else "ok|borne"
    if made.judged and not load.breaks and case != "together" and getattr(made.machine, case).breaks:
        state = "fault|breaks with the others"
    return [
        case, str(load.streams), megapixels(load.pixels_per_s), quantities.bitrate(load.bitrate_bps), share, state,
        f"{load.frames_per_s:.0f}", quantities.size(load.memory_bytes),
    ]  # fmt: skip


def facts(plan: Plan, result: WallsResult) -> list[Fact]:
    found = []
    for made in result.walls:
        for case in _CASES:
            rate = getattr(made.states, case).pixels_per_s
            found.append(Fact("wall", f"{made.wall.name}, {case}", megapixels(rate), rate))
        for view in made.panels:
            shown = ", ".join(c.name for c in view.panel.cameras)
            found.append(Fact("wall panel", f"{made.wall.name} {view.name}", f"{shown}: {view.offer.stream}"))
    return found


def summary(plan: Plan, result: WallsResult) -> str:
    panels = sum(len(made.panels) for made in result.walls)
    broken = [made.wall.name for made in result.walls if made.first_break]
    if broken:
        return f"{quantities.listed(broken)}: more than the machine bears"
    return f"{quantities.count(len(result.walls), 'wall')}, {quantities.count(panels, 'panel')}"


def applies(plan: Plan) -> bool:
    return bool(plan.walls)


def figures_of(plan: Plan, result: WallsResult) -> dict[str, bytes]:
    """One of each wall, and a sheet of all."""
    from zentrale.output.wall_figure import wall_figure, walls_figure

    if not result.walls:
        return {}
    picture = result.request.picture
    each = {f"wall-{made.wall.name}.png": wall_figure(plan, made, picture) for made in result.walls}
    return {**each, "walls.png": walls_figure(plan, result.walls, picture)}


def books(result: WallsResult) -> dict[str, bytes]:
    """Playlists, the page, CSV and labels, below output/walls/."""
    from zentrale.output.wall_figure import wall_figure
    from zentrale.output.wall_files import entries_of, wall_files

    if not result.walls:
        return {}
    groups = {(g.camera, g.stream): f"{g.group}:{g.port}" for g in plan_multicast(result.plan).groups if not g.relayed}
    request = result.request
    entries = [entries_of(made, request.address, groups, request.user) for made in result.walls]
    figures = {made.wall.name: wall_figure(result.plan, made, request.picture) for made in result.walls}
    return wall_files(result.plan, entries, result.walls, figures)


PART = Part(
    "walls", calculate, document, show, figures_of, applies=applies, facts=facts, summary=summary, books=books, folder="walls"
)  # fmt: skip
