"""Listening to cameras that are recorded on motion, while their streams are measured: did something move in front of them?"""

from __future__ import annotations

import logging
from collections.abc import Mapping, Sequence
from datetime import UTC, datetime

from zentrale.field import scheduler
from zentrale.field.pull_point import PullPoint
from zentrale.field.scheduler import Failure
from zentrale.jobs.checks.channel_judging import Motion
from zentrale.jobs.checks.seen import Listening
from zentrale.jobs.known.found_devices import FoundDevice
from zentrale.jobs.passwords.access import entered
from zentrale.jobs.passwords.keyring import Keyring
from zentrale.jobs.recorders.channel_holds import MOTION
from zentrale.site.model import Camera

log = logging.getLogger(__name__)
AT_ONCE = 8
BUDGET_S = 15.0  # for one camera, either time: what is not told in that time is not known
_LASTS_S = 900.0


async def listen(cameras: Sequence[Camera], found: Mapping[str, FoundDevice], keyring: Keyring) -> list[Listening]:
    """Those that let us listen; of the others nothing is known."""

    async def one(camera: Camera) -> Listening:
        async with entered(keyring, found[camera.name], camera) as client:
            point = await PullPoint.opened(client, MOTION, _LASTS_S)
            return Listening(camera, point, datetime.now(UTC))

    present = [c for c in cameras if c.name in found and found[c.name].url]
    results = await scheduler.run(present, one, at_once=AT_ONCE, budget_s=keyring.budget(BUDGET_S))
    for failure in results:
        if isinstance(failure, Failure):
            log.debug("%s is not listened to: %s", failure.item.name, failure.message)
    return [r for r in results if not isinstance(r, Failure)]


async def heard(some: Sequence[Listening], found: Mapping[str, FoundDevice], keyring: Keyring) -> dict[str, Motion]:
    """What they told since, by camera; the pull points are given back."""

    async def one(item: Listening) -> Motion | None:
        """None where it says nothing of motion at all: it may tell it by another name."""
        async with entered(keyring, found[item.camera.name], item.camera) as client:
            messages = await item.point.fetched(client)
            await item.point.close(client)
            told = [m for m in messages if m.topic in MOTION]
            if not told:
                return None
            moved = [m.utc - client.clock_offset for m in told if m.true and m.utc is not None]
            began = max(item.since, min(moved)) if moved else None  # what moved already then, moved then
            return Motion(item.since, datetime.now(UTC), began)

    cameras = [item.camera for item in some]
    by_name = {item.camera.name: item for item in some}
    results = await scheduler.run(
        cameras, lambda c: one(by_name[c.name]), at_once=AT_ONCE, budget_s=keyring.budget(BUDGET_S)
    )
    heard_of = {}
    for camera, result in zip(cameras, results, strict=True):
        if isinstance(result, Failure):
            log.debug("%s told nothing: %s", camera.name, result.message)
        elif result is not None:
            heard_of[camera.name] = result
    return heard_of
