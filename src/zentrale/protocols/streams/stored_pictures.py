"""Whole pictures from the packets of a replay, each with the absolute time that it was recorded at."""

from __future__ import annotations

from typing import NamedTuple

from zentrale.errors import RemoteProtocolError
from zentrale.protocols.onvif.replay import Stamp
from zentrale.protocols.rtp import RtpPacket
from zentrale.protocols.sdp import Media
from zentrale.protocols.streams.key_pictures import DEPACKETIZERS, KeyPicture
from zentrale.protocols.video import START_CODE, AccessUnit, PictureFormat

_HALF = 0x8000


class StoredPicture(NamedTuple):
    """at_s: by the recorder's clock [s since 1970], None where its packets tell none; apart: what was before it is not there"""

    at_s: float | None
    unit: AccessUnit
    apart: bool


class StoredPictures:
    """Feed packets in the order in which they come: a replay over one connection neither loses nor reorders them, so that a
    number that is missing was missing in what is stored, or was left out by the recorder.
    """

    def __init__(self, media: Media) -> None:
        kind = DEPACKETIZERS.get(media.codec)
        if kind is None:
            raise RemoteProtocolError(
                f"pictures of {media.codec or 'an unknown codec'}, which this program does not read"
            )
        self.media = media
        self.lost = 0
        self.packets = 0
        self._depacketizer = kind()
        self._stamps: dict[int, tuple[float | None, bool]] = {}  # by the timestamp of the picture
        self._expected: int | None = None

    def push(self, packet: RtpPacket, stamp: Stamp | None) -> list[StoredPicture]:
        if not packet.payload:  # only to say that nothing comes after it
            return []
        apart = stamp is not None and stamp.apart
        if self._expected is not None and packet.sequence != self._expected:
            gone = (packet.sequence - self._expected) & 0xFFFF
            self.lost += gone if gone < _HALF and not apart else 0
        self._expected = (packet.sequence + 1) & 0xFFFF
        self.packets += 1
        at_s, before = self._stamps.get(packet.timestamp, (None, False))
        at_s = at_s if at_s is not None or stamp is None else stamp.at_s
        self._stamps[packet.timestamp] = at_s, before or apart
        done = self._depacketizer.push(
            packet.payload, packet.timestamp, packet.marker, packet.sequence, packet.extension
        )
        return [StoredPicture(*self._told(unit)) for unit in done]

    def _told(self, unit: AccessUnit) -> tuple[float | None, AccessUnit, bool]:
        at_s, apart = self._stamps.pop(unit.timestamp, (None, False))
        if len(self._stamps) > 8:
            self._stamps.clear()
        return at_s, unit, apart

    def format_of(self, unit: AccessUnit) -> PictureFormat | None:
        """Its size; None where neither it nor the description says."""
        for some in (unit, AccessUnit(0, self.media.parameter_sets())):
            try:
                found = self._depacketizer.picture_format(some)
            except RemoteProtocolError:
                continue
            if found is not None:
                return found
        return None

    def key_picture(self, unit: AccessUnit) -> KeyPicture:
        """As a decoder takes it."""
        if self.media.codec == "JPEG":
            return KeyPicture("JPEG", b"".join(unit.units))
        sets = b"".join(START_CODE + s for s in self.media.parameter_sets())
        return KeyPicture(self.media.codec, sets + unit.annex_b())
