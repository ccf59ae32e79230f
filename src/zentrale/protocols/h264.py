"""H.264: the sequence parameter set (ITU-T H.264 clause 7.3.2.1), and the RTP payload format of RFC 6184."""

from __future__ import annotations

import struct
from collections.abc import Iterable, Iterator

from zentrale.errors import RemoteProtocolError
from zentrale.protocols.bits import BitReader, unescape
from zentrale.protocols.sei import recovery_point
from zentrale.protocols.video import AccessUnit, Depacketizer, PictureFormat

NAL_SLICE, NAL_IDR, NAL_SEI, NAL_SPS, NAL_PPS, NAL_AUD = 1, 5, 6, 7, 8, 9
STAP_A, FU_A = 24, 28
HEADER_BYTES = 1
_PROFILES = {66: "Baseline", 77: "Main", 88: "Extended", 100: "High", 110: "High 10", 122: "High 4:2:2"}
_HIGH_PROFILES = {100, 110, 122, 244, 44, 83, 86, 118, 128, 138, 139, 134, 135}
MAX_SIDE_PX = 16384
MAX_SPS_BYTES = 2048  # with all scaling lists and VUI fields a real one stays below 600


def parse_sps(nal: bytes) -> PictureFormat:
    """Width and height after cropping (clause 7.4.2.1.1, equations 7-19 to 7-22).

    `nal` is the whole unit with its header byte. Raises RemoteProtocolError where it is not a usable SPS.
    """
    if len(nal) < 4 or nal[0] & 0x1F != NAL_SPS:
        raise RemoteProtocolError("not an H.264 sequence parameter set")
    bits = BitReader(unescape(nal[1:MAX_SPS_BYTES]))
    profile = bits.u(8)
    bits.skip(16)  # constraint flags and level
    set_id = bits.ue()
    chroma_format, separate_planes = 1, False
    if profile in _HIGH_PROFILES:
        chroma_format = bits.ue()
        if chroma_format == 3:
            separate_planes = bits.flag()
        bits.ue()  # bit_depth_luma_minus8
        bits.ue()  # bit_depth_chroma_minus8
        bits.skip(1)  # qpprime_y_zero_transform_bypass_flag
        if bits.flag():
            for index in range(8 if chroma_format != 3 else 12):
                if bits.flag():
                    _skip_scaling_list(bits, 16 if index < 6 else 64)
    bits.ue()  # log2_max_frame_num_minus4
    order_type = bits.ue()
    if order_type == 0:
        bits.ue()
    elif order_type == 1:
        bits.skip(1)
        bits.se()
        bits.se()
        cycle = bits.ue()
        if cycle > 255:
            raise RemoteProtocolError("H.264 parameter set: too many reference frames in a cycle")
        for _ in range(cycle):
            bits.se()
    bits.ue()  # max_num_ref_frames
    bits.skip(1)  # gaps_in_frame_num_value_allowed_flag
    width_mbs = bits.ue() + 1
    height_map_units = bits.ue() + 1
    frame_mbs_only = bits.u(1)
    if not frame_mbs_only:
        bits.skip(1)
    bits.skip(1)  # direct_8x8_inference_flag
    width, height = width_mbs * 16, (2 - frame_mbs_only) * height_map_units * 16
    if bits.flag():
        chroma_array = 0 if separate_planes else chroma_format
        unit_x = 2 if chroma_array in (1, 2) else 1
        unit_y = (2 if chroma_array == 1 else 1) * (2 - frame_mbs_only)
        left, right, top, bottom = (bits.ue() for _ in range(4))
        width -= unit_x * (left + right)
        height -= unit_y * (top + bottom)
    if not (0 < width <= MAX_SIDE_PX and 0 < height <= MAX_SIDE_PX):
        raise RemoteProtocolError(f"H.264 parameter set with an impossible picture size {width}x{height}")
    return PictureFormat(width, height, _PROFILES.get(profile, f"profile {profile}"), set_id)


def _skip_scaling_list(bits: BitReader, size: int) -> None:
    last, following = 8, 8
    for _ in range(size):
        if following:
            following = (last + bits.se() + 256) % 256
        last = following or last


def packetize(units: Iterable[bytes], max_payload_bytes: int) -> Iterator[tuple[bytes, bool]]:
    """The RTP payloads of one access unit, each with its marker bit: single NAL units, and FU-A fragments for
    those that do not fit (RFC 6184 clauses 5.6 and 5.8).
    """
    waiting = [unit for unit in units if unit]
    for index, unit in enumerate(waiting):
        last_unit = index == len(waiting) - 1
        if len(unit) <= max_payload_bytes:
            yield unit, last_unit
            continue
        indicator = bytes([unit[0] & 0xE0 | FU_A])
        kind, body, room = unit[0] & 0x1F, unit[1:], max_payload_bytes - 2
        for start in range(0, len(body), room):
            piece = body[start : start + room]
            first, last = start == 0, start + room >= len(body)
            header = bytes([kind | (0x80 if first else 0) | (0x40 if last else 0)])
            yield indicator + header + piece, last_unit and last


class H264Depacketizer(Depacketizer):
    """RFC 6184, packetization modes 0 and 1 (single unit, STAP-A, FU-A)."""

    def _take(self, payload: bytes, unit: AccessUnit) -> None:
        if not payload:
            raise RemoteProtocolError("empty H.264 payload")
        kind = payload[0] & 0x1F
        if 1 <= kind <= 23:
            self._add(payload, unit)
        elif kind == STAP_A:
            at = 1
            while at + 2 <= len(payload):
                (size,) = struct.unpack_from("!H", payload, at)
                piece = payload[at + 2 : at + 2 + size]
                if not size or len(piece) != size:
                    raise RemoteProtocolError("H.264 aggregation packet with a wrong length")
                self._add(piece, unit)
                at += 2 + size
        elif kind == FU_A:
            self._take_fragment(payload, unit)
        else:
            raise RemoteProtocolError(f"H.264 payload of type {kind}, which mode 1 does not allow")

    def _take_fragment(self, payload: bytes, unit: AccessUnit) -> None:
        if len(payload) < 3:
            raise RemoteProtocolError("H.264 fragment without content")
        if payload[1] & 0x80:
            self._fragment = bytearray([payload[0] & 0xE0 | payload[1] & 0x1F])
        elif self._fragment is None:
            raise RemoteProtocolError("H.264 fragment whose start is missing")
        self._fragment += payload[2:]
        if payload[1] & 0x40:
            self._add(bytes(self._fragment), unit)
            self._fragment = None

    def _add(self, nal: bytes, unit: AccessUnit) -> None:
        unit.units.append(nal)
        kind = nal[0] & 0x1F
        if kind == NAL_IDR:
            unit.key = True
        elif kind == NAL_SEI and (pictures := recovery_point(nal)) is not None:
            unit.key, unit.recovers_after = True, pictures

    def picture_format(self, unit: AccessUnit) -> PictureFormat | None:
        for nal in unit.units:
            if nal[0] & 0x1F == NAL_SPS:
                return parse_sps(nal)
        return None
