"""From the records of a stream's packets to its figures: pure functions over arrays, in the variables of RFC 3550 where it has
them. Nothing here knows a socket or a clock.

Packets are first taken apart by source, then by runs of sequence numbers; ordered; put together into pictures; and counted.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from zentrale.protocols.packet_log import KEY, MARKER, START, Records

MAX_DROPOUT, MAX_MISORDER = 3000, 100  # RFC 3550 appendix A.1
REORDER_PACKETS, REORDER_S = 64, 0.2  # what comes later than this is too late for a player
_CLOCK_TRUST = (2 / 3, 1.5)  # media clock against arrival: beyond this the source's clock is not believed
_OVERLAP_PACKETS = 64  # a source that begins while the one before ends is its successor, not a second one

Ints = npt.NDArray[np.int64]
Floats = npt.NDArray[np.float64]
Bools = npt.NDArray[np.bool_]


@dataclass(frozen=True, kw_only=True)
class Figures:
    """What the records of a stream tell. Values that could not be measured are None.

    packets_lost:     numbers between the first and the last that never came (RFC 3550 appendix A.3)
    packets_late:        came, but more than 64 packets and 200 ms after their place
    reorder_depth:       the most packets by which one came after its place
    packets_foreign:     of other sources, sent at the same time
    source_changes:      another source went on where one ended; sequence_jumps: its numbers began elsewhere
    bitrate_bps:         RTP payload bits per second, over whole groups of pictures where there are two key pictures
    bitrate_by_second:   the same for each second of arrival, in bits
    keyframe_interval_s: mean time between key pictures; the median where packets were lost
    longest_gap_s:       the longest time without a packet, up to the end of the measurement
    clock_ratio:         media time that passed for each second of arrival; None below 3 s
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


@dataclass(frozen=True)
class Ordered:
    """One run of sequence numbers of one source: the rows in their order, each number once, and its number without the wrap.

    rows: indices into the records; late: those that came too late to be put into a picture
    """

    rows: Ints
    extended: Ints
    late: Bools
    doubled: int
    reordered: int
    depth: int


@dataclass(frozen=True)
class Pictures:
    """The pictures of a run, in the order of their packets: presentation time in units of the clock without its wrap, size,
    arrival of the last packet, whether a decoder can begin there, whether something of it is missing.
    """

    timestamp: Ints
    size_bytes: Ints
    arrival_s: Floats
    key: Bools
    damaged: Bools
    gap_before: Bools


def figures(records: Records, clock_hz: int, until_s: float | None = None) -> Figures:
    """All figures. `until_s`: when the measurement ended, on the clock of the arrival times."""
    if not len(records):
        return Figures()
    sources, foreign = split_sources(records)
    runs = [run for rows in sources for run in ordered_runs(records, rows)]
    pictures = [pictures_of(records, run) for run in runs]
    kept = np.sort(np.concatenate([run.rows for run in runs]))
    arrival = records["arrival_s"][kept]
    gaps = np.diff(np.append(arrival, until_s) if until_s is not None else arrival)
    fps, bitrate, interval = rates(pictures, clock_hz)
    span, ratio = _clock(pictures, clock_hz)
    expected = int(sum(run.extended[-1] - run.extended[0] + 1 for run in runs))
    return Figures(
        packets_received=len(kept),
        packets_expected=expected,
        packets_lost=expected - len(kept),
        packets_doubled=sum(run.doubled for run in runs),
        packets_reordered=sum(run.reordered for run in runs),
        reorder_depth=max(run.depth for run in runs),
        packets_late=int(sum(run.late.sum() for run in runs)),
        packets_foreign=foreign,
        source_changes=len(sources) - 1,
        sequence_jumps=len(runs) - len(sources),
        frames=sum(len(p.timestamp) for p in pictures),
        frames_damaged=int(sum(p.damaged.sum() for p in pictures)),
        fps=fps,
        bitrate_bps=bitrate,
        bitrate_by_second=_by_second(arrival, records["size_bytes"][kept]),
        keyframe_interval_s=interval,
        longest_gap_s=float(gaps.max()) if len(gaps) else 0.0,
        measured_s=float(arrival.max() - arrival.min()),
        clock_ratio=ratio if span >= 3 else None,
    )


def split_sources(records: Records) -> tuple[list[Ints], int]:
    """The rows of each source that was measured, one after the other, and how many packets are of others.

    The first to come is measured. One that begins where it ends is its successor (the server began anew); one that sends
    beside it is not this stream's.
    """
    ssrc = records["ssrc"]
    rows_of = {int(s): np.flatnonzero(ssrc == s) for s in np.unique(ssrc)}
    in_turn = sorted(rows_of.values(), key=lambda rows: int(rows[0]))
    taken, foreign = [in_turn[0]], 0
    for rows in in_turn[1:]:
        beside = int((taken[-1] > rows[0]).sum())
        if (
            len(rows) > 1
            and rows[-1] > taken[-1][-1]
            and beside <= min(_OVERLAP_PACKETS, len(rows) // 2, len(taken[-1]) // 2)
        ):
            taken.append(rows)
        else:
            foreign += len(rows)
    return taken, foreign


def extend(sequence: npt.NDArray[np.uint16]) -> tuple[Ints, Ints]:
    """Numbers without the wrap at 16 bits, and which run each belongs to: a run ends where the next number is further off than
    RFC 3550 appendix A.1 takes for a loss or a late packet.
    """
    step = _steps(sequence.astype(np.int64), 1 << 16)
    elsewhere = (step >= MAX_DROPOUT) | (step <= -MAX_MISORDER)
    extended = np.concatenate([[int(sequence[0])], int(sequence[0]) + np.cumsum(step)])
    return extended, np.concatenate([[0], np.cumsum(elsewhere)])


def _steps(counter: Ints, size: int) -> Ints:
    """From each value of a counter that wraps at `size` to the next, by the nearest way round."""
    return (counter[1:] - counter[:-1] + size // 2) % size - size // 2


def ordered_runs(records: Records, rows: Ints) -> list[Ordered]:
    """The runs of one source. A single packet from elsewhere belongs to nothing (it is on probation, appendix A.1)."""
    while len(rows) > 1:
        extended, run = extend(records["sequence"][rows])
        alone = np.bincount(run)[run] == 1
        if not alone.any() or alone.all():
            break
        rows = rows[~alone]
    extended, run = extend(records["sequence"][rows])
    return [_order(records, rows[run == n], extended[run == n]) for n in np.unique(run)]


def _order(records: Records, rows: Ints, extended: Ints) -> Ordered:
    numbers, first = np.unique(extended, return_index=True)
    came = np.sort(first)  # each number once, as it came first
    rows_once, extended_once = rows[came], extended[came]
    highest = np.maximum.accumulate(extended_once)
    behind = highest - extended_once
    arrival = records["arrival_s"][rows_once]
    # When its place was passed: the arrival of the packet that was the highest then.
    passed_at = arrival[np.searchsorted(highest, extended_once)]
    late = (behind > REORDER_PACKETS) & (arrival - passed_at > REORDER_S)
    order = np.argsort(extended_once, kind="stable")
    return Ordered(
        rows_once[order], numbers, late[order], len(rows) - len(numbers), int((behind > 0).sum()), int(behind.max())
    )


def pictures_of(records: Records, run: Ordered) -> Pictures:
    """Packets with one timestamp are one picture. The first, where it was joined midway, and the last, where its end did not
    come, are left out.
    """
    rows, number = run.rows[~run.late], run.extended[~run.late]
    stamps: Ints = records["timestamp"][rows].astype(np.int64)
    flags = records["flags"][rows]
    gap = np.concatenate([[False], np.diff(number) > 1])
    begins = np.concatenate([[True], np.diff(stamps) != 0])
    first = np.flatnonzero(begins)
    last = np.append(first[1:], len(rows)) - 1
    marker, start = (flags & MARKER) != 0, (flags & START) != 0
    inner = np.add.reduceat((gap & ~begins).astype(np.int64), first) > 0
    begin_lost = gap[first] & ~start[first]
    ends_told = bool(marker[last].any())  # some servers never set the marker bit
    followed_by_gap = np.append(gap[first[1:]], False)
    end_lost = followed_by_gap & ~marker[last] if ends_told else np.zeros(len(first), bool)
    step = _steps(stamps[first], 1 << 32)
    whole = np.ones(len(first), bool)
    whole[0] = bool(start[first[0]])
    if ends_told:
        whole[-1] = whole[-1] and bool(marker[last[-1]])
    return Pictures(
        np.concatenate([[0], np.cumsum(step)])[whole],
        np.add.reduceat(records["size_bytes"][rows].astype(np.int64), first)[whole],
        np.maximum.reduceat(records["arrival_s"][rows], first)[whole],
        (np.bitwise_or.reduceat(flags, first) & KEY).astype(bool)[whole],
        (inner | begin_lost | end_lost)[whole],
        gap[first][whole],
    )


def rates(parts: list[Pictures], clock_hz: int) -> tuple[float | None, float | None, float | None]:
    """Pictures per second, bits per second, seconds between key pictures; None where there is too little.

    Over whole groups of pictures where two key pictures are there, so that neither a burst at the start nor half a group bends
    them; over the sorted presentation times, since pictures with B frames are not sent in the order in which they are shown.
    """
    count, span_s, bits, bit_span_s = 0.0, 0.0, 0.0, 0.0
    intervals: list[Floats] = []
    lossy = any(p.gap_before.any() or p.damaged.any() for p in parts)
    for part in parts:
        if len(part.timestamp) < 2:
            continue
        time_s = _times(part, clock_hz)
        keys = np.flatnonzero(part.key)
        lo, hi = (int(keys[0]), int(keys[-1])) if len(keys) > 1 else (0, len(time_s) - 1)
        shown = np.sort(time_s[(time_s >= time_s[lo]) & (time_s <= time_s[hi])])
        if len(shown) < 2 or shown[-1] <= shown[0]:
            continue
        steps = np.diff(shown)
        # Pictures of which not one packet came have left a hole between those beside them.
        missing = np.rint(steps / np.median(steps)).astype(int) - 1 if part.gap_before.any() else np.zeros(1, int)
        count += len(steps) + int(missing[missing > 0].sum())
        span_s += float(shown[-1] - shown[0])
        bits += 8.0 * float(part.size_bytes[lo:hi].sum())
        bit_span_s += float(time_s[hi] - time_s[lo])
        intervals.append(np.diff(time_s[keys]))
    between = np.concatenate(intervals) if intervals else np.empty(0)
    interval = None
    if len(between):
        interval = float(np.median(between) if lossy else between.mean())
    return count / span_s if span_s else None, bits / bit_span_s if bit_span_s > 0 else None, interval


def _times(part: Pictures, clock_hz: int) -> Floats:
    """By the source's own clock; by arrival where that clock is far from the truth."""
    media_s = part.timestamp / clock_hz
    arrival_span = float(part.arrival_s[-1] - part.arrival_s[0])
    span = float(media_s.max() - media_s.min())
    trusted = span > 0 and (arrival_span < 1 or _CLOCK_TRUST[0] < span / arrival_span < _CLOCK_TRUST[1])
    return media_s if trusted else part.arrival_s


def jitter_ms(records: Records, clock_hz: int) -> tuple[float, float]:
    """Interarrival jitter at the end and at its worst (RFC 3550 appendix A.8), of each packet as it came."""
    if not len(records):
        return 0.0, 0.0
    rows = split_sources(records)[0][-1]
    transit = records["arrival_s"][rows] * clock_hz - records["timestamp"][rows].astype(np.float64)
    jitter = worst = 0.0
    for difference in np.abs(np.diff(transit)):
        if difference < 0x40000000:  # the 32-bit timestamp wrapped: no information in this one
            jitter += (float(difference) - jitter) / 16
            worst = max(worst, jitter)
    return 1000 * jitter / clock_hz, 1000 * worst / clock_hz


def _clock(parts: list[Pictures], clock_hz: int) -> tuple[float, float]:
    """Seconds of arrival after the first one, in which a server may send ahead; and the media time in each of them."""
    arrival = media = 0.0
    for part in parts:
        steady = part.arrival_s >= part.arrival_s[0] + 1 if len(part.arrival_s) else np.zeros(0, bool)
        if steady.sum() > 1:
            arrival += float(part.arrival_s[steady][-1] - part.arrival_s[steady][0])
            media += float(part.timestamp[steady].max() - part.timestamp[steady].min()) / clock_hz
    return arrival, media / arrival if arrival else 1.0


def _by_second(arrival: Floats, size_bytes: npt.NDArray[np.uint32]) -> tuple[int, ...]:
    """Payload bits in each second of arrival."""
    second = np.minimum((arrival - arrival.min()).astype(np.int64), 86_400)
    return tuple(int(bits) for bits in np.bincount(second, 8.0 * size_bytes))
