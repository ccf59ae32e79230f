"""Supplemental enhancement information of H.264 and H.265: the recovery point, where a decoder may begin without an IDR."""

from __future__ import annotations

from zentrale.errors import RemoteProtocolError
from zentrale.protocols.bits import BitReader, unescape

_RECOVERY_POINT = 6  # ITU-T H.264 clause D.1.8, H.265 clause D.2.8
_MAX_BYTES = 1024


def recovery_point(unit: bytes, header_bytes: int = 1) -> int | None:
    """After how many pictures what is shown is right, beginning at this one; None where `unit` announces no recovery point.

    header_bytes: of the unit: 1 for H.264 (recovery_frame_cnt), 2 for H.265 (recovery_poc_cnt, which has a sign)
    """
    data = unescape(unit[header_bytes:_MAX_BYTES])
    at = 0
    while at + 2 < len(data):
        kind, at = _number(data, at)
        size, at = _number(data, at)
        if kind == _RECOVERY_POINT:
            bits = BitReader(data[at : at + size])
            try:
                return bits.ue() if header_bytes == 1 else abs(bits.se())
            except RemoteProtocolError:
                return None
        at += size
    return None


def _number(data: bytes, at: int) -> tuple[int, int]:
    """A payload type or size: bytes of 255 add up with the one after them (clause 7.3.2.3.1)."""
    value = 0
    while at < len(data) and data[at] == 0xFF:
        value, at = value + 255, at + 1
    return value + (data[at] if at < len(data) else 0), at + 1
