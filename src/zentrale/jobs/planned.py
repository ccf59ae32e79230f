"""The devices of the plan, cameras and recorders alike."""

from __future__ import annotations

from zentrale.site.model import Camera, Plan, Recorder
from zentrale.subjects import Kind, Ref

Planned = Camera | Recorder


def planned_devices(plan: Plan) -> dict[str, Planned]:
    devices: tuple[Planned, ...] = (*plan.cameras, *plan.recorders)
    return {device.name: device for device in devices}


def ref_of(planned: Planned, part: str = "") -> Ref:
    return Ref(Kind.CAMERA if isinstance(planned, Camera) else Kind.RECORDER, planned.name, part)


def place_of(planned: Planned) -> str:
    """Where the plan has it, by which its row is known again under another name."""
    return f"{planned.recorder} channel {planned.channel}" if isinstance(planned, Camera) else planned.host
