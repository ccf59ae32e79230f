"""From the records of a stream's packets to its figures. Nothing here knows a socket or a clock."""

from __future__ import annotations

import copy
import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from zentrale.protocols.streams.folding import FOLD_PACKETS, fold
from zentrale.protocols.streams.packet_log import RECORD, Records
from zentrale.protocols.streams.pictures import Rates
from zentrale.protocols.streams.rhythm import PAUSE_S, RateStep
from zentrale.protocols.streams.sums import Both, Sums

_CLOCK_TRUST = (2 / 3, 1.5)  # media clock against arrival: beyond this the source's clock is not believed


@dataclass(frozen=True)
class Pause:
    """No packet came: after so many seconds, for how long, and how far pictures around it are apart by their time stamps."""

    after_s: float
    length_s: float
    interval_s: float
    ends: bool = True


@dataclass(frozen=True)
class Jump:
    """Time stamps went on `by_s` later than the time that passed; the rates on both sides of it are by the source's clock."""

    after_s: float
    by_s: float
    fps: tuple[float | None, float | None]


@dataclass(frozen=True, kw_only=True)
class Figures:
    """What the records of a stream tell. Values that could not be measured are None.

    packets_lost:     numbers between the first and the last that never came (RFC 3550 appendix A.3)
    packets_open:     numbers that had not come when the measurement ended, and might have
    packets_of_others: of other payload types, and the same source: their numbers came
    packets_late:        came, but more than 64 packets and 200 ms after their place
    reorder_depth:       the most packets by which one came after its place
    packets_foreign:     of other sources, sent at the same time
    source_changes:      another source went on where one ended; sequence_jumps: its numbers began elsewhere
    bitrate_bps:         RTP payload bits per second, over whole groups of pictures where there are two key pictures
    bitrate_by_second:   the same for each second of arrival, in bits; of the last hour
    keyframe_interval_s: mean time between key pictures; the median where packets were lost
    longest_gap_s:       the longest time without a packet, up to the end of the measurement
    clock_ratio:         media time that passed for each second of arrival; None below 3 s
    intra_refresh:       pictures are renewed part by part: a decoder that begins is right only after some pictures
    jitter_ms:           interarrival jitter at the end (RFC 3550 appendix A.8), and its worst
    """

    packets_received: int = 0
    packets_expected: int = 0
    packets_lost: int = 0
    packets_open: int = 0
    packets_of_others: int = 0
    packets_doubled: int = 0
    packets_reordered: int = 0
    reorder_depth: int = 0
    packets_late: int = 0
    packets_foreign: int = 0
    source_changes: int = 0
    sequence_jumps: int = 0
    frames: int = 0
    frames_damaged: int = 0
    fps: float | None = None
    bitrate_bps: float | None = None
    bitrate_by_second: tuple[int, ...] = ()
    fps_by_second: tuple[float, ...] = ()
    rate_step: RateStep | None = None
    rate_varies: bool | None = None
    keyframe_interval_s: float | None = None
    keyframe_shortest_s: float | None = None
    keyframe_longest_s: float | None = None
    groups_vary: bool = False
    key_picture_bytes: float | None = None
    other_picture_bytes: float | None = None
    stamp_jumps: tuple[Jump, ...] = ()
    same_stamp: int = 0
    longest_gap_s: float = 0.0
    pauses: tuple[Pause, ...] = ()
    measured_s: float = 0.0
    clock_ratio: float | None = None
    behind_s: float = 0.0
    intra_refresh: bool = False
    jitter_ms: float | None = None
    jitter_worst_ms: float | None = None

    @property
    def whole_seconds_bps(self) -> tuple[int, ...]:
        """Bits of the seconds that were measured whole."""
        return self.bitrate_by_second[: int(self.measured_s)]


def spread(seconds: Sequence[float]) -> tuple[float, float, float] | None:
    """Lowest, highest and 5th percentile of what was measured in each second; None where none says anything (NaN)."""
    values = [value for value in seconds if not math.isnan(value)]
    return (min(values), max(values), float(np.percentile(values, 5))) if values else None


class Digest:
    """Records in, as they come; figures out, at any time."""

    def __init__(self, clock_hz: int, *, with_jitter: bool = True) -> None:
        self.clock_hz = clock_hz
        self._sums = Sums(with_jitter=with_jitter)
        self._parts: list[Records] = []
        self.waiting = 0  # packets that are not folded yet
        self._folded = False

    def add(self, records: Records, *, last: bool = False) -> None:
        """`last`: nothing comes after them; folding is left to the figures."""
        if not len(records):
            return
        self._parts.append(records)
        self.waiting += len(records)
        if self.waiting >= FOLD_PACKETS and not last:
            rest = fold(self._sums, np.concatenate(self._parts), self.clock_hz, final=False)
            self._parts, self.waiting, self._folded = [rest], len(rest), True

    @property
    def jitter(self) -> int:
        """Interarrival jitter at the last fold or figure, in units of the clock."""
        return int(self._sums.jitter)

    @property
    def has_jumped(self) -> bool:
        """Whether time stamps went on elsewhere, as far as that is folded."""
        return bool(self._sums.stamp_jumps)

    def figures(self, until_s: float | None = None, *, clock_is_right: bool = False) -> Figures:
        """All figures up to now. `until_s`: when the measurement ended, on the clock of the arrival times; `clock_is_right`: the
        source's clock is known to go right, however packets come.
        """
        sums = copy.deepcopy(self._sums) if self._folded else Sums(with_jitter=self._sums.with_jitter)
        waiting = np.concatenate(self._parts) if self._parts else np.empty(0, RECORD)
        fold(sums, waiting, self.clock_hz, final=True, until_s=until_s)
        return _worked_out(sums, self.clock_hz, until_s, clock_is_right=clock_is_right)


def figures(records: Records, clock_hz: int, until_s: float | None = None) -> Figures:
    """All figures of a stream whose records are all there: without `until_s`, of what is missing nothing comes any more."""
    sums = Sums()
    fold(sums, records, clock_hz, final=True, until_s=math.inf if until_s is None else until_s)
    return _worked_out(sums, clock_hz, until_s, clock_is_right=False)


def _worked_out(sums: Sums, clock_hz: int, until_s: float | None, *, clock_is_right: bool) -> Figures:
    if sums.first_s is None:
        return Figures(packets_foreign=sums.foreign)
    silent_s = 0.0 if until_s is None else until_s - sums.last_s
    believed = clock_is_right or _believed(sums.reached_s, sums.stamped_s)
    both = Both()
    for side in sums.sides:
        both.merge(side)
    rates = both.stamped if believed else both.arrived
    step = sums.rhythm.step() if believed else None
    other_pictures = sums.frames - sums.damaged - sums.key_pictures
    return Figures(
        packets_received=sums.received,
        packets_expected=sums.expected,
        packets_lost=sums.expected - sums.received - sums.open,
        packets_open=sums.open,
        packets_of_others=sums.others,
        packets_doubled=sums.doubled,
        packets_reordered=sums.reordered,
        reorder_depth=sums.depth,
        packets_late=sums.late,
        packets_foreign=sums.foreign,
        source_changes=sums.source_changes,
        sequence_jumps=sums.jumps,
        frames=sums.frames,
        frames_damaged=sums.damaged,
        fps=rates.fps,
        bitrate_bps=rates.bitrate_bps,
        bitrate_by_second=tuple(int(bits) for bits in sums.seconds),
        fps_by_second=tuple(sums.rhythm.rates.tolist()) if believed else (),
        rate_step=step,
        rate_varies=sums.rhythm.varies() and step is None if believed and sums.rhythm.varies() is not None else None,
        keyframe_interval_s=rates.keyframe_interval_s,
        keyframe_shortest_s=rates.shortest_s if rates.intervals else None,
        keyframe_longest_s=max(rates.longest_s, sums.open_group_s if believed else 0.0) or None,
        groups_vary=rates.groups_vary,
        key_picture_bytes=sums.key_bytes / sums.key_pictures if sums.key_pictures else None,
        other_picture_bytes=sums.other_bytes / other_pictures if other_pictures > 0 else None,
        stamp_jumps=_jumps(sums, clock_hz),
        same_stamp=sums.same_stamp,
        longest_gap_s=max(sums.longest_gap_s, silent_s),
        pauses=_pauses(sums, rates, silent_s),
        measured_s=sums.last_s - sums.first_s,
        clock_ratio=sums.media_s / sums.clock_s if sums.clock_s >= 3 else None,
        behind_s=sums.clock_s - sums.media_s,
        intra_refresh=sums.refresh,
        jitter_ms=1000 * sums.jitter / clock_hz if sums.with_jitter and sums.received > 1 else None,
        jitter_worst_ms=1000 * sums.jitter_worst / clock_hz if sums.with_jitter and sums.received > 1 else None,
    )


def _believed(arrival_s: float, media_s: float) -> bool:
    """Whether the source's clock is near enough to the truth: so much of it passed in so much time of arrival."""
    return media_s > 0 and (arrival_s < 1 or _CLOCK_TRUST[0] < media_s / arrival_s < _CLOCK_TRUST[1])


def _pauses(sums: Sums, rates: Rates, silent_s: float) -> tuple[Pause, ...]:
    """Each with how far pictures around it are apart: by the rate then, not by the mean."""
    assert sums.first_s is not None
    usual_s = 1 / rates.fps if rates.fps else 0.0
    found = []
    for begin_s, end_s in sorted(sums.gaps):
        around = [q.interval_s for q in sums.rhythm.quiet if q.begin_s < end_s and begin_s < q.end_s]
        found.append(Pause(begin_s - sums.first_s, end_s - begin_s, max(around, default=usual_s)))
    if silent_s > PAUSE_S:
        found.append(Pause(sums.last_s - sums.first_s, silent_s, max(usual_s, sums.rhythm.interval_s), ends=False))
    return tuple(found)


def _jumps(sums: Sums, clock_hz: int) -> tuple[Jump, ...]:
    assert sums.first_s is not None
    rates = [side.stamped.fps for side in sums.sides]
    sides = zip(rates[-len(sums.stamp_jumps) - 1 :], rates[-len(sums.stamp_jumps) :], strict=False)
    return tuple(
        Jump(jump.at_s - sums.first_s, jump.by_s, side) for jump, side in zip(sums.stamp_jumps, sides, strict=False)
    )
