"""What was said over TCP (RFC 9293), put together again: out of order, sent twice, with holes, joined in the middle.

Bounded, whatever the file holds: what waits for a hole to be filled is let go after so many bytes, and the hole is told.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field

MOST_WAITING_BYTES, MOST_WAITING = 512 * 1024, 512
_HALF, _WHOLE = 1 << 31, 1 << 32


@dataclass
class Side:
    """One direction of a connection. `data` is called with what comes next, in order, when, and with which packet; `hole` with
    how many bytes are missing before it.
    """

    data: Callable[[bytes, float, int], None]
    hole: Callable[[int, int], None]
    holes: int = 0
    missing: int = 0
    again: int = 0
    disordered: int = 0
    kept: int = 0
    _next: int | None = None
    _waiting: dict[int, tuple[bytes, int, float, int]] = field(default_factory=dict)
    waiting_bytes: int = 0

    def begin(self, sequence: int) -> None:
        """It began here: the first byte has the next number."""
        self._next, self._waiting, self.waiting_bytes = (sequence + 1) % _WHOLE, {}, 0

    def push(self, sequence: int, data: bytes, size: int, time_s: float, number: int) -> None:
        """`size`: so many bytes it carried, of which `data` was caught."""
        if self._next is None:
            self._next = sequence
        ahead = (sequence - self._next + _HALF) % _WHOLE - _HALF
        if ahead > 0:
            self.disordered += 1
            if sequence not in self._waiting:
                self._waiting[sequence] = data, size, time_s, number
                self.waiting_bytes += len(data)
            if self.waiting_bytes > MOST_WAITING_BYTES or len(self._waiting) > MOST_WAITING:
                self._let_go()
            return
        if ahead + size <= 0:
            self.again += size > 0
            return
        self._deliver(data[-ahead:] if ahead else data, size + ahead, time_s, number)
        self._drain()

    def leave(self) -> None:
        """What waits is let go."""
        self._waiting, self.waiting_bytes = {}, 0

    def finish(self) -> None:
        """Nothing comes any more: what waits is told behind its hole."""
        while self._waiting:
            self._let_go()

    def _deliver(self, data: bytes, size: int, time_s: float, number: int) -> None:
        assert self._next is not None
        self.kept += len(data)
        if data:
            self.data(data, time_s, number)
        if size > len(data):  # it was not caught whole
            self._missing(size - len(data), number)
        self._next = (self._next + size) % _WHOLE

    def _missing(self, count: int, number: int) -> None:
        self.holes += 1
        self.missing += count
        self.hole(count, number)

    def _drain(self) -> None:
        while self._waiting:
            assert self._next is not None
            found = self._waiting.pop(self._next, None)
            if found is None:
                if len(self._waiting) > 64:
                    return
                behind = [s for s in self._waiting if (s - self._next + _HALF) % _WHOLE - _HALF < 0]
                for sequence in behind:  # sent again in other pieces
                    data, size, time_s, number = self._waiting.pop(sequence)
                    self.waiting_bytes -= len(data)
                    self.push(sequence, data, size, time_s, number)
                if not behind:
                    return
                continue
            self.waiting_bytes -= len(found[0])
            self._deliver(*found)

    def _let_go(self) -> None:
        """The hole before what waits is given up."""
        assert self._next is not None
        start = self._next
        first = min(self._waiting, key=lambda s: (s - start + _HALF) % _WHOLE)
        gap = (first - start + _HALF) % _WHOLE - _HALF
        if gap > 0:
            self._missing(gap, self._waiting[first][3])
            self._next = first
        self._drain()
