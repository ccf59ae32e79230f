"""Capture files of the older form (draft-ietf-opsawg-pcap): a header, then records, each with a header of 16 bytes."""

from __future__ import annotations

import struct
from contextlib import suppress

import numpy as np

from zentrale.protocols.capture.chains import looking, walk
from zentrale.protocols.capture.packets import MAX_PACKET_BYTES, Batch, Held, Ints, Parsed, every, heads

HEADER_BYTES = 24
# By how a file begins: its byte order, and its unit of time [s].
MAGIC = {b"\xd4\xc3\xb2\xa1": ("<", 1e-6), b"\xa1\xb2\xc3\xd4": (">", 1e-6), b"\x4d\x3c\xb2\xa1": ("<", 1e-9),
         b"\xa1\xb2\x3c\x4d": (">", 1e-9)}  # fmt: skip
_CAUGHT = 8  # where the header of a record says how many bytes follow it
_NEAR_S = 86_400


class Records:
    """header: the first bytes of the file, which begin as `MAGIC` has it"""

    def __init__(self, header: bytes) -> None:
        self._order, self._tick_s = MAGIC[header[:4]]
        self._link = struct.unpack_from(f"{self._order}I", header, 20)[0] & 0x0FFFFFFF

    def parse(self, held: Held, begin: int, end: int) -> Parsed:
        known, at = self._walked(held, begin, end)
        buffer, at = memoryview(held.buffer)[:end], at + _CAUGHT
        caught_at = struct.Struct(f"{self._order}I").unpack_from
        starts: list[int] = []
        note = starts.append
        with suppress(struct.error):  # at the end: nothing else ends it, so that each turn is short
            while True:
                (size,) = caught_at(buffer, at)
                note(at)
                at += 16 + size
        why = ""
        if starts and at - _CAUGHT > end:
            size, at = at - starts[-1] - 16, starts.pop()
            why = f"a packet of {size} bytes" if size > MAX_PACKET_BYTES else ""
        at -= _CAUGHT
        places = np.concatenate([known, np.array(starts, np.int64) - _CAUGHT])
        if not len(places):
            return Parsed(at, None, why)
        words = heads(held.data, places, 16).view(f"{self._order}u4").astype(np.int64)
        time_s = words[:, 0] + words[:, 1] * self._tick_s
        link, interface = np.full(len(places), self._link), np.zeros(len(places), np.int64)
        caught, length = words[:, 2], np.maximum(words[:, 2], words[:, 3])
        return Parsed(at, Batch(held.data, places + 16, caught, length, time_s, link, interface), why)

    def _walked(self, held: Held, begin: int, end: int) -> tuple[Ints, int]:
        """As many as are found at a stroke: what looks like one has a time near the first one's, and so has the one after it."""
        if end - begin < 16:
            return np.zeros(0, np.int64), begin
        buffer, header = held.buffer, struct.Struct(f"{self._order}IIII").unpack_from
        begun, ticks = header(buffer, begin)[0], round(1 / self._tick_s)

        def like(at: int, follows: int = 1) -> bool:
            if at + 16 > end:
                return follows == 0
            second, part, caught, length = header(buffer, at)
            good = abs(second - begun) < _NEAR_S and part < ticks and 0 < caught <= min(length, MAX_PACKET_BYTES)
            return good and (follows == 0 or like(at + 16 + caught, 0))

        offset = 2 if self._order == "<" else 0  # the higher half of the seconds
        pattern = bytes(buffer[begin + offset : begin + offset + 2])
        sizes = every(held.data, f"{self._order}u4")[_CAUGHT:]
        return walk(sizes, begin, end, 16, looking(buffer, pattern, offset, like))
