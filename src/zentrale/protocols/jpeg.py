"""JPEG: the RTP payload format of RFC 2435, with the headers rebuilt so that any decoder reads the picture.

Its header holds widths and heights up to 2040 pixels. For larger ones the ONVIF Streaming Specification (clause 5.2.2, JPEG over
RTP) sends them as 0 and puts segments of the JPEG header, with the true size, into an extension of the RTP header.
"""

from __future__ import annotations

import struct

from zentrale.errors import RemoteProtocolError
from zentrale.protocols.video import AccessUnit, Depacketizer, PictureFormat

_MAIN_HEADER = struct.Struct("!B3sBBBB")
# ISO/IEC 10918-1 annex K.1, in zigzag order as RFC 2435 appendix A gives them.
_LUMA = bytes([
    16, 11, 12, 14, 12, 10, 16, 14, 13, 14, 18, 17, 16, 19, 24, 40, 26, 24, 22, 22, 24, 49, 35, 37, 29, 40, 58, 51,
    61, 60, 57, 51, 56, 55, 64, 72, 92, 78, 64, 68, 87, 69, 55, 56, 80, 109, 81, 87, 95, 98, 103, 104, 103, 62, 77,
    113, 121, 112, 100, 120, 92, 101, 103, 99,
])  # fmt: skip
_CHROMA = bytes([17, 18, 18, 24, 21, 24, 47, 26, 26, 47, 99, 66, 56, 66] + [99] * 50)
# ISO/IEC 10918-1 annex K.3, as RFC 2435 appendix B: code counts by length, then values.
_LUMA_DC = bytes.fromhex("00010501010101010100000000000000") + bytes(range(12))
_CHROMA_DC = bytes.fromhex("00030101010101010101010000000000") + bytes(range(12))
_LUMA_AC = bytes.fromhex(
    "0002010303020403050504040000017d01020300041105122131410613516107227114328191a1082342b1c11552d1f02433627282090a16"
    "1718191a25262728292a3435363738393a434445464748494a535455565758595a636465666768696a737475767778797a83848586878889"
    "8a92939495969798999aa2a3a4a5a6a7a8a9aab2b3b4b5b6b7b8b9bac2c3c4c5c6c7c8c9cad2d3d4d5d6d7d8d9dae1e2e3e4e5e6e7e8e9ea"
    "f1f2f3f4f5f6f7f8f9fa"
)
_CHROMA_AC = bytes.fromhex(
    "00020102040403040705040400010277000102031104052131061241510761711322328108144291a1b1c109233352f0156272d10a16"
    "2434e125f11718191a262728292a35363738393a434445464748494a535455565758595a636465666768696a737475767778797a82838485"
    "868788898a92939495969798999aa2a3a4a5a6a7a8a9aab2b3b4b5b6b7b8b9bac2c3c4c5c6c7c8c9cad2d3d4d5d6d7d8d9dae2e3e4e5e6e7"
    "e8e9eaf2f3f4f5f6f7f8f9fa"
)


def quantization_tables(quality: int) -> bytes:
    """Both tables for Q of 1 to 99 (RFC 2435 appendix A), luma then chroma."""
    factor = 5000 // quality if quality < 50 else 200 - quality * 2
    return bytes(min(255, max(1, (value * factor + 50) // 100)) for value in _LUMA + _CHROMA)


_EXTENSION = 0xFFD8  # SOI: what the extension of the RTP header begins with
_SOF = (0xC0, 0xC1)  # baseline, extended sequential (ISO/IEC 10918-1 table B.1)


def picture_size(payload: bytes, extension: tuple[int, bytes] | None) -> tuple[int, int] | None:
    """Width and height [px] of a picture that begins with this payload; None where it does not tell them."""
    if len(payload) < _MAIN_HEADER.size:
        return None
    *_, width, height = _MAIN_HEADER.unpack_from(payload)
    told = _told_beside(extension)
    return told or ((width * 8, height * 8) if width and height else None)


def _told_beside(extension: tuple[int, bytes] | None) -> tuple[int, int] | None:
    """Width and height of the frame header among the segments of the extension; None where it has none."""
    if extension is None or extension[0] != _EXTENSION:
        return None
    data, at = extension[1], 0
    while at + 9 <= len(data):
        if data[at] != 0xFF or data[at + 1] == 0xFF:  # fill bytes
            at += 1
            continue
        if data[at + 1] in _SOF:
            height, width = struct.unpack_from("!HH", data, at + 5)
            return (width, height) if width and height else None
        at += 2 + int(struct.unpack_from("!H", data, at + 2)[0])
    return None


class JpegDepacketizer(Depacketizer):
    """Types 0, 1, 64 and 65 (4:2:2 and 4:2:0, with and without restart markers). Every picture is a key frame."""

    def __init__(self) -> None:
        super().__init__()
        self._size = (0, 0)
        self._next_offset = 0
        self._tables: dict[int, bytes] = {}  # by Q, for those of 128 and above that are sent only at times

    def _take(self, payload: bytes, unit: AccessUnit) -> None:
        if len(payload) < _MAIN_HEADER.size:
            raise RemoteProtocolError("JPEG payload shorter than its header")
        _, offset_bytes, kind, quality, _, _ = _MAIN_HEADER.unpack_from(payload)
        offset = int.from_bytes(offset_bytes, "big")
        at, restart_interval = _MAIN_HEADER.size, 0
        if kind & 0x40:
            if len(payload) < at + 4:
                raise RemoteProtocolError("JPEG payload without its restart header")
            (restart_interval,) = struct.unpack_from("!H", payload, at)
            at += 4
        size = picture_size(payload, self._extension) if offset == 0 else self._size
        if kind & 0x3F > 1 or quality == 0 or size is None:
            raise RemoteProtocolError("JPEG payload of a type that is not supported")
        if offset == 0:
            tables, at = self._quantization(payload, at, quality)
            self._size = size
            unit.key = True
            unit.units.append(_headers(kind & 0x3F, *self._size, tables, restart_interval))
            self._next_offset = 0
        if offset != self._next_offset or not unit.units:
            raise RemoteProtocolError("JPEG fragment whose neighbour is missing")
        unit.units.append(payload[at:])
        self._next_offset = offset + len(payload) - at

    def _quantization(self, payload: bytes, at: int, quality: int) -> tuple[bytes, int]:
        if quality < 128:
            if quality > 99:
                raise RemoteProtocolError("JPEG payload with a reserved quality")
            return quantization_tables(quality), at
        if len(payload) < at + 4:
            raise RemoteProtocolError("JPEG payload without its quantization header")
        _, precision, length = struct.unpack_from("!BBH", payload, at)
        tables = payload[at + 4 : at + 4 + length]
        if len(tables) != length or length not in (0, 64, 128) or precision:
            raise RemoteProtocolError("JPEG payload with unusable quantization tables")
        if length:
            self._tables[quality] = tables
        elif quality not in self._tables:
            raise RemoteProtocolError("JPEG payload whose quantization tables were never sent")
        return self._tables[quality], at + 4 + length

    def picture_format(self, unit: AccessUnit) -> PictureFormat | None:
        return PictureFormat(*self._size, "Baseline") if self._size[0] else None


def _segment(marker: int, body: bytes) -> bytes:
    return struct.pack("!BBH", 0xFF, marker, len(body) + 2) + body


def _headers(kind: int, width: int, height: int, tables: bytes, restart_interval: int) -> bytes:
    """RFC 2435 appendix B: everything up to the scan data."""
    luma, chroma = tables[:64], tables[64:] or tables[:64]
    parts = [b"\xff\xd8", _segment(0xDB, b"\x00" + luma), _segment(0xDB, b"\x01" + chroma)]
    if restart_interval:
        parts.append(_segment(0xDD, struct.pack("!H", restart_interval)))
    sampling = 0x22 if kind == 1 else 0x21
    frame = struct.pack("!BHHB", 8, height, width, 3) + bytes([0, sampling, 0, 1, 0x11, 1, 2, 0x11, 1])
    parts.append(_segment(0xC0, frame))
    for table, content in ((0x00, _LUMA_DC), (0x10, _LUMA_AC), (0x01, _CHROMA_DC), (0x11, _CHROMA_AC)):
        parts.append(_segment(0xC4, bytes([table]) + content))
    parts.append(_segment(0xDA, bytes([3, 0, 0x00, 1, 0x11, 2, 0x11, 0, 63, 0])))
    return b"".join(parts)
