"""The devices of the plan, cameras and recorders alike."""

from __future__ import annotations

from collections.abc import Iterable

from zentrale import quantities
from zentrale.site.model import Camera, Plan, Recorder, StreamPlan
from zentrale.subjects import Kind, Ref

Planned = Camera | Recorder


def planned_devices(plan: Plan) -> dict[str, Planned]:
    devices: tuple[Planned, ...] = (*plan.cameras, *plan.recorders)
    return {device.name: device for device in devices}


def reachable(some: dict[str, Planned]) -> dict[str, Planned]:
    """Those of them that this program may reach: not the cameras at a recorder's own ports."""
    return {name: device for name, device in some.items() if not (isinstance(device, Camera) and device.behind)}


def whole_devices(plan: Plan) -> dict[str, Planned]:
    """As `planned_devices`, but one for all lenses of a camera: what has an address, a password and a life of its own."""
    devices: tuple[Planned, ...] = (*plan.camera_devices, *plan.recorders)
    return {device.name: device for device in devices}


def device_names(plan: Plan, names: Iterable[str]) -> set[str]:
    """The names of the devices that these rows of the plan belong to."""
    rows = planned_devices(plan)
    some = [rows[name] for name in names if name in rows]
    return {(plan.device_of(row) if isinstance(row, Camera) else row).name for row in some}


def ref_of(planned: Planned, part: str = "") -> Ref:
    return Ref(Kind.CAMERA if isinstance(planned, Camera) else Kind.RECORDER, planned.name, part)


def place_of(planned: Planned) -> str:
    """Where the plan has it, by which its row is known again under another name."""
    return f"{planned.recorder} channel {planned.channel}" if isinstance(planned, Camera) else planned.host


def stream_in_words(plan: StreamPlan) -> str:
    """A stream of the plan as a person enters it."""
    size = quantities.resolution(*plan.resolution)
    text = f"{plan.codec} {size}, {plan.fps:g} frames/s, {round(plan.bitrate_bps / 1000)} kbit/s"
    return text if plan.codec == "JPEG" else f"{text}, key frame every {plan.keyframe_interval_s:g} s"
