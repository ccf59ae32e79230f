"""Following who comes and goes: whoever plugs a camera in sees its name."""

from __future__ import annotations

import asyncio
from collections.abc import Callable
from dataclasses import dataclass, replace
from datetime import UTC, datetime

from zentrale.field import scheduler
from zentrale.field.adapters import Choice, choose, list_adapters
from zentrale.field.neighbours import macs_by_address
from zentrale.field.probe import Answer, Watch
from zentrale.field.scheduler import Failure
from zentrale.jobs.discovery.discovering import AT_ONCE, BUDGET_S, failed
from zentrale.jobs.discovery.identifying import Expected, identify
from zentrale.jobs.discovery.matching import matched
from zentrale.jobs.finders.merging import merge, sighting
from zentrale.jobs.known.found_devices import FoundDevice
from zentrale.jobs.passwords.keyring import Keyring
from zentrale.site.identity import Identity
from zentrale.site.model import Plan

EVERY_S = 10.0
CAME, LEFT, MOVED = "here", "gone", "moved"


@dataclass(frozen=True)
class Event:
    """A device came, left, or moved here from the address `before`; `name` is the one it has in the plan, if any."""

    at: datetime
    what: str
    name: str
    device: FoundDevice
    before: str = ""


def adapters_for(plan: Plan, given: tuple[str, ...]) -> Choice:
    return choose(given, [("zone " + z.name, z.network) for z in plan.zones], list_adapters())


def _strong(device: FoundDevice) -> Identity:
    return replace(device.identity, endpoint="")


async def follow(
    plan: Plan, keyring: Keyring, choice: Choice, tell: Callable[[Event], None], every_s: float = EVERY_S
) -> None:
    """Tell of each that comes and goes, until cancelled. Nothing is kept."""
    present: dict[tuple[str, str], FoundDevice] = {}
    names: dict[tuple[str, str], str] = {}
    gate = asyncio.Semaphore(AT_ONCE)

    async def asked(device: FoundDevice) -> FoundDevice:
        return await identify(device, Expected.of(plan, keyring.logbook, macs_by_address()), keyring)

    async def came(answer: Answer) -> None:
        place = (answer[0].endpoint, answer[1])
        async with gate:
            for device in merge([sighting(*answer)]):
                (result,) = await scheduler.run([device], asked, at_once=1, budget_s=keyring.budget(BUDGET_S))
                device = failed(result) if isinstance(result, Failure) else result
                old = next((p for p in present if p[0] == place[0] and p[1] != place[1]), None)
                before = ""
                # Makers ship one endpoint in all their devices: only by MAC address or serial number it is the same one.
                if old is not None and _strong(present[old]).same_device(_strong(device)) is True:
                    before = old[1]
                    present.pop(old)
                    names.pop(old)
                name = matched(plan, keyring.logbook, [device]).name_of(device)
                present[place], names[place] = replace(device, report=""), name
                tell(Event(datetime.now(UTC), MOVED if before else CAME, name, device, before))

    async with asyncio.TaskGroup() as tasks:
        async for news in Watch(choice.adapters, every_s).news():
            for place in news.left:
                device = present.pop(place, None)
                if device is not None:
                    tell(Event(datetime.now(UTC), LEFT, names.pop(place), device))
            for answer in news.came:
                tasks.create_task(came(answer))
