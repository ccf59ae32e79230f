"""The site's outline, from GeoJSON (RFC 7946): the ground, buildings and walls that block the view, areas to be watched.

Each feature has a property `kind`: site, building, wall, or area (with `name`, and `wants` as in the schedule).
Longitude and latitude become metres east and north of the site's origin.
"""

from __future__ import annotations

import json
import math
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import shapely
from shapely.geometry import shape
from shapely.geometry.base import BaseGeometry

from zentrale.errors import PlanError

MAX_FILE_BYTES = 16 * 1024 * 1024
_EARTH_M = 6_371_008.8  # mean radius (IUGG); over a site of some kilometres the error is centimetres
_KINDS = {"site": "Polygon", "building": "Polygon", "area": "Polygon", "wall": "LineString"}
_LEVELS = ("monitor", "detect", "observe", "recognise", "identify", "inspect")


@dataclass(frozen=True)
class WatchedArea:
    """An area, in metres, and what must be resolved everywhere in it."""

    name: str
    wants: str
    shape: BaseGeometry


@dataclass(frozen=True)
class Outline:
    """All shapes in metres east and north of the origin. `ground` None: the file has no feature of kind site."""

    ground: BaseGeometry | None = None
    buildings: tuple[BaseGeometry, ...] = ()
    walls: tuple[BaseGeometry, ...] = ()
    areas: tuple[WatchedArea, ...] = field(default_factory=tuple)

    def obstacles(self) -> BaseGeometry:
        """Everything that blocks the view, as lines."""
        return shapely.union_all([*(building.boundary for building in self.buildings), *self.walls])


def read_outline(path: Path, origin: tuple[float, float] | None) -> Outline:
    """The outline in the file, or an empty one where there is no file. Raises PlanError with every problem found."""
    try:
        if path.stat().st_size > MAX_FILE_BYTES:
            raise PlanError(
                [f"{path.name}: larger than {MAX_FILE_BYTES // 1024 // 1024} MB; expected a site's outline"]
            )
        text = path.read_text(encoding="utf-8-sig")
    except FileNotFoundError:
        return Outline()
    except UnicodeDecodeError as error:
        raise PlanError([f"{path.name}: not UTF-8 at byte {error.start}; save it as UTF-8 text"]) from None
    except OSError as error:
        raise PlanError([f"{path.name}: cannot be read: {error.strerror}"]) from None
    try:
        document = json.loads(text)
    except (json.JSONDecodeError, RecursionError) as error:
        raise PlanError([f"{path.name}: not valid JSON: {error}; expected GeoJSON (RFC 7946)"]) from None
    if origin is None:
        raise PlanError(
            ["site.toml: field site.origin is missing; expected [longitude, latitude], from which x_m and y_m count"]
        )
    features = document.get("features") if isinstance(document, dict) else None
    if not isinstance(features, list):
        raise PlanError([f'{path.name}: found no list of features; expected a GeoJSON "FeatureCollection"'])
    return _outline(path.name, features, origin)


def _outline(name: str, features: list[Any], origin: tuple[float, float]) -> Outline:
    problems: list[str] = []
    shapes: dict[str, list[BaseGeometry]] = {kind: [] for kind in _KINDS}
    areas = []
    for number, feature in enumerate(features, start=1):
        where = f"{name} feature {number}"
        properties = feature.get("properties") if isinstance(feature, dict) else None
        properties = properties if isinstance(properties, dict) else {}
        kind = properties.get("kind")
        if not isinstance(kind, str) or kind not in _KINDS:
            problems.append(f"{where}: field kind: found {kind!r}; expected one of: {', '.join(_KINDS)}")
            continue
        drawn = _shape(feature.get("geometry"), origin)
        if drawn is None or _KINDS[kind] not in drawn.geom_type or drawn.is_empty or not drawn.is_valid:
            why = "" if drawn is None or drawn.is_valid else f" ({shapely.is_valid_reason(drawn)})"
            problems.append(f"{where}: field geometry: expected a {_KINDS[kind]} in longitude and latitude{why}")
            continue
        wants = properties.get("wants", "detect")
        if kind == "area" and wants not in _LEVELS:
            problems.append(f"{where}: field wants: found {wants!r}; expected one of: {', '.join(_LEVELS)}")
        shapes[kind].append(drawn)
        if kind == "area":
            areas.append(WatchedArea(str(properties.get("name") or f"area {number}"), wants, drawn))
    if problems:
        raise PlanError(problems)
    ground = shapely.union_all(shapes["site"]) if shapes["site"] else None
    return Outline(ground, tuple(shapes["building"]), tuple(shapes["wall"]), tuple(areas))


def _shape(geometry: Any, origin: tuple[float, float]) -> BaseGeometry | None:
    """The geometry in metres; None for what is no geometry or lies off the globe."""
    try:
        degrees = shape(geometry)
        coordinates = shapely.get_coordinates(degrees)
    except (shapely.errors.ShapelyError, AttributeError, TypeError, ValueError, KeyError, IndexError):
        return None
    if not ((abs(coordinates[:, 0]) <= 180) & (abs(coordinates[:, 1]) <= 90)).all():
        return None
    per_degree = math.pi / 180 * _EARTH_M
    scale = (per_degree * math.cos(math.radians(origin[1])), per_degree)
    return shapely.transform(degrees, lambda points: (points - origin) * scale)
