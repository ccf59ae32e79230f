"""Decoding key frames to pictures, with the media codec library PyAV."""

from __future__ import annotations

import io

import av
from PIL import Image

from zentrale.protocols.stream_meter import KeyPicture

_DECODERS = {"H264": "h264", "H265": "hevc", "JPEG": "mjpeg"}
MAX_PIXELS = 16384 * 16384 // 4

av.logging.set_level(av.logging.PANIC)  # damaged pictures are our finding, not lines on stderr


def decode(key: KeyPicture) -> Image.Image | None:
    """The picture, or None where it cannot be decoded."""
    name = _DECODERS.get(key.codec)
    if name is None:
        return None
    decoder = av.CodecContext.create(name, "r")
    assert isinstance(decoder, av.VideoCodecContext)
    decoder.thread_count = 1
    try:
        frames = [*decoder.decode(av.Packet(key.data)), *decoder.decode(None)]
    except (av.FFmpegError, ValueError):
        return None
    if not frames or frames[0].width * frames[0].height > MAX_PIXELS:
        return None
    return Image.fromarray(frames[0].to_ndarray(format="rgb24"))


def to_jpeg(picture: Image.Image) -> bytes:
    data = io.BytesIO()
    picture.convert("RGB").save(data, "JPEG", quality=88)
    return data.getvalue()
