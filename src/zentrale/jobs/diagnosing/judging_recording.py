"""Its channel at the recorder: does that take in what the camera gives now, does it keep it, and is what is kept whole. Pure."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass
from urllib.parse import urlsplit

from zentrale import quantities
from zentrale.errors import DeviceError
from zentrale.findings import Finding
from zentrale.jobs.checks.seen import ChannelResult
from zentrale.jobs.checks.stored_judging import Played
from zentrale.jobs.diagnosing.diagnosis import Blame, Judged, breaks, holds, not_known
from zentrale.jobs.diagnosing.judging_streams import StreamsSeen
from zentrale.jobs.known.layer import Layer
from zentrale.jobs.recorders.driver import ChannelSample
from zentrale.protocols.onvif import recording_jobs
from zentrale.site.model import Camera, Plan

# In a recorder's own words, and by the status codes of RTSP and HTTP that stand in them.
_BY_PASSWORD = re.compile(
    r"\b401\b|unauthori[sz]ed|password|passwort|credential|not authenticated|authentication|login", re.IGNORECASE
)
_BY_WAY = re.compile(
    r"no answer|timed? ?out|unreachable|no route|connection (refused|reset|lost|closed)|closed the connection|refused$|network",
    re.IGNORECASE,
)


@dataclass(frozen=True)
class RecordingSeen:
    """What was seen of one channel.

    channel: as it is judged against the plan, None where it was not looked at; held: what the recorder tells of it
    error:   why the recorder could not be asked; answers: whether anything of it answers
    played:  its last stored seconds; None where nothing was played
    service: the recorder has one that can be asked
    whole:   what is wrong with the recorder as a whole, on which this follows
    """

    channel: ChannelResult | None = None
    held: ChannelSample | None = None
    error: DeviceError | None = None
    answers: bool = True
    played: Played | None = None
    service: bool = True
    whole: Sequence[Finding] = ()
    stored: Sequence[Finding] = ()


def judge_recording(plan: Plan, camera: Camera, seen: RecordingSeen, streams: StreamsSeen, *, plays: bool) -> Judged:
    """`plays`: the camera's stream plays here."""
    where = f"{camera.recorder} channel {camera.channel}"
    if not seen.service:
        return not_known(Layer.RECORDING, f"{camera.recorder} has no service that tells: look at its own screen")
    if seen.channel is None or (seen.channel.records is None and seen.error is not None):
        why = str(seen.error) if seen.error is not None else "its recorder was not asked"
        if seen.error is not None and not seen.answers:
            causes = [
                ("it is off, or its network is", why),
                ("it has another address", "only its planned one was asked"),
            ]
            return breaks(
                Layer.RECORDING, "DGN-46", Blame.RECORDER, f"its recorder {camera.recorder} does not answer", why, causes,
                f"`zentrale diagnose {camera.recorder}`",
            )  # fmt: skip
        return not_known(Layer.RECORDING, why)
    channel, held = seen.channel, seen.held
    codes = {f.code: f for f in channel.findings}
    if "REC-2" in codes:
        return _other_address(plan, camera, seen, where)
    state = held.state if held is not None else None
    error = state.error if state is not None else ""
    if seen.whole and not channel.records:
        item = seen.whole[0]
        causes = [(item.title, f"{item.code}: {item.measured}")]
        return breaks(
            Layer.RECORDING, "DGN-47", Blame.RECORDER, f"its recorder {camera.recorder}: {item.title}",
            f"{where}: {item.measured}", causes, item.advice,
        )  # fmt: skip
    if channel.records is False or error or channel.state == recording_jobs.ERROR:
        return _not_recording(camera, channel, error, codes.get("REC-1"), where, plays=plays)
    if channel.records is None:
        return not_known(Layer.RECORDING, codes["REC-13"].measured if "REC-13" in codes else "it waits for its rule")
    lost = _lost_in_store(camera, seen, streams, where)
    if lost is not None:
        return lost
    if seen.stored:
        item = seen.stored[0]
        causes = [
            (item.title, f"{item.code}: {item.measured}"),
            ("the recorder was set otherwise", f"expected {item.limit}"),
        ]
        return breaks(
            Layer.RECORDING, "DGN-48", Blame.RECORDER, f"{where} stores something else: {item.measured}", item.measured, causes,
            item.advice,
        )  # fmt: skip
    until = f", up to {quantities.moment(channel.stored_until)}" if channel.stored_until else ""
    played = seen.played
    kept = (
        f"; its last {played.seconds:.0f} s played, {len(played.times)} pictures, {played.lost} packets missing"
        if played is not None and played.times
        else ""
    )
    account = f" as {held.user}" if held is not None and held.user else ""
    other = f", not as planned ({codes['REC-14'].limit})" if "REC-14" in codes else ""
    return holds(Layer.RECORDING, f"{where} records it{account}{other}{until}{kept}")


def _other_address(plan: Plan, camera: Camera, seen: RecordingSeen, where: str) -> Judged:
    assert seen.channel is not None
    item = next(f for f in seen.channel.findings if f.code == "REC-2")
    held = seen.held
    if held is None or held.state is None:
        causes = [
            ("the channel was cleared, or never given", item.measured),
            ("the recorder was reset", "its other channels would be free, too"),
        ]
        return breaks(
            Layer.RECORDING, "DGN-43", Blame.RECORDER, f"{where} is free: nothing takes this camera in", item.measured, causes,
            f"`zentrale register {camera.name}`",
        )  # fmt: skip
    host = urlsplit(held.url).hostname or ""
    other = next((c.name for c in plan.networked if c.host == host and c.name != camera.name), "")
    whose = f", which is {other}'s" if other else ""
    causes = [
        (
            "the channel was pointed elsewhere by hand"
            if other
            else "the camera's address was changed after it was given",
            item.measured,
        ),
        ("channels were exchanged", f"expected {item.limit}"),
    ]
    return breaks(
        Layer.RECORDING, "DGN-44", Blame.RECORDER, f"{where} takes in {held.url}{whose}", item.measured,
        causes, f"`zentrale register {camera.name}` gives the channel this camera again",
    )  # fmt: skip


def _not_recording(
    camera: Camera, channel: ChannelResult, error: str, item: Finding | None, where: str, *, plays: bool
) -> Judged:
    told = f"{where}: state {channel.state}" + (f', in its own words "{error}"' if error else "")
    seen = f"{told}; {item.measured}" if item is not None and not error else told
    if _BY_PASSWORD.search(error):
        causes = [
            ("the recorder still has an old password of it", f'it says "{error}"; the vault\'s opens the camera'),
            ("its account for recorders was deleted in the camera", "then the recorder's would be refused as well"),
        ]
        return breaks(
            Layer.RECORDING, "DGN-45", Blame.PASSWORD, f"{where} is not let in by the camera", seen, causes,
            f"`zentrale register {camera.name}` gives the recorder the camera's password again",
        )  # fmt: skip
    if error and plays and _BY_WAY.search(error):
        causes = [
            ("the recorder does not reach the camera", f'it says "{error}"; from here it plays'),
            ("a rule between their zones, or the recorder's second leg", "this machine goes another way"),
        ]
        return breaks(
            Layer.RECORDING, "DGN-49", Blame.NETWORK, "the recorder does not reach it; from here it plays", seen, causes,
            f"`zentrale diagnose {camera.recorder}`; then the rules between {camera.zone} and the recorder's zone",
        )  # fmt: skip
    if error or channel.state == recording_jobs.ERROR:
        causes = [
            ("the recorder itself: licence, decoder, disk or codec", f'it says "{error or channel.state}"'),
            ("its job hangs", "from here the stream plays" if plays else "what it says is no matter of the camera"),
        ]
        return breaks(
            Layer.RECORDING, "DGN-50", Blame.RECORDER, f"{where} is in error: {error or 'it does not say why'}", seen, causes,
            f"look at channel {camera.channel} on its own screen; then `zentrale register {camera.name}`",
        )  # fmt: skip
    if channel.state == recording_jobs.ACTIVE:
        causes = [
            ("its disk is full, failed or not initialised", item.measured if item is not None else told),
            ("recording of this channel is off on its own screen", "its job calls itself active"),
        ]
        return breaks(
            Layer.RECORDING, "DGN-47", Blame.RECORDER, f"{where} takes it in and keeps nothing", seen, causes,
            "look at its disks on its own screen: there, initialised, with room, overwriting the oldest?",
        )  # fmt: skip
    causes = [
        ("its job was switched off, or never started", told),
        ("it has no licence for one more channel", "some recorders leave the job idle then"),
    ]
    return breaks(
        Layer.RECORDING, "DGN-51", Blame.RECORDER, f"{where} does not record: state {channel.state}", seen, causes,
        f"`zentrale register {camera.name}` starts it again; else its licence on its own screen",
    )  # fmt: skip


def _lost_in_store(camera: Camera, seen: RecordingSeen, streams: StreamsSeen, where: str) -> Judged | None:
    """What is missing in what is stored: the camera's, or lost between the two."""
    played, main = seen.played, streams.main
    if played is None or not (played.lost or played.holes) or main is None or main.measured is None:
        return None
    if main.measured.packets_lost:
        return None  # what it does not send cannot be stored: told as loss
    missing = quantities.count(played.lost, "packet") if played.lost else quantities.count(len(played.holes), "hole")
    causes = [
        (
            "it is lost between camera and recorder",
            f"{missing} in the last {played.seconds:.0f} s stored; here nothing is missing",
        ),
        ("the recorder takes in more than it can", "then other channels lack some, too"),
    ]
    return breaks(
        Layer.RECORDING, "DGN-52", Blame.NETWORK, f"what {where} stores has {missing} that came here", missing, causes,
        f"look at the link between {camera.place} and the recorder (`zentrale network check`), then at its load",
    )  # fmt: skip


def judge_channels(
    name: str, channels: Sequence[ChannelResult], whole: Sequence[Finding], error: DeviceError | None
) -> Judged:
    """Of a recorder: all its planned channels."""
    if error is not None:
        return not_known(Layer.RECORDING, str(error))
    if whole:
        item = whole[0]
        causes = [(item.title, f"{item.code}: {item.measured}")]
        return breaks(Layer.RECORDING, "DGN-47", Blame.RECORDER, item.measured, item.measured, causes, item.advice)
    good = sum(bool(c.records) for c in channels)
    seen = f"{good} of {quantities.count(len(channels), 'planned channel')} record"
    wrong = [c for c in channels if c.records is False]
    if wrong:
        states = "; ".join(f"channel {c.channel} {c.camera}: {c.state}" for c in wrong[:3])
        names = quantities.listed([c.camera for c in wrong], 4)
        causes = [
            (
                "the recorder itself"
                if len(wrong) == len(channels)
                else "those cameras, or what the recorder has of them",
                states,
            )
        ]
        return breaks(
            Layer.RECORDING, "DGN-53", Blame.RECORDER, f"{len(wrong)} of {len(channels)} planned channels do not record",
            f"{seen}; {states}", causes, f"`zentrale diagnose` of them: {names}",
        )  # fmt: skip
    return holds(Layer.RECORDING, seen) if channels else not_known(Layer.RECORDING, "no channel of it was looked at")
