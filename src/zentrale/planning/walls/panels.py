"""What each panel of a wall can show: the streams that its cameras send, and how sharp each is at the panel's size."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

from zentrale.site.model import Camera, Plan, StreamPlan, Wall, WallPanel
from zentrale.site.streams import STREAMS
from zentrale.site.walls.checked import cameras_of


@dataclass(frozen=True)
class Offer:
    """One choice for a panel: its cameras by this stream, those without it by their main stream.

    names, plans: the stream of each camera, in the order of the round
    sharpness:    mean share of the panel's own pixels that are the camera's, 1 where none is made up
    """

    stream: str
    names: tuple[str, ...]
    plans: tuple[StreamPlan, ...]
    sharpness: float

    @cached_property
    def pixels_per_s(self) -> float:
        """Of the heaviest."""
        return max(pixel_rate(plan) for plan in self.plans)

    @cached_property
    def heaviest(self) -> int:
        """Which camera takes most."""
        return max(range(len(self.plans)), key=lambda i: (pixel_rate(self.plans[i]), self.plans[i].most_bps))

    @cached_property
    def heaviest_pair(self) -> int:
        """Which camera takes most together with the one that follows it."""
        rates = [pixel_rate(plan) for plan in self.plans]
        return max(range(len(rates)), key=lambda i: rates[i] + rates[(i + 1) % len(rates)])


@dataclass(frozen=True)
class Panel:
    """A panel with its cameras in the order of the round, and what can be chosen for it, smallest first."""

    wall: str
    plan: WallPanel
    pixels: tuple[int, int]
    cameras: tuple[Camera, ...]
    offers: tuple[Offer, ...]

    @property
    def name(self) -> str:
        return self.plan.panel

    @property
    def is_round(self) -> bool:
        return len(self.cameras) > 1

    @property
    def order(self) -> tuple[int, int, int]:
        """Most important first."""
        return self.plan.priority, self.plan.row, self.plan.column


def pixel_rate(plan: StreamPlan) -> float:
    """Pixels a second."""
    return plan.resolution[0] * plan.resolution[1] * plan.fps


def picture_size(stream: tuple[int, int], panel: tuple[int, int]) -> tuple[float, float]:
    """Width and height [px] that a picture has in a panel: as large as fits, without bending it."""
    scale = min(panel[0] / stream[0], panel[1] / stream[1])
    return stream[0] * scale, stream[1] * scale


def scale(stream: tuple[int, int], panel: tuple[int, int]) -> float:
    """How many of the panel's pixels one of the stream's becomes, in a line: above 1 it is enlarged, below 1 some are wasted."""
    return picture_size(stream, panel)[0] / stream[0]


def panels_of(plan: Plan, wall: Wall) -> tuple[Panel, ...]:
    """In the order of their importance."""
    found = []
    for panel in wall.panels:
        cameras = tuple(cameras_of(plan.cameras, panel))
        size = wall.size(panel)
        found.append(
            Panel(
                wall.name, panel, size, cameras, _offers(plan, cameras, size, streams_from(wall.source or "recorder"))
            )
        )
    return tuple(sorted(found, key=lambda p: p.order))


def shown_cameras(plan: Plan, wall: Wall) -> tuple[Camera, ...]:
    """Each camera of a wall once, in reading order."""
    panels = sorted(wall.panels, key=lambda p: (p.row, p.column))
    return tuple({c.name: c for panel in panels for c in cameras_of(plan.cameras, panel)}.values())


def streams_from(source: str) -> tuple[str, ...]:
    """What can be asked for there: recorders pass on two streams, and groups are planned for two."""
    return STREAMS if source == "camera" else STREAMS[:2]


def _offers(
    plan: Plan, cameras: tuple[Camera, ...], size: tuple[int, int], known: tuple[str, ...]
) -> tuple[Offer, ...]:
    found: dict[tuple[StreamPlan, ...], Offer] = {}
    for stream in known:
        if not any(stream in plan.streams(c) for c in cameras):
            continue
        names = tuple(stream if stream in plan.streams(c) else "main" for c in cameras)
        plans = tuple(plan.streams(c)[name] for c, name in zip(cameras, names, strict=True))
        sharp = [min(1.0, 1 / scale(p.resolution, size)) for p in plans]
        found.setdefault(plans, Offer(stream, names, plans, sum(sharp) / len(sharp)))
    return tuple(sorted(found.values(), key=lambda o: (o.pixels_per_s, o.plans[0].most_bps)))
