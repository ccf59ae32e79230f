"""What is stored between two moments as films, without encoding anything anew."""

from __future__ import annotations

import asyncio
import contextlib
import math
from collections.abc import Callable, Sequence
from datetime import UTC, datetime, timedelta
from pathlib import Path

from zentrale import quantities
from zentrale.errors import (
    DeviceError,
    RefusedError,
    RemoteProtocolError,
    StorageError,
)
from zentrale.field.clip_file import ClipFile
from zentrale.field.replaying import Player, replaying
from zentrale.field.scheduler import Failure
from zentrale.jobs.passwords.keyring import Keyring
from zentrale.jobs.recorders.kept_channels import KeptChannels
from zentrale.jobs.recordings.asking import Entered, each_recorder
from zentrale.jobs.recordings.films import Clip, Keep, Saved
from zentrale.protocols.onvif.replay import Replay
from zentrale.protocols.sdp import Media
from zentrale.protocols.streams.stored_pictures import StoredPicture, StoredPictures
from zentrale.protocols.streams.stored_sound import SoundFormat, SoundPiece, StoredSound
from zentrale.site.model import Camera, Plan

GAP_S = 2.0  # a longer hole begins a new file
_ENDS_S = 2.0  # what is stored may end so long before the moment asked for
_MOST_GROUP_BYTES, _MOST_PIECES = 64_000_000, 20_000  # between two key pictures
_MOST_OF_A_NAME = 100  # files
_MOMENT_S = 0.001
_KEYS_APART_S = 15.0  # a film begins with a key picture
_AGAIN, _PAUSE_S = 5, 1.0  # after a connection that broke, as long as it goes on in between

Progress = Callable[[int, str], None]


async def save(
    plan: Plan, keyring: Keyring, cameras: Sequence[Camera], span: tuple[datetime, datetime], folder: Path, keep: Keep,
    progress: Progress,
) -> list[Saved]:  # fmt: skip
    """One channel of a recorder after the other, at most at the rate that its data sheet says it sends. keep: is given each film
    when it is closed, also where this is stopped
    """
    done = 0

    async def ask(entered: Entered) -> list[Saved]:
        nonlocal done
        output = plan.recorder_type(entered.recorder).output_mbps
        saved: list[Saved] = []
        full = ""
        for camera in entered.cameras:
            row = Saved(camera.name, camera.recorder, stopped=bool(full))
            if full:
                row.says.append(f"not begun, since the disk took no more of {full}")
            else:
                saving = _Saving(entered.source, camera, span, folder, keep, output * 1e6 if output else None)
                row = await saving.run()
                full = camera.name if row.stopped else ""
            saved.append(row)
            done += 1
            progress(done, camera.name)
        return saved

    rows: list[Saved] = []
    for told in await each_recorder(plan, keyring, cameras, ask, None):
        outcome = told.outcome
        if isinstance(outcome, Failure):
            rows += [Saved(c.name, c.recorder, says=[outcome.message]) for c in told.cameras]
        else:
            rows += outcome
    return rows


class _Saving:
    """One channel. A group of pictures is written when it is whole: what a broken connection leaves of one is fetched again."""

    def __init__(
        self, source: KeptChannels, camera: Camera, span: tuple[datetime, datetime], folder: Path, keep: Keep,
        most_bps: float | None,
    ) -> None:  # fmt: skip
        self.saved = Saved(camera.name, camera.recorder)
        self._source = source
        self._camera = camera
        self._begin, self._end = span
        self._folder = folder
        self._keep = keep
        self._most_bps = most_bps
        self._group: list[StoredPicture] = []
        self._file: ClipFile | None = None
        self._first_s = self._last_s = 0.0  # in the file
        self._written_until: datetime | None = None
        self._lost = self._lost_before = 0
        self._media_sets: list[bytes] = []
        self._codec = ""
        self._whole = False
        self._sound: StoredSound | None = None
        self._sound_codec = ""
        self._heard: list[SoundPiece] = []  # since what was written last
        self._heard_until = 0.0

    async def run(self) -> Saved:
        try:
            return await self._run()
        except asyncio.CancelledError:
            with contextlib.suppress(StorageError):  # it is stopped anyway
                self._end_file()
            raise

    async def _run(self) -> Saved:
        start, tries = self._begin, 0
        while True:
            why, refused = "", False
            try:
                await self._play(start)
            except StorageError as error:
                self._stopped(error)
                return self.saved
            except DeviceError as error:
                why, refused = str(error), isinstance(error, RefusedError)
            if self._whole or self._reached():
                break
            again = self._written_until
            tries = 0 if again is not None and again > start else tries + 1
            if refused or tries >= _AGAIN or again is None:
                short = "nothing is played from then on" if again is None else "it ended before the moment asked for"
                self.saved.says.append(why or short)
                break
            start = again
            await asyncio.sleep(_PAUSE_S)
        try:
            self._write_group()
            self._end_file()
        except StorageError as error:
            self._stopped(error)
        except DeviceError as error:  # no film comes of it
            self.saved.says.append(str(error))
        if not self.saved.clips and not self.saved.says:
            self.saved.says.append("nothing is stored then")
        elif not self.saved.says:
            self.saved.says += _missing(self._begin, self._end, self.saved.clips)
        if self._sound is not None and not any(c.sound for c in self.saved.clips):
            self.saved.silent = f"{self._sound_codec}: none came with a time of its own"
        return self.saved

    def _stopped(self, error: StorageError) -> None:
        self.saved.stopped = True
        with contextlib.suppress(StorageError):  # of the same disk, and told already
            self._end_file(whole=False)
        kept = "what was written until then can be played" if self.saved.clips else "nothing of it was written"
        self.saved.says.append(f"{error.what}; {kept}; {error.advice.partition(';')[0]}")

    def _reached(self) -> bool:
        return bool(self._last_s) and self._last_s >= self._end.timestamp() - _ENDS_S

    async def _play(self, start: datetime) -> None:
        address = await self._source.address(self._camera.channel)
        asked = Replay(start, self._end)
        async with replaying(address, self._source.visit, asked, sound=True, most_bps=self._most_bps) as player:
            assert player.described is not None
            media = player.described.media
            stored = StoredPictures(media)
            self._codec, self._media_sets, self._group, self._heard = media.codec, media.parameter_sets(), [], []
            self._sound = self._sound_of(player.described.sound)
            await self._take(player, stored)
            self._lost_before += stored.lost
            self._whole = player.ended_by.startswith("it says")

    def _sound_of(self, media: Media | None) -> StoredSound | None:
        if media is None:
            return None
        self._sound_codec = media.codec
        try:
            return StoredSound(media)
        except RemoteProtocolError as error:
            self.saved.silent = f"{media.codec}: {error}" if media.codec not in str(error) else str(error)
            return None

    async def _take(self, player: Player, stored: StoredPictures) -> None:
        end_s, size = self._end.timestamp(), 0
        async for each in player.packets():
            if each.sound:
                if self._sound is not None and len(self._heard) < _MOST_PIECES:
                    self._heard += self._sound.push(each.packet, each.stamp)
                continue
            size += len(each.packet.payload)
            if size > _MOST_GROUP_BYTES:
                raise RemoteProtocolError(f"no key picture in {size // 1_000_000} MB of what it plays")
            for picture in stored.push(each.packet, each.stamp):
                if picture.at_s is None:
                    raise RemoteProtocolError(
                        "its packets tell no time of their own: without that, no film is evidence"
                    )
                if picture.at_s > end_s:
                    self._whole = True
                    return
                before_s = max((p.at_s or 0.0 for p in self._group), default=picture.at_s)
                if picture.unit.key or picture.apart or picture.at_s - before_s > GAP_S:
                    self._write_group(picture.at_s)
                    size = 0  # what comes behind a hole without a key picture cannot be shown
                if picture.unit.key or self._group:
                    self._group.append(picture)
                self._lost = self._lost_before + stored.lost

    def _write_group(self, until_s: float = math.inf) -> None:
        """The pictures from a key picture up to the next, which is at `until_s`. A hole before them begins a new file."""
        whole = [p for p in self._group if p.at_s is not None and p.unit.units]
        self._group = []
        if not whole or not whole[0].unit.key:
            return
        first, last = whole[0].at_s or 0.0, max(p.at_s or 0.0 for p in whole)
        heard = [p for p in self._heard if p.at_s < until_s and p.at_s >= self._heard_until]
        self._heard = [p for p in self._heard if p.at_s >= until_s]
        if self._file is not None and first <= self._last_s:
            return  # it was written before the connection broke
        # One that was begun without sound cannot take any.
        if self._file is not None and (first - self._last_s > GAP_S or (heard and not self._file.has_sound)):
            self._end_file()
        if self._file is None:
            self._first_s = first
            form = self._sound.format if self._sound is not None and heard else None
            self._file = self._new_file(first, whole[0].unit.units, form)
        self._file.write(
            [((p.at_s or 0.0) - self._first_s, p.unit.annex_b(), p.unit.key) for p in whole],
            [(p.at_s - self._first_s, p.data, p.samples) for p in heard if p.at_s >= self._first_s],
        )
        self._heard_until = max((p.at_s + _MOMENT_S for p in heard), default=self._heard_until)
        self._last_s = last
        self._written_until = datetime.fromtimestamp(last, UTC) + timedelta(milliseconds=1)

    def _new_file(self, first_s: float, units: Sequence[bytes], sound: SoundFormat | None) -> ClipFile:
        """Never over a file that is there, nor into one that another run writes."""
        at = datetime.fromtimestamp(first_s, UTC)
        path = self._folder / f"{self._camera.name}-{at:%Y%m%dT%H%M%SZ}.mp4"
        for number in range(2, _MOST_OF_A_NAME):
            with contextlib.suppress(FileExistsError):
                return ClipFile(path, self._codec, self._media_sets, units, sound)
            if (part := path.with_name(path.name + ".part")).exists():
                self.saved.notes.append(f"{part.name}: another run writes it, or one that was stopped left it")
            path = path.with_stem(f"{path.stem.removesuffix(f'-{number - 1}')}-{number}")
        raise StorageError(f"{path}: there are {_MOST_OF_A_NAME} such files", "give another --to-folder")

    def _end_file(self, *, whole: bool = True) -> None:
        """Raises StorageError where the last of it cannot be written; what can be played is among the clips then, too."""
        if self._file is None:
            return
        file, self._file = self._file, None
        failed: StorageError | None = None
        try:
            there = file.close(whole=whole)
        except StorageError as error:
            failed, there = error, file.frames > 0 and file.path.exists()
        if there:
            self._add(file)
        if failed is not None:
            raise failed

    def _add(self, file: ClipFile) -> None:
        begin, end = (datetime.fromtimestamp(s, UTC) for s in (self._first_s, self._first_s + file.last_s))
        clip = Clip(
            self._camera.name, self._camera.recorder, self._camera.channel, (self._begin, self._end), begin, end, str(file.path),
            file.frames, self._lost - sum(c.lost for c in self.saved.clips), file.sha256, self._codec,
            self._sound_codec if file.has_sound else "",
        )  # fmt: skip
        self.saved.clips.append(clip)
        self._keep(clip)


def _missing(begin: datetime, end: datetime, clips: Sequence[Clip]) -> list[str]:
    """What of the interval asked for is in none of the films, in words. Key pictures may be some seconds apart."""
    said = []
    edges = [begin, *(edge for clip in sorted(clips, key=lambda c: c.begin) for edge in (clip.begin, clip.end)), end]
    for number, (before, after) in enumerate(zip(edges[::2], edges[1::2], strict=True)):
        seconds = (after - before).total_seconds()
        if seconds > (_ENDS_S if number else _KEYS_APART_S):
            said.append(f"nothing is stored for {quantities.seconds(seconds)} from {quantities.moment(before)}")
    return said
