"""What no field of a wall can tell alone: its grid is full and nothing lies over another, its cameras exist; and what a viewer is
that feeds walls.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from fnmatch import fnmatchcase
from typing import Any

from zentrale.site.cameras import Camera
from zentrale.site.draft import Draft, Location
from zentrale.site.network import Viewer
from zentrale.site.walls.parts import Wall, WallPanel
from zentrale.words import meant

_SOME = 4  # holes that are told by themselves


def wall_problems(draft: Draft) -> Iterator[str]:
    """Every problem of the walls, each with its place, what was found and what was expected."""
    cameras = draft.parts["cameras"]
    known = sorted({*draft.names["cameras"], *draft.names["groups"]})
    for at, wall in draft.items("walls"):
        first: dict[str, WallPanel] = {}
        taken: dict[tuple[int, int], str] = {}
        for number, panel in enumerate(wall.panels):
            here: Location = (*at, "panels", number)
            if panel.panel in first:
                found = f"found the panel {panel.panel!r} twice in wall {wall.name}; expected each once"
                yield f"{draft.where((*here, 'panel'))}: field panel: {found}"
            first.setdefault(panel.panel, panel)
            yield from _placed(draft, here, wall, panel, taken)
            yield from _shown(draft, here, panel, cameras, known)
        yield from _holes(draft, at, wall, taken)


def _placed(
    draft: Draft, here: Location, wall: Wall, panel: WallPanel, taken: dict[tuple[int, int], str]
) -> Iterator[str]:
    grid = f"the grid of {wall.name} has {wall.rows} rows and {wall.columns} columns"
    for field, start, span, most in (
        ("row", panel.row, panel.rows, wall.rows), ("column", panel.column, panel.columns, wall.columns),
    ):  # fmt: skip
        if start > most:
            yield f"{draft.where((*here, field))}: field {field}: found {start}; expected 1 to {most}: {grid}"
        elif start + span - 1 > most:
            found = f"found {span} from {field} {start} on; expected {most - start + 1} or less: {grid}"
            yield f"{draft.where((*here, field + 's'))}: field {field}s: {found}"
    over: dict[str, tuple[int, int]] = {}
    for cell in panel.cells():
        if cell in taken:
            over.setdefault(taken[cell], cell)
        else:
            taken[cell] = panel.panel
    for other, (row, column) in over.items():
        found = f"panel {panel.panel!r} lies over {other!r} at row {row}, column {column}; expected one panel a cell"
        yield f"{draft.where((*here, 'row'))}: field row: {found}"


def _holes(draft: Draft, at: Location, wall: Wall, taken: dict[tuple[int, int], str]) -> Iterator[str]:
    holes = [(r, c) for r in range(1, wall.rows + 1) for c in range(1, wall.columns + 1) if (r, c) not in taken]
    if holes:
        some = ", ".join(f"row {r} column {c}" for r, c in holes[:_SOME])
        more = f" and {len(holes) - _SOME} more" if len(holes) > _SOME else ""
        yield (
            f"{draft.where((*at, 'name'))}: field panels: wall {wall.name} shows nothing at {some}{more}; expected a panel "
            "for every cell"
        )


def _shown(
    draft: Draft, here: Location, panel: WallPanel, cameras: Sequence[Camera], known: Sequence[str]
) -> Iterator[str]:
    where = f"{draft.where((*here, 'cameras'))}: field cameras"
    for word in panel.cameras:
        if word in draft.names["cameras"] or word in draft.names["groups"]:
            continue
        if not any(fnmatchcase(c.name, word) for c in cameras):
            yield f"{where}: found {word!r}, which fits no camera or group{meant(word, known)}; expected one that is in the plan"
    shown = cameras_of(cameras, panel)
    wrong = any(
        c not in draft.names["cameras"] and not any(fnmatchcase(x.name, c) for x in cameras) for c in panel.cameras
    )
    if not shown and not wrong:
        yield f"{where}: panel {panel.panel!r} shows no camera; expected at least one"
    if len(shown) > 1 and panel.seconds is None:
        yield (
            f"{draft.where((*here, 'panel'))}: field seconds is missing: panel {panel.panel!r} shows {len(shown)} cameras in "
            "turn; expected for how many seconds each, such as seconds = 10"
        )


def cameras_of(cameras: Sequence[Camera], panel: WallPanel) -> list[Camera]:
    """Those that a panel shows, each once: in the order of its words, those of a pattern in the order of the schedule."""
    found: dict[str, Camera] = {}
    for word in panel.cameras:
        exact = [c for c in cameras if c.name == word]
        for camera in exact or [c for c in cameras if c.group == word or fnmatchcase(c.name, word)]:
            found.setdefault(camera.name, camera)
    return list(found.values())


def as_shown(parts: dict[str, Any]) -> dict[str, Any]:
    """The parts of a plan, the viewers of walls as these make them: their own panels, groups and stream count no more."""
    of: dict[str, list[Wall]] = {}
    viewers = {v.name: v for v in parts["viewers"]}
    walls = tuple(
        w if w.source else w.model_copy(update={"source": _source(viewers[w.viewer])}) for w in parts["walls"]
    )
    for wall in walls:
        of.setdefault(wall.viewer, []).append(wall)
    changed = tuple(_as_fed(v, of[v.name]) if v.name in of else v for v in parts["viewers"])
    return {**parts, "viewers": changed, "walls": walls}


def _as_fed(viewer: Viewer, walls: Sequence[Wall]) -> Viewer:
    sources = {wall.source for wall in walls}
    source = "recorder" if sources == {"recorder"} else "camera"
    panels = sum(len(wall.panels) for wall in walls)
    return viewer.model_copy(
        update={"multicast": "multicast" in sources, "source": source, "panels": panels, "groups": ()}
    )


def _source(viewer: Viewer) -> str:
    if viewer.source == "recorder":
        return "recorder"
    return "multicast" if viewer.multicast else "camera"
