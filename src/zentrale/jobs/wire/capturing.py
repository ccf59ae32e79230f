"""Catching packets into a file that only its owner reads: bounded in time and size, the oldest file giving way to the newest."""

from __future__ import annotations

import os
import struct
import time
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import BinaryIO

from zentrale.errors import StorageError
from zentrale.field.packet_ring import SNAP_BYTES as RING_BYTES
from zentrale.field.packet_ring import PacketRing

# pcapng: a section, and an interface of Ethernet with nanoseconds (if_tsresol 9).
_HEAD = struct.pack("<IIIHHqI", 0x0A0D0D0A, 28, 0x1A2B3C4D, 1, 0, -1, 28) + struct.pack(
    "<IIHHIHHB3xHHI", 1, 32, 1, 0, RING_BYTES, 9, 1, 9, 0, 0, 32
)
_OUTBOUND = struct.pack("<HHIHH", 2, 4, 2, 0, 0)  # epb_flags


def _block(time_s: float, length: int, data: bytes, options: bytes) -> bytes:
    """An enhanced packet block."""
    nanos = round(time_s * 1e9)
    padded = data + bytes(-len(data) % 4)
    size = 32 + len(padded) + len(options)
    head = struct.pack("<IIIIIII", 6, size, 0, nanos >> 32, nanos & 0xFFFFFFFF, len(data), length)
    return head + padded + options + struct.pack("<I", size)


FILE_BYTES = 100_000_000
MOST_FILES = 5


@dataclass(frozen=True)
class Catch:
    """What was caught. `dropped`: by the kernel, since nobody took them in time; `own`: of this machine's own, marked outbound"""

    files: tuple[Path, ...]
    packets: int
    size_bytes: int
    dropped: int
    own: int
    seconds: float
    given_way: int


class _Files:
    """`given_way`: files that had to give way to newer ones."""

    def __init__(self, first: Path, most_bytes: int) -> None:
        self.first, self.most_bytes = first, most_bytes
        self.files: list[Path] = []
        self.given_way = 0
        self._number = 0
        self._file: BinaryIO | None = None
        self._size = 0
        self._next()

    def _next(self) -> None:
        if self._file is not None:
            self._file.close()
        name = self.first if self._number == 0 else self.first.with_stem(f"{self.first.stem}-{self._number + 1}")
        self._number += 1
        self.files.append(name)
        if len(self.files) > MOST_FILES:
            self.files.pop(0).unlink(missing_ok=True)
            self.given_way += 1
        descriptor = os.open(name, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600)
        self._file = os.fdopen(descriptor, "wb")
        self._file.write(_HEAD)
        self._size = len(_HEAD)

    def write(self, block: bytes) -> None:
        if self._size + len(block) > self.most_bytes:
            self._next()
        assert self._file is not None
        self._file.write(block)
        self._size += len(block)

    def close(self) -> None:
        if self._file is not None:
            self._file.close()


def capture(
    adapter: str,
    seconds: float,
    file: Path,
    addresses: Sequence[str],
    most_bytes: int = FILE_BYTES,
) -> Catch:
    """Raises OSError where packets cannot be caught, StorageError where the file cannot be
    written; an interruption ends it, and what was caught stays.
    """
    packets = size = mine = 0
    began = time.monotonic()
    with PacketRing(adapter, addresses) as ring:
        try:
            files = _Files(file, most_bytes)
        except OSError as error:
            raise StorageError(f"{file}: cannot be written: {error.strerror or error}", "give another place") from None
        try:
            for caught in ring.packets(began + seconds):
                files.write(_block(caught.time_s, caught.length, caught.data, _OUTBOUND if caught.outbound else b""))
                packets, size, mine = packets + 1, size + len(caught.data), mine + caught.outbound
        except OSError as error:
            raise StorageError(f"{file}: cannot be written: {error.strerror or error}", "make room") from None
        except KeyboardInterrupt:
            pass  # what was caught up to here is what was wanted
        finally:
            files.close()
            lasted = time.monotonic() - began
    return Catch(tuple(files.files), packets, size, ring.dropped, mine, lasted, files.given_way)
