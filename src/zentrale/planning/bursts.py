"""Key-frame bursts: what many cameras send at once when their key frames fall together.

A key frame is many times as large as a frame between, and a camera sends each frame as fast as its port allows. After
a power cut all cameras start together, and so do their key frames, for hours: the link's load over a short window is
then far from its mean, and the port must hold back what comes faster than it can send.

The fluid model: frame j of a stream is there at j / fps and leaves the camera at its port's rate; arrivals are
piecewise linear, so backlog and window loads are exact at their corners (Lindley's recursion; Le Boudec and Thiran,
Network Calculus, 2001, section 1.1). Earlier links only smooth a burst, so the figures are an upper bound there.
"""

from __future__ import annotations

import math
from collections import Counter
from collections.abc import Iterable
from dataclasses import dataclass
from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

WINDOW_S = 0.1
QUANTILE = 0.999
_STEP_S = 0.0005  # spacing of the windows looked at
_PHASES = 4096
_LATTICE = 8192
_LONGEST_S = 30.0  # a common period beyond this is cut: at its start everything coincides, the worst instant

Curve = tuple[NDArray[np.float64], NDArray[np.float64]]


@dataclass(frozen=True)
class Source:
    """One stream as it leaves its port. `bitrate_bps` includes overhead; `keyframe_ratio` is the size of a key frame
    in frames between; `frames_per_key` the length of a group of pictures.
    """

    bitrate_bps: float
    fps: float
    frames_per_key: int
    keyframe_ratio: float
    port_bps: float

    @property
    def period_s(self) -> float:
        return self.frames_per_key / self.fps


@dataclass(frozen=True)
class Burst:
    """What a link must carry.

    mean_bps:        mean load
    together_bps:    99.9th percentile of the load over 100 ms windows when all key frames begin together
    spread_bps:      the same when each camera began at a time of its own
    buffer_bytes:    the most that waits at the port when all begin together; None where the mean is beyond line rate
    waiting_bytes:   the 99.9th percentile over the time of what waits there then; None likewise
    """

    mean_bps: float
    together_bps: float
    spread_bps: float
    buffer_bytes: float | None
    waiting_bytes: float | None


def plan_burst(sources: Iterable[Source], rate_bps: float) -> Burst:
    """The burst of `sources` on a link of `rate_bps`."""
    return _burst(frozenset((s, n) for s, n in Counter(sources).items() if s.bitrate_bps > 0), rate_bps)


@lru_cache(maxsize=4096)  # on most sites many links carry so many cameras of the same kinds
def _burst(counted: frozenset[tuple[Source, int]], rate_bps: float) -> Burst:
    classes = dict(sorted(counted, key=repr))
    mean = sum(s.bitrate_bps * n for s, n in classes.items())
    if not classes:
        return Burst(0.0, 0.0, 0.0, 0.0, 0.0)
    most, usual = backlog_bytes(classes, rate_bps)
    return Burst(mean, together_quantile_bps(classes), spread_quantile_bps(classes), most, usual)


def arrivals(source: Source, until_s: float) -> Curve:
    """Corners of the bits that have left the port by a time: times [s] and bits, both rising, from 0 to `until_s`."""
    frames = max(1, math.ceil(until_s * source.fps - 1e-9))
    group_bits = source.bitrate_bps * source.period_s
    between = group_bits / (source.frames_per_key - 1 + source.keyframe_ratio)
    index = np.arange(frames)
    bits = np.where(index % source.frames_per_key == 0, between * source.keyframe_ratio, between)
    ready = index / source.fps
    # A frame waits in the camera until the one before has left: ends by Lindley's recursion, in closed form.
    sent = np.cumsum(bits) / source.port_bps
    start_of = sent - bits / source.port_bps
    ends = sent + np.maximum.accumulate(ready - start_of)
    begins = ends - bits / source.port_bps
    total = np.cumsum(bits)
    times = np.column_stack([begins, ends]).ravel()
    values = np.column_stack([total - bits, total]).ravel()
    return np.append(times, max(until_s, times[-1])), np.append(values, values[-1])


def _common_period_s(classes: Iterable[Source]) -> float:
    """After which the pattern of all sources repeats, at most _LONGEST_S."""
    milliseconds = math.lcm(*(max(1, round(s.period_s * 1000)) for s in classes))
    return min(milliseconds / 1000, _LONGEST_S)


def _aggregate(classes: dict[Source, int], until_s: float) -> Curve:
    curves = [(arrivals(source, until_s), number) for source, number in classes.items()]
    times = np.unique(np.concatenate([curve[0] for curve, _ in curves]))
    bits = sum((number * np.interp(times, *curve) for curve, number in curves), np.zeros_like(times))
    return times, bits


def together_quantile_bps(classes: dict[Source, int]) -> float:
    """The 99.9th percentile over all windows of one common period, the second one, when everything is under way."""
    period = _common_period_s(classes)
    times, bits = _aggregate(classes, 2 * period + WINDOW_S)
    starts = np.arange(period, 2 * period, min(_STEP_S, period / 2000))
    loads = np.interp(starts + WINDOW_S, times, bits) - np.interp(starts, times, bits)
    return float(np.quantile(loads, QUANTILE)) / WINDOW_S


def spread_quantile_bps(classes: dict[Source, int]) -> float:
    """The same for independent starts: each stream's window load at a random phase, added up by convolution."""
    worst = sum(n * _phase_loads(s).max() for s, n in classes.items())
    quantum = worst / (_LATTICE - 2 - len(classes))
    spectrum = np.ones(_LATTICE // 2 + 1, dtype=np.complex128)
    for source, number in classes.items():
        spectrum *= np.fft.rfft(_on_lattice(_phase_loads(source) / quantum)) ** number
    mass = np.fft.irfft(spectrum, _LATTICE)
    return float(np.searchsorted(np.cumsum(mass), QUANTILE) * quantum) / WINDOW_S


def _phase_loads(source: Source) -> NDArray[np.float64]:
    period = source.period_s
    times, bits = arrivals(source, 2 * period + WINDOW_S)
    starts = period + (np.arange(_PHASES) + 0.5) * period / _PHASES
    loads = np.interp(starts + WINDOW_S, times, bits) - np.interp(starts, times, bits)
    return np.asarray(np.maximum(loads, 0.0))


def _on_lattice(values: NDArray[np.float64]) -> NDArray[np.float64]:
    """Probability mass of equally likely `values`, each split between its two neighbours so that the mean stays."""
    low = np.floor(values).astype(np.intp)
    share = values - low
    mass = np.bincount(low, 1 - share, _LATTICE) + np.bincount(low + 1, share, _LATTICE)
    return np.asarray(mass / len(values))


def backlog_bytes(classes: dict[Source, int], rate_bps: float) -> tuple[float | None, float | None]:
    """What waits at a port of `rate_bps` when all begin together: the most, and the 99.9th percentile over one common
    period, the second one. None and None where more comes than can ever leave.
    """
    if sum(s.bitrate_bps * n for s, n in classes.items()) > rate_bps:
        return None, None
    period = _common_period_s(classes)
    corners, bits = _aggregate(classes, 2 * period)
    at = np.arange(period, 2 * period, min(_STEP_S, period / 2000))
    times = np.union1d(corners, at)  # it may run empty between two corners
    surplus = np.interp(times, corners, bits) - rate_bps * times
    waiting = surplus - np.minimum.accumulate(np.minimum(surplus, 0.0))
    usual = np.quantile(waiting[np.searchsorted(times, at)], QUANTILE)
    return float(waiting.max()) / 8, float(usual) / 8
