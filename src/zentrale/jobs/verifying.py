"""Measuring every stream at the same time, trying strangers' access, and asking the recorders what they record."""

from __future__ import annotations

import asyncio
import socket
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from pathlib import Path

from zentrale.errors import (
    CertificateError,
    ClearTextError,
    DeviceError,
    LockedError,
    NotAskedError,
    NothingReachedError,
    RefusedError,
    Whose,
)
from zentrale.field import pictures, rtsp_player, scheduler
from zentrale.field.rtsp_player import Visit
from zentrale.field.scheduler import Failure
from zentrale.findings import Finding, finding
from zentrale.jobs.checking_channels import ChannelResult, check_recorders, sample_recorders
from zentrale.jobs.discovering import last_devices
from zentrale.jobs.judging import judge_against_plan, judge_delivery
from zentrale.jobs.keyring import Keyring
from zentrale.jobs.planned import ref_of
from zentrale.jobs.recorder_steps import recorded_address
from zentrale.jobs.resolving import Target, named_hosts_finding, resolve
from zentrale.jobs.rtsp_only import PATIENCE_S
from zentrale.jobs.strangers import AccessCheck, Attempt, access_findings, try_as_stranger
from zentrale.logbook.store import Logbook
from zentrale.protocols.doors import Door
from zentrale.protocols.rtsp_client import StreamAddress, Transport
from zentrale.protocols.stream_meter import StreamMeasurement
from zentrale.site.folder import write_atomically
from zentrale.site.model import Camera, Plan, Policy

COMMAND = "verify"
AT_ONCE = 32
# For one device; each request of which may take 12 s.
RESOLVE_S, MEASURE_S, STRANGERS_S = 90.0, 60.0, 90.0

Progress = Callable[[int, str], None]


@dataclass(frozen=True)
class StreamResult:
    """One stream. `measured` is None where it did not play: `error` says why. A bare address has no `camera`."""

    camera: str
    stream: str
    url: str
    measured: StreamMeasurement | None
    error: str
    findings: tuple[Finding, ...]
    picture: bytes | None = None

    @property
    def verdict(self) -> str:
        """The worst severity of its findings, or ok."""
        return min((f.severity for f in self.findings), key=lambda s: s.rank).value if self.findings else "ok"


@dataclass(frozen=True)
class Verification:
    vantage: str
    duration_s: float
    streams: tuple[StreamResult, ...]
    access: tuple[AccessCheck, ...]
    channels: tuple[ChannelResult, ...]
    findings: tuple[Finding, ...]
    reports: tuple[str, ...] = ()


@dataclass(frozen=True)
class Request:
    duration_s: float = 5.0
    transport: Transport | None = None
    pictures_folder: Path | None = None


async def verify_site(
    plan: Plan, cameras: Sequence[Camera], keyring: Keyring, request: Request, progress: Progress
) -> Verification:
    """Raises NothingReachedError where not one stream played."""
    found = last_devices(plan, keyring.logbook)
    progress(0, "asking for the stream addresses")
    results = await scheduler.run(
        cameras, lambda c: resolve(keyring, c, found.get(c.name)), at_once=AT_ONCE, budget_s=keyring.budget(RESOLVE_S)
    )
    resolved = [str(r.message) if isinstance(r, Failure) else r for r in results]
    targets = [r for r in resolved if isinstance(r, Target)]
    before = await sample_recorders(plan, found, keyring)
    progress(1, f"measuring for {request.duration_s:g} s")
    streams = [s for r, c in zip(resolved, cameras, strict=True) for s in _unresolved(plan, c, r)]
    wanted = [(t, stream) for t in targets for stream in plan.streams(t.camera) if stream in t.streams]
    measured = await scheduler.run(
        wanted, lambda w: _measure_planned(plan, *w, request), at_once=max(1, len(wanted)),
        budget_s=request.duration_s + MEASURE_S,
    )  # fmt: skip
    streams += [_not_measured(m) if isinstance(m, Failure) else m for m in measured]
    progress(2, "trying to get in as a stranger")
    await keyring.ready()
    tried = await scheduler.run(
        targets, lambda t: try_as_stranger(keyring, t), at_once=AT_ONCE, budget_s=keyring.budget(STRANGERS_S)
    )
    checks = [c for part in tried if not isinstance(part, Failure) for c in part]
    progress(3, "asking the recorders")
    addresses = {t.camera.name: recorded_address(t.camera, t.streams["main"]) for t in targets if "main" in t.streams}
    channels = await check_recorders(plan, cameras, found, keyring, before, addresses)
    order = {c.name: i for i, c in enumerate(cameras)}
    streams.sort(key=lambda s: (order[s.camera], s.stream))
    failures = [f for f in (*results, *measured, *tried) if isinstance(f, Failure) and f.report]
    findings = [f for s in streams for f in s.findings]
    findings += [f for t in targets if (f := named_hosts_finding(t, streams)) is not None]
    findings += access_findings(checks)
    findings += [_stranger_failed(f) for f in tried if isinstance(f, Failure)]
    findings += [f for channel in channels for f in channel.findings]
    verification = Verification(
        f"{socket.gethostname()}",
        request.duration_s,
        tuple(streams),
        tuple(checks),
        tuple(channels),
        tuple(findings),
        tuple(f.report for f in failures),
    )
    _keep(keyring.logbook, verification, request.pictures_folder)
    if not any(s.measured for s in streams):
        raise NothingReachedError(
            f"none of {len(streams)} streams played; the first said: {streams[0].error if streams else 'no camera is planned'}",
            "run `zentrale discover` again, then `zentrale register`",
        )
    return verification


async def verify_address(address: StreamAddress, visit: Visit, duration_s: float) -> Verification:
    """Measure one address without any site. Raises NothingReachedError where nothing answers there, ClearTextError and
    CertificateError where the password was not sent for that reason.
    """
    result = await _measure("", "", address, visit, duration_s)
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
        findings += access_findings([check], address.url)
    stream = StreamResult("", "", address.url, result.measured, result.error, result.findings, result.picture)
    return Verification(socket.gethostname(), duration_s, (stream,), tuple(checks), (), tuple(findings))


def _unresolved(plan: Plan, camera: Camera, resolved: Target | str) -> list[StreamResult]:
    """Results for planned streams that have no address."""
    results = []
    for stream in plan.streams(camera):
        if isinstance(resolved, str):
            reason = resolved
        elif stream not in resolved.streams:
            reason = resolved.failed.get(stream) or f"the camera offers no {stream} stream"
        else:
            continue
        results.append(_no_stream(camera, stream, "", reason))
    return results


def _no_stream(camera: Camera, stream: str, url: str, reason: str, code: str = "STR-1") -> StreamResult:
    subject = str(ref_of(camera, f"{stream} stream"))
    item = finding(code, subject, reason, "a stream that plays", camera.source)
    return StreamResult(camera.name, stream, url, None, reason, (item,))


def _not_measured(failure: Failure[tuple[Target, str]]) -> StreamResult:
    target, stream = failure.item
    code = "ERR-1" if failure.whose is Whose.DEFECT else "STR-1"
    return _no_stream(target.camera, stream, target.streams[stream].url, failure.message, code)


def _stranger_failed(failure: Failure[Target]) -> Finding:
    code = "ERR-1" if failure.whose is Whose.DEFECT else "SEC-5"
    return finding(code, str(ref_of(failure.item.camera)), failure.message, "refused", "good practice")


@dataclass(frozen=True)
class _Measured:
    measured: StreamMeasurement | None
    error: str
    findings: tuple[Finding, ...]
    picture: bytes | None = None
    cause: DeviceError | None = None


async def _measure_planned(plan: Plan, target: Target, stream: str, request: Request) -> StreamResult:
    camera, address = target.camera, target.streams[stream]
    subject = str(ref_of(camera, f"{stream} stream"))
    visit = replace(target.visit, transport=request.transport, patience_s=PATIENCE_S)
    result = await _measure(subject, camera.source, address, visit, request.duration_s, plan.policy)
    findings = list(result.findings)
    if result.measured is not None:
        source = f"site.toml group {camera.group}"
        findings += judge_against_plan(subject, result.measured, plan.streams(camera)[stream], source, plan.policy)
    return StreamResult(
        camera.name, stream, address.url, result.measured, result.error, tuple(findings), result.picture
    )


async def _measure(
    subject: str, source: str, address: StreamAddress, visit: Visit, duration_s: float, policy: Policy | None = None
) -> _Measured:
    policy = policy or Policy()
    subject = subject or f"stream {address.url}"
    try:
        measured = await rtsp_player.measure(address, visit, duration_s)
    except DeviceError as error:
        what = f"{error}; {error.advice}" if error.advice else str(error)
        item = finding(_cause_code(error), subject, what, "a stream that plays", source or "the address given")
        return _Measured(None, str(error), (item,), cause=error)
    picture = None
    if measured.key_picture is not None:
        image = await asyncio.to_thread(pictures.decode, measured.key_picture)
        picture = pictures.to_jpeg(image) if image is not None else None
    return _Measured(
        measured, "", tuple(judge_delivery(subject, measured, policy, decoded=picture is not None)), picture
    )


def _cause_code(error: DeviceError) -> str:
    if isinstance(error, LockedError):
        return "SEC-8"
    if isinstance(error, NotAskedError):
        return "SEC-7"
    return "SEC-9" if isinstance(error, ClearTextError | CertificateError) else "STR-1"


def _keep(logbook: Logbook, verification: Verification, folder: Path | None) -> None:
    """Into the logbook, and the pictures into `folder`."""
    run = logbook.begin_run(COMMAND, verification.vantage)
    for stream in verification.streams:
        if folder is not None and stream.picture is not None:
            write_atomically(folder / f"{stream.camera}-{stream.stream}.jpg", stream.picture)
        logbook.add_seen(run, "stream", f"{stream.camera} {stream.stream}", "RTSP", stream_document(stream))
    for check in verification.access:
        content = {"door": check.door.value, "attempt": check.attempt, "result": check.result.access.value}
        logbook.add_seen(run, "access", check.camera, check.door.value, content)
    for channel in verification.channels:
        logbook.add_seen(run, "channel", channel.camera, "ONVIF", channel.document())
    logbook.finish_run(run, verification.findings)


def stream_document(stream: StreamResult) -> dict[str, object]:
    """One stream with stable keys and units in them; None for what could not be measured."""
    m = stream.measured
    return {
        "camera": stream.camera,
        "stream": stream.stream,
        "url": stream.url,
        "transport": m.transport if m else None,
        "verdict": stream.verdict,
        "error": stream.error or None,
        "codec": m.codec if m else None,
        "profile": m.profile if m else None,
        "width_px": m.width_px if m else None,
        "height_px": m.height_px if m else None,
        "fps": _rounded(m.fps, 2) if m else None,
        "bitrate_bps": round(m.bitrate_bps) if m and m.bitrate_bps is not None else None,
        "bitrate_by_second_bps": list(m.bitrate_by_second) if m else [],
        "keyframe_interval_s": _rounded(m.keyframe_interval_s, 3) if m else None,
        "packets_received": m.packets_received if m else 0,
        "packets_lost": m.packets_lost if m else 0,
        "packets_reordered": m.packets_reordered if m else 0,
        "jitter_ms": _rounded(m.jitter_ms, 2) if m else None,
        "first_picture_s": _rounded(m.first_picture_s, 3) if m else None,
        "frames": m.frames if m else 0,
        "frames_damaged": m.frames_damaged if m else 0,
        "measured_s": _rounded(m.measured_s, 2) if m else None,
    }


def _rounded(value: float | None, digits: int) -> float | None:
    return None if value is None else round(value, digits)
