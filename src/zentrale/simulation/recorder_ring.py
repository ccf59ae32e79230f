"""What one channel of a stand-in recorder has stored: packets in a file of bounded size, the oldest giving way to the newest.

The file has no name, so that nothing is left of it however the stand-in ends.
"""

from __future__ import annotations

import os
import struct
import tempfile
from collections import deque
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from typing import IO

from zentrale.protocols.onvif import recording

_CHUNK_BYTES = 64 * 1024
_CHUNK_S = 1.0
_RECORD = struct.Struct("!dI")  # when it came [s since 1970], and how long it is [bytes]


@dataclass
class _Chunk:
    """A run of packets: where it stands in the file, and when its first and last came."""

    offset: int
    size: int
    first_s: float
    last_s: float


@dataclass
class Ring:
    """`pictures` counts markers; `error` is what goes wrong with taking in, `heard_s` when the last packet came,
    stored or not. The last second is in memory only."""

    capacity_bytes: int
    packets: int = 0
    pictures: int = 0
    size_bytes: int = 0
    last_s: float | None = None
    resolution: tuple[int, int] = (0, 0)
    parameter_sets: list[bytes] = field(default_factory=list)  # of the stream that is taken in
    error: str = ""
    heard_s: float = 0.0
    _file: IO[bytes] | None = None
    _at: int = 0
    _chunks: deque[_Chunk] = field(default_factory=deque)
    _waiting: bytearray = field(default_factory=bytearray)
    _waiting_since_s: float = 0.0

    @property
    def first_s(self) -> float | None:
        """When the oldest packet came that is still there."""
        if self._chunks:
            return self._chunks[0].first_s
        return self._waiting_since_s if self._waiting else None

    def add(self, packets: Sequence[bytes], now_s: float) -> None:
        """RTP packets that came together."""
        if not self._waiting:
            self._waiting_since_s = now_s
        pack = _RECORD.pack
        for packet in packets:
            self._waiting += pack(now_s, len(packet))
            self._waiting += packet
            self.size_bytes += len(packet)
            self.pictures += packet[1] >> 7 if len(packet) > 1 else 0  # the marker, RFC 3550 clause 5.1
        self.packets += len(packets)
        self.last_s = now_s
        if len(self._waiting) >= _CHUNK_BYTES or now_s - self._waiting_since_s >= _CHUNK_S:
            self._write()

    def _write(self) -> None:
        size = len(self._waiting)
        self._file = self._file or tempfile.TemporaryFile(prefix="zentrale-ring-", buffering=0)  # noqa: SIM115 - open as long as the channel
        if (
            self._at + size > self.capacity_bytes
        ):  # round again: what is left of the last time behind this is the oldest
            while self._chunks and self._chunks[0].offset >= self._at:
                self._chunks.popleft()
            self._at = 0
        while self._chunks and self._overlaps(self._chunks[0], size):
            self._chunks.popleft()
        os.pwrite(self._file.fileno(), self._waiting, self._at)  # by place: what is stored is read by others meanwhile
        self._chunks.append(_Chunk(self._at, size, self._waiting_since_s, self.last_s or self._waiting_since_s))
        self._at += size
        self._waiting = bytearray()

    def _overlaps(self, chunk: _Chunk, size: int) -> bool:
        return chunk.offset < self._at + size and self._at < chunk.offset + chunk.size

    def stored(self, since_s: float = 0.0) -> Iterator[tuple[float, bytes]]:
        """Packets with the time at which each came, oldest first."""
        waiting, last = bytes(self._waiting), 0.0
        for chunk in [c for c in list(self._chunks) if c.last_s >= since_s]:
            assert self._file is not None
            yield from _records(os.pread(self._file.fileno(), chunk.size, chunk.offset), since_s)
            last = chunk.last_s
        yield from (
            (when, data) for when, data in _records(waiting, since_s) if when > last
        )  # it may be written meanwhile

    def spans(self, apart_s: float) -> list[tuple[float, float]]:
        """When packets came, in pieces between which nothing came for longer than that."""
        found: list[tuple[float, float]] = []
        pieces = [(c.first_s, c.last_s) for c in self._chunks]
        if self._waiting and self.last_s is not None:
            pieces.append((self._waiting_since_s, self.last_s))
        for first, last in pieces:
            if found and first - found[-1][1] <= apart_s:
                found[-1] = found[-1][0], last
            else:
                found.append((first, last))
        return found

    def close(self) -> None:
        if self._file is not None:
            self._file.close()
            self._file = None
        self._chunks.clear()


@dataclass
class Channel:
    """A recording, and the ring of each of its tracks; `storage` is that of the main stream."""

    recording: recording.Recording
    storage: Ring
    further: list[Ring] = field(default_factory=list)


def _records(data: bytes, since_s: float) -> Iterator[tuple[float, bytes]]:
    at = 0
    while at + _RECORD.size <= len(data):
        when, size = _RECORD.unpack_from(data, at)
        at += _RECORD.size
        if when >= since_s:
            yield when, data[at : at + size]
        at += size
