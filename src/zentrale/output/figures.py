"""Figures, drawn to be read at arm's length on a laptop and in grey on paper."""

from __future__ import annotations

import io
from collections.abc import Sequence
from dataclasses import dataclass

from matplotlib.backends.backend_agg import FigureCanvasAgg
from matplotlib.figure import Figure
from matplotlib.layout_engine import ConstrainedLayoutEngine

from zentrale import quantities
from zentrale.planning.power import PowerPlan
from zentrale.planning.storage import StoragePlan
from zentrale.planning.traffic import TrafficPlan
from zentrale.site.model import Mode, Plan

_SIZE_IN = (12.8, 6.4)
# Distinct in grey too: light to dark with a hatch where two are near.
_MODE_FACES = {
    Mode.DAY: ("#f2d16b", ""),
    Mode.NIGHT: ("#3f5f8a", ""),
    Mode.COLD: ("#a8cbe0", "//"),
    Mode.MOVING: ("#6b8f5a", ".."),
    Mode.WORST: ("#8a8a8a", "xx"),
}


@dataclass(frozen=True)
class MeasuredRate:
    """Planned and measured bit rate of one stream; `measured_bps` None where it did not play."""

    camera: str
    stream: str
    planned_bps: float
    measured_bps: float | None


def new_figure(rows: int, title: str) -> Figure:
    height = max(_SIZE_IN[1], 0.42 * rows + 2.2)
    figure = Figure(figsize=(_SIZE_IN[0], min(height, 60)), layout="constrained")
    FigureCanvasAgg(figure)
    engine = figure.get_layout_engine()
    assert isinstance(engine, ConstrainedLayoutEngine)
    engine.set(rect=(0.005, 0.005, 0.99, 0.99), h_pad=0.14)  # printers and viewers cut the very edge
    figure.suptitle(title, fontsize=16, fontweight="bold")
    return figure


def png(figure: Figure) -> bytes:
    data = io.BytesIO()
    figure.savefig(data, format="png", dpi=100)
    return data.getvalue()


def power_figure(plan: Plan, power: PowerPlan) -> bytes:
    """PoE draw of each switch and recorder in each mode against its supply, as PNG."""
    switches = [s for s in power.feeders if s.ports]
    figure = new_figure(len(switches) * 4, f"{plan.site.name}: PoE power at the port")
    axes = figure.add_subplot()
    height = 0.8 / len(Mode)
    for row, switch in enumerate(switches):
        for index, mode in enumerate(Mode):
            colour, hatch = _MODE_FACES[mode]
            at = row - 0.4 + height * (index + 0.5)
            axes.barh(
                at, switch.draw_w[mode], height, color=colour, hatch=hatch, edgecolor="#333333", linewidth=0.6,
                label=mode.value if row == 0 else None,
            )  # fmt: skip
        over = switch.draw_w[switch.worst_mode] > switch.budget_w
        axes.plot([switch.budget_w] * 2, [row - 0.45, row + 0.45], color="#b00020" if over else "black", linewidth=3,
                  label="PoE supply" if row == 0 else None)  # fmt: skip
        text = f" {switch.budget_w:.0f} W supply, {switch.left_w:.0f} W left" + ("  TOO LITTLE" if over else "")
        axes.text(max(switch.budget_w, switch.draw_w[switch.worst_mode]), row, text, va="center")
    limit = max((max(s.budget_w, s.draw_w[s.worst_mode]) for s in switches), default=1.0)
    axes.set_xlim(0, limit * 1.35)
    axes.set_yticks(range(len(switches)), [f"{s.name}\n{quantities.count(len(s.ports), 'device')}" for s in switches])
    axes.invert_yaxis()
    axes.set_xlabel("power drawn at the ports, cable loss included [W]")
    if switches:
        axes.legend(loc="lower right")
    axes.grid(axis="x", alpha=0.3)
    return png(figure)


def bandwidth_figure(plan: Plan, traffic: TrafficPlan, rates: Sequence[MeasuredRate]) -> bytes:
    """Bit rate of each stream, planned and measured; and the share of line rate each link carries. PNG."""
    links = [load for load in traffic.links if load.kind != "port"]
    panels = 2 if rates else 1
    figure = new_figure(max(len(rates), len(links)), f"{plan.site.name}: bandwidth")
    axes = figure.subplots(1, panels, squeeze=False)[0]
    if rates:
        left = axes[0]
        names = [f"{r.camera} {r.stream}" for r in rates]
        left.barh(names, [(r.measured_bps or 0) / 1e6 for r in rates], color="#3f5f8a", label="measured")
        left.plot([r.planned_bps / 1e6 for r in rates], names, "D", color="#c8780a", markersize=7, label="planned")
        for index, rate in enumerate(rates):
            if rate.measured_bps is None:
                left.text(0, index, " does not play", va="center", color="#b00020")
        left.margins(y=0.01)
        left.invert_yaxis()
        left.set_xlabel("bit rate of the stream [Mbit/s]")
        left.legend(loc="lower right")
        left.grid(axis="x", alpha=0.3)
    right = axes[-1]
    limit = plan.policy.link_load_percent
    shares = [100 * load.share for load in links]
    colours = ["#b00020" if s > 100 else "#c8780a" if s > limit else "#5a8f6b" for s in shares]
    names = [load.name for load in links]
    right.barh(names, shares, color=colours)
    for index, share in enumerate(shares):
        words = "  TOO MUCH" if share > 100 else f"  above {limit:g} %" if share > limit else ""
        right.text(share, index, f" {share:.1f} %{words}", va="center")
    right.axvline(limit, color="#c8780a", linestyle="--", label=f"limit {limit:g} %")
    right.axvline(100, color="#b00020", label="line rate")
    right.set_xlim(0, max([115.0, *(1.25 * s for s in shares)]))
    right.margins(y=0.01)
    right.invert_yaxis()
    right.set_xlabel("planned load of the link [% of line rate]")
    right.legend(loc="lower right")
    right.grid(axis="x", alpha=0.3)
    return png(figure)


def storage_figure(plan: Plan, storage: StoragePlan) -> bytes:
    """Days that each recorder keeps, against the longest days wanted on it. PNG."""
    figure = new_figure(3 * len(storage.recorders), f"{plan.site.name}: days of storage")
    axes = figure.add_subplot()
    for row, recorder in enumerate(storage.recorders):
        wanted = max((c.keep_days for c in recorder.cameras), default=0.0)
        short = recorder.reach is not None and recorder.reach < 1
        axes.barh(row, recorder.days or 0, 0.5, color="#b00020" if short else "#3f5f8a", hatch="//" if short else "",
                  edgecolor="#333333", label="kept" if row == 0 else None)  # fmt: skip
        axes.plot([wanted] * 2, [row - 0.35, row + 0.35], color="#c8780a", linewidth=4,
                  label="longest wanted" if row == 0 else None)  # fmt: skip
        text = "no drives planned" if recorder.days is None else f"{recorder.days:.1f} days"
        text += f", {wanted:g} wanted" + ("  TOO FEW" if short else "")
        axes.text(max(recorder.days or 0, wanted), row, f"  {text}", va="center")
    limit = max((max(r.days or 0, *(c.keep_days for c in r.cameras), 1) for r in storage.recorders), default=1)
    axes.set_xlim(0, limit * 1.35)
    axes.set_yticks(
        range(len(storage.recorders)),
        [f"{r.recorder}\n{quantities.count(len(r.cameras), 'camera')}" for r in storage.recorders],
    )
    axes.set_ylim(len(storage.recorders) - 0.3, -0.7)
    axes.set_xlabel("days kept when all cameras share the drives [days]")
    if storage.recorders:
        axes.legend(loc="lower right")
    axes.grid(axis="x", alpha=0.3)
    return png(figure)
