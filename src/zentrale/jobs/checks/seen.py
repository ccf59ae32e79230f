"""What the checks have seen: of a camera that was entered or was not, of a stream, a stranger's attempt, a channel."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from datetime import datetime
from enum import Enum

from zentrale.errors import Cause
from zentrale.field.pull_point import PullPoint
from zentrale.field.rtsp_player import Access, AccessResult
from zentrale.field.visit import Visit
from zentrale.findings import Finding, Severity, Verdict, severity_of, verdict_of
from zentrale.jobs.passwords.trying import Entry
from zentrale.protocols.doors import Door
from zentrale.protocols.stream_address import StreamAddress
from zentrale.protocols.streams.meter import StreamMeasurement
from zentrale.quantities import timestamp
from zentrale.site.model import Camera
from zentrale.subjects import Kind, Ref


@dataclass(frozen=True)
class Target:
    """A camera that was got into: its streams by name, those whose address could not be used with the reason, how to ask
    for them, and its ONVIF address (empty where it has none). `named`: other hosts in what it told; `clock_offset_s` how
    far its clock is ahead, None where it tells none.
    """

    camera: Camera
    url: str
    visit: Visit
    streams: Mapping[str, StreamAddress]
    failed: Mapping[str, str] = field(default_factory=dict)
    named: tuple[str, ...] = ()
    clock_offset_s: float | None = None
    entry: Entry | None = None


@dataclass(frozen=True)
class Listening:
    """A pull point at a camera, which holds what it tells of motion since `since`."""

    camera: Camera
    point: PullPoint
    since: datetime


@dataclass(frozen=True)
class Unresolved:
    """A camera whose streams cannot be asked for. `entry` where it was asked and did not let us in; `code` of the finding
    that says so otherwise. `observed`: by this run, not by an earlier discovery.
    """

    camera: Camera
    reason: str
    code: str
    entry: Entry | None = None
    observed: bool = False
    report: str = ""


@dataclass(frozen=True)
class StreamResult:
    """One stream. `measured` is None where it did not play, or was not asked for: `error` says why. A bare address has no
    `camera`. picture_file: name and SHA-256 of its picture, where that was written; looked_at: a picture was judged;
    cause: why it did not play, where it was asked; compared: with its reference picture; not_judged: what the plan says of it
    and this measurement cannot, each with the reason
    """

    camera: str
    stream: str
    url: str
    measured: StreamMeasurement | None
    error: str
    findings: tuple[Finding, ...]
    picture: bytes | None = None
    picture_file: tuple[str, str] | None = None
    looked_at: bool = False
    compared: bool = False
    cause: Cause | None = None
    not_judged: Mapping[str, str] = field(default_factory=dict)

    @property
    def verdict(self) -> Verdict:
        if self.measured is None:
            return Verdict.OTHERWISE if self.cause not in (None, Cause.NO_ANSWER) else Verdict.NOT_REACHED
        return verdict_of(self.findings, not_judged=bool(self.not_judged))

    @property
    def severity(self) -> Severity | None:
        """Of what is otherwise than planned."""
        return severity_of(self.findings) if self.verdict is Verdict.OTHERWISE else None

    @property
    def unjudged(self) -> tuple[str, ...]:
        """What was not judged, each with its reason in brackets."""
        return tuple(f"{aspect} ({why})" for aspect, why in self.not_judged.items())

    @property
    def ref(self) -> Ref:
        return Ref(Kind.CAMERA, self.camera, f"{self.stream} stream")


class Attempt(Enum):
    """With what a stranger tries."""

    NO_PASSWORD = "no password"
    DEFAULT_PASSWORD = "default password"


@dataclass(frozen=True)
class AccessCheck:
    """One stranger's attempt: on which door, with what (`attempt` says it in words), and what came of it."""

    camera: str
    door: Door
    kind: Attempt
    attempt: str
    result: AccessResult

    @property
    def ref(self) -> Ref:
        return Ref(Kind.CAMERA, self.camera, f"{self.door.value} {self.attempt}")

    @property
    def in_words(self) -> str:
        """The outcome in words: what plays at one door, opens at the other."""
        opens = self.door is Door.ONVIF and self.result.access is Access.PLAYS
        return "opens" if opens else self.result.access.value

    @property
    def verdict(self) -> Verdict:
        """A stranger is to be refused; an attempt that was not made, or has no clear outcome, says nothing."""
        access = self.result.access
        if access is Access.UNCLEAR or access is Access.NOT_ASKED:
            return Verdict.NOT_JUDGED
        return Verdict.AS_PLANNED if access is Access.REFUSED else Verdict.OTHERWISE

    def document(self) -> dict[str, object]:
        return {
            "camera": self.camera, "door": self.door.value, "attempt": self.attempt, "outcome": self.result.access.value,
            "verdict": self.verdict.value, "detail": self.result.detail,
            "again_at": timestamp(self.result.again) if self.result.again else None,
        }  # fmt: skip


def outcome_told(content: Mapping[str, object]) -> object:
    """The outcome in an observation of an attempt; older logbooks call it result."""
    return content.get("outcome", content.get("result"))


@dataclass(frozen=True)
class ChannelResult:
    """One planned channel. `stored_from` and `stored_until` are the recorder's times of the first and the last
    picture it holds; `records` None where the
    recorder could not be asked, or nothing could be seen of it: then `waits`. judged: the codes
    that what was seen decides.
    """

    recorder: str
    channel: int
    camera: str
    state: str
    stored_until: datetime | None
    findings: tuple[Finding, ...] = ()
    records: bool | None = None
    waits: bool = False
    stored_from: datetime | None = None
    judged: frozenset[str] = frozenset({"REC-1", "REC-2"})

    @property
    def ref(self) -> Ref:
        return Ref(Kind.RECORDER, self.recorder, f"channel {self.channel}")

    @property
    def verdict(self) -> Verdict:
        if self.records is None:
            return Verdict.NOT_JUDGED if self.waits else Verdict.NOT_REACHED
        return Verdict.AS_PLANNED if self.records and not self.findings else Verdict.OTHERWISE

    def document(self) -> dict[str, object]:
        return {
            "recorder": self.recorder, "channel": self.channel, "camera": self.camera, "state": self.state,
            "verdict": self.verdict.value,
            "stored_from": timestamp(self.stored_from) if self.stored_from else None,
            "stored_until": timestamp(self.stored_until) if self.stored_until else None, "records": self.records,
        }  # fmt: skip
