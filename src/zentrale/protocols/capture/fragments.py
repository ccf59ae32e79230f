"""Datagrams that came in parts (RFC 791 clause 3.2, RFC 8200 clause 4.5), put together and handed on as packets of their own."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np

from zentrale.protocols.capture.layers import RAW, Layers
from zentrale.protocols.capture.packets import SPARE, Batch

MOST_BYTES, MOST_PARTS = 8 * 1024 * 1024, 64
_MORE_4, _OFFSET_4 = 0x2000, 0x1FFF
_Key = tuple[int, int, int, int]


@dataclass
class _Parts:
    head: bytes  # the IP header before it, as a whole datagram would have it
    pieces: dict[int, bytes] = field(default_factory=dict)
    end: int | None = None

    def whole(self) -> bytes | None:
        """None where something is missing, or overlaps: that is nobody's honest datagram."""
        at, found = 0, []
        for offset, piece in sorted(self.pieces.items()):
            if offset != at:
                return None
            found.append(piece)
            at += len(piece)
        return b"".join(found) if at == self.end else None


class Fragments:
    """`lost`: datagrams of which parts never came."""

    def __init__(self) -> None:
        self.lost = 0
        self._open: dict[_Key, _Parts] = {}
        self._bytes = 0

    def take(self, batch: Batch, layers: Layers) -> Batch | None:
        """The datagrams that are whole now; each has the number and the time of its last part."""
        done: list[tuple[bytes, int]] = []
        for row in np.flatnonzero(layers.fragment & (layers.ip >= 0)).tolist():
            packet = self._part(batch, layers, row)
            if packet is not None:
                done.append((packet, row))
        if not done:
            return None
        sizes = np.array([len(p) for p, _ in done], np.int64)
        rows = np.array([row for _, row in done], np.int64)
        data = np.frombuffer(b"".join(p for p, _ in done) + bytes(SPARE), np.uint8)
        link = np.full(len(done), RAW, np.int64)
        return Batch(
            data, np.cumsum(sizes) - sizes, sizes, sizes, batch.time_s[rows], link, batch.interface[rows],
            batch.number + int(rows[0]),
        )  # fmt: skip

    def _part(self, batch: Batch, layers: Layers, row: int) -> bytes | None:
        data, ip, start = batch.data, int(layers.ip[row]), int(layers.transport[row])
        end = int(batch.at[row] + batch.caught[row])
        size = int(layers.size[row])
        if start + size > end:
            return None  # not caught whole
        if data[ip] >> 4 == 4:
            flags = int(data[ip + 6]) << 8 | int(data[ip + 7])
            number, offset, more = int(data[ip + 4]) << 8 | int(data[ip + 5]), 8 * (flags & _OFFSET_4), flags & _MORE_4
            head = bytearray(data[ip:start].tobytes())
            head[6:8] = b"\0\0"
        else:
            fragment = start - 8
            flags = int(data[fragment + 2]) << 8 | int(data[fragment + 3])
            number, offset, more = (
                int.from_bytes(data[fragment + 4 : fragment + 8].tobytes(), "big"),
                flags & 0xFFF8,
                flags & 1,
            )
            head = bytearray(data[ip : ip + 40].tobytes())
            head[6] = int(layers.proto[row])
        key = int(layers.source[row]), int(layers.target[row]), number, int(layers.proto[row])
        parts = self._open.setdefault(key, _Parts(bytes(head)))
        parts.pieces.setdefault(offset, data[start : start + size].tobytes())
        self._bytes += size
        if not more:
            parts.end = offset + size
        whole = parts.whole()
        if whole is not None or len(parts.pieces) > MOST_PARTS:
            self._close(key)
        while self._bytes > MOST_BYTES and self._open:
            self.lost += 1
            self._close(next(iter(self._open)))
        if whole is None:
            return None
        head = bytearray(parts.head)
        if head[0] >> 4 == 4:
            head[2:4] = min(0xFFFF, len(head) + len(whole)).to_bytes(2, "big")
        else:
            head[4:6] = min(0xFFFF, len(whole)).to_bytes(2, "big")
        return bytes(head) + whole

    def _close(self, key: _Key) -> None:
        parts = self._open.pop(key)
        self._bytes -= sum(map(len, parts.pieces.values()))

    def finish(self) -> None:
        self.lost += len(self._open)
