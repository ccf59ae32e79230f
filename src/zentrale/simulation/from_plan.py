"""The devices of a plan as they come from the box, each at its planned address: a site before it exists."""

from __future__ import annotations

from collections.abc import Callable

from zentrale.simulation.scenario import Camera, Encoder, Recorder, Scenario
from zentrale.site.model import Camera as PlannedCamera
from zentrale.site.model import Plan, StreamPlan

_HTTP, _RTSP = 8080, 8554
_START = Encoder(resolution=(160, 96), fps=5, bitrate_kbps=64, govlength=10)


def fresh_site(plan: Plan, mac: Callable[[str], str], address: Callable[[str], str]) -> Scenario:
    """`mac` and `address` by name: those that each device has on its cable. Devices that speak RTSP only are left out."""
    cameras = []
    for camera in plan.camera_devices:
        kind, streams = plan.camera_type(camera), plan.streams(camera)
        if not kind.onvif or not address(camera.name):
            continue
        cameras.append(
            Camera(
                name=camera.name, address=address(camera.name), http_port=_HTTP, rtsp_port=_RTSP, maker=kind.maker or "made up",
                model=kind.model or kind.name, firmware="1.0", serial=f"S-{camera.name}", mac=mac(camera.name),
                scene=_scene(plan, camera), main=_START, sub=_START, lenses=max(len(plan.lenses(camera)), camera.source or 1),
                media=("media", "media2"), masks=4, motion=True, imaging=True, turns=True, inputs=2,
                planned_main=_encoder(streams["main"]), planned_sub=_encoder(streams["sub"]) if "sub" in streams else _START,
            )
        )  # fmt: skip
    recorders = [
        Recorder(
            name=r.name, address=str(r.address), http_port=r.http_port if r.http_port >= 1024 else _HTTP,
            maker=plan.recorder_type(r).maker or "made up", model=plan.recorder_type(r).model or r.type, firmware="1.0",
            serial=f"S-{r.name}", mac=mac(r.name), channels=plan.recorder_type(r).channels,
        )
        for r in plan.recorders
        if plan.recorder_type(r).control == "onvif"
    ]  # fmt: skip
    return Scenario(name=f"{plan.site.name}, from the box", cameras=tuple(cameras), recorders=tuple(recorders))


def _scene(plan: Plan, camera: PlannedCamera) -> str:
    """Cameras of one group show the same, so that few pictures are to be encoded."""
    return f"group {camera.group}"


def _encoder(stream: StreamPlan) -> Encoder:
    return Encoder(
        resolution=stream.resolution, fps=max(1, round(stream.fps)), bitrate_kbps=max(32, round(stream.bitrate_bps / 1000)),
        govlength=max(1, round(stream.fps * stream.keyframe_interval_s)),
    )  # fmt: skip
