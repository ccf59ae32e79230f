"""What every video payload format shares: access units, and the assembly of packets into them.

A payload format (RFC 6184, RFC 7798, RFC 2435) subclasses `Depacketizer` and says how a payload becomes units.
"""

from __future__ import annotations

from dataclasses import dataclass, field

from zentrale.errors import RemoteProtocolError

MAX_ACCESS_UNIT_BYTES = 8 * 1024 * 1024  # an 8K key frame stays below 4 MB; more is nonsense or an attack
START_CODE = b"\x00\x00\x00\x01"


@dataclass(frozen=True)
class PictureFormat:
    """What a stream's parameter sets say: size after cropping, in pixels. `set_id` is the number that the set has there."""

    width_px: int
    height_px: int
    profile: str = ""
    set_id: int = field(default=0, compare=False)


@dataclass
class AccessUnit:
    """All units of one picture. `complete` is false where packets between its first and last are missing.

    recovers_after: where a decoder may begin here, after how many more pictures what it shows is right
    """

    timestamp: int
    units: list[bytes] = field(default_factory=list)
    key: bool = False
    recovers_after: int = 0
    complete: bool = True
    size_bytes: int = 0

    def annex_b(self) -> bytes:
        """The byte-stream form (H.264 annex B) that decoders take."""
        return b"".join(START_CODE + unit for unit in self.units)


class Depacketizer:
    """RTP payloads in, access units out. An access unit ends with the marker bit or a new timestamp."""

    def __init__(self) -> None:
        self._unit: AccessUnit | None = None
        self._last_sequence: int | None = None
        self._fragment: bytearray | None = None
        self._extension: tuple[int, bytes] | None = None  # of the header of the present packet

    def push(
        self, payload: bytes, timestamp: int, marker: bool, sequence: int, extension: tuple[int, bytes] | None = None
    ) -> list[AccessUnit]:
        """Take the payload of one packet, in order of `sequence` (16 bits), and the extension of its header. Never raises on
        bad payloads: they make the access unit incomplete.
        """
        self._extension = extension
        done: list[AccessUnit] = []
        gap = self._last_sequence is not None and sequence != (self._last_sequence + 1) & 0xFFFF
        self._last_sequence = sequence
        if self._unit is not None and self._unit.timestamp != timestamp:
            # The old picture lost its end; and where packets are missing, the new one may have lost its start.
            done.append(self._finish(complete=self._unit.complete and not gap))
        if self._unit is None:
            self._unit = AccessUnit(timestamp, complete=not gap)
            self._fragment = None
        elif gap:
            self._unit.complete = False
            self._fragment = None
        unit = self._unit
        unit.size_bytes += len(payload)
        if unit.size_bytes > MAX_ACCESS_UNIT_BYTES:
            unit.units.clear()
            unit.complete = False
            self._fragment = None
        else:
            try:
                self._take(payload, unit)
            except RemoteProtocolError:
                unit.complete = False
        if marker:
            done.append(self._finish(complete=unit.complete))
        return done

    def _finish(self, complete: bool) -> AccessUnit:
        unit = self._unit
        assert unit is not None
        unit.complete = complete and self._fragment is None
        self._unit = None
        self._fragment = None
        return unit

    def _take(self, payload: bytes, unit: AccessUnit) -> None:
        """Add what `payload` holds to `unit`. Raises RemoteProtocolError on a malformed payload."""
        raise NotImplementedError

    def picture_format(self, unit: AccessUnit) -> PictureFormat | None:
        """The format that `unit` carries within itself; None where it carries none."""
        raise NotImplementedError


def split_annex_b(stream: bytes) -> list[bytes]:
    """The NAL units of a byte stream (H.264 annex B), with start codes of three or four bytes."""
    units = []
    for part in stream.split(b"\x00\x00\x01"):
        unit = part.rstrip(b"\x00")
        if unit:
            units.append(unit)
    return units
