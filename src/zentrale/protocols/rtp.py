"""RTP packets (RFC 3550 clause 5.1) and reception statistics (RFC 3550 appendices A.1, A.3, A.8)."""

from __future__ import annotations

import struct
from array import array
from typing import NamedTuple

from zentrale.errors import RemoteProtocolError

VERSION = 2
HEADER = struct.Struct("!BBHII")
_WINDOW = 4096  # packets within which a late or doubled packet is recognised: over a second at 30 Mbit/s


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


_FIRST_CYCLE = 0x10000  # so that packets just before the first stay positive


class Reception:
    """Statistics of one source, in the variables of RFC 3550 appendix A."""

    MAX_DROPOUT = 3000
    MAX_MISORDER = 100

    def __init__(self, clock_hz: int) -> None:
        self.clock_hz = clock_hz
        self.received = 0
        self.duplicates = 0
        self.reordered = 0
        self.restarts = 0
        self._base = 0
        self._max = 0  # extended highest sequence number
        self._bad = -1
        self._expected_before = 0  # of the runs that ended with a restart of the sequence
        self._received_before = 0
        self._transit: float | None = None
        self._jitter = 0.0  # in clock units
        self._window = array("q", [-1]) * _WINDOW

    @property
    def expected(self) -> int:
        return self._expected_before + (self._max - self._base + 1 if self.received > self._received_before else 0)

    @property
    def lost(self) -> int:
        """Packets expected and never received (A.3); never negative, since doubled packets are not counted."""
        return max(0, self.expected - self.received)

    @property
    def jitter_ms(self) -> float:
        return 1000 * self._jitter / self.clock_hz

    @property
    def extended_highest(self) -> int:
        """Cycles of the sequence number in the upper 16 bits, none at first (RFC 3550 clause 6.4.1)."""
        return self._max - _FIRST_CYCLE

    def add(self, sequence: int, timestamp: int, arrival_s: float) -> bool:
        """Count one packet. Returns false where it must not be used: doubled, or from before the window."""
        if self.received == self._received_before:
            self._begin(sequence)
        delta = (sequence - self._max) & 0xFFFF
        if 0 < delta < self.MAX_DROPOUT:
            extended = self._max + delta
            self._max = extended
        elif delta == 0 or delta > 0x10000 - self.MAX_MISORDER:
            extended = self._max if delta == 0 else self._max - (0x10000 - delta)
            if self._window[extended % _WINDOW] == extended:
                self.duplicates += 1
                return False
            if delta:
                self.reordered += 1
                if extended < self._base:
                    self._base = extended
        elif sequence == self._bad:
            # Two in a row from elsewhere: the source restarted (A.1).
            self._expected_before = self.expected
            self._received_before = self.received
            self.restarts += 1
            self._begin(sequence)
            extended = self._max
        else:
            self._bad = (sequence + 1) & 0xFFFF
            return False
        self._bad = -1
        self._window[extended % _WINDOW] = extended
        self.received += 1
        self._update_jitter(timestamp, arrival_s)
        return True

    def _begin(self, sequence: int) -> None:
        self._base = self._max = sequence + _FIRST_CYCLE
        self._transit = None

    def _update_jitter(self, timestamp: int, arrival_s: float) -> None:
        transit = arrival_s * self.clock_hz - timestamp
        if self._transit is not None:
            difference = abs(transit - self._transit)
            if difference < 0x40000000:  # the 32-bit timestamp wrapped: no information in this one
                self._jitter += (difference - self._jitter) / 16
        self._transit = transit
