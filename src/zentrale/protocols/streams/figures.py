"""From the records of a stream's packets to its figures. Nothing here knows a socket or a clock."""

from __future__ import annotations

import copy
from dataclasses import dataclass

import numpy as np

from zentrale.protocols.streams.packet_log import RECORD, Records
from zentrale.protocols.streams.sums import FOLD_PACKETS, Sums, fold


@dataclass(frozen=True, kw_only=True)
class Figures:
    """What the records of a stream tell. Values that could not be measured are None.

    packets_lost:     numbers between the first and the last that never came (RFC 3550 appendix A.3)
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
    keyframe_interval_s: float | None = None
    longest_gap_s: float = 0.0
    measured_s: float = 0.0
    clock_ratio: float | None = None
    intra_refresh: bool = False
    jitter_ms: float | None = None
    jitter_worst_ms: float | None = None


class Digest:
    """Records in, as they come; figures out, at any time."""

    def __init__(self, clock_hz: int, *, with_jitter: bool = True) -> None:
        self.clock_hz = clock_hz
        self._sums = Sums(with_jitter=with_jitter)
        self._parts: list[Records] = []
        self.waiting = 0  # packets that are not folded yet

    def add(self, records: Records) -> None:
        if not len(records):
            return
        self._parts.append(records)
        self.waiting += len(records)
        if self.waiting >= FOLD_PACKETS:
            rest = fold(self._sums, np.concatenate(self._parts), self.clock_hz, final=False)
            self._parts, self.waiting = [rest], len(rest)

    @property
    def jitter(self) -> int:
        """Interarrival jitter at the last fold or figure, in units of the clock."""
        return int(self._sums.jitter)

    def figures(self, until_s: float | None = None) -> Figures:
        """All figures up to now. `until_s`: when the measurement ended, on the clock of the arrival times."""
        sums = copy.deepcopy(self._sums)
        waiting = np.concatenate(self._parts) if self._parts else np.empty(0, RECORD)
        fold(sums, waiting, self.clock_hz, final=True)
        return _told(sums, self.clock_hz, until_s)


def figures(records: Records, clock_hz: int, until_s: float | None = None) -> Figures:
    """All figures of a stream whose records are all there."""
    sums = Sums()
    fold(sums, records, clock_hz, final=True)
    return _told(sums, clock_hz, until_s)


def _told(sums: Sums, clock_hz: int, until_s: float | None) -> Figures:
    if sums.first_s is None:
        return Figures(packets_foreign=sums.foreign)
    gap = sums.longest_gap_s if until_s is None else max(sums.longest_gap_s, until_s - sums.last_s)
    return Figures(
        packets_received=sums.received,
        packets_expected=sums.expected,
        packets_lost=sums.expected - sums.received,
        packets_doubled=sums.doubled,
        packets_reordered=sums.reordered,
        reorder_depth=sums.depth,
        packets_late=sums.late,
        packets_foreign=sums.foreign,
        source_changes=sums.source_changes,
        sequence_jumps=sums.jumps,
        frames=sums.frames,
        frames_damaged=sums.damaged,
        fps=sums.rates.fps,
        bitrate_bps=sums.rates.bitrate_bps,
        bitrate_by_second=tuple(int(bits) for bits in sums.seconds),
        keyframe_interval_s=sums.rates.keyframe_interval_s,
        longest_gap_s=gap,
        measured_s=sums.last_s - sums.first_s,
        clock_ratio=sums.media_s / sums.clock_s if sums.clock_s >= 3 else None,
        intra_refresh=sums.refresh,
        jitter_ms=1000 * sums.jitter / clock_hz if sums.with_jitter and sums.received > 1 else None,
        jitter_worst_ms=1000 * sums.jitter_worst / clock_hz if sums.with_jitter and sums.received > 1 else None,
    )
