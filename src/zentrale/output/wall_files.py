"""Walls in open forms: a playlist a wall and a round (M3U with extended entries), a page of what belongs where, CSV, and labels.

No password is in any of them; a user name only where it is asked for.
"""

from __future__ import annotations

import base64
import csv
import io
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from urllib.parse import urlsplit, urlunsplit

from zentrale.output.csv_tables import safe_cell
from zentrale.output.page import environment
from zentrale.planning.walls.wall_plan import PanelView, WallPlan
from zentrale.site.model import Camera, Plan
from zentrale.words import clean

_MOMENT_S = -1  # an entry of no length, as live streams are


@dataclass(frozen=True)
class Entry:
    """One camera in a panel. `address` is empty where none is known, and `why` says so, or whose it is; `group` where it comes by
    multicast.
    """

    wall: str
    view: PanelView
    camera: Camera
    stream: str
    address: str
    why: str = ""
    group: str = ""

    @property
    def title(self) -> str:
        return clean(f"{self.wall} {self.view.name}: {self.camera.called} ({self.stream})")


AddressOf = Callable[[Camera, str], tuple[str, str]]


def entries_of(
    made: WallPlan, address: AddressOf, groups: Mapping[tuple[str, str], str], user: str = ""
) -> list[Entry]:
    """In reading order, rounds in theirs. `address`: of a camera's stream, and why there is none; `user` is put into each."""
    found = []
    for view in made.panels:
        for camera, stream in zip(view.panel.cameras, view.offer.names, strict=True):
            url, why = address(camera, stream)
            if made.wall.source == "recorder" and url:
                why = f"the wall takes it from {camera.recorder}, channel {camera.channel}; this is the camera's own address"
            group = groups.get((camera.name, stream), "") if made.wall.source == "multicast" else ""
            found.append(Entry(made.wall.name, view, camera, stream, _with_user(url, user), why, group))
    return found


def _with_user(url: str, user: str) -> str:
    """The address without whoever was in it, and with this user."""
    if not url:
        return ""
    parts = urlsplit(url)
    host = parts.netloc.rpartition("@")[2]
    return urlunsplit((parts.scheme, f"{user}@{host}" if user else host, parts.path, parts.query, ""))


def wall_files(
    plan: Plan, entries: Sequence[Sequence[Entry]], walls: Sequence[WallPlan], figures: Mapping[str, bytes]
) -> dict[str, bytes]:
    """By name, relative to output/walls/. `figures`: of each wall, for the page."""
    files: dict[str, bytes] = {}
    for made, own in zip(walls, entries, strict=True):
        files[f"{made.wall.name}.m3u"] = _playlist(made.wall.name, _first_ones(own))
        for view in made.panels:
            if view.panel.is_round:
                turns = [e for e in own if e.view is view]
                name = (
                    f"{made.wall.name}-round-{''.join(c if c.isalnum() or c in '-_' else '_' for c in view.name)}.m3u"
                )
                while name in files:  # two names that differ only in what no file name has
                    name = name.replace(".m3u", "_.m3u")
                files[name] = _playlist(f"{made.wall.name} {view.name}", turns, view.panel.plan.seconds or 0)
    files["walls.csv"] = _table(entries)
    files["labels.csv"] = _labels(walls)
    files["walls.html"] = _page(plan, entries, walls, figures).encode("utf-8")
    return files


def _first_ones(entries: Sequence[Entry]) -> list[Entry]:
    """What a wall shows as it begins: of each panel the first camera."""
    return list({id(e.view): e for e in reversed(entries)}.values())[::-1]


def _playlist(name: str, entries: Sequence[Entry], seconds: float = _MOMENT_S) -> bytes:
    """`seconds`: how long each is shown; -1 for always."""
    lines = ["#EXTM3U", f"#PLAYLIST:{clean(name)}"]
    if any(entry.address and entry.why for entry in entries):
        lines.append("# the wall takes these from the recorder; the addresses are the cameras' own")
    for entry in entries:
        if entry.address:
            lines += [f"#EXTINF:{seconds:g},{entry.title}", clean(entry.address)]
        else:
            lines.append(f"# {entry.title}: no address: {clean(entry.why)}")
    return ("\n".join(lines) + "\n").encode("utf-8")


def _table(entries: Sequence[Sequence[Entry]]) -> bytes:
    head = ["wall", "panel", "row", "column", "rows", "columns", "turn", "seconds", "camera", "name", "recorder", "channel",
            "stream", "resolution", "address", "multicast group", "remark"]  # fmt: skip
    return _csv(head, (row for own in entries for row in _rows(own)))


def _rows(entries: Sequence[Entry]) -> Iterator[list[object]]:
    turns: dict[int, int] = {}
    for e in entries:
        place, turn = e.view.panel.plan, turns.get(id(e.view), 0)
        turns[id(e.view)] = turn + 1
        size = e.view.offer.plans[turn].resolution
        yield [
            e.wall, e.view.name, place.row, place.column, place.rows, place.columns, turn + 1,
            f"{place.seconds:g}" if e.view.panel.is_round else "", e.camera.name, e.camera.called, e.camera.recorder,
            e.camera.channel, e.stream, f"{size[0]}x{size[1]}", e.address, e.group, e.why,
        ]  # fmt: skip


def _labels(walls: Sequence[WallPlan]) -> bytes:
    """One for each panel, for the operators' desk."""
    rows = (
        [
            made.wall.name,
            view.name,
            _listed(c.called for c in view.panel.cameras),
            _listed(c.shows for c in view.panel.cameras),
        ]
        for made in walls
        for view in made.panels
    )
    return _csv(["wall", "panel", "label", "shows"], rows)


def _listed(words: Iterable[str]) -> str:
    return ", ".join(word for word in words if word)


def _csv(head: Sequence[str], rows: Iterator[list[object]] | Iterator[list[str]]) -> bytes:
    text = io.StringIO()
    writer = csv.writer(text)
    writer.writerow(head)
    for row in rows:
        writer.writerow([safe_cell(str(cell)) for cell in row])
    return text.getvalue().encode("utf-8-sig")


def _page(
    plan: Plan, entries: Sequence[Sequence[Entry]], walls: Sequence[WallPlan], figures: Mapping[str, bytes]
) -> str:
    shown = [
        {
            "name": made.wall.name, "viewer": made.wall.viewer, "columns": made.wall.columns, "entries": own,
            "width": made.wall.pixels[0], "height": made.wall.pixels[1],
            "figure": base64.b64encode(figures[made.wall.name]).decode() if made.wall.name in figures else "",
        }
        for made, own in zip(walls, entries, strict=True)
    ]  # fmt: skip
    return environment().get_template("walls.html.j2").render(site=plan.site.name, walls=shown)
