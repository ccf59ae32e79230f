"""Packets of a capture as columns, a buffer of them at a time."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any, NamedTuple, Protocol

import numpy as np
import numpy.typing as npt

Bytes = npt.NDArray[np.uint8]
Ints = npt.NDArray[np.int64]
Floats = npt.NDArray[np.float64]

MAX_PACKET_BYTES = 262_144  # the largest snap length that capture tools use
ROOM_BYTES = 24 * 1024 * 1024  # of a file that are held at once
SPARE = 128  # bytes behind a batch, so that a header at its very end may be looked at


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
    number:  of the first one, counted from 1; 0 until it is counted
    """

    data: Bytes
    at: Ints
    caught: Ints
    length: Ints
    time_s: Floats
    link: Ints
    interface: Ints
    number: int = 0

    @property
    def links(self) -> list[int]:
        """Each link type that there is; nearly always one."""
        alike = not len(self.link) or bool((self.link == self.link[0]).all())
        links: list[int] = (self.link[:1] if alike else np.unique(self.link)).tolist()
        return links


class Held(NamedTuple):
    """What is read of a file at the moment: the same bytes as a buffer and as numbers, and from a place there to its place in the
    file.
    """

    buffer: bytearray
    data: Bytes
    offset: int


class Parsed(NamedTuple):
    """How far it came; the packets up to there, if any; and why nothing beyond it can be read, empty while it can."""

    after: int
    found: Batch | None = None
    damaged: str = ""


class Form(Protocol):
    """A form of capture files."""

    def parse(self, held: Held, begin: int, end: int) -> Parsed:
        """What lies between these places of the buffer. It comes no further where something unfinished begins."""
