"""From the link up to UDP and TCP, a whole batch of packets at a stroke: Ethernet with its tags (IEEE 802.1Q, 802.1ad), Linux
cooked captures v1 and v2, raw IP, loopback; IPv4 (RFC 791), IPv6 with its extension headers (RFC 8200).

An address is a number: IPv4 as it is, IPv6 by a table of those that were seen, above 2^32.
"""

from __future__ import annotations

import ipaddress
from dataclasses import dataclass, field
from typing import Any, NamedTuple

import numpy as np
import numpy.typing as npt

from zentrale.protocols.capture.packets import Batch, Bytes, Ints, among, every, heads

Bools = npt.NDArray[np.bool_]

ETHERNET, NULL, RAW_BSD, RAW_BSD_14, RAW, LOOP, COOKED, IPV4_ONLY, IPV6_ONLY, COOKED_2 = (
    1, 0, 12, 14, 101, 108, 113, 228, 229, 276,
)  # fmt: skip
ARP, IPV4, IPV6 = 0x0806, 0x0800, 0x86DD
ICMP, IGMP, TCP, UDP, ICMP6 = 1, 2, 6, 17, 58
_TAGS = (0x8100, 0x88A8, 0x9100)
_MOST_TAGS, _MOST_EXTENSIONS = 4, 8
BEGIN_BYTES = 96  # of each packet: link, tags, IPv6 and what UDP or TCP need of their headers are nearly always in them
_MOST_LOOKED_AT = 20  # bytes from where UDP or TCP begin
_EXTENSIONS = (0, 43, 60, 135)  # hop by hop, routing, destination, mobility: each with its length in 8 bytes
_FRAGMENT, _AUTHENTICATION = 44, 51
_IP6 = 1 << 32
LINKS = (ETHERNET, NULL, RAW_BSD, RAW_BSD_14, RAW, LOOP, COOKED, IPV4_ONLY, IPV6_ONLY, COOKED_2)


class Layers(NamedTuple):
    """What each packet of a batch is. Places are in the batch's bytes; -1: there is none.

    ethertype: of what the link carries; vlan: the outermost tag, -1 without one
    sender:    its MAC address as a number, -1 where the link has none
    ip:        where its IP packet begins; proto: what that carries
    source, target: addresses; fragment: it is a part of a larger packet
    ports:     of source and target, for UDP and TCP
    payload:   where it begins; size: so many bytes it has by its headers; there: so many of them were caught
    kin:       packets with one number are alike in their addresses, ports and links; numbered as they begin, -1: not looked at
    near:      how each packet begins, side by side (packets * BEGIN_BYTES bytes): what lies within it is nearer there
    """

    ethertype: Ints
    vlan: Ints
    sender: Ints
    ip: Ints
    proto: Ints
    source: Ints
    target: Ints
    fragment: Bools
    source_port: Ints
    target_port: Ints
    transport: Ints
    payload: Ints
    size: Ints
    there: Ints
    kin: Ints
    near: Bytes


@dataclass
class Addresses:
    """The IPv6 addresses that were seen, each with its number."""

    numbers: dict[bytes, int] = field(default_factory=dict)
    most: int = 1 << 20

    def number(self, packed: bytes) -> int:
        if packed not in self.numbers and len(self.numbers) < self.most:
            self.numbers[packed] = _IP6 + len(self.numbers)
        return self.numbers.get(packed, _IP6 + self.most)

    def text(self, number: int) -> str:
        if number < _IP6:
            return str(ipaddress.IPv4Address(number)) if number >= 0 else ""
        packed = next((p for p, n in self.numbers.items() if n == number), None)
        return str(ipaddress.IPv6Address(packed)) if packed is not None else "an IPv6 address"


def mac_text(number: int) -> str:
    digits = f"{number:012x}"
    return ":".join(digits[i : i + 2] for i in range(0, 12, 2)) if number >= 0 else ""


def _read(data: Bytes, at: Ints, kind: str) -> npt.NDArray[Any]:
    """What lies there. Where the places are as far from one another, as they are in a table, it is not gathered one by one."""
    what = np.dtype(kind)
    if len(at) > 1:
        step = int(at[1] - at[0])
        if step >= what.itemsize and (at[1:] - at[:-1] == step).all():
            return np.ndarray((len(at),), what, data, int(at[0]), (step,))
    return every(data, kind)[at]


def u8(data: Bytes, at: Ints) -> Ints:
    return _read(data, at, "u1").astype(np.int64)


def u16(data: Bytes, at: Ints) -> Ints:
    return _read(data, at, ">u2").astype(np.int64)


def u32(data: Bytes, at: Ints) -> Ints:
    return _read(data, at, ">u4").astype(np.int64)


def u48(data: Bytes, at: Ints) -> Ints:
    """Two bytes more than it needs must be there."""
    return (_read(data, at, ">u8") >> np.uint64(16)).astype(np.int64)


def _rows(mask: Bools) -> Ints | slice:
    """Where it holds. Nearly always that is everywhere, and a slice copies nothing."""
    return slice(None) if mask.all() else np.flatnonzero(mask)


def decode_each(batch: Batch, addresses: Addresses, near: Bytes) -> Layers:
    """Nothing that a packet says leads beyond its own bytes: what is cut off, or lies, ends where it does so.

    How each packet begins is copied side by side: headers, which are looked at a dozen times, then lie in the cache. Those that
    have more of them are read where they are. `near` are these beginnings, as in the layers.
    """
    at = np.arange(len(batch.at)) * BEGIN_BYTES
    found = _decode(batch._replace(data=near, at=at, caught=np.minimum(batch.caught, BEGIN_BYTES)), addresses)
    ends_at = np.where(found.transport >= 0, found.transport + _MOST_LOOKED_AT, found.ip + BEGIN_BYTES + 1)
    more = (ends_at > at + BEGIN_BYTES) | among(found.ethertype, (*_TAGS, IPV4, IPV6)) & (found.transport < 0)
    away = batch.at - at
    for column in (found.ip, found.transport, found.payload):
        column += np.where(column >= 0, away, 0)
    end = batch.at + batch.caught
    there = np.where(found.payload >= 0, np.clip(end - found.payload, 0, found.size), 0)
    rows = np.flatnonzero(more & (batch.caught > BEGIN_BYTES))
    if len(rows):
        some = batch._replace(
            at=batch.at[rows], caught=batch.caught[rows], length=batch.length[rows], link=batch.link[rows]
        )
        columns: list[npt.NDArray[Any]] = list(found._replace(there=there))
        again: list[npt.NDArray[Any]] = list(_decode(some, addresses))
        for column, whole in zip(columns[:-1], again, strict=False):
            column[rows] = whole
    return found._replace(there=there)


def beginnings(batch: Batch, layers: Layers, rows: Ints, start: Ints, size: int) -> Bytes:
    """The first bytes of what begins at `start` within these packets, in rows."""
    near = start - batch.at[rows]
    if len(rows) and len(layers.near) and bool((near + size <= BEGIN_BYTES).all()):
        return heads(layers.near, rows * BEGIN_BYTES + near, size)
    return heads(batch.data, start, size)


def _decode(batch: Batch, addresses: Addresses) -> Layers:
    data, count = batch.data, len(batch.at)
    end = batch.at + batch.caught
    none = np.full(count, -1, np.int64)
    ethertype, at, vlan, sender = none.copy(), batch.at.copy(), none.copy(), none.copy()
    for link in batch.links:
        _link(link, batch, batch.link == link, (ethertype, at, vlan, sender), end)
    length = np.where(ethertype >= 0, batch.length - (at - batch.at), 0)
    ip, proto, source, target = none.copy(), none.copy(), none.copy(), none.copy()
    transport, size, fragment = none.copy(), np.zeros(count, np.int64), np.zeros(count, bool)
    into = (ip, proto, source, target, transport, size)
    _ipv4(data, (ethertype == IPV4) & (at + 20 <= end), at, length, into, fragment)
    rows = np.flatnonzero((ethertype == IPV6) & (at + 40 <= end))
    _ipv6(data, rows, (at, end, length), into, fragment, addresses)
    source_port, target_port, payload = none.copy(), none.copy(), none.copy()
    whole = (transport >= 0) & ~fragment
    udp = _rows(whole & (proto == UDP) & (transport + 8 <= end) & (size >= 8))
    start = transport[udp]
    source_port[udp], target_port[udp], payload[udp] = u16(data, start), u16(data, start + 2), start + 8
    told = u16(data, start + 4)
    size[udp] = np.where((told >= 8) & (told <= size[udp]), told, size[udp]) - 8
    tcp = _rows(whole & (proto == TCP) & (transport + 20 <= end) & (size >= 20))
    start = transport[tcp]
    head = (data[start + 12].astype(np.int64) >> 4) * 4
    head = np.where((head >= 20) & (head <= size[tcp]), head, 20)
    source_port[tcp], target_port[tcp], payload[tcp] = u16(data, start), u16(data, start + 2), start + head
    size[tcp] -= head
    there = np.where(payload >= 0, np.clip(end - payload, 0, size), 0)
    return Layers(
        ethertype, vlan, sender, ip, proto, source, target, fragment, source_port, target_port, transport, payload,
        size, there, none, data,
    )  # fmt: skip


def _link(link: int, batch: Batch, mine: Bools, into: tuple[Ints, Ints, Ints, Ints], end: Ints) -> None:
    ethertype, at, vlan, sender = into
    data = batch.data

    def rows(size: int) -> Ints | slice:
        return _rows(mine & (at + size <= end))

    if link == ETHERNET:
        some = rows(14)
        start = at[some]
        sender[some], ethertype[some] = u48(data, start + 6), u16(data, start + 12)
        at[some] += 14
    elif link == COOKED:  # type, kind, length of the address, address, protocol
        some = rows(16)
        start = at[some]
        ethertype[some] = u16(data, start + 14)
        sender[some] = np.where(u16(data, start + 4) == 6, u48(data, start + 6), -1)
        at[some] += 16
    elif link == COOKED_2:
        some = rows(20)
        start = at[some]
        ethertype[some] = u16(data, start)
        sender[some] = np.where(u8(data, start + 11) == 6, u48(data, start + 12), -1)
        at[some] += 20
    elif link in (NULL, LOOP):
        some = rows(4)
        # The family is in the byte order of whoever caught it: IPv4 is 2 everywhere, IPv6 is 24, 28 or 30.
        family = np.maximum(data[at[some]], data[at[some] + 3]).astype(np.int64)
        ethertype[some] = np.where(family == 2, IPV4, np.where(np.isin(family, (10, 24, 28, 30)), IPV6, -1))
        at[some] += 4
    elif link in (RAW, RAW_BSD, RAW_BSD_14, IPV4_ONLY, IPV6_ONLY):
        some = rows(1)
        version = data[at[some]] >> 4
        ethertype[some] = np.where(version == 4, IPV4, np.where(version == 6, IPV6, -1))
    for _ in range(_MOST_TAGS):
        tagged = mine & among(ethertype, _TAGS) & (at + 4 <= end)
        if not tagged.any():
            return
        some = _rows(tagged)
        start = at[some]
        vlan[some] = np.where(vlan[some] < 0, u16(data, start) & 0xFFF, vlan[some])
        ethertype[some] = u16(data, start + 2)
        at[some] += 4


_Into = tuple[Ints, Ints, Ints, Ints, Ints, Ints]


def _ipv4(data: Bytes, mine: Bools, at: Ints, length: Ints, into: _Into, fragment: Bools) -> None:
    ip, proto, source, target, transport, size = into
    rows = _rows(mine & (data[at] >> 4 == 4))
    start = at[rows]
    head = (data[start].astype(np.int64) & 15) * 4
    told = u16(data, start + 2)
    told = np.where((told >= head) & (told <= length[rows]), told, length[rows])  # 0 where a card cuts them itself
    good = (head >= 20) & (told >= head)
    if not good.all():
        rows, start, head, told = np.arange(len(at))[rows][good], start[good], head[good], told[good]
    ip[rows], proto[rows] = start, u8(data, start + 9)
    source[rows], target[rows] = u32(data, start + 12), u32(data, start + 16)
    fragment[rows] = (u16(data, start + 6) & 0x3FFF) != 0
    transport[rows], size[rows] = start + head, told - head


def _ipv6(
    data: Bytes, rows: Ints, place: tuple[Ints, Ints, Ints], into: _Into, fragment: Bools, addresses: Addresses
) -> None:
    """`place`: where each begins and ends, and how long it was."""
    at, end, length = place
    ip, proto, source, target, transport, size = into
    rows = rows[data[at[rows]] >> 4 == 6]
    if not len(rows):
        return
    start = at[rows]
    told = u16(data, start + 4)
    left = np.where((told > 0) & (told + 40 <= length[rows]), told, length[rows] - 40)
    ip[rows], proto[rows] = start, u8(data, start + 6)
    for column, offset in ((source, 8), (target, 24)):
        packed, which = np.unique(heads(data, start + offset, 16), axis=0, return_inverse=True)
        column[rows] = np.array([addresses.number(p.tobytes()) for p in packed], np.int64)[which.reshape(-1)]
    transport[rows], size[rows] = start + 40, left
    for _ in range(_MOST_EXTENSIONS):
        some = rows[among(proto[rows], (*_EXTENSIONS, _FRAGMENT, _AUTHENTICATION)) & (transport[rows] + 8 <= end[rows])]
        if not len(some):
            return
        here = transport[some]
        is_fragment = proto[some] == _FRAGMENT
        words = u8(data, here + 1)
        long = np.where(is_fragment, 8, np.where(proto[some] == _AUTHENTICATION, (words + 2) * 4, (words + 1) * 8))
        fragment[some] |= is_fragment & ((u16(data, here + 2) & 0xFFF9) != 0)
        proto[some] = u8(data, here)
        size[some] = np.maximum(0, size[some] - long)
        transport[some] = np.minimum(here + long, end[some])
