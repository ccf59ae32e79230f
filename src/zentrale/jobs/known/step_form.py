"""What a step is: a state of a device that the plan wants, how to look at it, to make it so, and to take it back.

Running a step twice changes nothing twice: what is there is looked at first, and read back afterwards.
"""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Mapping, Sequence
from dataclasses import asdict, dataclass, field, fields
from enum import Enum
from typing import Any, Generic, TypeVar, get_args, get_origin

from zentrale.field.device import Device
from zentrale.findings import Finding, finding
from zentrale.site.identity import Identity
from zentrale.subjects import Ref

S = TypeVar("S")


class Outcome(Enum):
    UNCHANGED = "unchanged"
    CHANGED = "changed"
    WOULD_CHANGE = "would change"
    FAILED = "failed"
    NOT_OFFERED = "not offered"
    NOT_TRIED = "not tried"


class Step(ABC, Generic[S]):
    """One thing that is set on a device. `S` is its state: a frozen dataclass of plain values without secrets.

    enters:  it gets into the device; where that failed nothing else is tried on it. What needs nobody's leave goes before it
    identity, noticed: of one that enters: who the device turned out to be, and what else is to be told of it
    needs:   steps without which this one cannot be done; it is not tried where one of them failed
    settles: codes of findings about the device that are well when this step came out well; settles_changed: those that
             are well only where it was changed
    stays:   why it cannot be taken back; empty where it can
    settle_s: how long a device may answer OK and hold the old value; None: the runner's own
    gone_s: how long it may be gone after the change; None: the runner's own
    place:   where a person finds it in the device's own page, in words
    at_recorder: what it sets is the recorder's, of the camera's channel: what is left of it stands on the recorder's sheet
    of_a_lens: each lens of a device has it for itself; else it is the device's own
    last:    after it the device may be gone from where it was, so all its lenses are done before
    """

    name: str
    enters: bool = False
    identity: Identity = Identity()
    noticed: Sequence[Finding] = ()
    needs: tuple[str, ...] = ()
    settles: tuple[str, ...] = ()
    settles_changed: tuple[str, ...] = ()
    stays: str = ""
    place: str = ""
    settle_s: float | None = None
    gone_s: float | None = None
    at_recorder: bool = False
    of_a_lens: bool = False
    last: bool = False
    _state: type[S]

    def __init_subclass__(cls) -> None:
        """What stands in the brackets of its base is the kind of its state."""
        super().__init_subclass__()
        for base in getattr(cls, "__orig_bases__", ()):
            if get_origin(base) is Step:
                (cls._state,) = get_args(base)

    def __init__(self, client: Device) -> None:
        self.client = client

    def aim(self) -> str:
        """What the plan wants, in words: for a person who has to set it by hand. Empty where only `wanted` tells."""
        return ""

    @abstractmethod
    async def look(self) -> S:
        """What the device holds now. Raises DeviceError."""

    @abstractmethod
    def wanted(self, now: S) -> S:
        """What it should hold: all of `now` but for the planned values. Raises DeviceError where that cannot be."""

    @abstractmethod
    async def apply(self, now: S, wanted: S) -> None:
        """Ask the device for `wanted`. What it says to that is not believed: it is read back."""

    @abstractmethod
    def shown(self, state: S) -> str:
        """The state in words."""

    def holds(self, now: S, wanted: S) -> bool:
        return now == wanted

    def near(self, now: S, wanted: S) -> bool:
        """Whether `now` is what a device made of `wanted` by rounding, within the plan's own tolerance."""
        return False

    async def read_back(self, wanted: S) -> S:
        """What the device holds after it was asked for `wanted`."""
        return await self.look()

    def facts(self) -> Mapping[str, object]:
        """What else a program should know of what was looked at, by stable keys."""
        return {}

    def remark(self) -> str:
        """What a person should know beside before and after; empty where nothing."""
        return ""

    def note(self, state: S) -> None:
        """What is to be written down here where the device holds what is wanted; not in a dry run."""

    def untouched(self, now: S, left: S) -> bool:
        """Whether the device still holds what an earlier run has left: only then is its change taken back."""
        return self.holds(now, left)

    def back(self, now: S, before: S) -> S:
        """What it should hold after the change was taken back."""
        return before

    def document(self, state: S) -> dict[str, Any]:
        """The state for the journal: plain values, no secrets."""
        return asdict(state)  # type: ignore[call-overload, no-any-return]

    def load(self, document: Mapping[str, Any]) -> S:
        """The state that `document` was made of. Raises TypeError where it is none."""
        return loaded(self._state, document)


T = TypeVar("T")


def loaded(kind: type[T], document: Mapping[str, Any]) -> T:
    """A dataclass from a journal's entry: lists are tuples there, and what is not known is left out."""
    names = {f.name for f in fields(kind)}  # type: ignore[arg-type]
    values = {k: tuple(v) if isinstance(v, list) else v for k, v in document.items() if k in names}
    return kind(**values)


@dataclass(frozen=True)
class StepResult:
    """`note` says what is worth knowing of a step that came out well; `before_values` and `after_values` are the step's
    own values, empty where it was not looked at.
    """

    step: str
    outcome: Outcome
    before: str = ""
    after: str = ""
    error: str = ""
    note: str = ""
    before_values: Mapping[str, Any] | None = None
    after_values: Mapping[str, Any] | None = None
    settles: tuple[str, ...] = ()
    lacks: str = ""  # the step that failed, for want of which this one was not tried
    place: str = ""  # where a person finds it in the device's own page
    facts: Mapping[str, object] = field(default_factory=dict)  # further keys of its document
    defect: bool = False  # it failed by a defect of ours
    at_recorder: bool = False  # it sets what is the recorder's


@dataclass(frozen=True)
class DeviceResult:
    """All steps of one device, in order. `noticed` are findings that no step failed for."""

    ref: Ref
    steps: tuple[StepResult, ...]
    report: str = ""  # of a defect of ours, for whoever mends it
    noticed: tuple[Finding, ...] = ()

    @property
    def subject(self) -> str:
        return str(self.ref)

    @property
    def failed(self) -> bool:
        return any(s.outcome is Outcome.FAILED for s in self.steps)

    def findings(self) -> list[Finding]:
        """One for each step that failed, what is not offered, and what was told; not one for each that was not tried."""
        return [f for s in self.steps if (f := self.finding_of(s)) is not None] + list(self.about_it())

    def about_it(self) -> tuple[Finding, ...]:
        """Those about the device as a whole; what its recorder does not offer is told of that."""
        open_ = [s for s in self.steps if s.outcome is Outcome.NOT_OFFERED and not s.at_recorder]
        left = [f"{s.step}: {s.after}" if s.after else s.step for s in open_]
        if not left:
            return self.noticed
        return (*self.noticed, finding("REG-3", self.ref, "; ".join(left), "as planned", "the plan"))

    def finding_of(self, step: StepResult) -> Finding | None:
        if step.outcome is not Outcome.FAILED:
            return None
        code = "ERR-1" if step.defect else "REG-1"
        left = [s.step for s in self.steps if s.lacks == step.step]
        so = f"; so not tried: {', '.join(left)}" if left else ""
        ref = Ref(self.ref.kind, self.ref.name, f"step {step.step}")
        return finding(code, ref, f"{step.error}{so}", step.after or "as planned", "the plan")
