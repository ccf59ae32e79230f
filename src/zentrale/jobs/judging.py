"""Comparing what a stream delivers with what was planned for it."""

from __future__ import annotations

from collections.abc import Iterable

from zentrale import quantities
from zentrale.findings import Finding, finding
from zentrale.protocols.stream_meter import StreamMeasurement
from zentrale.site.model import Policy, StreamPlan
from zentrale.subjects import Ref

KEYFRAME_TOLERANCE = 0.25  # of the planned interval, and never less than one frame


def judge_delivery(
    subject: str | Ref, measured: StreamMeasurement, policy: Policy, *, decoded: bool
) -> Iterable[Finding]:
    """What is wrong with any stream, whatever was planned."""
    sent = measured.packets_received + measured.packets_lost
    lost_percent = 100 * measured.packets_lost / sent if sent else 0.0
    if lost_percent > policy.loss_percent:
        text = (
            f"{measured.packets_lost} of {sent} packets lost ({lost_percent:.2g} %) over {measured.transport.upper()}"
        )
        yield finding("STR-7", subject, text, f"at most {policy.loss_percent:g} %", "site.toml [policy] loss_percent")
    if measured.jitter_ms is not None and measured.jitter_ms > policy.jitter_ms:
        yield finding("STR-8", subject, f"{measured.jitter_ms:.0f} ms jitter", f"at most {policy.jitter_ms:g} ms",
                      "site.toml [policy] jitter_ms")  # fmt: skip
    if measured.frames_damaged and not measured.packets_lost:
        text = f"{measured.frames_damaged} of {measured.frames} pictures came incomplete, though no packet was lost"
        yield finding("STR-11", subject, text, "whole pictures", "RFC 3550 marker bit and timestamps")
    if not decoded:
        got = f"{measured.packets_received} packets, {quantities.count(measured.frames, 'picture')}, no whole key frame"
        if measured.key_picture is not None:
            got = "a key frame arrived, but it is damaged"
        yield finding(
            "STR-9", subject, f"{got} in {measured.measured_s:.1f} s", "one decoded picture", "the stream itself"
        )
    if measured.ended_early:
        yield finding("STR-1", subject, f"the server closed the stream after {measured.measured_s:.1f} s",
                      "a stream that goes on", "RFC 2326")  # fmt: skip


def judge_against_plan(
    subject: str | Ref, measured: StreamMeasurement, plan: StreamPlan, source: str, policy: Policy
) -> Iterable[Finding]:
    """Codec, resolution, frame rate, bit rate and key-frame interval against the plan."""
    if measured.codec != plan.codec:
        yield finding("STR-2", subject, measured.codec or "none named", plan.codec, source)
    if measured.width_px is not None and measured.height_px is not None:
        size = (measured.width_px, measured.height_px)
        if size != plan.resolution:
            yield finding(
                "STR-3", subject, quantities.resolution(*size), quantities.resolution(*plan.resolution), source
            )
    if measured.fps is not None:
        allowed = plan.fps * policy.fps_tolerance_percent / 100
        if abs(measured.fps - plan.fps) > allowed:
            limit = f"{plan.fps:g} ± {allowed:.2g} frames/s"
            yield finding("STR-4", subject, f"{measured.fps:.1f} frames/s", limit, source)
    if measured.bitrate_bps is not None and _whole_groups(measured, plan):
        planned = quantities.bitrate(plan.bitrate_bps)
        text = quantities.bitrate(measured.bitrate_bps)
        if measured.bitrate_bps > plan.bitrate_bps * (1 + policy.bitrate_over_percent / 100):
            yield finding("STR-5", subject, text, f"{planned} + {policy.bitrate_over_percent:g} %", source)
        elif measured.bitrate_bps < plan.bitrate_bps * (1 - policy.bitrate_under_percent / 100):
            yield finding("STR-10", subject, text, f"{planned} - {policy.bitrate_under_percent:g} %", source)
    if plan.codec == "JPEG":
        return
    interval, wanted = measured.keyframe_interval_s, plan.keyframe_interval_s
    if interval is not None and abs(interval - wanted) > max(1 / plan.fps, KEYFRAME_TOLERANCE * wanted):
        yield finding("STR-6", subject, f"{interval:.1f} s", f"{wanted:g} s", source)
    elif interval is None and measured.measured_s > 2 * wanted + 1:
        text = f"one key frame or none in {measured.measured_s:.1f} s"
        yield finding("STR-6", subject, text, f"{wanted:g} s", source)


# A stream that plays was let in, wherever it is; and the finding that it does not play is settled.
_PLAYED = frozenset({"STR-1", "STR-2", "STR-7", "STR-9", "STR-11", "SEC-7", "SEC-8", "SEC-9", "ERR-1"})


def codes_judged(measured: StreamMeasurement, plan: StreamPlan) -> frozenset[str]:
    """Which codes a measurement says something of: what could not be measured is neither well nor not."""
    told = {
        "STR-3": measured.width_px is not None,
        "STR-4": measured.fps is not None,
        "STR-5": measured.bitrate_bps is not None and _whole_groups(measured, plan),
        "STR-10": measured.bitrate_bps is not None and _whole_groups(measured, plan),
        "STR-6": measured.keyframe_interval_s is not None or plan.codec == "JPEG",
        "STR-8": measured.jitter_ms is not None,
    }
    return _PLAYED | {code for code, judged in told.items() if judged}


def _whole_groups(measured: StreamMeasurement, plan: StreamPlan) -> bool:
    """Less than a whole group of pictures says nothing: its one key frame weighs too much, or is missing."""
    return measured.keyframe_interval_s is not None or measured.measured_s >= 2 * plan.keyframe_interval_s
