"""RTP packets (RFC 3550 clause 5.1)."""

from __future__ import annotations

import struct
from typing import NamedTuple

from zentrale.errors import RemoteProtocolError

VERSION = 2
HEADER = struct.Struct("!BBHII")


class RtpPacket(NamedTuple):
    """One packet. `timestamp` is in units of the payload format's clock (90 kHz for video).

    A named tuple, since thousands are made each second and a frozen dataclass costs three times as much.

    payload:    without padding; of a packet that was kept in part only, as much as there is
    extension:  of its header: what the profile defines, and the words behind it (clause 5.3.1)
    beyond:     bytes of the payload that were not kept; what of them is padding is not known
    """

    payload_type: int
    sequence: int
    timestamp: int
    ssrc: int
    payload: bytes
    marker: bool = False
    extension: tuple[int, bytes] | None = None
    beyond: int = 0

    @property
    def size_bytes(self) -> int:
        """Of the payload."""
        return len(self.payload) + self.beyond

    @classmethod
    def parse(cls, data: bytes, length: int = 0) -> RtpPacket:
        """`length` is that of the packet where `data` is only its first bytes. Raises RemoteProtocolError where `data` is no
        RTP packet.
        """
        length = max(length, len(data))
        if len(data) < HEADER.size:
            raise RemoteProtocolError("RTP packet shorter than its header")
        first, second, sequence, timestamp, ssrc = HEADER.unpack_from(data)
        if first >> 6 != VERSION:
            raise RemoteProtocolError("RTP packet of another version")
        start, end, extension = HEADER.size + 4 * (first & 0x0F), len(data), None
        if first & 0x10:
            if start + 4 > end:
                raise RemoteProtocolError("RTP packet ends in its header extension")
            defined, words = struct.unpack_from("!HH", data, start)
            extension = defined, data[start + 4 : start + 4 + 4 * words]
            start += 4 + 4 * words
        if first & 0x20 and length == end:
            end -= data[-1]
            if data[-1] == 0:
                raise RemoteProtocolError("RTP packet with a padding of no bytes")
        if start > (end if length == len(data) else length):
            raise RemoteProtocolError("RTP packet shorter than its header says")
        beyond = length - max(len(data), start)
        return cls(second & 0x7F, sequence, timestamp, ssrc, data[start:end], bool(second & 0x80), extension, beyond)

    def serialize(self) -> bytes:
        second = self.payload_type | (0x80 if self.marker else 0)
        if self.extension is None:
            return HEADER.pack(VERSION << 6, second, self.sequence, self.timestamp, self.ssrc) + self.payload
        defined, words = self.extension
        head = HEADER.pack(VERSION << 6 | 0x10, second, self.sequence, self.timestamp, self.ssrc)
        return head + struct.pack("!HH", defined, len(words) // 4) + words + self.payload
