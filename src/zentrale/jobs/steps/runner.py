"""Runs the steps of one device: looks first, journals each change before it is made, and reads back what came of it."""

from __future__ import annotations

import asyncio
import logging
from collections.abc import Awaitable, Callable
from dataclasses import dataclass
from typing import Generic, TypeVar

from zentrale.errors import DeviceError, NotOfferedError, RefusedError, UnreachableError
from zentrale.findings import Finding
from zentrale.jobs.known.step_form import DeviceResult, Outcome, Step, StepResult
from zentrale.logbook.store import DONE, Logbook
from zentrale.subjects import Ref

log = logging.getLogger(__name__)
S = TypeVar("S")
# A device that restarts after a change (an encoder, an address) is back by then; cheap ones take more than a minute.
GONE_AFTER_STEP_S = 120.0
SETTLE_S = 3.0  # some answer OK first and take the value over a moment later
LOOK_AGAIN_S = 1.0
# What stands for a step where the work was ended before the first or between two.
BEGIN, WHAT_FOLLOWS = "begin", "what follows"


@dataclass(frozen=True)
class _Applied(Generic[S]):
    """What went wrong, empty where nothing did; and what the device holds now, None where it was not looked at."""

    wrong: str
    kept: S | None
    outcome: Outcome = Outcome.FAILED


class StepRunner:
    """The steps of one device, one after the other.

    ready: called with its name before each step begins; raises what ends the run, such as a passphrase that was changed
    """

    def __init__(
        self, logbook: Logbook, run: int, ref: Ref, ready: Callable[[str], Awaitable[None]], *, dry_run: bool
    ) -> None:
        self.ref = ref
        self.dry_run = dry_run
        self._ready = ready
        self._logbook = logbook
        self._run = run
        self._results: list[StepResult] = []
        self._noticed: list[Finding] = []
        self._current = ""
        self._entry = ""  # the step that gets into the device
        self._report = ""

    async def run(self, step: Step[S]) -> bool:
        """Run one step. Returns false where it failed, or could not be tried since one that it needs failed."""
        needed = {*step.needs, self._entry}
        missing = [r.lacks or r.step for r in self._results if r.step in needed and not _came_out_well(r)]
        if missing:
            self._results.append(
                StepResult(step.name, Outcome.NOT_TRIED, error=f"needs {missing[0]}, which failed", lacks=missing[0])
            )
            return False
        if step.enters:
            self._entry = step.name
        await self._ready(step.name)
        self._current = step.name
        try:
            now = await step.look()
            wanted = step.wanted(now)
        except NotOfferedError as error:
            self._add(step, Outcome.NOT_OFFERED, error=str(error))
            return False
        except DeviceError as error:
            self._add(step, Outcome.FAILED, error=str(error))
            return False
        asked_before = step.near(now, wanted) and self._asked_before(step, now, wanted)
        if step.holds(now, wanted) or asked_before:
            note = f"asked for {step.shown(wanted)}, rounded by the device" if asked_before else ""
            self._add(step, Outcome.UNCHANGED, now, now, note=note)
            if not self.dry_run:
                await asyncio.to_thread(step.note, now)
            return True
        if self.dry_run:
            self._add(step, Outcome.WOULD_CHANGE, now, wanted)
            return True
        return await self.change(step, now, wanted, step.apply)

    async def change(self, step: Step[S], now: S, wanted: S, apply: Callable[[S, S], Awaitable[None]]) -> bool:
        """Make the change, journal it, and read it back. Returns false where the device does not hold it."""
        before, after = step.shown(now), step.shown(wanted)
        change = await asyncio.to_thread(
            self._logbook.begin_change, self._run, self.ref, step.name, before, after,
            (step.document(now), step.document(wanted)),
        )  # fmt: skip
        try:
            applied = await self._applied(step, now, wanted, apply)
        except BaseException as error:
            # Not this device's doing, or a defect of ours: the scheduler names it. The journal must not stay open.
            self._logbook.end_change(change, f"ended by {type(error).__name__}")
            raise
        wrong, kept = applied.wrong, applied.kept
        shown = after if kept is None else step.shown(kept)
        rounded = kept is not None and not wrong and not step.holds(kept, wanted)
        document = (
            None if kept is None else {**step.document(kept), **({"asked": step.document(wanted)} if rounded else {})}
        )
        await asyncio.to_thread(self._logbook.end_change, change, wrong, shown, document)
        if wrong:
            self._add(step, applied.outcome, now, wanted, error=wrong)
            return False
        assert kept is not None
        note = f"asked for {after}, rounded by the device" if rounded else ""
        self._add(step, Outcome.CHANGED, now, kept, note=note)
        await asyncio.to_thread(step.note, kept)
        return True

    async def _applied(self, step: Step[S], now: S, wanted: S, apply: Callable[[S, S], Awaitable[None]]) -> _Applied[S]:
        unclear = ""
        try:
            await apply(now, wanted)
        except UnreachableError as error:
            unclear = f" (its answer to the change: {error})"  # it may have been done all the same: look
        except NotOfferedError as error:
            return _Applied(str(error), None, Outcome.NOT_OFFERED)
        except DeviceError as error:
            return _Applied(str(error), None)
        try:
            kept = await self._read_back(step, wanted)
        except DeviceError as error:
            return _Applied(f"{error}{unclear}", None)
        if step.holds(kept, wanted) or step.near(kept, wanted):
            return _Applied("", kept)
        said = "was asked" if unclear else "answered OK"
        return _Applied(f"it {said}, but keeps {step.shown(kept)}{unclear}", kept)

    async def _read_back(self, step: Step[S], wanted: S) -> S:
        """Look until the device holds what it was asked for, or has had its time. Raises DeviceError."""
        loop = asyncio.get_running_loop()
        gone_s = step.gone_s or GONE_AFTER_STEP_S
        gone_until, settled = loop.time() + gone_s, 0.0
        while True:
            try:
                kept = await step.read_back(wanted)
            except RefusedError:
                raise
            except DeviceError as error:
                if loop.time() > gone_until:
                    raise DeviceError(f"it did not come back within {gone_s:g} s after the change: {error}") from None
                log.debug("%s: waiting after %s: %s", self.ref, step.name, error)
            else:
                settled = settled or loop.time() + (step.settle_s or SETTLE_S)
                if step.holds(kept, wanted) or step.near(kept, wanted) or loop.time() > settled:
                    return kept
            await asyncio.sleep(LOOK_AGAIN_S)

    def _asked_before(self, step: Step[S], now: S, wanted: S) -> bool:
        """Whether this device was asked for just this once, and made of it just what it holds."""
        entries = [
            c for c in self._logbook.changes(of=self.ref, step=step.name) if c.step == step.name and c.state == DONE
        ]
        kept = dict(entries[-1].after_state or {}) if entries else {}
        return kept.pop("asked", None) == _plain(step, wanted) and kept == _plain(step, now)

    def _add(
        self, step: Step[S], outcome: Outcome, before: S | None = None, after: S | None = None, *,
        error: str = "", note: str = "",
    ) -> None:  # fmt: skip
        self._results.append(
            StepResult(
                step.name, outcome, "" if before is None else step.shown(before),
                step.aim() if after is None else step.shown(after), error, "; ".join(n for n in (note, step.remark()) if n),
                None if before is None else step.document(before), None if after is None else step.document(after),
                step.settles + (step.settles_changed if outcome is Outcome.CHANGED else ()), place=step.place,
                facts=step.facts(), at_recorder=step.at_recorder,
            )
        )  # fmt: skip

    def fail(self, name: str, error: str) -> None:
        """A step that cannot even be looked at, for a reason outside this device."""
        self._results.append(StepResult(name, Outcome.FAILED, error=error))

    def leave(self, name: str, why: str, lacks: str = "") -> None:
        """A step that is not tried, for a reason that has its own finding elsewhere, or since another step `lacks` failed."""
        self._results.append(StepResult(name, Outcome.NOT_TRIED, error=why, lacks=lacks))

    async def begin(self, name: str) -> None:
        """Before what is done beside the steps."""
        await self._ready(name)
        self._current = name

    def add(self, result: StepResult) -> None:
        """What was done beside the steps, such as playing a stream."""
        self._results.append(result)

    def has(self, name: str) -> bool:
        return any(r.step == name for r in self._results)

    def went_well(self, name: str) -> bool:
        return any(r.step == name and _came_out_well(r) for r in self._results)

    def tell(self, item: Finding) -> None:
        self._noticed.append(item)

    @property
    def shut_out(self) -> str:
        """The step by which the device was to be entered, where that failed; empty where it did not."""
        failed = any(r.step == self._entry and r.outcome is Outcome.FAILED for r in self._results)
        return self._entry if failed else ""

    def result(self) -> DeviceResult:
        return DeviceResult(self.ref, tuple(self._results), self._report, tuple(self._noticed))

    def ended_by(self, message: str, report: str = "") -> DeviceResult:
        """The result where something else than a step ended the work: what was under way failed."""
        under_way = WHAT_FOLLOWS if self.has(self._current) else self._current or BEGIN
        self._results.append(StepResult(under_way, Outcome.FAILED, error=message, defect=bool(report)))
        self._report = report
        return self.result()


def _plain(step: Step[S], state: S) -> dict[str, object]:
    """A state as it comes back from the journal: lists for tuples."""
    return {k: list(v) if isinstance(v, tuple) else v for k, v in step.document(state).items()}


def _came_out_well(result: StepResult) -> bool:
    return result.outcome not in (Outcome.FAILED, Outcome.NOT_TRIED, Outcome.NOT_OFFERED)
