"""The devices of a plan as they come from the box, each at its planned address: a site before it exists."""

from __future__ import annotations

from collections.abc import Callable, Collection

from zentrale import quantities
from zentrale.simulation.scenario import Account, Camera, Encoder, Recorder, Scenario
from zentrale.site.model import Camera as PlannedCamera
from zentrale.site.model import Plan, StreamPlan
from zentrale.site.model import Recorder as PlannedRecorder

_HTTP, _RTSP = 8080, 8554
_MAIN, _SUB = "/live/main", "/live/sub"
BY_HAND = Account(user="admin", password="set-by-hand-1")
_START = Encoder(resolution=(160, 96), fps=5, bitrate_kbps=64, govlength=10)


def fresh_site(
    plan: Plan, leg: Callable[[str], tuple[str, str] | None], served: Collection[str], divided_by: float = 0
) -> Scenario:
    """`served` are the recorders that have a service to be played. `leg` tells MAC address and address that a device has on its
    cable, by name; None for one that is not there. `divided_by`:
    the cameras stream what is planned at once, at so small a part of its bit rate; 0: as the maker sets them.
    """
    cameras = [_camera(plan, c, *at) for c in plan.camera_devices if (at := leg(c.name)) is not None]
    if divided_by:
        cameras = [_streaming(c, divided_by) for c in cameras]
    recorders = [
        _recorder(plan, r, *at) for r in plan.recorders if r.name in served and (at := leg(r.name)) is not None
    ]
    return Scenario(name=f"{plan.site.name}, from the box", cameras=tuple(cameras), recorders=tuple(recorders))


def not_played(plan: Plan, scenario: Scenario, served: Collection[str]) -> list[str]:
    """What is in the plan and no stand-in plays, in words."""
    played = {d.name for d in scenario.devices}
    parts = []
    by_hand = [r.name for r in plan.recorders if r.name not in played and r.name not in served]
    if by_hand:
        parts.append(f"{quantities.listed(by_hand)}: its channels are given by hand, so there is nothing to speak with")
    translated = [c.name for c in plan.camera_devices if c.name not in played and c.translated]
    if translated:
        parts.append(f"{quantities.listed(translated)}: behind a translation of addresses")
    names = [*(c.name for c in plan.camera_devices), *(r.name for r in plan.recorders)]
    others = [name for name in names if name not in {*played, *by_hand, *translated}]
    if others:
        parts.append(f"{quantities.listed(others)}: no address is planned, and none is free")
    beside = (
        (len(plan.viewers), "viewer", ""),
        (sum(s.management is not None for s in plan.switches), "switch page", ""),
    )
    parts += [f"{quantities.count(number, *words)}: nothing answers there" for number, *words in beside if number]
    if any(r.viewing is not None for r in plan.recorders):
        parts.append("second legs of recorders")
    if plan.inputs or plan.masks:
        parts.append("door contacts do not open, and masks hide nothing in the pictures")
    return parts


def _camera(plan: Plan, camera: PlannedCamera, mac: str, address: str) -> Camera:
    """One that speaks RTSP only is as its own page leaves it, since nobody else can set it. Cameras of one group show the same,
    so that few pictures are to be encoded.
    """
    kind, streams = plan.camera_type(camera), plan.streams(camera)
    main = _encoder(streams["main"])
    sub = _encoder(streams["sub"]) if "sub" in streams else _START
    return Camera(
        name=camera.name, address=address, http_port=_HTTP, rtsp_port=_RTSP, maker=kind.maker or "made up",
        model=kind.model or kind.name, firmware="1.0", serial=f"S-{camera.name}", mac=mac, scene=f"group {camera.group}",
        onvif=kind.onvif, answers_probes=kind.onvif, accounts=() if kind.onvif else (BY_HAND,), main_path=kind.main_path or _MAIN,
        sub_path=kind.sub_path or _SUB, main=_START if kind.onvif else main, sub=_START if kind.onvif else sub,
        planned_main=main, planned_sub=sub, lenses=max(len(plan.lenses(camera)), camera.source or 1),
        media=("media", "media2"), masks=4, motion=True, imaging=True, turns=True, inputs=2,
    )  # fmt: skip


def _streaming(camera: Camera, divided_by: float) -> Camera:
    assert camera.planned_main is not None and camera.planned_sub is not None
    main, sub = (
        e.model_copy(update={"bitrate_kbps": max(32, round(e.bitrate_kbps / divided_by))})
        for e in (camera.planned_main, camera.planned_sub)
    )
    return camera.model_copy(
        update={"main": main, "sub": sub, "planned_main": main, "planned_sub": sub, "anonymous_viewing": True}
    )


def _recorder(plan: Plan, recorder: PlannedRecorder, mac: str, address: str) -> Recorder:
    kind = plan.recorder_type(recorder)
    return Recorder(
        name=recorder.name, address=address, http_port=recorder.http_port if recorder.http_port >= 1024 else _HTTP,
        maker=kind.maker or "made up", model=kind.model or recorder.type, firmware="1.0", serial=f"S-{recorder.name}", mac=mac,
        channels=kind.channels,
    )  # fmt: skip


def _encoder(stream: StreamPlan) -> Encoder:
    return Encoder(
        resolution=stream.resolution, fps=max(1, round(stream.fps)), bitrate_kbps=max(32, round(stream.bitrate_bps / 1000)),
        govlength=max(1, round(stream.fps * stream.keyframe_interval_s)),
    )  # fmt: skip
