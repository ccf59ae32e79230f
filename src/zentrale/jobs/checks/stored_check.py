"""Playing back what each channel stored last, and holding it against what its camera sends."""

from __future__ import annotations

import asyncio
from collections.abc import AsyncIterator, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import UTC, datetime, timedelta
from itertools import pairwise
from pathlib import Path

from PIL import Image

from zentrale.errors import DeviceError, NotOfferedError
from zentrale.field import pictures, scheduler
from zentrale.field.replaying import replaying
from zentrale.field.scheduler import Failure
from zentrale.jobs.checks.check import Check, Round
from zentrale.jobs.checks.seen import ChannelResult, StreamResult
from zentrale.jobs.checks.stored_judging import CODES, Live, Played, judge
from zentrale.jobs.known.layer import Layer
from zentrale.jobs.known.planned import ref_of
from zentrale.jobs.passwords.access import entered
from zentrale.jobs.recorders.kept_channels import KeptChannels
from zentrale.jobs.recorders.recorder_registry import opened
from zentrale.jobs.streams.judging_pictures import Outlines, agreement, outlines_of
from zentrale.jobs.streams.reference import references
from zentrale.logbook.evidence import Judged
from zentrale.protocols.onvif.replay import Replay
from zentrale.protocols.streams.key_pictures import KeyPicture
from zentrale.protocols.streams.stored_pictures import StoredPictures
from zentrale.site.model import Camera, Policy, Recorder

NO_REPLAY = "no replay is offered"
STORED = "stored"  # the kind of its observations
_BEYOND_S = 15.0  # what is played may take so much longer than what was asked for
_LONGER, _LITTLE_S, _AGAIN_S = 6, 60.0, 8.0
_KEYS = 3  # so many key pictures are looked at
_CLEARLY, _ALIKE = 0.2, 0.6  # another camera's picture agrees so much better, and so well
_BUDGET_S = 60.0  # for one recorder, beside what its channels take


@dataclass(frozen=True)
class Results:
    played: tuple[Played, ...] = ()


class Stored(Check):
    """Plays channels that record, one after the other on each recorder."""

    along = True
    name = "stored"
    layer = Layer.RECORDING
    codes = CODES
    doing = "playing what is stored"

    async def observe(self, round: Round) -> None:
        seconds = round.request.recorded_s
        of = round.request.played_of
        recording = [c for c in round.channels if c.records and c.state and (of is None or c.camera in of)]
        if not seconds or not recording:
            return
        recorders = [r for r in round.plan.recorders if any(c.recorder == r.name for c in recording)]
        most_s = _BUDGET_S + (seconds + _BEYOND_S) * len(recording)
        played: list[Played] = []  # as far as each recorder came

        async def play(recorder: Recorder) -> None:
            own = [c for c in recording if c.recorder == recorder.name]
            async for each in self._recorder(round, recorder, own, seconds):
                played.append(each)

        outcomes = await scheduler.run(recorders, play, at_once=len(recorders), budget_s=round.keyring.budget(most_s))
        round.reports += [some.report for some in outcomes if some is not None and some.report]
        why = {r.name: o.message for r, o in zip(recorders, outcomes, strict=True) if isinstance(o, Failure)}
        done = {(p.recorder, p.channel) for p in played}
        played += [
            _unplayed(c, why.get(c.recorder, NO_REPLAY)) for c in recording if (c.recorder, c.channel) not in done
        ]
        round.keep(self, Results(tuple(played)))
        round.played = tuple(played)
        for each in played:
            if not each.unplayed:
                round.observe(STORED, each.ref, "ONVIF replay", each.document())

    async def _recorder(
        self, round: Round, recorder: Recorder, channels: Sequence[ChannelResult], seconds: float
    ) -> AsyncIterator[Played]:
        seen = round.found[recorder.name]
        own = await asyncio.to_thread(_own_pictures, round)
        async with entered(round.keyring, seen, recorder) as client:
            source = opened(round.keyring, recorder, client).kept()
            later = []
            for channel in channels:
                camera = round.plan.camera(channel.camera)
                until = channel.stored_until or source.now
                played, keys = await _play(source, camera, channel.channel, until, seconds)
                if not played.times and not played.error:
                    played, keys = await _up_to_now(source, camera, channel.channel, _LONGER * seconds)
                if not played.times and not played.error:
                    later.append(channel)
                    continue
                yield await asyncio.to_thread(self._compared, round, played, keys, own)
                if played.unplayed == NO_REPLAY:
                    return
            if later:  # what they stored may hold no key picture yet
                await asyncio.sleep(_AGAIN_S)
            for channel in later:
                camera = round.plan.camera(channel.camera)
                played, keys = await _up_to_now(source, camera, channel.channel, _LONGER * seconds)
                if not played.times and not played.error and _is_little(channel, source.now):
                    played = replace(played, unplayed="less than a minute is stored yet")
                yield await asyncio.to_thread(self._compared, round, played, keys, own)

    def _compared(
        self, round: Round, played: Played, keys: Sequence[KeyPicture], own: Mapping[str, Outlines]
    ) -> Played:
        camera = ref_of(round.plan.camera(played.camera))
        lossy = any(
            f.code in ("STR-7", "STR-9") and f.ref is not None and f.ref.whole == camera for f in round.findings
        )
        return _compared(played, keys, own, round.plan.policy, lossy=lossy)

    def judge(self, round: Round) -> Iterator[Judged]:
        for played in round.kept(self, Results()).played:
            camera = round.plan.camera(played.camera)
            planned = round.plan.streams(camera)["main"]
            verdicts = judge(camera, planned, played, _live(round, played), round.plan.policy)
            if verdicts.judged:
                yield Judged(played.ref, verdicts.judged, verdicts.findings)


def _unplayed(channel: ChannelResult, why: str) -> Played:
    now = datetime.now(UTC)
    return Played(channel.camera, channel.recorder, channel.channel, now, now, now, unplayed=why)


def _is_little(channel: ChannelResult, until: datetime) -> bool:
    """Whether so little is stored yet that no key picture need be in it."""
    return channel.stored_from is not None and until - channel.stored_from < timedelta(seconds=_LITTLE_S)


def _live(round: Round, played: Played) -> Live:
    by_stream: dict[str, StreamResult] = {s.stream: s for s in round.streams if s.camera == played.camera}
    told = any(f.code == "REC-12" and f.ref == played.ref for f in round.findings)
    late = any(f.code in ("STR-17", "STR-38") for f in round.findings)

    def size(stream: str) -> tuple[int, int] | None:
        measured = by_stream[stream].measured if stream in by_stream else None
        return (
            (measured.width_px, measured.height_px) if measured and measured.width_px and measured.height_px else None
        )

    main = by_stream["main"].measured if "main" in by_stream else None
    fps = main.fps if main is not None and "frame rate" not in by_stream["main"].not_judged else None
    pauses = round.plan.recording(round.plan.camera(played.camera)).mode != "continuous"
    return Live(size("main"), size("sub"), (main.codec or "") if main else "", fps, told, late, pauses)


def _own_pictures(round: Round) -> dict[str, Outlines]:
    """What each camera shows: as this run has seen it, else as it was registered."""
    known = references(round.keyring.logbook)
    found: dict[str, Outlines] = {}
    for camera in round.plan.cameras:
        seen = _seen_now(round, camera)
        if seen is None and ref_of(camera) in known:
            seen = known[ref_of(camera)].jpeg
        image = pictures.from_jpeg(seen) if seen is not None else None
        if image is not None:
            found[camera.name] = outlines_of(image)
    return found


def _seen_now(round: Round, camera: Camera) -> bytes | None:
    result = next((s for s in round.streams if s.camera == camera.name and s.stream == "main"), None)
    folder = round.request.pictures_folder
    if result is None or result.picture_file is None or folder is None:
        return None
    path: Path = folder / result.picture_file[0]
    return path.read_bytes() if path.exists() else None


async def _play(
    source: KeptChannels, camera: Camera, channel: int, until: datetime, seconds: float
) -> tuple[Played, list[KeyPicture]]:
    """Up to what is stored last; with its first key pictures."""
    start = until - timedelta(seconds=seconds)
    played = Played(camera.name, camera.recorder, channel, start, until, source.now)
    try:
        async with asyncio.timeout(seconds + _BEYOND_S):
            return await _measured(source, played, until)
    except TimeoutError:
        return replace(played, error=f"its pictures did not come within {seconds + _BEYOND_S:g} s"), []
    except NotOfferedError as error:
        return replace(played, error=str(error), unplayed=NO_REPLAY), []
    except DeviceError as error:
        return replace(played, error=str(error)), []


async def _up_to_now(
    source: KeptChannels, camera: Camera, channel: int, seconds: float
) -> tuple[Played, list[KeyPicture]]:
    """Whatever the recorder told as stored last a while ago: so that nothing is said of where it ends."""
    played, keys = await _play(source, camera, channel, source.now, seconds)
    return replace(played, until=played.newest or played.until), keys


async def _measured(source: KeptChannels, played: Played, until: datetime) -> tuple[Played, list[KeyPicture]]:
    address = await source.address(played.channel)
    times: list[float] = []
    keys: list[float] = []
    some: list[KeyPicture] = []
    size = (0, 0)
    async with replaying(address, source.visit, Replay(played.asked, until)) as player:
        assert player.described is not None
        stored = StoredPictures(player.described.media)
        last_s = until.timestamp() + 1
        async for each in player.packets():
            for picture in [] if each.sound else stored.push(each.packet, each.stamp):
                if picture.at_s is None:
                    return replace(played, error="its packets tell no time of their own"), []
                times.append(picture.at_s)
                if picture.unit.key:
                    keys.append(picture.at_s)
                    if picture.unit.complete and len(some) < _KEYS:
                        some.append(stored.key_picture(picture.unit))
                        held = stored.format_of(picture.unit)
                        size = (held.width_px, held.height_px) if held else size
            if times and (times[-1] > last_s or times[0] < played.asked.timestamp() - 60):
                break
        codec = player.described.media.codec
    times = [t for t in times if t <= last_s]
    return replace(played, codec=codec, size=size, times=tuple(times), keys=tuple(keys), lost=stored.lost), some


def _compared(
    played: Played, keys: Sequence[KeyPicture], own: Mapping[str, Outlines], policy: Policy, *, lossy: bool
) -> Played:
    """Whose picture it is, by where its edges are: of several, since something moves. What is written in does not count.

    lossy: the camera's own stream loses packets, so that damaged pictures are no wonder
    """
    mine = own.get(played.camera)
    frames = [frame for key in keys if (frame := pictures.decode(key)) is not None] if mine is not None else []
    if not frames:
        return played
    stored = [outlines_of(Image.fromarray(frame.to_ndarray(format="rgb24"))) for frame in frames]
    shares = {name: max(agreement(seen, other) for seen in stored) for name, other in own.items()}
    share = shares[played.camera]
    best = max(shares, key=lambda name: shares[name])
    said = f"its edges agree to {100 * max(share, 0):.0f} % with those of the camera's own picture"
    if shares[best] >= share + _CLEARLY and shares[best] >= _ALIKE:
        said = f"it shows what {best} shows: {said}, and to {100 * shares[best]:.0f} % with those of {best}"
        return replace(played, alike=False, said=said)
    if share >= policy.picture_alike_percent / 100:
        return replace(played, alike=True, said=said)
    # Nobody's that is known: only where what is stored agrees with itself, and so is no damaged picture.
    steady = len(stored) > 1 and min(agreement(a, b) for a, b in pairwise(stored)) >= _ALIKE
    return replace(played, alike=False, said=said) if steady and not lossy else played
