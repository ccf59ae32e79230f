"""Firmware, restart, back-up and restore of the site's devices, each through the turns that keep the site watched."""

from __future__ import annotations

import asyncio
import hashlib
import io
import socket
import zipfile
from collections.abc import Callable, Collection, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path, PurePosixPath
from typing import Any

from zentrale import quantities
from zentrale.errors import DeviceError, InputError, NotOfferedError, RemoteProtocolError, UnreachableError
from zentrale.field import scheduler, transfer
from zentrale.field.device import Device
from zentrale.field.scheduler import Failure
from zentrale.findings import Finding
from zentrale.jobs.discovery.discovering import last_devices
from zentrale.jobs.known.found_devices import FoundDevice
from zentrale.jobs.known.planned import Planned, device_names, planned_devices, reachable, ref_of, whole_devices
from zentrale.jobs.known.step_form import DeviceResult, Outcome, Step, StepResult
from zentrale.jobs.maintaining.steps import NewFirmware, Restart, Restore
from zentrale.jobs.maintaining.turns import Turned, in_turn
from zentrale.jobs.passwords.access import entered
from zentrale.jobs.passwords.keyring import Keyring
from zentrale.jobs.registration import by_hand
from zentrale.jobs.steps.bench import Bench
from zentrale.jobs.steps.left_open import LeftOpen
from zentrale.jobs.steps.runner import StepRunner
from zentrale.jobs.streams.rtsp_only import is_rtsp_only
from zentrale.logbook.evidence import Notes, note, observations
from zentrale.protocols.onvif import maintenance
from zentrale.site.folder import SiteFolder, cannot_read, write_atomically
from zentrale.site.model import Camera, Plan

AT_ONCE = 8
BUDGET_S = 120.0
MOST_FIRMWARE_BYTES = 512 * 1024 * 1024
BACKUP = "back-up"  # kind of observations
Make = Callable[[Bench], Step[Any]]


@dataclass(frozen=True)
class Version:
    """One device's firmware: as the last discovery saw it, and as the plan wants it; empty where that says nothing."""

    name: str
    model: str
    told: str
    wanted: str
    at: str = ""

    @property
    def state(self) -> str:
        if not self.wanted:
            return "-"
        if not self.told:
            return "not known"
        return "as wanted" if self.told == self.wanted else "differs"


def inventory(plan: Plan, found: Mapping[str, FoundDevice]) -> list[Version]:
    rows = []
    for name, planned in reachable(whole_devices(plan)).items():
        kind, seen = plan.kind(planned), found.get(name)
        wanted = kind.firmware.version if kind.firmware else ""
        rows.append(Version(name, f"{kind.maker} {kind.model}", seen.firmware if seen else "", wanted))
    return rows


def firmware_file(folder: SiteFolder, plan: Plan, planned: Planned) -> bytes:
    """The content, with the digest that the plan has for it. Raises InputError."""
    kind = plan.kind(planned)
    wanted = kind.firmware
    where = f"types.toml {kind.name}: firmware"
    if wanted is None or not wanted.file:
        raise InputError(
            f"{where}: names no file", 'expected firmware = { version = "...", file = "...", sha256 = "..." }'
        )
    if not wanted.sha256:
        raise InputError(f"{where}.sha256: is missing", "expected the digest that the maker tells for the file")
    path = folder.path / wanted.file
    try:
        if path.stat().st_size > MOST_FIRMWARE_BYTES:
            raise InputError(
                f"{path}: larger than {MOST_FIRMWARE_BYTES // 1024 // 1024} MB", "expected a firmware file"
            )
        content = path.read_bytes()
    except OSError as error:
        raise cannot_read(path, error) from None
    digest = hashlib.sha256(content).hexdigest()
    if digest != wanted.sha256.lower():
        raise InputError(
            f"{path}: is not the file that the plan names: its SHA-256 is {digest[:16]}...",
            f"expected {wanted.sha256[:16].lower()}...; nothing was sent",
        )
    return content


class Maintainer:
    """The caller holds the lock of the site."""

    def __init__(self, keyring: Keyring, say: Callable[[str], None]) -> None:
        assert keyring.plan is not None and keyring.vault is not None
        self.keyring = keyring
        self.plan = keyring.plan
        self.vault = keyring.vault
        self.logbook = keyring.logbook
        self._say = say
        self._found = last_devices(self.plan, self.logbook)
        self._run = 0

    def devices(self, names: Collection[str]) -> list[Planned]:
        """Those of these names, or all, that speak ONVIF."""
        wanted = device_names(self.plan, names)
        return [
            d for name, d in reachable(whole_devices(self.plan)).items()
            if (not names or name in wanted) and not (isinstance(d, Camera) and is_rtsp_only(self.plan, d))
        ]  # fmt: skip

    async def push(self, devices: Sequence[Planned], contents: Mapping[str, bytes]) -> Turned[DeviceResult]:
        """`contents` by the name of the type; the version is the plan's."""

        def make(bench: Bench) -> NewFirmware:
            kind = self.plan.kind(bench.planned)
            assert kind.firmware is not None
            return NewFirmware(bench, kind.firmware.version, contents[kind.name])

        return await self._turns("firmware push", devices, make)

    async def restart(self, devices: Sequence[Planned]) -> Turned[DeviceResult]:
        return await self._turns("restart", devices, Restart)

    async def restore(self, device: Planned, content: bytes) -> Turned[DeviceResult]:
        return await self._turns("backup restore", [device], lambda bench: Restore(bench, content))

    async def _turns(self, command: str, devices: Sequence[Planned], make: Make) -> Turned[DeviceResult]:
        self.logbook.close_interrupted()
        scope = {"devices": [d.name for d in devices]}
        with self.logbook.running(command, socket.gethostname(), scope) as self._run:
            turned = await in_turn(self.plan, devices, lambda d: self._one(d, make))
            await asyncio.to_thread(self._note, command, turned.results)
        return turned

    async def _one(self, device: Planned, make: Make) -> tuple[DeviceResult, bool]:
        """What came of it, and whether it is there afterwards. A device that could not even be entered stops nobody."""
        runner = StepRunner(self.logbook, self._run, ref_of(device), lambda _: self.keyring.ready(), dry_run=False)
        began = False

        async def work(_: Planned) -> bool:
            nonlocal began
            seen = self._found.get(device.name)
            if seen is None or not seen.url:
                raise DeviceError("the last discovery did not find it")
            async with entered(self.keyring, seen, device) as client:
                step = make(Bench(client, self.keyring, device, seen))
                began = True
                return await runner.run(step)

        outcome = (await scheduler.run([device], work, at_once=1, budget_s=None))[0]
        result = runner.ended_by(outcome.message, outcome.report) if isinstance(outcome, Failure) else runner.result()
        asked = began and any(c.ref == ref_of(device) for c in self.logbook.changes(self._run))
        back = not asked or not result.failed or await self._answers(device)
        self._say(f"{device.name}: {'failed' if result.failed else 'done'}")
        return result, back

    async def _answers(self, device: Planned) -> bool:
        """Whether it is there now, whatever was wrong with it."""
        async with Device(self._found[device.name].url, self.keyring.rules(device), timeout_s=5.0) as client:
            try:
                await client.read_clock()
            except UnreachableError:
                return False
            except DeviceError:
                return True
            return True

    def _note(self, command: str, results: Sequence[DeviceResult]) -> None:
        left_open = LeftOpen(self.logbook, command)
        notes = Notes()
        planned = planned_devices(self.plan)
        for result in results:
            for step in result.steps:
                item = result.finding_of(step)
                notes.judge(ref_of(planned[result.ref.name], f"step {step.step}"), {"REG-1"}, [item] if item else [])
            left_open.settle(notes, result)
        note(self.logbook, self._run, notes)

    # Back-up: nothing goes down for it

    async def save(self, folder: SiteFolder, devices: Sequence[Planned]) -> list[DeviceResult]:
        """A back-up of each into backups/, sealed with the vault's own key; its digest into the logbook."""
        scope = {"devices": [d.name for d in devices]}
        with self.logbook.running("backup", socket.gethostname(), scope) as self._run:
            results = await scheduler.run(
                devices, lambda d: self._save(folder, d), at_once=AT_ONCE, budget_s=self.keyring.budget(BUDGET_S)
            )
            saved = [self._failed(r) if isinstance(r, Failure) else r for r in results]
            by_hand.amend(self.logbook, self._run, [r for r in saved if r.steps[0].outcome is not Outcome.FAILED])
        return saved

    def _failed(self, failure: Failure[Planned]) -> DeviceResult:
        step = StepResult(BACKUP, Outcome.FAILED, error=failure.message, defect=bool(failure.report))
        return DeviceResult(ref_of(failure.item), (step,), failure.report)

    async def _save(self, folder: SiteFolder, device: Planned) -> DeviceResult:
        seen = self._found.get(device.name)
        if seen is None or not seen.url:
            raise DeviceError("the last discovery did not find it")
        async with entered(self.keyring, seen, device) as client:
            firmware = (await client.information()).firmware
            try:
                content, way = await _backup_of(client)
            except NotOfferedError as error:
                step = StepResult(BACKUP, Outcome.NOT_OFFERED, error=str(error), place="system: back-up")
                return DeviceResult(ref_of(device), (step,))
        if not content:
            raise RemoteProtocolError("its back-up is empty")
        digest = hashlib.sha256(content).hexdigest()
        name = f"{device.name}-{quantities.now().astimezone():%Y%m%d-%H%M%S}.sealed"
        sealed = await asyncio.to_thread(self.vault.seal, content)
        await asyncio.to_thread(write_atomically, folder.path / "backups" / name, sealed, mode=0o600)
        notes = Notes()
        kept = {"file": name, "sha256": digest, "size_bytes": len(content), "firmware": firmware}
        notes.observe(BACKUP, ref_of(device), way, kept)
        await asyncio.to_thread(note, self.logbook, self._run, notes)
        text = f"{name}, {quantities.size(len(content))}, firmware {firmware}"
        self._say(f"{device.name}: done")
        return DeviceResult(ref_of(device), (StepResult(BACKUP, Outcome.UNCHANGED, text, text),))

    def kept(self, folder: SiteFolder, device: Planned, file: str) -> tuple[bytes, str]:
        """The newest back-up of a device, or the one in `file`, and its name. Raises InputError where it is not whole."""
        known = [dict(o.content) for o in observations(self.logbook, BACKUP) if o.ref == ref_of(device)]
        chosen = next((k for k in reversed(known) if not file or k["file"] == Path(file).name), None)
        if chosen is None:
            have = ", ".join(str(k["file"]) for k in known) or "none"
            raise InputError(
                f"{file or device.name}: the logbook knows no such back-up of {device.name}", f"it has: {have}"
            )
        path = folder.path / "backups" / str(chosen["file"])
        try:
            content = self.vault.unseal(path.read_bytes())
        except OSError as error:
            raise cannot_read(path, error) from None
        except ValueError:
            raise InputError(f"{path}: was changed, or is of another vault", "take another back-up") from None
        if hashlib.sha256(content).hexdigest() != chosen["sha256"]:
            raise InputError(f"{path}: is not what was saved", "take another back-up")
        return content, str(chosen["file"])


async def _backup_of(client: Device) -> tuple[bytes, str]:
    """A device's own back-up, and the operation that gave it. Raises NotOfferedError where it has neither of the two."""
    try:
        uri = maintenance.parse_backup_uri(await client.call("tds", maintenance.get_system_uris()))
    except NotOfferedError:
        uri = ""
    if uri:
        return await transfer.download(client, uri), "GetSystemUris"
    try:
        files = maintenance.parse_system_backup(await client.call("tds", maintenance.get_system_backup()))
    except NotOfferedError:
        files = []
    except RemoteProtocolError as error:  # as an attachment, for one
        raise NotOfferedError(f"it gives its back-up in a form that this program does not read ({error})") from None
    if not files:
        raise NotOfferedError("it offers no back-up, neither by GetSystemUris nor by GetSystemBackup")
    if len(files) == 1:
        return files[0][1], "GetSystemBackup"
    packed = io.BytesIO()
    with zipfile.ZipFile(packed, "w", zipfile.ZIP_DEFLATED) as archive:
        for number, (name, data) in enumerate(files, start=1):
            archive.writestr(f"{number:02}-{PurePosixPath(name).name or 'file'}", data)
    return packed.getvalue(), "GetSystemBackup"


def findings_of(results: Sequence[DeviceResult]) -> list[Finding]:
    return [f for r in results for f in r.findings()]
