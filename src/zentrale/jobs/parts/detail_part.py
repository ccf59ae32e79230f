"""Pixels per metre at each target, and what no camera sees."""

from __future__ import annotations

from zentrale import quantities
from zentrale.jobs.parts.part import Asked, Fact, Made, Page, Part, Request, plain
from zentrale.planning.detail import DetailPlan, plan_detail
from zentrale.site.model import Plan


def calculate(plan: Plan, made: Made, request: Request) -> DetailPlan:
    return plan_detail(plan, request.outline)


def document(detail: DetailPlan) -> dict[str, object]:
    cameras = [
        {
            "camera": d.camera, "view_deg": plain(d.view.horizontal_deg), "target_m": d.target_m,
            "pixels_per_m": plain(d.pixels_per_m), "level": d.level or None, "wants": d.wants or None,
            "reach_m": plain(d.reach_m), "hidden_m": plain(d.hidden_m), "enough": d.enough,
        }
        for d in detail.cameras
    ]  # fmt: skip
    return {"detail": cameras, "areas": plain(detail.areas), "without_lens": list(detail.without_lens)}


def show(page: Page, plan: Plan, result: DetailPlan, asked: Asked) -> None:
    show_detail(page, result, full=asked.full)


def show_detail(page: Page, detail: DetailPlan, *, full: bool) -> None:

    page.heading("Level of detail (IEC 62676-4)")
    if not detail.cameras:
        page.line("no camera has a position, direction and lens in the plan")
        return
    rows = []
    for d in detail.cameras:
        if not full and d.enough:
            continue
        rows.append([
            d.camera, f"{d.view.horizontal_deg:.0f}°", "-" if d.target_m is None else f"{d.target_m:g} m",
            "-" if d.pixels_per_m is None else f"{d.pixels_per_m:.0f}", d.level or "-", d.wants or "-",
            "-" if not d.wants else f"{d.reach_m:.1f} m",
            "ok|enough" if d.enough else "fault|too little" if d.hidden_m is None else "fault|hidden",
        ])  # fmt: skip
    if rows:
        columns = ["camera", ">view", ">target at", ">px/m there", "good enough to", "wanted", ">reaches that to", ""]
        page.table(columns, rows)
    page.line(f"{quantities.count(len(detail.cameras), 'camera')} calculated")
    if detail.without_lens:
        page.line(f"not calculated, without position, direction or lens: {quantities.listed(detail.without_lens, 14)}")
    if detail.areas:
        page.line()
        rows = [[a.area, a.wants, f"{a.size_m2:.0f} m²", f"{a.seen_m2:.0f} m²", f"{a.unseen_m2:.0f} m²",
                 quantities.share(a.seen_m2, a.size_m2)] for a in detail.areas]  # fmt: skip
        page.table(["area", "wanted", ">size", ">seen so", ">not seen so", ">share"], rows)


def figures_of(plan: Plan, result: DetailPlan) -> dict[str, bytes]:
    from zentrale.output import coverage_figure  # drawing takes a second to load

    return {} if result.ground is None else {"coverage.png": coverage_figure.coverage_figure(plan, result)}


def facts(plan: Plan, result: DetailPlan) -> list[Fact]:
    return [
        Fact(
            "level of detail",
            f"camera {d.camera}",
            f"{d.pixels_per_m:.0f} px/m, {d.level or 'nothing'}",
            d.pixels_per_m,
        )
        for d in result.cameras
        if d.pixels_per_m is not None
    ]


def summary(plan: Plan, result: DetailPlan) -> str:
    enough = sum(d.enough for d in result.cameras)
    return f"{enough} of {quantities.count(len(result.cameras), 'camera')} with a lens and a place see what they should"


PART = Part("detail", calculate, document, show, figures_of, facts=facts, summary=summary)
