"""What a measurement can say of a stream at all, and what it cannot: too short, this machine late, a clock nobody can check."""

from __future__ import annotations

import math
from collections.abc import Iterable
from enum import Enum

from zentrale import quantities
from zentrale.protocols.streams.key_pictures import DEPACKETIZERS
from zentrale.protocols.streams.meter import CLOCK_TOLERANCE, StreamMeasurement
from zentrale.site.model import StreamPlan

OWN_LATENESS_S = 0.25  # later than this, this machine's own reading is in what it measures of arrival
CLOCK_PROOF_S = 120.0  # without two reports of the sender, a clock is accused after so long: no queue lasts for that
LONGEST_GROUP_S = 60.0  # no plan may have a longer one

# A stream that plays was let in, wherever it is; and the finding that it does not play is settled.
OURS = frozenset({"ERR-1", "ERR-2"})  # of this program, and of this machine
NOT_PLAYING = frozenset({"STR-1", "STR-35"}) | frozenset(f"STR-{number}" for number in range(18, 26))
PLAYED = NOT_PLAYING | {f"STR-{number}" for number in (2, 11, 13, 14, 15, 26, 27, 28, 30, 32, 33, 36, 37)} | {
    "SEC-7", "SEC-8", "SEC-9", *OURS,
}  # fmt: skip


def within_tcp(measured: StreamMeasurement) -> bool:
    """TCP loses nothing, turns nothing round and doubles nothing: what is so was so when it was sent."""
    return measured.transport == "tcp"


def could_have_picture(measured: StreamMeasurement) -> bool:
    """Whether a key picture must have come, or came and could not be decoded: not where the stream was joined midway in a long
    group, nor where there is another reason that is told.
    """
    if measured.packets_dropped_here and measured.key_picture is None:
        return False
    if measured.no_parameter_sets or measured.size_not_told:
        return False
    return measured.key_picture is not None or measured.key_picture_bytes is not None or (
        measured.measured_s >= LONGEST_GROUP_S or measured.frames == 0 or measured.keyframe_interval_s is not None
        or measured.intra_refresh
    )  # fmt: skip


def came_late(measured: StreamMeasurement) -> bool:
    """Whether this machine was too busy for figures of arrival to be the stream's own."""
    return measured.own_lateness_s > OWN_LATENESS_S


class Pace(Enum):
    """How a source's time stamps and the times of arrival go together."""

    ALIKE = "alike"
    WRONG_CLOCK = "wrong clock"
    NARROW_PATH = "narrow path"
    UNKNOWN = "unknown"  # they do not, and nothing tells why


def pace_of(measured: StreamMeasurement) -> Pace:
    ratio, by_sender = measured.clock_ratio, measured.sender_clock_ratio
    steady = measured.longest_gap_s < 1 and not came_late(measured)
    # Both ends of the time of arrival may be off by as much as packets have kept waiting.
    span_s = measured.measured_s - 1
    unsure_s = max(CLOCK_TOLERANCE * span_s, 2 * measured.longest_gap_s + 0.2)
    if ratio is None or not steady or abs(ratio - 1) * span_s <= unsure_s:
        return Pace.ALIKE
    if by_sender is not None and abs(by_sender - 1) <= CLOCK_TOLERANCE:
        return Pace.NARROW_PATH if ratio < 1 and within_tcp(measured) else Pace.UNKNOWN
    if by_sender is not None and (by_sender > 1) == (ratio > 1):
        return Pace.WRONG_CLOCK
    return Pace.WRONG_CLOCK if measured.measured_s >= CLOCK_PROOF_S else Pace.UNKNOWN


def off(measured: StreamMeasurement) -> str:
    ratio = measured.clock_ratio or 1.0
    return f"{100 * abs(ratio - 1):.0f} % too {'fast' if ratio > 1 else 'slow'}"


def fps_range(measured: StreamMeasurement) -> tuple[float, float] | None:
    """The lowest and the highest rate of the seconds; None where too few of them say anything."""
    rates = [rate for rate in measured.fps_by_second if not math.isnan(rate)]
    return (min(rates), max(rates)) if measured.rate_varies is not None and rates else None


# What the plan and its policy say of a stream, each by a name that people read, and the codes that speak of it.
CODEC, RESOLUTION, FRAME_RATE, BIT_RATE, KEY_INTERVAL = (
    "codec", "resolution", "frame rate", "bit rate", "key-frame interval",
)  # fmt: skip
LOSS, PAUSES, PICTURE, GROUP, CLOCK, JITTER = "loss", "pauses", "picture", "multicast group", "media clock", "jitter"
CODES_OF = {
    RESOLUTION: {"STR-3"}, FRAME_RATE: {"STR-4"}, BIT_RATE: {"STR-5", "STR-10"}, KEY_INTERVAL: {"STR-6"}, LOSS: {"STR-7"},
    PAUSES: {"STR-12"}, PICTURE: {"STR-9"}, GROUP: {"STR-29"}, CLOCK: {"STR-16", "STR-34"}, JITTER: {"STR-8"},
}  # fmt: skip
_WITHOUT_PLAN = (FRAME_RATE, BIT_RATE, KEY_INTERVAL, LOSS, PAUSES)  # what is asked of a bare address


def unjudged(
    measured: StreamMeasurement, plan: StreamPlan | None, *, group: str = "", decoded: bool = True
) -> dict[str, str]:
    """What a measurement cannot say of what the plan says of a stream, each with the reason. `group` is the multicast group that
    is planned; `decoded`: a picture of it was. Without a plan, of what is asked of any stream.
    """
    found = {aspect: why for aspect, why in _reasons(measured, plan, group, decoded=decoded) if why}
    return found if plan is not None else {aspect: why for aspect, why in found.items() if aspect in _WITHOUT_PLAN}


def _reasons(
    measured: StreamMeasurement, plan: StreamPlan | None, group: str, *, decoded: bool
) -> Iterable[tuple[str, str]]:
    lasted = f"measured {measured.measured_s:.0f} s"
    late = "this machine came late" if came_late(measured) else ""
    apart = pace_of(measured) is Pace.UNKNOWN
    clock = (
        f"its time stamps run {off(measured)} against arrivals; two sender reports, or two minutes, would tell why"
        if apart
        else ""
    )
    yield CODEC, "" if measured.codec else "none is named"
    yield RESOLUTION, "" if measured.width_px is not None else "no parameter set and no picture told it"
    yield FRAME_RATE, clock or _why_no_rate(measured, plan, lasted)
    whole = measured.bitrate_bps is not None and (plan is None or whole_groups(measured, plan))
    yield BIT_RATE, clock or ("" if whole else f"{lasted}, less than a group of pictures")
    yield KEY_INTERVAL, clock or _why_no_interval(measured, plan, lasted)
    dropped = measured.packets_dropped_here
    yield LOSS, f"this machine had no room for {quantities.count(dropped, 'datagram')}" if dropped else ""
    yield PAUSES, late
    no_picture = not decoded and measured.codec in DEPACKETIZERS and not could_have_picture(measured)
    yield PICTURE, f"no key picture came, {lasted}" if no_picture else ""
    yield (
        GROUP,
        "it was not played by multicast" if group and not measured.group and not measured.multicast_failed else "",
    )
    yield CLOCK, clock
    yield JITTER, late if measured.jitter_ms is not None else ""


def _why_no_rate(measured: StreamMeasurement, plan: StreamPlan | None, lasted: str) -> str:
    if measured.fps is None:
        return lasted
    if plan is None:
        return ""
    if plan.min_fps is not None:
        return "" if measured.rate_varies is not None else f"{lasted}; its lowest rate shows in three whole seconds"
    range_ = fps_range(measured)
    if measured.rate_varies and range_:
        return f"{range_[0]:.1f} to {range_[1]:.1f} frames/s by its own time stamps, and no min_fps is planned"
    return ""


def _why_no_interval(measured: StreamMeasurement, plan: StreamPlan | None, lasted: str) -> str:
    if measured.codec == "JPEG" or (plan is not None and plan.codec == "JPEG"):
        return ""
    if plan is None:
        return "" if measured.keyframe_interval_s is not None else lasted
    if plan.max_keyframe_interval_s is not None:
        too_long = (measured.keyframe_longest_s or 0) > plan.max_keyframe_interval_s
        enough = measured.keyframe_interval_s is not None or measured.measured_s > 2 * plan.max_keyframe_interval_s + 1
        return "" if too_long or enough else lasted
    if measured.groups_vary:
        low, high = measured.keyframe_shortest_s or 0, measured.keyframe_longest_s or 0
        return f"{low:.1f} to {high:.1f} s by its own time stamps, and no max_keyframe_interval_s is planned"
    if measured.keyframe_interval_s is None and measured.measured_s <= 2 * plan.keyframe_interval_s + 1:
        return lasted
    return ""


def codes_judged(measured: StreamMeasurement, plan: StreamPlan) -> frozenset[str]:
    """Which codes a measurement says something of: what could not be measured is neither well nor not."""
    unknown = unjudged(measured, plan)
    judged = {code for aspect, codes in CODES_OF.items() if aspect not in unknown for code in codes} | {"STR-31"}
    clock = measured.clock_ratio is not None and not came_late(measured)
    known = {
        "STR-8": measured.jitter_ms is not None,
        "STR-9": measured.codec in DEPACKETIZERS
        and (not measured.packets_dropped_here or measured.key_picture is not None),
        "STR-16": clock,
        "STR-34": clock,
        "STR-29": bool(measured.group),
        "STR-31": bool(measured.group or measured.multicast_failed),
    }
    return PLAYED | judged - {code for code, is_known in known.items() if not is_known}


def whole_groups(measured: StreamMeasurement, plan: StreamPlan) -> bool:
    """Less than a whole group of pictures says nothing: its one key frame weighs too much, or is missing."""
    return measured.keyframe_interval_s is not None or measured.measured_s >= 2 * plan.keyframe_interval_s
