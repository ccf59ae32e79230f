"""What pictures say of themselves all along: size, kind and codec, from each parameter set and each key picture's first bytes.

A stream's encoder can be set otherwise while it plays. The parameter sets say so, and the slice header of the next key picture
says which of them holds: that is in the first bytes of its packet, which the record of each packet has.
"""

from __future__ import annotations

import numpy as np
import numpy.typing as npt

from zentrale.errors import RemoteProtocolError
from zentrale.protocols import h264, h265, jpeg
from zentrale.protocols.bits import BitReader
from zentrale.protocols.rtp import RtpPacket
from zentrale.protocols.sdp import Media
from zentrale.protocols.streams.packet_log import KEY, PICTURE, RAW, units_of
from zentrale.protocols.video import PictureFormat

MAX_FORMATS = 8
MAX_SETS, MAX_PICTURE_SETS = 32, 256  # ITU-T H.264 clauses 7.4.2.1.1 and 7.4.2.2; H.265 allows fewer
MAX_PARSED = 1000  # no encoder is set otherwise so often
_SAMPLES, _LEAST_SAMPLES, _NEARLY_ALL = 64, 16, 0.9
_OF_H265 = np.zeros(256, bool)
_OF_H265[[kind << 1 for kind in (*range(10), *range(16, 22), *range(32, 41), 48, 49)]] = (
    True  # ITU-T H.265 table 7-1, RFC 7798
)
_OF_H264 = np.zeros(
    256, bool
)  # NAL unit headers as encoders write them, with any importance (ITU-T H.264 clause 7.3.1)
_OF_H264[[importance << 5 | kind for importance in range(4) for kind in (1, 5, 6, 7, 8, 9, 24, 28)]] = True


def looks_like(described: str, first: npt.NDArray[np.uint8]) -> str | None:
    """The codec that payloads look like by their first two bytes (rows by 2), where it is not the one described."""
    if len(first) < _LEAST_SAMPLES:
        return None
    of_h265 = _OF_H265[first[:, 0]] & (first[:, 1] == 1)
    if described == "H264":
        return "H265" if of_h265.mean() > _NEARLY_ALL else None
    return "H264" if described == "H265" and (_OF_H264[first[:, 0]] & ~of_h265).mean() > _NEARLY_ALL else None


class FormatWatch:
    """Feed what `records_of` found.

    formats:      each that came, with its arrival [s]; the present one last
    codecs:       others than described, since when they come [s]
    has_sets:     parameter sets came, or were described; JPEG needs none
    size_missing: JPEG pictures that are too large for their header come without a size (RFC 2435 clause 3.1.5)
    """

    def __init__(self, media: Media) -> None:
        self.media = media
        self.formats: list[tuple[float, PictureFormat]] = []
        self.codecs: list[tuple[float, str]] = []
        self.malformed = 0
        self.has_sets = media.codec not in ("H264", "H265")
        self.size_missing = False
        self._parsed = 0
        self._sets: dict[int, PictureFormat] = {}
        self._raw: dict[int, bytes] = {}
        self._set_of: dict[int, int] = {}  # picture parameter sets: which sequence parameter set they are of
        for unit in media.parameter_sets():
            self._take_set(unit)

    def take(self, raw: bytes | bytearray, flags: npt.NDArray[np.uint16] | None, at_s: float) -> None:
        """Raw records; their flags where none was left out; the arrival of the first."""
        if self.media.codec not in ("H264", "H265"):
            return
        records = np.frombuffer(raw, RAW)
        if not self.codecs:
            last = records[-_SAMPLES:]
            own = (last["version"] == 0x80) & (last["type"] & 0x7F == self.media.payload_type) & (last["length"] >= 16)
            other = looks_like(self.media.codec, last["first"][own, :2])
            self.codecs += [(at_s, other)] if other is not None else []
        if flags is None or len(self._sets) < 2:
            return
        for row in np.flatnonzero((flags & (KEY | PICTURE)) == KEY | PICTURE):
            self._activate(bytes(records["first"][row]), at_s)

    def header(self, arrival_s: float, packet: RtpPacket) -> None:
        """A packet that holds parameter sets, or the beginning of a JPEG picture."""
        payload, codec = packet.payload, self.media.codec
        if codec == "JPEG":
            size = jpeg.picture_size(payload, packet.extension)
            self.size_missing |= size is None
            if size is not None:
                self._seen(arrival_s, PictureFormat(*size, "Baseline"))
            return
        aggregated = payload[0] & 0x1F == h264.STAP_A if codec == "H264" else h265.nal_type(payload) == h265.AGGREGATION
        for unit in units_of(payload, 1 if codec == "H264" else 2) if aggregated else (payload,):
            form = self._take_set(unit)
            if form is not None and len(self._sets) == 1:  # else the next key picture says which one holds
                self._seen(arrival_s, form)

    def _seen(self, arrival_s: float, form: PictureFormat) -> None:
        if len(self.formats) < MAX_FORMATS and (not self.formats or self.formats[-1][1] != form):
            self.formats.append((arrival_s, form))

    def _take_set(self, unit: bytes) -> PictureFormat | None:
        """What a sequence parameter set says; None for all other units, and one that says nothing."""
        codec = h264 if self.media.codec == "H264" else h265
        kind = unit[0] & 0x1F if codec is h264 else h265.nal_type(unit) if unit else -1
        try:
            if kind == codec.NAL_PPS:
                self.has_sets = True
                bits = BitReader(unit[codec.HEADER_BYTES : codec.HEADER_BYTES + 16])
                number = bits.ue()
                if number < MAX_PICTURE_SETS:
                    self._set_of[number] = bits.ue()
            elif kind == codec.NAL_SPS:
                self.has_sets = True
                known = next((n for n, raw in self._raw.items() if raw == unit), None)
                if known is None and self._parsed < MAX_PARSED:
                    self._parsed += 1
                    form = codec.parse_sps(unit)
                    if form.set_id < MAX_SETS:
                        known = form.set_id
                        self._sets[known], self._raw[known] = form, unit
                return None if known is None else self._sets[known]
        except RemoteProtocolError:
            self.malformed += 1
        return None

    def _activate(self, first: bytes, at_s: float) -> None:
        """The first bytes of a key picture: its slice header says which parameter sets hold."""
        try:
            if self.media.codec == "H264":
                bits = BitReader(first[2 if first[0] & 0x1F == h264.FU_A else 1 :])
                bits.ue()  # first_mb_in_slice
                bits.ue()  # slice_type
            else:
                bits = BitReader(first[3 if h265.nal_type(first) == h265.FRAGMENTATION else 2 :])
                bits.skip(2)  # first_slice_segment_in_pic_flag, no_output_of_prior_pics_flag
            form = self._sets.get(self._set_of.get(bits.ue(), -1))
        except RemoteProtocolError:  # its number is further behind than the record reaches
            return
        if form is not None:
            self._seen(at_s, form)
