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
    """

    payload_type: int
    sequence: int
    timestamp: int
    ssrc: int
    payload: bytes
    marker: bool = False

    @classmethod
    def parse(cls, data: bytes) -> RtpPacket:
        """Raises RemoteProtocolError where `data` is no RTP packet."""
        if len(data) < HEADER.size:
            raise RemoteProtocolError("RTP packet shorter than its header")
        first, second, sequence, timestamp, ssrc = HEADER.unpack_from(data)
        if first >> 6 != VERSION:
            raise RemoteProtocolError("RTP packet of another version")
        start, end = HEADER.size + 4 * (first & 0x0F), len(data)
        if first & 0x10:
            if start + 4 > end:
                raise RemoteProtocolError("RTP packet ends in its header extension")
            start += 4 + 4 * int(struct.unpack_from("!H", data, start + 2)[0])
        if first & 0x20:
            end -= data[-1]
            if data[-1] == 0:
                raise RemoteProtocolError("RTP packet with a padding of no bytes")
        if start > end:
            raise RemoteProtocolError("RTP packet shorter than its header says")
        return cls(second & 0x7F, sequence, timestamp, ssrc, data[start:end], bool(second & 0x80))

    def serialize(self) -> bytes:
        second = self.payload_type | (0x80 if self.marker else 0)
        return HEADER.pack(VERSION << 6, second, self.sequence, self.timestamp, self.ssrc) + self.payload
