"""Who may be down at the same time: one camera a switch, never two that watch the same ground, recorders last and alone.

The first that does not come back ends it: what would do the same to the next is not begun.
"""

from __future__ import annotations

import asyncio
from collections.abc import Awaitable, Callable, Collection, Sequence
from dataclasses import dataclass
from typing import Generic, TypeVar

from zentrale.jobs.known.planned import Planned
from zentrale.planning.overlaps import overlapping
from zentrale.site.model import Camera, Plan

AT_ONCE = 8
R = TypeVar("R")


@dataclass(frozen=True)
class Turned(Generic[R]):
    """`left` are devices that were not begun, after `stopped_by` did not come back."""

    results: tuple[R, ...]
    left: tuple[str, ...] = ()
    stopped_by: str = ""


def may_begin(plan: Plan, device: Planned, under_way: Collection[Planned], pairs: Collection[frozenset[str]]) -> bool:
    if not isinstance(device, Camera) or not all(isinstance(d, Camera) for d in under_way):
        return not under_way
    same_switch = any(d.switch == device.switch for d in under_way)
    return not same_switch and not any(frozenset((d.name, device.name)) in pairs for d in under_way)


async def in_turn(
    plan: Plan, devices: Sequence[Planned], work: Callable[[Planned], Awaitable[tuple[R, bool]]]
) -> Turned[R]:
    """`work` says what came of a device, and whether it is back."""
    waiting = sorted(devices, key=lambda d: not isinstance(d, Camera))
    pairs = overlapping(plan, [d for d in devices if isinstance(d, Camera)])
    running: dict[asyncio.Task[tuple[R, bool]], Planned] = {}
    results: list[R] = []
    stopped_by = ""
    try:
        while waiting or running:
            for device in [] if stopped_by else list(waiting):
                if len(running) < AT_ONCE and may_begin(plan, device, list(running.values()), pairs):
                    waiting.remove(device)
                    running[asyncio.ensure_future(work(device))] = device
            if not running:
                break
            done, _ = await asyncio.wait(running, return_when=asyncio.FIRST_COMPLETED)
            for task in done:
                device = running.pop(task)
                result, back = task.result()
                results.append(result)
                if not back:
                    stopped_by = stopped_by or device.name
    finally:
        for task in running:
            task.cancel()
        await asyncio.gather(*running, return_exceptions=True)
    return Turned(tuple(results), tuple(d.name for d in waiting), stopped_by)
