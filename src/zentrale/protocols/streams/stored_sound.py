"""Sound from the packets of a replay, as a film takes it: AAC as it is (RFC 3640), G.711 as the linear samples that it stands for
(ITU-T G.711 tables 1 and 2), each piece with the absolute time that it was recorded at.
"""

from __future__ import annotations

import struct
from typing import NamedTuple

from zentrale.errors import RemoteProtocolError
from zentrale.protocols.onvif.replay import Stamp
from zentrale.protocols.rtp import RtpPacket
from zentrale.protocols.sdp import Media

_APART_S = 0.5  # farther from where it should follow, and what is between is not there
_AAC_SAMPLES = 1024  # of an access unit (ISO/IEC 14496-3 clause 4.5.2.1)
_AAC_RATES = (96000, 88200, 64000, 48000, 44100, 32000, 24000, 22050, 16000, 12000, 11025, 8000, 7350)  # table 1.18
_MOST_BYTES = 64 * 1024  # of an access unit in several packets
_HALF = 0x8000_0000


class SoundFormat(NamedTuple):
    """`linear`: 16 bit big-endian samples, else AAC; rate [samples/s]"""

    rate: int
    channels: int
    linear: bool


class SoundPiece(NamedTuple):
    """at_s: of its first sample [s since 1970]; samples: of one channel"""

    at_s: float
    data: bytes
    samples: int


def _a_law(code: int) -> int:
    """A-law, of which every other bit is inverted on the line."""
    code ^= 0x55
    segment, step = (code >> 4) & 7, code & 15
    value = (step << 4) + 8 if segment == 0 else ((step << 4) + 0x108) << (segment - 1)
    return value if code & 0x80 else -value


def _mu_law(code: int) -> int:
    """Mu-law, of which every bit is inverted on the line."""
    code ^= 0xFF
    value = ((((code & 15) << 3) + 0x84) << ((code >> 4) & 7)) - 0x84
    return -value if code & 0x80 else value


def _table(law: str) -> list[bytes]:
    return [struct.pack("!h", (_a_law if law == "PCMA" else _mu_law)(code)) for code in range(256)]


class StoredSound:
    """Feed packets in the order in which they come. Raises RemoteProtocolError where it is of a kind that no film takes."""

    def __init__(self, media: Media) -> None:
        self._clock_hz = media.clock_hz
        self._table: list[bytes] | None = None
        self._expected: tuple[int, int, float] | None = None  # sequence number, timestamp and moment of what follows
        self._part = bytearray()
        if media.codec in ("PCMA", "PCMU"):
            self._table = _table(media.codec)
        elif media.codec not in ("L16", "MPEG4-GENERIC"):
            raise RemoteProtocolError(f"{media.codec or 'an unknown codec'} is of no kind that the film takes")
        if media.codec == "MPEG4-GENERIC":
            self.format = self._of_aac(media)
        else:
            self.format = SoundFormat(media.clock_hz, media.channels, linear=True)
        if self.format.channels not in (1, 2):
            raise RemoteProtocolError(f"{self.format.channels} channels, of which a film takes one or two")

    def _of_aac(self, media: Media) -> SoundFormat:
        """By its AudioSpecificConfig (ISO/IEC 14496-3 clause 1.6.2.1)."""
        told = {name: media.parameters.get(name, "") for name in ("sizelength", "indexlength", "indexdeltalength")}
        try:
            config = int(media.parameters.get("config", "")[:4], 16)
            sizes = [int(text or 0) for text in told.values()]
        except ValueError:
            raise RemoteProtocolError("its description does not say what AAC it is") from None
        kind, rate, channels, rest = config >> 11, (config >> 7) & 15, (config >> 3) & 15, config & 7
        if kind != 2 or rate >= len(_AAC_RATES) or rest or not 0 < sizes[0] <= 16 or max(sizes) > 16:
            raise RemoteProtocolError("AAC of another kind than AAC-LC, which no film takes as it is")
        self._size_bits, self._index_bits, self._delta_bits = sizes
        return SoundFormat(_AAC_RATES[rate], channels, linear=False)

    def push(self, packet: RtpPacket, stamp: Stamp | None) -> list[SoundPiece]:
        """What became whole by this packet; nothing where it tells no time of its own."""
        follows = self._expected is not None and packet.sequence == self._expected[0]
        at_s = None if stamp is None else stamp.at_s
        if follows and self._expected is not None:
            ahead = (packet.timestamp - self._expected[1]) & 0xFFFFFFFF
            ahead -= 2 * _HALF if ahead >= _HALF else 0
            due_s = self._expected[2] + ahead / self._clock_hz
            at_s = due_s if at_s is None or abs(due_s - at_s) < _APART_S else at_s
        else:
            self._part.clear()
        if at_s is None or not packet.payload:
            return []
        try:
            pieces = self._pieces(packet, at_s)
        except (IndexError, RemoteProtocolError):
            return []
        samples = sum(p.samples for p in pieces)
        clock = samples * self._clock_hz // self.format.rate
        following = (packet.timestamp + clock) & 0xFFFFFFFF
        self._expected = (packet.sequence + 1) & 0xFFFF, following, at_s + samples / self.format.rate
        return pieces

    def _pieces(self, packet: RtpPacket, at_s: float) -> list[SoundPiece]:
        if self.format.linear:
            data = b"".join(self._table[code] for code in packet.payload) if self._table else packet.payload
            each = 2 * self.format.channels
            data = data[: len(data) // each * each]
            return [SoundPiece(at_s, data, len(data) // each)] if data else []
        units = self._units(packet)
        step_s = _AAC_SAMPLES / self.format.rate
        return [SoundPiece(at_s + n * step_s, unit, _AAC_SAMPLES) for n, unit in enumerate(units)]

    def _units(self, packet: RtpPacket) -> list[bytes]:
        """The access units of a packet (RFC 3640 clause 3.2); one that is too long comes in several, the last of them marked."""
        payload = packet.payload
        bits = int.from_bytes(payload[:2], "big")
        begin = 2 + (bits + 7) // 8
        header, left = int.from_bytes(payload[2:begin], "big") >> (-bits % 8), bits
        units, index_bits = [], self._index_bits
        if len(payload) < begin:
            raise RemoteProtocolError("sound that ends within its headers")
        while left >= self._size_bits + index_bits:
            left -= self._size_bits
            size = (header >> left) & ((1 << self._size_bits) - 1)
            left -= index_bits
            index_bits = self._delta_bits
            some = payload[begin : begin + size]
            if not some:
                break
            begin += size
            if len(some) < size:
                self._part += some
                if len(self._part) > _MOST_BYTES:
                    raise RemoteProtocolError("an access unit without an end")
                if not packet.marker or len(self._part) != size:
                    return []
                some = bytes(self._part)
            self._part.clear()
            units.append(some)
        return units
