"""The RTP streams in a capture, with or without the conversation that set them up; measured by the meter of live streams.

A datagram is taken for RTP by its version and its type (RFC 3550 clause 5.1; 72 to 76 would be RTCP); a stream is one source
whose numbers go on. Streams of which nobody tells the codec are known by how their payloads begin.
"""

from __future__ import annotations

from array import array
from collections import Counter
from collections.abc import Callable, Iterator, Sequence
from contextlib import suppress
from dataclasses import dataclass, field, replace
from typing import NamedTuple

import numpy as np

from zentrale.errors import RemoteProtocolError
from zentrale.protocols import rtcp
from zentrale.protocols.capture.container import Batch, Floats, Ints, heads
from zentrale.protocols.capture.layers import UDP, Layers, u32
from zentrale.protocols.capture.messages import Packet
from zentrale.protocols.rtp import RtpPacket
from zentrale.protocols.sdp import Media
from zentrale.protocols.streams.meter import StreamMeasurement, StreamMeter
from zentrale.protocols.streams.packet_log import RAW, odd_first, odd_rows

MOST_STREAMS = 1024
_MOST_SOURCES = 64  # on one way, of which none becomes a stream: something that only looks like RTP
_WHOLE_BYTES = 512  # of a packet that is looked at whole: parameter sets are smaller
_HEAD = 16  # bytes of each packet that are kept, behind four of the record
_UNDECIDED = 64  # packets of one source, before it is decided what it is
_AT_ONCE = 4096
_LEAST = 8  # fewer are no stream
_GOES_ON, _STEP = 0.6, 100  # so many of its numbers follow the one before, by no more than that
_ALIKE = 0.9  # so many of its payloads begin as a codec's do
_STATIC = {26: ("video", "JPEG", 90_000), 0: ("audio", "PCMU", 8000), 8: ("audio", "PCMA", 8000), 9: ("audio", "G722", 8000),
           33: ("video", "MP2T", 90_000)}  # fmt: skip  # RFC 3551 tables 4 and 5


class Way(NamedTuple):
    """From where to where: numbers of addresses, and ports."""

    source: int
    source_port: int
    target: int
    target_port: int


class Told(NamedTuple):
    """What a conversation has said of a stream: what it is, and by which address it was asked for."""

    media: Media | None = None
    url: str = ""


@dataclass
class RtpStream:
    """One source on one way. `media` None until it is known what it is; `interleaved` within a TCP connection."""

    way: Way
    ssrc: int
    first_s: float
    number: int
    told: Told
    media: Media | None = None
    interleaved: bool = False
    last_s: float = 0.0
    packets: int = 0
    snapped: int = 0
    meter: StreamMeter | None = None
    _raw: bytearray = field(default_factory=bytearray)
    _times: array[float] = field(default_factory=lambda: array("d"))
    _whole: list[tuple[int, bytes]] = field(default_factory=list)
    settled: bool = False

    def take(self, raw: bytes, times: Floats, whole: Callable[[int], bytes]) -> None:
        """Records of some of its packets in the order of the file; `whole` gives all that there is of one."""
        first = 0 if self.settled else max(1, _UNDECIDED - len(self._times))
        if 0 < first < len(times):  # what it is follows from these; they alone are kept whole
            self.take(raw[: first * RAW.itemsize], times[:first], whole)
            self.take(raw[first * RAW.itemsize :], times[first:], lambda row: whole(first + row))
            return
        self.packets += len(times)
        self.last_s = float(times[-1])
        before = len(self._times)
        self._raw += raw
        self._times.frombytes(times.tobytes())
        self.media = self.media or self.told.media
        if self.media is None or not self.settled:
            self._whole += [(before + row, whole(row)) for row in range(len(times))]
            if len(self._times) >= _UNDECIDED:
                self.settled, self.media = True, self.media or media_of([data for _, data in self._whole])
            return
        self._whole += [(before + row, whole(row)) for row in self._odd(raw)]
        if len(self._times) >= _AT_ONCE:
            self._measure()

    def _odd(self, raw: bytes) -> list[int]:
        """The rows of those that must be looked at whole."""
        assert self.media is not None
        rows = np.frombuffer(raw, RAW)
        table = np.frombuffer(odd_first(self.media.codec), np.uint8)
        odd = (rows["version"] != 0x80) | (table[rows["first"][:, 0]] != 0) | (rows["length"] < _HEAD)
        more = odd_rows(self.media.codec)
        return sorted({*np.flatnonzero(odd).tolist(), *(more(raw) if more else [])})

    def _measure(self) -> None:
        """What waits. The meter works on thousands of packets at a stroke."""
        assert self.media is not None
        if self.meter is None:
            self.meter = StreamMeter(self.media, self.first_s, with_jitter=not self.interleaved)
        raw, times, whole = bytes(self._raw), self._times, dict(self._whole)
        self._raw, self._times, self._whole = bytearray(), array("d"), []
        some = [(row, whole[row]) for row in self._odd(raw) if len(whole.get(row, b"")) >= 12]
        self.meter.take(raw, times, some)

    def finish(self) -> StreamMeasurement | None:
        """None where it is no stream after all: too few packets, or numbers that do not go on."""
        if self._times:
            numbers = np.frombuffer(bytes(self._raw), RAW)["sequence"].astype(np.int64)
            if self.meter is None and (len(numbers) < _LEAST or not (self.told.media or goes_on(numbers))):
                return None
            self.media = self.media or media_of([data for _, data in self._whole])
            self._measure()
        if self.meter is None:
            return None
        found = self.meter.result("tcp" if self.interleaved else "udp")
        # Nothing comes any more: what may still have come did not.
        return replace(found, packets_lost=found.packets_lost + found.packets_open, packets_open=0)


def goes_on(numbers: Ints) -> bool:
    """Whether they are mostly one after the other (the numbers wrap at 16 bits)."""
    steps = np.diff(numbers) & 0xFFFF
    steps = steps[steps > 0]  # a mirror port shows some packets twice
    return len(steps) >= _LEAST - 1 and float((steps <= _STEP).mean()) >= _GOES_ON


def media_of(packets: Sequence[bytes]) -> Media:
    """What a source sends, by its payload type and by how its payloads begin (RFC 6184 clause 5.2, RFC 7798 clause 4.1)."""
    parsed = []
    for data in packets:
        with suppress(RemoteProtocolError):
            parsed.append(RtpPacket.parse(data))
    types = Counter(p.payload_type for p in parsed)
    if not types:
        return Media("video")
    kind = types.most_common(1)[0][0]
    if kind in _STATIC:
        what, codec, clock_hz = _STATIC[kind]
        return Media(what, payload_type=kind, codec=codec, clock_hz=clock_hz)
    payloads = [p.payload for p in parsed if p.payload_type == kind and len(p.payload) > 1]
    shares = {
        codec: sum(map(begins, payloads)) / max(1, len(payloads))
        for codec, begins in (("H265", _h265), ("H264", _h264))
    }
    codec = max(shares, key=lambda name: shares[name])
    return Media("video", payload_type=kind, codec=codec if shares[codec] >= _ALIKE else "")


def _h264(payload: bytes) -> bool:
    kind = payload[0] & 0x1F
    return not payload[0] & 0x80 and (
        kind in (1, 5, 6, 7, 8, 9, 12, 24) or (kind == 28 and payload[1] & 0x1F in (1, 5))
    )


def _h265(payload: bytes) -> bool:
    kind = payload[0] >> 1
    plain = kind <= 9 or 16 <= kind <= 21 or 32 <= kind <= 40 or kind in (48, 49)
    return plain and not payload[0] & 0x81 and payload[1] >> 3 == 0 and payload[1] & 7 > 0


class RtpStreams:
    """Feed it batches. `told`: what a conversation has said of who sends what to which port, by target and port."""

    def __init__(self) -> None:
        self.streams: dict[tuple[Way, int], RtpStream] = {}
        self.told: dict[tuple[int, int], Told] = {}
        self.left_out = 0
        self._sources: Counter[Way] = Counter()

    def take(self, batch: Batch, layers: Layers) -> None:
        data = batch.data
        some = np.flatnonzero((layers.proto == UDP) & (layers.payload >= 0) & (layers.there >= 12))
        if not len(some):
            return
        start = layers.payload[some]
        first, second = data[start], data[start + 1]
        control = (second >= 200) & (second <= 204)
        rtp = (first >> 6 == 2) & ~control & (data[start + 1] & 0x7F != 0x7F)
        self._reports(batch, layers, some[(first >> 6 == 2) & control])
        some, start = some[rtp], start[rtp]
        if not len(some):
            return
        ssrc = u32(data, start + 8)
        columns = [
            layers.source[some], layers.source_port[some], layers.target[some], layers.target_port[some], ssrc,
        ]  # fmt: skip
        for group in groups(columns):
            rows = some[group]
            way = Way(*(int(column[group[0]]) for column in columns[:4]))
            stream = self._stream(way, int(ssrc[group[0]]), batch, int(rows[0]))
            if stream is not None:
                stream.snapped += int((layers.there[rows] < layers.size[rows]).sum())
                self._feed(stream, batch, layers, rows)

    def _stream(self, way: Way, ssrc: int, batch: Batch, row: int) -> RtpStream | None:
        stream = self.streams.get((way, ssrc))
        if stream is None:
            told = self.told.get((way.target, way.target_port), Told())
            stream = self._added(RtpStream(way, ssrc, float(batch.time_s[row]), batch.number + row, told))
        return stream

    def _added(self, stream: RtpStream) -> RtpStream | None:
        """None where there is no room, or where its way has had too many sources that were none."""
        way = stream.way
        if stream.told.media is None:
            self._sources[way] += 1
            if self._sources[way] == _MOST_SOURCES and any(
                s.packets >= _LEAST for (own, _), s in self.streams.items() if own == way
            ):
                self._sources[way] = 0  # one of them is a stream: another may follow it
            if self._sources[way] >= _MOST_SOURCES:
                return None
        if len(self.streams) >= MOST_STREAMS:
            few = [key for key, s in self.streams.items() if s.packets < _LEAST and s.told.media is None]
            for key in few:
                del self.streams[key]
            if not few:
                self.left_out += 1
                return None
        self.streams[way, stream.ssrc] = stream
        return stream

    def _feed(self, stream: RtpStream, batch: Batch, layers: Layers, rows: Ints) -> None:
        start, size, there = layers.payload[rows], layers.size[rows], layers.there[rows]
        raw = np.zeros((len(rows), RAW.itemsize), np.uint8)
        raw[:, 0] = 0x24
        raw[:, 2], raw[:, 3] = size >> 8, size & 0xFF
        raw[:, 4:20] = heads(batch.data, start, _HEAD)
        for row in np.flatnonzero(there < _HEAD):
            raw[row, 4 + there[row] :] = 0

        def whole(row: int) -> bytes:
            return batch.data[start[row] : start[row] + min(there[row], _WHOLE_BYTES)].tobytes()

        stream.take(raw.tobytes(), batch.time_s[rows], whole)

    def take_interleaved(self, way: Way, packet: Packet, told: Told) -> None:
        """One packet of an RTSP connection; `told`: what its channel carries."""
        data = packet.data
        if len(data) < 12 or data[0] >> 6 != 2 or 200 <= data[1] <= 204:
            return
        ssrc = int.from_bytes(data[8:12], "big")
        stream = self.streams.get((way, ssrc)) or self._added(
            RtpStream(way, ssrc, packet.time_s, packet.number, told, interleaved=True)
        )
        if stream is None:
            return
        head = b"$\0" + len(data).to_bytes(2, "big") + data[:_HEAD].ljust(_HEAD, b"\0")
        stream.take(head, np.array([packet.time_s]), lambda row: data[:_WHOLE_BYTES])

    def _reports(self, batch: Batch, layers: Layers, rows: Ints) -> None:
        """Sender reports tell how a source's clock goes."""
        for row in rows.tolist():
            start = int(layers.payload[row])
            data = batch.data[start : start + int(layers.there[row])].tobytes()
            try:
                reports = rtcp.parse(data)
            except RemoteProtocolError:
                continue
            for report in reports:
                if isinstance(report, rtcp.SenderReport):
                    for stream in self._of(report.ssrc, int(layers.source[row])):
                        if stream.meter is not None:
                            stream.meter.add_rtcp(data)

    def _of(self, ssrc: int, source: int) -> Iterator[RtpStream]:
        return (s for (way, own), s in self.streams.items() if own == ssrc and way.source == source)

    def finish(self) -> list[tuple[RtpStream, StreamMeasurement]]:
        """Those that are streams, in the order in which they began."""
        found = [(s, m) for s in self.streams.values() if (m := s.finish()) is not None]
        return sorted(found, key=lambda pair: pair[0].number)


def groups(columns: list[Ints]) -> Iterator[Ints]:
    """Rows that are alike in all columns, each group in order."""
    mixed = np.zeros(len(columns[0]), np.uint64)
    for column in columns:
        mixed = (mixed ^ column.astype(np.uint64)) * np.uint64(0x9E3779B97F4A7C15)
        mixed ^= mixed >> np.uint64(29)
    order = np.argsort(mixed, kind="stable")
    sorted_ = mixed[order]
    cuts = np.flatnonzero(sorted_[1:] != sorted_[:-1]) + 1
    for group in np.split(order, cuts):
        if all((column[group] == column[group[0]]).all() for column in columns):
            yield group
            continue
        rows = np.stack([column[group] for column in columns])  # two ways with one sum: somebody made them so
        _, which = np.unique(rows, axis=1, return_inverse=True)
        for number in range(int(which.max()) + 1):
            yield group[which.reshape(-1) == number]
