"""Pictures out of ordered packets, and the rates that follow from them: pure functions over arrays."""

from __future__ import annotations

import math
from dataclasses import dataclass, fields

import numpy as np

from zentrale.protocols.streams.packet_log import KEY, MARKER, OTHER, PICTURE, START, Records
from zentrale.protocols.streams.packet_runs import Bools, Floats, Ints, Ordered, steps


@dataclass(frozen=True)
class Pictures:
    """The pictures of a run, in the order of their packets: presentation time in units of the clock without its wrap, size,
    arrival of the last packet, whether a decoder can begin there, whether something of it is missing, whether packets are
    missing before it, and whether it has the time stamp of the one before.
    """

    timestamp: Ints
    size_bytes: Ints
    arrival_s: Floats
    key: Bools
    damaged: Bools
    gap_before: Bools
    same_stamp: Bools

    def __len__(self) -> int:
        return len(self.timestamp)

    def part(self, begin: int, end: int | None = None) -> Pictures:
        return Pictures(*(getattr(self, f.name)[begin:end] for f in fields(self)))

    def then(self, other: Pictures) -> Pictures:
        return Pictures(*(np.concatenate([getattr(self, f.name), getattr(other, f.name)]) for f in fields(self)))


@dataclass(frozen=True)
class Joint:
    """Where a run was cut, so that its parts are told as one: the last number and time stamp before (the stamp as sent and
    without its wrap), or the number after. None is where the run begins, or ends.
    """

    number: int
    stamp: int = 0
    extended_stamp: int = 0


def pictures_of(
    records: Records,
    run: Ordered,
    before: Joint | None = None,
    after: Joint | None = None,
    open_from: int | None = None,
) -> Pictures:
    """Packets with one timestamp are one picture, but where it ends by its marker bit and another one begins under the same.
    The first, where it was joined midway, and the last, where its end did not come, are left out.

    open_from: from this number on, what is missing may still come
    """
    rows, number = run.rows[~run.late], run.extended[~run.late]
    gap = np.concatenate([[before is not None and number[0] - before.number > 1], np.diff(number) > 1])
    if open_from is not None:
        gap &= number <= open_from
    flags = records["flags"][rows]
    other = (flags & OTHER) != 0
    if other.any():  # their numbers came, and nothing else of them counts
        mine = np.flatnonzero(~other)
        if not len(mine):
            return NONE
        gap = np.add.reduceat(gap[: mine[-1] + 1], np.concatenate([[0], mine[:-1] + 1])) > 0
        rows, number, flags = rows[mine], number[mine], flags[mine]
    stamps: Ints = records["timestamp"][rows].astype(np.int64)
    marker, start = (flags & MARKER) != 0, (flags & START) != 0
    begins = np.concatenate([[True], np.diff(stamps) != 0])
    second = ~begins & ((flags & PICTURE) != 0) & np.concatenate([[False], marker[:-1]])
    begins |= second
    first = np.flatnonzero(begins)
    last = np.append(first[1:], len(rows)) - 1
    inner = np.add.reduceat((gap & ~begins).astype(np.int64), first) > 0
    begin_lost = gap[first] & ~start[first]
    ends_told = bool(marker[last].any())  # some servers never set the marker bit
    followed_by_gap = np.append(gap[first[1:]], after is not None and after.number - number[-1] > 1)
    end_lost = followed_by_gap & ~marker[last] if ends_told else np.zeros(len(first), bool)
    whole = np.ones(len(first), bool)
    origin = 0
    if before is None:
        whole[0] = bool(start[first[0]])
    else:
        origin = before.extended_stamp + int(steps(np.array([before.stamp, stamps[0]]), 1 << 32)[0])
    if ends_told and after is None:
        whole[-1] = whole[-1] and bool(marker[last[-1]])
    return Pictures(
        (origin + np.concatenate([[0], np.cumsum(steps(stamps[first], 1 << 32))]))[whole],
        np.add.reduceat(records["size_bytes"][rows].astype(np.int64), first)[whole],
        np.maximum.reduceat(records["arrival_s"][rows], first)[whole],
        (np.bitwise_or.reduceat(flags, first) & KEY).astype(bool)[whole],
        (inner | begin_lost | end_lost)[whole],
        gap[first][whole],
        second[first][whole],
    )


_no = np.zeros(0, bool)
NONE = Pictures(np.zeros(0, np.int64), np.zeros(0, np.int64), np.zeros(0), _no, _no, _no, _no)


@dataclass
class Rates:
    """Sums over whole groups of pictures, so that neither a burst at the start nor half a group bends a rate; over the sorted
    presentation times, since pictures with B frames are not sent in the order in which they are shown.
    """

    pictures: float = 0
    span_s: float = 0.0
    bits: float = 0.0
    bit_span_s: float = 0.0
    intervals: int = 0
    intervals_s: float = 0.0
    recent_s: tuple[float, ...] = ()  # the last intervals between key pictures
    shortest_s: float = math.inf
    longest_s: float = 0.0
    lossy: bool = False

    def add(self, part: Pictures, clock_hz: int | None) -> None:
        """The groups from the first key picture of `part` to its last; all of it where it has less than two. By arrival where
        the source has no clock to go by.
        """
        if len(part) < 2:
            return
        self.lossy |= bool(part.gap_before.any() or part.damaged.any())
        time_s = part.timestamp / clock_hz if clock_hz else part.arrival_s
        keys = np.flatnonzero(part.key)
        lo, hi = (int(keys[0]), int(keys[-1])) if len(keys) > 1 else (0, len(time_s) - 1)
        shown = np.sort(time_s[(time_s >= time_s[lo]) & (time_s <= time_s[hi])])
        if len(shown) < 2 or shown[-1] <= shown[0]:
            return
        between = np.diff(shown)
        self.pictures += len(between)
        if part.gap_before.any():
            # Pictures of which not one packet came have left a hole between those beside them.
            missing = np.rint(between / np.median(between[between > 0])).astype(int) - 1
            self.pictures += int(missing[missing > 0].sum())
        self.span_s += float(shown[-1] - shown[0])
        self.bits += 8.0 * float(part.size_bytes[lo:hi].sum())
        self.bit_span_s += float(time_s[hi] - time_s[lo])
        groups = np.diff(time_s[keys])
        self.intervals += len(groups)
        self.intervals_s += float(groups.sum())
        self.recent_s = (*self.recent_s, *groups.tolist())[-RECENT:]
        if len(groups):
            self.shortest_s = min(self.shortest_s, float(groups.min()))
            self.longest_s = max(self.longest_s, float(groups.max()))

    def merge(self, other: Rates) -> None:
        """Add what another part of the stream came to."""
        for name in ("pictures", "span_s", "bits", "bit_span_s", "intervals", "intervals_s"):
            setattr(self, name, getattr(self, name) + getattr(other, name))
        self.recent_s = (*self.recent_s, *other.recent_s)[-RECENT:]
        self.shortest_s, self.longest_s = min(self.shortest_s, other.shortest_s), max(self.longest_s, other.longest_s)
        self.lossy |= other.lossy

    @property
    def groups_vary(self) -> bool:
        """Whether key pictures come at no steady interval, though nothing was lost."""
        slack_s = 2 * self.span_s / max(1.0, self.pictures)
        return self.intervals > 1 and not self.lossy and self.longest_s > 1.5 * self.shortest_s + slack_s

    @property
    def fps(self) -> float | None:
        return self.pictures / self.span_s if self.span_s else None

    @property
    def bitrate_bps(self) -> float | None:
        return self.bits / self.bit_span_s if self.bit_span_s > 0 else None

    @property
    def keyframe_interval_s(self) -> float | None:
        """The mean; the median of the last ones where packets were lost."""
        if not self.intervals:
            return None
        return float(np.median(self.recent_s)) if self.lossy else self.intervals_s / self.intervals


RECENT = 1024
