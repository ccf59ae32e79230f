"""What a video stream delivers, measured from its RTP packets: the numbers an acceptance test needs.

Each packet leaves a record (`packet_log`), from which the figures follow at the end (`stream_figures`); here is what needs
payload, or an answer at once: the first key picture, and the receiver reports.
"""

from __future__ import annotations

from dataclasses import dataclass, field

from zentrale.errors import RemoteProtocolError
from zentrale.protocols import h264, h265, jpeg, rtcp
from zentrale.protocols.packet_log import PacketLog
from zentrale.protocols.packet_order import PacketOrder
from zentrale.protocols.rtp import RtpPacket
from zentrale.protocols.sdp import Media
from zentrale.protocols.stream_figures import Figures, figures, jitter_ms
from zentrale.protocols.video import START_CODE, AccessUnit, Depacketizer, PictureFormat

_DEPACKETIZERS: dict[str, type[Depacketizer]] = {
    "H264": h264.H264Depacketizer, "H265": h265.H265Depacketizer, "JPEG": jpeg.JpegDepacketizer,
}  # fmt: skip
_REPORT_PACKETS = 2048  # the jitter told in a report follows from the last second or two
_SILENT_S = 0.2  # a source that says nothing for so long may have a successor


@dataclass(frozen=True)
class KeyPicture:
    """A whole key frame, as a decoder takes it."""

    codec: str
    data: bytes


@dataclass(frozen=True, kw_only=True)
class StreamMeasurement(Figures):
    """The figures, and what is known beside them; times are in the unit of their name.

    first_picture_s: from connecting to the last packet of the first whole key frame
    jitter_ms:       interarrival jitter at the end (RFC 3550 appendix A.8), and its worst; over UDP only
    named_hosts:     other hosts that the server named in its addresses; none was asked
    own_lateness_s:  how much later than due this machine came to read, at worst
    """

    transport: str
    codec: str
    profile: str = ""
    width_px: int | None = None
    height_px: int | None = None
    packets_malformed: int = 0
    jitter_ms: float | None = None
    jitter_worst_ms: float | None = None
    first_picture_s: float | None = None
    ended_early: bool = False
    key_picture: KeyPicture | None = field(default=None, repr=False)
    named_hosts: tuple[str, ...] = ()
    own_lateness_s: float = 0.0


class StreamMeter:
    """Feed packets as they arrive; ask for the result at the end.

    started_s: when connecting began, on the clock of the arrival times
    """

    def __init__(self, media: Media, started_s: float) -> None:
        self.media = media
        self.started_s = started_s
        self.malformed = 0
        self.ended_early = False
        self._log = PacketLog(media.codec)
        self._ssrc: int | None = None
        self._base = self._highest = self._received = 0  # of the source: numbers without their wrap, for the reports
        self._reported = (0, 0)
        self._last_arrival_s = 0.0
        kind = _DEPACKETIZERS.get(media.codec)
        self._depacketizer = kind() if kind else None
        self._order = PacketOrder()
        self._format: PictureFormat | None = None
        self._key: KeyPicture | None = None
        self._first_picture_s: float | None = None

    def add_rtp(self, data: bytes, arrival_s: float) -> None:
        """Raises RemoteProtocolError on what is no RTP packet."""
        packet = RtpPacket.parse(data)
        if packet.payload_type != self.media.payload_type:
            return  # another format, such as metadata in the same session
        self._log.add(packet, arrival_s)
        if self._ssrc is None or (packet.ssrc != self._ssrc and arrival_s - self._last_arrival_s > _SILENT_S):
            self._begin(packet)
        if packet.ssrc != self._ssrc:
            return
        self._last_arrival_s = arrival_s
        ahead = (packet.sequence - self._highest) & 0xFFFF
        if ahead < 0x8000:
            self._highest += ahead
        self._received += 1
        if self._key is None and self._depacketizer is not None:
            for ready in self._order.push(packet, arrival_s):
                units = self._depacketizer.push(ready.payload, ready.timestamp, ready.marker, ready.sequence)
                for unit in units:
                    self._look_for_picture(self._depacketizer, unit, arrival_s)

    def _begin(self, packet: RtpPacket) -> None:
        """The first source; or the one that goes on where the one before fell silent."""
        self._ssrc, self._order = packet.ssrc, PacketOrder()
        self._base = self._highest = packet.sequence
        self._received, self._reported = 0, (0, 0)

    def add_rtcp(self, data: bytes) -> None:
        """Sender reports are checked for form only; a source that says it ends has ended. Raises RemoteProtocolError."""
        if self._ssrc in rtcp.goodbyes(data):
            self.ended_early = True

    def _look_for_picture(self, depacketizer: Depacketizer, unit: AccessUnit, arrival_s: float) -> None:
        """The first whole key picture is kept; after it payload is of no more use."""
        if self._key is not None or not unit.complete or not unit.key:
            return
        try:
            self._format = depacketizer.picture_format(unit) or self._format
        except RemoteProtocolError:
            self.malformed += 1
        self._key = KeyPicture(self.media.codec, self._decodable(unit))
        self._first_picture_s = arrival_s - self.started_s

    def _decodable(self, unit: AccessUnit) -> bytes:
        if self.media.codec == "JPEG":
            return b"".join(unit.units)
        out_of_band = b"".join(START_CODE + s for s in self.media.parameter_sets())
        return out_of_band + unit.annex_b()

    def receiver_report(self, own_ssrc: int) -> rtcp.ReceiverReport | None:
        """A report on what was received since the last one (RFC 3550 appendix A.3)."""
        if self._ssrc is None:
            return None
        expected = self._highest - self._base + 1
        lost = max(0, expected - self._received)
        since = expected - self._reported[0], self._received - self._reported[1]
        self._reported = expected, self._received
        fraction = min(255, 256 * (since[0] - since[1]) // since[0]) if since[0] > max(0, since[1]) else 0
        recent = self._log.records(_REPORT_PACKETS)
        jitter = int(jitter_ms(recent, self.media.clock_hz)[0] * self.media.clock_hz / 1000)
        return rtcp.ReceiverReport(own_ssrc, self._ssrc, fraction, lost, self._highest, jitter)

    def result(
        self, transport: str, named_hosts: tuple[str, ...] = (), *, until_s: float | None = None
    ) -> StreamMeasurement:
        """`until_s`: when the measurement ended, on the clock of the arrival times; silence up to then counts."""
        picture = self._format or self._format_from_description()
        records = self._log.records()
        told = figures(records, self.media.clock_hz, until_s)
        # Over TCP packets arrive as the socket is read: how evenly says nothing of the network (RFC 3550 clause 6.4.1).
        jitter = jitter_ms(records, self.media.clock_hz) if transport == "udp" and len(records) > 1 else None
        return StreamMeasurement(
            **vars(told),
            transport=transport,
            codec=self.media.codec,
            profile=picture.profile if picture else "",
            width_px=picture.width_px if picture else None,
            height_px=picture.height_px if picture else None,
            packets_malformed=self.malformed,
            jitter_ms=jitter[0] if jitter else None,
            jitter_worst_ms=jitter[1] if jitter else None,
            first_picture_s=self._first_picture_s,
            ended_early=self.ended_early,
            key_picture=self._key,
            named_hosts=named_hosts,
        )

    def _format_from_description(self) -> PictureFormat | None:
        """The parameter sets of the description, for a source that sends them nowhere else."""
        if self._depacketizer is None or self._key is None:
            return None
        try:
            return self._depacketizer.picture_format(AccessUnit(0, self.media.parameter_sets()))
        except RemoteProtocolError:
            return None
