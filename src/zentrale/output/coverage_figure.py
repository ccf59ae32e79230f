"""The plan view: the site in metres, how well each spot is seen, and what no camera sees."""

from __future__ import annotations

import math

import numpy as np
from matplotlib.axes import Axes
from matplotlib.colors import BoundaryNorm, ListedColormap
from matplotlib.patches import Patch
from shapely.geometry.base import BaseGeometry

from zentrale.output.figures import new_figure, png
from zentrale.planning.detail import LEVELS, CameraDetail, DetailPlan, Ground
from zentrale.site.model import Plan

# From not seen (white, so that gaps stand out) to inspect: darker is better, in grey too.
_FACES = ("#ffffff", "#e3efd9", "#b9d9a8", "#7db888", "#3f8f86", "#1d5c70", "#0b2c3c")
_HATCHES = ("", "", "..", "//", "\\\\", "xx", "++")  # so that bands are told apart in grey, too
_WRONG = "#b00020"
_MARGIN_M = 6.0


def coverage_figure(plan: Plan, detail: DetailPlan) -> bytes:
    """Bands of resolution on the ground with cameras, buildings and areas. PNG."""
    figure = new_figure(len(detail.cameras) // 2, f"{plan.site.name}: what the cameras see")
    axes, side = figure.subplots(1, 2, width_ratios=(3.1, 1))
    ground = detail.ground
    if ground is not None:
        bounds = [0.0, *LEVELS.values(), 1e12]
        axes.pcolormesh(ground.x_m, ground.y_m, ground.pixels_per_m, cmap=ListedColormap(_FACES),
                        norm=BoundaryNorm(bounds, len(_FACES)), shading="nearest", rasterized=True)  # fmt: skip
        _hatch(axes, ground, bounds)
    _draw_outline(axes, detail)
    if detail.outline.ground is not None:
        left, bottom, right, top = detail.outline.ground.bounds
        axes.set_xlim(left - _MARGIN_M, right + _MARGIN_M)
        axes.set_ylim(bottom - _MARGIN_M, top + _MARGIN_M)
    for number, camera in enumerate(detail.cameras, start=1):
        _draw_camera(axes, number, camera)
    axes.set_aspect("equal")
    axes.set_xlabel("east [m]")
    axes.set_ylabel("north [m]")
    axes.grid(alpha=0.25)
    _draw_list(side, plan, detail)
    handles = [Patch(facecolor=_FACES[0], edgecolor="#1c2126", label="seen by no camera")]
    handles += [Patch(facecolor=face, edgecolor="#1c2126", hatch=hatch, label=f"{name}, from {LEVELS[name]:g} px/m")
                for face, hatch, name in zip(_FACES[1:], _HATCHES[1:], LEVELS, strict=True)]  # fmt: skip
    figure.legend(handles=handles, loc="outside lower center", ncols=4, fontsize=9)
    return png(figure)


def _hatch(axes: Axes, ground: Ground, bounds: list[float]) -> None:
    """The bands once more, as hatches over their colours."""
    known = np.ma.masked_invalid(np.minimum(ground.pixels_per_m, 1e6))
    drawn = axes.contourf(ground.x_m, ground.y_m, known, levels=bounds, colors="none", hatches=_HATCHES)
    drawn.set_edgecolor("#00000050")
    drawn.set_linewidth(0.0)


def _draw_outline(axes: Axes, detail: DetailPlan) -> None:
    outline = detail.outline
    if outline.ground is not None:
        _draw_edges(axes, outline.ground, "#1c2126", 1.8, "-")
    for building in outline.buildings:
        for part in getattr(building, "geoms", [building]):
            axes.fill(*part.exterior.xy, facecolor="#9aa3ab", edgecolor="#1c2126", hatch="xx", linewidth=1)
    for wall in outline.walls:
        for part in getattr(wall, "geoms", [wall]):
            axes.plot(*part.xy, color="#1c2126", linewidth=3)
    seen = {a.area: a for a in detail.areas}
    for area in outline.areas:
        _draw_edges(axes, area.shape, "#7a3fa0", 2.2, "--")
        cover = seen.get(area.name)
        centre = area.shape.representative_point()
        text = (
            area.name
            if cover is None
            else f"{area.name}: {area.wants}\n{100 * cover.seen_m2 / max(cover.size_m2, 1e-9):.0f} % seen so"
        )
        axes.text(centre.x, centre.y, text, ha="center", va="center", fontsize=8, color="#7a3fa0", fontweight="bold",
                  bbox={"facecolor": "white", "alpha": 0.75, "edgecolor": "none", "pad": 1})  # fmt: skip


def _draw_edges(axes: Axes, shape: BaseGeometry, colour: str, width: float, style: str) -> None:
    for part in getattr(shape, "geoms", [shape]):
        axes.plot(*part.exterior.xy, color=colour, linewidth=width, linestyle=style)


def _draw_camera(axes: Axes, number: int, camera: CameraDetail) -> None:
    """A dot with its number, the edges of its view, and a mark on its target."""
    view = camera.view
    wrong = not camera.enough
    colour = _WRONG if wrong else "#1c2126"
    length = camera.target_m or 8.0
    if not view.fisheye:
        for side in (-0.5, 0.5):
            angle = math.radians(view.heading_deg + side * view.horizontal_deg)
            ends = ([view.x_m, view.x_m + length * math.sin(angle)], [view.y_m, view.y_m + length * math.cos(angle)])
            axes.plot(*ends, color=colour, linewidth=0.9)
    if camera.target_m is not None:
        angle = math.radians(view.heading_deg)
        target = (view.x_m + camera.target_m * math.sin(angle), view.y_m + camera.target_m * math.cos(angle))
        axes.plot(*target, "x" if wrong else "+", color=colour, markersize=9, markeredgewidth=2)
    axes.plot(view.x_m, view.y_m, "o", color=colour, markersize=13, markeredgecolor="white")
    axes.text(view.x_m, view.y_m, str(number), color="white", ha="center", va="center", fontsize=7.5, fontweight="bold")


def _draw_list(axes: Axes, plan: Plan, detail: DetailPlan) -> None:
    """The numbers' names, with what each camera reaches at its target and what is wanted."""
    axes.axis("off")
    rows = max(len(detail.cameras) + 1, 12)
    for row, camera in enumerate(detail.cameras):
        pixels = "" if camera.pixels_per_m is None else f"{camera.pixels_per_m:.0f} px/m"
        pixels = pixels if camera.hidden_m is None else "hidden"
        wants = f", {camera.wants} wanted" if camera.wants else ""
        text = f"{row + 1:2}  {plan.called(camera.camera)}: {pixels}{wants}" + ("" if camera.enough else "  TOO LITTLE")
        axes.text(0, 1 - (row + 0.5) / rows, text, fontsize=8.5, transform=axes.transAxes,
                  color="#1c2126" if camera.enough else _WRONG)  # fmt: skip
    if detail.ground is not None:
        known = ~np.isnan(detail.ground.pixels_per_m)
        seen = detail.ground.pixels_per_m[known] >= LEVELS["monitor"]
        share = 100 * float(seen.mean()) if known.any() else 0.0
        text = f"{share:.0f} % of the ground is seen (monitor or better)"
        axes.text(
            0, 1 - (len(detail.cameras) + 0.7) / rows, text, fontsize=9, fontweight="bold", transform=axes.transAxes
        )
