"""What a machine bears that decodes many streams, and how much of it some streams take.

A decoder, hardware or software, is one for all its codecs: it bears so many pixels a second of one codec when it decodes nothing
else, so each stream takes a share of it, and the shares add up. A stream is decoded whole, by one of the two.
"""

from __future__ import annotations

import math
from collections.abc import Iterable
from dataclasses import dataclass

from zentrale.planning.walls.panels import pixel_rate
from zentrale.site.model import StreamPlan, ViewerType

ENGINES = ("hardware", "software")
_BYTES_PER_PIXEL = 1.5  # 8 bit, 4:2:0
_BESIDE = 2  # the picture that is being decoded, and the one that is shown
# ITU-T H.264 table A-1: most macroblocks a second, in a picture, and in the decoded picture buffer, level by level from 1 to 6.2.
_LEVELS = (
    (1485, 99, 396), (3000, 396, 900), (6000, 396, 2376), (11_880, 396, 2376), (19_800, 792, 4752), (20_250, 1620, 8100),
    (40_500, 1620, 8100), (108_000, 3600, 18_000), (216_000, 5120, 20_480), (245_760, 8192, 32_768), (522_240, 8704, 34_816),
    (589_824, 22_080, 110_400), (983_040, 36_864, 184_320), (2_073_600, 36_864, 184_320), (4_177_920, 139_264, 696_320),
    (8_355_840, 139_264, 696_320), (16_711_680, 139_264, 696_320),
)  # fmt: skip
_H265_PICTURES = 6  # ITU-T H.265 clause A.4.2, maxDpbPicBuf


def decoded_bytes(plan: StreamPlan) -> float:
    """Memory for the decoded pictures of a stream: those it may refer to (ITU-T H.264 clause A.3.1 h, at the lowest level that
    carries it; H.265 clause A.4.2), and two beside them.
    """
    width, height = plan.resolution
    kept = 0 if plan.codec == "JPEG" else _H265_PICTURES
    if plan.codec == "H264":
        blocks = math.ceil(width / 16) * math.ceil(height / 16)
        buffer = next((b for rate, most, b in _LEVELS if blocks <= most and blocks * plan.fps <= rate), _LEVELS[-1][2])
        kept = min(16, max(1, buffer // blocks))
    return (kept + _BESIDE) * width * height * _BYTES_PER_PIXEL


@dataclass(frozen=True)
class Break:
    """A limit that is not kept: what it is, how much there is and how much it bears, in words, and the share, above 1."""

    limit: str
    value: str
    most: str
    share: float


@dataclass(frozen=True)
class Load:
    """What runs at once. `when` says in which moment; `shares`: of each limit that the machine has, by its name; `breaks`: those
    that are not kept, worst first.
    """

    streams: int
    pixels_per_s: float
    frames_per_s: float
    bitrate_bps: float
    memory_bytes: float
    when: str
    shares: dict[str, float]
    breaks: tuple[Break, ...]

    @property
    def share(self) -> float:
        """Of the limit that is nearest; 0 where none is known."""
        return max(self.shares.values(), default=0.0)


Decoded = tuple[StreamPlan, str]  # a stream, and the decoder that has it; empty: none knows its codec


class Decoder:
    """`kind` None: nobody said what the machine is, so that it bears whatever there is."""

    def __init__(self, kind: ViewerType | None) -> None:
        self.kind = kind
        self._limits = {e: {limit.codec: limit for limit in getattr(kind, e)} for e in ENGINES} if kind else {}
        self.engines = tuple(e for e in ENGINES if self._limits.get(e))
        self._known: dict[tuple[int, str], float] = {}  # by stream, which the plan holds, and decoder

    def share(self, plan: StreamPlan, engine: str) -> float:
        """Of that decoder, by pixels or by pictures a second, whichever is more; infinite where it does not know the codec."""
        key = id(plan), engine
        if key not in self._known:
            self._known[key] = self._share(plan, engine)
        return self._known[key]

    def _share(self, plan: StreamPlan, engine: str) -> float:
        limit = self._limits.get(engine, {}).get(plan.codec)
        if limit is None:
            return math.inf if self.engines else 0.0
        share: float = max(pixel_rate(plan) / limit.pixels_per_s, plan.fps / (limit.frames_per_s or math.inf))
        return share

    def memory(self, plan: StreamPlan) -> float:
        """As `decoded_bytes`."""
        key = id(plan), "memory"
        if key not in self._known:
            self._known[key] = decoded_bytes(plan)
        return self._known[key]

    def place(self, plan: StreamPlan, used: dict[str, float]) -> str:
        """The decoder for one more stream: hardware where there is room, else software; where there is none, the first that knows
        its codec. Its share is added to `used`.
        """
        knowing = [e for e in self.engines if self.share(plan, e) < math.inf]
        room = [e for e in knowing if used.get(e, 0.0) + self.share(plan, e) <= 1 + 1e-9]
        engine = next(iter([*room, *knowing]), "")
        if engine:
            used[engine] = used.get(engine, 0.0) + self.share(plan, engine)
        return engine

    def placed(self, plans: Iterable[StreamPlan]) -> list[Decoded]:
        """Each with its decoder, in this order."""
        used: dict[str, float] = {}
        return [(plan, self.place(plan, used)) for plan in plans]

    def load(self, running: Iterable[Decoded], when: str) -> Load:
        some = list(running)
        pixels, frames = sum(pixel_rate(p) for p, _ in some), sum(p.fps for p, _ in some)
        bits, memory = float(sum(p.most_bps for p, _ in some)), sum(self.memory(p) for p, _ in some)
        found: list[tuple[str, float, str, str]] = []
        kind = self.kind
        if kind is not None:
            if kind.streams:
                found.append(("streams", len(some) / kind.streams, f"{len(some)} streams", f"{kind.streams} streams"))
            if kind.mbps:
                values = f"{bits / 1e6:.1f} Mbit/s", f"{kind.mbps:g} Mbit/s"
                found.append(("bit rate", bits / 1e6 / kind.mbps, *values))
            if kind.memory_mb:
                values = f"{memory / 1e6:.0f} MB of decoded pictures", f"{kind.memory_mb:g} MB"
                found.append(("memory", memory / 1e6 / kind.memory_mb, *values))
            found += [self._engine(e, [p for p, own in some if own == e]) for e in self.engines]
            unknown = sorted({p.codec for p, own in some if not own}) if self.engines else []
            if unknown:
                found.append(("codec", math.inf, " and ".join(unknown), "a codec that the machine decodes"))
        over = sorted((f for f in found if f[1] > 1 + 1e-9), key=lambda f: -f[1])
        breaks = tuple(Break(name, value, most, share) for name, share, value, most in over)
        shares = {name: share for name, share, _, _ in found}
        return Load(len(some), pixels, frames, bits, memory, when, shares, breaks)

    def _engine(self, engine: str, plans: list[StreamPlan]) -> tuple[str, float, str, str]:
        name, used = f"{engine} decoder", sum(self.share(p, engine) for p in plans)
        codecs = {p.codec for p in plans}
        if len(codecs) == 1:
            limit = self._limits[engine][next(iter(codecs))]
            pixels, frames = sum(map(pixel_rate, plans)), sum(p.fps for p in plans)
            if limit.frames_per_s and frames / limit.frames_per_s > pixels / limit.pixels_per_s:
                return name, used, f"{frames:.0f} frames/s of {limit.codec}", f"{limit.frames_per_s:g} frames/s"
            return name, used, f"{megapixels(pixels)} of {limit.codec}", megapixels(limit.pixels_per_s)
        return name, used, f"{used:.0%} of it, for {' and '.join(sorted(codecs)) or 'nothing'}", "all of it"


def megapixels(pixels_per_s: float) -> str:
    value = pixels_per_s / 1e6
    return f"{value:.0f} Mpixel/s" if value >= 100 else f"{value:.1f} Mpixel/s"
