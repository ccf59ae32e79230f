"""Whether what comes is as small as pictures are in which nothing changes: what a stream that froze looks like from outside.

Sizes accuse nobody, since a night scene may be as quiet. They say when it is worth while to lay two key pictures side by side.
"""

from __future__ import annotations

import numpy as np

from zentrale.protocols.streams.packet_log import KEY, MARKER, OTHER, Records

STILL_AFTER_S = 1.0
_PICTURES = 10  # over so many at a time
_BYTES, _KEY_SHARE = (
    400,
    0.05,
)  # a picture that repeats the one before, with a clock in it, needs no more than one of these
_SAME_SIZE = 0.005  # where each picture stands alone, those that are alike are of one size
_MAX_PERIODS = 16


class QuietWatch:
    """Feed records. `since_s` is since when pictures are so small, by arrival [s]; None where they are not."""

    def __init__(self, codec: str) -> None:
        self.codec = codec
        self.since_s: float | None = None
        self.known = False
        self._periods: list[tuple[float, float]] = []
        self._begin_s: float | None = None
        self._bytes = self._pictures = self._keys = 0
        self._key_bytes = 0.0  # of a key picture, as they come now: others are small beside it
        self._sizes: list[int] = []  # of pictures that stand alone

    def take(self, records: Records) -> None:
        flags = records["flags"]
        other, marker = (flags & (KEY | OTHER)) == 0, (flags & MARKER) != 0
        arrival_s = records["arrival_s"]
        self._begin_s = float(arrival_s[0]) if self._begin_s is None else self._begin_s
        self._bytes += int(records["size_bytes"][other].sum())
        self._pictures += int((other & marker).sum())
        key = (flags & KEY) != 0
        keys = int((key & marker).sum())
        self._keys += keys
        if keys:
            self._key_bytes = float(records["size_bytes"][key].sum()) / keys
        alone = self._keys > self._pictures
        if alone:
            ends = np.flatnonzero(marker)
            self._sizes += np.diff(np.concatenate([[0], np.cumsum(records["size_bytes"])[ends]])).tolist()[1:]
        if self._pictures + self._keys < _PICTURES or not self._key_bytes:
            return
        if alone:
            sizes = self._sizes or [0]
            small = max(sizes) - min(sizes) <= _SAME_SIZE * max(sizes)
        else:
            small = self._bytes <= max(_BYTES, _KEY_SHARE * self._key_bytes) * self._pictures
        end_s = float(arrival_s[-1])
        if not small:
            self.since_s = None
        elif self.since_s is None:
            self.since_s = self._begin_s
            self._periods = [*self._periods[-_MAX_PERIODS:], (self._begin_s, end_s)]
        else:
            self._periods[-1] = self._periods[-1][0], end_s
        self.known, self._begin_s = True, None
        self._bytes = self._pictures = self._keys = 0
        self._sizes = []

    def lasted(self, begin_s: float, end_s: float) -> bool:
        """Whether it was quiet from the one time to the other, but for what could not be told apart at both ends."""
        return (
            any(begin <= begin_s + STILL_AFTER_S and end >= end_s - STILL_AFTER_S for begin, end in self._periods)
            and end_s - begin_s >= STILL_AFTER_S
        )
