"""The recorders of one run of `register`: opened and brought to plan first, then each gives its cameras their channels."""

from __future__ import annotations

from collections.abc import AsyncIterator, Awaitable, Callable, Iterator, Mapping, Sequence
from contextlib import asynccontextmanager
from dataclasses import dataclass, replace
from functools import cached_property
from typing import Any

from zentrale.errors import DeviceError, RefusedError
from zentrale.field import rtsp_player, scheduler
from zentrale.field.device import Device
from zentrale.field.rtsp_player import Access
from zentrale.field.scheduler import Failure
from zentrale.field.visit import Visit
from zentrale.findings import Finding, finding
from zentrale.jobs.known.found_devices import FoundDevice
from zentrale.jobs.known.planned import ref_of
from zentrale.jobs.known.step_form import DeviceResult, Outcome, Step, StepResult
from zentrale.jobs.passwords.keyring import Keyring
from zentrale.jobs.recorders import channel_rules
from zentrale.jobs.recorders.driver import ByHand, Driver, PlannedChannel, Streamed, recorded_url
from zentrale.jobs.recorders.next_free import bind_next
from zentrale.jobs.recorders.passes import Passes, passes
from zentrale.jobs.recorders.recorder_registry import driver_of, opened, planned_channels
from zentrale.jobs.registration.by_hand import recording_rules, rules_told
from zentrale.jobs.steps import accounts
from zentrale.jobs.steps.address import Address
from zentrale.jobs.steps.runner import StepRunner
from zentrale.jobs.streams.reference import references, take_reference
from zentrale.protocols.http_auth import Credentials
from zentrale.protocols.stream_address import StreamAddress
from zentrale.site.model import Camera, Plan, Recorder
from zentrale.subjects import Ref

AT_ONCE = 8
PICTURE = "picture"  # the step that plays the stream; nothing is changed by it


@dataclass(frozen=True)
class Source:
    """A camera's main stream: where it is, what opens the camera itself, and what is known of it before it lets anybody in; `sub`
    where that is to be recorded too, and it tells one.
    """

    address: StreamAddress
    credentials: Credentials | None
    endpoint: str = ""
    sub: StreamAddress | None = None


class Channels:
    """`prepare` brings a recorder to plan through its client: it is the registrar's. `renew`: each picture is taken anew."""

    def __init__(
        self, keyring: Keyring, open_device: Callable[[Recorder, FoundDevice], Awaitable[Device]], *, renew: bool
    ) -> None:
        self.keyring = keyring
        self.by_hand: list[ByHand] = []
        self._open = open_device
        self._renew = renew
        self._drivers: dict[str, Driver | DeviceError] = {}

    @property
    def plan(self) -> Plan:
        assert self.keyring.plan is not None
        return self.keyring.plan

    @cached_property
    def _references(self) -> frozenset[Ref]:
        return frozenset(references(self.keyring.logbook))

    @asynccontextmanager
    async def opened(
        self,
        recorders: Sequence[Recorder],
        found: dict[str, FoundDevice],
        prepare: Callable[[Recorder, FoundDevice, Device], Awaitable[tuple[DeviceResult, bool]]],
        failed: Callable[[Failure[Recorder]], DeviceResult],
        run: int,
        runners: dict[str, StepRunner],
    ) -> AsyncIterator[list[DeviceResult]]:
        """Bring the recorders to plan, and keep them open for their channels. `prepare` says whether it was entered; cameras that
        are on other channels than planned change places first.
        """
        clients: list[Device] = []
        results: list[DeviceResult] = []

        async def one(recorder: Recorder) -> None:
            seen = found.get(recorder.name)
            if not driver_of(self.plan, recorder).has_service:
                self._drivers[recorder.name] = opened(self.keyring, recorder, None)
                return
            if seen is None or not seen.url:
                self._drivers[recorder.name] = DeviceError("was not found by the last discovery")
                return
            client = await self._open(recorder, seen)
            clients.append(client)
            result, entered = await prepare(recorder, seen, client)
            if not entered:
                self._drivers[recorder.name] = DeviceError("could not be entered")
                results.append(result)
                return
            driver, runner = opened(self.keyring, recorder, client, writes=True), runners[recorder.name]
            try:
                bind_next(self.keyring, recorder, await driver.taken())
                for moved in await driver.settle(self.keyring, run, recorder):
                    runner.add(moved)
            except DeviceError as error:
                runner.fail("channels", str(error))
            self._drivers[recorder.name] = driver
            results.append(runner.result())

        try:
            outcomes = await scheduler.run(recorders, one, at_once=AT_ONCE, budget_s=None)
            for outcome in outcomes:
                if isinstance(outcome, Failure):
                    self._drivers[outcome.item.name] = DeviceError(outcome.message)
                    results.append(failed(outcome))
            yield results
        finally:
            for client in clients:
                await client.close()

    async def tell(self, runners: dict[str, StepRunner], results: list[DeviceResult]) -> None:
        """What is to be told of a recorder's channels after all this: asked for once, when its cameras are done."""
        for name, driver in self._drivers.items():
            if not isinstance(driver, Driver) or not driver.has_service:
                continue
            planned = planned_channels(self.plan, [self.keyring.numbered(c) for c in self.plan.cameras], name)
            try:
                noticed = await driver.noticed(planned)
            except DeviceError:
                continue  # its channels' own steps tell that it does not answer
            runner = runners[name]
            done = [r.result() for r in runners.values()]
            findings = list(_as_steps_left_it(noticed, planned, done))
            open_ = [r for r in recording_rules(self.plan, self.plan.recorder(name), done) if not r.failed]
            rules = rules_told(open_)
            if rules:
                runner.tell(finding("REG-3", runner.ref, rules, "as planned", "site.toml groups, recording"))
            for item in findings:
                runner.tell(item)
            results[:] = [runner.result() if r.ref == runner.ref else r for r in results]

    async def give(self, run: int, camera: Camera, source: Source | DeviceError, runner: StepRunner) -> None:
        """Put the camera onto its channel, once its stream was seen to play as the recorder will play it."""
        driver = self._drivers[camera.recorder]
        camera = self.keyring.numbered(camera)
        watching = self.plan.policy.recorder_account
        if isinstance(driver, DeviceError):  # one finding about the recorder, not one for each of its cameras
            runner.leave("channel", f"needs recorder {camera.recorder}, which {driver}")
            return
        if isinstance(source, DeviceError):
            runner.fail("channel", str(source))
            return
        if runner.has(accounts.name_of(watching)) and not runner.went_well(accounts.name_of(watching)):
            runner.leave(
                "channel", f"needs {accounts.name_of(watching)}, which was not made", accounts.name_of(watching)
            )
            return
        if runner.has(Address.name) and not runner.went_well(Address.name):
            runner.leave("channel", f"needs {Address.name}, which failed", Address.name)
            return
        shown = passes(self.keyring, camera, source.credentials)
        if runner.dry_run and runner.has(accounts.name_of(watching)) and shown.current is source.credentials:
            shown.current = Credentials(watching, "")  # it would be made
        url = recorded_url(camera, source.address, will_move=runner.dry_run and runner.has(Address.name))
        step = driver.give(camera, url, shown)
        if not runner.dry_run and not await self._played(run, camera, source, shown, step, driver, runner):
            return
        moves = runner.dry_run and runner.has(Address.name)
        sub = recorded_url(camera, source.sub, will_move=moves) if source.sub is not None else ""
        await self._on_channel(driver, camera, step, self._streamed(camera, sub), shown, runner)

    async def give_own(self, camera: Camera, runner: StepRunner) -> None:
        """A camera at the recorder's own port: as far as the recorder offers."""
        driver = self._drivers[camera.behind]
        if isinstance(driver, DeviceError):
            runner.leave("channel", f"needs recorder {camera.behind}, which {driver}")
            return
        shown = passes(self.keyring, camera, None)
        await self._on_channel(driver, camera, driver.own_port(camera), self._streamed(camera, ""), shown, runner)

    async def _on_channel(
        self,
        driver: Driver,
        camera: Camera,
        step: Step[Any] | ByHand,
        stream: Streamed,
        shown: Passes,
        runner: StepRunner,
    ) -> None:
        """Within the recorder's turn: its channel, then the rules that hold there."""
        if isinstance(step, ByHand):
            self.by_hand.append(step)
            user = f", user {step.user}" if step.user else ""
            runner.leave("channel", f"by hand: channel {step.channel} takes {step.url}{user}")
            return
        async with driver.turn:
            if await runner.run(step):
                for rule in driver.rules(camera, stream, shown):
                    await runner.run(rule)
                    for item in rule.noticed:
                        runner.tell(item)

    def _streamed(self, camera: Camera, sub: str) -> Streamed:
        rules, streams = self.plan.recording(camera), self.plan.streams(camera)
        recorded = [streams["main"], *([streams["sub"]] if rules.sub and "sub" in streams else [])]
        return Streamed(rules, sub, sum(s.bitrate_bps for s in recorded) / 1000)

    async def _played(
        self, run: int, camera: Camera, source: Source, shown: Passes, step: Step[object] | ByHand, driver: Driver,
        runner: StepRunner,
    ) -> bool:  # fmt: skip
        """Whether it may go onto the channel: it is there already with a picture kept, or it plays now."""
        if not self._renew and ref_of(camera) in self._references:
            if isinstance(step, ByHand):
                return True
            try:
                async with driver.turn:
                    now = await step.look()
                if step.holds(now, step.wanted(now)):
                    return True
            except DeviceError:
                return True  # the step itself will tell
        await runner.begin(PICTURE)
        visit = Visit(shown.current, self.keyring.rules(camera), source.endpoint)
        try:
            reference = await take_reference(self.keyring.logbook, run, camera, source.address, visit, self.plan.policy)
        except DeviceError as error:
            why = await self._role_told(camera, source, shown, error)
            runner.add(StepResult(PICTURE, Outcome.FAILED, error=f"{error}{why}; so it was not put on its channel"))
            runner.leave("channel", f"needs {PICTURE}, which failed", PICTURE)
            return False
        runner.add(StepResult(PICTURE, Outcome.UNCHANGED, reference, reference, settles=()))
        return True

    async def _role_told(self, camera: Camera, source: Source, shown: Passes, error: DeviceError) -> str:
        """Where the recorders' account is refused and the one that opens the camera is not: that its level is too low."""
        own, watching = source.credentials, shown.current
        if not isinstance(error, RefusedError) or own is None or watching is None or own == watching:
            return ""
        visit = Visit(own, self.keyring.rules(camera), source.endpoint)
        if (await rtsp_player.try_access(source.address, visit)).access is not Access.PLAYS:
            return ""
        role = self.plan.recorder_role(camera)
        higher = "administrator" if role == "operator" else "operator"
        return (
            f". It plays for {own.user}, so {watching.user} may do too little as {role}: set recorder_role = "
            f'"{higher}" in [policy] of site.toml, or for type {camera.type} in types.toml'
        )


def _as_steps_left_it(
    noticed: Sequence[Finding], planned: Mapping[int, PlannedChannel], results: Sequence[DeviceResult]
) -> Iterator[Finding]:
    """What was noticed of channels; a retention that a dry run would set is left out, and one of which a step failed follows from
    that.
    """
    steps = {r.ref.name: (r, s) for r in results for s in r.steps if s.step == channel_rules.RETENTION}
    for item in noticed:
        channel = (
            planned.get(int(item.ref.part.removeprefix("channel "))) if item.code == "REC-9" and item.ref else None
        )
        result, step = steps.get(channel.camera if channel else "", (None, None))
        if result is None or step is None:
            yield item
        elif (cause := result.finding_of(step)) is not None:
            yield replace(item, caused_by=cause.name)
        elif step.outcome is not Outcome.WOULD_CHANGE:
            yield item
