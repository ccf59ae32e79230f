"""Pixels per metre by hand, what hides behind a building, and outlines as people draw them."""

from __future__ import annotations

import json
import math
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from conftest import CAMERAS, SITE, TYPES, make_site, zentrale
from zentrale.errors import PlanError
from zentrale.planning.detail import LEVELS, DetailPlan, View, horizontal_view_deg, level_of, plan_detail
from zentrale.site.folder import SiteFolder
from zentrale.site.outline import read_outline
from zentrale.site.reading import read_plan

LEVEL_VIEW = View("c", 0, 0, 1.5, 0, 0, 90, 1920, 1080, fisheye=False)
ORIGIN = (2.5, 53.0)
METRE = 180 / math.pi / 6_371_008.8  # degrees of latitude


def pixels(view: View, x: float, y: float) -> float:
    return float(view.pixels_per_m(np.array([x]), np.array([y]))[0])


def test_pixels_per_metre_by_hand() -> None:
    """90 degrees: 10 m away the picture is 20 m wide, 1920 / 20 = 96 px/m."""
    assert pixels(LEVEL_VIEW, 0, 10) == pytest.approx(96)
    assert pixels(LEVEL_VIEW, 9.9, 10) == pytest.approx(96), "the same in the whole plane of the target"
    assert pixels(LEVEL_VIEW, 10.1, 10) == pixels(LEVEL_VIEW, 0, -10) == 0
    # 4 m high, tilted down 30 degrees, target 10 m off: 10 cos 30 + 2.5 sin 30 = 9.91 m along the axis.
    high = View("c", 0, 0, 4, 90, 30, 60, 2560, 1440, fisheye=False)
    assert pixels(high, 10, 0) == pytest.approx(2560 / (2 * 9.910 * math.tan(math.radians(30))), rel=1e-3)
    assert pixels(high, 0.5, 0) == 0, "below the picture"
    assert horizontal_view_deg(5.4, 2.7) == pytest.approx(90)
    # A fisheye looking straight down from 3.5 m: 1440 px over 180 degrees, the point below 2 m away.
    down = View("c", 0, 0, 3.5, 0, 90, 180, 1920, 1440, fisheye=True)
    assert pixels(down, 0, 0) == pytest.approx(1440 / math.pi / 2)
    assert pixels(down, 3, 4) == pytest.approx(1440 / math.pi / math.hypot(5, 2))


def test_levels_are_those_of_the_standard() -> None:
    assert [level_of(p) for p in (12, 12.5, 25, 62.5, 125, 250, 999, 1000)] == [
        "", "monitor", "detect", "observe", "recognise", "identify", "identify", "inspect",
    ]  # fmt: skip
    assert pytest.approx(1920 / 2 / 62.5, abs=0.25) == LEVEL_VIEW.reach_m("observe")


@given(st.floats(-180, 180), st.floats(-50, 50), st.floats(-50, 50), st.floats(10, 120))
def test_turning_camera_and_target_together_changes_nothing(turn: float, x: float, y: float, angle: float) -> None:
    view = View("c", 3, -2, 4, 0, 15, angle, 1920, 1080, fisheye=False)
    a = math.radians(turn)
    turned = View("c", 3, -2, 4, turn, 15, angle, 1920, 1080, fisheye=False)
    rotated = (3 + x * math.cos(a) + y * math.sin(a), -2 - x * math.sin(a) + y * math.cos(a))
    before, after = pixels(view, 3 + x, -2 + y), pixels(turned, *rotated)
    assert before == pytest.approx(after, rel=1e-6) or min(before, after) == 0  # on the very edge either is right


@given(
    st.floats(-100, 100),
    st.floats(-100, 100),
    st.floats(10, 170),
    st.floats(-20, 90),
    st.booleans(),
    st.floats(-180, 180),
)
def test_nothing_is_seen_beyond_the_farthest(
    x: float, y: float, angle: float, tilt: float, fisheye: bool, turn: float
) -> None:
    view = View("c", 0, 0, 4, turn, tilt, angle, 1920, 1080, fisheye)
    west, east, south, north = view.bounds("detect")
    if math.hypot(x, y) > view.farthest_m("detect") or not (west <= x <= east and south <= y <= north):
        assert pixels(view, x, y) < LEVELS["detect"]


def feature(kind: str, *corners: tuple[float, float], **more: str) -> dict[str, Any]:
    """A feature from metres around ORIGIN."""
    east = METRE / math.cos(math.radians(ORIGIN[1]))
    points = [[ORIGIN[0] + x * east, ORIGIN[1] + y * METRE] for x, y in corners]
    line = kind == "wall"
    geometry = (
        {"type": "LineString", "coordinates": points}
        if line
        else {"type": "Polygon", "coordinates": [[*points, points[0]]]}
    )
    return {"type": "Feature", "properties": {"kind": kind, **more}, "geometry": geometry}


def box(kind: str, left: float, bottom: float, right: float, top: float, **more: str) -> dict[str, Any]:
    return feature(kind, (left, bottom), (right, bottom), (right, top), (left, top), **more)


def write_outline(folder: Path, *features: Any) -> None:
    (folder / "outline.geojson").write_text(json.dumps({"type": "FeatureCollection", "features": list(features)}))


# north looks north from the origin, 90 degrees wide, and must recognise at its target.
ROWS = (
    CAMERAS.splitlines()[0]
    + ",x_m,y_m,height_m,heading_deg,tilt_deg,target_m,wants\n"
    + CAMERAS.splitlines()[1]
    + ",0,0,3,0,10,TARGET,recognise\n"
    + CAMERAS.splitlines()[2]
    + ",,,,,,,\n"
)
LENS = TYPES.replace('max_resolution = "1920x1080"', 'max_resolution = "1920x1080"\nview_deg = 90', 1)
BIG = SITE.replace('"320x180"', '"1920x1080"').replace("[site]", f"[site]\norigin = [{ORIGIN[0]}, {ORIGIN[1]}]")


def detail_of(folder: Path, target: str, *features: Any) -> DetailPlan:
    make_site(folder, BIG, ROWS.replace("TARGET", target), LENS)
    if features:
        write_outline(folder, *features)
    plan = read_plan(SiteFolder(folder))
    return plan_detail(plan, read_outline(folder / "outline.geojson", plan.site.origin))


def test_a_target_too_far_and_one_below_the_picture(tmp_path: Path) -> None:
    near = detail_of(tmp_path / "a", "6")
    assert near.cameras[0].level == "recognise" and not near.findings and near.without_lens == ("south",)
    (far,) = detail_of(tmp_path / "b", "12").findings
    assert (far.code, far.subject, far.limit) == ("DET-1", "camera north", "125 px/m to recognise")
    assert "79 px/m at 12 m" in far.measured and "reaches 7." in far.advice
    # Half the picture at 79 px/m is 960 / 79.5 m wide; at 125 px/m it may be 2 atan(1 x 79.58 / 125) = 64.96 degrees.
    assert "at most 64°" in far.advice, "65 would not do"
    (below,) = detail_of(tmp_path / "c", "0.5").findings
    assert below.code == "DET-2" and "outside the picture" in below.measured


def test_what_a_building_hides_is_not_covered(tmp_path: Path) -> None:
    ground = box("site", -30, -10, 30, 40)
    area = box("area", -5, 10, 5, 20, name="quay", wants="detect")
    open_ground = detail_of(tmp_path / "a", "6", ground, area)
    (quay,) = open_ground.areas
    assert quay.size_m2 == pytest.approx(100, rel=0.03) and quay.unseen_m2 == 0 and not open_ground.findings
    shed = box("building", -1, 6, 1, 8)
    hidden = detail_of(tmp_path / "b", "6", ground, area, shed).areas[0]
    # The shadow of a 2 m wide shed at 6 m is 3.33 m wide at 10 m and 6.67 m at 20 m: 50 m².
    assert hidden.unseen_m2 == pytest.approx(50, rel=0.1)
    walled = detail_of(tmp_path / "c", "6", ground, area, feature("wall", (-30, 5), (30, 5)))
    assert walled.areas[0].seen_m2 == 0 and [f.code for f in walled.findings] == ["DET-4", "DET-3"]
    seen = walled.ground
    assert seen is not None and np.nanmax(seen.pixels_per_m[seen.y_m > 5.5]) < LEVELS["monitor"]
    assert np.isnan(seen.pixels_per_m[(seen.x_m > 30.5) | (seen.y_m < -10.5)]).all()


def test_what_stands_before_the_target_hides_it_in_fields_text_and_figure(tmp_path: Path) -> None:
    """A shed from 4 m on before a target at 6 m; one behind it, and the wall that the camera hangs on, hide nothing."""
    own, behind = feature("wall", (-5, 0.1), (5, 0.1)), box("building", -1, 7, 1, 9)
    assert not detail_of(tmp_path / "a", "6", own, behind).findings
    hidden = detail_of(tmp_path / "b", "6", own, box("building", -1, 4, 1, 5))
    (found,) = hidden.findings
    assert (found.code, found.subject) == (
        "DET-4",
        "camera north",
    ) and "4.0 m away hides the target at 6 m" in found.measured
    (camera,) = hidden.cameras
    assert camera.hidden_m == pytest.approx(4, abs=0.02) == camera.reach_m
    assert (camera.level, camera.pixels_per_m, camera.enough) == ("", 0, False)
    document = zentrale("plan", "detail", "--json", "--figures", cwd=tmp_path / "b").json["detail"][0]
    assert (document["level"], document["enough"]) == (None, False) and document["hidden_m"] == pytest.approx(
        4, abs=0.02
    )
    assert "hidden" in zentrale("plan", "detail", cwd=tmp_path / "b").out


MISTAKES = [
    ("not json", "not valid JSON"),
    ("[1, 2]", "FeatureCollection"),
    ('{"features": [{"properties": {"kind": "shed"}}]}', "feature 1: field kind: found 'shed'"),
    ('{"features": [{"properties": {"kind": "site"}, "geometry": {"type": "Point", "coordinates": [1, 2]}}]}', "a Polygon"),
    ('{"features": [{"properties": {"kind": "site"}, "geometry": null}]}', "feature 1: field geometry"),
    ('{"features": [{"properties": {"kind": "wall"}, "geometry": {"type": "LineString", "coordinates": [[500, 1], [2, 3]]}}]}',
     "longitude and latitude"),
]  # fmt: skip


@pytest.mark.parametrize(("text", "told"), MISTAKES)
def test_a_wrong_outline_is_told_and_nothing_is_drawn(tmp_path: Path, text: str, told: str) -> None:
    make_site(tmp_path, BIG, ROWS.replace("TARGET", "6"), LENS)
    (tmp_path / "outline.geojson").write_text(text)
    shown = zentrale("plan", "detail", "--figures", cwd=tmp_path)
    assert shown.code == 2 and told in shown.err and "outline.geojson" in shown.err
    assert not (tmp_path / "output").exists()


KEYS = st.sampled_from(["type", "features", "properties", "kind", "geometry", "coordinates", "x"])
LEAVES = st.none() | st.floats() | st.text(max_size=5) | st.sampled_from(["site", "wall", "Polygon", "LineString"])
JSON = st.recursive(LEAVES, lambda i: st.lists(i, max_size=4) | st.dictionaries(KEYS, i, max_size=4), max_leaves=25)


@given(JSON)
def test_no_outline_breaks_the_reader(tmp_path_factory: pytest.TempPathFactory, document: Any) -> None:
    path = tmp_path_factory.mktemp("outline") / "outline.geojson"
    path.write_text(json.dumps({"features": document}))
    try:
        read_outline(path, ORIGIN)
    except PlanError as error:
        assert all("outline.geojson" in problem for problem in error.problems)


def test_an_outline_in_metres(tmp_path: Path) -> None:
    """Several polygons, a hole, a wall: as drawn, within centimetres; without an origin it says what is missing."""
    hole = box("site", -50, -20, 50, 30)
    hole["geometry"]["coordinates"].append(box("site", 0, 0, 10, 10)["geometry"]["coordinates"][0])
    parts = [
        box("building", 20, 5, 30, 15)["geometry"]["coordinates"],
        box("building", -30, 0, -20, 4)["geometry"]["coordinates"],
    ]
    both = {
        "type": "Feature",
        "properties": {"kind": "building"},
        "geometry": {"type": "MultiPolygon", "coordinates": parts},
    }
    write_outline(
        tmp_path, hole, both, feature("wall", (-40, -10), (-40, 20)), box("area", 1, 12, 4, 16, wants="observe")
    )
    outline = read_outline(tmp_path / "outline.geojson", ORIGIN)
    assert outline.ground is not None and outline.ground.area == pytest.approx(100 * 50 - 100, rel=1e-3)
    assert outline.buildings[0].area == pytest.approx(140, rel=1e-3) and outline.walls[0].length == pytest.approx(
        30, rel=1e-3
    )
    assert outline.ground.bounds == pytest.approx((-50, -20, 50, 30), abs=0.02)
    (area,) = outline.areas
    assert (area.name, area.wants) == ("area 4", "observe") and outline.obstacles().length == pytest.approx(
        40 + 28 + 30, rel=1e-3
    )
    with pytest.raises(PlanError) as error:
        read_outline(tmp_path / "outline.geojson", None)
    assert "site.origin is missing" in error.value.problems[0]
    write_outline(tmp_path, feature("area", (0, 0), (10, 10), (10, 0), (0, 10), wants="identify"))
    with pytest.raises(PlanError) as error:
        read_outline(tmp_path / "outline.geojson", ORIGIN)
    assert "Self-intersection" in error.value.problems[0], "a bow tie is no area"


def test_the_lens_from_sensor_and_focal_length_counts_as_the_angle_does(tmp_path: Path) -> None:
    by_angle = detail_of(tmp_path / "a", "6").cameras[0]
    make_site(
        tmp_path / "b",
        BIG,
        ROWS.replace("TARGET", "6"),
        LENS.replace("view_deg = 90", "sensor_width_mm = 5.4\nfocal_mm = 2.7"),
    )
    by_lens = plan_detail(read_plan(SiteFolder(tmp_path / "b")), read_outline(tmp_path / "none", None)).cameras[0]
    assert by_lens.pixels_per_m == pytest.approx(
        by_angle.pixels_per_m
    ) and by_lens.view.horizontal_deg == pytest.approx(90)
    make_site(tmp_path / "c", BIG, ROWS.replace("TARGET", "6"), LENS.replace("view_deg = 90", "view_deg = 190"))
    blind = plan_detail(read_plan(SiteFolder(tmp_path / "c")), read_outline(tmp_path / "none", None))
    assert blind.without_lens == ("north", "south"), "a flat picture has no half circle"
