"""What nobody knows yet: columns of the schedule that are left open, and what that keeps from being counted."""

from __future__ import annotations

from collections.abc import Iterator

from zentrale import quantities
from zentrale.findings import Finding, finding
from zentrale.site.model import Camera, Plan


def open_columns(plan: Plan) -> Iterator[Finding]:
    """One for each open column of each camera, until it is known."""
    for camera in plan.camera_devices:
        subject, kind = f"camera {camera.name}", plan.camera_type(camera)
        if not camera.port:
            measured = "switch and port open" if not camera.switch else f"port at {camera.switch} open"
            yield finding("OPN-1", subject, measured, "the switch port it is plugged into", camera.where)
        if camera.run_length_m is None and not camera.wireless:
            measured = f"run_length_m open; {plan.policy.max_run_m:g} m counted"
            yield finding("OPN-2", subject, measured, "the length of its fixed cable [m]", camera.where)
        if kind.day_w is None:
            measured = f"day_w of {kind.name} open"
            yield finding("OPN-3", subject, measured, "what it draws by its data sheet [W]", f"types.toml {kind.name}")


def not_counted(plan: Plan) -> Iterator[Finding]:
    """Cameras that no figure of switches and links holds, since nobody knows at which switch they are."""
    away: list[Camera] = [c for c in plan.networked if not c.switch]
    if away:
        measured = f"{quantities.count(len(away), 'camera')} not counted: {quantities.listed([c.name for c in away])}"
        yield finding("OPN-4", f"site {plan.site.name}", measured, "the switch of each", "cameras.csv")
