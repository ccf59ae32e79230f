"""One planned channel against what its recorder told of it, before the streams were measured and after: pure.

Whether something had to be stored between the two looks depends on the rule that the recorder holds: always, within its hours, or
while something moves in front of the camera. What could not be seen is not judged.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field, replace
from datetime import datetime, timedelta
from enum import Enum

from zentrale import quantities
from zentrale.findings import Finding, finding
from zentrale.jobs.checks.seen import ChannelResult
from zentrale.jobs.recorders.channel_holds import BY_HOURS, BY_MOTION, RuleState, in_words, planned
from zentrale.jobs.recorders.driver import ChannelSample, PlannedChannel
from zentrale.protocols.onvif import recording_jobs, search
from zentrale.site.model import Camera
from zentrale.site.values import timetable_minutes

_LATE_S = 5.0  # a recorder writes what it takes in by the second or two
_SLOW_S = 10.0  # some write no sooner
_INDEX_S = 60.0  # what is found of the stored may be behind what is stored
_TOLERANCE_PX = 16  # H.264 codes whole macroblocks, which some tell uncut


@dataclass(frozen=True)
class Motion:
    """What a camera told of motion between two times, by our clock: when first something moved, None where nothing did."""

    since: datetime
    until: datetime
    began: datetime | None = None


@dataclass(frozen=True)
class Around:
    """What is known beside the recorder's own words.

    address, sub:  of the camera's streams, None where it told none
    sizes:         width and height [px] of its streams as they were measured, by name
    local:         time at the site at both looks
    asked_at:      when the recorder was looked at last, by our clock
    offset_s:      how far the recorder's clock is ahead of ours
    motion:        None where the camera was not listened to
    account:       as whom the plan wants recorders to watch, empty where it says nothing
    """

    address: str | None = None
    sub: str | None = None
    sizes: Mapping[str, tuple[int, int]] = field(default_factory=dict)
    local: tuple[datetime, datetime] | None = None
    asked_at: datetime | None = None
    offset_s: float = 0.0
    motion: Motion | None = None
    account: str = ""


class Due(Enum):
    """What had to be stored between the two looks."""

    ALL = "all of the time"
    NOTHING = "nothing"
    SOME = "not known"


def judge(
    camera: Camera, wanted: PlannedChannel, now: ChannelSample | None, was: ChannelSample | None, around: Around
) -> ChannelResult:
    """`records` is None where neither that it records nor that it does not was seen."""
    result = ChannelResult(camera.recorder, camera.channel, camera.name, "free", None, records=False)
    if now is None or now.state is None:
        measured = "the channel is free" if now else "there is no such channel"
        do = f"look at the cable and the light of port {camera.port} at {camera.behind}" if camera.behind else ""
        return replace(result, findings=(finding("REC-2", result.ref, measured, camera.name, camera.where, do),))
    result = replace(
        result, state=now.state.state, stored_until=now.stored.latest, stored_from=now.stored.earliest
    )  # fmt: skip
    if around.address is not None and now.url != around.address:
        measured = f"it takes in {now.url} ({now.name or 'unnamed'})"
        item = finding("REC-2", result.ref, measured, f"{around.address} ({camera.name})", camera.where)
        return replace(result, findings=(item,))
    result = _stored(camera, result, now, was, around)
    found = (*result.findings, *_otherwise(camera, result, wanted, now, around))
    return replace(result, findings=found, judged=_judged(result, now, around) | {f.code for f in found})


def _judged(result: ChannelResult, now: ChannelSample, around: Around) -> frozenset[str]:
    seen = {
        "REC-1": not result.waits, "REC-2": around.address is not None, "REC-11": now.rule is not None and now.tracks is not None,
        "REC-12": bool(now.videos) and "main" in around.sizes, "REC-13": True, "REC-14": bool(around.account and now.user),
    }  # fmt: skip
    return frozenset(code for code, decided in seen.items() if decided)


def _stored(
    camera: Camera, result: ChannelResult, now: ChannelSample, was: ChannelSample | None, around: Around
) -> ChannelResult:
    assert now.state is not None
    latest = now.stored.latest
    before = was.stored.latest if was is not None else None
    grows = was is None or latest is None or before is None or latest > before
    told = now.stored.status != search.NOT_TOLD  # else its job's word is all there is
    due = _due(now.rule, around.local)
    missed = _missed(now, around) if due is Due.SOME and told else ""
    active, error = now.state.state == recording_jobs.ACTIVE, now.state.error
    stands = told and not grows and latest is not None
    if stands and active and not error and due is Due.ALL and _is_recent(now, around):
        newest = quantities.moment(latest) if latest is not None else ""
        return _not_judged(camera, result, f"newest stored time {newest} did not move, and is less than a minute old")
    if now.state.state == recording_jobs.ERROR or error or missed or due is Due.ALL:
        if active and not error and not missed and not stands and not (told and latest is None):
            return replace(result, records=True)
        cause, do = (error, "") if error else (missed, _DEAF) if missed else _why(now, told=told, state=now.state.state)
        if camera.behind and not missed:
            do = f"look at the cable and the light of port {camera.port} at {camera.recorder}, and at its PoE"
        measured = f"{camera.name}: state {now.state.state}; {cause}"
        return replace(result, findings=(finding("REC-1", result.ref, measured, "recording", camera.where, do),))
    if told and latest is not None:
        return replace(result, records=True)
    waits = in_words(now.rule) if now.rule is not None else "by its rule"
    return _not_judged(
        camera, result, f"nothing is stored yet; it records {waits}" if told else "it tells not what it stores"
    )  # fmt: skip


def _is_recent(now: ChannelSample, around: Around) -> bool:
    """Whether what is stored may end where it does since the recorder writes its index by the minute."""
    if around.asked_at is None or now.stored.latest is None:
        return False
    age = around.asked_at + timedelta(seconds=around.offset_s) - now.stored.latest
    return timedelta(seconds=-_LATE_S) < age < timedelta(seconds=_INDEX_S)


def _not_judged(camera: Camera, result: ChannelResult, why: str) -> ChannelResult:
    item = finding("REC-13", result.ref, f"{camera.name}: {why}", "a recording seen", camera.where)
    return replace(result, records=None, waits=True, findings=(item,))


def _due(rule: RuleState | None, local: tuple[datetime, datetime] | None) -> Due:
    if rule is None:
        return Due.ALL
    if rule.topics:
        return Due.SOME
    if rule.mode != BY_HOURS:
        return Due.ALL
    try:
        minutes = {minute for entry in rule.hours for minute in timetable_minutes(entry)}
    except ValueError:
        return Due.SOME  # hours that are not each week alike
    if local is None:
        return Due.SOME
    within = {(at.weekday() * 24 + at.hour) * 60 + at.minute in minutes for at in local}
    return Due.SOME if len(within) > 1 else Due.ALL if within == {True} else Due.NOTHING


def _missed(now: ChannelSample, around: Around) -> str:
    """Where the camera told of motion long enough ago, and nothing was stored since."""
    motion = around.motion
    if motion is None or motion.began is None or now.rule is None or now.rule.mode != BY_MOTION:
        return ""
    latest = now.stored.latest
    stored_until = latest - timedelta(seconds=around.offset_s) if latest is not None else None
    soon = (motion.until - motion.began).total_seconds() < _SLOW_S
    if soon or (stored_until is not None and stored_until > motion.began):
        return ""
    return f"the camera told of motion at {quantities.at_site(motion.began):%H:%M:%S}, and nothing is stored of it"


def _why(now: ChannelSample, *, told: bool, state: str) -> tuple[str, str]:
    """What was seen where the recorder names no cause, and what to look at."""
    active = state == recording_jobs.ACTIVE
    if not told:
        return "the recorder does not tell why", "" if active else _IDLE
    if now.stored.latest is None:
        return ("it keeps nothing: nothing is stored", _KEEPS_NOTHING) if active else ("nothing is stored", _IDLE)
    newest = quantities.moment(now.stored.latest)
    if not active:
        return f"newest stored time {newest}", _IDLE
    return f"it keeps nothing: newest stored time stands since {newest}", _KEEPS_NOTHING


_KEEPS_NOTHING = (
    "look at the recorder's own screen: is a disk there, initialised, with room, and does it overwrite the oldest? is recording "
    "of this channel on?"
)
_IDLE = "look at this channel on the recorder's own screen: is recording on, is it licensed, does it see the camera?"
_DEAF = (
    "look whether the recorder hears this camera's events: its account, its own motion setting for the channel; then walk past "
    "the camera and run `zentrale verify` again"
)


def _otherwise(
    camera: Camera, result: ChannelResult, wanted: PlannedChannel, now: ChannelSample, around: Around
) -> Iterator[Finding]:
    wrong = [*_by_another_rule(camera, wanted, now, around), *_other_tracks(wanted, now)]
    if wrong:
        found, expected = ("; ".join(pair[n] for pair in wrong) for n in (0, 1))
        yield finding("REC-11", result.ref, found, expected, camera.where)
    if (other := _other_picture(now, around)) is not None:
        yield finding("REC-12", result.ref, f"{camera.name}: {other[0]}", other[1], "stored picture, live stream")
    if around.account and now.user and now.user != around.account:
        yield finding("REC-14", result.ref, f"{camera.name}: watched as {now.user}", around.account, "its own lists")


def _by_another_rule(
    camera: Camera, wanted: PlannedChannel, now: ChannelSample, around: Around
) -> Iterator[tuple[str, str]]:
    """Found and expected; how many seconds it keeps around an event, registration has told."""
    if now.rule is None:
        return
    rule = planned(camera.channel, wanted.rules)
    held = replace(now.rule.plain, number=rule.number, before_s=rule.before_s, after_s=rule.after_s)
    if held != rule:
        yield f"it records {in_words(now.rule)}", in_words(rule)
    elif always := _always(now, around):
        yield always, in_words(rule)


def _other_tracks(wanted: PlannedChannel, now: ChannelSample) -> Iterator[tuple[str, str]]:
    if now.tracks is None:
        return
    pairs = (
        ("sound", wanted.rules.sound, now.tracks.sound), ("the sub stream", wanted.rules.sub, bool(now.tracks.sub))
    )  # fmt: skip
    for what, want, has in pairs:
        if want is not None and want != has:
            yield f"it records {'with' if has else 'without'} {what}", f"{'with' if want else 'without'} it"


def _always(now: ChannelSample, around: Around) -> str:
    """Where it stores though nothing moved for longer than it keeps around a movement."""
    motion, latest = around.motion, now.stored.latest
    if motion is None or motion.began is not None or latest is None or now.rule is None or now.rule.mode != BY_MOTION:
        return ""
    stored_until = latest - timedelta(seconds=around.offset_s)
    longest = timedelta(seconds=now.rule.before_s + now.rule.after_s + 2 * _LATE_S)
    if stored_until - motion.since < longest:
        return ""
    seconds = (stored_until - motion.since).total_seconds()
    return f"it stores all of the time: for {seconds:.0f} s, in which the camera told of no motion"


def _other_picture(now: ChannelSample, around: Around) -> tuple[str, str] | None:
    """Stored and expected, where the stored picture is of another size than the camera's main stream."""
    main = around.sizes.get("main")
    sizes = [(v.width_px, v.height_px) for v in now.videos if v.width_px > 0 and v.height_px > 0]
    if main is None or not sizes or any(_alike(size, main) for size in sizes):
        return None
    stored, sub = sizes[0], around.sizes.get("sub")
    what = "its sub stream is stored" if sub is not None and _alike(stored, sub) else "another picture is stored"
    return f"{what}, {stored[0]}x{stored[1]}", f"{main[0]}x{main[1]}, its main stream"


def _alike(one: tuple[int, int], other: tuple[int, int]) -> bool:
    return all(abs(a - b) < _TOLERANCE_PX for a, b in zip(sorted(one), sorted(other), strict=True))
