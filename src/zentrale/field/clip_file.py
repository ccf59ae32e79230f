"""A film file as it grows: MP4 in fragments, one a group of pictures, so that it can be played however it ends. Nothing is
encoded anew (ISO/IEC 14496-12 clause 8.8; 14496-15), sound of G.711 is written as its linear samples (ISO/IEC 23003-5).
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
from av.audio.stream import AudioStream
from av.container import OutputContainer
from av.stream import Stream
from av.video.stream import VideoStream

from zentrale.errors import RemoteProtocolError, StorageError
from zentrale.protocols.streams.stored_sound import SoundFormat
from zentrale.protocols.video import START_CODE
from zentrale.site.folder import cannot_write

TICKS = 90_000
_FORMATS = {"H264": "h264", "H265": "hevc"}
_FRAGMENTS = {"movflags": "frag_keyframe+delay_moov+default_base_moof"}


class _Sink(io.RawIOBase):
    """Takes what the muxer writes; it is only ever added to, so that the digest is known at the end. failed: why the disk took
    no more, which the muxer does not tell apart from what it does not like itself
    """

    def __init__(self, file: BinaryIO) -> None:
        self._file = file
        self.digest = hashlib.sha256()
        self.failed: OSError | None = None

    def writable(self) -> bool:
        return True

    def write(self, data: object) -> int:
        some = memoryview(bytes(data))  # type: ignore[call-overload]
        written = 0
        while written < len(some):  # a disk that fills takes a part first
            try:
                written += self._file.write(some[written:])
            except OSError as error:
                self.failed = self.failed or error
                raise
        self.digest.update(some)
        return len(some)


class ClipFile:
    """Written as `path` with .part behind it, and named when it is closed. For nobody else to read.

    frames: pictures in it; last_s: of the last of them, from the file's beginning
    """

    def __init__(
        self, path: Path, codec: str, parameter_sets: Sequence[bytes], first: Sequence[bytes], sound: SoundFormat | None = None
    ) -> None:  # fmt: skip
        """`first`: the NAL units of the first key picture. Raises RemoteProtocolError where no film comes of these, StorageError,
        and FileExistsError where there is such a file, or another run writes it.
        """
        if codec not in _FORMATS:
            raise RemoteProtocolError(f"{codec or 'an unknown codec'}: a film of it is not written")
        self.path = path
        self.frames = 0
        self.last_s = 0.0
        self.sha256 = ""
        self.has_sound = sound is not None
        self._at = 0
        self._sound_at = self._rate = 0
        self._part = path.with_name(path.name + ".part")
        try:
            path.parent.mkdir(parents=True, exist_ok=True)
        except OSError as error:
            raise cannot_write(path.parent, error) from None
        try:
            handle = os.open(self._part, os.O_RDWR | os.O_CREAT | os.O_EXCL, 0o600)
        except FileExistsError:
            raise
        except OSError as error:
            raise cannot_write(self._part, error) from None
        self._file = os.fdopen(handle, "w+b", buffering=0)
        self._sink = _Sink(self._file)
        try:
            if path.exists():  # only looked for now: whoever had this part before has named it meanwhile
                raise FileExistsError(path)
            data = b"".join(START_CODE + u for u in [*parameter_sets, *first])
            with av.open(io.BytesIO(data), format=_FORMATS[codec]) as template:
                self._container: OutputContainer = av.open(self._sink, "w", format="mp4", options=_FRAGMENTS)
                self._stream: VideoStream = self._container.add_stream_from_template(template.streams.video[0])
            self._stream.time_base = Fraction(1, TICKS)
            self._sound = self._with(sound) if sound is not None else None
        except FileExistsError:
            self._discard()
            raise
        except (av.FFmpegError, IndexError, ValueError) as error:
            self._discard()
            why = "" if parameter_sets else ", and it tells no parameter sets"
            raise RemoteProtocolError(f"no film comes of its first picture ({type(error).__name__}){why}") from None

    def _with(self, sound: SoundFormat) -> AudioStream:
        stream: AudioStream = self._container.add_stream("pcm_s16be" if sound.linear else "aac", rate=sound.rate)
        stream.layout = "mono" if sound.channels == 1 else "stereo"
        self._rate = sound.rate
        self._container.start_encoding()
        return stream

    def _discard(self) -> None:
        self._file.close()
        self._part.unlink(missing_ok=True)

    def write(
        self, pictures: Sequence[tuple[float, bytes, bool]], sound: Sequence[tuple[float, bytes, int]] = ()
    ) -> None:
        """One whole group: seconds from the file's beginning, the picture in annex B form, and whether it is a key picture, in
        the order in which they are decoded; and the sound meanwhile with the number of its samples. Raises StorageError, and
        RemoteProtocolError where no film comes of them.
        """
        shown = [round(seconds * TICKS) for seconds, _, _ in pictures]
        decoded = sorted(shown)
        late = max((d - s for d, s in zip(decoded, shown, strict=True)), default=0)  # pictures that refer to later ones
        heard = list(sound) if self._sound is not None else []
        try:
            for (seconds, data, key), pts, dts in zip(pictures, shown, decoded, strict=True):
                while heard and heard[0][0] <= seconds:
                    self._hear(*heard.pop(0))
                self._at = max(dts - late, self._at + 1) if self.frames else dts - late
                self._mux(data, self._stream, max(pts, self._at), self._at, key=key)
                self.frames, self.last_s = self.frames + 1, max(seconds, self.last_s)
            for piece in heard:
                self._hear(*piece)
        except (OSError, av.FFmpegError, ValueError) as error:
            if self._sink.failed is not None:
                raise cannot_write(self._part, self._sink.failed) from None
            raise RemoteProtocolError(f"no film comes of its pictures ({type(error).__name__})") from None

    def _hear(self, seconds: float, data: bytes, samples: int) -> None:
        assert self._sound is not None
        at = max(round(seconds * self._rate), self._sound_at)
        self._sound_at = at + samples
        self._mux(data, self._sound, at, at, key=True, duration=samples)

    def _mux(self, data: bytes, stream: Stream, pts: int, dts: int, *, key: bool, duration: int = 0) -> None:
        packet = av.Packet(data)
        packet.pts, packet.dts, packet.stream, packet.is_keyframe = pts, dts, stream, key
        packet.time_base = Fraction(1, self._rate if stream is self._sound else TICKS)
        if duration:
            packet.duration = duration
        self._container.mux(packet)

    def close(self, *, whole: bool = True) -> bool:
        """whole: False where the disk would take no more: what is there is kept up to where it can be played. Whether there is
        a file then. Raises StorageError where the last of it cannot be written; what is there is kept then, too.
        """
        failed: StorageError | None = None
        asked_whole = whole
        try:
            self._container.close()
        except (OSError, av.FFmpegError, ValueError):
            whole = False
        if self._sink.failed is not None:
            failed = cannot_write(self._part, self._sink.failed)
        self.sha256 = self._sink.digest.hexdigest()
        try:
            there = self._as_far_as_it_plays() if failed is not None or not whole else True
            self._file.close()
            if there:
                self._part.replace(self.path)
            else:
                self._part.unlink(missing_ok=True)
        except OSError as error:
            raise cannot_write(self._part, error) from None
        if failed is not None and asked_whole:
            raise failed
        return there

    def _as_far_as_it_plays(self) -> bool:
        """Cut behind the last fragment that is whole, and counted anew; False where there is none."""
        self._file.seek(0)
        size = _playable(self._file)
        self._file.truncate(size)
        self._file.seek(0)
        self.sha256 = hashlib.file_digest(self._file, "sha256").hexdigest()
        self._file.seek(0)
        self.frames, self.last_s = 0, 0.0
        if not size:
            return False
        try:
            with av.open(self._file, "r") as film:
                for packet in film.demux(video=0):
                    if packet.size and packet.pts is not None and packet.time_base is not None:
                        self.frames += 1
                        self.last_s = max(self.last_s, float(packet.pts * packet.time_base))
        except av.FFmpegError:
            return False
        return self.frames > 0


def _playable(file: BinaryIO) -> int:
    """Up to the last movie fragment with all of its media data (ISO/IEC 14496-12 clause 4.2); 0 where there is none [bytes]."""
    total, at, good = file.seek(0, os.SEEK_END), 0, 0
    while at + 8 <= total:
        file.seek(at)
        size = int.from_bytes(file.read(4), "big")
        kind = file.read(4)
        if size == 1:
            size = int.from_bytes(file.read(8), "big")
        if size < 8 or at + size > total:
            break
        at += size
        good = at if kind == b"mdat" else good
    return good
