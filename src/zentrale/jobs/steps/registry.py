"""Which steps a device gets, in their order: the one list of them. A step is a line here and its module.

The channel of a camera's recorder is a step of the recorder's driver, in the recorder's turn.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable
from typing import Any

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
from zentrale.jobs.steps.step import Step

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


def steps_of(bench: Bench) -> list[Step[Any]]:
    return [step for make in STEPS for step in make(bench)]
