"""Bringing recorders and cameras to plan, many at once. One that fails does not stop the others."""

from __future__ import annotations

import asyncio
import socket
from collections.abc import AsyncIterator, Awaitable, Callable, Mapping, Sequence
from contextlib import asynccontextmanager, nullcontext
from dataclasses import dataclass

from zentrale.errors import DeviceError, NothingReachedError
from zentrale.field import scheduler
from zentrale.field.device import GONE_PATIENCE_S, Device
from zentrale.field.scheduler import Failure
from zentrale.findings import Finding, finding
from zentrale.jobs.discovery.discovering import current_devices
from zentrale.jobs.discovery.found import FoundDevice
from zentrale.jobs.discovery.matching import matched
from zentrale.jobs.keyring import Keyring
from zentrale.jobs.planned import place_of, ref_of
from zentrale.jobs.recorders.driver import ByHand, Driver, recorded_url
from zentrale.jobs.recorders.onvif_lists import doubles_finding
from zentrale.jobs.recorders.registry import driver_of
from zentrale.jobs.rtsp_only import find_credentials, is_rtsp_only, kept_addresses, stream_addresses
from zentrale.jobs.steps.bench import Bench
from zentrale.jobs.steps.encoder import ProfileChoice
from zentrale.jobs.steps.password import Password
from zentrale.jobs.steps.registry import steps_of
from zentrale.jobs.steps.runner import StepRunner
from zentrale.jobs.steps.step import DeviceResult, Outcome
from zentrale.logbook.evidence import Notes, note
from zentrale.logbook.store import Change, KnownDevice
from zentrale.protocols.http_auth import Credentials
from zentrale.protocols.onvif.media import Profile
from zentrale.protocols.rtsp_client import StreamAddress
from zentrale.site.model import Camera, Recorder
from zentrale.subjects import Ref

COMMAND = "register"
AT_ONCE = 8
# For one device: some twenty requests, each of which may take 12 s, and a restart or two.
BUDGET_S = 480.0

Progress = Callable[[int, str], None]
Source = tuple[StreamAddress, Credentials | None]  # a main stream's address, and what opens it


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


class Registrar:
    """One run of `register`. The caller holds the lock of the site, unless it is a dry run."""

    def __init__(self, keyring: Keyring) -> None:
        assert keyring.plan is not None and keyring.vault is not None
        self.keyring = keyring
        self.plan = keyring.plan
        self.vault = keyring.vault
        self.logbook = keyring.logbook
        self.dry_run = keyring.dry_run
        self._channels: dict[str, Driver | DeviceError] = {}
        self._by_hand: list[ByHand] = []
        self._runners: dict[str, StepRunner] = {}
        self._sources: dict[str, Source | DeviceError] = {}
        self._run = 0

    async def register(self, cameras: Sequence[Camera], progress: Progress) -> Registration:
        """Raises InputError where nothing was discovered yet, NothingReachedError where none of `cameras` was found."""
        found = self._found()
        present = [c for c in cameras if c.name in found and (found[c.name].url or is_rtsp_only(self.plan, c))]
        not_found = tuple(c.name for c in cameras if c not in present)
        if cameras and not present:
            raise NothingReachedError(
                "none of the planned cameras was found by the last discovery",
                "run `zentrale discover` again and read its findings",
            )
        taken_up = () if self.dry_run else self.logbook.close_interrupted()
        recorders = [r for r in self.plan.recorders if any(c.recorder == r.name for c in present)]
        scope = {"cameras": [c.name for c in present], "recorders": [r.name for r in recorders]}
        running = nullcontext(0) if self.dry_run else self.logbook.running(COMMAND, socket.gethostname(), scope)
        done = 0

        async def one(camera: Camera) -> DeviceResult:
            nonlocal done
            result = await self._camera(camera, found[camera.name])
            await self._note(result)
            done += 1
            progress(done, camera.name)
            return result

        with running as self._run:
            async with self._recorders(recorders, found) as recorder_results:
                camera_results = await scheduler.run(present, one, at_once=AT_ONCE, budget_s=None)
                await self._tell_doubles(recorders, recorder_results)
            results = (*recorder_results, *(self._result(r) for r in camera_results))
            for result in recorder_results:
                await self._note(result)
            for failed in camera_results:
                if isinstance(failed, Failure):
                    await self._note(self._result(failed))
        served = [r for r in recorders if driver_of(self.plan, r).has_service]
        not_found += tuple(r.name for r in served if r.name not in found or not found[r.name].url)
        findings = tuple(f for r in results for f in r.findings())
        number = None if self.dry_run else self._run
        return Registration(results, not_found, taken_up, findings, self.dry_run, number, tuple(self._by_hand))

    def _found(self) -> dict[str, FoundDevice]:
        """The found devices by name; rows that got another name since then take their device's history along."""
        matching = matched(self.plan, self.logbook, current_devices(self.logbook))
        if not self.dry_run:
            for old, new in matching.renamed:
                self.vault.rename_device(old, new)
                self.logbook.rename(old, new)
        return matching.by_name

    def _result(self, result: DeviceResult | Failure[Camera]) -> DeviceResult:
        """A failure outside every step is that camera's result all the same."""
        if isinstance(result, DeviceResult):
            return result
        return self._runner(result.item).ended_by(result.message, result.report)

    async def _note(self, result: DeviceResult) -> None:
        """Each step that was done or failed was looked at; one that was not tried was not."""
        if self.dry_run:
            return
        notes = Notes()
        for step in result.steps:
            ref = ref_of_step(result, step.step)
            item = result.finding_of(step)
            if step.outcome in (Outcome.UNCHANGED, Outcome.CHANGED):
                notes.judge(ref, {"REG-1", "ERR-1"})
                if step.settles:
                    notes.judge(result.ref, step.settles)
            elif item is not None:
                notes.judge(ref, (), [item])
        notes.judge(result.ref, {"REG-2", "REC-4"}, result.told)
        await asyncio.to_thread(note, self.logbook, self._run, notes)

    @asynccontextmanager
    async def _recorders(
        self, recorders: Sequence[Recorder], found: dict[str, FoundDevice]
    ) -> AsyncIterator[list[DeviceResult]]:
        """Bring the recorders to plan, and keep them open for their channels."""
        clients: list[Device] = []
        results: list[DeviceResult] = []

        async def prepare(recorder: Recorder) -> None:
            driver, seen = driver_of(self.plan, recorder), found.get(recorder.name)
            if not driver.has_service:
                self._channels[recorder.name] = driver(None)
                return
            if seen is None or not seen.url:
                self._channels[recorder.name] = DeviceError("was not found by the last discovery")
                return
            client = self._open(recorder, seen)
            clients.append(client)
            result = await self._within_budget(recorder, self._own_steps(recorder, seen, client))
            results.append(result)
            entered = bool(result.steps) and not self._runners[recorder.name].failed(Password)
            failed = DeviceError("could not be entered")
            self._channels[recorder.name] = driver(client) if entered else failed

        try:
            outcomes = await scheduler.run(recorders, prepare, at_once=AT_ONCE, budget_s=None)
            for outcome in outcomes:
                if isinstance(outcome, Failure):
                    self._channels[outcome.item.name] = DeviceError(outcome.message)
                    results.append(self._runner(outcome.item).ended_by(outcome.message, outcome.report))
            yield results
        finally:
            for client in clients:
                await client.close()

    async def _tell_doubles(self, recorders: Sequence[Recorder], results: list[DeviceResult]) -> None:
        """What a recorder holds twice after all this: asked for once, when its channels are done."""
        for recorder in recorders:
            channels = self._channels.get(recorder.name)
            if not isinstance(channels, Driver) or not channels.has_service:
                continue
            try:
                told = await channels.doubles()
            except DeviceError:
                continue  # its channels' own steps tell that it does not answer
            item = doubles_finding(recorder.name, told)
            if item is not None:
                runner = self._runners[recorder.name]
                runner.tell(item)
                results[:] = [runner.result() if r.ref == runner.ref else r for r in results]

    def _open(self, planned: Camera | Recorder, seen: FoundDevice) -> Device:
        return Device(seen.url, self.keyring.rules(planned), endpoint=seen.own_endpoint, patience_s=GONE_PATIENCE_S)

    def _runner(self, planned: Camera | Recorder) -> StepRunner:
        return StepRunner(self.logbook, self._run, ref_of(planned), self.keyring.ready, dry_run=self.dry_run)

    async def _within_budget(self, planned: Camera | Recorder, work: Awaitable[StepRunner]) -> DeviceResult:
        """The steps done in time, and what ended the others."""
        outcome = (await scheduler.run([planned], lambda _: work, at_once=1, budget_s=self.keyring.budget(BUDGET_S)))[0]
        if isinstance(outcome, Failure):
            runner = self._runners.get(planned.name) or self._runner(planned)
            return runner.ended_by(outcome.message, outcome.report)
        return outcome.result()

    async def _own_steps(self, planned: Camera | Recorder, seen: FoundDevice, client: Device) -> StepRunner:
        """All steps on the device itself; those that need one that failed are not tried."""
        runner = self._runners[planned.name] = self._runner(planned)
        for step in steps_of(Bench(client, self.keyring, planned, seen)):
            await runner.run(step)
            if isinstance(step, Password) and step.identity and not self.dry_run:
                self.logbook.remember(KnownDevice(planned.name, step.identity, client.host, place_of(planned)))
        return runner

    async def _camera(self, camera: Camera, seen: FoundDevice) -> DeviceResult:
        if is_rtsp_only(self.plan, camera):
            result = await self._within_budget(camera, self._rtsp_only(camera, seen))
        else:
            async with self._open(camera, seen) as client:
                result = await self._within_budget(camera, self._onvif(camera, seen, client))
        if camera.name not in self._sources:
            return result
        channels = self._channels[camera.recorder]
        async with nullcontext() if isinstance(channels, DeviceError) else channels.turn:
            # Waiting for the turn is not the camera's time.
            return await self._within_budget(camera, self._put_on_channel(camera, channels))

    async def _onvif(self, camera: Camera, seen: FoundDevice, client: Device) -> StepRunner:
        runner = await self._own_steps(camera, seen, client)
        if runner.failed(Password):
            return runner
        profiles: dict[str, Profile] = {}
        try:
            profiles = ProfileChoice.remembered(self.logbook, ref_of(camera)).of(await client.profiles())
            if "main" not in profiles:
                raise DeviceError("it offers no main profile to record")
            address = await client.stream_address(profiles["main"].token)
            self._sources[camera.name] = address, client.credentials or self.vault.device(camera.name)
        except DeviceError as error:
            self._sources[camera.name] = error
        item = not_set(camera, seen.addresses, profiles)
        if item is not None:
            runner.tell(item)
        return runner

    async def _rtsp_only(self, camera: Camera, seen: FoundDevice) -> StepRunner:
        """Nothing can be set on it but its channel; its own page does the rest."""
        runner = self._runners[camera.name] = self._runner(camera)
        await self.keyring.ready()
        try:
            kept = kept_addresses(self.logbook, camera.name)
            main = stream_addresses(self.plan, camera, seen.address, seen.open_ports, kept)["main"]
            credentials = await find_credentials(self.keyring, camera, seen, main)
            if credentials is None:
                raise DeviceError("it plays for everybody; set a password in its own page, and put it into the vault")
            self._sources[camera.name] = main, credentials
        except DeviceError as error:
            self._sources[camera.name] = error
        told = "its password, name, time and streams, since it speaks RTSP only"
        runner.tell(finding("REG-2", ref_of(camera), told, "as planned", camera.source))
        return runner

    async def _put_on_channel(self, camera: Camera, channels: Driver | DeviceError) -> StepRunner:
        runner, source = self._runners[camera.name], self._sources[camera.name]
        if isinstance(channels, DeviceError):  # one finding about the recorder, not one for each of its cameras
            runner.leave("channel", f"needs recorder {camera.recorder}, which {channels}")
            return runner
        if isinstance(source, DeviceError):
            runner.fail("channel", str(source))
            return runner
        address, credentials = source
        url = recorded_url(camera, address)
        step = channels.give(camera, url, credentials)
        if isinstance(step, ByHand):
            self._by_hand.append(step)
            runner.leave("channel", f"by hand: channel {step.channel} takes {step.url}, user {step.user}")
        else:
            await runner.run(step)
        return runner


def ref_of_step(result: DeviceResult, step: str) -> Ref:
    return Ref(result.ref.kind, result.ref.name, f"step {step}")


def not_set(camera: Camera, addresses: Sequence[str], profiles: Mapping[str, Profile]) -> Finding | None:
    """Planned values that are not as planned, and that no step sets."""
    told, planned = [], []
    if camera.host and camera.host not in addresses:
        told.append(f"its address is {addresses[0]}")
        planned.append(camera.host)
    for stream, group in (("main", camera.multicast_main), ("sub", camera.multicast_sub)):
        profile = profiles.get(stream)
        held = profile.encoder.multicast_address if profile is not None and profile.encoder is not None else None
        if group and held is not None and held != str(group):
            told.append(f"the multicast group of its {stream} stream is {held}")
            planned.append(str(group))
    if not told:
        return None
    return finding("REG-2", ref_of(camera), "; ".join(told), ", ".join(planned), camera.source)
