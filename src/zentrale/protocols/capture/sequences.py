"""Which packets of each stream were caught at one place, and when: to be laid beside another place."""

from __future__ import annotations

from array import array
from dataclasses import dataclass, field

import numpy as np

from zentrale.errors import RemoteProtocolError
from zentrale.protocols import rtcp
from zentrale.protocols.capture.grouping import groups
from zentrale.protocols.capture.layers import TCP, UDP, Layers, u16, u32
from zentrale.protocols.capture.messages import Packet
from zentrale.protocols.capture.packets import Batch, Floats, Ints
from zentrale.protocols.capture.rtp_streams import Way

MOST_PACKETS, MOST_LOGS, MOST_SEGMENTS = 4_000_000, 1024, 250_000
_LEAST = 8  # packets of a stream
Keys = Ints  # of each packet: its number and its time stamp in one, which nothing on the way changes


@dataclass
class Log:
    """Of one source. `way` is where it was seen first; `key` = sequence number * 2^32 + time stamp"""

    way: Way
    keys: list[Keys] = field(default_factory=list)
    times: list[Floats] = field(default_factory=list)
    single_keys: array[int] = field(default_factory=lambda: array("q"))  # of packets that came by themselves
    single_times: array[float] = field(default_factory=lambda: array("d"))
    reported_lost: int | None = None  # by whoever receives it, in its last report (RFC 3550 clause 6.4.2)

    @property
    def packets(self) -> int:
        return sum(map(len, self.keys)) + len(self.single_keys)

    def joined(self) -> tuple[Keys, Floats]:
        """Each packet once, in the order in which they came."""
        keys = np.concatenate([*self.keys, np.array(self.single_keys, np.int64)])
        times = np.concatenate([*self.times, np.array(self.single_times, np.float64)])
        _, first = np.unique(keys, return_index=True)
        first.sort()
        return keys[first], times[first]


class Sequences:
    def __init__(self) -> None:
        self.logs: dict[tuple[int, Way], Log] = {}
        self.segments: dict[tuple[int, int, int, int], tuple[float, Way]] = {}  # TCP: ports, number and size
        self.left_out = 0
        self._count = 0

    def take(self, batch: Batch, layers: Layers) -> None:
        data = batch.data
        some = np.flatnonzero((layers.proto == UDP) & (layers.payload >= 0) & (layers.there >= 12))
        start = layers.payload[some]
        rtp = data[start] >> 6 == 2
        control = rtp & (data[start + 1] >= 200) & (data[start + 1] <= 204)
        for row in some[control].tolist():
            begin = int(layers.payload[row])
            self._report(data[begin : begin + int(layers.there[row])].tobytes())
        some = some[rtp & ~control]
        if len(some) and self._count < MOST_PACKETS:
            self._rtp(batch, layers, some)
        self._tcp(batch, layers)

    def _rtp(self, batch: Batch, layers: Layers, some: Ints) -> None:
        data, start = batch.data, layers.payload[some]
        ssrc, key = u32(data, start + 8), u16(data, start + 2) << 32 | u32(data, start + 4)
        self._count += len(some)
        columns = [c[some] for c in (layers.source, layers.source_port, layers.target, layers.target_port)]
        for group in groups([ssrc, *columns]):
            way = Way(*(int(c[group[0]]) for c in columns))
            log = self._log(int(ssrc[group[0]]), way)
            if log is None:
                continue
            log.keys.append(key[group])
            log.times.append(batch.time_s[some[group]])

    def take_interleaved(self, way: Way, packet: Packet) -> None:
        data = packet.data
        if len(data) < 12 or data[0] >> 6 != 2:
            return
        if 200 <= data[1] <= 204:
            self._report(data)
            return
        log = self._log(int.from_bytes(data[8:12], "big"), way) if self._count < MOST_PACKETS else None
        if log is None:
            return
        self._count += 1
        key = int.from_bytes(data[2:4], "big") << 32 | int.from_bytes(data[4:8], "big")
        log.single_keys.append(key)
        log.single_times.append(packet.time_s)

    def _log(self, ssrc: int, way: Way) -> Log | None:
        """None where there is no room: those of a few packets give way first."""
        found = self.logs.get((ssrc, way))
        if found is not None:
            return found
        if len(self.logs) >= MOST_LOGS:
            for key in [k for k, log in self.logs.items() if log.packets < _LEAST]:
                del self.logs[key]
        if len(self.logs) >= MOST_LOGS:
            self.left_out += 1
            return None
        self.logs[ssrc, way] = Log(way)
        return self.logs[ssrc, way]

    def _report(self, data: bytes) -> None:
        try:
            reports = rtcp.parse(data)
        except RemoteProtocolError:
            return
        for report in reports:
            if isinstance(report, rtcp.ReceiverReport):
                for (ssrc, _), log in self.logs.items():
                    if ssrc == report.source_ssrc:
                        log.reported_lost = report.lost

    def _tcp(self, batch: Batch, layers: Layers) -> None:
        some = np.flatnonzero((layers.proto == TCP) & (layers.payload >= 0) & (layers.size > 0))
        if not len(some):
            return
        number = u32(batch.data, layers.transport[some] + 4)
        for row, sequence in zip(some.tolist(), number.tolist(), strict=True):
            if len(self.segments) >= MOST_SEGMENTS:
                self.left_out += 1
                return
            way = Way(*(int(c[row]) for c in (layers.source, layers.source_port, layers.target, layers.target_port)))
            key = way.source_port, way.target_port, sequence, int(layers.size[row])
            self.segments.setdefault(key, (float(batch.time_s[row]), way))
