"""What a person has to set at a device: what it does not offer to a program, what failed, and what no standard sets.

Each run looks again; what can be seen and is as planned by now is ticked off.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import asdict, dataclass, replace
from pathlib import Path

from zentrale import quantities
from zentrale.findings import Finding
from zentrale.jobs.known.planned import planned_devices, stream_in_words
from zentrale.jobs.known.step_form import DeviceResult, Outcome
from zentrale.jobs.recorders.recorder_registry import driver_of
from zentrale.jobs.streams.rtsp_only import is_rtsp_only
from zentrale.logbook.evidence import Notes, note, observations
from zentrale.logbook.store import Logbook
from zentrale.output.work_sheets import Line, Sheet, sheet_csv, sheets_page
from zentrale.site.folder import SiteFolder, write_atomically
from zentrale.site.model import Camera, Plan, Recorder
from zentrale.subjects import Ref

BY_HAND = "by hand"  # kind of observations
_WELL = (Outcome.UNCHANGED, Outcome.CHANGED)
_NO_STANDARD = "no standard sets it"
_ELSEWHERE = ("back-up",)  # what is no step of a registration, and is seen to be done by its own command
_NOT_SET = "it is planned, and this program does not set it"


def sheets(plan: Plan, results: Sequence[DeviceResult], logbook: Logbook) -> list[Sheet]:
    """One for each device that has something on it, in the order of the plan; recorders last. A device that this run left out
    keeps what stood on its sheet and was not seen to be done.
    """
    before = _before(logbook)
    by_name = {r.ref.name: r for r in results}
    made = []
    for planned in planned_devices(plan).values():
        result = by_name.get(planned.name)
        if result is None:
            lines = [line for ref in before if ref.name == planned.name for line in before[ref] if not line.seen]
            if lines:
                made.append(Sheet(planned.name, _described(plan, planned), tuple(lines)))
            continue
        lines = [*_from_steps(result), *_planned(plan, planned)]
        if isinstance(planned, Recorder):
            lines += [rule.line for rule in recording_rules(plan, planned, result.noticed)]
        lines += [line for line in before.get(result.ref, ()) if line.what in _ELSEWHERE and not line.seen]
        lines += _ticked(before.get(result.ref, ()), result, lines)
        if lines:
            made.append(Sheet(planned.name, _described(plan, planned), tuple(lines)))
    return made


def _before(logbook: Logbook) -> dict[Ref, tuple[Line, ...]]:
    """What stood on each device's sheet last."""
    found: dict[Ref, tuple[Line, ...]] = {}
    for seen in observations(logbook, BY_HAND):
        rows = seen.content.get("lines", [])
        found[seen.ref] = tuple(
            Line(*(str(r.get(k, "")) for k in ("what", "where", "enter", "why", "seen"))) for r in rows
        )
    return found


def _from_steps(result: DeviceResult) -> Iterator[Line]:
    for step in result.steps:
        if step.outcome in (Outcome.NOT_OFFERED, Outcome.FAILED):
            why = "it does not offer it to a program" if step.outcome is Outcome.NOT_OFFERED else "it failed"
            yield Line(step.step, step.place or step.step, step.after or "as planned", f"{why}: {step.error}")


def _ticked(before: Sequence[Line], result: DeviceResult, lines: Sequence[Line]) -> list[Line]:
    """Lines of an earlier sheet that can be seen to be done."""
    well = {s.step: s.after for s in result.steps if s.outcome in _WELL}
    here = {line.what for line in lines}
    when = quantities.to_the_minute(quantities.now())
    return [
        replace(line, seen=line.seen or when) for line in before if line.what in well and line.what not in here
    ]  # fmt: skip


def _planned(plan: Plan, planned: Camera | Recorder) -> Iterator[Line]:
    policy = plan.policy
    if isinstance(planned, Camera):
        if is_rtsp_only(plan, planned):
            yield from _rtsp_only(plan, planned)
        if plan.site.mains_hz:
            yield Line("mains frequency", "picture: anti-flicker", f"{plan.site.mains_hz} Hz", _NO_STANDARD)
        if planned.mirror:
            yield Line("mirror", "picture: mirror or flip", planned.mirror, _NO_STANDARD)
        if plan.camera_type(planned).projection == "fisheye":
            where = planned.mount or "as it hangs"
            yield Line("fisheye", "picture: mounting and dewarping", f"mounted: {where}; dewarping off", _NO_STANDARD)
        for item in plan.inputs:
            if item.camera == planned.name:
                yield Line(f"name of input {item.number}", f"inputs: {item.number}", item.name, _NO_STANDARD)
        if plan.device_of(planned) is not planned:  # what follows is the device's own, and stands on its sheet
            return
    if policy.automatic_updates:
        yield Line("automatic updates", "system: firmware", policy.automatic_updates, _NO_STANDARD)
    for service in policy.services_off:
        yield Line(f"service {service}", "network: services", "off", "ONVIF sets HTTP, HTTPS and RTSP only")


@dataclass(frozen=True)
class Rule:
    """What is to be recorded on one channel, and is not set: by no step, or the recorder does not hold it."""

    channel: int
    camera: str
    what: str
    where: str
    value: str
    why: str = _NOT_SET

    @property
    def line(self) -> Line:
        return Line(f"channel {self.channel} ({self.camera}): {self.what}", self.where, self.value, self.why)


def recording_rules(plan: Plan, recorder: Recorder, findings: Sequence[Finding] = ()) -> list[Rule]:
    """What is recorded on each channel: planned and costed, and set by no step. A job that is active records always, so that
    needs nothing. For how long is set by a step where the recorder has a service; here is what it was not seen to hold.

    findings: what was noticed about the recorder, by which what it does not hold is known
    """
    groups = {group.name: group.recording for group in plan.groups}
    asked = driver_of(plan, recorder).has_service
    open_ended = {f.ref.part for f in findings if f.code == "REC-9" and f.ref is not None}
    found = []
    for camera in sorted((c for c in plan.cameras if c.recorder == recorder.name), key=lambda c: c.channel):
        rules, channel, name = groups.get(camera.group), camera.channel, camera.name
        if rules is None:
            continue
        if rules.mode != "continuous":
            around = f", {rules.before_s:g} s before to {rules.after_s:g} s after" if rules.mode == "motion" else ""
            when = ", ".join(rules.timetable) if rules.mode == "timetable" else f"on motion{around}"
            found.append(Rule(channel, name, "recording", "recording: schedule or mode", when))
        if rules.sub:
            found.append(Rule(channel, name, "sub stream", "recording: streams", "recorded too"))
        if rules.max_days is not None and (not asked or f"channel {channel}" in open_ended):
            why = "it does not hold what it was told" if asked else _NOT_SET
            found.append(
                Rule(channel, name, "kept", "recording: longest retention", f"at most {rules.max_days:g} days", why)
            )
    return found


def rules_told(rules: Sequence[Rule]) -> str:
    """In a line: what is alike together."""
    alike: dict[str, list[str]] = {}
    for rule in rules:
        alike.setdefault(f"{rule.what} {rule.value}", []).append(f"{rule.channel} ({rule.camera})")
    return "; ".join(f"{what}: channel {', '.join(where)}" for what, where in alike.items())


def _rtsp_only(plan: Plan, camera: Camera) -> Iterator[Line]:
    why = "it speaks RTSP only"
    yield Line("password", "users", "a password of its own; then `zentrale vault set`", why)
    yield Line("name", "name", camera.name, why)
    yield Line("time", "date and time", plan.site.timezone, why)
    for stream, wanted in plan.streams(camera).items():
        yield Line(f"{stream} stream", f"video: {stream} stream", stream_in_words(wanted), why)
    if camera.host:
        yield Line("address", "network: IPv4 address", camera.host, why)


def _described(plan: Plan, planned: Camera | Recorder) -> str:
    kind = plan.kind(planned)
    called = f"{planned.title}, " if isinstance(planned, Camera) and planned.title else ""
    at = planned.place if isinstance(planned, Camera) else f"{planned.switch} port {planned.port}"
    return f"{called}{kind.maker} {kind.model}, {planned.host or 'address not planned'}, {at}"


def keep(logbook: Logbook, run: int, results: Sequence[DeviceResult], made: Sequence[Sheet]) -> None:
    """What stands on the sheets, so that a later run can tick it off."""
    by_name: Mapping[str, Sheet] = {sheet.device: sheet for sheet in made}
    notes = Notes()
    for result in results:
        lines = by_name[result.ref.name].lines if result.ref.name in by_name else ()
        notes.observe(BY_HAND, result.ref, "registration", {"lines": [asdict(line) for line in lines]})
    note(logbook, run, notes)


def amend(logbook: Logbook, run: int, results: Sequence[DeviceResult]) -> None:
    """What another command than `register` leaves for hands, or has seen to be done, on the sheets that stand."""
    before = _before(logbook)
    notes = Notes()
    for result in results:
        stood = before.get(result.ref, ())
        lines = [line for line in stood if line.what not in {step.step for step in result.steps}] + [
            *_from_steps(result)
        ]
        if tuple(lines) != stood:
            notes.observe(BY_HAND, result.ref, "maintenance", {"lines": [asdict(line) for line in lines]})
    note(logbook, run, notes)


def write(folder: SiteFolder, site: str, made: Sequence[Sheet]) -> list[Path]:
    """The page of all, and a table for each device; returns the page and the tables. Raises StorageError."""
    if not made:
        return []
    base = folder.output / "work-sheets"
    written = [base / "devices.html"]
    write_atomically(written[0], sheets_page(site, made))
    for sheet in made:
        written.append(base / f"{sheet.device}.csv")
        write_atomically(written[-1], sheet_csv(sheet))
    return written
