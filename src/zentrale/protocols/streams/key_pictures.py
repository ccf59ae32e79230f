"""Finding one whole key picture in the packets of a stream: the only part of it whose payload is kept."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from zentrale.errors import RemoteProtocolError
from zentrale.protocols import h264, h265, jpeg
from zentrale.protocols.rtp import RtpPacket
from zentrale.protocols.sdp import Media
from zentrale.protocols.streams.formats import looks_like
from zentrale.protocols.streams.packet_log import RAW, may_begin
from zentrale.protocols.streams.packet_order import PacketOrder
from zentrale.protocols.video import START_CODE, AccessUnit, Depacketizer, PictureFormat

DEPACKETIZERS: dict[str, type[Depacketizer]] = {
    "H264": h264.H264Depacketizer, "H265": h265.H265Depacketizer, "JPEG": jpeg.JpegDepacketizer,
}  # fmt: skip
_MAX_PICTURES, _MAX_KEY_BYTES = 300, 16 * 1024 * 1024  # until a picture is whole under intra refresh
_SAMPLES = 64


@dataclass(frozen=True)
class Shot:
    """A key picture of the stream, and after how many seconds it came. `quiet`: between the one before and this one, what came
    was as small as pictures are in which nothing changes.
    """

    picture: KeyPicture
    after_s: float
    quiet: bool = False


@dataclass(frozen=True)
class KeyPicture:
    """A whole key frame, as a decoder takes it; under intra refresh so many pictures, of which the last is whole."""

    codec: str
    data: bytes
    pictures: int = 1


class KeyFinder:
    """Feed packets until `key` is there."""

    def __init__(self, media: Media) -> None:
        self.media = media
        self.key: KeyPicture | None = None
        self.format: PictureFormat | None = None
        self.arrival_s = 0.0
        self.ssrc: int | None = None
        self.malformed = 0
        self.samples: list[bytes] = []  # how the first payloads begin
        kind = DEPACKETIZERS.get(media.codec)
        self._depacketizer = kind() if kind else None
        self._order = PacketOrder()
        self._begun: list[AccessUnit] = []
        self._looking = False  # from where a key picture may begin

    @property
    def wanted(self) -> bool:
        return self.key is None and self._depacketizer is not None

    def restart(self, ssrc: int) -> None:
        """This source is measured now."""
        if ssrc != self.ssrc:
            self.ssrc, self._order, self._begun = ssrc, PacketOrder(), []

    def sample(self, raw: bytes | bytearray) -> None:
        """Keep how the first payloads begin, of records that tell it."""
        if len(self.samples) < _SAMPLES:
            records = np.frombuffer(raw, RAW)[:_SAMPLES]
            own = (
                (records["version"] == 0x80)
                & (records["type"] & 0x7F == self.media.payload_type)
                & (records["length"] >= 16)
            )
            self.samples += [bytes(first[:2]) for first in records["first"][own]]

    def push(self, packet: RtpPacket, arrival_s: float) -> None:
        assert self._depacketizer is not None
        self.ssrc = packet.ssrc if self.ssrc is None else self.ssrc
        if len(self.samples) < _SAMPLES:  # behind a longer header, no record tells
            self.samples.append(packet.payload[:2])
        self._looking |= may_begin(self.media.codec, packet.payload)
        if not self._looking:
            return
        for ready in self._order.push(packet, arrival_s):
            for unit in self._depacketizer.push(*_taken(ready)):
                self._look_at(self._depacketizer, unit, arrival_s)

    def _look_at(self, depacketizer: Depacketizer, unit: AccessUnit, arrival_s: float) -> None:
        """The first whole key picture is kept, with those after it until it is right; then payload is of no more use."""
        if self.key is not None:
            return
        if not unit.complete or (not unit.key and not self._begun):
            self._begun = []
            return
        try:
            self.format = depacketizer.picture_format(unit) or self.format
        except RemoteProtocolError:
            self.malformed += 1
        self._begun.append(unit)
        wanted = min(self._begun[0].recovers_after, _MAX_PICTURES)
        if len(self._begun) > wanted or sum(u.size_bytes for u in self._begun) > _MAX_KEY_BYTES:
            self.key = KeyPicture(self.media.codec, self._decodable(self._begun), len(self._begun))
            self.arrival_s = arrival_s
            self._begun = []

    def _decodable(self, units: Sequence[AccessUnit]) -> bytes:
        if self.media.codec == "JPEG":
            return b"".join(units[0].units)
        out_of_band = b"".join(START_CODE + s for s in self.media.parameter_sets())
        return out_of_band + b"".join(unit.annex_b() for unit in units)

    def described_format(self) -> PictureFormat | None:
        """What the parameter sets of the description say; None where there are none."""
        if self._depacketizer is None:
            return None
        try:
            return self._depacketizer.picture_format(AccessUnit(0, self.media.parameter_sets()))
        except RemoteProtocolError:
            return None

    def other_codec(self) -> str | None:
        """The codec that the packets look like where it is not the one described; None where nothing speaks for that."""
        samples = [s for s in self.samples if len(s) == 2]
        if self.key is not None or not samples:
            return None
        return looks_like(self.media.codec, np.frombuffer(b"".join(samples), np.uint8).reshape(-1, 2))


def _taken(packet: RtpPacket) -> tuple[bytes, int, bool, int, tuple[int, bytes] | None]:
    return packet.payload, packet.timestamp, packet.marker, packet.sequence, packet.extension
