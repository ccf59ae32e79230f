"""The records of a stream folded into sums, a few thousand at a time, so that hours take no more room than seconds.

Packets are taken apart by source and by runs of sequence numbers, ordered, put together into pictures (`packet_runs`,
`pictures`), and counted. A fold ends where nothing that came later belongs before it; what is after it waits for the
next.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, field, replace

import numpy as np

from zentrale.protocols.streams.packet_log import REFRESH, Records
from zentrale.protocols.streams.packet_runs import (
    MAX_DROPOUT,
    MAX_MISORDER,
    Floats,
    Ints,
    Ordered,
    extend,
    in_order,
    ordered_runs,
    split_sources,
)
from zentrale.protocols.streams.pictures import Joint, Pictures, Rates, believed, pictures_of

FOLD_PACKETS = 1536
_KEPT_BACK = 256  # what came last may still be followed by what belongs before it
_PATIENCE_PACKETS = 16_384  # where no such place is found for so long, any place will do
_GROUP_PICTURES = 4096  # a group of pictures that is longer is taken apart
_SECONDS = 3600


@dataclass
class _Reach:
    """From where to where pictures reach: arrival [s], and time stamps."""

    first_s: float = math.inf
    last_s: float = -math.inf
    low: int = 0
    high: int = 0

    def add(self, part: Pictures) -> None:
        if not len(part):
            return
        low, high = int(part.timestamp.min()), int(part.timestamp.max())
        began = self.first_s < math.inf
        self.low, self.high = (min(low, self.low), max(high, self.high)) if began else (low, high)
        self.first_s, self.last_s = min(self.first_s, float(part.arrival_s[0])), float(part.arrival_s[-1])

    @property
    def span_s(self) -> float:
        return max(0.0, self.last_s - self.first_s)

    @property
    def span(self) -> int:
        return self.high - self.low


@dataclass
class _Run:
    """A run of numbers that goes on: up to where it has been folded."""

    joint: Joint
    tail: Pictures | None = None  # from its last key picture on
    counted: bool = False  # the tail begins where the rates end
    reach: _Reach = field(default_factory=_Reach)  # of all its pictures
    steady: _Reach = field(default_factory=_Reach)  # without the first second, in which a server may send ahead


@dataclass
class Sums:
    """What has been folded. `with_jitter`: jitter is asked for."""

    with_jitter: bool = True
    ssrc: int | None = None
    run: _Run | None = None
    runs: int = 0  # of this source
    received: int = 0
    expected: int = 0
    doubled: int = 0
    reordered: int = 0
    depth: int = 0
    late: int = 0
    foreign: int = 0
    source_changes: int = 0
    jumps: int = 0
    frames: int = 0
    damaged: int = 0
    refresh: bool = False
    rates: Rates = field(default_factory=Rates)
    longest_gap_s: float = 0.0
    first_s: float | None = None
    last_s: float = 0.0
    seconds: Floats = field(default_factory=lambda: np.zeros(0))
    seconds_gone: int = 0
    clock_s: float = 0.0
    media_s: float = 0.0
    jitter: float = 0.0
    jitter_worst: float = 0.0
    transit: float | None = None


def fold(sums: Sums, records: Records, clock_hz: int, *, final: bool) -> Records:
    """Add to `sums` what can be told for good. Returns the records that wait for what comes after them."""
    if not len(records):
        if final:
            _end_run(sums, clock_hz)
        return records
    plain = in_order(records, sums.ssrc)
    if plain is not None:
        return _fold_plain(sums, records, plain, clock_hz, final=final)
    sources, _ = split_sources(records, sums.ssrc)
    now = np.ones(len(records), bool)
    if not final:
        if len(sources) > 1 and len(records) - sources[-2][-1] < _KEPT_BACK and len(records) < _PATIENCE_PACKETS:
            return records  # whether it is a successor will show
        now = np.arange(len(records)) < _place_to_end(records, sources)
        for rows in sources[:-1]:
            now[rows] = True
    received: list[Ints] = []
    measured = 0
    for all_rows in sources:
        rows, following = all_rows[now[all_rows]], all_rows[~now[all_rows]]
        if not len(rows):
            continue
        ssrc = int(records["ssrc"][rows[0]])
        if ssrc != sums.ssrc:
            _end_run(sums, clock_hz)
            sums.source_changes += sums.ssrc is not None
            sums.ssrc, sums.transit, sums.runs = ssrc, None, 0
        numbers = records["sequence"][following].astype(np.int64)
        received += _fold_runs(sums, records, ordered_runs(records, rows), numbers, clock_hz)
        _jitter(sums, records[rows], clock_hz)
        measured += len(rows)
    sums.foreign += int(now.sum()) - measured
    if final:
        _end_run(sums, clock_hz)
    if received:
        _arrivals(sums, records[np.sort(np.concatenate(received))])
    return records[~now]


def _fold_plain(sums: Sums, records: Records, run: Ordered, clock_hz: int, *, final: bool) -> Records:
    """As `fold`, where all of it is one run: nearly always."""
    end = len(records)
    if not final:
        stamps = records["timestamp"][: max(0, end - _KEPT_BACK) + 1]
        places = np.flatnonzero(stamps[1:] != stamps[:-1])
        if not len(places):
            return records
        end = int(places[-1]) + 1
    told, following = records[:end], records["sequence"][end : end + 1].astype(np.int64)
    sums.ssrc = int(records["ssrc"][0])
    received = _fold_runs(sums, told, [run.first(end)], following, clock_hz)
    _jitter(sums, told, clock_hz)
    if final:
        _end_run(sums, clock_hz)
    if received:
        _arrivals(sums, told if len(received[-1]) == end else told[np.sort(np.concatenate(received))])
    return records[end:]


def _place_to_end(records: Records, sources: list[Ints]) -> int:
    """The row before which all can be told: a picture begins there, and nothing after it belongs before it. 0 is none."""
    rows = sources[-1]
    if len(sources) > 1:
        return int(rows[0])
    extended, run = extend(records["sequence"][rows])
    stamps = records["timestamp"][rows]
    before, after = np.maximum.accumulate(extended), np.minimum.accumulate(extended[::-1])[::-1]
    place = before[:-1] < after[1:]
    place &= stamps[1:] != stamps[:-1]
    place |= (run[1:] != run[:-1]) & (run[1:] == run[-1])  # the numbers begin elsewhere
    if len(records) > 2 * _PATIENCE_PACKETS:
        place[:] = True
    if len(records) <= _PATIENCE_PACKETS:
        newcomers = np.flatnonzero(records["ssrc"] != records["ssrc"][rows[0]])  # one may be the successor
        place &= rows[1:] < (newcomers[0] if len(newcomers) else len(records))
    places = np.flatnonzero(place[: max(0, len(rows) - _KEPT_BACK)])
    return int(rows[places[-1] + 1]) if len(places) else 0


def _fold_runs(sums: Sums, records: Records, runs: Sequence[Ordered], following: Ints, clock_hz: int) -> list[Ints]:
    """The runs of one source; `following` are the numbers that wait. Returns the rows that count as received."""
    received: list[Ints] = []
    for index, run in enumerate(runs):
        if index or not _goes_on(sums, run):
            _end_run(sums, clock_hz)
            sums.jumps += sums.runs > 0
            sums.runs += 1
        elif sums.run is not None:
            run = _numbered_on(sums, sums.run, run)
        if not len(run.rows):
            continue
        after = None
        if index == len(runs) - 1:
            step = (following - run.extended[-1] + 0x8000) % 0x10000 - 0x8000
            ahead = step[(step > 0) & (step < MAX_DROPOUT)]
            after = Joint(int(run.extended[-1] + ahead.min())) if len(ahead) else None
        _count(sums, records, run, after, clock_hz)
        received.append(run.rows)
    return received


def _goes_on(sums: Sums, run: Ordered) -> bool:
    """Whether the run that was folded goes on with this one."""
    if sums.run is None:
        return False
    return -MAX_MISORDER < _step(sums.run.joint.number, int(run.extended[0])) < MAX_DROPOUT


def _step(number: int, to: int) -> int:
    return (to - number + 0x8000) % 0x10000 - 0x8000


def _numbered_on(sums: Sums, before: _Run, run: Ordered) -> Ordered:
    """The run with its numbers on from the one before. What was folded is told: a number from there is there twice."""
    last = before.joint.number
    extended = run.extended + last + _step(last, int(run.extended[0])) - int(run.extended[0])
    new = extended > last
    sums.doubled += int((~new).sum())
    return replace(run, rows=run.rows[new], extended=extended[new], late=run.late[new])


def _count(sums: Sums, records: Records, run: Ordered, after: Joint | None, clock_hz: int) -> None:
    before = sums.run.joint if sums.run is not None else None
    last = int(run.extended[-1])
    begin = before.number if before is not None else int(run.extended[0]) - 1
    sums.received += len(run.rows)
    sums.expected += last - begin
    sums.doubled += run.doubled
    sums.reordered += run.reordered
    sums.depth = max(sums.depth, run.depth)
    sums.late += int(run.late.sum())
    sums.refresh |= bool((records["flags"][run.rows] & REFRESH).any())
    if sums.run is None:
        sums.run = _Run(Joint(begin))
    if run.late.all():
        sums.run.joint = replace(sums.run.joint, number=last)
        return
    part = pictures_of(records, run, before, after)
    stamp = int(records["timestamp"][run.rows[~run.late][-1]])
    extended = int(part.timestamp[-1]) if len(part) else sums.run.joint.extended_stamp
    sums.run.joint = Joint(last, stamp, extended)
    if len(part):
        _pictures(sums, sums.run, part, clock_hz)


def _pictures(sums: Sums, run: _Run, part: Pictures, clock_hz: int) -> None:
    sums.frames += len(part)
    sums.damaged += int(part.damaged.sum())
    run.reach.add(part)
    run.steady.add(part.part(int(np.searchsorted(part.arrival_s, run.reach.first_s + 1))))
    tail = part if run.tail is None else run.tail.then(part)
    keys = np.flatnonzero(tail.key)
    too_long = len(tail) > _GROUP_PICTURES
    if (len(keys) > 2 and run.reach.span_s >= 1) or (len(keys) == 2 and too_long):
        # What is shown before a key picture may be sent after it: the group after it is needed to tell the one before.
        sums.rates.add(tail.part(0, int(keys[-1])), _clock(run, clock_hz))
        tail, run.counted = tail.part(int(keys[-2])), True
    elif too_long:
        sums.rates.add(tail, _clock(run, clock_hz))
        tail, run.counted = tail.part(len(tail) - 1), True
    run.tail = tail


def _clock(run: _Run, clock_hz: int) -> int | None:
    """The source's clock, as far as it is believed."""
    return clock_hz if believed(run.reach.span_s, run.reach.span / clock_hz) else None


def _end_run(sums: Sums, clock_hz: int) -> None:
    run, sums.run = sums.run, None
    if run is None:
        return
    if run.tail is not None and (not run.counted or int(run.tail.key.sum()) > 1):
        sums.rates.add(run.tail, _clock(run, clock_hz))
    sums.clock_s += run.steady.span_s
    sums.media_s += run.steady.span / clock_hz


def _arrivals(sums: Sums, records: Records) -> None:
    """Gaps, and what came in each second."""
    arrival = records["arrival_s"]
    if sums.first_s is None:
        sums.first_s = sums.last_s = float(arrival.min())
    gaps = np.diff(np.concatenate([[sums.last_s], arrival]))
    sums.longest_gap_s = max(sums.longest_gap_s, float(gaps.max()))
    sums.last_s = max(sums.last_s, float(arrival.max()))
    second = np.maximum((arrival - sums.first_s).astype(np.int64) - sums.seconds_gone, 0)
    second = np.minimum(second, len(sums.seconds) + 86_400)
    added: Floats = np.zeros(max(len(sums.seconds), int(second.max()) + 1))
    added[: len(sums.seconds)] = sums.seconds
    np.add.at(added, second, 8.0 * records["size_bytes"])
    sums.seconds_gone += max(0, len(added) - _SECONDS)
    sums.seconds = added[-_SECONDS:]


_BLOCK = 256
_WEIGHT = (15 / 16) ** np.arange(1, _BLOCK + 1)


def _jitter(sums: Sums, records: Records, clock_hz: int) -> None:
    """J += (|D| - J) / 16 for each packet (RFC 3550 appendix A.8), a block at a time: after k packets the old J weighs
    (15/16)^k, which 256 of them bring down to where a double still holds it.
    """
    if not sums.with_jitter:
        return
    transit = records["arrival_s"] * clock_hz - records["timestamp"]
    apart = np.abs(np.diff(transit, prepend=transit[0] if sums.transit is None else sums.transit))
    apart = apart[1 if sums.transit is None else 0 :]
    sums.transit = float(transit[-1])
    apart = apart[apart < 0x40000000]  # the 32-bit time stamp wrapped: no information in this one
    for begin in range(0, len(apart), _BLOCK):
        block = apart[begin : begin + _BLOCK]
        weight = _WEIGHT[: len(block)]
        told = weight * (sums.jitter + np.cumsum(block / (16 * weight)))
        sums.jitter, sums.jitter_worst = float(told[-1]), max(sums.jitter_worst, float(told.max()))
