"""The records of a stream taken apart by source, then by runs of sequence numbers, each put into order: pure functions over
arrays, in the variables of RFC 3550 where it has them.
"""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
import numpy.typing as npt

from zentrale.protocols.streams.packet_log import Records

MAX_DROPOUT, MAX_MISORDER = 3000, 100  # RFC 3550 appendix A.1
REORDER_PACKETS, REORDER_S = 64, 0.2  # what comes later than this is too late for a player
_OVERLAP_PACKETS = 64  # a source that begins while the one before ends is its successor, not a second one

Ints = npt.NDArray[np.int64]
Floats = npt.NDArray[np.float64]
Bools = npt.NDArray[np.bool_]


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

    def first(self, count: int) -> Ordered:
        """The first so many rows of a run that came in order."""
        return replace(self, rows=self.rows[:count], extended=self.extended[:count], late=self.late[:count])


def split_sources(records: Records, current: int | None = None) -> tuple[list[Ints], int]:
    """The rows of each source that was measured, one after the other, and how many packets are of others.

    The first to come is measured, or `current`, which was measured before these. One that begins where it ends is its
    successor (the server began anew); one that sends beside it is not this stream's.
    """
    ssrc = records["ssrc"]
    if (ssrc == ssrc[0]).all():
        return [np.arange(len(records))], 0
    rows_of = {int(s): np.flatnonzero(ssrc == s) for s in np.unique(ssrc)}
    in_turn = sorted(rows_of, key=lambda s: (s != current, int(rows_of[s][0])))
    taken, foreign = [rows_of[in_turn[0]]], 0
    for rows in (rows_of[s] for s in in_turn[1:]):
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
    step = steps(sequence.astype(np.int64), 1 << 16)
    elsewhere = (step >= MAX_DROPOUT) | (step <= -MAX_MISORDER)
    extended = np.concatenate([[int(sequence[0])], int(sequence[0]) + np.cumsum(step)])
    return extended, np.concatenate([[0], np.cumsum(elsewhere)])


def steps(counter: Ints, size: int) -> Ints:
    """From each value of a counter that wraps at `size` to the next, by the nearest way round."""
    # Of a power of two, so that a mask does what a remainder would.
    return ((counter[1:] - counter[:-1] + size // 2) & (size - 1)) - size // 2


def in_order(records: Records, current: int | None) -> Ordered | None:
    """All of `records` as one run where nothing is amiss: of one source, each number after the one before. Else None."""
    ssrc, sequence = records["ssrc"], records["sequence"].astype(np.int64)
    step = steps(sequence, 1 << 16)
    if (ssrc != (ssrc[0] if current is None else current)).any() or (step <= 0).any() or (step >= MAX_DROPOUT).any():
        return None
    extended = np.concatenate([sequence[:1], sequence[0] + np.cumsum(step)])
    return Ordered(np.arange(len(records)), extended, np.zeros(len(records), bool), 0, 0, 0)


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
    if (np.diff(extended) > 0).all():
        none = np.zeros(len(rows), bool)
        return Ordered(rows, extended, none, 0, 0, 0)
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
