"""Playing one stream and judging it by itself, whoever wants to know: verification, the walk, the registration."""

from __future__ import annotations

import asyncio
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from typing import TypeVar

from zentrale.errors import DeviceError
from zentrale.field import pictures, rtsp_player
from zentrale.field.rtsp_player import Progress
from zentrale.field.visit import Visit
from zentrale.findings import Finding, finding
from zentrale.jobs.streams.judging import code_of, judge_delivery
from zentrale.jobs.streams.judging_pictures import judge_change, judge_picture, look_at
from zentrale.protocols.rtsp_client import StreamAddress
from zentrale.protocols.streams.meter import StreamMeasurement
from zentrale.site.model import Policy
from zentrale.subjects import Ref

T = TypeVar("T")
PICTURE_WITHIN_S = 10.0  # where a picture is all that is wanted: longer than the groups of nearly all encoders


@dataclass(frozen=True)
class Measured:
    """One measurement with what was found; `looked_at`: its first key picture was decoded; `picture`: as JPEG, where wanted."""

    measured: StreamMeasurement | None
    error: str
    findings: tuple[Finding, ...]
    picture: bytes | None = None
    looked_at: bool = False
    cause: DeviceError | None = None


async def measure(
    subject: Ref | str,
    source: str,
    address: StreamAddress,
    visit: Visit,
    duration_s: float,
    policy: Policy | None = None,
    progress: Progress | None = None,
    *,
    wants_picture: bool = True,
    until_picture: bool = False,
) -> Measured:
    policy = policy or Policy()
    subject = subject or f"stream {address.url}"
    try:
        measured = await rtsp_player.measure(address, visit, duration_s, progress, until_picture=until_picture)
    except DeviceError as error:
        what = f"{error}; {error.advice}" if error.advice else str(error)
        item = finding(code_of(error), subject, what, "a stream that plays", source or "the address given")
        return Measured(None, str(error), (item,), cause=error)
    looked_at, picture, seen = await aside(_decoded, subject, measured, wants_picture)
    findings = [*judge_delivery(subject, measured, policy, decoded=looked_at), *seen]
    return Measured(measured.without_pictures(), "", tuple(findings), picture, looked_at)


# Pictures and files, one after the other and off the event loop: a picture takes some tens of megabytes while it is decoded.
worker = ThreadPoolExecutor(1, "pictures")


async def aside(work: Callable[..., T], *arguments: object) -> T:
    return await asyncio.get_running_loop().run_in_executor(worker, work, *arguments)


def _decoded(
    subject: str | Ref, measured: StreamMeasurement, wants_picture: bool
) -> tuple[bool, bytes | None, list[Finding]]:
    """Whether the first key picture could be decoded, it as JPEG, and what it shows."""
    image = pictures.decode(measured.key_picture) if measured.key_picture else None
    if image is None:
        return False, None, []
    luma = pictures.luma(image)
    findings = list(judge_picture(subject, look_at(luma)))
    later = pictures.decode(measured.later_picture) if measured.later_picture else None
    if later is not None:
        findings += judge_change(subject, luma, pictures.luma(later))
    return True, pictures.to_jpeg(image) if wants_picture else None, findings
