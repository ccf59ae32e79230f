"""The RTP streams in a capture, with or without the conversation that set them up; measured by the meter of live streams.

A datagram is taken for RTP by its version and its type (RFC 3550 clause 5.1; 72 to 76 would be RTCP); a stream is one source
whose numbers go on. Streams of which nobody tells the codec are known by how their payloads begin.
"""

from __future__ import annotations

from array import array
from collections import Counter
from collections.abc import Iterator, Sequence
from contextlib import suppress
from dataclasses import dataclass, field, replace
from typing import NamedTuple

import numpy as np

from zentrale.errors import RemoteProtocolError
from zentrale.protocols import rtcp
from zentrale.protocols.capture.grouping import by_kin, grouped
from zentrale.protocols.capture.layers import UDP, Bools, Layers, beginnings, u32
from zentrale.protocols.capture.messages import Packet
from zentrale.protocols.capture.packets import Batch, Bytes, Floats, Ints
from zentrale.protocols.rtp import RtpPacket
from zentrale.protocols.sdp import Media
from zentrale.protocols.streams.meter import StreamMeasurement, StreamMeter
from zentrale.protocols.streams.packet_log import RAW, odd_first, odd_rows

MOST_STREAMS = 1024
_MOST_SOURCES = 64  # on one way, of which none becomes a stream: something that only looks like RTP
_WHOLE_BYTES = 512  # of a packet that is looked at whole: parameter sets are smaller
_HEAD = 16  # bytes of each packet that are kept, behind four of the record
_UNDECIDED = 64  # packets of one source, before it is decided what it is
_AT_ONCE = 16_384
_FIRST = np.zeros(1, np.int64)
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


class Table:
    """The RTP packets of a batch. `start`: where each begins in `data`; `size` and `there` [bytes] as in the layers; `times` [s].

    raw: how each begins, as a record of `packet_log` (rows, 20 bytes)
    """

    def __init__(self, data: Bytes, start: Ints, size: Ints, there: Ints, times: Floats, first: Bytes) -> None:
        """first: of each the first bytes (rows, 16)"""
        self._data, self._start, self._there, self.times = data, start, there, times
        self.raw = np.zeros((len(start), RAW.itemsize), np.uint8)
        self.raw[:, 0] = 0x24
        self.raw[:, 2], self.raw[:, 3] = size >> 8, size & 0xFF
        if len(start):
            self.raw[:, 4:] = first
        for row in np.flatnonzero(there < _HEAD):
            self.raw[row, 4 + there[row] :] = 0
        self._odd: dict[str, Bools] = {}

    def whole(self, row: int) -> bytes:
        """As much of it as is kept."""
        start = self._start[row]
        return self._data[start : start + min(self._there[row], _WHOLE_BYTES)].tobytes()

    def odd(self, codec: str) -> Bools:
        """Which must be looked at whole: found once for all of a batch."""
        if codec not in self._odd:
            self._odd[codec] = _odd(self.raw.tobytes(), codec)
        return self._odd[codec]


def _odd(raw: bytes, codec: str) -> Bools:
    rows = np.frombuffer(raw, RAW)
    table = np.frombuffer(odd_first(codec), np.uint8)
    odd: Bools = (rows["version"] != 0x80) | (table[rows["first"][:, 0]] != 0) | (rows["length"] < _HEAD)
    more = odd_rows(codec)
    if more:
        odd[more(raw)] = True
    return odd


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
    _undecided: int = 0  # of these, so many of the first are whole whether they need be or not
    settled: bool = False

    def take(self, table: Table, begin: int, end: int) -> None:
        """Its packets in these rows, in the order of the file."""
        first = begin if self.settled else begin + max(1, _UNDECIDED - len(self._times))
        if begin < first < end:  # what it is follows from these; they alone are kept whole
            self.take(table, begin, first)
            self.take(table, first, end)
            return
        before = len(self._times) - begin
        self._raw += table.raw[begin:end].tobytes()
        self._times.frombytes(table.times[begin:end].tobytes())
        self.packets += end - begin
        self.last_s = self._times[-1]
        self.media = self.media or self.told.media
        if self.media is None or not self.settled:
            self._whole += [(before + row, table.whole(row)) for row in range(begin, end)]
            self._undecided = len(self._times)
            if len(self._times) >= _UNDECIDED:
                self.settled, self.media = True, self.media or media_of([data for _, data in self._whole])
            return
        odd = begin + np.flatnonzero(table.odd(self.media.codec)[begin:end])
        self._whole += [(before + row, table.whole(row)) for row in odd.tolist()]
        if len(self._times) >= _AT_ONCE:
            self.measure()

    def measure(self, *, last: bool = False) -> None:
        """What waits. The meter works on thousands of packets at a stroke. `last`: nothing comes after it."""
        assert self.media is not None
        if self.meter is None:
            self.meter = StreamMeter(self.media, self.first_s, with_jitter=not self.interleaved)
        raw, times, whole, first = bytes(self._raw), self._times, self._whole, self._undecided
        self._raw, self._times, self._whole, self._undecided = bytearray(), array("d"), [], 0
        odd = _odd(raw[: first * RAW.itemsize], self.media.codec)
        some = [(row, data) for row, data in whole if len(data) >= 12 and (row >= first or odd[row])]
        self.meter.take(raw, times, some, last=last)

    def finish(self) -> StreamMeasurement | None:
        """None where it is no stream after all: too few packets, or numbers that do not go on."""
        if self._times:
            numbers = np.frombuffer(bytes(self._raw), RAW)["sequence"].astype(np.int64)
            if self.meter is None and (len(numbers) < _LEAST or not (self.told.media or goes_on(numbers))):
                return None
            self.media = self.media or media_of([data for _, data in self._whole])
            self.measure(last=True)
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
    parsed: list[tuple[int, bytes]] = []
    for data in packets:
        if data[:1] == b"\x80" and len(data) > 12:  # neither padding nor extension nor contributing sources
            parsed.append((data[1] & 0x7F, data[12:]))
            continue
        with suppress(RemoteProtocolError):
            packet = RtpPacket.parse(data)
            parsed.append((packet.payload_type, packet.payload))
    types = Counter(kind for kind, _ in parsed)
    if not types:
        return Media("video")
    kind = types.most_common(1)[0][0]
    if kind in _STATIC:
        what, codec, clock_hz = _STATIC[kind]
        return Media(what, payload_type=kind, codec=codec, clock_hz=clock_hz)
    payloads = [payload for own, payload in parsed if own == kind and len(payload) > 1]
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
        some = np.flatnonzero((layers.proto == UDP) & (layers.payload >= 0) & (layers.there >= 12))
        if not len(some):
            return
        first = beginnings(batch, layers, some, layers.payload[some], _HEAD)
        control = (first[:, 1] >= 200) & (first[:, 1] <= 204)
        second = first[:, 0] >> 6 == 2
        rtp = second & ~control & (first[:, 1] & 0x7F != 0x7F)
        self._reports(batch, layers, some[second & control])
        if not rtp.all():
            some, first = some[rtp], first[rtp]
        if not len(some):
            return
        ssrc = u32(first.reshape(-1), np.arange(len(some)) * _HEAD + 8)
        columns = layers.source, layers.source_port, layers.target, layers.target_port
        alike = by_kin(layers.kin[some], ssrc) or grouped([*(column[some] for column in columns), ssrc])
        order, begins = alike
        # One source after the other: what is of one lies side by side.
        rows, ssrc = some[order], ssrc[order[begins]]
        start, size, there = layers.payload[rows], layers.size[rows], layers.there[rows]
        table = Table(batch.data, start, size, there, batch.time_s[rows], first[order])
        snapped = np.add.reduceat(there < size, begins, dtype=np.int64)
        ends = [*begins[1:].tolist(), len(order)]
        for begin, end, own, cut in zip(begins.tolist(), ends, ssrc.tolist(), snapped.tolist(), strict=True):
            way = Way(*(int(column[rows[begin]]) for column in columns))
            stream = self._stream(way, own, batch, int(rows[begin]))
            if stream is not None:
                stream.snapped += cut
                stream.take(table, begin, end)

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
        size = np.array([len(data)])
        spare = np.frombuffer(data.ljust(_HEAD, b"\0"), np.uint8)
        stream.take(Table(spare, _FIRST, size, size, np.array([packet.time_s]), spare[:_HEAD].reshape(1, -1)), 0, 1)

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
