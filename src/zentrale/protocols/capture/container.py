"""The files that captures are kept in: pcap (micro- and nanoseconds, both byte orders) and pcapng, as bytes that come in parts.

Written from draft-ietf-opsawg-pcap and draft-ietf-opsawg-pcapng. What cannot be read ends the reading there, and says where:
all that came before it counts.
"""

from __future__ import annotations

import struct
from collections.abc import Callable, Iterable, Iterator
from contextlib import suppress
from dataclasses import dataclass
from typing import Any, NamedTuple

import numpy as np
import numpy.typing as npt

from zentrale.protocols.capture.chains import looking, walk

Bytes = npt.NDArray[np.uint8]
Ints = npt.NDArray[np.int64]
Floats = npt.NDArray[np.float64]

MAX_PACKET_BYTES = 262_144  # the largest snap length that capture tools use
MAX_BLOCK_BYTES = 4 * 1024 * 1024
ROOM_BYTES = 24 * 1024 * 1024
_MAX_LEFT = MAX_BLOCK_BYTES
# It begins to fill a buffer; what it returns waits for the end of that, and tells how many bytes came: 0 at the end of the file.
Fill = Callable[[memoryview], Callable[[], int]]
SPARE = 128  # bytes behind a batch, so that a header at its very end may be looked at
_PCAP = {b"\xd4\xc3\xb2\xa1": ("<", 1e-6), b"\xa1\xb2\xc3\xd4": (">", 1e-6), b"\x4d\x3c\xb2\xa1": ("<", 1e-9),
         b"\xa1\xb2\x3c\x4d": (">", 1e-9)}  # fmt: skip
_SECTION, _INTERFACE, _SIMPLE, _ENHANCED, _OLD = 0x0A0D0D0A, 1, 3, 6, 2
_CAUGHT = 8  # where the header of a packet in pcap says how many bytes follow it
_NEAR_S = 86_400
_RUN, _LEAST_BYTES = 1024, 1024 * 1024  # packets of pcapng, at least; bytes in which they are looked for
_NONE = np.zeros(0, np.int64)
_TSRESOL, _TSOFFSET = 9, 14
NOT_A_CAPTURE = "it is no capture file: it begins neither as pcap nor as pcapng"


def heads(data: Bytes, at: Ints, size: int) -> Bytes:
    """The first bytes of each, in rows."""
    return every(data, f"V{size}")[at].view(np.uint8).reshape(-1, size)


def every(data: Bytes, kind: str) -> npt.NDArray[Any]:
    """What begins at each byte, read as of this kind: looked at in place, nothing is copied."""
    what = np.dtype(kind)
    return np.ndarray((len(data) - what.itemsize + 1,), what, data, strides=(1,))


def among(column: Ints, values: Iterable[int]) -> npt.NDArray[np.bool_]:
    """As isin, which is slow for a few."""
    found = np.zeros(len(column), bool)
    for value in values:
        found |= column == value
    return found


class Batch(NamedTuple):
    """Some packets, in the order of the file.

    data:    the bytes that they lie in, with some spare ones behind; at: where each begins
    caught:  so many bytes of each are there; length: so many it had
    time_s:  when it was caught [s since 1970]; link: of which link type (LINKTYPE_ values), interface: on which
    number:  of the first one, counted from 1
    """

    data: Bytes
    at: Ints
    caught: Ints
    length: Ints
    time_s: Floats
    link: Ints
    interface: Ints
    number: int

    @property
    def links(self) -> list[int]:
        """Each link type that there is; nearly always one."""
        alike = not len(self.link) or bool((self.link == self.link[0]).all())
        links: list[int] = (self.link[:1] if alike else np.unique(self.link)).tolist()
        return links


@dataclass
class _Interface:
    link: int
    tick_s: float = 1e-6
    offset_s: float = 0.0
    snap: int = 0


class _Rows(NamedTuple):
    """Of packets of pcapng, one after the other."""

    ticks: list[int]
    at: list[int]
    caught: list[int]
    length: list[int]
    interface: list[int]


class CaptureReader:
    """Reads from whatever fills a buffer. `ended` says why it read no more, empty where all was read; `packets` how many there
    were.

    The bytes of a batch are good until the next one is asked for: of a file of any size no more than a buffer is held.
    """

    def __init__(self) -> None:
        self.ended = ""
        self.packets = 0
        self._offset = 0  # from a place in the buffer to its place in the file
        self._order = ""
        self._ng = False
        self._interfaces: list[_Interface] = []
        self._reach, self._tried = ROOM_BYTES, 0  # of pcapng: so many bytes at a stroke; up to here that was tried
        self._buffer = bytearray()
        self._data: Bytes = np.zeros(0, np.uint8)

    def batches(self, fill: Fill, room_bytes: int = ROOM_BYTES) -> Iterator[Batch]:
        """While the packets of one buffer are looked at, `fill` may fill the other one."""
        front = min(room_bytes, _MAX_LEFT)  # where the beginning of an unfinished packet goes, before what follows it
        buffers = [bytearray(front + room_bytes + SPARE) for _ in range(2)]
        views = [memoryview(buffer)[front : front + room_bytes] for buffer in buffers]
        coming, left, read = fill(views[0]), b"", 0
        while not self.ended and (came := coming()):
            self._buffer, begin, end = buffers[0], front - len(left), front + came
            self._buffer[begin:front] = left
            self._offset, read = read - front, read + came
            self._data = np.frombuffer(self._buffer, np.uint8)
            coming = fill(views[1])
            while not self.ended:
                after, batch = self._parse(begin, end)
                if batch is not None:
                    yield batch
                if after == begin:
                    break
                begin = after
            left = bytes(self._buffer[begin:end])
            if len(left) > front and not self.ended:
                self._stop(begin, "a block that is larger than anything that a capture holds")
            buffers.reverse()
            views.reverse()
        if not self.ended:
            if not self._order:
                self.ended = NOT_A_CAPTURE if left else "the file is empty"
            elif left:
                self.ended = f"cut off at byte {read - len(left)}: {len(left)} bytes of an unfinished packet are left"

    def _stop(self, at: int, why: str) -> None:
        self.ended = f"damaged at byte {self._offset + at}: {why}"

    def _parse(self, begin: int, end: int) -> tuple[int, Batch | None]:
        """How far it came between these places of the buffer, and the packets up to there."""
        if not self._order and (after := self._begin(begin, end)) > begin:
            return after, None
        if not self._order:
            return begin, None
        return self._blocks(begin, end) if self._ng else self._records(begin, end)

    def _begin(self, begin: int, end: int) -> int:
        magic = bytes(self._buffer[begin : begin + 4])
        if end - begin < 4:
            return begin
        if magic in _PCAP:
            if end - begin < 24:
                return begin
            self._order, tick_s = _PCAP[magic]
            link = struct.unpack_from(f"{self._order}I", self._buffer, begin + 20)[0] & 0x0FFFFFFF
            self._interfaces = [_Interface(link, tick_s)]
            return begin + 24
        if magic == b"\x0a\x0d\x0d\x0a":
            self._ng, self._order = True, "<"
            return begin
        self.ended = NOT_A_CAPTURE
        return begin

    def _records(self, begin: int, end: int) -> tuple[int, Batch | None]:
        """Of pcap: a header of 16 bytes before each packet, with its caught bytes in the third word."""
        known, at = self._walked_records(begin, end)
        buffer, at = memoryview(self._buffer)[:end], at + _CAUGHT
        caught_at = struct.Struct(f"{self._order}I").unpack_from
        starts: list[int] = []
        note = starts.append
        with suppress(struct.error):  # at the end: nothing else ends it, so that each turn is short
            while True:
                (size,) = caught_at(buffer, at)
                note(at)
                at += 16 + size
        if starts and at - _CAUGHT > end:
            size, at = at - starts[-1] - 16, starts.pop()
            if size > MAX_PACKET_BYTES:
                self._stop(at - _CAUGHT, f"a packet of {size} bytes")
        at -= _CAUGHT
        places = np.concatenate([known, np.array(starts, np.int64) - _CAUGHT])
        if not len(places):
            return at, None
        words = heads(self._data, places, 16).view(f"{self._order}u4").astype(np.int64)
        time_s = words[:, 0] + words[:, 1] * self._interfaces[0].tick_s
        return at, self._batch(places + 16, words[:, 2], words[:, 3], time_s, np.zeros(len(places), np.int64))

    def _walked_records(self, begin: int, end: int) -> tuple[Ints, int]:
        """As many as are found at a stroke: what looks like one has a time near the first one's, and so has the one after it."""
        if end - begin < 16:
            return _NONE, begin
        header = struct.Struct(f"{self._order}IIII").unpack_from
        begun, ticks = header(self._buffer, begin)[0], round(1 / self._interfaces[0].tick_s)

        def like(at: int, follows: int = 1) -> bool:
            if at + 16 > end:
                return follows == 0
            second, part, caught, length = header(self._buffer, at)
            good = abs(second - begun) < _NEAR_S and part < ticks and 0 < caught <= min(length, MAX_PACKET_BYTES)
            return good and (follows == 0 or like(at + 16 + caught, 0))

        offset = 2 if self._order == "<" else 0  # the higher half of the seconds
        pattern = bytes(self._buffer[begin + offset : begin + offset + 2])
        sizes = every(self._data, f"{self._order}u4")[_CAUGHT:]
        return walk(sizes, begin, end, 16, looking(self._buffer, pattern, offset, like))

    def _blocks(self, begin: int, end: int) -> tuple[int, Batch | None]:
        """Of pcapng: blocks, each with its type and its length before and behind it."""
        buffer, at, rows = self._buffer, begin, _Rows([], [], [], [], [])
        while at + 12 <= end:
            order = self._order
            kind, size = struct.unpack_from(f"{order}II", buffer, at)
            if kind == _ENHANCED and self._offset + at >= self._tried:
                if rows.at:
                    break
                if (found := self._run(at, end)) is not None:
                    return found
            if kind == _SECTION:
                if rows.at:  # a batch is of one section
                    break
                magic = buffer[at + 8 : at + 12]
                order = "<" if magic == b"\x4d\x3c\x2b\x1a" else ">" if magic == b"\x1a\x2b\x3c\x4d" else ""
                if not order:
                    self._stop(at, "a section whose byte order nobody knows")
                    break
                size = struct.unpack_from(f"{order}I", buffer, at + 4)[0]
            if size < 12 or size % 4 or size > MAX_BLOCK_BYTES:
                self._stop(at, f"a block of {size} bytes")
                break
            if at + size > end:
                break
            if kind == _SECTION:
                self._order, self._interfaces = order, []
            elif not self._block(kind, at, size, rows):
                break
            at += size
        if not rows.at:
            return at, None
        places, caught, length, interface = (np.array(some, np.int64) for some in rows[1:])
        return at, self._of_blocks(np.array(rows.ticks, np.uint64), places, caught, length, interface)

    def _run(self, begin: int, end: int) -> tuple[int, Batch] | None:
        """Packets at a stroke, as long as there is nothing else among them but what is left alone anyway. None where these are
        too few: what was looked at in vain is gone through one by one.
        """
        end = min(end, begin + self._reach)
        self._tried = self._offset + end
        header = struct.Struct(f"{self._order}IIIIIII").unpack_from

        def like(at: int) -> bool:
            if at + 32 > end:
                return False
            _, size, interface, _, _, caught, _ = header(self._buffer, at)
            good: bool = 32 + caught <= size <= MAX_PACKET_BYTES and size % 4 == 0 and interface < len(self._interfaces)
            return good

        pattern = struct.pack(f"{self._order}I", _ENHANCED)
        sizes = every(self._data, f"{self._order}u4")[4:]
        places, after = walk(sizes, begin, end, 0, looking(self._buffer, pattern, 0, like))
        if len(places) < _RUN:
            return None
        kind, size, interface, high, low, caught, length = (
            heads(self._data, places, 28).view(f"{self._order}u4").astype(np.int64).T
        )
        packet = kind == _ENHANCED
        good = (
            (size >= 12)
            & (size % 4 == 0)
            & (size <= MAX_BLOCK_BYTES)
            & ~among(kind, (_SECTION, _INTERFACE, _SIMPLE, _OLD))
        )
        good &= ~packet | ((caught <= size - 32) & (interface < len(self._interfaces)))
        first = len(places) if good.all() else int(np.argmin(good))
        self._reach = ROOM_BYTES if first == len(places) else max(_LEAST_BYTES, 2 * int(places[first] - begin))
        if first < _RUN:
            return None
        after = after if first == len(places) else int(places[first])
        self._tried = self._offset + after
        rows = np.flatnonzero(packet[:first])
        ticks = high[rows].astype(np.uint64) << np.uint64(32) | low[rows].astype(np.uint64)
        return after, self._of_blocks(ticks, places[rows] + 28, caught[rows], length[rows], interface[rows])

    def _block(self, kind: int, at: int, size: int, rows: _Rows) -> bool:
        """Take one in. False where it ends the reading."""

        def note(*values: int) -> None:
            for column, value in zip(rows, values, strict=True):
                column.append(value)

        buffer, order, body = self._buffer, self._order, at + 8
        if kind == _INTERFACE and size >= 20:
            link, _, snap = struct.unpack_from(f"{order}HHI", buffer, body)
            self._interfaces.append(self._with_options(_Interface(link, snap=snap), body + 8, at + size - 4))
        elif kind in (_ENHANCED, _OLD) and size >= 32:
            if kind == _ENHANCED:
                interface, high, low, caught, length = struct.unpack_from(f"{order}IIIII", buffer, body)
            else:
                interface, _, high, low, caught, length = struct.unpack_from(f"{order}HHIIII", buffer, body)
            if caught > size - 32 or interface >= len(self._interfaces):
                self._stop(at, "a packet that is longer than its block, or of an unknown interface")
                return False
            note(high << 32 | low, body + 20, caught, length, interface)
        elif kind == _SIMPLE and size >= 16 and self._interfaces:
            length = struct.unpack_from(f"{order}I", buffer, body)[0]
            caught = min(length, size - 16, self._interfaces[0].snap or length)
            note(0, body + 4, caught, length, 0)
        return True  # what is not known here, as secrets for decryption, is left alone

    def _with_options(self, interface: _Interface, at: int, end: int) -> _Interface:
        buffer = self._buffer
        while at + 4 <= end:
            code, size = struct.unpack_from(f"{self._order}HH", buffer, at)
            value = buffer[at + 4 : min(end, at + 4 + size)]
            if code == 0:
                break
            if code == _TSRESOL and value:
                interface.tick_s = 2.0 ** -(value[0] & 0x7F) if value[0] & 0x80 else 10.0 ** -value[0]
            elif code == _TSOFFSET and len(value) == 8:
                interface.offset_s = float(struct.unpack(f"{self._order}q", value)[0])
            at += 4 + size + -size % 4
        return interface

    def _of_blocks(self, ticks: npt.NDArray[np.uint64], at: Ints, caught: Ints, length: Ints, interface: Ints) -> Batch:
        tick_s = np.array([i.tick_s for i in self._interfaces])[interface]
        offset_s = np.array([i.offset_s for i in self._interfaces])[interface]
        return self._batch(at, caught, length, ticks * tick_s + offset_s, interface)

    def _batch(self, at: Ints, caught: Ints, length: Ints, time_s: Floats, interface: Ints) -> Batch:
        link = np.array([i.link for i in self._interfaces], np.int64)[interface]
        number = self.packets + 1
        self.packets += len(at)
        return Batch(self._data, at, caught, np.maximum(length, caught), time_s, link, interface, number)
