"""What is kept of each RTP packet of a stream: a record, whatever its payload was.

Everything that is measured of a stream follows from these records (`figures`); payload is kept for nothing but the
one key picture that is decoded. Records come in the raw form of the intake: "$", channel and length as before an interleaved
packet (RFC 2326 clause 10.12), then the first 16 bytes of the packet. Packets whose first 16 bytes do not tell enough are
looked at whole.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterator, Sequence
from functools import reduce
from operator import or_
from typing import Any, NamedTuple

import numpy as np
import numpy.typing as npt

from zentrale.errors import RemoteProtocolError
from zentrale.protocols.rtp import RtpPacket
from zentrale.protocols.sei import recovery_point

RAW = np.dtype([
    ("mark", "u1"), ("channel", "u1"), ("length", ">u2"), ("version", "u1"), ("type", "u1"), ("sequence", ">u2"),
    ("timestamp", ">u4"), ("ssrc", ">u4"), ("first", "u1", 4),
])  # fmt: skip
RECORD = np.dtype([
    ("arrival_s", "<f8"), ("timestamp", "<u4"), ("ssrc", "<u4"), ("size_bytes", "<u4"), ("sequence", "<u2"), ("flags", "<u2"),
])  # fmt: skip
_HEADER_BYTES = 12

# Flags: the marker bit; part of a picture at which a decoder can begin; the first packet of a unit; where that picture is
# whole only after some more (intra refresh); the first slice of a picture; and a packet of another payload type than measured,
# of which nothing but its number counts.
MARKER, KEY, START, REFRESH, PICTURE, OTHER = 1, 2, 4, 8, 16, 32

Records = npt.NDArray[np.void]
_Bytes = npt.NDArray[np.uint8]


class Told(NamedTuple):
    """What raw records say, in the order of arrival.

    records:   each packet's, those of other payload types flagged OTHER and without size
    malformed: packets that were no RTP; others: how many packets had which other payload type
    headers:   what tells the size and kind of pictures: arrival [s], and a parameter set, or how a JPEG picture begins
               (its payload, and the header extension before it)
    """

    records: Records
    malformed: int
    others: Counter[int]
    headers: list[tuple[float, RtpPacket]]


def records_of(
    raw: bytes | bytearray, arrivals_s: Sequence[float], odd: Sequence[tuple[int, bytes]], codec: str, payload_type: int
) -> Told:
    """odd: row and packet, where the raw record does not tell all (`odd_first`, `odd_rows`); as much of it as was kept"""
    rows = np.frombuffer(raw, RAW)
    records = np.empty(len(rows), RECORD)
    records["arrival_s"] = arrivals_s
    for name in ("timestamp", "ssrc", "sequence"):
        records[name] = rows[name]
    records["size_bytes"] = np.maximum(rows["length"], _HEADER_BYTES) - _HEADER_BYTES
    records["flags"] = _FIRST_BYTES.get(codec, _all_start)(rows["first"]) | (rows["type"] >> 7)
    types = rows["type"] & 0x7F
    own = types == payload_type
    kept = np.ones(len(rows), bool)
    malformed, headers = 0, []
    for row, data in odd:
        try:
            packet = RtpPacket.parse(data, int(rows["length"][row]))
        except RemoteProtocolError:
            malformed += 1
            kept[row] = False
            continue
        records["size_bytes"][row] = packet.size_bytes
        records["flags"][row] = flags_of(codec, packet.payload) | (MARKER if packet.marker else 0)
        if own[row] and codec in _HEADERS and _HEADERS[codec](packet.payload):
            headers.append((float(records["arrival_s"][row]), packet))
    others: Counter[int] = Counter()
    if not own.all():
        strange = ~own & kept
        others.update(dict(zip(*(a.tolist() for a in np.unique(types[strange], return_counts=True)), strict=True)))
        records["size_bytes"][strange], records["flags"][strange] = 0, OTHER
    return Told(records if kept.all() else records[kept], malformed, others, headers)


def odd_first(codec: str) -> bytes:
    """A table of 256: which first bytes of a payload say that more of it must be looked at."""
    return _ODD.get(codec, bytes(256))


def odd_rows(codec: str) -> Callable[[bytes | bytearray], list[int]] | None:
    """What tells the rows of raw records that must be looked at whole, where their first byte does not tell."""
    return _jpeg_begins if codec == "JPEG" else None


def _jpeg_begins(raw: bytes | bytearray) -> list[int]:
    """The first packet of each picture has the fragment offset 0 (RFC 2435 clause 3.1.2): it tells the size."""
    rows: list[int] = np.flatnonzero(~np.frombuffer(raw, RAW)["first"][:, 1:4].any(axis=1)).tolist()
    return rows


def flags_of(codec: str, payload: bytes) -> int:
    """What a whole payload begins."""
    return _PAYLOADS.get(codec, _other)(payload)


def may_begin(codec: str, payload: bytes | bytearray) -> bool:
    """Whether a key picture, or the parameter sets before it, may begin with this payload."""
    if len(payload) < 3:
        return False
    if codec == "H264":
        kind = payload[0] & 0x1F
        if kind == _H264_FU_A:
            return payload[1] & 0x9F == 0x80 | _H264_IDR
        return kind in _H264_BEGIN or (kind == _H264_SEI and payload[1] == _SEI_RECOVERY_POINT)
    if codec == "H265":
        kind = payload[0] >> 1 & 0x3F
        return kind in _H265_BEGIN or (kind == _H265_FU and payload[2] >= 0x80 and payload[2] & 0x3F in _H265_IRAP)
    return True


def first_that_begins(codec: str, raw: bytes | bytearray) -> int:
    """The row of the first of these records for which `may_begin` holds; -1 is none."""
    first = np.frombuffer(raw, RAW)["first"]
    if codec not in _BEGINS:
        return 0 if len(first) else -1
    begins, fragment, at = _BEGINS[codec]
    kinds = first[:, 0]
    if codec == "H264":
        found = begins[kinds] | (fragment[kinds] & (first[:, at] & 0x9F == 0x80 | _H264_IDR))
        found |= (kinds & 0x1F == _H264_SEI) & (first[:, 1] == _SEI_RECOVERY_POINT)
    else:
        found = begins[kinds] | (fragment[kinds] & (first[:, at] & 0xB8 == 0x80 | _H265_IRAP.start))
    row = int(found.argmax()) if len(found) else 0
    return row if len(found) and found[row] else -1


_H264_IDR, _H264_SEI, _H264_STAP_A, _H264_FU_A = 5, 6, 24, 28  # ITU-T H.264 table 7-1; RFC 6184 table 1
_H265_PREFIX_SEI, _H265_AP, _H265_FU = 39, 48, 49  # ITU-T H.265 table 7-1; RFC 7798 clause 4.4
_H265_IRAP = range(16, 24)  # ITU-T H.265 table 7-1: BLA, IDR and CRA pictures
_SEI_RECOVERY_POINT = 6  # ITU-T H.264 clause D.1.8
_H264_BEGIN = frozenset((_H264_IDR, 7, 8, _H264_STAP_A))  # and the parameter sets
_H265_BEGIN = frozenset((*_H265_IRAP, 32, 33, 34, _H265_PREFIX_SEI, _H265_AP))
# By the first byte of a payload: whether one may begin there, whether it is a fragment, and where that says of what.
_BEGINS = {
    "H264": (np.array([b & 0x1F in _H264_BEGIN for b in range(256)]), np.arange(256) & 0x1F == _H264_FU_A, 1),
    "H265": (np.array([b >> 1 & 0x3F in _H265_BEGIN for b in range(256)]), np.arange(256) >> 1 & 0x3F == _H265_FU, 2),
}
_H264_SETS, _H265_SETS = (7, 8), (32, 33, 34)
_ODD = {
    "H264": bytes(b & 0x1F in (_H264_SEI, _H264_STAP_A, *_H264_SETS) for b in range(256)),
    "H265": bytes(b >> 1 & 0x3F in (_H265_PREFIX_SEI, _H265_AP, *_H265_SETS) for b in range(256)),
}
_HEADERS: dict[str, Callable[[bytes], bool]] = {
    "H264": lambda p: bool(p) and p[0] & 0x1F in (*_H264_SETS, _H264_STAP_A),
    "H265": lambda p: bool(p) and p[0] >> 1 & 0x3F in (*_H265_SETS, _H265_AP),
    "JPEG": lambda p: len(p) >= 8 and not any(p[1:4]),
}


def _h264_first(first: _Bytes) -> npt.NDArray[np.uint16]:
    """first_mb_in_slice is 0 where its first bit is set (ue(v), ITU-T H.264 clause 7.3.3)."""
    kind, second = first[:, 0] & 0x1F, first[:, 1]
    fragment = kind == _H264_FU_A
    unit, start = np.where(fragment, second & 0x1F, kind), ~fragment | (second >= 0x80)
    picture = start & ((unit == 1) | (unit == _H264_IDR)) & (np.where(fragment, first[:, 2], second) >= 0x80)
    return _flags(unit == _H264_IDR, start, picture)


def _h265_first(first: _Bytes) -> npt.NDArray[np.uint16]:
    """first_slice_segment_in_pic_flag is the first bit behind the header (ITU-T H.265 clause 7.3.6.1)."""
    kind, third = first[:, 0] >> 1 & 0x3F, first[:, 2]
    fragment = kind == _H265_FU
    unit, start = np.where(fragment, third & 0x3F, kind), ~fragment | (third >= 0x80)
    key = (unit >= _H265_IRAP.start) & (unit < _H265_IRAP.stop)
    picture = start & (unit < _H265_SETS[0]) & (np.where(fragment, first[:, 3], third) >= 0x80)
    return _flags(key, start, picture)


def _jpeg_first(first: _Bytes) -> npt.NDArray[np.uint16]:
    """Each picture stands alone; its first packet has the fragment offset 0 (RFC 2435 clause 3.1.2)."""
    begins = ~first[:, 1:4].any(axis=1)
    return _flags(np.ones(len(first), bool), begins, begins)


def _all_start(first: _Bytes) -> npt.NDArray[np.uint16]:
    return np.full(len(first), START, np.uint16)


def _flags(key: Any, start: Any, picture: Any) -> npt.NDArray[np.uint16]:
    flags: npt.NDArray[np.uint16] = key * np.uint16(KEY) | start * np.uint16(START) | picture * np.uint16(PICTURE)
    return flags


_FIRST_BYTES: dict[str, Callable[[_Bytes], npt.NDArray[np.uint16]]] = {
    "H264": _h264_first, "H265": _h265_first, "JPEG": _jpeg_first,
}  # fmt: skip


def _h264(payload: bytes) -> int:
    if not payload:
        return 0
    kind = payload[0] & 0x1F
    if kind in (1, _H264_IDR, _H264_FU_A) and len(payload) > 1:
        return int(_h264_first(np.frombuffer(payload[:4].ljust(4, b"\0"), np.uint8).reshape(1, 4))[0])
    if kind == _H264_STAP_A:
        return reduce(or_, map(_h264_unit, units_of(payload, 1)), START)
    return START | _h264_unit(payload)


def units_of(payload: bytes, at: int) -> Iterator[bytes]:
    """The units of an aggregation packet, each behind its size (RFC 6184 clause 5.7.1, RFC 7798 clause 4.4.2)."""
    while at + 3 <= len(payload):
        size = payload[at] << 8 | payload[at + 1]
        yield payload[at + 2 : at + 2 + size]
        at += 2 + size


def _h264_unit(unit: bytes) -> int:
    kind = unit[0] & 0x1F if unit else 0
    if kind == _H264_SEI:
        frames = recovery_point(unit)
        return 0 if frames is None else KEY | (REFRESH if frames else 0)
    picture = PICTURE if kind in (1, _H264_IDR) and unit[1:2] >= b"\x80" else 0
    return picture | (KEY if kind == _H264_IDR else 0)


def _h265(payload: bytes) -> int:
    if len(payload) < 3:
        return 0
    kind = payload[0] >> 1 & 0x3F
    if kind < _H265_SETS[0] or kind == _H265_FU:
        return int(_h265_first(np.frombuffer(payload[:4].ljust(4, b"\0"), np.uint8).reshape(1, 4))[0])
    if kind == _H265_AP:
        return reduce(or_, map(_h265_unit, units_of(payload, 2)), START)
    return START | _h265_unit(payload)


def _h265_unit(unit: bytes) -> int:
    kind = unit[0] >> 1 & 0x3F if unit else 0
    if kind == _H265_PREFIX_SEI:
        frames = recovery_point(unit, header_bytes=2)
        return 0 if frames is None else KEY | (REFRESH if frames else 0)
    picture = PICTURE if kind < _H265_SETS[0] and unit[2:3] >= b"\x80" else 0
    return picture | (KEY if kind in _H265_IRAP else 0)


def _jpeg(payload: bytes) -> int:
    return KEY | (START | PICTURE if payload[1:4] == b"\0\0\0" else 0)


def _other(payload: bytes) -> int:
    return START


_PAYLOADS: dict[str, Callable[[bytes], int]] = {"H264": _h264, "H265": _h265, "JPEG": _jpeg}
