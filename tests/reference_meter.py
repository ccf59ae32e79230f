"""A meter that goes packet by packet, as a reference for what it has right: streams without loss and in order.

Rates come from the source's own clock (RTP timestamps), so that a burst at the start does not bend them; where
that clock is wrong, from the times of arrival.
"""

from __future__ import annotations

from array import array
from collections.abc import Iterable
from dataclasses import dataclass

from zentrale.errors import RemoteProtocolError
from zentrale.protocols import h264, h265, jpeg
from zentrale.protocols.rtp import RtpPacket
from zentrale.protocols.sdp import Media
from zentrale.protocols.streams.key_pictures import KeyPicture
from zentrale.protocols.streams.meter import StreamMeasurement
from zentrale.protocols.streams.packet_log import Records, odd_first, records_of
from zentrale.protocols.video import START_CODE, AccessUnit, Depacketizer, PictureFormat

_DEPACKETIZERS: dict[str, type[Depacketizer]] = {
    "H264": h264.H264Depacketizer, "H265": h265.H265Depacketizer, "JPEG": jpeg.JpegDepacketizer,
}  # fmt: skip
_CLOCK_TRUST = (0.8, 1.25)  # media clock against arrival: beyond this the source's clock is not believed


_WINDOW = 4096
_FIRST_CYCLE = 0x10000  # so that packets just before the first stay positive


class Reception:
    """Statistics of one source, in the variables of RFC 3550 appendix A."""

    MAX_DROPOUT = 3000
    MAX_MISORDER = 100

    def __init__(self, clock_hz: int) -> None:
        self.clock_hz = clock_hz
        self.received = 0
        self.duplicates = 0
        self.reordered = 0
        self.restarts = 0
        self._base = 0
        self._max = 0  # extended highest sequence number
        self._bad = -1
        self._expected_before = 0  # of the runs that ended with a restart of the sequence
        self._received_before = 0
        self._transit: float | None = None
        self._jitter = 0.0  # in clock units
        self._window = array("q", [-1]) * _WINDOW

    @property
    def expected(self) -> int:
        return self._expected_before + (self._max - self._base + 1 if self.received > self._received_before else 0)

    @property
    def lost(self) -> int:
        """Packets expected and never received (A.3); never negative, since doubled packets are not counted."""
        return max(0, self.expected - self.received)

    @property
    def jitter_ms(self) -> float:
        return 1000 * self._jitter / self.clock_hz

    @property
    def extended_highest(self) -> int:
        """Cycles of the sequence number in the upper 16 bits, none at first (RFC 3550 clause 6.4.1)."""
        return self._max - _FIRST_CYCLE

    def add(self, sequence: int, timestamp: int, arrival_s: float) -> bool:
        """Count one packet. Returns false where it must not be used: doubled, or from before the window."""
        if self.received == self._received_before:
            self._begin(sequence)
        delta = (sequence - self._max) & 0xFFFF
        if 0 < delta < self.MAX_DROPOUT:
            extended = self._max + delta
            self._max = extended
        elif delta == 0 or delta > 0x10000 - self.MAX_MISORDER:
            extended = self._max if delta == 0 else self._max - (0x10000 - delta)
            if self._window[extended % _WINDOW] == extended:
                self.duplicates += 1
                return False
            if delta:
                self.reordered += 1
                if extended < self._base:
                    self._base = extended
        elif sequence == self._bad:
            # Two in a row from elsewhere: the source restarted (A.1).
            self._expected_before = self.expected
            self._received_before = self.received
            self.restarts += 1
            self._begin(sequence)
            extended = self._max
        else:
            self._bad = (sequence + 1) & 0xFFFF
            return False
        self._bad = -1
        self._window[extended % _WINDOW] = extended
        self.received += 1
        self._update_jitter(timestamp, arrival_s)
        return True

    def _begin(self, sequence: int) -> None:
        self._base = self._max = sequence + _FIRST_CYCLE
        self._transit = None

    def _update_jitter(self, timestamp: int, arrival_s: float) -> None:
        transit = arrival_s * self.clock_hz - timestamp
        if self._transit is not None:
            difference = abs(transit - self._transit)
            if difference < 0x40000000:  # the 32-bit timestamp wrapped: no information in this one
                self._jitter += (difference - self._jitter) / 16
        self._transit = transit


@dataclass(frozen=True)
class _Frame:
    timestamp: int  # extended beyond 32 bits
    arrival_s: float
    size_bytes: int
    key: bool


class ReferenceMeter:
    """Feed packets as they arrive; ask for the result at the end.

    started_s: when connecting began, on the clock of the arrival times
    """

    def __init__(self, media: Media, started_s: float) -> None:
        self.media = media
        self.started_s = started_s
        self.malformed = 0
        self.ended_early = False
        self._reception = Reception(media.clock_hz)
        kind = _DEPACKETIZERS.get(media.codec)
        self._depacketizer = kind() if kind else None
        self._ssrc: int | None = None
        self._frames: list[_Frame] = []
        self._damaged = 0
        self._format: PictureFormat | None = None
        self._key: KeyPicture | None = None
        self._first_picture_s: float | None = None
        self._first_arrival_s = 0.0
        self._last_arrival_s = 0.0
        self._last_timestamp: int | None = None
        self._by_second: list[int] = []
        self._report_base = (0, 0)

    def add_rtp(self, data: bytes, arrival_s: float) -> None:
        """Raises RemoteProtocolError on what is no RTP packet."""
        packet = RtpPacket.parse(data)
        if self._ssrc is None:
            self._ssrc = packet.ssrc
            self._first_arrival_s = arrival_s
        if packet.ssrc != self._ssrc or packet.payload_type != self.media.payload_type:
            return  # another source, or another format such as metadata in the same session
        if not self._reception.add(packet.sequence, packet.timestamp, arrival_s):
            return
        self._last_arrival_s = arrival_s
        second = min(int(arrival_s - self._first_arrival_s), 86_400)
        while len(self._by_second) <= second:
            self._by_second.append(0)
        self._by_second[second] += 8 * len(packet.payload)
        if self._depacketizer is not None:
            for unit in self._depacketizer.push(packet.payload, packet.timestamp, packet.marker, packet.sequence):
                self._add_unit(self._depacketizer, unit, arrival_s)

    def _add_unit(self, depacketizer: Depacketizer, unit: AccessUnit, arrival_s: float) -> None:
        if self._last_timestamp is None:
            extended = unit.timestamp
        else:
            step = (unit.timestamp - self._last_timestamp + 0x80000000 & 0xFFFFFFFF) - 0x80000000
            extended = self._last_timestamp + step
        self._last_timestamp = extended
        self._frames.append(_Frame(extended, arrival_s, unit.size_bytes, unit.key))
        if not unit.complete:
            self._damaged += len(self._frames) > 1  # the first may have begun before we came
            return
        if not unit.key:
            return
        try:
            self._format = depacketizer.picture_format(unit) or self._format
        except RemoteProtocolError:
            self.malformed += 1
        if self._key is None:
            self._key = KeyPicture(self.media.codec, self._decodable(unit))
            self._first_picture_s = arrival_s - self.started_s

    def _decodable(self, unit: AccessUnit) -> bytes:
        if self.media.codec == "JPEG":
            return b"".join(unit.units)
        out_of_band = b"".join(START_CODE + s for s in self.media.parameter_sets())
        return out_of_band + unit.annex_b()

    def result(self, transport: str, named_hosts: tuple[str, ...] = ()) -> StreamMeasurement:
        picture = self._format or self._format_from_description()
        reception = self._reception
        fps, bitrate, interval = self._rates()
        return StreamMeasurement(
            transport=transport,
            codec=self.media.codec,
            profile=picture.profile if picture else "",
            width_px=picture.width_px if picture else None,
            height_px=picture.height_px if picture else None,
            fps=fps,
            bitrate_bps=bitrate,
            bitrate_by_second=tuple(self._by_second),
            keyframe_interval_s=interval,
            packets_received=reception.received,
            packets_lost=reception.lost,
            packets_reordered=reception.reordered,
            packets_malformed=self.malformed,
            jitter_ms=reception.jitter_ms if reception.received > 1 else None,
            first_picture_s=self._first_picture_s,
            frames=len(self._frames),
            frames_damaged=self._damaged,
            measured_s=self._last_arrival_s - self._first_arrival_s,
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

    def _rates(self) -> tuple[float | None, float | None, float | None]:
        """Frames per second, bits per second, seconds between key frames; None where there is too little."""
        frames = self._frames
        if len(frames) < 2:
            return None, None, None
        span = (frames[-1].timestamp - frames[0].timestamp) / self.media.clock_hz
        arrival_span = frames[-1].arrival_s - frames[0].arrival_s
        trusted = span > 0 and (arrival_span < 1 or _CLOCK_TRUST[0] < span / arrival_span < _CLOCK_TRUST[1])

        def between(a: _Frame, b: _Frame) -> float:
            return (b.timestamp - a.timestamp) / self.media.clock_hz if trusted else b.arrival_s - a.arrival_s

        whole = between(frames[0], frames[-1])
        if whole <= 0:
            return None, None, None
        keys = [index for index, frame in enumerate(frames) if frame.key]
        first, last = (keys[0], keys[-1]) if len(keys) > 1 else (0, len(frames) - 1)
        counted = between(frames[first], frames[last])
        bits = 8 * sum(frame.size_bytes for frame in frames[first:last])
        interval = counted / (len(keys) - 1) if len(keys) > 1 else None
        return (len(frames) - 1) / whole, bits / counted if counted > 0 else None, interval


def recorded(packets: Iterable[tuple[float, RtpPacket]], codec: str = "H264") -> Records:
    """The records of packets, each with its arrival [s], by way of their bytes."""
    raw, arrivals, odd = bytearray(), [], []
    for row, (at, packet) in enumerate(packets):
        data = packet.serialize()
        raw += (b"$\0" + len(data).to_bytes(2, "big") + data)[:20].ljust(20, b"\0")
        arrivals.append(at)
        if len(data) < 16 or odd_first(codec)[data[12]]:
            odd.append((row, data))
    return records_of(raw, arrivals, odd, codec, 96)[0]
