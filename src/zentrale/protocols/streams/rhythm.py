"""How evenly a source takes its pictures, by its own time stamps: what tells a smart codec from a step, and from a pause.

Pictures come in the order of their packets; those with B frames are shown in another. So the last ones are held back until the
next have come, and all that follows goes over presentation times in their order. The rate of a second is the number of pictures
that passed in it, read off the line through (presentation time, number of the picture): an even 12.5 frames/s is 12.5 in each
second, not 12 and 13 in turn. A second in which packets are missing, or in which nothing came for much longer than before and
after, says nothing of the source's rhythm and is left out: the first is a loss, the second a pause.
"""

from __future__ import annotations

from dataclasses import dataclass, field
from statistics import median

import numpy as np

from zentrale.protocols.streams.packet_runs import Bools, Floats
from zentrale.protocols.streams.pictures import Pictures

HELD_BACK = 16  # pictures: no encoder reorders more (ITU-T H.264 clause A.3.1, max_dec_frame_buffering)
_SECONDS = 3600  # the last hour's rates are kept
_NEIGHBOURS = 5  # intervals before and after a pause, by which it is one
PAUSE_S, PAUSE_TIMES = 0.5, 5  # an interval that is longer than this, and than so many of those around it
_MAX_QUIET = 256
_VARIES, _VARIES_FRAMES = 0.15, 1.5  # rates of the seconds that lie further apart than both are no steady rate
_LEAST_SECONDS = 3
_STEADY_SECONDS = 2  # on both sides of a step


@dataclass(frozen=True)
class RateStep:
    """The rate changed once, from one steady rate to another: after so many seconds, in frames/s."""

    after_s: float
    before: float
    after: float


@dataclass(frozen=True)
class Quiet:
    """Between these times of arrival no picture came; those around it are `interval_s` apart."""

    begin_s: float
    end_s: float
    interval_s: float


@dataclass
class Rhythm:
    """Sums over the pictures of one stream. Times are presentation times in seconds, but where they are said to be arrivals.

    rates: frames/s of each whole second, the last hour of them; NaN where the second says nothing
    """

    rates: Floats = field(default_factory=lambda: np.zeros(0))
    gone: int = 0  # seconds that are not kept any more
    quiet: list[Quiet] = field(default_factory=list)
    interval_s: float = 0.0  # of the last pictures
    _times: Floats = field(default_factory=lambda: np.zeros(0))
    _arrivals: Floats = field(default_factory=lambda: np.zeros(0))
    _gaps: Bools = field(default_factory=lambda: np.zeros(0, bool))
    _lengths: Floats = field(default_factory=lambda: np.zeros(0))  # the last intervals
    _mark: float = 0.0  # the last whole second, as a presentation time
    _past_mark: float = 0.0  # pictures between it and the last one told
    _spoiled: bool = False  # the second since the mark says nothing

    def add(self, part: Pictures, clock_hz: int) -> None:
        """The next pictures of the same run of time stamps."""
        self._times = np.concatenate([self._times, part.timestamp / clock_hz])
        self._arrivals = np.concatenate([self._arrivals, part.arrival_s])
        self._gaps = np.concatenate([self._gaps, part.gap_before])
        if len(self._times) > 3 * HELD_BACK:
            self._tell(len(self._times) - HELD_BACK)

    def cut(self) -> None:
        """The time stamps end here, or begin elsewhere."""
        self._tell(len(self._times))
        self._times, self._arrivals, self._gaps = np.zeros(0), np.zeros(0), np.zeros(0, bool)
        self._lengths = np.zeros(0)

    def _tell(self, count: int) -> None:
        """The intervals up to the picture `count`; it begins those of the next time."""
        if count < 2:
            return
        order = np.argsort(self._times, kind="stable")
        times, gaps, arrivals = self._times[order], self._gaps[order], np.maximum.accumulate(self._arrivals[order])
        lengths = np.diff(times)
        if not len(self._lengths):
            self._mark, self._past_mark, self._spoiled = float(times[0]), 0.0, False
        usual = self._usual(lengths, arrivals)
        done = count - 1 if count < len(times) else len(lengths)
        pauses = (lengths > PAUSE_S) & (lengths > PAUSE_TIMES * usual)
        self._count_seconds(times[: done + 1], pauses[:done] | gaps[1 : done + 1])
        self._note_quiet(arrivals[: done + 1], usual[:done])
        self._lengths = np.concatenate([self._lengths, lengths[:done]])[-_NEIGHBOURS:]
        last = sorted([*self._lengths.tolist(), *lengths[done:].tolist()][-_NEIGHBOURS:])
        self.interval_s = last[len(last) // 2]
        self._times, self._arrivals, self._gaps = times[done:], self._arrivals[order][done:], gaps[done:].copy()
        self._gaps[:1] = False

    def _usual(self, lengths: Floats, arrivals: Floats) -> Floats:
        """What intervals last around each of those that may be pauses, by the slower side; 0 for all others."""
        usual = np.zeros(len(lengths))
        all_lengths, begin = np.concatenate([self._lengths, lengths]), len(self._lengths)
        for index in np.flatnonzero((lengths > PAUSE_S) | (np.diff(arrivals) > PAUSE_S))[:_MAX_QUIET]:
            at = begin + int(index)
            sides = all_lengths[max(0, at - _NEIGHBOURS) : at], all_lengths[at + 1 : at + 1 + _NEIGHBOURS]
            usual[index] = max((median(side.tolist()) for side in sides if len(side)), default=lengths[index])
        return usual

    def _count_seconds(self, times: Floats, silent: Bools) -> None:
        """`silent` are the intervals between `times` in which packets are missing, or a pause is."""
        numbers = self._past_mark + np.arange(len(times))  # counted from the mark on
        begins, ends = times[:-1][silent] - self._mark, times[1:][silent] - self._mark
        # Hours without a picture are one pause, not thousands of seconds.
        whole = min(int(times[-1] - self._mark), _SECONDS)
        spoilt = {
            second
            for begin, end in zip(begins, ends, strict=True)
            for second in range(max(0, int(begin)), min(int(end), whole) + 1)
        }
        if self._spoiled:
            spoilt.add(0)
        self._spoiled = whole in spoilt
        if not whole:
            self._past_mark = float(numbers[-1])
            return
        at_marks = np.interp(self._mark + np.arange(1, whole + 1), times, numbers)
        rates = np.diff(np.concatenate([[0.0], at_marks]))
        rates[[second for second in spoilt if second < whole]] = np.nan
        kept = np.concatenate([self.rates, rates])
        self.gone += max(0, len(kept) - _SECONDS)
        self.rates = kept[-_SECONDS:]
        self._mark += int(times[-1] - self._mark)
        self._past_mark = float(numbers[-1] - np.interp(self._mark, times, numbers))

    def _note_quiet(self, arrivals: Floats, usual: Floats) -> None:
        between = np.diff(arrivals)
        for index in np.flatnonzero(between > PAUSE_S)[:_MAX_QUIET]:
            found = Quiet(float(arrivals[index]), float(arrivals[index + 1]), float(usual[index]))
            self.quiet = [*self.quiet[-_MAX_QUIET:], found]

    # What it comes to

    @property
    def known(self) -> Floats:
        """The rates of the seconds that say something [frames/s]."""
        return self.rates[~np.isnan(self.rates)]

    def varies(self) -> bool | None:
        """Whether it is no steady rate; None where too few seconds say anything."""
        rates = self.known
        return None if len(rates) < _LEAST_SECONDS else _uneven(rates)

    def step(self) -> RateStep | None:
        """The one change between two steady rates, where that is all there is."""
        seconds = np.flatnonzero(~np.isnan(self.rates))
        rates = self.rates[seconds]
        if len(rates) < 2 * _STEADY_SECONDS or not _uneven(rates):
            return None
        for within in (0, 1):  # it changes just before the second `at`, or within it
            for at in range(_STEADY_SECONDS, len(rates) - within - _STEADY_SECONDS + 1):
                before, after = rates[:at], rates[at + within :]
                sides = float(np.median(before)), float(np.median(after))
                if not _uneven(before) and not _uneven(after) and _uneven(np.array(sides)):
                    return RateStep(float(self.gone + seconds[at]) + within / 2, *sides)
        return None


def _uneven(rates: Floats) -> bool:
    low, high = float(rates.min()), float(rates.max())
    return high - low > max(_VARIES * high, min(_VARIES_FRAMES, high / 2))
