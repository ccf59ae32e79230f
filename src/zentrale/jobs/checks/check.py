"""What a check is: something that is observed at one layer of a camera's way to the recorder, and judged by the plan.

`verify` runs them all. A check looks at all cameras of a round at once, since measuring together is part of what is measured.
"""

from __future__ import annotations

import asyncio
from abc import ABC, abstractmethod
from collections.abc import Collection, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any, TypeVar, cast

from zentrale.errors import DeviceError
from zentrale.field.visit import ANSWER_S
from zentrale.findings import Finding
from zentrale.jobs.checks.seen import AccessCheck, ChannelResult, Listening, StreamResult, Target, Unresolved
from zentrale.jobs.checks.stored_judging import Played
from zentrale.jobs.known.found_devices import FoundDevice
from zentrale.jobs.known.layer import Layer
from zentrale.jobs.passwords.keyring import Keyring
from zentrale.jobs.recorders.driver import Sample
from zentrale.jobs.streams.rtsp_only import PATIENCE_S
from zentrale.logbook.evidence import Judged, Notes, note
from zentrale.protocols.rtsp_client import Transport
from zentrale.site.model import Camera, Plan
from zentrale.subjects import Ref

T = TypeVar("T")
Samples = Mapping[str, Sample | DeviceError]


@dataclass(frozen=True)
class Request:
    """How long streams are measured, how packets travel (None: as planned, else TCP, or UDP where it must), where pictures go,
    what each answer may take, and how many of the seconds stored last are played of each channel. patience_s: how long a server
    that is gone is waited for; budget_s: for one stream in all, None is ample; played_of: only the channels of these are played
    """

    duration_s: float = 5.0
    transport: Transport | None = None
    pictures_folder: Path | None = None
    answer_s: float = ANSWER_S
    recorded_s: float = 10.0
    patience_s: float = PATIENCE_S
    budget_s: float | None = None
    played_of: Collection[str] | None = None


@dataclass
class Round:
    """One round over `cameras`: what the checks have found out so far, each for those after it. `behind` are those at recorders'
    own ports: nothing but their channels can be looked at.
    """

    plan: Plan
    cameras: Sequence[Camera]
    keyring: Keyring
    request: Request
    found: Mapping[str, FoundDevice]
    run: int
    behind: Sequence[Camera] = ()
    targets: list[Target] = field(default_factory=list)
    unresolved: list[Unresolved] = field(default_factory=list)
    streams: list[StreamResult] = field(default_factory=list)
    access: list[AccessCheck] = field(default_factory=list)
    samples: Samples = field(default_factory=dict)
    channels: tuple[ChannelResult, ...] = ()
    played: tuple[Played, ...] = ()
    listening: Sequence[Listening] = ()
    findings: list[Finding] = field(default_factory=list)
    reports: list[str] = field(default_factory=list)  # of defects of ours, for whoever mends them
    notes: Notes = field(default_factory=Notes)
    _kept: dict[tuple[str, type], object] = field(default_factory=dict)

    @property
    def on_channels(self) -> list[Camera]:
        """All whose channels are looked at."""
        return [*self.cameras, *self.behind]

    def keep(self, check: Check, value: object) -> None:
        """What a check has found out for itself, from one of its turns to the next: a check is one object for all rounds."""
        self._kept[check.name, type(value)] = value

    def kept(self, check: Check, none: T) -> T:
        """That again, by its type; `none` where it has not come to it."""
        return cast("T", self._kept.get((check.name, type(none)), none))

    def observe(self, kind: str, ref: Ref, method: str, content: Any) -> None:
        self.notes.observe(kind, ref, method, content)

    def say(self, judged: Judged) -> None:
        """A judgement for the logbook, and its findings for the person."""
        self.findings += judged.findings
        self.notes.judge(judged.ref, judged.codes, judged.findings)

    async def write(self) -> None:
        await asyncio.to_thread(note, self.keyring.logbook, self.run, self.notes)


@dataclass(frozen=True)
class Need:
    """What acceptance wants to be looked at: in words, where, and by which code of which subject it is known."""

    what: str
    where: str
    ref: Ref
    code: str


class Check(ABC):
    """`codes` are those that it can find; `doing` says to the person at the terminal what is waited for. `along`: it is part of a
    camera's way to the disk, so that a diagnosis looks by it, too.
    """

    along = False
    name: str
    layer: Layer
    codes: frozenset[str]
    doing: str

    async def prepare(self, round: Round) -> None:  # noqa: B027 - most have nothing to look at beforehand
        """What has to be looked at before any check begins."""

    @abstractmethod
    async def observe(self, round: Round) -> None:
        """Look; what was seen goes into the round, and into its observations."""

    @abstractmethod
    def judge(self, round: Round) -> Iterator[Judged]:
        """What that says, against the plan; nothing of what could not be seen."""

    def needs(self, plan: Plan, camera: Camera) -> Iterable[Need]:
        """What acceptance wants of this check for one camera."""
        return ()
