"""How long recordings will be kept at the rates that were measured in place of the planned, and when the oldest hour goes."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import datetime, timedelta

from zentrale import quantities
from zentrale.findings import Finding, finding
from zentrale.planning.storage import CameraStorage, RecorderStorage, plan_storage
from zentrale.site.model import Plan
from zentrale.subjects import Kind, Ref


@dataclass(frozen=True)
class CameraKeeping:
    """One camera: rates while it is recorded, `measured_bps` None where it was not measured and the planned rate counts in its
    place; `days` until its oldest recording gives way, None where no drives are planned; `goes` the day on which that begins.
    """

    camera: str
    planned_bps: float
    measured_bps: float | None
    days: float | None
    keep_days: float
    max_days: float | None
    goes: datetime | None
    tolerance_percent: float = 0.0

    @property
    def over(self) -> bool:
        """Whether it writes more than planned, beyond what the plan tolerates of bit rates."""
        most = self.planned_bps * (1 + self.tolerance_percent / 100)
        return self.measured_bps is not None and self.measured_bps > most


@dataclass(frozen=True)
class RecorderKeeping:
    """`storage` with the measured rates in it."""

    recorder: str
    storage: RecorderStorage
    cameras: tuple[CameraKeeping, ...]

    @property
    def measured(self) -> int:
        return sum(c.measured_bps is not None for c in self.cameras)


def keeping(
    plan: Plan, rates_bps: Mapping[str, float], oldest: Mapping[str, datetime], now: datetime
) -> list[RecorderKeeping]:
    """rates_bps: of what is recorded of each camera while it is, main and sub stream together, as far as they were measured;
    oldest: what is stored first of each
    """
    tolerance = plan.policy.bitrate_over_percent
    return [_of(r, rates_bps, oldest, now, tolerance) for r in plan_storage(plan).recorders if r.cameras]


def _of(
    planned: RecorderStorage,
    rates_bps: Mapping[str, float],
    oldest: Mapping[str, datetime],
    now: datetime,
    tolerance: float,
) -> RecorderKeeping:
    cameras = tuple(_at_rate(c, rates_bps.get(c.camera)) for c in planned.cameras)
    day, needed = sum(c.day_bytes for c in cameras), sum(c.needed_bytes for c in cameras)
    usable = planned.usable_bytes
    storage = replace(
        planned, cameras=cameras, write_bps=sum(c.bitrate_bps for c in cameras), needed_bytes=needed,
        days=usable / day if usable is not None and day else None,
        reach=usable / needed if usable is not None and needed else None,
    )  # fmt: skip
    rows = []
    for camera, before in zip(cameras, planned.cameras, strict=True):
        days = storage.kept_days(camera)
        goes = None if days is None else oldest.get(camera.camera, now) + timedelta(days=min(days, 36_500))
        rows.append(
            CameraKeeping(
                camera.camera, before.bitrate_bps, rates_bps.get(camera.camera), days, camera.keep_days, camera.max_days, goes,
                tolerance,
            )
        )  # fmt: skip
    return RecorderKeeping(planned.recorder, storage, tuple(rows))


def _at_rate(camera: CameraStorage, rate_bps: float | None) -> CameraStorage:
    if rate_bps is None or not camera.bitrate_bps:
        return camera
    return replace(camera, bitrate_bps=rate_bps, day_bytes=camera.day_bytes * rate_bps / camera.bitrate_bps)


def keeping_findings(recorder: RecorderKeeping) -> list[Finding]:
    """Where fewer days are kept than wanted at the measured rates, and where these are above the planned ones."""
    found, source = [], "measured by verify; site.toml keep_days"
    ref = Ref(Kind.RECORDER, recorder.recorder)
    short = [c for c in recorder.cameras if c.days is not None and c.days < c.keep_days * (1 - 1e-9)]
    of = f"{recorder.measured} of {quantities.count(len(recorder.cameras), 'camera')} measured"
    if short:
        least = min(short, key=lambda c: (c.days or 0) / c.keep_days)
        goes = f"; its oldest hour goes on {least.goes:%Y-%m-%d}" if least.goes is not None else ""
        measured = f"{least.days:.1f} days of {least.camera}{goes} ({of})"
        found.append(finding("STO-7", ref, measured, f"{least.keep_days:g} days", source))
    more = [c for c in recorder.cameras if c.over]
    if more:
        most = max(more, key=lambda c: (c.measured_bps or 0) / c.planned_bps)
        rates = f"{quantities.bitrate(most.measured_bps or 0)} of {most.camera}"
        others = f", and {quantities.count(len(more) - 1, 'other')}" if len(more) > 1 else ""
        planned = f"{quantities.bitrate(most.planned_bps)} planned while it records"
        found.append(finding("STO-8", ref, f"{rates}{others} ({of})", planned, source))
    return found


def recorded_rates(plan: Plan, measured_bps: Mapping[tuple[str, str], float]) -> dict[str, float]:
    """What is recorded of each camera of which all recorded streams were measured, by camera and stream."""
    rates = {}
    for camera in plan.cameras:
        streams = ["main", *(["sub"] if plan.recording(camera).sub and "sub" in plan.streams(camera) else [])]
        some: Sequence[float | None] = [measured_bps.get((camera.name, s)) for s in streams]
        if all(rate is not None for rate in some):
            rates[camera.name] = sum(rate for rate in some if rate is not None)
    return rates
