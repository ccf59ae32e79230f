"""The camera's reference picture: its stream is played once as the recorder will play it, before it goes onto a channel."""

from __future__ import annotations

import asyncio
import base64
import hashlib
import io
from dataclasses import dataclass
from datetime import datetime

from PIL import Image

from zentrale import quantities
from zentrale.errors import DeviceError, RefusedError
from zentrale.field import pictures
from zentrale.field.visit import Visit
from zentrale.findings import Finding
from zentrale.jobs.known.planned import ref_of
from zentrale.jobs.streams.judging_pictures import REFERENCE_WIDTH, judge_against_reference
from zentrale.jobs.streams.measuring import PICTURE_WITHIN_S, aside, measure
from zentrale.jobs.streams.rtsp_only import PATIENCE_S
from zentrale.logbook.evidence import Notes, note, observations
from zentrale.logbook.store import Logbook
from zentrale.protocols.stream_address import StreamAddress
from zentrale.site.model import Camera, Policy
from zentrale.subjects import Ref

REFERENCE = "reference picture"  # kind of observations
_QUALITY = 80  # some 40 kB: enough to see that it is the right camera


@dataclass(frozen=True)
class Reference:
    """`jpeg` is at most 640 pixels wide; `size` the stream's own [px]."""

    at: datetime
    jpeg: bytes
    size: tuple[int, int]


def references(logbook: Logbook) -> dict[Ref, Reference]:
    """The newest one of each camera; one whose picture was damaged since is left out."""
    found: dict[Ref, Reference] = {}
    for seen in observations(logbook, REFERENCE):
        content = seen.content
        try:
            jpeg = base64.b64decode(content["jpeg_base64"], validate=True)
            size = int(content["width_px"]), int(content["height_px"])
        except (KeyError, ValueError, TypeError):
            continue
        if hashlib.sha256(jpeg).hexdigest() == content.get("sha256"):
            found[seen.ref] = Reference(seen.at, jpeg, size)
    return found


async def take_reference(
    logbook: Logbook, run: int, camera: Camera, address: StreamAddress, visit: Visit, policy: Policy
) -> str:
    """Play it until its key picture is there, and keep that. Returns what was seen, in words. Raises RefusedError where it does
    not let us, another DeviceError where it does not play.
    """
    visit = Visit(visit.credentials, visit.rules, visit.endpoint, patience_s=PATIENCE_S)
    played = await measure(ref_of(camera), camera.where, address, visit, PICTURE_WITHIN_S, policy, until_picture=True)
    if played.measured is None:
        kind = RefusedError if isinstance(played.cause, RefusedError) else DeviceError
        raise kind(f"it does not play: {played.error}") from played.cause
    if not played.measured.packets_received:
        raise DeviceError("it does not play: packets come, and none of its video")
    if played.picture is None:
        return f"plays; no key picture within {PICTURE_WITHIN_S:g} s"
    jpeg, size = await aside(_smaller, played.picture)
    notes = Notes()
    digest = hashlib.sha256(jpeg).hexdigest()
    content = {
        "jpeg_base64": base64.b64encode(jpeg).decode(), "sha256": digest, "width_px": size[0], "height_px": size[1],
    }  # fmt: skip
    notes.observe(REFERENCE, ref_of(camera), "decoded key frame", content)
    await asyncio.to_thread(note, logbook, run, notes)
    return f"plays, {quantities.resolution(*size)}; its picture is kept"


def compared(reference: Reference | None, jpeg: bytes | None, subject: Ref, policy: Policy) -> list[Finding] | None:
    """What a picture seen now says beside its reference; None where there is nothing to compare."""
    if reference is None or jpeg is None:
        return None
    one, other = (pictures.from_jpeg(data) for data in (reference.jpeg, jpeg))
    if one is None or other is None:
        return None
    return list(judge_against_reference(subject, one, other, quantities.moment(reference.at), policy))


def _smaller(jpeg: bytes) -> tuple[bytes, tuple[int, int]]:
    image = Image.open(io.BytesIO(jpeg))
    size = image.size
    image.thumbnail((REFERENCE_WIDTH, REFERENCE_WIDTH))
    data = io.BytesIO()
    image.save(data, "JPEG", quality=_QUALITY)
    return data.getvalue(), size
