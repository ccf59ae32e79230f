"""Which steps a device gets, in their order: the one list of them. A step is a line here and its module.

The channel of a camera's recorder is a step of the recorder's driver, in the recorder's turn.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from typing import Any, Protocol

from zentrale.jobs.known.step_form import Step
from zentrale.jobs.steps import (
    accounts,
    address,
    audio,
    clock,
    encoder,
    imaging,
    inputs,
    label,
    masks,
    motion,
    name,
    network_services,
    password,
    time_server,
    turning,
)
from zentrale.jobs.steps.bench import Bench


class StepKind(Protocol):
    """A module of steps: `steps` makes those of a device. One whose steps can be taken back though the plan asks for them no
    more has `journaled` beside it: the step of a name as an earlier run made it that left a state; None where it has none such.
    """

    @property
    def steps(self) -> Callable[[Bench], Iterable[Step[Any]]]: ...


STEPS: list[StepKind] = [
    password,
    accounts,
    name,
    clock,
    time_server,
    encoder,
    turning,
    label,
    audio,
    masks,
    motion,
    imaging,
    inputs,
    network_services,
    address,
]


def step_of_journal(bench: Bench, name: str, state: Mapping[str, Any]) -> Step[Any] | None:
    """The step `name` as a run made it that left `state`; None where there is no such step."""
    makers = (getattr(kind, "journaled", None) for kind in STEPS)
    return next((step for make in makers if make is not None and (step := make(bench, name, state)) is not None), None)


def steps_of(bench: Bench) -> list[Step[Any]]:
    """In their order; of a further lens those that each lens has for itself."""
    return [step for kind in STEPS for step in kind.steps(bench) if step.of_a_lens or not bench.further_lens]


def parted_steps_of(bench: Bench) -> tuple[list[Step[Any]], list[Step[Any]]]:
    """As `steps_of`, those apart after which the device may be gone from where it was."""
    steps = steps_of(bench)
    return [step for step in steps if not step.last], [step for step in steps if step.last]
