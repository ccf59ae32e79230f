"""One step of a registration: look, compare, change, write it down. Running a step twice changes nothing twice."""

from __future__ import annotations

import logging
from collections.abc import Awaitable, Callable
from dataclasses import dataclass
from enum import Enum

from zentrale.errors import DeviceError
from zentrale.findings import Finding, finding
from zentrale.logbook.store import Logbook

log = logging.getLogger(__name__)


class Outcome(Enum):
    UNCHANGED = "unchanged"
    CHANGED = "changed"
    WOULD_CHANGE = "would change"
    FAILED = "failed"


@dataclass(frozen=True)
class Step:
    """What is and what should be, in words without secrets; `apply` makes it so. Equal words: nothing to do."""

    name: str
    before: str
    after: str
    apply: Callable[[], Awaitable[None]]


@dataclass(frozen=True)
class StepResult:
    step: str
    outcome: Outcome
    before: str = ""
    after: str = ""
    error: str = ""


@dataclass(frozen=True)
class DeviceResult:
    """All steps of one device, in order; the last one failed where any did."""

    subject: str
    steps: tuple[StepResult, ...]
    report: str = ""  # of a defect of ours, for whoever mends it

    @property
    def failed(self) -> bool:
        return any(s.outcome is Outcome.FAILED for s in self.steps)

    def findings(self) -> list[Finding]:
        return [
            finding("ERR-1" if self.report and s is self.steps[-1] else "REG-1",
                    self.subject, f"step {s.step}: {s.error}", s.after or "as planned", "the plan")
            for s in self.steps if s.outcome is Outcome.FAILED
        ]  # fmt: skip


class StepRunner:
    """Runs the steps of one device and journals each change before and after it is made.

    ready: called before each step begins; raises what ends the run, such as a passphrase that was changed
    """

    def __init__(
        self, logbook: Logbook, run: int, subject: str, ready: Callable[[], Awaitable[None]], *, dry_run: bool
    ) -> None:
        self.subject = subject
        self.dry_run = dry_run
        self._ready = ready
        self._logbook = logbook
        self._run = run
        self._results: list[StepResult] = []
        self._current = ""

    async def run(self, name: str, prepare: Callable[[], Awaitable[Step]]) -> bool:
        """Run one step. Returns false where it failed: later steps are then not to be tried."""
        await self._ready()
        self._current = name
        try:
            step = await prepare()
        except DeviceError as error:
            self._results.append(StepResult(name, Outcome.FAILED, error=str(error)))
            return False
        if step.before == step.after:
            self._results.append(StepResult(name, Outcome.UNCHANGED, step.before, step.after))
            return True
        if self.dry_run:
            self._results.append(StepResult(name, Outcome.WOULD_CHANGE, step.before, step.after))
            return True
        change = self._logbook.begin_change(self._run, self.subject, name, step.before, step.after)
        try:
            await step.apply()
        except DeviceError as error:
            self._logbook.end_change(change, str(error))
            self._results.append(StepResult(name, Outcome.FAILED, step.before, step.after, str(error)))
            return False
        except Exception as error:
            # Not this device's doing, or a defect of ours: the scheduler names it. The journal must not stay open.
            self._logbook.end_change(change, f"ended by {type(error).__name__}")
            raise
        self._logbook.end_change(change)
        self._results.append(StepResult(name, Outcome.CHANGED, step.before, step.after))
        return True

    @property
    def failed(self) -> bool:
        return any(s.outcome is Outcome.FAILED for s in self._results)

    def result(self) -> DeviceResult:
        return DeviceResult(self.subject, tuple(self._results))

    def ended_by(self, message: str, report: str = "") -> DeviceResult:
        """The result where something else than a step ended the work: the step under way failed."""
        last = StepResult(self._current or "begin", Outcome.FAILED, error=message)
        return DeviceResult(self.subject, (*self._results, last), report)
