"""Which steps a device gets, in their order: the one list of them. A step is a line here and its module.

The channel of a camera's recorder is a step of the recorder's driver, in the recorder's turn.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable
from typing import Any

from zentrale.jobs.steps import clock, encoder, label, name, password, time_server
from zentrale.jobs.steps.bench import Bench
from zentrale.jobs.steps.step import Step

STEPS: list[Callable[[Bench], Iterable[Step[Any]]]] = [
    password.steps,
    name.steps,
    clock.steps,
    time_server.steps,
    encoder.steps,
    label.steps,
]


def steps_of(bench: Bench) -> list[Step[Any]]:
    return [step for make in STEPS for step in make(bench)]
