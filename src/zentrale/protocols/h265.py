"""H.265: the sequence parameter set (ITU-T H.265 clause 7.3.2.2), and the RTP payload format of RFC 7798."""

from __future__ import annotations

import struct

from zentrale.errors import RemoteProtocolError
from zentrale.protocols.bits import BitReader, unescape
from zentrale.protocols.h264 import MAX_SIDE_PX, MAX_SPS_BYTES
from zentrale.protocols.sei import recovery_point
from zentrale.protocols.video import AccessUnit, Depacketizer, PictureFormat

NAL_VPS, NAL_SPS, NAL_PPS, NAL_PREFIX_SEI = 32, 33, 34, 39
HEADER_BYTES = 2
_KEY_TYPES = range(16, 24)  # intra random access pictures, clause 7.4.2.2 table 7-1
AGGREGATION, FRAGMENTATION, PACI = 48, 49, 50
_PROFILES = {1: "Main", 2: "Main 10", 3: "Main Still Picture", 4: "Range Extensions"}  # clause A.3


def nal_type(nal: bytes) -> int:
    return (nal[0] >> 1) & 0x3F


def parse_sps(nal: bytes) -> PictureFormat:
    """Width and height after the conformance window (clause 7.4.3.2.1).

    `nal` is the whole unit with its two header bytes. Raises RemoteProtocolError where it is not a usable SPS.
    """
    if len(nal) < 16 or nal_type(nal) != NAL_SPS:
        raise RemoteProtocolError("not an H.265 sequence parameter set")
    bits = BitReader(unescape(nal[2:MAX_SPS_BYTES]))
    bits.skip(4)  # sps_video_parameter_set_id
    sub_layers = bits.u(3)
    bits.skip(1)
    bits.skip(3)  # general_profile_space, general_tier_flag
    profile = bits.u(5)
    bits.skip(32 + 48 + 8)  # compatibility flags, constraint flags, level
    present = [(bits.flag(), bits.flag()) for _ in range(sub_layers)]
    if sub_layers:
        bits.skip(2 * (8 - sub_layers))
    for has_profile, has_level in present:
        bits.skip((88 if has_profile else 0) + (8 if has_level else 0))
    set_id = bits.ue()
    chroma_format = bits.ue()
    if chroma_format == 3:
        bits.skip(1)
    width, height = bits.ue(), bits.ue()
    if bits.flag():
        left, right, top, bottom = (bits.ue() for _ in range(4))
        width -= (2 if chroma_format in (1, 2) else 1) * (left + right)
        height -= (2 if chroma_format == 1 else 1) * (top + bottom)
    if not (0 < width <= MAX_SIDE_PX and 0 < height <= MAX_SIDE_PX):
        raise RemoteProtocolError(f"H.265 parameter set with an impossible picture size {width}x{height}")
    return PictureFormat(width, height, _PROFILES.get(profile, f"profile {profile}"), set_id)


class H265Depacketizer(Depacketizer):
    """RFC 7798 without DONL fields (sprop-max-don-diff = 0, as live sources send)."""

    def _take(self, payload: bytes, unit: AccessUnit) -> None:
        if len(payload) < 3:
            raise RemoteProtocolError("H.265 payload without content")
        kind = nal_type(payload)
        if kind < AGGREGATION:
            self._add(payload, unit)
        elif kind == AGGREGATION:
            at = 2
            while at + 2 <= len(payload):
                (size,) = struct.unpack_from("!H", payload, at)
                piece = payload[at + 2 : at + 2 + size]
                if size < 2 or len(piece) != size:
                    raise RemoteProtocolError("H.265 aggregation packet with a wrong length")
                self._add(piece, unit)
                at += 2 + size
        elif kind == FRAGMENTATION:
            if payload[2] & 0x80:
                self._fragment = bytearray([payload[0] & 0x81 | (payload[2] & 0x3F) << 1, payload[1]])
            elif self._fragment is None:
                raise RemoteProtocolError("H.265 fragment whose start is missing")
            self._fragment += payload[3:]
            if payload[2] & 0x40:
                self._add(bytes(self._fragment), unit)
                self._fragment = None
        else:
            raise RemoteProtocolError(f"H.265 payload of type {kind}, which is not supported")

    def _add(self, nal: bytes, unit: AccessUnit) -> None:
        unit.units.append(nal)
        kind = nal_type(nal)
        if kind in _KEY_TYPES:
            unit.key = True
        elif kind == NAL_PREFIX_SEI and (pictures := recovery_point(nal, header_bytes=2)) is not None:
            unit.key, unit.recovers_after = True, pictures

    def picture_format(self, unit: AccessUnit) -> PictureFormat | None:
        for nal in unit.units:
            if nal_type(nal) == NAL_SPS:
                return parse_sps(nal)
        return None
