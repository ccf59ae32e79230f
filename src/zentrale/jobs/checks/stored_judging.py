"""What was played back of a channel's last seconds, against the live stream and the plan: pure."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from datetime import UTC, datetime
from itertools import pairwise

from zentrale import quantities
from zentrale.findings import Finding, finding
from zentrale.site.model import Camera, Policy, StreamPlan
from zentrale.subjects import Kind, Ref

CODES = frozenset({"REC-21", "REC-22", "REC-23", "REC-24"})
_HOLE_S, _HOLE_PICTURES = 2.0, 5  # neither shorter nor fewer is a hole
_ANOTHER_TIME_S = 60.0  # from what was asked for
_ENDS_S = 3.0  # the last group of pictures may still be written
_ENOUGH_S = 3.0  # to tell a rate
_TOLERANCE_PX = 16  # H.264 codes whole macroblocks
_KEY_TOLERANCE_S = 0.5


@dataclass(frozen=True)
class Played:
    """What came of one channel.

    times, keys: of the pictures, and of the key pictures among them [s since 1970], by the recorder's clock, in order
    asked, until: from when to when it was asked for; now: when that was, by the recorder's clock
    size:        width and height [px], zeros where not known
    error:       why nothing was played
    unplayed:    why it was not tried, or could not be: nothing is judged then
    alike, said: whether it is the same scene as the camera's own picture, None where that was not compared; how far
    """

    camera: str
    recorder: str
    channel: int
    asked: datetime
    until: datetime
    now: datetime
    codec: str = ""
    size: tuple[int, int] = (0, 0)
    times: tuple[float, ...] = ()
    keys: tuple[float, ...] = ()
    lost: int = 0
    error: str = ""
    unplayed: str = ""
    alike: bool | None = None
    said: str = ""

    @property
    def ref(self) -> Ref:
        return Ref(Kind.RECORDER, self.recorder, f"channel {self.channel}")

    @property
    def seconds(self) -> float:
        return self.times[-1] - self.times[0] if self.times else 0.0

    @property
    def fps(self) -> float | None:
        """Where one picture follows the other: pauses do not count."""
        steps = sorted(b - a for a, b in pairwise(self.times))
        follow = [s for s in steps if s <= _HOLE_PICTURES * steps[len(steps) // 2]]
        return len(follow) / sum(follow) if sum(follow) >= _ENOUGH_S else None

    @property
    def key_interval_s(self) -> float | None:
        """By how many pictures are between them: some recorders stamp when a picture came, and not when it was taken."""
        at = {time: number for number, time in enumerate(self.times)}
        most = max((at[b] - at[a] for a, b in pairwise(self.keys) if a in at and b in at), default=None)
        return None if most is None or not self.fps else most / self.fps

    @property
    def holes(self) -> list[tuple[float, float]]:
        return self.holes_over(_HOLE_S)

    def holes_over(self, least_s: float) -> list[tuple[float, float]]:
        usual = sorted(b - a for a, b in pairwise(self.times))
        longest = max(least_s, _HOLE_PICTURES * usual[len(usual) // 2]) if usual else least_s
        return [(a, b) for a, b in pairwise(self.times) if b - a > longest]

    @property
    def newest(self) -> datetime | None:
        return datetime.fromtimestamp(self.times[-1], UTC) if self.times else None

    def document(self) -> dict[str, object]:
        return {
            "recorder": self.recorder, "channel": self.channel, "camera": self.camera, "codec": self.codec or None,
            "width_px": self.size[0] or None, "height_px": self.size[1] or None, "pictures": len(self.times),
            "seconds": round(self.seconds, 2), "fps": None if self.fps is None else round(self.fps, 2),
            "key_interval_s": None if self.key_interval_s is None else round(self.key_interval_s, 2),
            "holes": len(self.holes), "lost": self.lost,
            "newest": None if self.newest is None else quantities.timestamp(self.newest),
            "delay_s": None if self.newest is None else round((self.now - self.newest).total_seconds(), 1),
            "same_scene": self.alike, "error": self.error or None, "not_judged": self.unplayed or None,
        }  # fmt: skip


@dataclass(frozen=True)
class Live:
    """What the camera sends now, as it was measured; None and empty where it was not. another_size: it was told already that
    another size is stored; late: this machine did not follow, so that a stand-in on it did not either: no rate is judged;
    pauses: it is to record when something happens, so that nothing is a hole
    """

    size: tuple[int, int] | None = None
    sub_size: tuple[int, int] | None = None
    codec: str = ""
    fps: float | None = None
    another_size: bool = False
    late: bool = False
    pauses: bool = False


@dataclass(frozen=True)
class Verdicts:
    findings: tuple[Finding, ...] = ()
    judged: frozenset[str] = field(default_factory=frozenset)


def judge(camera: Camera, planned: StreamPlan, played: Played, live: Live, policy: Policy) -> Verdicts:
    ref = played.ref
    if played.unplayed:
        return Verdicts()
    if played.error or not played.times:
        what = played.error or "nothing is played of what it says that it has stored"
        item = finding("REC-22", ref, f"{camera.name}: {what}", "the last seconds, played", camera.where)
        return Verdicts((item,), frozenset({"REC-22"}))
    found: list[Finding] = []
    judged = {"REC-22", "REC-24", "REC-23"}
    off_s = played.times[0] - played.asked.timestamp()
    if abs(off_s) > _ANOTHER_TIME_S:
        at = quantities.moment(datetime.fromtimestamp(played.times[0], UTC))
        text = f"{camera.name}: asked for {quantities.moment(played.asked)}, it plays what calls itself {at}"
        found.append(finding("REC-24", ref, text, "the moment asked for", "its absolute times"))
        return Verdicts(tuple(found), frozenset(judged))
    wrong = list(_otherwise(planned, played, live, policy))
    if wrong:
        texts, limits = ("; ".join(pair[n] for pair in wrong) for n in (0, 1))
        found.append(finding("REC-23", ref, f"{camera.name}: {texts}", limits, "stored against live and plan"))
    if played.alike is not None:
        judged.add("REC-21")
        if not played.alike:
            text = f"{camera.name}: {played.said}"
            found.append(
                finding("REC-21", ref, text, f"the picture of {camera.name}", "stored against its own picture")
            )
    return Verdicts(tuple(found), frozenset(judged))


def _otherwise(planned: StreamPlan, played: Played, live: Live, policy: Policy) -> Iterator[tuple[str, str]]:
    """Found and expected."""
    codec = live.codec or planned.codec
    if played.codec != codec:
        yield f"stored as {played.codec or 'an unknown codec'}", codec
    size = live.size or tuple(planned.resolution)
    if all(played.size) and not _alike(played.size, size):
        sub = live.sub_size is not None and _alike(played.size, live.sub_size)
        what = "its sub stream is stored, " if sub else "stored as "
        if not live.another_size:
            yield f"{what}{quantities.resolution(*played.size)}", quantities.resolution(*size)
        return  # another stream: the rest follows from it
    if not live.late:
        yield from _other_rates(planned, played, live, policy)


def _other_rates(planned: StreamPlan, played: Played, live: Live, policy: Policy) -> Iterator[tuple[str, str]]:
    # Most stamp when a picture came.
    holes = [] if live.pauses else played.holes_over(max(_HOLE_S, policy.jitter_ms / 1000))
    missing_s = played.until.timestamp() - played.times[-1]
    if missing_s > _ENDS_S:
        yield (
            f"it ends {missing_s:.0f} s before what it tells as stored last",
            f"up to {quantities.moment(played.until)}",
        )
    fps = live.fps or planned.fps
    if played.fps is not None and not holes and not _near(played.fps, fps, policy.fps_tolerance_percent):
        yield f"{played.fps:.1f} pictures/s stored", f"{fps:.1f} pictures/s"
    longest = planned.longest_keyframe_interval_s + _KEY_TOLERANCE_S
    if planned.codec != "JPEG" and played.key_interval_s is not None and not holes and played.key_interval_s > longest:
        yield f"key pictures {played.key_interval_s:.1f} s apart", f"{planned.longest_keyframe_interval_s:g} s"
    if holes:
        gap = max(holes, key=lambda h: h[1] - h[0])
        yield (
            f"{quantities.count(len(holes), 'hole')} in {played.seconds:.0f} s, the longest {gap[1] - gap[0]:.1f} s",
            "no holes",
        )
    elif played.lost:
        yield f"{quantities.count(played.lost, 'packet')} missing in what is stored", "all packets"


def _near(some: float, other: float, percent: float) -> bool:
    return abs(some - other) <= other * percent / 100 + 0.5


def _alike(one: Sequence[int], other: Sequence[int]) -> bool:
    return all(abs(a - b) < _TOLERANCE_PX for a, b in zip(sorted(one), sorted(other), strict=True))
