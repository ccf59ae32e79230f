"""A film file as it grows: MP4 in fragments, one a group of pictures, so that it can be played however it ends. Nothing is
encoded anew (ISO/IEC 14496-12 clause 8.8; 14496-15).
"""

from __future__ import annotations

import hashlib
import io
import os
from collections.abc import Sequence
from fractions import Fraction
from pathlib import Path
from typing import BinaryIO

import av
from av.container import OutputContainer
from av.stream import Stream
from av.video.stream import VideoStream

from zentrale.errors import RemoteProtocolError, StorageError
from zentrale.protocols.video import START_CODE
from zentrale.site.folder import cannot_write

TICKS = 90_000
_FORMATS = {"H264": "h264", "H265": "hevc"}
_FRAGMENTS = {"movflags": "frag_keyframe+empty_moov+default_base_moof"}


class _Sink(io.RawIOBase):
    """Takes what the muxer writes; it is only ever added to, so that the digest is known at the end."""

    def __init__(self, file: BinaryIO) -> None:
        self._file = file
        self.digest = hashlib.sha256()
        self.size = 0

    def writable(self) -> bool:
        return True

    def write(self, data: object) -> int:
        some = memoryview(bytes(data))  # type: ignore[call-overload]
        written = 0
        while written < len(some):  # a disk that fills takes a part first
            written += self._file.write(some[written:])
        self.digest.update(some)
        self.size += len(some)
        return len(some)


class ClipFile:
    """Written as `path` with .part behind it, and named when it is closed. For nobody else to read."""

    def __init__(self, path: Path, codec: str, parameter_sets: Sequence[bytes], first: Sequence[bytes]) -> None:
        """`first`: the NAL units of the first key picture. Raises RemoteProtocolError where no film comes of these, and
        StorageError.
        """
        if codec not in _FORMATS:
            raise RemoteProtocolError(f"{codec or 'an unknown codec'}: a film of it is not written")
        self.path = path
        self.frames = 0
        self.last_s = 0.0  # of the last picture, from the file's beginning
        self._good = (
            0,
            0.0,
            0,
            hashlib.sha256(),
        )  # pictures, the last of them, bytes and digest, up to the last whole fragment
        self._at = 0
        self._part = path.with_name(path.name + ".part")
        try:
            path.parent.mkdir(parents=True, exist_ok=True)
            handle = os.open(self._part, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600)
        except OSError as error:
            raise cannot_write(self._part, error) from None
        self._file = os.fdopen(handle, "wb", buffering=0)
        self._sink = _Sink(self._file)
        try:
            data = b"".join(START_CODE + u for u in [*parameter_sets, *first])
            with av.open(io.BytesIO(data), format=_FORMATS[codec]) as template:
                self._container: OutputContainer = av.open(self._sink, "w", format="mp4", options=_FRAGMENTS)
                self._stream: VideoStream = self._container.add_stream_from_template(template.streams.video[0])
        except (av.FFmpegError, IndexError, ValueError) as error:
            self._file.close()
            self._part.unlink(missing_ok=True)
            raise RemoteProtocolError(f"no film comes of its first picture ({type(error).__name__})") from None
        self._stream.time_base = Fraction(1, TICKS)

    @property
    def sha256(self) -> str:
        return self._sink.digest.hexdigest()

    def _mux(self, packet: av.Packet[Stream]) -> None:
        """A fragment is written when the next one begins."""
        before = self._sink.size
        self._container.mux(packet)
        if self._sink.size != before:
            self._good = self.frames, self.last_s, self._sink.size, self._sink.digest.copy()

    @property
    def size_bytes(self) -> int:
        return self._sink.size

    def write(self, pictures: Sequence[tuple[float, bytes, bool]]) -> None:
        """One whole group: seconds from the file's beginning, the picture in annex B form, and whether it is a key picture, in
        the order in which they are decoded. Raises StorageError.
        """
        shown = [round(seconds * TICKS) for seconds, _, _ in pictures]
        decoded = sorted(shown)
        late = max((d - s for d, s in zip(decoded, shown, strict=True)), default=0)  # pictures that refer to later ones
        try:
            for (seconds, data, key), pts, dts in zip(pictures, shown, decoded, strict=True):
                packet = av.Packet(data)
                self._at = max(dts - late, self._at + 1) if self.frames else dts - late
                packet.pts, packet.dts, packet.time_base = max(pts, self._at), self._at, Fraction(1, TICKS)
                packet.stream, packet.is_keyframe = self._stream, key
                self._mux(packet)
                self.frames, self.last_s = self.frames + 1, max(seconds, self.last_s)
        except OSError as error:
            raise cannot_write(self._part, error) from None
        except (av.FFmpegError, ValueError) as error:
            raise StorageError(f"{self._part}: the film cannot be written: {error}", "try a shorter interval") from None

    def close(self, *, whole: bool = True) -> None:
        """whole: False where the disk would take no more: what is there is kept up to where it can be played. Raises StorageError
        where the last of it cannot be written; what is there is kept then, too.
        """
        failed: StorageError | None = None
        try:
            self._container.close()
        except (OSError, av.FFmpegError) as error:
            failed = cannot_write(self._part, OSError(getattr(error, "errno", 0) or 0, str(error)))
        if failed is not None or not whole:
            self.frames, self.last_s, size, self._sink.digest = self._good
            self._sink.size = size
            self._file.truncate(size)
        self._file.close()
        self._part.replace(self.path)
        if failed is not None and whole:
            raise failed
