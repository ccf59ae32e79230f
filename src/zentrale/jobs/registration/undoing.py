"""Taking a run of `register` back from the journal, newest change first, as far as the devices allow."""

from __future__ import annotations

import asyncio
import socket
from collections.abc import Callable, Mapping, Sequence
from contextlib import AsyncExitStack
from dataclasses import dataclass
from typing import Any

from zentrale import quantities
from zentrale.errors import DeviceError, InputError, NotAskedError, RefusedError
from zentrale.field import scheduler
from zentrale.field.device import GONE_PATIENCE_S, Device
from zentrale.field.scheduler import Failure
from zentrale.jobs.discovery.discovering import last_devices
from zentrale.jobs.discovery.moved import note_moved
from zentrale.jobs.known.found_devices import FoundDevice
from zentrale.jobs.known.planned import device_names, planned_devices, ref_of
from zentrale.jobs.known.step_form import Outcome, Step
from zentrale.jobs.passwords.access import Claim, find_entry
from zentrale.jobs.passwords.keyring import Keyring
from zentrale.jobs.recorders import channel_rules
from zentrale.jobs.recorders.book import ChannelBook
from zentrale.jobs.recorders.channel_step import Channel
from zentrale.jobs.recorders.moves import FORMER
from zentrale.jobs.recorders.onvif_lists import RecorderChannels
from zentrale.jobs.recorders.own_channel_step import OwnChannel
from zentrale.jobs.recorders.passes import passes
from zentrale.jobs.registration.registering import COMMAND as REGISTER
from zentrale.jobs.steps.bench import Bench
from zentrale.jobs.steps.runner import StepRunner
from zentrale.jobs.steps.step_registry import step_of_journal, steps_of
from zentrale.logbook.store import DONE, Change
from zentrale.site.model import Camera, Recorder
from zentrale.words import MASK

COMMAND = "register --undo"
AT_ONCE = 8
BUDGET_S = 480.0

Progress = Callable[[int, str], None]


@dataclass(frozen=True)
class Undone:
    """One change of the run: taken back, with what the device holds now; or why it stays. `by_nature`: it always does."""

    change: Change
    taken_back: bool
    why: str = ""
    holds: str = ""
    by_nature: bool = False


class Undoer:
    """One taking back. The caller holds the lock of the site."""

    def __init__(self, keyring: Keyring) -> None:
        assert keyring.plan is not None and keyring.vault is not None
        self.keyring = keyring
        self.plan = keyring.plan
        self.vault = keyring.vault
        self.logbook = keyring.logbook
        self._run = 0

    def changes(self, run: int) -> list[Change]:
        """What that run has changed, newest first. Raises InputError where it is no run of `register`."""
        runs = {r.id: r for r in self.logbook.runs() if r.command in (REGISTER, COMMAND)}
        if run not in runs:
            have = ", ".join(
                f"{r.id} ({quantities.at_site(r.started):%Y-%m-%d %H:%M})" for r in list(runs.values())[:6]
            )
            raise InputError(f"--undo {run}: no run of register", f"runs are: {have or 'none so far'}")
        return [c for c in reversed(self.logbook.changes(run)) if c.state == DONE]

    async def undo(self, run: int, progress: Progress) -> list[Undone]:
        """In the order in which they were taken back, device by device."""
        changes = self.changes(run)
        found = last_devices(self.plan, self.logbook)
        by_device: dict[str, list[Change]] = {}
        for change in changes:
            by_device.setdefault(self._device_of(change.ref.name), []).append(change)
        done = 0

        async def one(name: str) -> list[Undone]:
            nonlocal done
            result = await self._device(name, by_device[name], found)
            done += 1
            progress(done, name)
            return result

        scope = {"run": run, "devices": list(by_device)}
        with self.logbook.running(COMMAND, socket.gethostname(), scope) as self._run:
            # Recorders go last: their cameras leave their channels first.
            order = sorted(by_device, key=lambda name: any(r.name == name for r in self.plan.recorders))
            results = await scheduler.run(order, one, at_once=AT_ONCE, budget_s=self.keyring.budget(BUDGET_S))
        return [
            u
            for name, r in zip(order, results, strict=True)
            for u in ([Undone(c, False, r.message) for c in by_device[name]] if isinstance(r, Failure) else r)
        ]

    def _device_of(self, name: str) -> str:
        """What is taken back in one session: the changes of all lenses of a device."""
        return next(iter(device_names(self.plan, [name])), name)

    async def _device(self, name: str, changes: Sequence[Change], found: dict[str, FoundDevice]) -> list[Undone]:
        planned = planned_devices(self.plan).get(name)
        if planned is None:
            return [Undone(c, False, "it is not in the plan any more") for c in changes]
        rows = self.plan.lenses(planned) if isinstance(planned, Camera) else [planned]
        if isinstance(planned, Camera) and planned.behind:
            return await self._behind(rows, changes, found)
        async with AsyncExitStack() as stack:
            try:
                client, seen = await self._enter(stack, planned, found)
                steps = {}
                for row in rows:
                    own = [c for c in changes if c.ref.name == row.name]
                    steps[row.name] = await self._steps(stack, client, seen, row, found, own)
            except DeviceError as error:
                return [Undone(c, False, str(error)) for c in changes]
            undone = await self._taken_back(rows, steps, changes)
            await asyncio.to_thread(note_moved, self.logbook, self._run, planned, seen, client)
            return undone

    async def _behind(
        self, rows: Sequence[Camera | Recorder], changes: Sequence[Change], found: dict[str, FoundDevice]
    ) -> list[Undone]:
        """A camera at its recorder's own port: all that was set is the recorder's."""
        async with AsyncExitStack() as stack:
            try:
                steps = {
                    row.name: await self._channel_steps(
                        stack, row, found, [c for c in changes if c.ref.name == row.name]
                    )
                    for row in rows
                }
            except DeviceError as error:
                return [Undone(c, False, str(error)) for c in changes]
            return await self._taken_back(rows, steps, changes)

    async def _taken_back(
        self, rows: Sequence[Camera | Recorder], steps: Mapping[str, Mapping[str, Step[Any]]], changes: Sequence[Change]
    ) -> list[Undone]:
        runners = {row.name: self._runner(row) for row in rows}
        return [
            await self._change(runners[c.ref.name], steps[c.ref.name].get(c.step), c)
            if c.ref.name in runners
            else Undone(c, False, "it is not in the plan any more")
            for c in changes
        ]

    def _runner(self, row: Camera | Recorder) -> StepRunner:
        return StepRunner(self.logbook, self._run, ref_of(row), lambda _: self.keyring.ready(), dry_run=False)

    async def _steps(
        self,
        stack: AsyncExitStack,
        client: Device,
        seen: FoundDevice,
        planned: Camera | Recorder,
        found: dict[str, FoundDevice],
        changes: Sequence[Change],
    ) -> dict[str, Step[Any]]:
        bench = Bench(client, self.keyring, planned, seen)
        steps = {step.name: step for step in steps_of(bench)}
        for change in changes:  # made from what the journal holds, where today's plan does not ask for it
            if change.step not in steps and change.after_state is not None:
                made = step_of_journal(bench, change.step, change.after_state)
                steps |= {} if made is None else {change.step: made}
        return steps | await self._channel_steps(stack, planned, found, changes)

    async def _channel_steps(
        self,
        stack: AsyncExitStack,
        planned: Camera | Recorder,
        found: dict[str, FoundDevice],
        changes: Sequence[Change],
    ) -> dict[str, Step[Any]]:
        """What was set at its recorder."""
        steps: dict[str, Step[Any]] = {}
        given = [
            c
            for c in changes
            if c.step in (Channel.name, FORMER, *channel_rules.NAMES) and c.after_state and c.before_state
        ]
        if isinstance(planned, Camera) and given:
            recorder = next(r for r in self.plan.recorders if r.name == planned.recorder)
            held, _ = await self._enter(stack, recorder, found)
            lists = RecorderChannels(held, ChannelBook(self.keyring.logbook, self.plan, recorder.name, writes=True))
            names = {c.name for c in self.plan.cameras if c.recorder == recorder.name}
            opens = self.vault.device(self.keyring.entry_of(planned.name))
            for change in given:
                left, before = change.after_state or {}, change.before_state or {}
                shown = passes(self.keyring, planned, opens)
                if (rule := channel_rules.step_of_journal(lists, change, shown)) is not None:
                    steps[change.step] = rule
                    continue
                if planned.behind:
                    steps[change.step] = OwnChannel(lists, left["number"], planned.name, planned.shows, planned.port)
                    continue
                url, name = str(left["url"] or before["url"]), left["camera"] if left["url"] else before["camera"]
                step = Channel(lists, left["number"], name, left["location"], url, shown, names)
                step.name = change.step
                steps[change.step] = step
        return steps

    async def _enter(
        self, stack: AsyncExitStack, planned: Camera | Recorder, found: dict[str, FoundDevice]
    ) -> tuple[Device, FoundDevice]:
        seen = found.get(planned.name)
        if seen is None or not seen.url:
            raise DeviceError("the last discovery did not find it")
        rules = self.keyring.rules(planned)
        client = await stack.enter_async_context(
            Device(seen.url, rules, endpoint=seen.own_endpoint, patience_s=GONE_PATIENCE_S)
        )
        await client.read_clock()
        entry = await find_entry(client, self.keyring, Claim.of(self.keyring, seen, planned), planned.name)
        if entry.closed:
            raise RefusedError(entry.in_words())
        return client, seen

    async def _change(self, runner: StepRunner, step: Step[Any] | None, change: Change) -> Undone:
        """Only what the device still holds as that run left it is taken back."""
        if change.before_state is None or change.after_state is None:
            return Undone(change, False, "its journal entry is of an older version, which did not keep the values")
        if any(f"={MASK}" in str(value) for value in (*change.before_state.values(), *change.after_state.values())):
            return Undone(
                change, False, "a password is within its address, which no file of the site keeps: set it by hand"
            )
        if step is None:
            return Undone(change, False, "no step of this program sets that now")
        if step.stays:
            return Undone(change, False, step.stays, by_nature=True)
        try:
            now, left = await step.look(), step.load(change.after_state)
            wanted = step.back(now, step.load(change.before_state))
            if step.holds(now, wanted):
                return Undone(change, False, f"it is as it was before: {step.shown(now)}", by_nature=True)
            if not step.untouched(now, left):
                return Undone(change, False, f"it was changed since: it holds {step.shown(now)}")
            good = await runner.change(step, now, wanted, step.apply)
        except (NotAskedError, DeviceError, TypeError) as error:
            return Undone(change, False, str(error))
        last = runner.result().steps[-1]
        return Undone(change, good and last.outcome is Outcome.CHANGED, last.error, last.after)


async def undo(keyring: Keyring, run: int, progress: Progress) -> list[Undone]:
    """Take back what a run has changed. Raises InputError for a run that is none."""
    await asyncio.to_thread(keyring.logbook.close_interrupted)
    return await Undoer(keyring).undo(run, progress)
