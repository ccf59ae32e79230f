"""Bringing recorders and cameras to plan, many at once. One that fails does not stop the others."""

from __future__ import annotations

from collections.abc import AsyncIterator, Awaitable, Callable, Sequence
from contextlib import asynccontextmanager
from dataclasses import dataclass

from zentrale.errors import DeviceError, NothingReachedError
from zentrale.field import scheduler
from zentrale.field.device import GONE_PATIENCE_S, Device
from zentrale.field.scheduler import Failure
from zentrale.findings import Finding
from zentrale.jobs.device_steps import DeviceSteps, pick_profiles
from zentrale.jobs.discovering import all_devices
from zentrale.jobs.found import FoundDevice
from zentrale.jobs.keyring import Keyring
from zentrale.jobs.matching import matched
from zentrale.jobs.planned import place_of, ref_of
from zentrale.jobs.recorder_steps import RecorderChannels, recorded_address
from zentrale.jobs.rtsp_only import find_credentials, is_rtsp_only, stream_addresses
from zentrale.jobs.steps import DeviceResult, Outcome, Step, StepRunner
from zentrale.logbook.store import Change, KnownDevice
from zentrale.protocols.http_auth import Credentials
from zentrale.protocols.rtsp_client import StreamAddress
from zentrale.site.model import Camera, Recorder

COMMAND = "register"
AT_ONCE = 8
BUDGET_S = 240.0  # for one device: some twenty requests, each of which may take 12 s

Progress = Callable[[int, str], None]
Source = tuple[StreamAddress, Credentials | None]  # a main stream's address, and what opens it


@dataclass(frozen=True)
class Registration:
    """`not_found` are planned cameras the last discovery did not see; `taken_up` steps an earlier run died in."""

    results: tuple[DeviceResult, ...]
    not_found: tuple[str, ...]
    taken_up: tuple[Change, ...]
    findings: tuple[Finding, ...]
    dry_run: bool

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
        self._channels: dict[str, RecorderChannels | DeviceError] = {}
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
        self._run = self.logbook.begin_run(COMMAND, "")
        recorders = [r for r in self.plan.recorders if any(c.recorder == r.name for c in present)]
        done = 0

        def count(camera: Camera) -> None:
            nonlocal done
            done += 1
            progress(done, camera.name)

        async with self._recorders(recorders, found) as recorder_results:
            camera_results = await scheduler.run(
                present, lambda c: self._camera(c, found[c.name]), at_once=AT_ONCE,
                budget_s=None, done=count,
            )  # fmt: skip
        results = (*recorder_results, *(self._result(r) for r in camera_results))
        findings = tuple(f for r in results for f in r.findings())
        self.logbook.finish_run(self._run, findings)
        return Registration(results, not_found, taken_up, findings, self.dry_run)

    def _found(self) -> dict[str, FoundDevice]:
        """The found devices by name; rows that got another name since then take their device's history along."""
        matching = matched(self.plan, self.logbook, all_devices(self.logbook))
        if not self.dry_run:
            for old, new in matching.renamed:
                self.vault.rename_device(old, new)
                self.logbook.rename(old, new)
        return matching.by_name

    def _result(self, result: DeviceResult | Failure[Camera]) -> DeviceResult:
        """A failure outside every step is that camera's result all the same."""
        if isinstance(result, DeviceResult):
            return result
        return self._runner(str(ref_of(result.item))).ended_by(result.message, result.report)

    @asynccontextmanager
    async def _recorders(
        self, recorders: Sequence[Recorder], found: dict[str, FoundDevice]
    ) -> AsyncIterator[list[DeviceResult]]:
        """Bring the recorders to plan, and keep them open for their channels."""
        clients: list[Device] = []
        results: list[DeviceResult] = []

        async def prepare(recorder: Recorder) -> None:
            seen = found.get(recorder.name)
            if seen is None or not seen.url:
                self._channels[recorder.name] = DeviceError(f"{recorder.name} was not found by the last discovery")
                return
            client = self._open(recorder, seen)
            clients.append(client)
            result = await self._within_budget(recorder, self._common_steps(recorder, seen, client))
            results.append(result)
            error = next((s.error for s in reversed(result.steps) if s.error), "")
            failed = DeviceError(f"{recorder.name} could not be set up: {error}")
            self._channels[recorder.name] = failed if result.failed else RecorderChannels(client)

        try:
            outcomes = await scheduler.run(recorders, prepare, at_once=AT_ONCE, budget_s=None)
            for outcome in outcomes:
                if isinstance(outcome, Failure):
                    self._channels[outcome.item.name] = DeviceError(outcome.message)
                    results.append(self._runner(str(ref_of(outcome.item))).ended_by(outcome.message, outcome.report))
            yield results
        finally:
            for client in clients:
                await client.close()

    def _open(self, planned: Camera | Recorder, seen: FoundDevice) -> Device:
        return Device(seen.url, self.keyring.rules(planned), endpoint=seen.own_endpoint, patience_s=GONE_PATIENCE_S)

    def _runner(self, subject: str) -> StepRunner:
        return StepRunner(self.logbook, self._run, subject, self.keyring.ready, dry_run=self.dry_run)

    async def _within_budget(self, planned: Camera | Recorder, work: Awaitable[StepRunner]) -> DeviceResult:
        """The steps done in time, and what ended the others."""
        outcome = (await scheduler.run([planned], lambda _: work, at_once=1, budget_s=self.keyring.budget(BUDGET_S)))[0]
        if isinstance(outcome, Failure):
            runner = self._runners.get(planned.name) or self._runner(str(ref_of(planned)))
            return runner.ended_by(outcome.message, outcome.report)
        return outcome.result()

    async def _common_steps(self, planned: Camera | Recorder, seen: FoundDevice, client: Device) -> StepRunner:
        runner = self._runners[planned.name] = self._runner(str(ref_of(planned)))
        steps = DeviceSteps(client, self.keyring, planned, seen)
        _ = (
            await runner.run("password", steps.password)
            and await runner.run("name", steps.label)
            and await runner.run(
                "time", lambda: steps.time(self.plan.site.timezone, self.plan.policy.clock_tolerance_s)
            )
        )
        if not self.dry_run and steps.identity:
            self.logbook.remember(KnownDevice(planned.name, steps.identity, client.host, place_of(planned)))
        return runner

    async def _camera(self, camera: Camera, seen: FoundDevice) -> DeviceResult:
        if is_rtsp_only(self.plan, camera):
            result = await self._within_budget(camera, self._rtsp_only(camera, seen))
        else:
            async with self._open(camera, seen) as client:
                result = await self._within_budget(camera, self._onvif(camera, seen, client))
        if result.failed:
            return result
        channels = self._channels[camera.recorder]
        if isinstance(channels, DeviceError):
            return await self._within_budget(camera, self._put_on_channel(camera, channels))
        async with channels.turn:  # waiting for the turn is not the camera's time
            return await self._within_budget(camera, self._put_on_channel(camera, channels))

    async def _onvif(self, camera: Camera, seen: FoundDevice, client: Device) -> StepRunner:
        runner = await self._common_steps(camera, seen, client)
        if runner.failed:
            return runner
        steps = DeviceSteps(client, self.keyring, camera, seen)
        for stream, wanted in self.plan.streams(camera).items():
            if not await runner.run(f"{stream} stream", lambda s=stream, w=wanted: steps.encoder(s, w)):  # type: ignore[misc]
                return runner
        try:
            profile = pick_profiles(await client.profiles()).get("main")
            if profile is None:
                raise DeviceError("it offers no main profile to record")
            address = await client.stream_address(profile.token)
            self._sources[camera.name] = address, client.credentials or self.vault.device(camera.name)
        except DeviceError as error:
            self._sources[camera.name] = error
        return runner

    async def _rtsp_only(self, camera: Camera, seen: FoundDevice) -> StepRunner:
        """Nothing can be set on it but its channel; its own page does the rest."""
        runner = self._runners[camera.name] = self._runner(str(ref_of(camera)))
        await self.keyring.ready()
        try:
            main = stream_addresses(self.plan, camera, seen.address, seen.open_ports)["main"]
            credentials = await find_credentials(self.keyring, camera, seen, main)
            if credentials is None:
                raise DeviceError("it plays for everybody; set a password in its own page, and put it into the vault")
            self._sources[camera.name] = main, credentials
        except DeviceError as error:
            self._sources[camera.name] = error
        return runner

    async def _put_on_channel(self, camera: Camera, channels: RecorderChannels | DeviceError) -> StepRunner:
        runner, source = self._runners[camera.name], self._sources[camera.name]

        async def prepare() -> Step:
            if isinstance(channels, DeviceError):
                raise channels
            if isinstance(source, DeviceError):
                raise source
            address, credentials = source
            url = recorded_address(camera, address)
            if credentials is None:
                if not self.dry_run:
                    raise DeviceError("its password is not in the vault")
                return Step("channel", "", f"channel {camera.channel}: {url}", _refuse)
            return await channels.step(camera.channel, camera.name, camera.shows, url, credentials)

        await runner.run("channel", prepare)
        return runner


async def _refuse() -> None:
    raise AssertionError("a dry run applies nothing")
