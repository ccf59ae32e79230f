"""What each planned channel keeps: its hours, its holes, and how much of what should have been recorded is there."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import UTC, datetime, timedelta
from zoneinfo import ZoneInfo

from zentrale import quantities
from zentrale.errors import NotFoundError
from zentrale.field.scheduler import Failure
from zentrale.findings import Finding, finding
from zentrale.jobs.known.entry_judged import judge_clock
from zentrale.jobs.known.spans import Span, common, joined, total, wanted, within, without
from zentrale.jobs.passwords.keyring import Keyring
from zentrale.jobs.recorders.history import NOT_TOLD, History
from zentrale.jobs.recorders.recorder_registry import driver_of
from zentrale.jobs.recordings.asking import Entered, each_recorder
from zentrale.logbook.evidence import Judged, Notes, latest, note
from zentrale.logbook.store import Logbook
from zentrale.output.hours import HoursOfChannel
from zentrale.site.model import Camera, Plan, Recorder
from zentrale.subjects import Kind, Ref

COMMAND = "recordings"
KIND = "recordings"  # of its observations
CODES = frozenset({"REC-18", "REC-19", "REC-20"})
BUDGET_S = 600.0  # for one recorder that has to be wound
_LEAST_GAP_S = 2.0  # less is how recorders cut their files
_STANDS_S = 120.0  # what is stored may end so long before now
_FINEST = 4000  # spans of a channel in the logbook: nobody could tell more apart in a figure
_TOLERANCE_DAYS = 0.1

Progress = Callable[[int, str], None]


@dataclass(frozen=True)
class Gap:
    """Where nothing is kept though something was to be recorded; by the recorder's clock."""

    start: datetime
    end: datetime

    @property
    def seconds(self) -> float:
        return (self.end - self.start).total_seconds()


@dataclass(frozen=True)
class ChannelKept:
    """One planned channel. Times are the recorder's own.

    share:     of what should have been recorded from the oldest hour on, None where that is not known
    gaps:      the longest first
    sub_share: of what is kept how much has the sub stream beside it, None where none is kept apart
    wanted:    when something was to be recorded, None where that depends on what happened
    error:     why the recorder told nothing
    """

    recorder: str
    channel: int
    camera: str
    spans: tuple[Span, ...] = ()
    wanted: tuple[Span, ...] | None = None
    share: float | None = None
    gaps: tuple[Gap, ...] = ()
    sub_share: float | None = None
    searched: str = NOT_TOLD
    step_s: float = 1.0
    problem: str = ""
    error: str = ""
    asked_at: datetime = field(default_factory=lambda: datetime.now(UTC))  # by the recorder's clock

    @property
    def oldest(self) -> datetime | None:
        return _moment(self.spans[0][0]) if self.spans else None

    @property
    def newest(self) -> datetime | None:
        return _moment(self.spans[-1][1]) if self.spans else None

    @property
    def days(self) -> float | None:
        """From the oldest picture until now."""
        return (self.asked_at.timestamp() - self.spans[0][0]) / 86400 if self.spans else None

    @property
    def ref(self) -> Ref:
        return Ref(Kind.RECORDER, self.recorder, f"channel {self.channel}")

    def document(self) -> dict[str, object]:
        return {
            "recorder": self.recorder, "channel": self.channel, "camera": self.camera,
            "oldest": _told(self.oldest), "newest": _told(self.newest),
            "days": None if self.days is None else round(self.days, 2),
            "share": None if self.share is None else round(self.share, 4),
            "gaps": [{"from": _told(g.start), "to": _told(g.end), "seconds": round(g.seconds, 1)} for g in self.gaps],
            "sub_share": None if self.sub_share is None else round(self.sub_share, 4),
            "searched": self.searched, "step_s": self.step_s, "problem": self.problem or None, "error": self.error or None,
        }  # fmt: skip


@dataclass(frozen=True)
class RecordingList:
    """`offsets_s`: how far each recorder's clock is ahead, where it told its time."""

    channels: tuple[ChannelKept, ...]
    judged: tuple[Judged, ...]
    offsets_s: Mapping[str, float]

    @property
    def findings(self) -> tuple[Finding, ...]:
        return tuple(f for j in self.judged for f in j.findings)


async def recordings_of(plan: Plan, keyring: Keyring, cameras: Sequence[Camera], progress: Progress) -> RecordingList:
    """Of the channels of these cameras; one line for each, whatever its recorder tells."""
    done = 0

    async def ask(entered: Entered) -> list[ChannelKept]:
        nonlocal done
        source = entered.source
        kept = await source.read([c.channel for c in entered.cameras])
        done += 1
        progress(done, entered.recorder.name)
        return [_as_planned(plan, c, kept.get(c.channel), source.now) for c in entered.cameras]

    rows: list[ChannelKept] = []
    judged: list[Judged] = []
    offsets: dict[str, float] = {}
    for told in await each_recorder(plan, keyring, cameras, ask, keyring.budget(BUDGET_S)):
        recorder, outcome = told.recorder, told.outcome
        ref = Ref(Kind.RECORDER, recorder.name)
        if isinstance(outcome, Failure):
            rows += [ChannelKept(recorder.name, c.channel, c.name, error=outcome.message) for c in told.cameras]
            judged.append(_not_asked(plan, recorder, outcome))
        else:
            rows += outcome
            judged.append(Judged(ref, frozenset({"REC-3", "DIS-1"})))
        if told.ahead is not None:
            offsets[recorder.name] = told.ahead.total_seconds()
            judged.append(judge_clock(ref, offsets[recorder.name], plan.policy))
    begun = _registered(keyring)
    judged += [j for row in rows if not row.error for j in _judged(plan, row, begun.get(row.camera))]
    order = {c.name: n for n, c in enumerate(plan.cameras)}
    rows.sort(key=lambda r: (-sum(g.seconds for g in r.gaps), order[r.camera]))
    return RecordingList(tuple(rows), tuple(judged), offsets)


def keep(keyring: Keyring, run: int, listed: RecordingList) -> None:
    """Into the logbook: what was seen, and what that says."""
    notes = Notes(judged=list(listed.judged))
    for row in listed.channels:
        if not row.error:
            spans = joined(row.spans, (row.days or 0) * 86400 / _FINEST) if len(row.spans) > _FINEST else row.spans
            content = {**row.document(), "asked_at": quantities.timestamp(row.asked_at)}
            notes.observe(KIND, row.ref, row.searched, {**content, "spans": [[round(a), round(b)] for a, b in spans]})
    note(keyring.logbook, run, notes)


def _as_planned(plan: Plan, camera: Camera, kept: History | None, now: datetime) -> ChannelKept:
    if kept is None:
        text = f"it has no channel {camera.channel}"
        return ChannelKept(camera.recorder, camera.channel, camera.name, problem=text, asked_at=now)
    spans, until = kept.main, (kept.known_until or now).timestamp()
    row = ChannelKept(
        camera.recorder, camera.channel, camera.name, spans, searched=kept.searched, step_s=kept.step_s, problem=kept.problem,
        asked_at=now,
    )  # fmt: skip
    if not spans:
        return row
    due = wanted(plan.recording(camera), ZoneInfo(plan.site.timezone), spans[0][0], until)
    known = kept.searched != NOT_TOLD
    share, gaps = None, []
    if due is not None and known and total(due):
        share = total(common(due, spans)) / total(due)
        missing = without(due, spans)
        if missing and missing[-1][1] >= until and missing[-1][1] - missing[-1][0] < _STANDS_S:
            missing = missing[:-1]  # it is being written
        gaps = [Gap(_moment(a), _moment(b)) for a, b in missing if b - a >= _LEAST_GAP_S]
        share = None if kept.known_until is not None else share if gaps else 1.0
    sub_share = None
    if kept.sub is not None and total(spans):
        sub_share = total(common(spans, kept.sub)) / total(spans)
    return ChannelKept(
        camera.recorder, camera.channel, camera.name, spans, None if due is None else tuple(due), share,
        tuple(sorted(gaps, key=lambda g: -g.seconds)), sub_share, kept.searched, kept.step_s, kept.problem, asked_at=now,
    )  # fmt: skip


def _judged(plan: Plan, row: ChannelKept, begun: datetime | None) -> Iterator[Judged]:
    """What is known of it, against the plan; begun: when the camera came onto a channel first."""
    camera = plan.camera(row.camera)
    rules = plan.recording(camera)
    codes, found = set(), []
    if row.share is not None or row.gaps:  # a hole that was seen is one, even where the rest is not known
        codes.add("REC-18")
        if row.gaps:
            longest = row.gaps[0]
            what = f"{camera.name}: {quantities.count(len(row.gaps), 'hole')}, the longest {in_words(longest)}"
            found.append(finding("REC-18", row.ref, what, "all that is to be recorded", camera.where))
    if row.days is not None and begun is not None:
        since = (row.asked_at - begun) / timedelta(days=1)
        if since >= rules.keep_days:
            codes.add("REC-19")
            if row.days < rules.keep_days - _TOLERANCE_DAYS:
                what = f"{camera.name}: {row.days:.1f} days, from {moment(row.oldest)}"
                found.append(finding("REC-19", row.ref, what, f"{rules.keep_days:g} days", camera.where))
    if row.days is not None and rules.max_days is not None:
        codes.add("REC-20")
        if row.days > rules.max_days + _TOLERANCE_DAYS:
            what = f"{camera.name}: {row.days:.1f} days, from {moment(row.oldest)}"
            found.append(finding("REC-20", row.ref, what, f"at most {rules.max_days:g} days", camera.where))
    if codes:
        yield Judged(row.ref, frozenset(codes), tuple(found))


def in_words(gap: Gap) -> str:
    return f"{quantities.seconds(gap.seconds)} from {moment(gap.start)}"


def moment(at: datetime | None) -> str:
    return "nothing" if at is None else quantities.moment(at)


def in_day(row: ChannelKept, start: float, end: float) -> tuple[list[Span], list[Span] | None]:
    """What is kept, and what was to be, between two moments."""
    return within(row.spans, start, end), None if row.wanted is None else within(row.wanted, start, end)


def hours_of(plan: Plan, row: ChannelKept) -> HoursOfChannel:
    """As it is drawn."""
    label = f"{plan.camera(row.camera).called}\n{row.recorder} {row.channel}"
    gaps = [(g.start.timestamp(), g.end.timestamp()) for g in row.gaps]
    motion = plan.recording(plan.camera(row.camera)).mode == "motion"
    return HoursOfChannel(label, row.spans, gaps, motion, row.wanted or ())


def hours_seen(plan: Plan, logbook: Logbook) -> tuple[list[HoursOfChannel], float]:
    """Of each planned channel as it was asked for last, for a figure; and when the last of them was [s since 1970]."""
    seen = {(str(o.content.get("camera")), o.ref): o for o in latest(logbook, KIND).values()}
    rows, asked = [], 0.0
    for camera in plan.cameras:
        told = seen.get((camera.name, Ref(Kind.RECORDER, camera.recorder, f"channel {camera.channel}")))
        if told is None:
            continue
        gaps = [
            (datetime.fromisoformat(g["from"]).timestamp(), datetime.fromisoformat(g["to"]).timestamp())
            for g in told.content["gaps"]
        ]
        spans = [(float(a), float(b)) for a, b in told.content["spans"]]
        rules, until = plan.recording(camera), datetime.fromisoformat(told.content["asked_at"]).timestamp()
        due = wanted(rules, ZoneInfo(plan.site.timezone), spans[0][0], until) if spans else None
        label = f"{camera.called}\n{camera.recorder} {camera.channel}"
        rows.append(HoursOfChannel(label, spans, gaps, rules.mode == "motion", due or ()))
        asked = max(asked, until)
    return rows, asked


def _not_asked(plan: Plan, recorder: Recorder, failure: Failure[Recorder]) -> Judged:
    ref, source = Ref(Kind.RECORDER, recorder.name), f"site.toml recorder {recorder.name}"
    code = "REC-5" if not driver_of(plan, recorder).has_service else "REC-3"
    if isinstance(failure.error, NotFoundError):
        code = "DIS-1"
    item = finding(code, ref, failure.message, "an answer", source)
    return Judged(ref, frozenset({code}), (item,))


def _registered(keyring: Keyring) -> dict[str, datetime]:
    """When each camera was given a channel first."""
    found: dict[str, datetime] = {}
    for change in keyring.logbook.changes(step="channel"):
        found.setdefault(change.ref.name, change.at)
    return found


def _moment(seconds: float) -> datetime:
    return datetime.fromtimestamp(seconds, UTC)


def _told(at: datetime | None) -> str | None:
    return None if at is None else quantities.timestamp(at)
