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
WORKING_WIDTH = 1280

av.logging.set_level(av.logging.PANIC)  # damaged pictures are our finding, not lines on stderr


def codec_name(codec: str) -> str:
    """As the codec library calls it. Raises KeyError."""
    return _DECODERS[codec]


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
    """Rows by columns, black 0 to white 255; wide pictures are brought down to about a thousand columns."""
    factor = max(1, round(picture.width / WORKING_WIDTH))
    size = (picture.width // factor, picture.height // factor)
    return np.asarray(picture.reformat(*size, format="gray", interpolation="AREA").to_ndarray(), np.uint8)


def glance(picture: av.VideoFrame) -> npt.NDArray[np.float64]:
    """The mean level of 32 by 18 parts of it."""
    return picture.reformat(32, 18, format="gray", interpolation="AREA").to_ndarray().astype(np.float64)


def colour(picture: av.VideoFrame) -> tuple[int, int, int]:
    """Mean red, green and blue."""
    small = picture.reformat(16, 16, format="rgb24", interpolation="AREA").to_ndarray()
    red, green, blue = (int(v) for v in small.reshape(-1, 3).mean(axis=0).round())
    return red, green, blue


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
