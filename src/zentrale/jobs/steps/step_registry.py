"""Which steps a device gets, in their order: the one list of them. A step is a line here and its module.

The channel of a camera's recorder is a step of the recorder's driver, in the recorder's turn.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from typing import Any

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

STEPS: list[Callable[[Bench], Iterable[Step[Any]]]] = [
    password.steps,
    accounts.steps,
    name.steps,
    clock.steps,
    time_server.steps,
    encoder.steps,
    turning.steps,
    label.steps,
    audio.steps,
    masks.steps,
    motion.steps,
    imaging.steps,
    inputs.steps,
    network_services.steps,
    address.steps,
]
# What each lens of a device has for itself; the others are the device's own.
OF_A_LENS = (encoder.steps, turning.steps, label.steps, masks.steps, motion.steps, imaging.steps, inputs.steps)
# After these it may be gone from where it was, so all its lenses are done before.
LAST = (network_services.steps, address.steps)


# The same steps as an earlier run made them, from its journal: what the plan asks for no more can still be taken back.
JOURNALED: list[Callable[[Bench, str, Mapping[str, Any]], Step[Any] | None]] = [
    accounts.journaled, encoder.journaled, time_server.journaled, turning.journaled, label.journaled, audio.journaled,
    masks.journaled, motion.journaled, imaging.journaled, inputs.journaled, network_services.journaled, address.journaled,
]  # fmt: skip


def step_of_journal(bench: Bench, name: str, state: Mapping[str, Any]) -> Step[Any] | None:
    """The step `name` as a run made it that left `state`; None where there is no such step."""
    return next((step for make in JOURNALED if (step := make(bench, name, state)) is not None), None)


def steps_of(bench: Bench) -> list[Step[Any]]:
    some = [make for make in STEPS if make in OF_A_LENS] if bench.further_lens else STEPS
    return [step for make in some for step in make(bench)]


def parted_steps_of(bench: Bench) -> tuple[list[Step[Any]], list[Step[Any]]]:
    """As `steps_of`, the last ones apart."""
    last = [] if bench.further_lens else [step for make in LAST for step in make(bench)]
    names = {step.name for step in last}
    return [step for step in steps_of(bench) if step.name not in names], last
