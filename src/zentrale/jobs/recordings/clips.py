"""What is stored between two moments as films, without encoding anything anew; and whether a file is still what was saved."""

from __future__ import annotations

import asyncio
import hashlib
import json
from collections.abc import AsyncIterator, Callable, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import UTC, datetime, timedelta
from pathlib import Path

from zentrale import quantities
from zentrale.errors import (
    DeviceError,
    InputError,
    NotFoundError,
    RefusedError,
    RemoteProtocolError,
    StorageError,
)
from zentrale.field import scheduler
from zentrale.field.clip_file import ClipFile
from zentrale.field.replaying import Player, replaying
from zentrale.field.scheduler import Failure
from zentrale.jobs.discovery.discovering import last_devices
from zentrale.jobs.known.found_devices import FoundDevice
from zentrale.jobs.known.planned import ref_of
from zentrale.jobs.passwords.access import entered
from zentrale.jobs.passwords.keyring import Keyring
from zentrale.jobs.recorders.kept_channels import KeptChannels
from zentrale.jobs.recorders.recorder_registry import driver_of, opened
from zentrale.logbook.evidence import Notes, note, observations
from zentrale.logbook.store import Logbook
from zentrale.protocols.onvif.replay import Replay
from zentrale.protocols.streams.stored_pictures import StoredPicture, StoredPictures
from zentrale.site.folder import write_atomically
from zentrale.site.model import Camera, Plan, Recorder

KIND = "clip"  # of its observations
GAP_S = 2.0  # a longer hole begins a new file
_ENDS_S = 2.0  # what is stored may end so long before the moment asked for
_AGAIN, _PAUSE_S = 5, 1.0  # after a connection that broke, as long as it goes on in between

Progress = Callable[[int, str], None]


@dataclass(frozen=True)
class Clip:
    """One file. begin, end: of the first and the last picture in it, by the recorder's clock; lost: packets that were missing in
    what the recorder played
    """

    camera: str
    recorder: str
    channel: int
    asked: tuple[datetime, datetime]
    begin: datetime
    end: datetime
    file: str
    frames: int
    lost: int
    sha256: str
    codec: str

    def document(self) -> dict[str, object]:
        return {
            "camera": self.camera, "recorder": self.recorder, "channel": self.channel, "file": self.file,
            "from": _precise(self.begin), "to": _precise(self.end), "frames": self.frames, "lost": self.lost,
            "sha256": self.sha256, "codec": self.codec,
            "asked_from": _precise(self.asked[0]), "asked_to": _precise(self.asked[1]),
        }  # fmt: skip


def _precise(at: datetime) -> str:
    return at.astimezone(UTC).isoformat(timespec="milliseconds")


@dataclass
class Saved:
    """Of one channel: its files, and what is to be told: why there is none, or less than was asked for."""

    camera: str
    recorder: str
    clips: list[Clip] = field(default_factory=list)
    says: list[str] = field(default_factory=list)
    sound: str = ""  # codec of sound that is stored, and is in no file
    stopped: bool = False  # this machine's disk takes no more


async def save(
    plan: Plan, keyring: Keyring, cameras: Sequence[Camera], span: tuple[datetime, datetime], folder: Path, progress: Progress
) -> list[Saved]:  # fmt: skip
    """One channel of a recorder after the other, at most at the rate that its data sheet says it sends."""
    found = last_devices(plan, keyring.logbook)
    recorders = [r for r in plan.recorders if any(c.recorder == r.name for c in cameras)]
    done = 0

    async def one(recorder: Recorder) -> list[Saved]:
        nonlocal done
        saved = []
        async for each in _of_recorder(plan, keyring, recorder, found.get(recorder.name), cameras, span, folder):
            saved.append(each)
            done += 1
            progress(done, each.camera)
        return saved

    outcomes = await scheduler.run(recorders, one, at_once=len(recorders) or 1, budget_s=None)
    rows: list[Saved] = []
    for recorder, outcome in zip(recorders, outcomes, strict=True):
        if isinstance(outcome, Failure):
            own = [c for c in cameras if c.recorder == recorder.name]
            rows += [Saved(c.name, recorder.name, says=[outcome.message]) for c in own]
        else:
            rows += outcome
    return rows


async def _of_recorder(
    plan: Plan, keyring: Keyring, recorder: Recorder, seen: FoundDevice | None, cameras: Sequence[Camera],
    span: tuple[datetime, datetime], folder: Path,
) -> AsyncIterator[Saved]:  # fmt: skip
    if seen is None or not seen.url:
        if not driver_of(plan, recorder).has_service:
            opened(keyring, recorder, None).kept()  # raises: it says what to do instead
        raise NotFoundError("the last discovery did not find it, so it was not asked")
    await keyring.ready()
    output = plan.recorder_type(recorder).output_mbps
    async with entered(keyring, seen, recorder) as client:
        source = opened(keyring, recorder, client).kept()
        full = ""
        for camera in [keyring.numbered(c) for c in cameras if c.recorder == recorder.name]:
            if full:
                yield Saved(
                    camera.name, recorder.name, says=[f"not begun, since the disk took no more of {full}"], stopped=True
                )
                continue
            saving = _Saving(source, camera, span, folder, output * 1e6 if output else None)
            yield await saving.run()
            full = camera.name if saving.saved.stopped else ""


class _Saving:
    """One channel. A group of pictures is written when it is whole: what a broken connection leaves of one is fetched again."""

    def __init__(
        self, source: KeptChannels, camera: Camera, span: tuple[datetime, datetime], folder: Path, most_bps: float | None
    ) -> None:  # fmt: skip
        self.saved = Saved(camera.name, camera.recorder)
        self._source = source
        self._camera = camera
        self._begin, self._end = span
        self._folder = folder
        self._most_bps = most_bps
        self._group: list[StoredPicture] = []
        self._file: ClipFile | None = None
        self._first_s = self._last_s = 0.0  # in the file
        self._written_until: datetime | None = None
        self._lost = self._lost_before = 0
        self._media_sets: list[bytes] = []
        self._codec = ""
        self._whole = False

    async def run(self) -> Saved:
        start, tries = self._begin, 0
        while True:
            why = ""
            try:
                await self._play(start)
            except StorageError as error:
                self._stopped(error)
                self._end_file(whole=False)
                return self.saved
            except RefusedError as error:
                why = str(error)
                tries = _AGAIN
            except DeviceError as error:
                why = str(error)
            if self._whole or self._reached():
                break
            again = self._written_until
            tries = 0 if again is not None and again > start and tries < _AGAIN else tries + 1
            if tries >= _AGAIN or again is None:
                self.saved.says.append(why or "it ended before the moment asked for")
                break
            start = again
            await asyncio.sleep(_PAUSE_S)
        try:
            self._write_group()
            self._end_file()
        except StorageError as error:
            self._stopped(error)
            self._end_file(whole=False)
        if not self.saved.clips and not self.saved.says:
            self.saved.says.append("nothing is stored then")
        return self.saved

    def _stopped(self, error: StorageError) -> None:
        self.saved.says.append(f"{error.what}; what was written until then can be played")
        self.saved.stopped = True

    def _reached(self) -> bool:
        return bool(self._last_s) and self._last_s >= self._end.timestamp() - _ENDS_S

    async def _play(self, start: datetime) -> None:
        address = await self._source.address(self._camera.channel)
        asked = Replay(start, self._end)
        async with replaying(address, self._source.visit, asked, most_bps=self._most_bps) as player:
            assert player.described is not None
            media = player.described.media
            stored = StoredPictures(media)
            self._codec, self._media_sets, self._group = media.codec, media.parameter_sets(), []
            self.saved.sound = player.described.sound.codec if player.described.sound is not None else ""
            await self._take(player, stored)
            self._lost_before += stored.lost
            self._whole = player.ended_by.startswith("it says")

    async def _take(self, player: Player, stored: StoredPictures) -> None:
        end_s = self._end.timestamp()
        async for each in player.packets():
            if each.sound:
                continue
            for picture in stored.push(each.packet, each.stamp):
                if picture.at_s is None:
                    raise RemoteProtocolError(
                        "its packets tell no time of their own: without that, no film is evidence"
                    )
                if picture.at_s > end_s:
                    self._whole = True
                    return
                if picture.unit.key:
                    self._write_group()
                    self._group = []
                if picture.unit.key or self._group:
                    self._group.append(picture)
                self._lost = self._lost_before + stored.lost

    def _write_group(self) -> None:
        """The pictures from a key picture up to the next. A hole before them begins a new file."""
        whole = [p for p in self._group if p.at_s is not None and p.unit.units]
        self._group = []
        if not whole or not whole[0].unit.key:
            return
        first, last = (p.at_s or 0.0 for p in (whole[0], whole[-1]))
        if self._file is not None and not 0 < first - self._last_s <= GAP_S:
            if first <= self._last_s:
                return  # it was written before the connection broke
            self._end_file()
        if self._file is None:
            self._first_s = first
            at = datetime.fromtimestamp(first, UTC)
            path = _free(self._folder / f"{self._camera.name}-{at:%Y%m%dT%H%M%SZ}.mp4")
            self._file = ClipFile(path, self._codec, self._media_sets, whole[0].unit.units)
        self._file.write([((p.at_s or 0.0) - self._first_s, p.unit.annex_b(), p.unit.key) for p in whole])
        self._last_s = last
        self._written_until = datetime.fromtimestamp(last, UTC) + timedelta(milliseconds=1)

    def _end_file(self, *, whole: bool = True) -> None:
        if self._file is None:
            return
        file, self._file = self._file, None
        try:
            file.close(whole=whole)
        except StorageError as error:
            self._stopped(error)
        begin, end = (datetime.fromtimestamp(s, UTC) for s in (self._first_s, self._first_s + file.last_s))
        clip = Clip(
            self._camera.name, self._camera.recorder, self._camera.channel, (self._begin, self._end), begin, end, str(file.path),
            file.frames, self._lost - sum(c.lost for c in self.saved.clips), file.sha256, self._codec,
        )  # fmt: skip
        self.saved.clips.append(clip)


def _free(path: Path) -> Path:
    """Never over a file that is there."""
    number, found = 2, path
    while found.exists() or found.with_name(found.name + ".part").exists():
        found = path.with_stem(f"{path.stem}-{number}")
        number += 1
    return found


def describe(clips: Sequence[Clip], reason: str, vantage: str) -> None:
    """Beside each file what it is, as JSON. Raises StorageError."""
    for clip in clips:
        path = Path(clip.file).with_suffix(".json")
        content = {**clip.document(), "file": Path(clip.file).name, "reason": reason, "saved_from": vantage,
                   "saved_at": quantities.timestamp(quantities.now())}  # fmt: skip
        write_atomically(path, json.dumps(content, indent=2).encode(), 0o600)


def keep(keyring: Keyring, run: int, plan: Plan, saved: Sequence[Saved], reason: str) -> None:
    """Into the logbook's evidence."""
    notes = Notes()
    for row in saved:
        for clip in row.clips:
            content = {**clip.document(), "reason": reason}
            notes.observe(KIND, ref_of(plan.camera(clip.camera)), "ONVIF replay", content)
    note(keyring.logbook, run, notes)


@dataclass(frozen=True)
class Checked:
    """`same` None where neither a description beside the file nor the logbook knows it."""

    file: str
    sha256: str
    same: bool | None
    says: tuple[str, ...]
    clip: Mapping[str, object] | None = None


def check(path: Path, logbook: Logbook | None) -> Checked:
    """Whether a file is as it was saved: by the digest beside it, and by the one in the logbook. Raises InputError."""
    if path.suffix == ".json":
        raise InputError(f"{path}: is the description of a film", f"give the film itself, {path.stem}.mp4")
    try:
        with path.open("rb") as file:
            digest = hashlib.file_digest(file, "sha256").hexdigest()
    except OSError as error:
        raise InputError(
            f"{path}: cannot be read: {error.strerror}", "expected a file that `recordings save` wrote"
        ) from None
    says, verdicts = [], []
    clip: Mapping[str, object] | None = None
    beside = path.with_suffix(".json")
    if beside.exists():
        clip = _described(beside)
        same = clip.get("sha256") == digest
        verdicts.append(same)
        says.append(f"{beside.name} {'has the same digest' if same else 'has another digest'}")
    if logbook is not None:
        known = [o.content for o in observations(logbook, KIND)]
        by_name = [c for c in known if Path(str(c.get("file"))).name == path.name]
        if any(c.get("sha256") == digest for c in known):
            verdicts.append(True)
            says.append("the logbook has the same digest")
            clip = clip or next(c for c in known if c.get("sha256") == digest)
        elif by_name:
            verdicts.append(False)
            says.append("the logbook has another digest for a file of this name")
        else:
            says.append("the logbook does not know it")
    return Checked(str(path), digest, all(verdicts) if verdicts else None, tuple(says), clip)


def _described(path: Path) -> dict[str, object]:
    try:
        content = json.loads(path.read_text(encoding="utf-8"))
    except (OSError, ValueError):
        raise InputError(
            f"{path}: cannot be read as JSON", "expected what `recordings save` wrote beside the film"
        ) from None
    return content if isinstance(content, dict) else {}
