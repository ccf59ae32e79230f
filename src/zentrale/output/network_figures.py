"""Figures of the network: the topology with the load of each link, and who reaches whom before and after."""

from __future__ import annotations

from collections.abc import Iterator

import networkx as nx
from matplotlib.axes import Axes
from matplotlib.patches import FancyArrowPatch, Patch, Rectangle

from zentrale import quantities
from zentrale.output.figures import new_figure, png
from zentrale.planning.reach import Party, ReachPlan
from zentrale.planning.traffic import LinkLoad, TrafficPlan
from zentrale.site.model import INTERNET, Link, Plan

_FINE, _HIGH, _OVER, _DARK = "#3f6f54", "#b36b00", "#b00020", "#8a939c"
_BOX_W, _BOX_H = 0.30, 0.78

Place = tuple[float, float]


def topology_figure(plan: Plan, traffic: TrafficPlan) -> bytes:
    """Switches with what hangs on them, and every link with its load and share of line rate. PNG."""
    places = _places(plan)
    rows = max((y for _, y in places.values()), default=0.0) + 1
    figure = new_figure(round(rows * 3), f"{plan.site.name}: links and their load, busier direction")
    axes = figure.add_subplot()
    loads = {load.name: load for load in traffic.links if load.kind == "link"}
    for link in plan.links:
        _draw_link(axes, plan, link, loads.get(f"{link.a} - {link.b}"), places)
    for switch, (x, y) in places.items():
        axes.add_patch(
            Rectangle(
                (x - _BOX_W / 2, y - _BOX_H / 2),
                _BOX_W,
                _BOX_H,
                facecolor="#eef2f5",
                edgecolor="#1c2126",
                linewidth=1.5,
            )
        )
        cameras = sum(c.switch == switch for c in plan.cameras)
        text = [*([quantities.count(cameras, "camera")] if cameras else []), *_devices(plan, switch)]
        axes.text(x, y - 0.32, switch, ha="center", va="top", fontsize=11, fontweight="bold")
        axes.text(x, y - 0.13, "\n".join(_folded(text)), ha="center", va="top", fontsize=8.5)
    across = max((x for x, _ in places.values()), default=0.0)
    axes.set_xlim(-0.25, across + 0.25)
    axes.set_ylim(rows - 0.4, -0.6)
    axes.axis("off")
    limit = plan.policy.link_load_percent
    words = ((_FINE, f"up to {limit:g} % of line rate"), (_HIGH, f"above {limit:g} %"), (_OVER, "MORE THAN LINE RATE"))
    for colour, text_of in words:
        axes.plot([], [], color=colour, linewidth=5 if colour == _OVER else 3, label=text_of)
    axes.plot([], [], color=_DARK, linestyle="--", label="laid, not lit")
    figure.legend(loc="outside lower center", ncols=4, fontsize=10)
    return png(figure)


def _devices(plan: Plan, switch: str) -> Iterator[str]:
    for recorder in plan.recorders:
        if any(leg.switch == switch for leg in recorder.legs()):
            yield recorder.name
    yield from (viewer.name for viewer in plan.viewers if viewer.switch == switch)
    yield from (point.name for point in plan.access_points if point.switch == switch)


def _folded(words: list[str], most: int = 4) -> list[str]:
    return words if len(words) <= most else [*words[: most - 1], f"and {len(words) - most + 1} more"]


def _places(plan: Plan) -> dict[str, Place]:
    """Where each switch is drawn: the one with the recorders at the left, the others by their distance from it."""
    graph: nx.Graph[str] = nx.Graph()
    graph.add_nodes_from(s.name for s in plan.switches)
    graph.add_edges_from((link.ends()[0][0], link.ends()[1][0]) for link in plan.links if link.lit)
    first = plan.recorders[0].switch if plan.recorders else None
    order = sorted(graph, key=lambda name: (name != first, -graph.degree[name], name))
    places: dict[str, Place] = {}
    row = 0.0
    for root in order:
        if root in places:
            continue
        layers = dict(enumerate(nx.bfs_layers(graph, root)))
        highest = max(len(names) for names in layers.values())
        for depth, names in layers.items():
            for n, name in enumerate(names):
                places[name] = (float(depth), row + (n + 0.5) * highest / len(names) - 0.5)
        row += highest
    return places


def _draw_link(axes: Axes, plan: Plan, link: Link, load: LinkLoad | None, places: dict[str, Place]) -> None:
    (a, _), (b, _) = link.ends()
    (xa, ya), (xb, yb) = sorted((places[a], places[b]))
    bend = 0.0
    if xa == xb and yb - ya < 1.01:  # neighbours of one layer
        start, end = (xa, ya + _BOX_H / 2), (xb, yb - _BOX_H / 2)
    elif xa == xb:  # around the boxes between
        start, end, bend = (xa + _BOX_W / 2, ya), (xb + _BOX_W / 2, yb), -0.35
    else:
        start, end = (xa + _BOX_W / 2, ya), (xb - _BOX_W / 2, yb)
    if not link.lit or load is None:
        colour, width, text = _DARK, 1.5, "not lit" if not link.lit else "no load"
    else:
        share = 100 * load.share
        colour = _OVER if share > 100 else _HIGH if share > plan.policy.link_load_percent else _FINE
        width = 5.0 if share > 100 else 3.0
        text = f"{quantities.bitrate(load.load_bps)} of {quantities.bitrate(load.rate_bps)} ({share:.0f} %)"
        text += "  TOO MUCH" if share > 100 else ""
    axes.add_patch(FancyArrowPatch(start, end, arrowstyle="-", connectionstyle=f"arc3,rad={bend}", color=colour,
                                   linewidth=width, linestyle="-" if link.lit else "--", zorder=0))  # fmt: skip
    at = 0.5 if xa == xb else 0.62  # between layers nearer to the far end, where the lines have drawn apart
    x, y = start[0] + (end[0] - start[0]) * at, start[1] + (end[1] - start[1]) * at
    if bend:
        x += abs(bend) * _BOX_W / 2
    style = {"facecolor": "white", "edgecolor": colour, "boxstyle": "round,pad=0.25"}
    axes.text(x, y, text, ha="center", va="center", fontsize=9.5, color=colour, fontweight="bold", bbox=style)


def reach_figure(plan: Plan, reach: ReachPlan) -> bytes:
    """Two matrices: everything in one flat network, and as planned; what is not as wanted stands out. PNG."""
    figure = new_figure(
        round(len(reach.parties) * 1.4), f"{plan.site.name}: who reaches whom (row begins, column answers)"
    )
    before, after = figure.subplots(1, 2)
    _matrix(before, reach, "before: all in one network", planned=False)
    _matrix(after, reach, "after: with these zones, rules and wires", planned=True)
    words = (("#2f4b6e", "", "reaches"), ("#eceff2", "", "does not reach"), ("#ffd9de", "////", "NOT AS WANTED"))
    handles = [Patch(facecolor=face, hatch=hatch, edgecolor="#b00020" if hatch else "#59636e", label=text)
               for face, hatch, text in words]  # fmt: skip
    figure.legend(handles=handles, loc="outside lower center", ncols=3, fontsize=11)
    return png(figure)


def _name(party: Party) -> str:
    return INTERNET if party.zone == INTERNET else f"{party.kind},\n{party.zone}"


def _matrix(axes: Axes, reach: ReachPlan, title: str, *, planned: bool) -> None:
    count = len(reach.parties)
    cells = {(cell.origin, cell.to): cell for cell in reach.cells}
    for row, origin in enumerate(reach.parties):
        for column, to in enumerate(reach.parties):
            cell = cells.get((origin, to))
            if cell is None:
                continue
            yes = cell.allowed if planned else cell.before
            wrong = planned and not cell.as_wanted
            face = "#ffd9de" if wrong else "#2f4b6e" if yes else "#eceff2"
            axes.add_patch(Rectangle((column - 0.48, row - 0.48), 0.96, 0.96, facecolor=face, hatch="////" if wrong else None,
                                     edgecolor="#b00020" if wrong else "#ffffff"))  # fmt: skip
            text = ("YES!" if yes else "NO!") if wrong else "yes" if yes else "no"
            colour = "#b00020" if wrong else "white" if yes else "#59636e"
            axes.text(
                column,
                row,
                text,
                ha="center",
                va="center",
                color=colour,
                fontweight="bold" if yes or wrong else None,
                fontsize=10,
            )
    axes.set_xlim(-0.5, count - 0.5)
    axes.set_ylim(count - 0.5, -0.5)
    axes.set_xticks(range(count), [_name(p) for p in reach.parties], fontsize=8.5, rotation=45 if count > 5 else 0)
    axes.set_yticks(range(count), [_name(p) for p in reach.parties], fontsize=8.5)
    axes.set_title(title, fontsize=12)
    axes.set_xlabel("to")
    axes.set_ylabel("from")
    axes.set_aspect("equal")
