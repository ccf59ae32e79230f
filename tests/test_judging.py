"""A measurement against its plan: what is a finding, and what is within tolerance."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from zentrale.findings import Verdict, finding, worst_first
from zentrale.jobs.checks.seen import StreamResult
from zentrale.jobs.checks.streams_check import without_what_this_machine_did
from zentrale.jobs.streams.aspects import CODES_OF, codes_judged, unjudged
from zentrale.jobs.streams.judging import judge_against_plan, judge_delivery, judge_smartness, lateness_finding
from zentrale.protocols.streams.figures import Pause
from zentrale.protocols.streams.key_pictures import KeyPicture
from zentrale.protocols.streams.meter import StreamMeasurement
from zentrale.protocols.streams.rhythm import RateStep
from zentrale.site.model import Policy, StreamPlan

PLAN = StreamPlan.model_validate(
    {"codec": "H264", "resolution": "1920x1080", "fps": 20, "bitrate_kbps": 4000, "keyframe_interval_s": 2}
)
SMART = PLAN.model_copy(update={"min_fps": 4.0, "max_keyframe_interval_s": 8.0})
GOOD = StreamMeasurement(
    transport="tcp", codec="H264", width_px=1920, height_px=1080, fps=20.0, bitrate_bps=4e6, keyframe_interval_s=2.0,
    packets_received=2000, jitter_ms=3.0, first_picture_s=0.2, frames=100, measured_s=5.0, key_picture=KeyPicture("H264", b"x"),
)  # fmt: skip


def codes(
    measured: StreamMeasurement, plan: StreamPlan = PLAN, policy: Policy | None = None, *, decoded: bool = True
) -> list[str]:
    policy = policy or Policy()
    found = [
        *judge_delivery("s", measured, policy, decoded=decoded),
        *judge_against_plan("s", measured, plan, "site.toml group x", policy),
    ]
    assert all(f.measured and f.limit and f.limit_source and f.advice for f in found)
    return [f.code for f in found]


def test_a_stream_as_planned_has_no_finding() -> None:
    assert codes(GOOD) == []


@pytest.mark.parametrize(
    ("changes", "code"),
    [
        ({"codec": "H265"}, "STR-2"),
        ({"width_px": 1280, "height_px": 720}, "STR-3"),
        ({"fps": 17.9}, "STR-4"),
        ({"fps": 22.1}, "STR-4"),
        ({"bitrate_bps": 5.1e6}, "STR-5"),
        ({"bitrate_bps": 0.9e6}, "STR-10"),
        ({"keyframe_interval_s": 4.0}, "STR-6"),
        ({"keyframe_interval_s": None, "measured_s": 9.0}, "STR-6"),
        ({"packets_lost": 1}, "STR-7"),
        ({"jitter_ms": 51.0}, "STR-8"),
        ({"pauses": (Pause(1.0, 1.1, 0.05),)}, "STR-12"),
        ({"pauses": (Pause(1.0, 16.0, 3.0),)}, "STR-12"),
        ({"packets_reordered": 3, "reorder_depth": 2}, "STR-13"),
        ({"packets_doubled": 1}, "STR-13"),
        ({"source_changes": 1}, "STR-14"),
        ({"sequence_jumps": 1}, "STR-14"),
        ({"packets_foreign": 9}, "STR-15"),
        ({"clock_ratio": 1.2, "sender_clock_ratio": 1.2}, "STR-16"),
        ({"clock_ratio": 1.2, "measured_s": 130.0}, "STR-16"),
        ({"clock_ratio": 0.7, "sender_clock_ratio": 1.0, "behind_s": 1.5}, "STR-34"),
        ({"changes": ((2.0, "1920x1080 became 1280x720"),)}, "STR-33"),
        ({"named_bases": ("10.9.9.9:554",)}, "STR-36"),
        ({"sizes": ((1920, 1080), (1280, 720))}, "STR-3"),
        ({"rate_step": RateStep(2.0, 20.0, 10.0)}, "STR-4"),
        ({"frames_damaged": 1}, "STR-11"),
        ({"ended_early": True}, "STR-1"),
    ],
)
def test_each_deviation_is_its_own_finding(changes: dict[str, Any], code: str) -> None:
    assert codes(replace(GOOD, **changes)) == [code]


@pytest.mark.parametrize(
    "changes",
    [
        {"fps": 18.1}, {"bitrate_bps": 4.9e6}, {"bitrate_bps": 1.1e6}, {"keyframe_interval_s": 2.4}, {"jitter_ms": 49.0},
        {"own_lateness_s": 0.6, "jitter_ms": 400.0, "pauses": (Pause(1, 1.5, 0),), "clock_ratio": 1.3},  # this machine's doing
        {"pauses": (Pause(1, 0.99, 0.05), Pause(2, 14.0, 3.0))}, {"own_lateness_s": 0.2},
        {"rate_varies": True, "fps": 9.0, "fps_by_second": (20.0, 4.0, 3.0)},
        {"pauses": (Pause(1, 1.05, 0.05),), "reading_pace_s": 0.05}, {"clock_ratio": 0.95}, {"clock_ratio": 1.2},
        {"clock_ratio": 0.8, "longest_gap_s": 0.7}, {"clock_ratio": 0.7, "transport": "udp", "sender_clock_ratio": 1.0},
        {"fps": None, "bitrate_bps": None, "keyframe_interval_s": None, "measured_s": 1.0},
        {"bitrate_bps": 9e6, "keyframe_interval_s": None, "measured_s": 1.0},  # one key frame says nothing of the rate
    ],
)  # fmt: skip
def test_what_is_within_tolerance_is_no_finding(changes: dict[str, Any]) -> None:
    assert codes(replace(GOOD, **changes)) == []


def test_no_picture_says_whether_one_came_at_all() -> None:
    (damaged,) = judge_delivery("s", GOOD, Policy(), decoded=False)
    (none,) = judge_delivery("s", replace(GOOD, key_picture=None), Policy(), decoded=False)
    assert "damaged" in damaged.measured and "no whole key frame" in none.measured


def test_loss_is_told_with_its_share_and_transport() -> None:
    lossy = replace(GOOD, transport="udp", packets_received=990, packets_lost=10)
    (found,) = judge_delivery("s", lossy, Policy(), decoded=True)
    assert "10 of 1000 packets lost (1 %) over UDP" in found.measured
    assert codes(lossy, policy=Policy(loss_percent=1)) == []


def test_jpeg_has_no_key_frames_to_wait_for() -> None:
    plan = PLAN.model_copy(update={"codec": "JPEG"})
    assert codes(replace(GOOD, codec="JPEG", keyframe_interval_s=0.05), plan) == []


@given(st.floats(1, 60), st.floats(0.01, 100), st.floats(1, 50))
def test_the_frame_rate_tolerance_is_what_the_policy_says(planned: float, measured: float, percent: float) -> None:
    plan = PLAN.model_copy(update={"fps": planned})
    found = codes(replace(GOOD, fps=measured), plan, Policy(fps_tolerance_percent=percent))
    assert ("STR-4" in found) == (abs(measured - planned) > planned * percent / 100)


def test_that_this_machine_came_late_is_told_once_and_of_no_camera() -> None:
    assert lateness_finding([GOOD, replace(GOOD, own_lateness_s=0.2)]) is None
    found = lateness_finding([GOOD, replace(GOOD, own_lateness_s=0.6), replace(GOOD, own_lateness_s=0.3)])
    assert found is not None and (found.code, found.subject, found.measured[-11:]) == (
        "STR-17",
        "this machine",
        "600 ms late",
    )
    late = replace(GOOD, own_lateness_s=0.6, jitter_ms=1.0, clock_ratio=1.0)
    assert not {"STR-8", "STR-12", "STR-16"} & codes_judged(late, PLAN), "nor is anything settled by it"


def test_where_many_pause_at_once_and_this_machine_was_late_that_is_told_and_no_stream_is_judged_by_it() -> None:
    late = replace(GOOD, began_s=100.0, pauses=(Pause(2.0, 1.4, 0.05),), own_lateness_s=0.15)
    later = replace(late, began_s=100.1)
    alone = replace(GOOD, began_s=100.0, pauses=(Pause(0.1, 1.4, 0.05),))
    found = lateness_finding([late, later, alone, late, GOOD])
    assert (
        found is not None
        and found.code == "STR-38"
        and found.measured.startswith("3 of 5 streams paused at one moment")
    )
    assert worst_first([finding("SEC-2", "camera x", "m", "l", "s"), found])[0] is found, "it explains the rest"
    assert lateness_finding([replace(m, own_lateness_s=0.0) for m in (late, later, late)]) is None, "their own doing"
    assert lateness_finding([late, alone, GOOD, GOOD]) is None, "one pauses for itself"
    results = [
        StreamResult("north", "main", "", m, "", tuple(judge_delivery("s", m, Policy(), decoded=True)))
        for m in (late, later, replace(late, packets_lost=1), alone)
    ]
    judged = without_what_this_machine_did(results)
    assert [[f.code for f in r.findings] for r in judged] == [[], [], ["STR-7"], ["STR-12"]]
    assert [r.verdict.value for r in judged] == ["not_judged", "not_judged", "otherwise", "otherwise"]
    assert judged[0].not_judged["pauses"] == "this machine came late"


@pytest.mark.parametrize(
    ("changes", "plan", "told"),
    [
        ({}, PLAN, {}), ({}, None, {}),
        ({"keyframe_interval_s": None, "measured_s": 2.0}, PLAN, {"key-frame interval", "bit rate"}),
        ({"keyframe_interval_s": None}, None, {"key-frame interval"}), ({"fps": None}, None, {"frame rate"}),
        ({"codec": "JPEG", "keyframe_interval_s": None}, None, {}),
        ({"packets_dropped_here": 9}, PLAN, {"loss"}), ({"own_lateness_s": 0.6}, PLAN, {"pauses", "jitter"}),
        ({"rate_varies": True, "fps_by_second": (20.0, 4.0, 5.0)}, PLAN, {"frame rate"}),
        ({"rate_varies": True, "fps_by_second": (20.0, 4.0, 5.0)}, SMART, {}),
        ({"groups_vary": True, "keyframe_shortest_s": 1.0, "keyframe_longest_s": 6.0}, PLAN, {"key-frame interval"}),
        ({"groups_vary": True, "rate_varies": False, "keyframe_longest_s": 6.0}, SMART, {}), ({}, SMART, {"frame rate"}),
        ({"clock_ratio": 1.3}, PLAN, {"frame rate", "bit rate", "key-frame interval", "media clock"}),
    ],
)  # fmt: skip
def test_what_was_not_judged_is_named_and_never_counted_as_good(
    changes: dict[str, Any], plan: StreamPlan | None, told: set[str]
) -> None:
    measured = replace(GOOD, **changes)
    unknown = unjudged(measured, plan)
    assert set(unknown) == set(told) and all(unknown.values())
    result = StreamResult("north", "main", "", measured, "", (), not_judged=unknown)
    assert result.verdict is (Verdict.NOT_JUDGED if told else Verdict.AS_PLANNED)
    if plan is not None:
        found = {f.code for f in judge_against_plan("s", measured, plan, "x", Policy())}
        assert not found and not {code for aspect in told for code in CODES_OF[aspect]} & codes_judged(measured, plan)


def test_a_smart_codec_is_judged_by_the_limits_of_its_group() -> None:
    slow = replace(GOOD, fps=11.0, rate_varies=True, fps_by_second=(20.0, 3.9, 5.0), keyframe_interval_s=None)
    assert codes(slow, SMART) == ["STR-4"] and codes(replace(slow, fps_by_second=(20.0, 4.0, 5.0)), SMART) == []
    assert codes(replace(slow, fps_by_second=(20.0, 25.0, 5.0)), SMART) == ["STR-4"], "nor faster than planned"
    long = replace(slow, fps_by_second=(20.0, 4.0, 5.0), keyframe_longest_s=9.0)
    assert codes(long, SMART) == ["STR-6"] and codes(replace(long, keyframe_longest_s=8.0), SMART) == []
    (told,) = judge_smartness("s", slow, PLAN)
    assert (
        told.code == "STR-37"
        and "3.9 to 20.0 frames/s" in told.measured
        and not list(judge_smartness("s", slow, SMART))
    )


def test_over_tcp_no_cable_is_accused_and_a_bit_rate_says_what_it_is_of() -> None:
    lossy = replace(GOOD, packets_lost=50, packets_reordered=3, reorder_depth=1, bitrate_bps=0.9e6)
    found = [*judge_delivery("s", lossy, Policy(), decoded=True), *judge_against_plan("s", lossy, PLAN, "x", Policy())]
    assert [f.code for f in found] == ["STR-7", "STR-13", "STR-10"]
    assert not any(word in f.advice for f in found for word in ("cable", "run", "duplex", "link", "loop", "uplink "))
    assert found[2].measured == "900.0 kbit/s of what arrived (2.4 % of its packets are lost)".replace("900.0", "900")
    over_udp = [f.advice for f in judge_delivery("s", replace(lossy, transport="udp"), Policy(), decoded=True)]
    assert "duplex" in over_udp[0]
