"""Traffic worked out by hand: estimates, viewers, multicast, both directions, and bursts against packets sent one by one."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from numpy.typing import NDArray

from conftest import CAMERAS, SITE, TYPES, make_site, zentrale
from zentrale.planning.bursts import WINDOW_S, Source, arrivals, plan_burst
from zentrale.planning.traffic import OVERHEAD, LinkLoad, TrafficPlan, plan_traffic
from zentrale.site.folder import SiteFolder
from zentrale.site.reading import read_plan
from zentrale.site.streams import StreamPlan, estimated_bitrate_bps

FAR = """
[[switches]]
name = "far"
cabinet = "yard"
type = "switch-8"
[[links]]
a = "cabinet:10"
b = "far:10"
rate_mbps = 100
"""
SCREEN = '[[viewers]]\nname = "desk"\nzone = "cameras"\nswitch = "cabinet"\nport = 7\n'
FAR_CAMERAS = CAMERAS.replace("cabinet,1", "far,1").replace("cabinet,2", "far,2")


def traffic_of(folder: Path, site: str, cameras: str = FAR_CAMERAS, types: str = TYPES) -> TrafficPlan:
    return plan_traffic(read_plan(SiteFolder(make_site(folder, site, cameras, types))))


def loads(plan: TrafficPlan) -> dict[str, LinkLoad]:
    return {load.name: load for load in plan.links}


def test_estimates_by_hand() -> None:
    """1920 x 1080 x 15 x 0.07 = 2,177,280 bit/s with little motion; twice and four times with more; H.265 half."""
    full_hd = ((1920, 1080), 15.0)
    assert [estimated_bitrate_bps("H264", *full_hd, scene) for scene in ("quiet", "normal", "busy")] == [
        2_180_000, 4_350_000, 8_710_000,
    ]  # fmt: skip
    assert estimated_bitrate_bps("H265", *full_hd, "normal") == 2_180_000
    assert estimated_bitrate_bps("JPEG", (640, 360), 5, "busy") == 640 * 360 * 5 // 10_000 * 10_000


def test_an_estimate_is_marked_with_its_source(tmp_path: Path) -> None:
    site = SITE.replace("fps = 10, bitrate_kbps = 300", "fps = 10, scene = 'quiet'")
    plan = traffic_of(tmp_path, site, CAMERAS)
    (note,) = plan.findings
    assert (note.code, note.severity.value, note.subject) == ("TRF-7", "note", "group all, main stream")
    assert "40.0 kbit/s, estimated" in note.measured and "Amerasinghe" in note.limit_source
    assert plan.recorders[0].ingest_bps == 2 * 40_000
    shown = zentrale("plan", "traffic", cwd=tmp_path)
    assert shown.code == 0 and "TRF-7" in shown.out


def test_viewers_load_the_other_direction_and_the_recorder_takes_in_what_they_watch(tmp_path: Path) -> None:
    """The desk stands on the far switch: recording comes over the link, what it watches goes back."""
    screen = SCREEN.replace('"cabinet"', '"far"') + 'stream = "sub"\n'
    plan = traffic_of(tmp_path, SITE + FAR + screen)
    link = loads(plan)["cabinet:10 - far:10"]
    assert link.load_bps == pytest.approx(2 * (300_000 + 64_000) * OVERHEAD) and link.towards == "cabinet"
    assert link.back_bps == pytest.approx(2 * 64_000 * OVERHEAD)
    leg, desk = loads(plan)["cabinet:9 recorder"], loads(plan)["far:7 desk"]
    assert (leg.towards, leg.back_bps) == ("recorder", link.back_bps) and desk.towards == "desk"
    assert plan.recorders[0].ingest_bps == 2 * 364_000 and not plan.findings


def test_multicast_crosses_a_link_once_and_unicast_once_for_each_viewer(tmp_path: Path) -> None:
    two = SCREEN + SCREEN.replace('"desk"', '"wall"').replace("port = 7", "port = 6")
    direct = two.replace("[[viewers]]", '[[viewers]]\nsource = "camera"\nstream = "main"')
    link = "cabinet:10 - far:10"
    unicast = loads(traffic_of(tmp_path / "a", SITE + FAR + direct))
    assert unicast[link].load_bps == pytest.approx(3 * 600_000 * OVERHEAD)
    group = direct.replace("[[viewers]]", "[[viewers]]\nmulticast = true")
    multicast = loads(traffic_of(tmp_path / "b", SITE + FAR + group))
    assert multicast[link].load_bps == pytest.approx(2 * 600_000 * OVERHEAD), "recording, and one copy for both"
    assert multicast["far:1"].load_bps == pytest.approx(600_000 * OVERHEAD)
    assert multicast["cabinet:7 desk"].load_bps == multicast["cabinet:6 wall"].load_bps
    one_panel = group.replace("[[viewers]]", "[[viewers]]\npanels = 1")
    assert loads(traffic_of(tmp_path / "c", SITE + FAR + one_panel))[link].load_bps == pytest.approx(900_000 * OVERHEAD)


def test_the_way_to_another_zone_goes_by_the_switch_that_routes(tmp_path: Path) -> None:
    zone = '[[zones]]\nname = "desks"\nvlan = 72\nsubnet = "127.0.72.0/27"\n'
    screen = SCREEN.replace('zone = "cameras"', 'zone = "desks"\nsource = "camera"').replace('"cabinet"', '"far"')
    site = SITE + zone + FAR + screen
    routed = site.replace('name = "cabinet"\ncabinet', 'name = "cabinet"\nroutes = true\ncabinet')
    there_and_back = loads(traffic_of(tmp_path / "a", routed))["cabinet:10 - far:10"]
    assert there_and_back.back_bps == pytest.approx(2 * 64_000 * OVERHEAD)
    assert loads(traffic_of(tmp_path / "b", site))["cabinet:10 - far:10"].back_bps == 0
    second = SITE.replace(
        "http_port", 'viewing = { zone = "desks", switch = "far", port = 8, address = "127.0.72.5" }\nhttp_port'
    )
    by_leg = SCREEN.replace('zone = "cameras"', 'zone = "desks"').replace('"cabinet"', '"far"')
    legs = loads(traffic_of(tmp_path / "c", second + zone + FAR + by_leg))
    assert legs["far:8 recorder"].towards == "far" and legs["cabinet:9 recorder"].back_bps == 0


# What is changed, and the one finding it must bring.
CASES = [
    ("types", "ports = 10", "ports = 10\nport_rate_mbps = 10", "TRF-6", "link cabinet:10 - far:10", "100 Mbit/s"),
    ("types", "ports = 10", "ports = 10\nbuffer_kb = 1", "TRF-5", "link cabinet:10 - far:10", "2 cameras start together"),
    ("types", 'max_resolution = "1920x1080"', 'max_resolution = "300x180"', "TYP-1", "camera north, main stream", "320x180"),
    ("site", "main = {", 'main = { codec = "H265",', "TYP-1", "camera north, main stream", "H265"),
    ("types", "day_w = 6.0", "day_w = 6.0\nmax_fps = 8", "TYP-1", "camera north, main stream", "10 frames/s"),
    ("types", "day_w = 6.0", "day_w = 6.0\nmax_bitrate_kbps = 250", "TYP-1", "camera north, main stream", "300 kbit/s"),
    # Two sub streams of 64 kbit/s are 128 kbit/s on the screen, by way of the recorder.
    ("types", "ingest_mbps = 40", "ingest_mbps = 40\noutput_mbps = 0.1", "TRF-8", "recorder recorder", "128 kbit/s"),
]  # fmt: skip


@pytest.mark.parametrize(("file", "right", "wrong", "code", "subject", "measured"), CASES)
def test_what_ports_and_cameras_cannot_do(
    tmp_path: Path, file: str, right: str, wrong: str, code: str, subject: str, measured: str
) -> None:
    texts = {"site": SITE + FAR + (SCREEN if code == "TRF-8" else ""), "types": TYPES, "cameras": FAR_CAMERAS}
    texts[file] = texts[file].replace(right, wrong, 1)
    found = traffic_of(tmp_path, texts["site"], texts["cameras"], texts["types"]).findings
    assert {f.code for f in found} == {code} and subject in {f.subject for f in found}
    assert measured in next(f for f in found if f.subject == subject).measured


def test_the_backlog_of_key_frames_together_by_hand() -> None:
    """Ten streams of 2 Mbit/s, 10 frames/s, keys every 20 frames, 8 times as large: 4 Mbit / 27 x 8 = 1.185 Mbit a key.

    They come at 10 x 100 Mbit/s for 11.85 ms and leave at 200: 10 x 1.185 x (1 - 200/1000) Mbit wait.
    """
    key_bits = 4e6 / 27 * 8
    burst = plan_burst([Source(2e6, 10, 20, 8, 100e6)] * 10, 200e6)
    assert burst.mean_bps == pytest.approx(20e6)
    assert burst.buffer_bytes == pytest.approx(10 * key_bits * (1 - 200 / 1000) / 8, rel=1e-6)
    # A window of 100 ms holds the keys and next to nothing else: frames come every 100 ms.
    assert burst.together_bps == pytest.approx(10 * key_bits / WINDOW_S, rel=0.02)
    assert burst.mean_bps < burst.spread_bps < burst.together_bps
    assert plan_burst([Source(2e6, 10, 20, 8, 100e6)] * 10, 19e6).buffer_bytes is None, "no buffer is enough"
    assert plan_burst([], 1e6).buffer_bytes == 0


PACKET_BITS = 1400 * 8.0
# Groups of pictures of one frame, 0.4, 1 or 2 s: together their pattern repeats every 2 s.
sources = st.builds(
    lambda bitrate, fps, group_s, ratio: Source(bitrate, fps, max(1, round(fps * group_s)), ratio, 100e6),
    st.floats(1e5, 8e6), st.sampled_from([5.0, 10.0, 20.0, 25.0]), st.sampled_from([0.0, 0.4, 1.0, 2.0]), st.floats(1, 20),
)  # fmt: skip
PATTERN_S = 2.0


def sent_packets(source: Source, phase_s: float, until_s: float) -> tuple[list[float], list[float]]:
    """Packets of one camera, one after the other: when each has left its port, and its bits."""
    between = source.bitrate_bps * source.period_s / (source.frames_per_key - 1 + source.keyframe_ratio)
    times, sizes, free, frame = [], [], 0.0, 0
    while phase_s + frame / source.fps < until_s:
        left = between * (source.keyframe_ratio if frame % source.frames_per_key == 0 else 1)
        free = max(free, phase_s + frame / source.fps)
        while left > 0:
            bits = min(PACKET_BITS, left)
            free += bits / source.port_bps
            times.append(free)
            sizes.append(bits)
            left -= bits
        frame += 1
    return times, sizes


def simulated(
    all_sources: list[Source], phases: list[float], rate: float, from_s: float, until_s: float
) -> tuple[float, NDArray[np.float64]]:
    """A first-in-first-out port fed packet by packet: the most that waits [bits], and window loads [bit/s]."""
    packets = sorted(
        p for s, at in zip(all_sources, phases, strict=True) for p in zip(*sent_packets(s, at, until_s), strict=True)
    )
    waiting = most = now = 0.0
    for at, bits in packets:
        waiting = max(0.0, waiting - (at - now) * rate) + bits
        most, now = max(most, waiting), at
    leaving = np.array([p[0] for p in packets])
    total = np.concatenate([[0.0], np.cumsum([p[1] for p in packets])])
    starts = np.arange(from_s, until_s - 2 * WINDOW_S, 0.0005)
    loads = total[np.searchsorted(leaving, starts + WINDOW_S)] - total[np.searchsorted(leaving, starts)]
    return most, loads / WINDOW_S


@settings(max_examples=25)
@given(st.lists(sources, min_size=1, max_size=5), st.floats(1.1, 6))
def test_bursts_together_agree_with_a_simulation_by_packets(several: list[Source], room: float) -> None:
    rate = room * sum(s.bitrate_bps for s in several)
    burst = plan_burst(several, rate)
    most, loads = simulated(several, [0.0] * len(several), rate, PATTERN_S, 2 * PATTERN_S + 2 * WINDOW_S)
    assert burst.buffer_bytes is not None
    assert burst.buffer_bytes * 8 == pytest.approx(most, rel=0.02, abs=len(several) * 2 * PACKET_BITS)
    assert burst.together_bps == pytest.approx(
        np.quantile(loads, 0.999), rel=0.03, abs=3 * PACKET_BITS / WINDOW_S * len(several)
    )


def test_bursts_spread_agree_with_a_simulation_of_many_starts() -> None:
    random = np.random.default_rng(5)
    several = [Source(3e6, 15, 30, 8, 100e6)] * 12 + [Source(6e6, 25, 25, 5, 100e6)] * 4
    windows = []
    for _ in range(60):
        phases = [random.uniform(0, s.period_s) for s in several]
        windows.append(simulated(several, phases, 1e9, 3.0, 6.2)[1])
    expected = float(np.quantile(np.concatenate(windows), 0.999))
    assert plan_burst(several, 1e9).spread_bps == pytest.approx(expected, rel=0.05)


@given(sources)
def test_a_camera_sends_what_it_makes_and_no_faster_than_its_port(source: Source) -> None:
    times, bits = arrivals(source, 3 * source.period_s)
    assert (np.diff(times) >= -1e-12).all() and (np.diff(bits) >= -1e-6).all()
    assert bits[-1] == pytest.approx(source.bitrate_bps * 3 * source.period_s, rel=1e-6)
    assert (np.diff(bits) <= np.diff(times) * source.port_bps * (1 + 1e-6) + 1e-3).all()


@given(
    st.lists(
        st.tuples(st.sampled_from(["cabinet", "far"]), st.sampled_from(["main", "sub"]), st.integers(1, 3)), max_size=4
    ),
    st.sampled_from(["recorder", "camera"]),
)
@settings(max_examples=25)
def test_multicast_never_costs_more_than_unicast(
    tmp_path_factory: pytest.TempPathFactory, screens: list[tuple[str, str, int]], source: str
) -> None:
    """Viewers anywhere, watching anything: no cable carries more by multicast, and every screen gets the same."""
    text = "".join(
        f'[[viewers]]\nname = "v{n}"\nzone = "cameras"\nswitch = "{switch}"\nport = {n + 3}\nstream = "{stream}"\n'
        f'panels = {panels}\nsource = "{source}"\nmulticast = MULTICAST\n'
        for n, (switch, stream, panels) in enumerate(screens)
    )
    folder = tmp_path_factory.mktemp("screens")
    one_by_one = loads(traffic_of(folder, SITE + FAR + text.replace("MULTICAST", "false")))
    shared = loads(traffic_of(folder, SITE + FAR + text.replace("MULTICAST", "true")))
    assert set(one_by_one) == set(shared)
    for name, unicast in one_by_one.items():
        multicast = shared[name]
        assert multicast.load_bps <= unicast.load_bps * (1 + 1e-9), name
        assert multicast.load_bps + multicast.back_bps <= (unicast.load_bps + unicast.back_bps) * (1 + 1e-9)
        if unicast.kind == "viewer":
            assert multicast.load_bps == pytest.approx(unicast.load_bps)
    recorded = shared["cabinet:9 recorder"]
    watched = source == "recorder" and any(stream == "sub" for _, stream, _ in screens)
    rate = 2 * (364_000 if watched else 300_000) * OVERHEAD
    assert max(recorded.load_bps, recorded.back_bps) >= rate * (1 - 1e-9)


def test_how_long_a_packet_is_on_its_way_by_hand(tmp_path: Path) -> None:
    """Two cameras of 300 kbit/s, 316,714 bit/s with overhead, ten frames a group, the key frame eight times as large: 149,042
    bits. Both come together at 200 Mbit/s, and 10 Mbit/s leave: at most 283,180 bits wait, and for all but the worst
    millisecond of a second at most 273,680: 27.4 ms. A frame of 11,728 bits is sent three times: at 100, 10 and 1000 Mbit/s.
    """
    far = FAR.replace("rate_mbps = 100", "rate_mbps = 10\nlength_m = 2000")
    policy = SITE.replace("[policy]", "[policy]\npath_delay_ms = LIMIT")
    make_site(tmp_path, policy.replace("LIMIT", "20") + far, FAR_CAMERAS)
    told = zentrale("plan", "traffic", "--json", cwd=tmp_path).json
    north = next(d for d in told["path_delays"] if d["camera"] == "north")
    assert north["queue_ms"] == pytest.approx(27.4, abs=0.2) and north["slowest"] == "link cabinet:10 - far:10"
    assert north["store_ms"] == pytest.approx(11.728 * (1 / 100 + 1 / 10 + 1 / 1000), abs=0.001)
    assert north["travel_ms"] == pytest.approx(5e-6 * (2000 + 20), abs=0.001), "5 microseconds a kilometre"
    (found,) = [f for f in told["findings"] if f["code"] == "TRF-10"]
    assert found["subject"] == "link cabinet:10 - far:10" and "29 ms to recorder" in found["measured"]
    assert "2 cameras: north, south" in found["measured"]
    make_site(tmp_path, policy.replace("LIMIT", "30") + far, FAR_CAMERAS)
    assert "TRF-10" not in {f["code"] for f in zentrale("plan", "traffic", "--json", cwd=tmp_path).json["findings"]}


def test_a_changed_copy_of_a_plan_object_forgets_what_was_worked_out_of_the_old_values() -> None:
    stream = StreamPlan(resolution=(640, 360), fps=10, bitrate_kbps=400)
    assert (stream.most_bps, stream.model_copy(update={"bitrate_kbps": 900}).most_bps) == (400_000, 900_000)
