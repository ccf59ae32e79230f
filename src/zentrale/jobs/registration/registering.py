"""Bringing recorders and cameras to plan, many at once. One that fails does not stop the others."""

from __future__ import annotations

import asyncio
import socket
from collections.abc import Awaitable, Callable, Sequence
from contextlib import nullcontext
from dataclasses import dataclass, field

from zentrale.errors import DeviceError, NothingReachedError
from zentrale.field import scheduler
from zentrale.field.device import GONE_PATIENCE_S, Device
from zentrale.field.scheduler import Failure
from zentrale.findings import Finding, finding
from zentrale.jobs.discovery.discovering import current_devices
from zentrale.jobs.discovery.matching import matched
from zentrale.jobs.discovery.moved import note_moved
from zentrale.jobs.known.entry_judged import seen_there
from zentrale.jobs.known.found_devices import FoundDevice
from zentrale.jobs.known.planned import place_of, ref_of
from zentrale.jobs.known.step_form import DeviceResult, Outcome
from zentrale.jobs.passwords.keyring import Keyring
from zentrale.jobs.recorders.driver import ByHand
from zentrale.jobs.recorders.recorder_registry import driver_of
from zentrale.jobs.registration.channels import PICTURE, Channels, Source
from zentrale.jobs.registration.sharing import Sharing
from zentrale.jobs.steps.address import Address
from zentrale.jobs.steps.bench import Bench
from zentrale.jobs.steps.left_open import LeftOpen
from zentrale.jobs.steps.password import Password
from zentrale.jobs.steps.runner import BEGIN, WHAT_FOLLOWS, StepRunner
from zentrale.jobs.steps.step_registry import parted_steps_of, steps_of
from zentrale.jobs.steps.whereabouts import at_host, first_that_answers
from zentrale.jobs.streams.aspects import OURS
from zentrale.jobs.streams.rtsp_only import find_credentials, is_rtsp_only, kept_addresses, stream_addresses
from zentrale.logbook.evidence import Notes, note
from zentrale.logbook.store import Change, KnownDevice
from zentrale.site.model import Camera, Recorder
from zentrale.subjects import Ref

COMMAND = "register"
AT_ONCE = 16
# For one device: some forty requests, each of which may take 12 s, and a restart or two.
BUDGET_S = 600.0
_DONE = (Outcome.UNCHANGED, Outcome.CHANGED)


@dataclass(frozen=True)
class Manner:
    """How many at once, and who is told: `done` how many are done and which was the last with what came of it, `doing` what a
    device is at. `renew`: reference pictures are taken anew.
    """

    at_once: int = AT_ONCE
    renew: bool = False
    done: Callable[[int, str], None] = lambda number, text: None
    doing: Callable[[str, str], None] = lambda name, step: None


@dataclass(frozen=True)
class Registration:
    """`not_found` are planned cameras and recorders no discovery has seen; `taken_up` steps an earlier run died in; `run` is
    its number in the journal, None in a dry run; `by_hand` what a person has to enter at recorders without a service.
    """

    results: tuple[DeviceResult, ...]
    not_found: tuple[str, ...]
    taken_up: tuple[Change, ...]
    findings: tuple[Finding, ...]
    dry_run: bool
    run: int | None = None
    by_hand: tuple[ByHand, ...] = ()

    def count(self, outcome: Outcome) -> int:
        return sum(step.outcome is outcome for result in self.results for step in result.steps)

    @property
    def left(self) -> tuple[str, ...]:
        """Cameras of which something failed or was not tried: what to run again."""
        open_ = (Outcome.FAILED, Outcome.NOT_TRIED)
        return tuple(r.ref.name for r in self.results if any(s.outcome in open_ for s in r.steps))


@dataclass
class _Work:
    """What one run has under way. `turn`: the row of a device's further lens that is worked on, by the name of the device."""

    channels: Channels
    runners: dict[str, StepRunner] = field(default_factory=dict)
    sources: dict[str, Source | DeviceError] = field(default_factory=dict)
    turn: dict[str, str] = field(default_factory=dict)


class Registrar:
    """One run of `register`. The caller holds the lock of the site, unless it is a dry run."""

    def __init__(self, keyring: Keyring, manner: Manner | None = None) -> None:
        assert keyring.plan is not None and keyring.vault is not None
        self.keyring = keyring
        self.plan = keyring.plan
        self.vault = keyring.vault
        self.logbook = keyring.logbook
        self.dry_run = keyring.dry_run
        self.manner = manner or Manner()
        self._work = _Work(Channels(keyring, self._open, renew=self.manner.renew))
        self._run = 0
        self._interrupted: Sequence[Change] = ()
        self._left_open = LeftOpen(self.logbook, COMMAND, [PICTURE])
        self._sharing = Sharing(self.plan, {}, ())
        self._seen: dict[str, FoundDevice] = {}

    async def register(self, cameras: Sequence[Camera]) -> Registration:
        """A camera's device is registered with all its lenses.

        Raises InputError where nothing was discovered yet, NothingReachedError where none of `cameras` was found.
        """
        found = self._seen = self._found()
        meant = {self.plan.device_of(c).name for c in cameras}
        cameras = [c for c in self.plan.cameras if self.plan.device_of(c).name in meant]
        behind = [c for c in cameras if c.behind]
        present = [c for c in cameras if c.name in found and (found[c.name].url or is_rtsp_only(self.plan, c))]
        not_found = tuple(c.name for c in cameras if c not in present and c not in behind)
        if cameras and not present and not any(c.behind in found for c in behind):
            raise NothingReachedError(
                "none of the planned cameras was found by the last discovery",
                "run `zentrale discover` again and read its findings",
            )
        taken_up = self._interrupted = () if self.dry_run else self.logbook.close_interrupted()
        here = [*present, *behind]
        recorders = [r for r in self.plan.recorders if any(c.recorder == r.name for c in here)]
        scope = {"cameras": [c.name for c in here], "recorders": [r.name for r in recorders]}
        running = nullcontext(0) if self.dry_run else self.logbook.running(COMMAND, socket.gethostname(), scope)
        done = 0

        async def one(camera: Camera) -> list[DeviceResult]:
            nonlocal done
            results = await self._camera(camera, found[camera.name])
            for result in results:
                await self._note(result)
                done += 1
                self.manner.done(done, f"{result.ref.name}: {said(result)}")
            return results

        channels, runners = self._work.channels, self._work.runners
        with running as self._run:
            async with channels.opened(
                recorders, found, self._recorder, self._result, self._run, runners
            ) as recorder_results:
                camera_results = await scheduler.run(
                    [c for c in present if self.plan.device_of(c) is c], one, at_once=self.manner.at_once, budget_s=None,
                    share_of=lambda c: c.switch or c.name, at_once_of_share=self.plan.policy.parallel_per_switch,
                )  # fmt: skip
                behind_results = [await self._behind(c) for c in behind]
                await channels.tell(runners, recorder_results)
            ended = [r for some in camera_results if isinstance(some, Failure) for r in self._ended(some)]
            for result in (*recorder_results, *behind_results, *ended):
                await self._note(result)
            of_cameras = [r for some in camera_results if not isinstance(some, Failure) for r in some]
            order = {c.name: number for number, c in enumerate(here)}
            results = (
                *recorder_results,
                *sorted([*of_cameras, *behind_results, *ended], key=lambda r: order.get(r.ref.name, len(order))),
            )
        served = [r for r in recorders if driver_of(self.plan, r).has_service]
        not_found += tuple(r.name for r in served if r.name not in found or not found[r.name].url)
        findings = tuple(f for r in results for f in r.findings())
        number = None if self.dry_run else self._run
        return Registration(results, not_found, taken_up, findings, self.dry_run, number, tuple(channels.by_hand))

    def _found(self) -> dict[str, FoundDevice]:
        """The found devices by name; rows that got another name since then take their device's history along."""
        matching = matched(self.plan, self.logbook, current_devices(self.logbook))
        if not self.dry_run:
            for old, new in matching.renamed:
                self.vault.rename_device(old, new)
                self.logbook.rename(old, new)
        self._sharing = Sharing(self.plan, matching.by_name, matching.devices)
        return {**matching.by_name, **self._sharing.found}

    def _result(self, result: DeviceResult | Failure[Camera] | Failure[Recorder]) -> DeviceResult:
        """A failure outside every step is that device's result all the same."""
        if isinstance(result, DeviceResult):
            return result
        return (self._work.runners.get(result.item.name) or self._runner(result.item)).ended_by(
            result.message, result.report
        )

    def _ended(self, failure: Failure[Camera]) -> list[DeviceResult]:
        """Of each lens of a device, where something outside every step ended the work on it."""
        return [self._result(failure), *(self._runner_of(lens).result() for lens in self.plan.lenses(failure.item)[1:])]

    async def _note(self, result: DeviceResult) -> None:
        """Each step that was done or failed was looked at; one that was not tried was not."""
        if self.dry_run:
            return
        notes = Notes()
        for step in result.steps:
            ref = ref_of_step(result, step.step)
            item = result.finding_of(step)
            if step.outcome in (*_DONE, Outcome.NOT_OFFERED):
                notes.judge(ref, {"REG-1", *OURS})
                if step.settles:
                    notes.judge(result.ref, step.settles)
            elif item is not None:
                notes.judge(ref, (), [item])
        entered = any(s.step == Password.name and s.outcome in _DONE for s in result.steps)
        about = {"REG-2", "REG-3", "REC-4", "REC-6", *(("SEC-11", "SEC-12", "SEC-13") if entered else ())}
        notes.judge(result.ref, about, result.about_it())
        self._left_open.settle(notes, result)
        seen = self._seen.get(result.ref.name)
        if seen is not None and any(s.outcome in _DONE for s in result.steps):
            for judged in seen_there(result.ref, seen.address):
                notes.judge(judged.ref, judged.codes)
        await asyncio.to_thread(note, self.logbook, self._run, notes)

    async def _open(self, planned: Camera | Recorder, seen: FoundDevice) -> Device:
        """Where it was seen; or where an interrupted run was about to put it, if it is there by now."""
        url, rules = seen.url, self.keyring.rules(planned)
        for change in self._interrupted:
            there = str((change.after_state or {}).get("address", ""))
            if change.ref == ref_of(planned) and change.step == Address.name and there:
                url = await first_that_answers((url, at_host(url, there)), rules)
        return Device(url, rules, endpoint=seen.own_endpoint, patience_s=GONE_PATIENCE_S)

    def _runner(self, planned: Camera | Recorder) -> StepRunner:
        async def ready(step: str) -> None:
            await self.keyring.ready()
            self.manner.doing(planned.name, step)

        return StepRunner(self.logbook, self._run, ref_of(planned), ready, dry_run=self.dry_run)

    async def _within_budget(self, planned: Camera | Recorder, work: Awaitable[StepRunner]) -> DeviceResult:
        """The steps done in time, and what ended the others."""
        outcome = (await scheduler.run([planned], lambda _: work, at_once=1, budget_s=self.keyring.budget(BUDGET_S)))[0]
        if not isinstance(outcome, Failure):
            return outcome.result()
        runner = self._work.runners.get(planned.name) or self._runner(planned)
        turn = self._work.turn.get(planned.name)
        if turn is None:
            return runner.ended_by(outcome.message, outcome.report)
        self._work.runners[turn].ended_by(outcome.message, outcome.report)
        runner.leave(WHAT_FOLLOWS, f"needs {turn}, a lens of it, whose work was ended")
        return runner.result()

    async def _own_steps(self, planned: Camera | Recorder, seen: FoundDevice, client: Device) -> StepRunner:
        """All steps on the device itself; those that need one that failed are not tried."""
        runner = self._work.runners[planned.name] = self._runner(planned)
        identity = None
        steps, last = parted_steps_of(Bench(client, self.keyring, planned, seen))
        for step in steps:
            await runner.run(step)
            for item in step.noticed:
                runner.tell(item)
            if step.identity:
                identity = step.identity
                if not self.dry_run:
                    self.logbook.remember(KnownDevice(planned.name, identity, client.host, place_of(planned)))
        if isinstance(planned, Camera):
            for lens in self.plan.lenses(planned)[1:]:
                self._work.turn[planned.name] = lens.name
                await self._lens(lens, seen, client, runner)
            self._work.turn.pop(planned.name, None)
        for step in last:
            await runner.run(step)
        if not self.dry_run:
            await asyncio.to_thread(note_moved, self.logbook, self._run, planned, seen, client, identity)
        return runner

    async def _lens(self, lens: Camera, seen: FoundDevice, client: Device, device: StepRunner) -> None:
        """What a further lens has for itself, while its device is open."""
        runner = self._work.runners[lens.name] = self._runner(lens)
        for step in steps_of(Bench(client, self.keyring, lens, seen)):
            if device.shut_out:
                why = f"needs {device.ref.name}, its device, which could not be entered"
                runner.leave(step.name, why, device.shut_out)
            else:
                await runner.run(step)

    async def _recorder(self, recorder: Recorder, seen: FoundDevice, client: Device) -> tuple[DeviceResult, bool]:
        result = await self._within_budget(recorder, self._own_steps(recorder, seen, client))
        self.manner.doing(recorder.name, "")
        return result, bool(result.steps) and not self._work.runners[recorder.name].shut_out

    async def _camera(self, camera: Camera, seen: FoundDevice) -> list[DeviceResult]:
        """The device that the row stands for, with a result for each of its lenses."""
        lenses = self.plan.lenses(camera)
        if is_rtsp_only(self.plan, camera):
            results = [await self._within_budget(lens, self._rtsp_only(lens, seen)) for lens in lenses]
        else:
            async with self._sharing.alone(camera), await self._open(camera, seen) as client:
                results = [await self._within_budget(camera, self._onvif(lenses, seen, client))]
            results += [self._runner_of(lens).result() for lens in lenses[1:]]
        sources = self._work.sources
        return [
            await self._on_channel(lens, sources[lens.name]) if lens.name in sources else result
            for lens, result in zip(lenses, results, strict=True)
        ]

    def _runner_of(self, lens: Camera) -> StepRunner:
        """Of a further lens; one whose turn did not come, since its device ended before, says so."""
        if lens.name not in self._work.runners:
            runner = self._work.runners[lens.name] = self._runner(lens)
            runner.leave(BEGIN, f"needs {self.plan.device_of(lens).name}, its device")
        return self._work.runners[lens.name]

    async def _on_channel(self, camera: Camera, source: Source | DeviceError) -> DeviceResult:
        """Waiting for the recorder's turn is not the camera's time, so it has no budget but that of each request."""
        runner = self._work.runners[camera.name]
        work = self._work.channels.give(self._run, camera, source, runner)
        outcome = (await scheduler.run([camera], lambda _: work, at_once=1, budget_s=None))[0]
        if isinstance(outcome, Failure):
            return runner.ended_by(outcome.message, outcome.report)
        return runner.result()

    async def _onvif(self, lenses: Sequence[Camera], seen: FoundDevice, client: Device) -> StepRunner:
        runner = await self._own_steps(lenses[0], seen, client)
        for lens in [] if runner.shut_out else lenses:
            if lens is not lenses[0]:
                self._work.turn[lenses[0].name] = lens.name
            try:
                bench = Bench(client, self.keyring, lens, seen)
                chosen = bench.choice.of(await client.media.profiles())
                profile = chosen.get("main")
                if profile is None:
                    raise DeviceError("it offers no main profile to record")
                address, sub = await client.media.stream_address(profile.token), None
                if self.plan.recording(lens).sub and chosen.get("sub") is not None:
                    sub = await client.media.stream_address(chosen["sub"].token)
                opens = client.credentials or self.vault.device(lenses[0].name)
                self._work.sources[lens.name] = Source(address, opens, seen.own_endpoint, sub)
            except DeviceError as error:
                self._work.sources[lens.name] = error
        return runner

    async def _behind(self, camera: Camera) -> DeviceResult:
        """At its recorder's own port: what the recorder offers is all that can be set."""
        runner = self._work.runners[camera.name] = self._runner(camera)
        text = f"its password, time and streams, since only {camera.behind} reaches it"
        runner.tell(finding("REG-2", ref_of(camera), text, "as planned", camera.where))
        work = self._work.channels.give_own(self.keyring.numbered(camera), runner)
        outcome = (await scheduler.run([camera], lambda _: work, at_once=1, budget_s=None))[0]
        return runner.ended_by(outcome.message, outcome.report) if isinstance(outcome, Failure) else runner.result()

    async def _rtsp_only(self, camera: Camera, seen: FoundDevice) -> StepRunner:
        """Nothing can be set on it but its channel; its own page does the rest."""
        runner = self._work.runners[camera.name] = self._runner(camera)
        await self.keyring.ready()
        try:
            kept = kept_addresses(self.logbook, camera.name)
            addresses = stream_addresses(self.plan, camera, seen.address, seen.rtsp_port, kept)
            main, sub = addresses["main"], addresses.get("sub") if self.plan.recording(camera).sub else None
            credentials = await find_credentials(self.keyring, camera, seen, main)
            if credentials is None:
                raise DeviceError("it plays for everybody; set a password in its own page, and put it into the vault")
            self._work.sources[camera.name] = Source(main, credentials, seen.own_endpoint, sub)
        except DeviceError as error:
            self._work.sources[camera.name] = error
        text = "its password, name, time and streams, since it speaks RTSP only"
        runner.tell(finding("REG-2", ref_of(camera), text, "as planned", camera.where))
        return runner


def said(result: DeviceResult) -> str:
    """What came of one device, in a few words."""
    counts = [(o, sum(s.outcome is o for s in result.steps)) for o in Outcome]
    parts = [f"{number} {outcome.value}" for outcome, number in counts if number and outcome is not Outcome.UNCHANGED]
    return ", ".join(parts) or "as planned"


def ref_of_step(result: DeviceResult, step: str) -> Ref:
    return Ref(result.ref.kind, result.ref.name, f"step {step}")
