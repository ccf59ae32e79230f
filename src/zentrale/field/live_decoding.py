"""Decoding streams while they play, each by the processor, to see how many this machine bears (PyAV)."""

from __future__ import annotations

import threading
import time
from collections import deque
from concurrent.futures import Future, ThreadPoolExecutor
from dataclasses import dataclass, field

import av

from zentrale.errors import RemoteProtocolError
from zentrale.field.pictures import codec_name
from zentrale.protocols.rtp import RtpPacket
from zentrale.protocols.sdp import Media
from zentrale.protocols.streams.key_pictures import DEPACKETIZERS
from zentrale.protocols.streams.packet_order import PacketOrder
from zentrale.protocols.video import START_CODE, AccessUnit, Depacketizer

# Of one stream; beyond, it is known that it comes behind, and pictures are dropped.
_MOST_WAITING, _MOST_WAITING_BYTES = 150, 32 * 1024 * 1024
_MOST_PIXELS = (
    8192 * 4352
)  # of a picture (ITU-T H.264 table A-1, level 6); a decoder makes room for many of them at once


@dataclass
class Decoded:
    """What came of it. cpu_s: of the processor's time; waiting: pictures that were not decoded at the end, or dropped before."""

    codec: str
    frames: int = 0
    pixels: int = 0
    cpu_s: float = 0.0
    waiting: int = 0
    damaged: int = 0


class LiveDecoder:
    """One stream's packets in, figures out. Pictures are put together where packets come, and decoded in `workers`."""

    def __init__(self, workers: ThreadPoolExecutor) -> None:
        self.result = Decoded("")
        self._workers = workers
        self._media: Media | None = None
        self._depacketizer: Depacketizer | None = None
        self._order = PacketOrder()
        self._units: deque[bytes] = deque()
        self._running: Future[None] | None = None
        self._lock = threading.Lock()
        self._decoder: av.VideoCodecContext | None = None
        self._key_seen = False
        self._waiting_bytes = 0

    def begin(self, media: Media) -> None:
        """A description came; nothing is decoded of a codec that is not known here."""
        self._media = media
        self.result.codec = media.codec
        kind = DEPACKETIZERS.get(media.codec)
        self._depacketizer = kind() if kind else None
        self._order, self._key_seen = PacketOrder(), False

    def packets(self, some: list[tuple[bytes, float]]) -> None:
        """As they came, with the arrival of each [s]."""
        if self._media is None or self._depacketizer is None:
            return
        for data, arrival_s in some:
            try:
                packet = RtpPacket.parse(data)
            except RemoteProtocolError:
                continue  # the meter counts it
            if packet.payload_type != self._media.payload_type:
                continue
            for ready in self._order.push(packet, arrival_s):
                taken = ready.payload, ready.timestamp, ready.marker, ready.sequence, ready.extension
                for unit in self._depacketizer.push(*taken):
                    self._take(unit)

    def _take(self, unit: AccessUnit) -> None:
        assert self._media is not None
        if not self._bearable(unit):
            self.result.damaged += 1
            self._key_seen = False
        elif unit.key and unit.complete:
            self._key_seen = True
        if not self._key_seen:
            return  # a decoder can begin at a key picture only
        if self._media.codec == "JPEG":
            data = b"".join(unit.units)
        else:
            own = b"".join(START_CODE + s for s in self._media.parameter_sets()) if unit.key else b""
            data = own + unit.annex_b()
        with self._lock:
            if len(self._units) >= _MOST_WAITING or self._waiting_bytes + len(data) > _MOST_WAITING_BYTES:
                self.result.waiting += 1
                return
            self._units.append(data)
            self._waiting_bytes += len(data)
            if self._running is None:
                self._running = self._workers.submit(self._decode)

    def _bearable(self, unit: AccessUnit) -> bool:
        """Whether its pictures are of a size that cameras have; what says otherwise is not given to a decoder."""
        assert self._depacketizer is not None and self._media is not None
        described = AccessUnit(0, self._media.parameter_sets())
        try:
            told = [self._depacketizer.picture_format(one) for one in (unit, *([described] if unit.key else []))]
        except RemoteProtocolError:
            return False
        return all(t is None or t.width_px * t.height_px <= _MOST_PIXELS for t in told)

    def _decode(self) -> None:
        """In a worker: what waits, one after the other."""
        if self._decoder is None:
            decoder = av.CodecContext.create(codec_name(self.result.codec), "r")
            assert isinstance(decoder, av.VideoCodecContext)
            decoder.thread_count = 1
            self._decoder = decoder
        while True:
            with self._lock:
                if not self._units:
                    self._running = None
                    return
                data = self._units.popleft()
                self._waiting_bytes -= len(data)
            begun = time.thread_time()
            try:
                for frame in self._decoder.decode(av.Packet(data)):
                    self.result.frames += 1
                    self.result.pixels += frame.width * frame.height
            except (av.FFmpegError, ValueError):
                self.result.damaged += 1
            self.result.cpu_s += time.thread_time() - begun

    def end(self) -> Decoded:
        """Nothing comes any more; what still waits came behind."""
        with self._lock:
            self.result.waiting += len(self._units)
            self._units.clear()
            running = self._running
        if running is not None:
            running.result()
        return self.result


@dataclass
class Workers:
    """One thread for each processor."""

    pool: ThreadPoolExecutor = field(init=False)
    count: int = 1

    def __enter__(self) -> Workers:
        self.pool = ThreadPoolExecutor(self.count, "decoding")
        return self

    def __exit__(self, *_: object) -> None:
        self.pool.shutdown(cancel_futures=True)
