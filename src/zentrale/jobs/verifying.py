"""Measuring every stream at the same time, trying strangers' access, and asking the recorders what they record.

Each part is written down as soon as it is done: a run that is interrupted keeps what it has. What was not asked for is
not known, and never counted as good.
"""

from __future__ import annotations

import asyncio
import hashlib
import socket
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace

from zentrale.errors import CertificateError, ClearTextError, NotAskedError, NothingReachedError, RefusedError, Whose
from zentrale.field import rtsp_player, scheduler
from zentrale.field.rtsp_player import Access, Visit
from zentrale.field.scheduler import Failure
from zentrale.findings import Finding, finding
from zentrale.jobs.checking_channels import ChannelResult, check_recorders, sample_recorders
from zentrale.jobs.discovering import last_devices
from zentrale.jobs.found import FoundDevice
from zentrale.jobs.judging_devices import judge_clock, judge_entry
from zentrale.jobs.keyring import Keyring
from zentrale.jobs.measuring import Request, StreamResult, judge_stream, measure, measure_planned, stream_document
from zentrale.jobs.planned import ref_of
from zentrale.jobs.recorder import recorded_address
from zentrale.jobs.resolving import Target, Unresolved, named_hosts_finding, resolve
from zentrale.jobs.states import State
from zentrale.jobs.strangers import AccessCheck, Attempt, address_findings, judge_access, try_as_stranger
from zentrale.logbook.evidence import Judged, Notes, latest, note, standings
from zentrale.protocols.doors import Door
from zentrale.protocols.rtsp_client import StreamAddress
from zentrale.site.folder import write_atomically
from zentrale.site.model import Camera, Plan

COMMAND = "verify"
AT_ONCE = 32
# For one device; each request of which may take 12 s.
RESOLVE_S, MEASURE_S, STRANGERS_S = 90.0, 60.0, 90.0
STREAM, ACCESS, CHANNEL, PICTURE = "stream", "access", "channel", "picture"  # kinds of observations

Progress = Callable[[int, str], None]


@dataclass(frozen=True)
class Verification:
    vantage: str
    duration_s: float
    streams: tuple[StreamResult, ...]
    access: tuple[AccessCheck, ...]
    channels: tuple[ChannelResult, ...]
    findings: tuple[Finding, ...]
    reports: tuple[str, ...] = ()


async def verify_site(
    plan: Plan, cameras: Sequence[Camera], keyring: Keyring, request: Request, progress: Progress
) -> Verification:
    """Raises NothingReachedError where not one stream played."""
    vantage = socket.gethostname()
    found = last_devices(plan, keyring.logbook)
    scope = {"cameras": [c.name for c in cameras], "seconds": request.duration_s}
    with keyring.logbook.running(COMMAND, vantage, scope) as run:
        verification = await _Run(plan, cameras, keyring, request, progress, run, vantage).verify(found)
    streams = verification.streams
    if not any(s.measured for s in streams):
        raise NothingReachedError(
            f"none of {len(streams)} streams played; the first said: "
            f"{streams[0].error if streams else 'no camera is planned'}",
            "run `zentrale discover` again, then `zentrale register`",
        )
    return verification


@dataclass
class _Run:
    """One verification of `cameras`."""

    plan: Plan
    cameras: Sequence[Camera]
    keyring: Keyring
    request: Request
    progress: Progress
    run: int
    vantage: str

    def __post_init__(self) -> None:
        self.findings: list[Finding] = []
        self.reports: list[str] = []
        self._notes = Notes()

    async def verify(self, found: dict[str, FoundDevice]) -> Verification:
        self.progress(0, "asking for the stream addresses")
        targets, unresolved = await self._resolve(found)
        before = await sample_recorders(self.plan, found, self.keyring)
        self.progress(1, f"measuring for {self.request.duration_s:g} s")
        streams = await self._measure(targets, unresolved)
        self.progress(2, "trying to get in as a stranger")
        await self.keyring.ready()
        checks = await self._strangers(targets)
        self.progress(3, "asking the recorders")
        main = {t.camera.name: recorded_address(t.camera, t.streams["main"]) for t in targets if "main" in t.streams}
        missing = {u.camera.name for u in unresolved}
        recorders = await check_recorders(self.plan, self.cameras, found, self.keyring, before, main, missing)
        self.findings += recorders.not_found
        for judged in recorders.recorders:
            self._say(judged)
        for channel in recorders.channels:
            if channel.records is None:
                continue
            self._notes.observe(CHANNEL, channel.ref, "ONVIF", channel.document())
            if channel.camera not in missing:
                self._say(Judged(channel.ref, frozenset({"REC-1", "REC-2"}), channel.findings))
        await self._write()
        return Verification(
            self.vantage, self.request.duration_s, tuple(streams), tuple(checks), recorders.channels,
            tuple(self.findings), tuple(self.reports),
        )  # fmt: skip

    def _say(self, judged: Judged) -> None:
        """A judgement for the logbook, and its findings for the person."""
        self.findings += judged.findings
        self._notes.judge(judged.ref, judged.codes, judged.findings)

    async def _write(self) -> None:
        await asyncio.to_thread(note, self.keyring.logbook, self.run, self._notes)

    async def _resolve(self, found: dict[str, FoundDevice]) -> tuple[list[Target], list[Unresolved]]:
        """Where the streams are. A camera whose streams cannot be asked for is one finding, whatever hangs on it."""
        results = await scheduler.run(
            self.cameras, lambda c: resolve(self.keyring, c, found.get(c.name)), at_once=AT_ONCE,
            budget_s=self.keyring.budget(RESOLVE_S),
        )  # fmt: skip
        targets, unresolved = [], []
        for result in results:
            if isinstance(result, Target):
                targets.append(result)
                self._judge_target(result)
                continue
            if isinstance(result, Failure):
                code = "ERR-1" if result.whose is Whose.DEFECT else "STR-1"
                result = Unresolved(result.item, result.message, code, observed=True, report=result.report)
            unresolved.append(result)
            self._judge_unresolved(result)
        await self._write()
        return targets, unresolved

    def _judge_target(self, target: Target) -> None:
        ref = ref_of(target.camera)
        self._say(Judged(ref, frozenset({"STR-1", "ERR-1"})))
        entry = target.entry
        if entry is not None and entry.state is not State.DEFAULT_PASSWORD:  # what opens to strangers is tried apart
            self._say(judge_entry(ref, entry.state.value, "", entry.label))
        if target.clock_offset_s is not None:
            self._say(judge_clock(ref, target.clock_offset_s, self.plan.policy))

    def _judge_unresolved(self, item: Unresolved) -> None:
        ref = ref_of(item.camera)
        if item.report:
            self.reports.append(item.report)
        if item.entry is not None:
            own = self.keyring.holds(item.camera.name)
            self._say(judge_entry(ref, item.entry.state.value, item.entry.told(), item.entry.label, own=own))
            return
        told = finding(item.code, ref, item.reason, "streams that play", item.camera.source)
        if item.observed:
            self._say(Judged(ref, frozenset({item.code}), (told,)))
        else:
            self.findings.append(told)  # said by the discovery, which is its own witness

    async def _measure(self, targets: Sequence[Target], unresolved: Sequence[Unresolved]) -> list[StreamResult]:
        wanted = [(t, stream) for t in targets for stream in self.plan.streams(t.camera) if stream in t.streams]
        measured = await scheduler.run(
            wanted, lambda w: measure_planned(self.plan, *w, self.request), at_once=max(1, len(wanted)),
            budget_s=self.request.duration_s + MEASURE_S,
        )  # fmt: skip
        streams = [self._not_measured(m) if isinstance(m, Failure) else m for m in measured]
        for target in targets:
            for stream in self.plan.streams(target.camera):
                if stream not in target.streams:
                    reason = target.failed.get(stream) or f"the camera offers no {stream} stream"
                    streams.append(_no_stream(target.camera, stream, "", reason))
        for result in streams:
            self._notes.observe(STREAM, result.ref, "RTSP", stream_document(result))
            self._say(judge_stream(self.plan, result))
            self._keep_picture(result)
        for target in targets:
            item = named_hosts_finding(target, streams)
            self._say(Judged(ref_of(target.camera, "stream addresses"), frozenset({"DIS-9"}), (item,) if item else ()))
        await self._write()
        for left in unresolved:
            streams += [
                StreamResult(left.camera.name, stream, "", None, left.reason, ())
                for stream in self.plan.streams(left.camera)
            ]
        order = {c.name: i for i, c in enumerate(self.cameras)}
        return sorted(streams, key=lambda s: (order[s.camera], s.stream))

    def _not_measured(self, failure: Failure[tuple[Target, str]]) -> StreamResult:
        target, stream = failure.item
        if failure.report:
            self.reports.append(failure.report)
        code = "ERR-1" if failure.whose is Whose.DEFECT else "STR-1"
        return _no_stream(target.camera, stream, target.streams[stream].url, failure.message, code)

    def _keep_picture(self, stream: StreamResult) -> None:
        folder, picture = self.request.pictures_folder, stream.picture
        if folder is None or picture is None:
            return
        name = f"{stream.camera}-{stream.stream}.jpg"
        write_atomically(folder / name, picture)
        content = {"file": name, "sha256": hashlib.sha256(picture).hexdigest()}
        self._notes.observe(PICTURE, stream.ref, "decoded key frame", content)

    async def _strangers(self, targets: Sequence[Target]) -> list[AccessCheck]:
        tried = await scheduler.run(
            targets, lambda t: try_as_stranger(self.keyring, t), at_once=AT_ONCE,
            budget_s=self.keyring.budget(STRANGERS_S),
        )  # fmt: skip
        earlier = latest(self.keyring.logbook, ACCESS)
        found_at = {
            s.finding.ref: s.at
            for s in standings(self.keyring.logbook)
            if s.finding.code == "SEC-1" and s.settled_by is None
        }
        checks: list[AccessCheck] = []
        for target, result in zip(targets, tried, strict=True):
            ref = ref_of(target.camera)
            if isinstance(result, Failure):
                code = "ERR-1" if result.whose is Whose.DEFECT else "SEC-5"
                self.reports += [result.report] if result.report else []
                item = finding(code, ref, result.message, "refused", "good practice")
                self._say(Judged(ref, frozenset({code}), (item,)))
                continue
            checks += result
            for judged in judge_access(target.camera, result, earlier, found_at.get(ref)):
                self._say(judged)
            for check in result:
                if check.result.access is not Access.NOT_ASKED:
                    content = {"door": check.door.value, "attempt": check.attempt, "result": check.result.access.value}
                    self._notes.observe(ACCESS, check.ref, check.door.value, content)
        await self._write()
        return checks


async def verify_address(address: StreamAddress, visit: Visit, duration_s: float) -> Verification:
    """Measure one address without any site. Raises NothingReachedError where nothing answers there, ClearTextError and
    CertificateError where the password was not sent for that reason.
    """
    result = await measure("", "", address, visit, duration_s)
    if isinstance(result.cause, ClearTextError | CertificateError):
        raise result.cause
    if result.measured is None and not isinstance(result.cause, RefusedError | NotAskedError):
        raise NothingReachedError(
            result.error, "check the address, and that this machine reaches it (ping, VLAN, firewall)"
        )
    findings, checks = list(result.findings), []
    if result.measured is not None and visit.credentials is None:
        subject = f"stream {address.url}"
        findings.append(finding("SEC-6", subject, "it plays without a password", "a password", "good practice"))
    elif result.measured is not None:
        stranger = await rtsp_player.try_access(address, replace(visit, credentials=None, patience_s=0))
        check = AccessCheck("", Door.RTSP, Attempt.NO_PASSWORD, "without a password", stranger)
        checks.append(check)
        findings += address_findings(check, address.url)
    stream = StreamResult("", "", address.url, result.measured, result.error, result.findings, result.picture)
    return Verification(socket.gethostname(), duration_s, (stream,), tuple(checks), (), tuple(findings))


def _no_stream(camera: Camera, stream: str, url: str, reason: str, code: str = "STR-1") -> StreamResult:
    item = finding(code, ref_of(camera, f"{stream} stream"), reason, "a stream that plays", camera.source)
    return StreamResult(camera.name, stream, url, None, reason, (item,))
