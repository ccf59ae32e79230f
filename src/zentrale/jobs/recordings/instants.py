"""The picture of a moment from several channels at once, each with the time that it was really recorded at."""

from __future__ import annotations

import asyncio
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from datetime import UTC, datetime, timedelta

from zentrale import quantities
from zentrale.errors import DeviceError, RemoteProtocolError
from zentrale.field import pictures
from zentrale.field.replaying import replaying
from zentrale.field.scheduler import Failure
from zentrale.jobs.known.planned import ref_of
from zentrale.jobs.known.spans import Span
from zentrale.jobs.passwords.keyring import Keyring
from zentrale.jobs.recorders.history import NOT_TOLD, History
from zentrale.jobs.recorders.kept_channels import KeptChannels
from zentrale.jobs.recordings.asking import Entered, each_recorder
from zentrale.logbook.evidence import Notes, note
from zentrale.protocols.onvif.replay import Replay
from zentrale.protocols.streams.stored_pictures import StoredPictures
from zentrale.site.model import Camera, Plan, Recorder

KIND = "played"  # of its observations
NEAR_S = 15.0  # the next key picture is at most so far; what is farther is another moment
_SECONDS, _AT_ONCE = 20.0, 8
_MOST_PACKETS = 20_000  # until a key picture is whole

Progress = Callable[[int, str], None]


@dataclass(frozen=True)
class Instant:
    """One channel at one moment. got: when the picture was recorded, by the recorder's clock, None where there is none near;
    `says` then why, with the nearest time that there is; size: width and height [px]
    """

    camera: str
    recorder: str
    channel: int
    asked: datetime
    got: datetime | None = None
    jpeg: bytes | None = None
    says: str = ""
    size: tuple[int, int] = (0, 0)
    file: str = ""

    @property
    def off_s(self) -> float | None:
        return None if self.got is None else (self.got - self.asked).total_seconds()

    def document(self) -> dict[str, object]:
        return {
            "camera": self.camera, "recorder": self.recorder, "channel": self.channel,
            "asked": quantities.timestamp(self.asked), "got": None if self.got is None else quantities.timestamp(self.got),
            "file": self.file or None, "off_s": None if self.off_s is None else round(self.off_s, 2), "says": self.says or None,
        }  # fmt: skip


@dataclass(frozen=True)
class Instants:
    """`offsets_s`: how far each recorder's clock is ahead of ours now."""

    pictures: tuple[Instant, ...]
    offsets_s: dict[str, float]


async def instants(
    plan: Plan, keyring: Keyring, cameras: Sequence[Camera], times: Sequence[datetime], progress: Progress
) -> Instants:
    """Every camera at every moment, in that order; one that cannot be had says why."""
    done = 0

    def one_more(name: str) -> None:
        nonlocal done
        done += 1
        progress(done, name)

    async def ask(entered: Entered) -> list[Instant]:
        source, own = entered.source, entered.cameras
        room = asyncio.Semaphore(at_once(plan, entered.recorder, own))

        async def one(camera: Camera, at: datetime) -> Instant:
            async with room:
                result = await picture_at(source, camera, at)
            one_more(camera.name)
            return result

        rows = list(await asyncio.gather(*(one(c, at) for at in times for c in own)))
        return await _with_the_nearest(source, rows)

    budget_s = keyring.budget(60.0 + _SECONDS * len(times) * len(cameras))
    rows: list[Instant] = []
    offsets: dict[str, float] = {}
    for told in await each_recorder(plan, keyring, cameras, ask, budget_s):
        outcome = told.outcome
        if isinstance(outcome, Failure):
            rows += [
                Instant(c.name, c.recorder, c.channel, at, says=outcome.message) for at in times for c in told.cameras
            ]
        else:
            rows += outcome
        if told.ahead is not None:
            offsets[told.recorder.name] = told.ahead.total_seconds()
    order = {c.name: n for n, c in enumerate(cameras)}
    return Instants(tuple(sorted(rows, key=lambda r: (r.asked, order[r.camera]))), offsets)


def at_once(plan: Plan, recorder: Recorder, cameras: Sequence[Camera]) -> int:
    """How many channels it plays together without sending more than its data sheet says."""
    most = plan.recorder_type(recorder).output_mbps
    if most is None:
        return _AT_ONCE
    rate = max((plan.streams(c)["main"].most_bps for c in cameras), default=1)
    return max(1, min(_AT_ONCE, int(most * 1e6 // rate)))


async def picture_at(source: KeptChannels, camera: Camera, at: datetime) -> Instant:
    """The first whole key picture that is played from then on."""
    row = Instant(camera.name, camera.recorder, camera.channel, at)
    if at > source.now + timedelta(seconds=1):
        return replace(row, says="that is still to come")
    try:
        async with asyncio.timeout(_SECONDS):
            return await _picture(source, row)
    except TimeoutError:
        return replace(row, says=f"no picture came within {_SECONDS:g} s")
    except DeviceError as error:
        return replace(row, says=str(error))


async def _picture(source: KeptChannels, row: Instant) -> Instant:
    address = await source.address(row.channel)
    async with replaying(address, source.visit, Replay(row.asked, None, key_pictures=True)) as player:
        assert player.described is not None
        stored = StoredPictures(player.described.media)
        async for each in player.packets():
            if each.sound:
                continue
            for picture in stored.push(each.packet, each.stamp):
                if not picture.unit.key or not picture.unit.complete:
                    continue
                if picture.at_s is None:
                    return replace(
                        row, says="its packets tell no time of their own, so that nobody knows when this was"
                    )
                got = datetime.fromtimestamp(picture.at_s, UTC)
                if abs((got - row.asked).total_seconds()) > NEAR_S:
                    return replace(row, says="", got=got)  # another moment: what is near is looked for
                frame = await asyncio.to_thread(pictures.decode, stored.key_picture(picture.unit))
                if frame is None:
                    return replace(row, got=got, says="the picture cannot be decoded")
                jpeg = await asyncio.to_thread(pictures.to_jpeg, frame)
                return replace(row, got=got, jpeg=jpeg, size=(frame.width, frame.height))
            if stored.packets > _MOST_PACKETS:
                raise RemoteProtocolError("no whole key picture in what it plays")
    return replace(row, says=f"nothing is played from then on: {player.ended_by}")


async def _with_the_nearest(source: KeptChannels, rows: Sequence[Instant]) -> list[Instant]:
    """Those without a picture say when there is one."""
    without = {r.channel for r in rows if r.jpeg is None}
    if not without:
        return list(rows)
    try:
        kept = await source.read(without)
    except DeviceError:
        kept = dict[int, History]()
    return [r if r.jpeg is not None else _told(r, kept.get(r.channel)) for r in rows]


def _told(row: Instant, kept: History | None) -> Instant:
    if kept is not None and kept.main and kept.searched != NOT_TOLD:
        nearest = nearest_to(row.asked.timestamp(), kept.main)
        if nearest is not None:
            at = quantities.moment(datetime.fromtimestamp(nearest, UTC))
            return replace(row, got=None, says=f"nothing is kept then; the nearest is {at}")
    if row.got is not None and not row.says:
        text = f"it played what is from {quantities.moment(row.got)} instead"
        return replace(row, got=None, says=text)
    return replace(row, got=None)


def nearest_to(at: float, spans: Sequence[Span]) -> float | None:
    """The nearest moment at which something is kept; None where that is then itself."""
    if any(a <= at < b for a, b in spans):
        return None
    return min((edge for span in spans for edge in span), key=lambda edge: abs(edge - at), default=None)


def keep(keyring: Keyring, run: int, plan: Plan, rows: Sequence[Instant], reason: str) -> None:
    """Into the logbook: who looked at what."""
    notes = Notes()
    for row in rows:
        content = {**row.document(), "reason": reason}
        notes.observe(KIND, ref_of(plan.camera(row.camera)), "ONVIF replay", content)
    note(keyring.logbook, run, notes)
