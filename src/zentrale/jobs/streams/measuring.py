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
from zentrale.jobs.streams.judging_pictures import is_alike, is_well, judge_pictures, look_at_all
from zentrale.protocols.stream_address import StreamAddress
from zentrale.protocols.streams.key_pictures import Shot
from zentrale.protocols.streams.meter import StreamMeasurement
from zentrale.site.model import Policy
from zentrale.subjects import Ref

T = TypeVar("T")
_SAME_BYTES = 1.15
PICTURE_WITHIN_S = 10.0  # where a picture is all that is wanted: longer than the groups of nearly all encoders


@dataclass(frozen=True)
class Measured:
    """One measurement with what was found; `looked_at`: its first key picture was decoded; `picture`: as JPEG, where wanted;
    pictures_judged: how many of it were
    """

    measured: StreamMeasurement | None
    error: str
    findings: tuple[Finding, ...]
    picture: bytes | None = None
    looked_at: bool = False
    pictures_judged: int = 0
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
    seen = await aside(_seen, subject, measured, policy, wants_picture)
    findings = [*judge_delivery(subject, measured, policy, decoded=seen.count > 0), *seen.findings]
    return Measured(measured.without_pictures(), "", tuple(findings), seen.jpeg, seen.count > 0, seen.count)


# Pictures and files, one after the other and off the event loop: a picture takes some tens of megabytes while it is decoded.
worker = ThreadPoolExecutor(1, "pictures")


async def aside(work: Callable[..., T], *arguments: object) -> T:
    return await asyncio.get_running_loop().run_in_executor(worker, work, *arguments)


@dataclass(frozen=True)
class _Seen:
    """How many pictures could be decoded, the first one as JPEG where it is wanted, and what they show."""

    count: int = 0
    jpeg: bytes | None = None
    findings: tuple[Finding, ...] = ()


def _seen(subject: str | Ref, measured: StreamMeasurement, policy: Policy, wants_picture: bool) -> _Seen:
    """The first key picture must decode. Where it is well and the later ones take as many bytes, so are they: what hides, blinds
    or blurs a picture takes fewer. Else the last one tells at a glance whether anything changed; where it did, or nothing seems
    to move, or the first one is not as a picture should be, all are looked at.
    """
    shots = measured.shots or ((Shot(measured.key_picture, 0.0),) if measured.key_picture else ())
    first = pictures.decode(shots[0].picture) if shots else None
    if first is None:
        return _Seen()
    jpeg = pictures.to_jpeg(first) if wants_picture else None
    looked = look_at_all([(shots[0], pictures.luma(first), pictures.colour(first))])
    if len(shots) > 1:
        if is_well(looked, policy) and not any(shot.quiet for shot in shots):
            sizes = [len(shot.picture.data) for shot in shots]
            if max(sizes) <= _SAME_BYTES * min(sizes):
                return _Seen(1, jpeg, ())
            last = pictures.decode(shots[-1].picture)
            if last is not None and is_alike(pictures.glance(first), pictures.glance(last)):
                return _Seen(2, jpeg, ())
        decoded = [(shots[0], first), *((shot, pictures.decode(shot.picture)) for shot in shots[1:])]
        looked = look_at_all([(shot, pictures.luma(f), pictures.colour(f)) for shot, f in decoded if f is not None])
    return _Seen(len(looked.shots), jpeg, tuple(judge_pictures(subject, looked, policy)))
