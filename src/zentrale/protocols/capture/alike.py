"""A batch of packets from the link up to UDP. Most of a capture is streams, whose packets begin alike but for their lengths and
marks: such headers are read once for all of them.
"""

from __future__ import annotations

from typing import Any

import numpy as np
import numpy.typing as npt

from zentrale.protocols.capture.grouping import grouped
from zentrale.protocols.capture.layers import BEGIN_BYTES, ETHERNET, Addresses, Bools, Layers, decode_each
from zentrale.protocols.capture.packets import Batch, Ints, heads

Words = npt.NDArray[np.uint64]

# A UDP datagram in IPv4 without options or parts, in Ethernet without tags: bytes 12 to 14, and flags, offset and protocol.
_KIND, _IS_KIND = np.uint64(0x00FF_FFFF_0000_0000), np.uint64(0x0045_0008_0000_0000)
_PARTS, _IS_WHOLE = np.uint64(0xFF00_FF3F_0000_0000), np.uint64(0x1100_0000_0000_0000)
# What its packets have in common, by words of eight bytes: addresses of link and network, ports. Not the type of service, the
# lengths, the checksums and the mark; of the third word nothing.
_COMMON = (
    (0, np.uint64(0xFFFF_FFFF_FFFF_FFFF)), (1, np.uint64(0x00FF_FFFF_FFFF_FFFF)),
    (3, np.uint64(0xFFFF_FFFF_FFFF_0000)), (4, np.uint64(0x0000_FFFF_FFFF_FFFF)),
)  # fmt: skip
_ETHERNET, _IP, _HEADERS = 14, 20, 42  # bytes, UDP among the last
_WORDS = 5
_WORTH = 64  # fewer such packets are decoded as any


def decode(batch: Batch, addresses: Addresses) -> Layers:
    """As `decode_each`, and the same in each row; `kin` tells what is alike."""
    if not len(batch.at):
        return decode_each(batch, addresses, batch.data)
    near = heads(batch.data, batch.at, BEGIN_BYTES)
    words = np.ascontiguousarray(near.view("<u8")[:, :_WORDS].T)
    rows, sizes = _streams(batch, words)
    if len(rows) < _WORTH:
        return decode_each(batch, addresses, near.reshape(-1))
    streams = _decoded(batch, near, words, rows, sizes, addresses)
    if len(rows) == len(batch.at):
        return streams._replace(near=near.reshape(-1))
    other = np.ones(len(batch.at), bool)
    other[rows] = False
    rest = np.flatnonzero(other)
    each = decode_each(_some(batch, rest), addresses, near[rest].reshape(-1))
    columns: list[Any] = []
    for column, alone in zip(streams[:-1], each[:-1], strict=True):
        whole = np.empty(len(batch.at), column.dtype)
        whole[rows], whole[rest] = column, alone
        columns.append(whole)
    return Layers._make([*columns, near.reshape(-1)])


def _some(batch: Batch, rows: Ints) -> Batch:
    return batch._replace(
        at=batch.at[rows], caught=batch.caught[rows], length=batch.length[rows], time_s=batch.time_s[rows],
        link=batch.link[rows], interface=batch.interface[rows],
    )  # fmt: skip


def _streams(batch: Batch, words: Words) -> tuple[Ints, Ints]:
    """The rows of whole datagrams, and how many bytes their payloads have by their headers."""
    mine: Bools = (words[1] & _KIND == _IS_KIND) & (words[2] & _PARTS == _IS_WHOLE) & (batch.caught >= _HEADERS)
    if batch.links != [ETHERNET]:
        mine &= batch.link == ETHERNET
    told, most = _half(words[2], 0), batch.length - _ETHERNET
    size = np.where((told >= _IP) & (told <= most), told, most) - _IP  # 0 where a card cuts them itself
    mine &= size >= 8
    told = _half(words[4], 3)
    size = np.where((told >= 8) & (told <= size), told, size) - 8
    rows = np.flatnonzero(mine)
    return rows, size if len(rows) == len(mine) else size[rows]


def _half(word: Words, place: int) -> Ints:
    """Two bytes of each, in the order of the network."""
    return word.view(">u2")[place::4].astype(np.int64)


def _decoded(
    batch: Batch, near: npt.NDArray[np.uint8], words: Words, rows: Ints, size: Ints, addresses: Addresses
) -> Layers:
    """These rows: what one of each kin tells holds for all."""
    every = len(rows) == len(batch.at)
    order, begins = grouped([(words[word] if every else words[word, rows]) & mask for word, mask in _COMMON])
    first = order[begins]
    counts = np.diff(np.append(begins, len(order)))
    turn = np.argsort(first)  # in the order in which they begin
    number = np.empty(len(turn), np.int64)
    number[turn] = np.arange(len(turn))
    kin = np.empty(len(order), np.int64)
    kin[order] = np.repeat(number, counts)
    one = rows[first[turn]]
    told = decode_each(_some(batch, one), addresses, near[one].reshape(-1))
    at, caught = (batch.at, batch.caught) if every else (batch.at[rows], batch.caught[rows])
    payload = at + _HEADERS
    return Layers(
        told.ethertype[kin], told.vlan[kin], told.sender[kin], at + _ETHERNET, told.proto[kin], told.source[kin],
        told.target[kin], told.fragment[kin], told.source_port[kin], told.target_port[kin], at + _ETHERNET + _IP,
        payload, size, np.clip(caught - _HEADERS, 0, size), kin, near[:0].reshape(-1),
    )  # fmt: skip
