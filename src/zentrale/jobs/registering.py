"""Bringing recorders and cameras to plan, many at once. One that fails does not stop the others."""

from __future__ import annotations

import asyncio
from collections.abc import AsyncIterator, Awaitable, Callable, Sequence
from contextlib import asynccontextmanager
from dataclasses import dataclass

from zentrale.errors import DeviceError, NothingReachedError
from zentrale.field.onvif_client import OnvifClient
from zentrale.findings import Finding
from zentrale.jobs.device_steps import DeviceSteps, pick_profiles
from zentrale.jobs.discovering import FoundDevice, last_devices
from zentrale.jobs.recorder_steps import RecorderChannels
from zentrale.jobs.rtsp_only import find_credentials, stream_addresses
from zentrale.jobs.steps import DeviceResult, Outcome, Step, StepRunner
from zentrale.logbook.store import Change, Logbook
from zentrale.logbook.vault import Vault
from zentrale.protocols.http_auth import Credentials
from zentrale.site.model import Camera, Plan, Recorder

COMMAND = "register"
AT_ONCE = 8

Progress = Callable[[int, str], None]
Source = Callable[[], Awaitable[tuple[str, Credentials | None]]]  # a main stream's address, and what opens it


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
    """One run of `register`."""

    def __init__(self, plan: Plan, vault: Vault, logbook: Logbook, *, dry_run: bool) -> None:
        self.plan = plan
        self.vault = vault
        self.logbook = logbook
        self.dry_run = dry_run
        self._channels: dict[str, RecorderChannels | DeviceError] = {}
        self._run = 0

    async def register(self, cameras: Sequence[Camera], progress: Progress) -> Registration:
        """Raises InputError where nothing was discovered yet, NothingReachedError where none of `cameras` was found."""
        found = last_devices(self.logbook)
        present = [c for c in cameras if c.name in found and (found[c.name].url or not self.plan.camera_type(c).onvif)]
        not_found = tuple(c.name for c in cameras if c not in present)
        if cameras and not present:
            raise NothingReachedError(
                "none of the planned cameras was found by the last discovery",
                "run `zentrale discover` again and read its findings",
            )
        taken_up = self.logbook.close_interrupted()
        self._run = self.logbook.begin_run(COMMAND, "")
        recorders = [r for r in self.plan.recorders if any(c.recorder == r.name for c in present)]
        done = 0
        gate = asyncio.Semaphore(AT_ONCE)

        async def camera_result(camera: Camera) -> DeviceResult:
            nonlocal done
            async with gate:
                result = await self._camera(camera, found[camera.name])
            done += 1
            progress(done, camera.name)
            return result

        async with self._recorders(recorders, found) as recorder_results:
            camera_results = await asyncio.gather(*(camera_result(c) for c in present))
        results = (*recorder_results, *camera_results)
        findings = tuple(f for r in results for f in r.findings())
        self.logbook.finish_run(self._run, findings)
        return Registration(results, not_found, taken_up, findings, self.dry_run)

    @asynccontextmanager
    async def _recorders(
        self, recorders: Sequence[Recorder], found: dict[str, FoundDevice]
    ) -> AsyncIterator[list[DeviceResult]]:
        """Bring the recorders to plan, and keep them open for their channels."""
        clients, results = [], []
        try:
            for recorder in recorders:
                seen = found.get(recorder.name)
                if seen is None or not seen.url:
                    self._channels[recorder.name] = DeviceError(f"{recorder.name} was not found by the last discovery")
                    continue
                client = OnvifClient(seen.url)
                clients.append(client)
                runner = self._runner(f"recorder {recorder.name}")
                steps = self._steps(client, recorder, seen, self.plan.recorder_type(recorder).maker)
                await self._common_steps(runner, steps)
                result = runner.result()
                results.append(result)
                failed = DeviceError(f"{recorder.name} could not be set up: {result.steps[-1].error}")
                self._channels[recorder.name] = failed if result.failed else RecorderChannels(client)
            yield results
        finally:
            for client in clients:
                await client.__aexit__(None, None, None)

    def _steps(self, client: OnvifClient, device: Camera | Recorder, seen: FoundDevice, maker: str) -> DeviceSteps:
        mac = device.mac or seen.mac or None
        return DeviceSteps(client, self.vault, device.name, maker, mac, dry_run=self.dry_run)

    def _runner(self, subject: str) -> StepRunner:
        return StepRunner(self.logbook, self._run, subject, dry_run=self.dry_run)

    async def _common_steps(self, runner: StepRunner, steps: DeviceSteps) -> bool:
        return (
            await runner.run("password", steps.password)
            and await runner.run("name", steps.label)
            and await runner.run(
                "time", lambda: steps.time(self.plan.site.timezone, self.plan.policy.clock_tolerance_s)
            )
        )

    async def _camera(self, camera: Camera, seen: FoundDevice) -> DeviceResult:
        runner = self._runner(f"camera {camera.name}")
        if not seen.url:
            return await self._rtsp_only(runner, camera, seen)
        async with OnvifClient(seen.url) as client:
            steps = self._steps(client, camera, seen, self.plan.camera_type(camera).maker)
            if not await self._common_steps(runner, steps):
                return runner.result()
            for stream, wanted in self.plan.streams(camera).items():
                if not await runner.run(f"{stream} stream", lambda s=stream, w=wanted: steps.encoder(s, w)):  # type: ignore[misc]
                    return runner.result()

            async def source() -> tuple[str, Credentials | None]:
                profile = pick_profiles(await client.profiles()).get("main")
                if profile is None:
                    raise DeviceError("it offers no main profile to record")
                return await client.stream_uri(profile.token), client.credentials or self.vault.device(camera.name)

            await self._put_on_channel(runner, camera, source)
        return runner.result()

    async def _rtsp_only(self, runner: StepRunner, camera: Camera, seen: FoundDevice) -> DeviceResult:
        """Nothing can be set on it but its channel; its own page does the rest."""

        async def source() -> tuple[str, Credentials | None]:
            main = stream_addresses(self.plan, camera, seen.address, seen.open_ports)["main"]
            maker = self.plan.camera_type(camera).maker
            credentials = await find_credentials(self.vault.contents, camera.name, maker, main)
            if credentials is None:
                raise DeviceError("it plays for everybody; set a password in its own page, and put it into the vault")
            return main.url, credentials

        await self._put_on_channel(runner, camera, source)
        return runner.result()

    async def _put_on_channel(self, runner: StepRunner, camera: Camera, source: Source) -> None:
        channels = self._channels[camera.recorder]

        async def prepare() -> Step:
            if isinstance(channels, DeviceError):
                raise channels
            url, credentials = await source()
            if credentials is None:
                if not self.dry_run:
                    raise DeviceError("its password is not in the vault")
                return Step("channel", "", f"channel {camera.channel}: {url}", _refuse)
            return await channels.step(camera.channel, camera.name, camera.shows, url, credentials)

        if isinstance(channels, DeviceError):
            await runner.run("channel", prepare)
            return
        async with channels.turn:
            await runner.run("channel", prepare)


async def _refuse() -> None:
    raise AssertionError("a dry run applies nothing")
