"""Where the records of a capture begin. Each tells how long it is, so that one after the other has to be walked through; here
many stretches of a buffer are walked side by side.

Where a stretch begins is guessed, by what a record looks like. The walk of the stretch before proves it, when it ends exactly
there: what is proved is what one by one would have found.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np
import numpy.typing as npt

Ints = npt.NDArray[np.int64]

_STRETCHES, _LEAST_BYTES = 256, 32_768
_MOST_LENGTHS = 4  # of a stretch, where guesses fail
_GUESSES = 32  # places at most that look like a beginning, of each stretch
_LEAST_STEP = 12  # bytes, so that every walk ends
_LOOK_EACH = 8  # steps, whether all have come to their marks


def walk(
    sizes: npt.NDArray[Any], begin: int, end: int, more: int, guess: Callable[[int, int], int]
) -> tuple[Ints, int]:
    """The places of the records from `begin` on, and the place of the next one. As many as can be proved before `end`: all but
    about one part in 256, or fewer, or none.

    sizes: by place, what a record that begins there says of its size; more: so many bytes it has beyond that
    guess: from which place on, up to which, gives the first place that looks like a record's, -1 without one
    """
    count = min(_STRETCHES, (end - begin) // _LEAST_BYTES)
    length = (end - begin) // max(1, count)
    marks = [begin]
    for number in range(1, count):
        low = max(marks[-1] + 1, begin + length * number)
        if low - marks[-1] > _MOST_LENGTHS * length:
            break  # the longest walk is what all take
        place = guess(low, low + length)
        if place >= 0:
            marks.append(place)
    at, stops = np.array(marks[:-1], np.int64), np.array(marks[1:], np.int64)
    if not len(at):
        return at, begin
    walked, last = [at], len(sizes) - 1
    while True:  # a walk that has come to its mark goes on, and what it finds there is left out
        after = at + more
        after += sizes[at]  # in 64 bits: a size near 2^32 does not begin anew
        at = np.minimum(after if more else np.maximum(after, at + _LEAST_STEP), last)
        walked.append(at)
        if not len(walked) % _LOOK_EACH and (at >= stops).all():
            break
    grid = np.array(walked).T
    mine = grid < stops[:, None]
    ends = grid[np.arange(len(stops)), mine.sum(axis=1)]
    wrong = np.flatnonzero(ends != stops)
    proved = int(wrong[0]) if len(wrong) else len(stops)
    return grid[:proved][mine[:proved]], int(stops[proved - 1]) if proved else begin


def looking(buffer: bytearray, pattern: bytes, offset: int, like: Callable[[int], bool]) -> Callable[[int, int], int]:
    """A guess by bytes that each record has, at this offset within it; `like` tells whether one may begin there."""

    def guess(low: int, high: int) -> int:
        at = low + offset
        for _ in range(_GUESSES):
            at = buffer.find(pattern, at, high)
            if at < 0:
                return -1
            if like(at - offset):
                return at - offset
            at += 1
        return -1

    return guess
