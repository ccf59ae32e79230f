"""New passwords on all devices, or some: each in the vault first, then on the device, then in the recorder that watches it.

A rotation that was stopped goes on where it stopped: what its journal says is done is not done again.
"""

from __future__ import annotations

import asyncio
import socket
from collections.abc import Callable, Collection
from dataclasses import dataclass

from zentrale.errors import DeviceError
from zentrale.field import scheduler
from zentrale.field.device import Device
from zentrale.field.scheduler import Failure
from zentrale.findings import Finding
from zentrale.jobs.discovery.discovering import last_devices
from zentrale.jobs.known.found_devices import FoundDevice
from zentrale.jobs.known.planned import Planned, device_names, planned_devices, reachable, ref_of, whole_devices
from zentrale.jobs.known.step_form import DeviceResult, Outcome, StepResult
from zentrale.jobs.passwords.access import entered
from zentrale.jobs.passwords.keyring import Keyring
from zentrale.jobs.recorders.channel_step import Channel
from zentrale.jobs.recorders.driver import Driver, recorded_url
from zentrale.jobs.recorders.passes import passes
from zentrale.jobs.recorders.recorder_registry import driver_of, opened
from zentrale.jobs.steps.bench import Bench
from zentrale.jobs.steps.left_open import LeftOpen
from zentrale.jobs.steps.rotate import NewPassword
from zentrale.jobs.steps.runner import BEGIN, StepRunner
from zentrale.jobs.streams.rtsp_only import is_rtsp_only
from zentrale.logbook.evidence import Notes, note, observations
from zentrale.logbook.store import DONE
from zentrale.protocols.onvif import recording_jobs
from zentrale.site.model import Camera, Recorder

COMMAND = "vault rotate"
AT_ONCE = 8
_RECORDS_WITHIN_S, _LOOK_EVERY_S = 40.0, 2.0
ROTATED = "passwords renewed"  # kind of observations: of a device whose rotation came to its end
RECORDING = "recording again"  # what is seen of the channel afterwards


@dataclass(frozen=True)
class Rotation:
    """`taken_up`: this one went on with that run; `already` are the devices that it had done."""

    results: tuple[DeviceResult, ...]
    findings: tuple[Finding, ...]
    run: int
    taken_up: int | None = None
    already: tuple[str, ...] = ()


class Rotator:
    """One run. The caller holds the lock of the site."""

    def __init__(self, keyring: Keyring, done: Callable[[int, str], None]) -> None:
        assert keyring.plan is not None and keyring.vault is not None
        self.keyring = keyring
        self.plan = keyring.plan
        self.vault = keyring.vault
        self.logbook = keyring.logbook
        self._left_open = LeftOpen(self.logbook, COMMAND)
        self._tell = done
        self._turns: dict[str, asyncio.Lock] = {}
        self._run = 0
        self._done: set[tuple[str, str]] = set()

    async def rotate(self, names: Collection[str], *, anew: bool) -> Rotation:
        """The devices of these names, or all where there are none. Recorders go last: their cameras need them meanwhile."""
        found = last_devices(self.plan, self.logbook)
        meant = device_names(self.plan, names)
        wanted = [
            d for name, d in reachable(whole_devices(self.plan)).items()
            if (not names or name in meant) and not (isinstance(d, Camera) and is_rtsp_only(self.plan, d))
        ]  # fmt: skip
        taken_up, already = (None, frozenset[str]()) if anew else self._unfinished()
        left = [d for d in wanted if d.name not in already]
        if taken_up is None:
            self._done = set()
        self.logbook.close_interrupted()
        scope = {"devices": [d.name for d in left], "taken_up": taken_up}
        results: list[DeviceResult] = []
        with self.logbook.running(COMMAND, socket.gethostname(), scope) as self._run:
            for kind in (Camera, Recorder):
                some = [d for d in left if isinstance(d, kind)]
                outcomes = await scheduler.run(some, lambda d: self._one(d, found), at_once=AT_ONCE, budget_s=None)
                for device, some_results in zip(some, outcomes, strict=True):
                    if isinstance(some_results, Failure):
                        failed = self._runner(device).ended_by(some_results.message, some_results.report)
                        await asyncio.to_thread(self._note, failed)
                        some_results = [failed]
                    results += some_results
        findings = tuple(f for r in results for f in r.findings())
        return Rotation(tuple(results), findings, self._run, taken_up, tuple(sorted(already)))

    def _unfinished(self) -> tuple[int | None, frozenset[str]]:
        """The last rotation, where devices of it are left to do, with those that it and the ones it went on with had brought to
        their end. What was changed on the others meanwhile is not changed again.
        """
        runs = {run.id: run for run in self.logbook.runs(COMMAND)}
        last = run = runs[max(runs)] if runs else None
        wanted, ended = set[str](), set[str]()
        while run is not None:
            self._done |= {(c.ref.name, c.step) for c in self.logbook.changes(run.id) if c.state == DONE}
            ended |= {o.ref.name for o in observations(self.logbook, ROTATED, run.id)}
            wanted |= set(run.scope.get("devices", ()))
            run = runs.get(run.scope.get("taken_up") or 0)
        return (last.id, frozenset(ended)) if last is not None and wanted - ended else (None, frozenset())

    def _note(self, result: DeviceResult) -> None:
        """As soon as a device is done, so that a rotation that is killed knows it."""
        notes = Notes()
        planned = planned_devices(self.plan)[result.ref.name]
        for step in result.steps:
            item = result.finding_of(step)
            notes.judge(ref_of(planned, f"step {step.step}"), {"REG-1"}, [item] if item else [])
        self._left_open.settle(notes, result)
        if not any(s.outcome is Outcome.FAILED and s.step != RECORDING for s in result.steps):
            notes.observe(ROTATED, ref_of(planned), "vault rotate", {"steps": [s.step for s in result.steps]})
        note(self.logbook, self._run, notes)

    def _runner(self, device: Planned) -> StepRunner:
        return StepRunner(self.logbook, self._run, ref_of(device), lambda _: self.keyring.ready(), dry_run=False)

    async def _one(self, device: Planned, found: dict[str, FoundDevice]) -> list[DeviceResult]:
        """A result for the device, and one for each further lens of it, which has a channel of its own."""
        runners: dict[str, StepRunner] = {}
        runner = self._runner(device)
        seen = found.get(device.name)
        if seen is None or not seen.url:
            runner.fail(BEGIN, "the last discovery did not find it")
        else:
            async with entered(self.keyring, seen, device) as client:
                bench = Bench(client, self.keyring, device, seen)
                if client.credentials is None:
                    raise DeviceError("it wants no password: `zentrale register` gives it one")
                further = [user for name, user in self.keyring.contents.accounts if name == device.name]
                steps = [NewPassword(bench, client.credentials.user, own=True)]
                steps += [NewPassword(bench, u, own=False) for u in further if u != self.plan.policy.recorder_account]
                for step in steps:
                    if (device.name, step.name) not in self._done:
                        await runner.run(step)
                for lens in self.plan.lenses(device) if isinstance(device, Camera) else ():
                    at = bench if lens is device else Bench(client, self.keyring, lens, seen)
                    own = runner if lens is device else runners.setdefault(lens.name, self._runner(lens))
                    try:
                        await self._watching(at, lens, client, own, found)
                    except DeviceError as error:
                        own.fail(Channel.name, f"recorder {lens.recorder}: {error}")
        results = [runner.result(), *(r.result() for r in runners.values())]
        for result in reversed(results):  # the device last: it is what is done when its lenses are
            await asyncio.to_thread(self._note, result)
        self._tell(1, f"{device.name}: {'failed' if any(r.failed for r in results) else 'done'}")
        return results

    async def _watching(
        self, bench: Bench, camera: Camera, client: Device, runner: StepRunner, found: dict[str, FoundDevice]
    ) -> None:
        """The password that the recorder watches with: changed at both ends, one after the other, and then seen to record. The
        recorder's turn is taken only where its lists are read and changed: a slow camera keeps nobody waiting.
        """
        recorder = self.plan.recorder(camera.recorder)
        driver, seen = driver_of(self.plan, recorder), found.get(recorder.name)
        user = self.plan.policy.recorder_account
        device = self.keyring.entry_of(camera.name)
        own = self.vault.account(device, user) if user else None
        step = NewPassword(bench, user, own=False) if own is not None else None
        if not driver.has_service or seen is None or not seen.url:
            if step is not None:
                runner.leave(step.name, f"recorder {recorder.name} cannot be given it by this program")
            return
        turn = self._turns.setdefault(recorder.name, asyncio.Lock())
        async with entered(self.keyring, seen, recorder) as other:
            held = opened(self.keyring, recorder, other, writes=True)
            profile = bench.choice.of(await client.media.profiles()).get("main")
            if profile is None:
                raise DeviceError("it offers no main profile to record")
            url = recorded_url(camera, await client.media.stream_address(profile.token))
            give = self._channel(held, camera, url, client)
            async with turn:
                now = await give.look()
            if not now.url:
                return  # it is not on a channel: nobody holds its password
            if step is not None and (device, step.name) not in self._done:
                if not await runner.run(step):
                    return
                self._done.add((device, step.name))  # the channels of its further lenses follow
            async with turn:
                given = await runner.run(self._channel(held, camera, url, client))
            if given:
                runner.add(await _records(self._channel(held, camera, url, client)))

    def _channel(self, driver: Driver, camera: Camera, url: str, client: Device) -> Channel:
        step = driver.give(camera, url, passes(self.keyring, camera, client.credentials))
        assert isinstance(step, Channel)
        return step


async def _records(channel: Channel) -> StepResult:
    """Whether the recorder says that it records, and has newer pictures than at first: it takes a while until it has pulled
    again, and some go on calling themselves active meanwhile.
    """
    loop = asyncio.get_running_loop()
    end = loop.time() + _RECORDS_WITHIN_S
    state, first = "", None
    while loop.time() < end:
        try:
            state, latest = await channel.recording_state()
        except DeviceError as error:
            state, latest = str(error), None
        newer = latest is None or (first is not None and latest > first)
        first = first or latest
        if state == recording_jobs.ACTIVE and newer:
            return StepResult(RECORDING, Outcome.UNCHANGED, state, state)
        await asyncio.sleep(_LOOK_EVERY_S)
    why = f"the recorder does not record it within {_RECORDS_WITHIN_S:g} s: {state or 'it says nothing'}"
    return StepResult(RECORDING, Outcome.FAILED, error=why)
