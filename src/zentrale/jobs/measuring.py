"""Measuring one stream, and saying what is wrong with it."""

from __future__ import annotations

import asyncio
from dataclasses import dataclass, replace
from pathlib import Path

from zentrale.errors import (
    CertificateError,
    ClearTextError,
    DeviceError,
    LockedError,
    NotAskedError,
)
from zentrale.field import pictures, rtsp_player
from zentrale.field.rtsp_player import Visit
from zentrale.findings import Finding, finding
from zentrale.jobs.judging import codes_judged, judge_against_plan, judge_delivery
from zentrale.jobs.planned import ref_of
from zentrale.jobs.resolving import Target
from zentrale.jobs.rtsp_only import PATIENCE_S
from zentrale.logbook.evidence import Judged
from zentrale.protocols.rtsp_client import StreamAddress, Transport
from zentrale.protocols.stream_meter import StreamMeasurement
from zentrale.site.model import Plan, Policy
from zentrale.subjects import Kind, Ref


@dataclass(frozen=True)
class Request:
    duration_s: float = 5.0
    transport: Transport | None = None
    pictures_folder: Path | None = None


@dataclass(frozen=True)
class StreamResult:
    """One stream. `measured` is None where it did not play, or was not asked for: `error` says why. A bare address has no
    `camera`.
    """

    camera: str
    stream: str
    url: str
    measured: StreamMeasurement | None
    error: str
    findings: tuple[Finding, ...]
    picture: bytes | None = None

    @property
    def verdict(self) -> str:
        """The worst severity of its findings, or ok; not known where it was not asked for."""
        if self.findings:
            return min((f.severity for f in self.findings), key=lambda s: s.rank).value
        return "ok" if self.measured else "not known"

    @property
    def ref(self) -> Ref:
        return Ref(Kind.CAMERA, self.camera, f"{self.stream} stream")


@dataclass(frozen=True)
class Measured:
    measured: StreamMeasurement | None
    error: str
    findings: tuple[Finding, ...]
    picture: bytes | None = None
    cause: DeviceError | None = None


async def measure_planned(plan: Plan, target: Target, stream: str, request: Request) -> StreamResult:
    camera, address = target.camera, target.streams[stream]
    subject = ref_of(camera, f"{stream} stream")
    visit = replace(target.visit, transport=request.transport, patience_s=PATIENCE_S)
    result = await measure(subject, camera.source, address, visit, request.duration_s, plan.policy)
    findings = list(result.findings)
    if result.measured is not None:
        source = f"site.toml group {camera.group}"
        findings += judge_against_plan(subject, result.measured, plan.streams(camera)[stream], source, plan.policy)
    return StreamResult(
        camera.name, stream, address.url, result.measured, result.error, tuple(findings), result.picture
    )


async def measure(
    subject: Ref | str,
    source: str,
    address: StreamAddress,
    visit: Visit,
    duration_s: float,
    policy: Policy | None = None,
) -> Measured:
    policy = policy or Policy()
    subject = subject or f"stream {address.url}"
    try:
        measured = await rtsp_player.measure(address, visit, duration_s)
    except DeviceError as error:
        what = f"{error}; {error.advice}" if error.advice else str(error)
        item = finding(_cause_code(error), subject, what, "a stream that plays", source or "the address given")
        return Measured(None, str(error), (item,), cause=error)
    picture = None
    if measured.key_picture is not None:
        image = await asyncio.to_thread(pictures.decode, measured.key_picture)
        picture = pictures.to_jpeg(image) if image is not None else None
    return Measured(
        measured, "", tuple(judge_delivery(subject, measured, policy, decoded=picture is not None)), picture
    )


def _cause_code(error: DeviceError) -> str:
    if isinstance(error, LockedError):
        return "SEC-8"
    if isinstance(error, NotAskedError):
        return "SEC-7"
    return "SEC-9" if isinstance(error, ClearTextError | CertificateError) else "STR-1"


def judge_stream(plan: Plan, result: StreamResult) -> Judged:
    """What this measurement says of the stream; nothing of what could not be measured."""
    camera = next(c for c in plan.cameras if c.name == result.camera)
    codes = codes_judged(result.measured, plan.streams(camera)[result.stream]) if result.measured else frozenset[str]()
    return Judged(result.ref, codes | {f.code for f in result.findings}, result.findings)


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
