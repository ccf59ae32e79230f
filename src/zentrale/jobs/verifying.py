"""Measuring every stream at the same time, trying strangers' access, and asking the recorders what they record."""

from __future__ import annotations

import asyncio
import socket
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path

from zentrale.errors import DeviceError, NothingReachedError, RefusedError
from zentrale.field import pictures, rtsp_player
from zentrale.field.onvif_client import OnvifClient
from zentrale.field.rtsp_player import Access, AccessResult
from zentrale.findings import Finding, finding
from zentrale.jobs.access import State, enter
from zentrale.jobs.checking_channels import ChannelResult, check_recorders, sample_recorders
from zentrale.jobs.device_steps import pick_profiles
from zentrale.jobs.discovering import FoundDevice, last_devices
from zentrale.jobs.judging import judge_against_plan, judge_delivery
from zentrale.jobs.rtsp_only import find_credentials, stream_addresses
from zentrale.logbook.store import Logbook
from zentrale.logbook.vault import Contents
from zentrale.protocols.http_auth import Credentials
from zentrale.protocols.rtsp_client import StreamAddress, Transport
from zentrale.protocols.stream_meter import StreamMeasurement
from zentrale.site.folder import write_atomically
from zentrale.site.model import Camera, Plan, Policy

COMMAND = "verify"

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
class AccessCheck:
    """One stranger's attempt: on which door, with what, and what came of it."""

    camera: str
    door: str
    attempt: str
    result: AccessResult


@dataclass(frozen=True)
class Verification:
    vantage: str
    duration_s: float
    streams: tuple[StreamResult, ...]
    access: tuple[AccessCheck, ...]
    channels: tuple[ChannelResult, ...]
    findings: tuple[Finding, ...]


@dataclass(frozen=True)
class _Target:
    """A camera that was got into: its stream addresses by name, and its ONVIF address (empty where it has none)."""

    camera: Camera
    url: str
    credentials: Credentials | None
    streams: Mapping[str, StreamAddress]


@dataclass(frozen=True)
class Request:
    duration_s: float = 5.0
    transport: Transport | None = None
    pictures_folder: Path | None = None


async def verify_site(
    plan: Plan, cameras: Sequence[Camera], vault: Contents, logbook: Logbook, request: Request, progress: Progress
) -> Verification:
    """Raises NothingReachedError where not one stream played."""
    found = last_devices(logbook)
    progress(0, "asking for the stream addresses")
    resolved = await asyncio.gather(*(_resolve(plan, c, found.get(c.name), vault) for c in cameras))
    targets = [r for r in resolved if isinstance(r, _Target)]
    before = await sample_recorders(plan, found, vault)
    progress(1, f"measuring for {request.duration_s:g} s")
    streams = [s for r, c in zip(resolved, cameras, strict=True) for s in _unresolved(plan, c, r)]
    streams += await asyncio.gather(
        *(_measure_planned(plan, t, stream, request) for t in targets for stream in plan.streams(t.camera))
    )
    progress(2, "trying to get in as a stranger")
    checks = [c for part in await asyncio.gather(*(_strangers(plan, t, vault) for t in targets)) for c in part]
    progress(3, "asking the recorders")
    addresses = {t.camera.name: t.streams["main"].url for t in targets if "main" in t.streams}
    channels = await check_recorders(plan, cameras, found, vault, before, addresses)
    order = {c.name: i for i, c in enumerate(cameras)}
    streams.sort(key=lambda s: (order[s.camera], s.stream))
    findings = [f for s in streams for f in s.findings]
    findings += [f for check in checks if (f := _access_finding(check)) is not None]
    findings += [f for channel in channels for f in channel.findings]
    verification = Verification(
        f"{socket.gethostname()}",
        request.duration_s,
        tuple(streams),
        tuple(checks),
        tuple(channels),
        tuple(findings),
    )
    _keep(logbook, verification, request.pictures_folder)
    if not any(s.measured for s in streams):
        raise NothingReachedError(
            f"none of {len(streams)} streams played; the first said: {streams[0].error if streams else 'no camera is planned'}",
            "run `zentrale discover` again, then `zentrale register`",
        )
    return verification


async def verify_address(
    address: StreamAddress, credentials: Credentials | None, duration_s: float, transport: Transport | None
) -> Verification:
    """Measure one address without any site. Raises NothingReachedError where nothing answers there."""
    result = await _measure("", "", address, credentials, duration_s, transport)
    if result.measured is None and not isinstance(result.cause, RefusedError):
        raise NothingReachedError(
            result.error, "check the address, and that this machine reaches it (ping, VLAN, firewall)"
        )
    findings, checks = list(result.findings), []
    if result.measured is not None and credentials is None:
        subject = f"stream {address.url}"
        findings.append(finding("SEC-6", subject, "it plays without a password", "a password", "good practice"))
    elif result.measured is not None:
        check = AccessCheck("", "RTSP", "without a password", await rtsp_player.try_access(address, None))
        checks.append(check)
        findings += [f for f in (_access_finding(check, address.url),) if f is not None]
    stream = StreamResult("", "", address.url, result.measured, result.error, result.findings, result.picture)
    return Verification(socket.gethostname(), duration_s, (stream,), tuple(checks), (), tuple(findings))


async def _resolve(plan: Plan, camera: Camera, seen: FoundDevice | None, vault: Contents) -> _Target | str:
    """The camera's stream addresses, or the reason why there are none."""
    if seen is None:
        return "the last discovery did not find the camera"
    if not seen.url and plan.camera_type(camera).onvif:
        return f"the camera does not speak ONVIF: {seen.note or seen.state}"
    if not seen.url:
        try:
            addresses = stream_addresses(plan, camera, seen.address, seen.open_ports)
            maker = plan.camera_type(camera).maker
            credentials = await find_credentials(vault, camera.name, maker, addresses["main"])
        except DeviceError as error:
            return str(error)
        return _Target(camera, "", credentials, addresses)
    async with OnvifClient(seen.url) as client:
        try:
            entry = await enter(client, vault, camera.name, plan.camera_type(camera).maker)
            if entry.state is State.UNKNOWN_PASSWORD:
                return "no password in the vault opens the camera"
            profiles = pick_profiles(await client.profiles())
            uris = {stream: await client.stream_uri(p.token) for stream, p in profiles.items()}
        except DeviceError as error:
            return str(error)
    streams = {stream: StreamAddress.parse(uri) for stream, uri in uris.items() if uri.lower().startswith("rtsp://")}
    return _Target(camera, seen.url, entry.credentials, streams)


def _unresolved(plan: Plan, camera: Camera, resolved: _Target | str) -> list[StreamResult]:
    """Results for planned streams that have no address."""
    results = []
    for stream in plan.streams(camera):
        if isinstance(resolved, str):
            reason = resolved
        elif stream not in resolved.streams:
            reason = f"the camera offers no {stream} stream"
        else:
            continue
        subject = f"camera {camera.name}, {stream} stream"
        item = finding("STR-1", subject, reason, "a stream that plays", camera.source)
        results.append(StreamResult(camera.name, stream, "", None, reason, (item,)))
    return results


@dataclass(frozen=True)
class _Measured:
    measured: StreamMeasurement | None
    error: str
    findings: tuple[Finding, ...]
    picture: bytes | None = None
    cause: DeviceError | None = None


async def _measure_planned(plan: Plan, target: _Target, stream: str, request: Request) -> StreamResult:
    camera = target.camera
    address = target.streams.get(stream)
    if address is None:  # told in _unresolved
        raise AssertionError("a stream without an address is not measured")
    subject = f"camera {camera.name}, {stream} stream"
    result = await _measure(
        subject, camera.source, address, target.credentials, request.duration_s, request.transport, plan.policy
    )
    findings = list(result.findings)
    if result.measured is not None:
        source = f"site.toml group {camera.group}"
        findings += judge_against_plan(subject, result.measured, plan.streams(camera)[stream], source, plan.policy)
    return StreamResult(
        camera.name, stream, address.url, result.measured, result.error, tuple(findings), result.picture
    )


async def _measure(
    subject: str,
    source: str,
    address: StreamAddress,
    credentials: Credentials | None,
    duration_s: float,
    transport: Transport | None,
    policy: Policy | None = None,
) -> _Measured:
    policy = policy or Policy()
    subject = subject or f"stream {address.url}"
    try:
        measured = await rtsp_player.measure(address, credentials, duration_s, transport)
    except DeviceError as error:
        item = finding("STR-1", subject, str(error), "a stream that plays", source or "the address given")
        return _Measured(None, str(error), (item,), cause=error)
    picture = None
    if measured.key_picture is not None:
        image = await asyncio.to_thread(pictures.decode, measured.key_picture)
        picture = pictures.to_jpeg(image) if image is not None else None
    return _Measured(
        measured, "", tuple(judge_delivery(subject, measured, policy, decoded=picture is not None)), picture
    )


async def _strangers(plan: Plan, target: _Target, vault: Contents) -> list[AccessCheck]:
    """Without a password, and with the maker's default one, nothing may be got."""
    name = target.camera.name
    maker = plan.camera_type(target.camera).maker
    defaults = [c for c in vault.candidates if c.factory_of.lower() == maker.lower()]
    checks = []
    open_stream = False
    if main := target.streams.get("main"):
        result = await rtsp_player.try_access(main, None)
        open_stream = result.access is Access.PLAYS
        checks.append(AccessCheck(name, "RTSP", "without a password", result))
        if not open_stream:
            checks += [
                AccessCheck(
                    name, "RTSP", f"default password of {maker}", await rtsp_player.try_access(main, c.credentials)
                )
                for c in defaults
            ]
    if not target.url:
        return checks
    checks.append(AccessCheck(name, "ONVIF", "without a password", await _try_onvif(target.url, None)))
    checks += [
        AccessCheck(name, "ONVIF", f"default password of {maker}", await _try_onvif(target.url, c.credentials))
        for c in defaults
    ]
    return checks


async def _try_onvif(url: str, credentials: Credentials | None) -> AccessResult:
    async with OnvifClient(url) as client:
        try:
            await client.system_time()
            client.credentials = credentials
            await client.users()
        except RefusedError as error:
            return AccessResult(Access.REFUSED, str(error))
        except DeviceError as error:
            return AccessResult(Access.UNCLEAR, str(error))
    return AccessResult(Access.PLAYS, "GetUsers was answered")


def _access_finding(check: AccessCheck, url: str = "") -> Finding | None:
    subject = f"camera {check.camera}" if check.camera else f"stream {url}"
    measured = f"{check.door} {check.attempt}: {check.result.detail}"
    limit, source = "refused", "good practice; ONVIF Core, access policy"
    if check.result.access is Access.UNCLEAR:
        return finding("SEC-5", subject, measured, limit, source)
    if check.result.access is Access.PLAYS:
        code = "SEC-1" if "default" in check.attempt else "SEC-2" if check.door == "RTSP" else "SEC-4"
        return finding(code, subject, measured, limit, source)
    return None


def _keep(logbook: Logbook, verification: Verification, folder: Path | None) -> None:
    """Into the logbook, and the pictures into `folder`."""
    run = logbook.begin_run(COMMAND, verification.vantage)
    for stream in verification.streams:
        if folder is not None and stream.picture is not None:
            write_atomically(folder / f"{stream.camera}-{stream.stream}.jpg", stream.picture)
        logbook.add_seen(run, "stream", f"{stream.camera} {stream.stream}", "RTSP", stream_document(stream))
    for check in verification.access:
        content = {"door": check.door, "attempt": check.attempt, "result": check.result.access.value}
        logbook.add_seen(run, "access", check.camera, check.door, content)
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
