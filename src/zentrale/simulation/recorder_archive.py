"""What a channel of a stand-in recorder keeps, by the recorder's own clock: hours that were seeded, and what its ring holds.
Seeded pictures are drawn when they are asked for, each with its time in it.
"""

from __future__ import annotations

import functools
from collections.abc import Iterator
from dataclasses import dataclass
from datetime import UTC, datetime
from fractions import Fraction
from typing import NamedTuple

import av
import numpy as np
from PIL import Image, ImageDraw, ImageFont

from zentrale.errors import RemoteProtocolError
from zentrale.protocols import h264
from zentrale.protocols.rtp import RtpPacket
from zentrale.protocols.streams.packet_log import may_begin
from zentrale.protocols.video import split_annex_b
from zentrale.simulation import scene
from zentrale.simulation.recorder_ring import Ring
from zentrale.simulation.scenario import SeedArchive

CLOCK_HZ = 90_000
_FPS = 5
_SIZE = (320, 180)
_PAYLOAD_BYTES = 1400
SOUND_HZ = 8000
_SOUND_S = 0.04  # in a packet
_TONE_HZ, _TONE_S = 440.0, 0.1  # at the beginning of each second
_APART_S = 3.0  # of a ring: longer without a packet is a hole
_H = 3600.0

Span = tuple[float, float]


class Picture(NamedTuple):
    """One picture as packets: payloads with their marker bits; `at_s` by the recorder's clock [s since 1970]."""

    at_s: float
    payloads: list[tuple[bytes, bool]]
    key: bool
    seeded: bool = False


@dataclass(frozen=True)
class Archive:
    """Of one channel. offset_s: how far the recorder's clock is ahead; began_s: when the recorder was switched on, by ours."""

    name: str
    number: int
    ring: Ring
    seed: SeedArchive | None
    began_s: float
    offset_s: float

    def spans(self) -> list[Span]:
        """When it holds something, oldest first."""
        own = [(a + self.offset_s, b + self.offset_s) for a, b in self.ring.spans(_APART_S)]
        return [*self._seeded, *own]

    @functools.cached_property
    def _seeded(self) -> list[Span]:
        seed = self.seed
        if seed is None:
            return []
        until = self.began_s + self.offset_s
        spans = [(until - seed.days * 24 * _H, until)]
        if seed.on_min and seed.off_min:
            step, on = 60.0 * (seed.on_min + seed.off_min), 60.0 * seed.on_min
            first = spans[0][0]
            spans = [
                (at, min(at + on, until)) for n in range(int((until - first) // step)) for at in (first + n * step,)
            ]
        for gap in seed.gaps:
            if gap.channels and self.number not in gap.channels:
                continue
            start = until - gap.hours_ago * _H
            spans = [piece for span in spans for piece in _without(span, start, start + gap.minutes * 60)]
        return spans

    def pictures(self, start_s: float, end_s: float | None) -> Iterator[Picture]:
        """From the first key picture that is not before `start_s`."""
        for begin, end in self._seeded:
            stop = end if end_s is None else min(end, end_s)
            if stop > start_s:
                yield from self._drawn(max(begin, start_s), stop)
        yield from self._from_ring(start_s - self.offset_s, None if end_s is None else end_s - self.offset_s)

    def _drawn(self, start_s: float, stop_s: float) -> Iterator[Picture]:
        second = int(-(-start_s // 1))
        while second < stop_s:
            for number, units in enumerate(drawn_second(self.name, second)):
                at_s = second + number / _FPS
                if at_s < stop_s:
                    yield Picture(at_s, list(h264.packetize(units, _PAYLOAD_BYTES)), key=number == 0, seeded=True)
            second += 1

    def _from_ring(self, start_s: float, end_s: float | None) -> Iterator[Picture]:
        payloads: list[tuple[bytes, bool]] = []
        begun, at_s, timestamp, key = False, 0.0, -1, False
        for when, data in self.ring.stored(start_s):
            try:
                packet = RtpPacket.parse(data)
            except RemoteProtocolError:  # the oldest gave way while it was read
                continue
            if packet.timestamp != timestamp:
                if payloads and begun:
                    yield Picture(at_s + self.offset_s, payloads, key)
                payloads, at_s, timestamp, key = [], when, packet.timestamp, False
                if end_s is not None and when > end_s:
                    return
            key |= may_begin("H264", packet.payload)
            begun |= key
            payloads.append((packet.payload, packet.marker))
        if payloads and begun:
            yield Picture(at_s + self.offset_s, payloads, key)


@functools.lru_cache(maxsize=4)
def sound_of_a_second(codec: str) -> tuple[bytes, ...]:
    """Its packets, in G.711."""
    at = np.arange(SOUND_HZ) / SOUND_HZ
    wave = (np.where(at < _TONE_S, np.sin(2 * np.pi * _TONE_HZ * at), 0.0) * 8000).astype(np.int16)
    encoder = av.CodecContext.create("pcm_alaw" if codec == "PCMA" else "pcm_mulaw", "w")
    assert isinstance(encoder, av.AudioCodecContext)
    encoder.sample_rate, encoder.layout, encoder.format = SOUND_HZ, "mono", "s16"
    frame = av.AudioFrame.from_ndarray(wave.reshape(1, -1), format="s16", layout="mono")
    frame.sample_rate = SOUND_HZ
    data = b"".join(bytes(p) for p in [*encoder.encode(frame), *encoder.encode(None)])
    each = int(_SOUND_S * SOUND_HZ)
    return tuple(data[n : n + each] for n in range(0, len(data), each))


def sound_beside(picture: Picture, codec: str) -> list[tuple[float, bytes]]:
    """The packets from a seeded picture up to the next, each with its time."""
    second = sound_of_a_second(codec)
    first = round(picture.at_s % 1 * _FPS) * len(second) // _FPS
    some = second[first : first + len(second) // _FPS]
    return [(picture.at_s + n * _SOUND_S, payload) for n, payload in enumerate(some)]


def _without(span: Span, start: float, end: float) -> list[Span]:
    pieces = [(span[0], min(span[1], start)), (max(span[0], end), span[1])]
    return [(a, b) for a, b in pieces if b > a]


@functools.lru_cache(maxsize=64)
def _background(name: str) -> Image.Image:
    return scene.still(name, *_SIZE)


@functools.lru_cache(maxsize=512)
def drawn_second(name: str, second: int) -> tuple[tuple[bytes, ...], ...]:
    """The NAL units of each picture of one second [s since 1970]: the scene, with the time in UTC in large figures."""
    picture = _background(name).copy()
    draw = ImageDraw.Draw(picture)
    font = ImageFont.load_default(size=26)
    draw.rectangle([0, 0, _SIZE[0], 34], fill=(16, 20, 24))
    draw.text((6, 2), f"{datetime.fromtimestamp(second, UTC):%Y-%m-%d %H:%M:%S}", font=font, fill=(240, 240, 240))
    codec = av.CodecContext.create("libx264", "w")
    assert isinstance(codec, av.VideoCodecContext)
    codec.width, codec.height, codec.pix_fmt = *_SIZE, "yuv420p"
    codec.time_base, codec.framerate, codec.thread_count = Fraction(1, _FPS), Fraction(_FPS), 1
    gop = f"keyint={_FPS}:min-keyint={_FPS}:scenecut=0:bframes=0:rc-lookahead=0"
    codec.options = {"preset": "ultrafast", "crf": "28", "x264-params": f"{gop}:aud=1:repeat-headers=1:slices=1"}
    frame = av.VideoFrame.from_ndarray(np.asarray(picture), format="rgb24").reformat(format="yuv420p")
    data = bytearray()
    for index in range(_FPS):
        frame.pts = index
        data += b"".join(bytes(p) for p in codec.encode(frame))
    data += b"".join(bytes(p) for p in codec.encode(None))
    units: list[list[bytes]] = []
    for nal in split_annex_b(bytes(data)):
        if nal[0] & 0x1F == h264.NAL_AUD:
            units.append([])
        else:
            units[-1].append(nal)
    return tuple(tuple(u) for u in units)
