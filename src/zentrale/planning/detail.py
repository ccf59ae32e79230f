"""Level of detail: pixels per metre where it matters, and what the cameras see of the site.

Thresholds are those of IEC 62676-4 (Video surveillance systems for use in security applications, application
guidelines): the target's resolution in pixels per metre for each operational requirement.
"""

from __future__ import annotations

import math
from collections.abc import Iterator
from dataclasses import dataclass
from functools import lru_cache

import numpy as np
import shapely
from numpy.typing import NDArray
from shapely.geometry.base import BaseGeometry

from zentrale.findings import Finding, finding
from zentrale.site.model import Camera, CameraType, Plan
from zentrale.site.outline import Outline

# Pixels per metre, IEC 62676-4:2014 clause 6.7 and annex C.
LEVELS = {"monitor": 12.5, "detect": 25.0, "observe": 62.5, "recognise": 125.0, "identify": 250.0, "inspect": 1000.0}
TARGET_HEIGHT_M = 1.5  # a face, a plate: what is looked at stands about so high
_GRID_POINTS = 40_000
_OWN_WALL_M = 0.3  # a camera hangs on a wall that does not block its own view
_SOURCE = "IEC 62676-4"

Points = NDArray[np.float64]


@dataclass(frozen=True)
class View:
    """A camera's view. Angles in degrees; `heading_deg` clockwise from north, `tilt_deg` down from level."""

    camera: str
    x_m: float
    y_m: float
    height_m: float
    heading_deg: float
    tilt_deg: float
    horizontal_deg: float
    width_px: int
    height_px: int
    fisheye: bool

    def pixels_per_m(self, x_m: Points, y_m: Points) -> Points:
        """Horizontal pixels per metre on a target at these points, TARGET_HEIGHT_M above the ground; 0 where the
        point is outside the picture. The two may be a row and a column: then it is that of every crossing.

        A flat picture has W pixels over 2 f tan(a / 2) metres at distance f along the axis (pinhole camera); a fisheye
        has its pixels evenly over the angle.
        """
        heading, tilt = math.radians(self.heading_deg), math.radians(self.tilt_deg)
        east, north = x_m - self.x_m, y_m - self.y_m
        ahead = east * math.sin(heading) + north * math.cos(heading)
        right = east * math.cos(heading) - north * math.sin(heading)
        below = self.height_m - TARGET_HEIGHT_M
        along = ahead * math.cos(tilt) + below * math.sin(tilt)
        down = below * math.cos(tilt) - ahead * math.sin(tilt)
        pixels = np.zeros(np.broadcast_shapes(x_m.shape, y_m.shape))
        if self.fisheye:
            off_axis = np.arctan2(np.hypot(right, down), along)
            distance = np.maximum(np.sqrt(along**2 + right**2 + down**2), 1e-6)
            per_radian = min(self.width_px, self.height_px) / math.radians(self.horizontal_deg)
            np.divide(per_radian, distance, out=pixels, where=off_axis <= math.radians(self.horizontal_deg) / 2)
        else:
            half = math.tan(math.radians(self.horizontal_deg) / 2)
            inside = (along > 0) & (abs(right) <= along * half)
            inside &= abs(down) <= along * half * self.height_px / self.width_px
            np.divide(self.width_px / (2 * half), along, out=pixels, where=inside)
        return pixels

    def farthest_m(self, level: str) -> float:
        """Beyond this distance over the ground nothing reaches that level, in any direction."""
        half = math.radians(self.horizontal_deg) / 2
        if self.fisheye:
            return min(self.width_px, self.height_px) / (2 * half) / LEVELS[level]
        # At the corner of the picture, farthest from its axis.
        diagonal = math.hypot(1, math.tan(half), math.tan(half) * self.height_px / self.width_px)
        return self.width_px / (2 * math.tan(half)) / LEVELS[level] * diagonal

    def bounds(self, level: str) -> tuple[float, float, float, float]:
        """A box from west to east and south to north outside of which nothing reaches that level."""
        far = self.farthest_m(level)
        if self.fisheye:
            return self.x_m - far, self.x_m + far, self.y_m - far, self.y_m + far
        heading, tilt = math.radians(self.heading_deg), math.radians(self.tilt_deg)
        half = math.tan(math.radians(self.horizontal_deg) / 2)
        corners = []
        for ahead in (-far, far):  # the sides of the picture on the ground are straight lines
            along = ahead * math.cos(tilt) + (self.height_m - TARGET_HEIGHT_M) * math.sin(tilt)
            if along <= 0 and math.cos(tilt) > 1e-9:  # behind the picture: from where it begins
                ahead, along = (TARGET_HEIGHT_M - self.height_m) * math.tan(tilt), 0.0
            corners += [(ahead, side * along * half) for side in (-1, 1)]
        xs = [self.x_m + a * math.sin(heading) + r * math.cos(heading) for a, r in corners]
        ys = [self.y_m + a * math.cos(heading) - r * math.sin(heading) for a, r in corners]
        x, y = self.x_m, self.y_m
        return max(min(xs), x - far), min(max(xs), x + far), max(min(ys), y - far), min(max(ys), y + far)

    def reach_m(self, level: str) -> float:
        """How far along its heading a target is still resolved to `level`; 0 where nowhere."""
        return _reach_m(self.optics(), level)

    def optics(self) -> View:
        """The same at the origin, looking north: how far it sees does not depend on where it hangs."""
        return View(
            "",
            0.0,
            0.0,
            self.height_m,
            0.0,
            self.tilt_deg,
            self.horizontal_deg,
            self.width_px,
            self.height_px,
            self.fisheye,
        )


@lru_cache(maxsize=4096)
def _reach_m(optics: View, level: str) -> float:
    distances = np.arange(0.25, min(2000.0, optics.farthest_m(level) + 0.25), 0.25)
    good = distances[optics.pixels_per_m(np.zeros_like(distances), distances) >= LEVELS[level]]
    return float(good.max()) if len(good) else 0.0


@lru_cache(maxsize=4096)
def _at_m(optics: View, distance_m: float) -> float:
    return float(optics.pixels_per_m(np.zeros(1), np.array([distance_m]))[0])


@dataclass(frozen=True)
class CameraDetail:
    """One camera at its target. `level` is the best that is reached there, empty for none; `reach_m` how far what it
    wants is reached, or to what stands in the way. Without a target only the reach is known. `hidden_m`: a building or wall
    that hides the target stands so far away; then nothing is resolved there.
    """

    camera: str
    view: View
    target_m: float | None
    pixels_per_m: float | None
    level: str
    wants: str
    reach_m: float
    hidden_m: float | None = None

    @property
    def enough(self) -> bool:
        """Whether the target is resolved as wanted, as far as both are known."""
        return not self.wants or self.pixels_per_m is None or self.pixels_per_m >= LEVELS[self.wants]


@dataclass(frozen=True)
class AreaCover:
    """How much of an area is resolved as wanted."""

    area: str
    wants: str
    size_m2: float
    seen_m2: float

    @property
    def unseen_m2(self) -> float:
        return self.size_m2 - self.seen_m2


@dataclass(frozen=True)
class Ground:
    """The best resolution at points of the ground: `pixels_per_m` of shape (rows, columns), NaN off the site."""

    x_m: Points
    y_m: Points
    pixels_per_m: Points


@dataclass(frozen=True)
class DetailPlan:
    """`without_lens` names cameras of which position, direction or lens is not given."""

    cameras: tuple[CameraDetail, ...]
    without_lens: tuple[str, ...]
    areas: tuple[AreaCover, ...]
    ground: Ground | None
    outline: Outline
    findings: tuple[Finding, ...]


def horizontal_view_deg(sensor_width_mm: float, focal_mm: float) -> float:
    """Angle of view of a lens: 2 atan(w / 2 f)."""
    return math.degrees(2 * math.atan(sensor_width_mm / (2 * focal_mm)))


def level_of(pixels_per_m: float) -> str:
    """The best level that this resolution reaches; empty below the lowest."""
    return next((name for name in reversed(LEVELS) if pixels_per_m >= LEVELS[name]), "")


def plan_detail(plan: Plan, outline: Outline) -> DetailPlan:
    """Every camera whose place, direction and lens are given, and the ground that they see together."""
    details, without, obstacles = [], [], outline.obstacles()
    for camera in plan.cameras:
        view = view_of(plan, camera)
        if view is None:
            without.append(camera.name)
        else:
            details.append(_detail(camera, view, obstacles))
    views = [d.view for d in details]
    ground = _ground(views, outline) if views else None
    areas = tuple(_cover(views, outline, area.name, area.wants, area.shape) for area in outline.areas) if views else ()
    findings = [f for d in details for f in _camera_findings(plan, d)]
    findings += [f for area in areas for f in _area_findings(area)]
    return DetailPlan(tuple(details), tuple(without), areas, ground, outline, tuple(findings))


def target_pixels_per_m(plan: Plan, camera: Camera) -> float | None:
    """What its main stream resolves at its target, where the sight is free; None without lens, place or target."""
    view = view_of(plan, camera)
    return None if view is None or camera.target_m is None else _at(view, camera.target_m)


def view_of(plan: Plan, camera: Camera) -> View | None:
    kind = plan.camera_type(camera)
    angle = kind.view_deg
    if angle is None and kind.sensor_width_mm is not None and kind.focal_mm is not None:
        angle = horizontal_view_deg(kind.sensor_width_mm, kind.focal_mm)
    place = (camera.x_m, camera.y_m, camera.height_m, camera.heading_deg, camera.tilt_deg)
    if angle is None or None in place or (angle >= 180 and kind.projection == "flat"):
        return None
    x, y, height, heading, tilt = (float(value) for value in place if value is not None)
    width_px, height_px = plan.group(camera).main.resolution
    return View(camera.name, x, y, height, heading, tilt, angle, width_px, height_px, kind.projection == "fisheye")


def _detail(camera: Camera, view: View, obstacles: BaseGeometry) -> CameraDetail:
    free_m = _free_m(view, obstacles)
    reach = min(view.reach_m(camera.wants), free_m) if camera.wants else 0.0
    if camera.target_m is None:
        return CameraDetail(camera.name, view, None, None, "", camera.wants or "", reach)
    hidden_m = free_m if free_m < camera.target_m else None
    pixels = _at(view, camera.target_m) if hidden_m is None else 0.0
    return CameraDetail(
        camera.name, view, camera.target_m, pixels, level_of(pixels), camera.wants or "", reach, hidden_m
    )


def _free_m(view: View, obstacles: BaseGeometry) -> float:
    """How far the sight is free along the heading, over the ground; infinite where nothing stands there."""
    if obstacles.is_empty:
        return math.inf
    heading, far = math.radians(view.heading_deg), 10_000.0
    east, north = math.sin(heading), math.cos(heading)
    start = (view.x_m + _OWN_WALL_M * east, view.y_m + _OWN_WALL_M * north)
    sight = shapely.linestrings([start, (view.x_m + far * east, view.y_m + far * north)])
    met = shapely.intersection(sight, obstacles)
    return math.inf if met.is_empty else float(shapely.distance(shapely.points(view.x_m, view.y_m), met))


def _at(view: View, distance_m: float) -> float:
    return _at_m(view.optics(), distance_m)


def _ground(views: list[View], outline: Outline) -> Ground:
    if outline.ground is not None:
        left, bottom, right, top = outline.ground.bounds
    else:
        xs, ys = [v.x_m for v in views], [v.y_m for v in views]
        left, bottom, right, top = min(xs) - 30, min(ys) - 30, max(xs) + 30, max(ys) + 30
    step = max(0.5, math.sqrt((right - left) * (top - bottom) / _GRID_POINTS))
    x_m, y_m = np.arange(left + step / 2, right, step), np.arange(bottom + step / 2, top, step)
    best = _best(views, outline, x_m, y_m)
    x, y = np.meshgrid(x_m, y_m)
    if outline.ground is not None:
        best = np.where(shapely.contains_xy(outline.ground, x, y), best, np.nan)
    for building in outline.buildings:
        best = np.where(shapely.contains_xy(building, x, y), np.nan, best)
    return Ground(x, y, best)


def _best(views: list[View], outline: Outline, x_m: Points, y_m: Points) -> Points:
    """The best of all cameras at each point of a grid, with what buildings and walls hide left out.

    x_m, y_m: where its columns and rows are, rising. Returns pixels per metre of shape (rows, columns).
    """
    obstacles = outline.obstacles()
    shapely.prepare(obstacles)
    best = np.zeros((len(y_m), len(x_m)))
    for view in views:
        west, east, south, north = view.bounds("monitor")
        left, right = np.searchsorted(x_m, (west - 1e-9, east + 1e-9))
        first, last = np.searchsorted(y_m, (south - 1e-9, north + 1e-9))
        near_x, near_y, near = x_m[left:right], y_m[first:last], best[first:last, left:right]
        pixels = view.pixels_per_m(near_x, near_y[:, None])
        pixels[pixels < LEVELS["monitor"]] = 0.0
        if not obstacles.is_empty:
            rows, columns = np.nonzero(pixels > near)
            hidden = _hidden(view, obstacles, near_x[columns], near_y[rows])
            pixels[rows[hidden], columns[hidden]] = 0.0
        np.maximum(near, pixels, out=near)
    return best


def _hidden(view: View, obstacles: BaseGeometry, x_m: Points, y_m: Points) -> NDArray[np.bool_]:
    distance = np.maximum(np.hypot(x_m - view.x_m, y_m - view.y_m), 1e-9)
    share = np.minimum(_OWN_WALL_M / distance, 1.0)
    starts = np.stack([view.x_m + (x_m - view.x_m) * share, view.y_m + (y_m - view.y_m) * share], axis=1)
    lines = shapely.linestrings(np.stack([starts, np.stack([x_m, y_m], axis=1)], axis=1))
    return np.asarray(shapely.intersects(obstacles, lines))


def _cover(views: list[View], outline: Outline, name: str, wants: str, shape: BaseGeometry) -> AreaCover:
    left, bottom, right, top = shape.bounds
    step = min(1.0, max(0.25, math.sqrt(shape.area / 4000)))
    x_m, y_m = np.arange(left + step / 2, right, step), np.arange(bottom + step / 2, top, step)
    x, y = np.meshgrid(x_m, y_m)
    inside = shapely.contains_xy(shape, x, y)
    for building in outline.buildings:
        inside &= ~shapely.contains_xy(building, x, y)
    good = int(((_best(views, outline, x_m, y_m) >= LEVELS[wants]) & inside).sum())
    return AreaCover(name, wants, int(inside.sum()) * step * step, good * step * step)


def _camera_findings(plan: Plan, detail: CameraDetail) -> Iterator[Finding]:
    if detail.pixels_per_m is None or not detail.wants or detail.target_m is None:
        return
    subject, needed = f"camera {detail.camera}", LEVELS[detail.wants]
    source = f"{_SOURCE}; {plan.camera(detail.camera).where}"
    place = f"at {detail.target_m:g} m"
    if detail.hidden_m is not None:
        measured = f"a building or wall {detail.hidden_m:.1f} m away hides the target {place}"
        yield finding(
            "DET-4", subject, measured, "a free line of sight", f"outline.geojson; {plan.camera(detail.camera).where}"
        )
        return
    if detail.pixels_per_m == 0:
        limit = f"the target in the picture, {needed:g} px/m to {detail.wants}"
        yield finding("DET-2", subject, f"the target {place} is outside the picture", limit, source)
    elif detail.pixels_per_m < needed:
        view = detail.view
        limit = f"{needed:g} px/m to {detail.wants}"
        narrower = math.degrees(
            2 * math.atan(math.tan(math.radians(view.horizontal_deg) / 2) * detail.pixels_per_m / needed)
        )
        lens = _lens(plan.camera_type(plan.camera(detail.camera)), narrower)
        advice = f"take a lens of at most {lens} (it has {view.horizontal_deg:.0f}°), more pixels, or move it nearer"
        if detail.reach_m:
            advice += f": it reaches {detail.reach_m:.1f} m"
        yield finding("DET-1", subject, f"{detail.pixels_per_m:.0f} px/m {place}", limit, source, advice)


def _lens(kind: CameraType, angle_deg: float) -> str:
    """An angle that does, so rounded down; with the focal length for it, rounded up, where the sensor is known."""
    degrees = math.floor(angle_deg) or math.floor(10 * angle_deg) / 10
    if kind.sensor_width_mm is None or kind.projection != "flat":
        return f"{degrees:g}°"
    focal = kind.sensor_width_mm / (2 * math.tan(math.radians(angle_deg) / 2))
    return f"{degrees:g}°, {math.ceil(10 * focal - 1e-9) / 10:g} mm or more of focal length"


def _area_findings(area: AreaCover) -> Iterator[Finding]:
    if area.size_m2 and area.unseen_m2 / area.size_m2 > 0.01:
        share = 100 * area.unseen_m2 / area.size_m2
        measured = f"{area.unseen_m2:.0f} m² of {area.size_m2:.0f} m² ({share:.0f} %) not seen so well"
        limit = f"{LEVELS[area.wants]:g} px/m to {area.wants} everywhere"
        yield finding("DET-3", f"area {area.area}", measured, limit, f"{_SOURCE}; outline.geojson")
