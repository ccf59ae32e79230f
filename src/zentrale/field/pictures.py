"""Decoding key frames to pictures, with the media codec library PyAV."""

from __future__ import annotations

import io

import av
import numpy as np
import numpy.typing as npt
from PIL import Image

from zentrale.protocols.streams.key_pictures import KeyPicture

_DECODERS = {"H264": "h264", "H265": "hevc", "JPEG": "mjpeg"}
MAX_PIXELS = 16384 * 16384 // 4

av.logging.set_level(av.logging.PANIC)  # damaged pictures are our finding, not lines on stderr


def decode(key: KeyPicture) -> av.VideoFrame | None:
    """The picture, or None where it cannot be decoded."""
    name = _DECODERS.get(key.codec)
    if name is None:
        return None
    decoder = av.CodecContext.create(name, "r")
    assert isinstance(decoder, av.VideoCodecContext)
    decoder.thread_count = 1
    try:
        packets = [av.Packet(key.data)] if key.pictures == 1 else [*decoder.parse(key.data), *decoder.parse(None)]
        frames = [frame for packet in [*packets, None] for frame in decoder.decode(packet)][-1:]
    except (av.FFmpegError, ValueError):
        return None
    if not frames or frames[0].width * frames[0].height > MAX_PIXELS:
        return None
    return frames[0]


def luma(picture: av.VideoFrame) -> npt.NDArray[np.uint8]:
    """Rows by columns, black 0 to white 255."""
    return np.asarray(picture.to_ndarray(format="gray"), np.uint8)


def small(picture: Image.Image, size: tuple[int, int]) -> npt.NDArray[np.float64]:
    """Rows by columns of the mean brightness, at `size` (columns, rows)."""
    return np.asarray(picture.convert("L").resize(size, Image.Resampling.BOX), dtype=np.float64)


def from_jpeg(data: bytes) -> Image.Image | None:
    """None where it is none."""
    try:
        image = Image.open(io.BytesIO(data))
        image.load()
    except (OSError, ValueError):
        return None
    return image


def to_jpeg(picture: av.VideoFrame) -> bytes:
    # Four bytes a point, as the picture library has them: nothing is copied.
    plane = picture.reformat(format="rgb0").planes[0]
    points = np.frombuffer(memoryview(plane), np.uint8)
    image = Image.frombuffer("RGBX", (picture.width, picture.height), points, "raw", "RGBX", plane.line_size, 1)
    data = io.BytesIO()
    image.save(data, "JPEG", quality=88)
    return data.getvalue()
