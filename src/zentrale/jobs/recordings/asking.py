"""Asking the recorders of some channels, all at once: what each tells, or why it told nothing."""

from __future__ import annotations

from collections.abc import Awaitable, Callable, Sequence
from dataclasses import dataclass
from datetime import timedelta
from typing import Generic, TypeVar

from zentrale.errors import NotFoundError
from zentrale.field import scheduler
from zentrale.field.scheduler import Failure
from zentrale.jobs.discovery.discovering import last_devices
from zentrale.jobs.known.found_devices import FoundDevice
from zentrale.jobs.passwords.access import entered
from zentrale.jobs.passwords.keyring import Keyring
from zentrale.jobs.recorders.kept_channels import KeptChannels
from zentrale.jobs.recorders.recorder_registry import driver_of, opened
from zentrale.site.model import Camera, Plan, Recorder

R = TypeVar("R")


@dataclass(frozen=True)
class Entered:
    """A recorder that took a password. cameras: those that were asked for, with the channels that they are on; ahead: its clock
    against ours
    """

    recorder: Recorder
    cameras: Sequence[Camera]
    source: KeptChannels
    ahead: timedelta


@dataclass(frozen=True)
class Told(Generic[R]):
    """Of one recorder. ahead: None where it was not entered"""

    recorder: Recorder
    cameras: Sequence[Camera]
    outcome: R | Failure[Recorder]
    ahead: timedelta | None


async def each_recorder(
    plan: Plan, keyring: Keyring, cameras: Sequence[Camera], ask: Callable[[Entered], Awaitable[R]], budget_s: float | None
) -> list[Told[R]]:  # fmt: skip
    """One answer for each recorder of these cameras, in the order of the plan."""
    found = last_devices(plan, keyring.logbook)
    own = {r.name: [keyring.numbered(c) for c in cameras if c.recorder == r.name] for r in plan.recorders}
    recorders = [r for r in plan.recorders if own[r.name]]
    ahead: dict[str, timedelta] = {}

    async def one(recorder: Recorder) -> R:
        seen = _found(plan, keyring, recorder, found.get(recorder.name))
        await keyring.ready()
        async with entered(keyring, seen, recorder) as client:
            ahead[recorder.name] = client.clock_offset
            source = opened(keyring, recorder, client).kept()
            return await ask(Entered(recorder, own[recorder.name], source, client.clock_offset))

    outcomes = await scheduler.run(recorders, one, at_once=len(recorders) or 1, budget_s=budget_s)
    return [Told(r, own[r.name], o, ahead.get(r.name)) for r, o in zip(recorders, outcomes, strict=True)]


def _found(plan: Plan, keyring: Keyring, recorder: Recorder, seen: FoundDevice | None) -> FoundDevice:
    if not driver_of(plan, recorder).has_service:
        opened(keyring, recorder, None).kept()  # raises: it says what to do instead
    if seen is None or not seen.url:
        raise NotFoundError("the last discovery did not find it, so it was not asked")
    return seen
