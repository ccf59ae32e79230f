"""A measurement against its plan: what is a finding, and what is within tolerance."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from zentrale.jobs.streams.aspects import codes_judged
from zentrale.jobs.streams.judging import judge_against_plan, judge_delivery, lateness_finding
from zentrale.protocols.streams.figures import Pause
from zentrale.protocols.streams.key_pictures import KeyPicture
from zentrale.protocols.streams.meter import StreamMeasurement
from zentrale.protocols.streams.rhythm import RateStep
from zentrale.site.model import Policy, StreamPlan

PLAN = StreamPlan.model_validate(
    {"codec": "H264", "resolution": "1920x1080", "fps": 20, "bitrate_kbps": 4000, "keyframe_interval_s": 2}
)
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
