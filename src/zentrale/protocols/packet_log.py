"""What is kept of each RTP packet of a stream: a record of 24 bytes, whatever its payload was.

Everything that is measured of a stream follows from these records (`stream_figures`); payload is kept for nothing but the
one key picture that is decoded.
"""

from __future__ import annotations

import struct

import numpy as np
import numpy.typing as npt

from zentrale.protocols.rtp import RtpPacket

# arrival [s], RTP timestamp, synchronisation source, payload bytes, sequence number, flags
_RECORD = struct.Struct("<dIIIHH")
RECORD = np.dtype([
    ("arrival_s", "<f8"), ("timestamp", "<u4"), ("ssrc", "<u4"), ("size_bytes", "<u4"), ("sequence", "<u2"), ("flags", "<u2"),
])  # fmt: skip
assert RECORD.itemsize == _RECORD.size

MARKER, KEY, START = 1, 2, 4  # flags: the marker bit; part of a key picture; the first packet of a unit

Records = npt.NDArray[np.void]


class PacketLog:
    """The records in the order of arrival."""

    def __init__(self, codec: str) -> None:
        self._content = {"H264": _h264, "H265": _h265, "JPEG": _jpeg}.get(codec, _other)
        self._buffer = bytearray()

    def __len__(self) -> int:
        return len(self._buffer) // _RECORD.size

    def add(self, packet: RtpPacket, arrival_s: float) -> None:
        flags = self._content(packet.payload) | (MARKER if packet.marker else 0)
        self._buffer += _RECORD.pack(
            arrival_s, packet.timestamp, packet.ssrc, len(packet.payload), packet.sequence, flags
        )

    def records(self, last: int | None = None) -> Records:
        """A copy as an array of RECORD, one row a packet; of the `last` so many only, where that is given."""
        begin = 0 if last is None else max(0, len(self) - last) * _RECORD.size
        return np.frombuffer(bytes(self._buffer[begin:]), RECORD)


# What a payload begins, from its first bytes. A key picture is where a decoder can begin: an IDR picture, or one that a
# recovery point message announces (open groups of pictures).

_H264_IDR, _H264_SEI, _H264_STAP_A, _H264_FU_A = 5, 6, 24, 28  # ITU-T H.264 table 7-1; RFC 6184 table 1
_SEI_RECOVERY_POINT = 6  # ITU-T H.264 clause D.1
_H265_AP, _H265_FU = 48, 49  # RFC 7798 clause 4.4
_H265_IRAP = range(16, 24)  # ITU-T H.265 table 7-1: BLA, IDR and CRA pictures


def _h264(payload: bytes) -> int:
    if not payload:
        return 0
    kind = payload[0] & 0x1F
    if kind == _H264_FU_A and len(payload) > 1:
        return (KEY if payload[1] & 0x1F == _H264_IDR else 0) | (START if payload[1] & 0x80 else 0)
    if kind == _H264_STAP_A:
        flags, at = START, 1
        while at + 3 <= len(payload):
            flags |= _h264_unit(payload[at + 2 : at + 4])
            at += 2 + (payload[at] << 8 | payload[at + 1])
        return flags
    return START | _h264_unit(payload)


def _h264_unit(unit: bytes) -> int:
    kind = unit[0] & 0x1F
    recovery = kind == _H264_SEI and len(unit) > 1 and unit[1] == _SEI_RECOVERY_POINT
    return KEY if kind == _H264_IDR or recovery else 0


def _h265(payload: bytes) -> int:
    if len(payload) < 3:
        return 0
    kind = payload[0] >> 1 & 0x3F
    if kind == _H265_FU:
        return (KEY if payload[2] & 0x3F in _H265_IRAP else 0) | (START if payload[2] & 0x80 else 0)
    if kind == _H265_AP:
        flags, at = START, 2
        while at + 4 <= len(payload):
            flags |= KEY if payload[at + 2] >> 1 & 0x3F in _H265_IRAP else 0
            at += 2 + (payload[at] << 8 | payload[at + 1])
        return flags
    return START | (KEY if kind in _H265_IRAP else 0)


def _jpeg(payload: bytes) -> int:
    """Each picture stands alone; its first packet has the fragment offset 0 (RFC 2435 clause 3.1.2)."""
    return KEY | (START if payload[1:4] == b"\0\0\0" else 0)


def _other(payload: bytes) -> int:
    return START
