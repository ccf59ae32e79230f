"""The records of a stream folded into sums, a few thousand at a time, so that hours take no more room than seconds.

Packets are taken apart by source and by runs of sequence numbers, ordered, put together into pictures (`packet_runs`,
`pictures`), and counted. A fold ends where nothing that came later belongs before it; what is after it waits for the
next.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

import numpy as np

from zentrale.protocols.streams.packet_log import OTHER, REFRESH, Records
from zentrale.protocols.streams.packet_runs import (
    MAX_DROPOUT,
    MAX_MISORDER,
    REORDER_PACKETS,
    REORDER_S,
    Floats,
    Ints,
    Ordered,
    extend,
    in_order,
    ordered_runs,
    split_sources,
)
from zentrale.protocols.streams.pictures import Joint, pictures_of
from zentrale.protocols.streams.rhythm import PAUSE_S
from zentrale.protocols.streams.sums import Run, Sums, end_run, take_pictures

FOLD_PACKETS = 2560  # at fewer, folds cost more by their number than by their size
_KEPT_BACK = 256  # what came last may still be followed by what belongs before it
_PATIENCE_PACKETS = 16_384  # where no such place is found for so long, any place will do
_SECONDS = 3600
GIVEN_UP_S = 1.0  # however few packets came since: no network keeps one for so long
_MAX_GAPS = 64


def fold(sums: Sums, records: Records, clock_hz: int, *, final: bool, until_s: float | None = None) -> Records:
    """Add to `sums` what can be told for good. Returns the records that wait for what comes after them. `until_s`: when the
    measurement ended (`final`); the last arrival, where it is not given.
    """
    if not len(records):
        if final:
            end_run(sums, clock_hz)
        return records
    if not final:
        until_s = None
    elif until_s is None:
        until_s = float(records["arrival_s"].max())
    plain = in_order(records, sums.ssrc)
    if plain is not None:
        return _fold_plain(sums, records, plain, clock_hz, until_s)
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
            end_run(sums, clock_hz)
            sums.source_changes += sums.ssrc is not None
            sums.ssrc, sums.transit, sums.runs = ssrc, None, 0
        numbers = records["sequence"][following].astype(np.int64)
        ends_s = until_s if all_rows is sources[-1] else None
        received += _fold_runs(sums, records, ordered_runs(records, rows), numbers, clock_hz, ends_s)
        _jitter(sums, records[rows], clock_hz)
        measured += len(rows)
    sums.foreign += int(now.sum()) - measured
    if final:
        end_run(sums, clock_hz)
    if received:
        _arrivals(sums, records[np.sort(np.concatenate(received))])
    return records[~now]


def _fold_plain(sums: Sums, records: Records, run: Ordered, clock_hz: int, until_s: float | None) -> Records:
    """As `fold`, where all of it is one run: nearly always."""
    end = len(records)
    if until_s is None:
        stamps = records["timestamp"][: max(0, end - _KEPT_BACK) + 1]
        places = np.flatnonzero(stamps[1:] != stamps[:-1])
        if not len(places):
            return records
        end = int(places[-1]) + 1
    plain, following = records[:end], records["sequence"][end : end + 1].astype(np.int64)
    sums.ssrc = int(records["ssrc"][0])
    received = _fold_runs(sums, plain, [run.first(end)], following, clock_hz, until_s)
    _jitter(sums, plain, clock_hz)
    if until_s is not None:
        end_run(sums, clock_hz)
    if received:
        _arrivals(sums, plain if len(received[-1]) == end else plain[np.sort(np.concatenate(received))])
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


def _fold_runs(
    sums: Sums, records: Records, runs: Sequence[Ordered], following: Ints, clock_hz: int, until_s: float | None
) -> list[Ints]:
    """The runs of one source; `following` are the numbers that wait; `until_s` where none come any more. Returns the rows that
    count as received.
    """
    received: list[Ints] = []
    for index, run in enumerate(runs):
        if index or not _goes_on(sums, run):
            end_run(sums, clock_hz)
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
        _count(sums, records, run, after, clock_hz, until_s if index == len(runs) - 1 else None)
        received.append(run.rows)
    return received


def _goes_on(sums: Sums, run: Ordered) -> bool:
    """Whether the run that was folded goes on with this one."""
    if sums.run is None:
        return False
    return -MAX_MISORDER < _step(sums.run.joint.number, int(run.extended[0])) < MAX_DROPOUT


def _step(number: int, to: int) -> int:
    return (to - number + 0x8000) % 0x10000 - 0x8000


def _numbered_on(sums: Sums, before: Run, run: Ordered) -> Ordered:
    """The run with its numbers on from the one before. What was folded is told: a number from there is there twice."""
    last = before.joint.number
    extended = run.extended + last + _step(last, int(run.extended[0])) - int(run.extended[0])
    new = extended > last
    sums.doubled += int((~new).sum())
    return replace(run, rows=run.rows[new], extended=extended[new], late=run.late[new])


def _count(
    sums: Sums, records: Records, run: Ordered, after: Joint | None, clock_hz: int, until_s: float | None
) -> None:
    """`until_s` is when the measurement ended, where nothing comes after these."""
    before = sums.run.joint if sums.run is not None else None
    last = int(run.extended[-1])
    begin = before.number if before is not None else int(run.extended[0]) - 1
    flags = records["flags"][run.rows]
    others = int(((flags & OTHER) != 0).sum())
    open_from, still_open = None, 0
    if until_s is not None and after is None:
        open_from, still_open = _open(begin, run.extended, records["arrival_s"][run.rows], until_s)
    sums.received += len(run.rows) - others
    sums.others += others
    sums.open += still_open
    sums.expected += last - begin - others
    sums.doubled += run.doubled
    sums.reordered += run.reordered
    sums.depth = max(sums.depth, run.depth)
    sums.late += int(run.late.sum())
    sums.refresh |= bool((flags & REFRESH).any())
    if sums.run is None:
        sums.run = Run(Joint(begin))
    if run.late.all():
        sums.run.joint = replace(sums.run.joint, number=last)
        return
    part = pictures_of(records, run, before, after, open_from)
    mine = run.rows[~run.late]
    mine = mine[(records["flags"][mine] & OTHER) == 0]
    stamp = int(records["timestamp"][mine[-1]]) if len(mine) else sums.run.joint.stamp
    extended = int(part.timestamp[-1]) if len(part) else sums.run.joint.extended_stamp
    sums.run.joint = Joint(last, stamp, extended)
    if len(part):
        take_pictures(sums, sums.run, part, clock_hz)


def _open(begin: int, numbers: Ints, arrival_s: Floats, until_s: float) -> tuple[int | None, int]:
    """What is missing and may still come: the first of these numbers, and how many there are. A number is lost once it is known
    that it comes too late: 64 packets came after its place, or a second passed, and never within 200 ms.
    """
    before = np.concatenate([[begin], numbers[:-1]])
    gaps = np.flatnonzero(numbers - before > 1)
    waited_s, behind = until_s - arrival_s[gaps], numbers[-1] - numbers[gaps]
    still = gaps[(waited_s <= REORDER_S) | ((behind < REORDER_PACKETS) & (waited_s <= GIVEN_UP_S))]
    if not len(still):
        return None, 0
    return int(before[still[0]]) + 1, int((numbers[still] - before[still] - 1).sum())


def _arrivals(sums: Sums, records: Records) -> None:
    """Gaps, and what came in each second."""
    arrival = records["arrival_s"]
    if sums.first_s is None:
        sums.first_s = sums.last_s = float(arrival.min())
    gaps = np.diff(np.concatenate([[sums.last_s], arrival]))
    sums.longest_gap_s = max(sums.longest_gap_s, float(gaps.max()))
    for at in np.flatnonzero(gaps > PAUSE_S):
        sums.gaps.append((float(arrival[at] - gaps[at]), float(arrival[at])))
    sums.gaps = sorted(sums.gaps, key=lambda gap: gap[0] - gap[1])[:_MAX_GAPS]
    sums.last_s = max(sums.last_s, float(arrival.max()))
    second = np.maximum((arrival - sums.first_s).astype(np.int64) - sums.seconds_gone, 0)
    second = np.minimum(second, len(sums.seconds) + 86_400)
    added: Floats = np.zeros(max(len(sums.seconds), int(second.max()) + 1))
    added[: len(sums.seconds)] = sums.seconds
    np.add.at(added, second, 8.0 * records["size_bytes"])
    sums.seconds_gone += max(0, len(added) - _SECONDS)
    sums.seconds = added[-_SECONDS:]


_BLOCK = 4096
_WEIGHT = (15 / 16) ** np.arange(1, _BLOCK + 1)


def _jitter(sums: Sums, records: Records, clock_hz: int) -> None:
    """J += (|D| - J) / 16 for each packet (RFC 3550 appendix A.8), a block at a time: after k packets the old J weighs
    (15/16)^k, which 4,096 of them bring down to 10^-115, where a double still holds it.
    """
    if not sums.with_jitter:
        return
    other = (records["flags"] & OTHER) != 0
    if other.any():
        records = records[~other]
    if not len(records):
        return
    transit = records["arrival_s"] * clock_hz - records["timestamp"]
    apart = np.abs(np.diff(transit, prepend=transit[0] if sums.transit is None else sums.transit))
    apart = apart[1 if sums.transit is None else 0 :]
    sums.transit = float(transit[-1])
    apart = apart[apart < 0x40000000]  # the 32-bit time stamp wrapped: no information in this one
    for begin in range(0, len(apart), _BLOCK):
        block = apart[begin : begin + _BLOCK]
        weight = _WEIGHT[: len(block)]
        weighted = weight * (sums.jitter + np.cumsum(block / (16 * weight)))
        sums.jitter, sums.jitter_worst = float(weighted[-1]), max(sums.jitter_worst, float(weighted.max()))
