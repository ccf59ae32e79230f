"""What a stream's records come to: sums, so that hours take no more room than seconds; and the pictures that are added to
them.

Records are folded into them by `folding`. Here is what is known of pictures: rates by the source's clock and by arrival
beside one another, the rhythm, and where the time stamps go on elsewhere.

How it works. `folding` hands on pictures as a `Pictures`: arrays of one length, of which an index counts pictures in the
order of their packets (`timestamp` int64, units of the media clock, unwrapped beyond 32 bits; `arrival_s` float64, of the
last packet on the monotonic clock; `size_bytes` int64; `key`, `damaged`, `gap_before`, `same_stamp` bool). `take_pictures`
adds them to three kinds of things, and keeps none of them but a tail:

- counts and sums in `Sums`: packets, pictures, bytes;
- `sides`, one for each stretch between jumps of the time stamps: rates over seconds, by stamps and by arrival. Only whole
  groups go in, up to the last key picture but one, because what is shown before a key picture may be sent after it;
- `rhythm`, the number of pictures in each second of the source's clock (an index there counts seconds of that clock).

`Run.tail` are the pictures that wait; `counted` says that the rates reach up to its first one, which is then a key picture
and the joint to what follows.

What always holds. The fold is the same however the records are cut (tests/test_figures.py holds an hour in parts against
the whole). Nothing grows with the length of a measurement: lists are bounded by _MAX_JUMPS, _MAX_SIDES and _GROUP_PICTURES.
A run that ended is never opened again.

Why by both clocks: a camera's clock may go wrong by half, and arrival is shaken by every switch. Which of them is to be
believed shows only when both have been seen for a while, so rates are kept by both until then, and one is thrown away at
the end.
"""

from __future__ import annotations

import math
from dataclasses import dataclass, field

import numpy as np

from zentrale.protocols.streams.packet_runs import Floats
from zentrale.protocols.streams.pictures import Joint, Pictures, Rates
from zentrale.protocols.streams.rhythm import Rhythm

_GROUP_PICTURES = 4096  # a group of pictures that is longer is taken apart
_JUMP_S = 1.0
_MAX_JUMPS, _MAX_SIDES = 16, 4
_CLOCK_SURE = (0.8, 1.25)  # well within what is believed


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
class Run:
    """A run of numbers that goes on: up to where it has been folded."""

    joint: Joint
    tail: Pictures | None = None  # from its last key picture on
    counted: bool = False  # the tail begins where the rates end
    reach: _Reach = field(default_factory=_Reach)  # of all its pictures
    steady: _Reach = field(default_factory=_Reach)  # without the first second, in which a server may send ahead
    stamp: int = 0  # of the last picture, and when that came
    arrival_s: float = 0.0


@dataclass(frozen=True)
class StampJump:
    """Time stamps that go on elsewhere: at which arrival, and by how many seconds more than passed."""

    at_s: float
    by_s: float


@dataclass
class Both:
    """The same rates by the source's clock, and by arrival: which one holds is known at the end."""

    stamped: Rates = field(default_factory=Rates)
    arrived: Rates = field(default_factory=Rates)

    def add(self, part: Pictures, clock_hz: int, reach: _Reach) -> None:
        """`reach` of the pictures so far: a clock that goes right up to here needs no arrivals beside it."""
        self.stamped.add(part, clock_hz)
        if reach.span_s < 1 or not _CLOCK_SURE[0] < reach.span / clock_hz / reach.span_s < _CLOCK_SURE[1]:
            self.arrived.add(part, None)

    def merge(self, other: Both) -> None:
        self.stamped.merge(other.stamped)
        self.arrived.merge(other.arrived)


@dataclass
class Sums:
    """What has been folded. `with_jitter`: jitter is asked for."""

    with_jitter: bool = True
    ssrc: int | None = None
    run: Run | None = None
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
    sides: list[Both] = field(default_factory=lambda: [Both()])  # of each jump of the time stamps
    rhythm: Rhythm = field(default_factory=Rhythm)
    stamp_jumps: list[StampJump] = field(default_factory=list)
    same_stamp: int = 0
    key_pictures: int = 0
    key_bytes: int = 0
    other_bytes: int = 0
    others: int = 0  # packets of another payload type, of the same source
    open: int = 0
    gaps: list[tuple[float, float]] = field(default_factory=list)  # long ones, as times of arrival
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
    open_group_s: float = 0.0  # the longest time from a key picture to where the measurement, or its time stamps, ended
    reached_s: float = 0.0  # from the first picture to the last: by arrival, and by time stamps
    stamped_s: float = 0.0


def take_pictures(sums: Sums, run: Run, part: Pictures, clock_hz: int) -> None:
    """The pictures up to each jump of the time stamps, and those after it, each on their own."""
    begin = 0
    jumps = _jumps(run, part, clock_hz)
    if len(sums.stamp_jumps) + len(jumps) > _MAX_JUMPS:
        jumps = []  # stamps that say nothing are not taken apart: that would cost more than all the rest
    for at, by_s in jumps:
        if at > begin:
            _pictures(sums, run, part.part(begin, at), clock_hz)
        _end_side(sums, run, clock_hz)
        sums.stamp_jumps.append(StampJump(float(part.arrival_s[at]), by_s))
        if len(sums.sides) > _MAX_SIDES:
            sums.sides[0].merge(sums.sides.pop(1))
        sums.sides.append(Both())
        sums.rhythm.cut()
        run.tail, run.counted, run.reach, run.steady = None, False, _Reach(), _Reach()
        begin = at
    _pictures(sums, run, part.part(begin), clock_hz)
    run.stamp, run.arrival_s = int(part.timestamp[-1]), float(part.arrival_s[-1])


def _jumps(run: Run, part: Pictures, clock_hz: int) -> list[tuple[int, float]]:
    """At which pictures time stamps go back, or ahead of the time that passed, by more than reordering explains."""
    first = run.reach.first_s < math.inf
    stamps = np.concatenate([[run.stamp], part.timestamp]) if first else part.timestamp
    arrival = np.concatenate([[run.arrival_s], part.arrival_s]) if first else part.arrival_s
    if len(stamps) < 2:
        return []
    step_s = np.diff(stamps) / clock_hz
    if step_s.min() > -_JUMP_S and step_s.max() < _JUMP_S:  # nearly always
        return []
    passed_s = np.maximum(np.diff(arrival), 0.0)
    slack_s = max(_JUMP_S, 4 * float(np.median(np.abs(step_s))))
    found = np.flatnonzero((step_s < -slack_s) | (step_s - passed_s > slack_s))
    return [(int(at) + (not first), float(step_s[at] - passed_s[at])) for at in found]


def _pictures(sums: Sums, run: Run, part: Pictures, clock_hz: int) -> None:
    whole = ~part.damaged
    sums.frames += len(part)
    sums.damaged += int(part.damaged.sum())
    sums.same_stamp += int(part.same_stamp.sum())
    sums.key_pictures += int((part.key & whole).sum())
    sums.key_bytes += int(part.size_bytes[part.key & whole].sum())
    sums.other_bytes += int(part.size_bytes[~part.key & whole].sum())
    run.reach.add(part)
    run.steady.add(part.part(int(np.searchsorted(part.arrival_s, run.reach.first_s + 1))))
    sums.rhythm.add(part, clock_hz)
    tail = part if run.tail is None else run.tail.then(part)
    keys = np.flatnonzero(tail.key)
    too_long = len(tail) > _GROUP_PICTURES
    if (len(keys) > 2 and run.reach.span_s >= 1) or (len(keys) == 2 and too_long):
        # What is shown before a key picture may be sent after it: the group after it is needed to tell the one before.
        sums.sides[-1].add(tail.part(0, int(keys[-1])), clock_hz, run.reach)
        tail, run.counted = tail.part(int(keys[-2])), True
    elif too_long:
        sums.sides[-1].add(tail, clock_hz, run.reach)
        tail, run.counted = tail.part(len(tail) - 1), True
    run.tail = tail


def _end_side(sums: Sums, run: Run, clock_hz: int) -> None:
    """The time stamps of a run end, or go on elsewhere."""
    if run.tail is not None and (not run.counted or int(run.tail.key.sum()) > 1):
        sums.sides[-1].add(run.tail, clock_hz, run.reach)
    if run.tail is not None and run.tail.key.any() and not run.tail.gap_before.any():
        last_key = int(np.flatnonzero(run.tail.key)[-1])
        sums.open_group_s = max(
            sums.open_group_s, float(run.tail.timestamp[-1] - run.tail.timestamp[last_key]) / clock_hz
        )
    sums.reached_s += run.reach.span_s
    sums.stamped_s += run.reach.span / clock_hz
    sums.clock_s += run.steady.span_s
    sums.media_s += run.steady.span / clock_hz


def end_run(sums: Sums, clock_hz: int) -> None:
    run, sums.run = sums.run, None
    if run is not None:
        _end_side(sums, run, clock_hz)
        sums.rhythm.cut()
