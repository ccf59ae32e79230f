"""Steps that an earlier run of a command left open and that this one does not make: what settles them."""

from __future__ import annotations

from collections.abc import Collection

from zentrale.jobs.known.step_form import DeviceResult, Outcome, StepResult
from zentrale.jobs.steps.runner import BEGIN, WHAT_FOLLOWS
from zentrale.logbook.evidence import Notes, standings
from zentrale.logbook.store import Logbook
from zentrale.subjects import Ref

_OUTSIDE = (f"step {BEGIN}", f"step {WHAT_FOLLOWS}")


class LeftOpen:
    """The open findings about steps, of earlier runs of `command`. `asked`: steps that are made only when they are asked for."""

    def __init__(self, logbook: Logbook, command: str, asked: Collection[str] = ()) -> None:
        self._asked = frozenset(f"step {name}" for name in asked)
        self._open: dict[Ref, dict[Ref, set[str]]] = {}
        for standing in standings(logbook):
            ref = standing.finding.ref
            if (
                ref is not None
                and standing.settled_by is None
                and standing.command == command
                and ref.part.startswith("step ")
            ):
                self._open.setdefault(ref.whole, {}).setdefault(ref, set()).add(standing.finding.code)

    def settle(self, notes: Notes, result: DeviceResult) -> None:
        """Where the work on a device went through, what stood about its other steps does not stand any more: the plan asks for
        them no longer, or what ended the work outside every step did not end it this time.
        """
        if not result.steps or any(_stopped(step) for step in result.steps):
            return
        kept = {f"step {step.step}" for step in result.steps} | self._asked
        untried = any(
            step.outcome is Outcome.NOT_TRIED for step in result.steps
        )  # and what hangs on it was not looked at
        for ref, codes in self._open.get(result.ref, {}).items():
            if ref.part not in kept and (not untried or ref.part in _OUTSIDE):
                notes.judge(ref, codes)


def _stopped(step: StepResult) -> bool:
    """Whether the work on the device may have stopped there: steps after it may be missing."""
    return step.outcome is Outcome.FAILED or bool(step.lacks) or step.step in (BEGIN, WHAT_FOLLOWS)
