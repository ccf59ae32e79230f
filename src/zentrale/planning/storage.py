"""How long recordings are kept: what each camera writes, what the drives hold, and what a failed drive costs."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from zentrale import quantities
from zentrale.findings import Finding, finding
from zentrale.planning.flows import sent_by_recorders
from zentrale.planning.recorder_fit import Fit, fit_findings, recorder_fits
from zentrale.site.model import Camera, Plan, Recorder, RecordingPlan, Storage
from zentrale.site.values import timetable_minutes

_WEEK_MIN = 7 * 24 * 60
_DAY_S = 86_400
# Container, index and thumbnails beside the video itself.
INDEX_OVERHEAD = 1.02
TB = 1e12
GROWTH = "site.toml [policy] growth_percent"


@dataclass(frozen=True)
class CameraStorage:
    """One camera. `share` is the share of time recorded; `bitrate_bps` of what is recorded while it is."""

    camera: str
    mode: str
    share: float
    bitrate_bps: float
    day_bytes: float
    keep_days: float
    max_days: float | None

    @property
    def needed_bytes(self) -> float:
        return self.day_bytes * self.keep_days


@dataclass(frozen=True)
class RecorderStorage:
    """One recorder. `days` is how long everything is kept when all cameras share the drives; `reach` the factor by
    which the wanted days of every camera are met. None where no drives are planned.
    """

    recorder: str
    cameras: tuple[CameraStorage, ...]
    write_bps: float
    needed_bytes: float
    usable_bytes: float | None
    days: float | None
    reach: float | None
    drive_failure: str
    fits: tuple[Fit, ...]

    def kept_days(self, camera: CameraStorage) -> float | None:
        """How long the camera's recordings are kept where the drives are shared out as the days are wanted, and nothing
        is kept longer than the law allows.
        """
        if self.reach is None:
            return None
        kept = camera.keep_days * self.reach
        return kept if camera.max_days is None else min(kept, camera.max_days)

    @property
    def smallest_fit(self) -> str:
        return next((fit.type for fit in self.fits if fit.fits), "")


@dataclass(frozen=True)
class StoragePlan:
    recorders: tuple[RecorderStorage, ...]
    findings: tuple[Finding, ...]


def recorded_share(plan: RecordingPlan) -> float:
    """Share of the time that is recorded: 1, the motion with its seconds before and after, or the timetable's."""
    if plan.mode == "continuous":
        return 1.0
    if plan.mode == "motion":
        return min(1.0, plan.motion_share + plan.events_per_hour * (plan.before_s + plan.after_s) / 3600)
    minutes: set[int] = set()
    for entry in plan.timetable:
        minutes |= timetable_minutes(entry)
    return len(minutes) / _WEEK_MIN


def usable_bytes(storage: Storage) -> float:
    """What is left for recordings. Raises ValueError where the level cannot be built from these drives."""
    active = storage.drives - storage.hot_spares
    data = data_drives(storage.redundancy, active)
    return data * storage.drive_tb * TB * (1 - storage.overhead_percent / 100)


def data_drives(level: str, active: int) -> float:
    """How many drives' worth of data `active` drives hold at a RAID level. Raises ValueError."""
    least, even = {
        "none": (1, False),
        "0": (1, False),
        "1": (2, True),
        "5": (3, False),
        "6": (4, False),
        "10": (4, True),
    }[level]
    if active < least or (even and active % 2) or (level == "1" and active != 2):
        need = "exactly 2" if level == "1" else f"at least {least}{', an even number' if even else ''}"
        raise ValueError(f"level {level} needs {need} drives")
    return {"none": active, "0": active, "1": 1, "5": active - 1, "6": active - 2, "10": active / 2}[level]


def drive_failure(storage: Storage) -> str:
    """What the failure of one drive costs, in words."""
    spare = "; the hot spare takes its place" if storage.hot_spares else "; replace it before a second one fails"
    return {
        "none": f"the recordings on it, about 1 in {storage.drives - storage.hot_spares}",
        "0": "all recordings",
        "1": "nothing" + spare,
        "5": "nothing, slower until rebuilt" + spare,
        "6": "nothing, a second one may fail too" + ("; the hot spare takes its place" if storage.hot_spares else ""),
        "10": "nothing" + spare,
    }[storage.redundancy]


def plan_storage(plan: Plan) -> StoragePlan:
    """Storage of every recorder, with findings."""
    recorders, findings = [], []
    sent, on = sent_by_recorders(plan), dict[str, list[Camera]]()
    for camera in plan.cameras:
        on.setdefault(camera.recorder, []).append(camera)
    for recorder in plan.recorders:
        cameras = on.get(recorder.name, [])
        result = _recorder_storage(plan, recorder, cameras, sent[recorder.name])
        recorders.append(result)
        findings += _findings(recorder, result) or _growth_findings(plan, result)
        findings += fit_findings(plan, recorder, cameras)
    named = [(f"group {g.name}", "max_days of the group", g.recording) for g in plan.groups]
    for subject, where, rules in [
        *named,
        *((f"recording {r.name}", f"[[recordings]] {r.name}", r) for r in plan.recordings),
    ]:
        if rules.max_days is not None and rules.keep_days > rules.max_days:
            measured, limit = f"{rules.keep_days:g} days wanted", f"{rules.max_days:g} days"
            findings.append(finding("STO-2", subject, measured, limit, f"site.toml {where}"))
    return StoragePlan(tuple(recorders), tuple(findings))


def _growth_findings(plan: Plan, result: RecorderStorage) -> list[Finding]:
    more = plan.policy.growth_percent.storage
    if not more or result.reach is None or result.reach >= 1 + more / 100:
        return []
    measured = f"room for {100 * (result.reach - 1):.0f} % more"
    return [finding("STO-6", f"recorder {result.recorder}", measured, f"{more:g} %", GROWTH)]


def drives_to_buy(recorder: Recorder, needed_bytes: float) -> int:
    """How many drives of the planned size and level hold that; never fewer than planned."""
    storage = recorder.storage
    if storage is None:
        return 0
    for drives in range(storage.drives, 257):
        try:
            if usable_bytes(storage.model_copy(update={"drives": drives})) >= needed_bytes:
                return drives
        except ValueError:
            continue  # not a number that the level takes
    return storage.drives


def _camera_storage(plan: Plan, camera: Camera) -> CameraStorage:
    group = plan.group(camera)
    recording = plan.recording(camera)
    written = [group.main, *([group.sub] if recording.sub and group.sub else [])]
    rate = sum(stream.stored_bps(recording.mode) for stream in written)
    share = recorded_share(recording)
    day_bytes = rate * share / 8 * _DAY_S * INDEX_OVERHEAD
    return CameraStorage(
        camera.name, recording.mode, share, rate, day_bytes, recording.keep_days, recording.max_days
    )  # fmt: skip


def _recorder_storage(plan: Plan, recorder: Recorder, cameras: Sequence[Camera], sent: float) -> RecorderStorage:
    stored = tuple(_camera_storage(plan, camera) for camera in cameras)
    day = sum(c.day_bytes for c in stored)
    needed = sum(c.needed_bytes for c in stored)
    usable: float | None = None
    if recorder.storage is not None:
        try:
            usable = usable_bytes(recorder.storage)
        except ValueError:
            usable = 0.0  # told as STO-3
    return RecorderStorage(
        recorder.name,
        stored,
        sum(c.bitrate_bps for c in stored),
        needed,
        usable,
        usable / day if usable is not None and day else None,
        usable / needed if usable is not None and needed else None,
        drive_failure(recorder.storage) if recorder.storage else "no drives are planned",
        recorder_fits(plan, recorder, cameras, sent),
    )


def _findings(recorder: Recorder, result: RecorderStorage) -> list[Finding]:
    storage, subject = recorder.storage, f"recorder {recorder.name}"
    source = f"site.toml recorder {recorder.name}"
    if storage is None:
        return []
    try:
        usable = usable_bytes(storage)
    except ValueError as error:
        active = storage.drives - storage.hot_spares
        return [finding("STO-3", subject, f"{active} drives after {storage.hot_spares} hot spares", str(error), source)]
    findings = []
    if result.reach is not None and result.reach < 1:
        missing = result.needed_bytes - usable
        measured = f"{100 * result.reach:.0f} % of the wanted days; {quantities.size(missing)} are missing"
        held = f"{quantities.size(result.needed_bytes)} for the days that the groups want"
        findings.append(finding("STO-1", subject, f"{measured} ({result.days:.1f} days for all)", held, source))
    long = [
        c for c in result.cameras if c.max_days is not None and result.days is not None and result.days > c.max_days
    ]
    if long and result.days is not None:
        limit = min(c.max_days for c in long if c.max_days is not None)
        measured = f"the drives hold {result.days:.1f} days of {quantities.count(len(long), 'camera')} with a limit"
        findings.append(finding("STO-4", subject, measured, f"{limit:g} days", "site.toml max_days of the group"))
    return findings
