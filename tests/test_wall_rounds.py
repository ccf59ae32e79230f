"""Rounds of a wall against stepping through them second by second; its trial judged by hand; its pictures where they belong."""

from __future__ import annotations

import asyncio
import io
import struct
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from dataclasses import replace
from math import lcm
from pathlib import Path
from tempfile import TemporaryDirectory

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from PIL import Image

from conftest import CAMERAS, SITE, TYPES, make_site
from stream_server import StreamServer
from test_streams import moving
from test_walls import FOUR, GROUPS, MAIN, ONE, SUB, site, wall
from zentrale.field import rtsp_player
from zentrale.field.live_decoding import LiveDecoder
from zentrale.field.visit import Visit
from zentrale.findings import Finding
from zentrale.jobs.walls.trial import PanelTrial, Turn, _judge, _not_judged
from zentrale.output.wall_figure import wall_figure
from zentrale.planning.flows import at_once, viewer_flows
from zentrale.planning.walls.moments import MOST_MOMENTS, moments_of
from zentrale.planning.walls.wall_plan import WallPlan, plan_walls
from zentrale.protocols.rtsp_client import Transport
from zentrale.protocols.sdp import Media
from zentrale.protocols.stream_address import StreamAddress
from zentrale.protocols.streams.meter import StreamMeasurement
from zentrale.site.folder import SiteFolder
from zentrale.site.model import Camera, Plan, StreamPlan
from zentrale.site.reading import read_plan

SIZES = [(320, 180), (640, 360), (1280, 720), (1920, 1080)]
STREAM = st.tuples(st.sampled_from(SIZES), st.sampled_from([5, 10, 25]))
ROUND = st.tuples(st.lists(st.integers(0, 3), min_size=1, max_size=4, unique=True), st.sampled_from([2, 3, 4, 5, 7.5]))


def rate(plan: StreamPlan) -> float:
    return plan.resolution[0] * plan.resolution[1] * plan.fps


def planned(folder: Path) -> tuple[Plan, WallPlan]:
    plan = read_plan(SiteFolder(folder))
    return plan, plan_walls(plan).walls[0]


@settings(max_examples=20)
@given(st.lists(st.tuples(STREAM, STREAM), min_size=4, max_size=4), st.lists(ROUND, min_size=4, max_size=4))
def test_rounds_are_as_a_clock_would_show_them(
    groups: list[tuple[tuple[tuple[int, int], int], ...]], rounds: list[tuple[list[int], float]]
) -> None:
    """All begin at once; what runs is added up every half second until all begin anew, panel by panel and camera by camera."""
    text = GROUPS[GROUPS.index("[[viewers]]") :]
    for n, (main, sub) in enumerate(groups):
        text += f'[[groups]]\nname = "g{n}"\n'
        for name, (size, fps) in (("main", main), ("sub", sub)):
            text += f'{name} = {{ resolution = "{size[0]}x{size[1]}", fps = {fps} }}\n'
    text += '[[walls]]\nname = "w"\nviewer = "desk"\npixels = [1280, 720]\nrows = 2\ncolumns = 2\n'
    for n, (cameras, seconds) in enumerate(rounds):
        text += f'[[walls.panels]]\npanel = "{n}"\nrow = {1 + n // 2}\ncolumn = {1 + n % 2}\nseconds = {seconds}\n'
        text += f"cameras = {[f'c{c}' for c in cameras]}\n".replace("'", '"')
    rows = "".join(f"c{n},x,larch-2,g{n},cameras,cabinet,,20,127.0.71.{10 + n},,recorder,{n + 1}\n" for n in range(4))
    start = SITE.index("[[groups]]"), SITE.index("[[switches]]")
    with TemporaryDirectory() as name:
        site_text = SITE[: start[0]] + SITE[start[1] :] + text
        plan, made = planned(make_site(Path(name), site_text, CAMERAS.splitlines()[0] + "\n" + rows, TYPES))
    shown = {int(v.name): [rate(p) for p in v.offer.plans] for v in made.panels}
    mains = {
        n: [rate(plan.streams(plan.camera(f"c{c}"))["main"]) for c in cameras] for n, (cameras, _) in enumerate(rounds)
    }
    period = lcm(*(int(2 * seconds) * len(cameras) for cameras, seconds in rounds))
    worst = enlarged = 0.0
    for half in range(period):
        now = {n: int(half / (2 * seconds)) % len(cameras) for n, (cameras, seconds) in enumerate(rounds)}
        total = sum(shown[n][at] for n, at in now.items())
        worst = max(worst, total)
        enlarged = max(enlarged, *(total - shown[n][at] + mains[n][at] for n, at in now.items()))
    pairs = {n: [a + b for a, b in zip(r, [*r[1:], r[0]], strict=True)] if len(r) > 1 else r for n, r in shown.items()}
    assert made.all_moments
    assert made.states.worst.pixels_per_s == pytest.approx(worst)
    assert made.states.enlarged.pixels_per_s == pytest.approx(enlarged)
    assert made.states.together.pixels_per_s == pytest.approx(sum(max(r) for r in shown.values()))
    assert made.states.changing.pixels_per_s == pytest.approx(sum(max(p) for p in pairs.values()))
    assert made.states.changing.streams == 4 + sum(len(r) > 1 for r in shown.values())
    # On the viewer's link one of each round runs.
    assert len(at_once(viewer_flows(plan))) == 4 and len(viewer_flows(plan)) == sum(len(r) for r in shown.values())


def test_rounds_that_hardly_ever_agree_meet_at_their_heaviest(tmp_path: Path) -> None:
    """Periods of 2 x 599.9 and 2 x 601.7 s begin anew together after years: sooner or later x1 and x2 are there at once."""
    panels = [(1, 1, 1, 1, ["a1", "x1"], 599.9, 5), (1, 2, 1, 1, ["x2", "a2"], 601.7, 5), *FOUR[2:]]
    _, made = planned(site(tmp_path, wall("w", "[1280, 720]", 2, 2, panels)))
    moments = moments_of([v.panel for v in made.panels])
    assert len(moments.at_s) == 1 < MOST_MOMENTS and not moments.whole
    assert not made.all_moments and made.states.worst.pixels_per_s == 2 * ONE + 2 * SUB
    assert made.states.enlarged.pixels_per_s == 2 * ONE + SUB + MAIN
    assert made.states.worst.when.startswith("sooner or later")


def trial(tmp_path: Path, changed: Callable[[Turn], Turn]) -> tuple[list[Finding], list[str]]:
    """What is found, and what is said to be not judged, of the first panel of four, whose others play well, over UDP: each first
    picture after half a second.
    """
    plan, made = planned(site(tmp_path, wall("w", "[1280, 720]", 2, 2, FOUR)))
    well = StreamMeasurement(
        transport="udp", codec="H264", packets_received=900, packets_expected=900, measured_s=10.0, first_picture_s=0.5,
        width_px=640, height_px=360,
    )  # fmt: skip
    turns = [Turn(v.panel.cameras[0].name, v.offer.names[0], 0.0, "rtsp://127.0.71.10/a", well) for v in made.panels]
    turns[0] = changed(turns[0])
    panels = [PanelTrial(v, (t,)) for v, t in zip(made.panels, turns, strict=True)]
    return _judge(plan, made, panels, ()), list(_not_judged(plan, made, panels))


def of(turn: Turn, **more: object) -> Turn:
    assert turn.measured is not None
    return replace(turn, measured=replace(turn.measured, **more))  # type: ignore[arg-type]


@pytest.mark.parametrize(
    ("changed", "said"),
    [
        (lambda t: t, []),
        # Two key pictures of 4 s each, and 2 s to answer: up to 10 s is well.
        (lambda t: of(t, first_picture_s=9.9), []),
        (lambda t: of(t, first_picture_s=10.1), [("WAL-8", "after 10.1 s")]),
        (lambda t: of(t, first_picture_s=None), [("WAL-8", "no whole picture in 10.0 s")]),
        (lambda t: of(t, first_picture_s=None, measured_s=3.0), []),  # it played for less than that may take
        (lambda t: of(t, first_picture_s=30.0, own_lateness_s=3.0), [("STR-17", "late")]),  # this machine was late
        (lambda t: replace(t, measured=None, error="it went away"), [("WAL-8", "it went away")]),
        (lambda t: replace(t, measured=None, error="refused", told=True), []),  # a finding of the camera's own
        (lambda t: of(t, packets_lost=9), [("WAL-9", "9 of 900 packets lost")]),
        (lambda t: of(t, packets_lost=9, packets_dropped_here=9), [("STR-17", "this machine")]),
        (
            lambda t: of(t, packets_lost=9, packets_dropped_here=4),
            [("STR-17", ""), ("WAL-9", "4 of them by this machine")],
        ),
        (lambda t: of(t, packets_lost=9, transport="tcp"), [("WAL-9", "9 of 900 packets left out by the camera")]),
    ],
)
def test_a_trial_accuses_whoever_it_was(
    tmp_path: Path, changed: Callable[[Turn], Turn], said: list[tuple[str, str]]
) -> None:
    found, _ = trial(tmp_path, changed)
    assert [f.code for f in found] == [code for code, _ in said]
    for one, (code, words) in zip(found, said, strict=True):
        if code != "STR-17":
            assert words in one.measured and one.subject == "wall w, panel 1-1", one
        assert ("no cable" in one.advice or "bit rate" in one.advice) == ("left out" in one.measured)


def test_what_a_trial_could_not_see_is_not_well(tmp_path: Path) -> None:
    for changed, words in (
        (lambda t: of(t, first_picture_s=None, measured_s=3.0), "in time in 1-1: it was played for less"),
        (lambda t: of(t, own_lateness_s=3.0), "how soon a picture is there in 1-1: this machine came late"),
    ):
        (unknown,) = trial(tmp_path, changed)[1]
        assert words in unknown
    assert trial(tmp_path, lambda t: t)[1] == []


def test_another_server_s_pictures_are_decoded_while_they_play() -> None:
    """Fifty pictures in two seconds: all that came behind the first key picture, at their size; nothing of what is no packet."""

    async def run() -> tuple[StreamMeasurement, LiveDecoder]:
        with ThreadPoolExecutor(2) as pool:
            sink = LiveDecoder(pool)
            async with StreamServer(moving(count=50)).running() as url:
                visit = Visit(transport=Transport.TCP, answer_s=1.0, heard=sink)
                measured = await rtsp_player.measure(StreamAddress.parse(url), visit, 1.8)
            sink.packets([(b"\x00" * 20, 0.0), (b"", 0.0)])
            await asyncio.to_thread(sink.end)
            return measured, sink

    measured, sink = asyncio.run(run())
    frames = sink.result.frames
    assert sink.result.codec == "H264" and measured.frames - 3 <= frames <= measured.frames + 2 and measured.frames > 15
    assert sink.result.pixels == frames * 320 * 192 and sink.result.cpu_s > 0
    assert sink.result.waiting == sink.result.damaged == 0


def test_a_picture_larger_than_any_camera_s_is_not_given_to_a_decoder() -> None:
    """A parameter set of 16,384 x 16,384, written down by hand: profile 66, level 5.2, 1024 x 1024 macroblocks (ITU-T H.264
    clause 7.3.2.1.1); then a key picture. A decoder would make room for gigabytes."""

    def ue(value: int) -> str:
        return bin(value + 1)[2:].zfill(2 * len(bin(value + 1)[2:]) - 1)

    fields = [ue(0), ue(0), ue(2), ue(1), "0", ue(1023), ue(1023), "1", "1", "0", "0", "1"]
    bits = "".join(fields)
    sps = b"\x67\x42\x00\x34" + int(bits.ljust(-8 * (-len(bits) // 8), "0"), 2).to_bytes(-(-len(bits) // 8), "big")
    with ThreadPoolExecutor(1) as pool:
        sink = LiveDecoder(pool)
        sink.begin(Media("video", payload_type=96, codec="H264", clock_hz=90_000))
        nals = (sps, b"\x68\xce\x3c\x80", b"\x65\x88" + bytes(400))
        packets = [
            (struct.pack("!BBHII", 0x80, 96 | (128 if n % 3 == 2 else 0), n, n // 3 * 3600, 7) + nals[n % 3], n / 75)
            for n in range(9)
        ]
        sink.packets(packets)
        done = sink.end()
    assert done.frames == done.pixels == done.cpu_s == 0 and done.damaged >= 2


def test_each_picture_is_drawn_where_its_panel_is(tmp_path: Path) -> None:
    """A wall of 3 x 2 with a panel of two by two: red there, green and blue beside it, at their places and no larger."""
    panels = [(1, 1, 2, 2, ["a1"], None, 1), (1, 3, 1, 1, ["a2"], None, 5), (2, 3, 1, 1, ["a3"], None, 5)]
    plan, made = planned(site(tmp_path, wall("w", "[1920, 1080]", 2, 3, panels)))
    colours = {"a1": (200, 0, 0), "a2": (0, 160, 0)}

    def picture(camera: Camera) -> bytes | None:
        data = io.BytesIO()
        if camera.name not in colours:
            return None
        Image.new("RGB", (1280, 1080), colours[camera.name]).save(data, "JPEG", quality=95)
        return data.getvalue()

    drawn = Image.open(io.BytesIO(wall_figure(plan, made, picture))).convert("RGB")
    scale = (drawn.width - 40) / 1920  # 20 px at each edge; below the head

    def at(x: float, y: float) -> tuple[int, ...]:
        found = drawn.getpixel((round(20 + x * scale), round(drawn.height - 20 - (1080 - y) * scale)))
        assert isinstance(found, tuple)
        return found

    def near(one: tuple[int, ...], other: tuple[int, int, int]) -> bool:
        return all(abs(a - b) < 12 for a, b in zip(one, other, strict=True))

    assert near(at(640, 540), colours["a1"]) and near(at(1200, 60), colours["a1"]) and near(at(60, 900), colours["a1"])
    assert near(at(1600, 270), colours["a2"]) and not near(at(1600, 700), colours["a2"])
    assert not near(at(1320, 270), colours["a1"])
