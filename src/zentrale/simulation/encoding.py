"""The pictures of a stand-in camera, encoded once and kept in the user's cache as H.264 byte streams.

A stream is a loop of whole groups of pictures without B frames, as live encoders send.
"""

from __future__ import annotations

import functools
import hashlib
import os
from collections.abc import Iterable, Iterator, Sequence
from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass
from fractions import Fraction
from multiprocessing import get_context
from pathlib import Path

import av
from platformdirs import user_cache_path

from zentrale.protocols import h264
from zentrale.protocols.video import split_annex_b
from zentrale.simulation import scene
from zentrale.site.folder import write_atomically

SCENE_VERSION = 2  # raise it when the drawing or the encoding changes
LOOP_S = 4.0
MAX_PAYLOAD_BYTES = 1400  # leaves room for RTP, UDP and IP headers in an Ethernet frame of 1500 bytes
CACHE_VARIABLE = "ZENTRALE_CACHE"


@dataclass(frozen=True)
class StreamRecipe:
    """What is to be encoded. `govlength` is in frames."""

    name: str
    stream: str
    width_px: int
    height_px: int
    fps: int
    bitrate_kbps: int
    govlength: int

    @property
    def file(self) -> Path:
        digest = hashlib.sha256(f"{SCENE_VERSION}|{self}".encode()).hexdigest()[:16]
        folder = os.environ.get(CACHE_VARIABLE)
        base = Path(folder) if folder else user_cache_path("zentrale")
        return base / "streams" / f"{self.name}-{self.stream}-{digest}.h264"


@dataclass(frozen=True)
class EncodedStream:
    """A loop of access units, each as its RTP payloads with their marker bits."""

    recipe: StreamRecipe
    payloads: tuple[tuple[tuple[bytes, bool], ...], ...]
    sps: bytes
    pps: bytes


def encode(recipe: StreamRecipe) -> bytes:
    """The byte stream (H.264 annex B) of one loop."""
    groups = max(1, round(LOOP_S * recipe.fps / recipe.govlength))
    codec = av.CodecContext.create("libx264", "w")
    assert isinstance(codec, av.VideoCodecContext)
    codec.width, codec.height, codec.pix_fmt = recipe.width_px, recipe.height_px, "yuv420p"
    codec.time_base = Fraction(1, recipe.fps)
    codec.framerate = Fraction(recipe.fps)
    codec.bit_rate = recipe.bitrate_kbps * 1000
    codec.thread_count = 1
    rate = f"vbv-maxrate={recipe.bitrate_kbps}:vbv-bufsize={recipe.bitrate_kbps}:nal-hrd=cbr:force-cfr=1"
    if recipe.name.startswith("frozen!"):
        rate = "force-cfr=1"  # what repeats needs no bits, and nothing fills them up
    gop = f"keyint={recipe.govlength}:min-keyint={recipe.govlength}:scenecut=0:bframes=0:rc-lookahead=0"
    codec.options = {
        "preset": "ultrafast",
        "x264-params": f"{rate}:{gop}:aud=1:repeat-headers=1:slices=1:cabac=1:8x8dct=1",
    }
    pictures = scene.frames(
        recipe.name, recipe.stream, recipe.width_px, recipe.height_px, recipe.fps, groups * recipe.govlength
    )
    packets = [bytes(p) for frame in pictures for p in codec.encode(frame)]
    return b"".join([*packets, *(bytes(p) for p in codec.encode(None))])


def _encode_to_file(recipe: StreamRecipe) -> None:
    write_atomically(recipe.file, encode(recipe))


def missing(recipes: Iterable[StreamRecipe]) -> list[StreamRecipe]:
    """Those that the cache does not hold yet."""
    return [r for r in dict.fromkeys(recipes) if not r.file.exists()]


def prepare(recipes: Sequence[StreamRecipe], workers: int) -> Iterator[int]:
    """Encode them, on `workers` processes; how many are done so far, after each."""
    if recipes:
        with ProcessPoolExecutor(min(workers, len(recipes)), mp_context=get_context("spawn")) as pool:
            for number, _ in enumerate(pool.map(_encode_to_file, recipes), start=1):
                yield number


@functools.lru_cache(maxsize=256)
def load(recipe: StreamRecipe) -> EncodedStream:
    """The stream from the cache; encodes it where it is missing, which takes seconds."""
    if not recipe.file.exists():
        _encode_to_file(recipe)
    units: list[list[bytes]] = []
    sps = pps = b""
    for nal in split_annex_b(recipe.file.read_bytes()):
        kind = nal[0] & 0x1F
        if kind == h264.NAL_AUD:
            units.append([])
            continue
        sps = nal if kind == h264.NAL_SPS else sps
        pps = nal if kind == h264.NAL_PPS else pps
        units[-1].append(nal)
    payloads = tuple(tuple(h264.packetize(unit, MAX_PAYLOAD_BYTES)) for unit in units)
    return EncodedStream(recipe, payloads, sps, pps)
