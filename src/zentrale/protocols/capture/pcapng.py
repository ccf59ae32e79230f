"""Capture files of the newer form (draft-ietf-opsawg-pcapng): blocks, each with its type and its length before and behind it."""

from __future__ import annotations

import struct
from dataclasses import dataclass
from typing import NamedTuple

import numpy as np
import numpy.typing as npt

from zentrale.protocols.capture.chains import looking, walk
from zentrale.protocols.capture.packets import (
    MAX_PACKET_BYTES,
    ROOM_BYTES,
    Batch,
    Held,
    Ints,
    Parsed,
    among,
    every,
    heads,
)

MAGIC = b"\x0a\x0d\x0d\x0a"  # how a file begins
MAX_BLOCK_BYTES = 4 * 1024 * 1024
_SECTION, _INTERFACE, _SIMPLE, _ENHANCED, _OLD = 0x0A0D0D0A, 1, 3, 6, 2
_TSRESOL, _TSOFFSET = 9, 14
_RUN = 1024  # packets at a stroke, at least
_LEAST_BYTES = 1024 * 1024  # in which they are looked for


@dataclass
class _Interface:
    link: int
    tick_s: float = 1e-6
    offset_s: float = 0.0
    snap: int = 0


class _Rows(NamedTuple):
    """Of packets, one after the other."""

    ticks: list[int]
    at: list[int]
    caught: list[int]
    length: list[int]
    interface: list[int]


class Blocks:
    """A file; what it says of itself lies in its blocks."""

    def __init__(self) -> None:
        self._order = "<"
        self._interfaces: list[_Interface] = []
        self._reach, self._tried = (
            ROOM_BYTES,
            0,
        )  # so many bytes at a stroke; up to this place of the file that was tried

    def parse(self, held: Held, begin: int, end: int) -> Parsed:
        at, rows, why = begin, _Rows([], [], [], [], []), ""
        while at + 12 <= end and not why:
            kind, size = struct.unpack_from(f"{self._order}II", held.buffer, at)
            if kind == _ENHANCED and held.offset + at >= self._tried:
                if rows.at:
                    break
                if (found := self._run(held, at, end)) is not None:
                    return found
            order = self._order
            if kind == _SECTION:
                if rows.at:  # packets that are given out together are of one section
                    break
                magic = held.buffer[at + 8 : at + 12]
                order = "<" if magic == b"\x4d\x3c\x2b\x1a" else ">" if magic == b"\x1a\x2b\x3c\x4d" else ""
                if not order:
                    return Parsed(at, None, "a section whose byte order nobody knows")
                size = struct.unpack_from(f"{order}I", held.buffer, at + 4)[0]
            if size < 12 or size % 4 or size > MAX_BLOCK_BYTES:
                why = f"a block of {size} bytes"
            elif at + size > end:
                break
            elif kind == _SECTION:
                self._order, self._interfaces = order, []
            else:
                why = self._block(held, kind, at, size, rows)
            at += 0 if why else size
        if not rows.at:
            return Parsed(at, None, why)
        places, caught, length, interface = (np.array(some, np.int64) for some in rows[1:])
        return Parsed(at, self._batch(held, np.array(rows.ticks, np.uint64), places, caught, length, interface), why)

    def _run(self, held: Held, begin: int, end: int) -> Parsed | None:
        """Packets at a stroke, as long as there is nothing else among them but what is left alone anyway. None where these are
        too few: what was looked at in vain is gone through one by one.
        """
        end = min(end, begin + self._reach)
        self._tried = held.offset + end
        header = struct.Struct(f"{self._order}IIIIIII").unpack_from

        def like(at: int) -> bool:
            if at + 32 > end:
                return False
            _, size, interface, _, _, caught, _ = header(held.buffer, at)
            good: bool = 32 + caught <= size <= MAX_PACKET_BYTES and size % 4 == 0 and interface < len(self._interfaces)
            return good

        guess = looking(held.buffer, struct.pack(f"{self._order}I", _ENHANCED), 0, like)
        places, after = walk(every(held.data, f"{self._order}u4")[4:], begin, end, 0, guess)
        if len(places) < _RUN:
            return None
        words = heads(held.data, places, 28).view(f"{self._order}u4").astype(np.int64)
        kind, size, interface, high, low, caught, length = words.T
        packet = kind == _ENHANCED
        good = (size >= 12) & (size % 4 == 0) & (size <= MAX_BLOCK_BYTES)
        good &= ~among(kind, (_SECTION, _INTERFACE, _SIMPLE, _OLD))
        good &= ~packet | ((caught <= size - 32) & (interface < len(self._interfaces)))
        count = len(places) if good.all() else int(np.argmin(good))
        if count < len(places):
            after = int(places[count])
            self._reach = max(_LEAST_BYTES, 2 * (after - begin))
        else:
            self._reach = ROOM_BYTES
        if count < _RUN:
            return None
        self._tried = held.offset + after
        rows = np.flatnonzero(packet[:count])
        ticks = high[rows].astype(np.uint64) << np.uint64(32) | low[rows].astype(np.uint64)
        return Parsed(after, self._batch(held, ticks, places[rows] + 28, caught[rows], length[rows], interface[rows]))

    def _block(self, held: Held, kind: int, at: int, size: int, rows: _Rows) -> str:
        """Take one in. Why it ends the reading, empty where it does not."""
        buffer, order, body = held.buffer, self._order, at + 8
        values: tuple[int, ...] = ()
        if kind == _INTERFACE and size >= 20:
            link, _, snap = struct.unpack_from(f"{order}HHI", buffer, body)
            self._interfaces.append(self._with_options(held, _Interface(link, snap=snap), body + 8, at + size - 4))
        elif kind in (_ENHANCED, _OLD) and size >= 32:
            if kind == _ENHANCED:
                interface, high, low, caught, length = struct.unpack_from(f"{order}IIIII", buffer, body)
            else:
                interface, _, high, low, caught, length = struct.unpack_from(f"{order}HHIIII", buffer, body)
            if caught > size - 32 or interface >= len(self._interfaces):
                return "a packet that is longer than its block, or of an unknown interface"
            values = high << 32 | low, body + 20, caught, length, interface
        elif kind == _SIMPLE and size >= 16 and self._interfaces:
            length = struct.unpack_from(f"{order}I", buffer, body)[0]
            values = 0, body + 4, min(length, size - 16, self._interfaces[0].snap or length), length, 0
        for column, value in zip(
            rows, values, strict=False
        ):  # nothing of what is not known here, as secrets for decryption
            column.append(value)
        return ""

    def _with_options(self, held: Held, interface: _Interface, at: int, end: int) -> _Interface:
        while at + 4 <= end:
            code, size = struct.unpack_from(f"{self._order}HH", held.buffer, at)
            value = held.buffer[at + 4 : min(end, at + 4 + size)]
            if code == 0:
                break
            if code == _TSRESOL and value:
                interface.tick_s = 2.0 ** -(value[0] & 0x7F) if value[0] & 0x80 else 10.0 ** -value[0]
            elif code == _TSOFFSET and len(value) == 8:
                interface.offset_s = float(struct.unpack(f"{self._order}q", value)[0])
            at += 4 + size + -size % 4
        return interface

    def _batch(
        self, held: Held, ticks: npt.NDArray[np.uint64], at: Ints, caught: Ints, length: Ints, interface: Ints
    ) -> Batch:
        tick_s = np.array([i.tick_s for i in self._interfaces])[interface]
        offset_s = np.array([i.offset_s for i in self._interfaces])[interface]
        link = np.array([i.link for i in self._interfaces], np.int64)[interface]
        time_s = ticks * tick_s + offset_s
        return Batch(held.data, at, caught, np.maximum(length, caught), time_s, link, interface)
