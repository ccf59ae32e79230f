"""What a person has to set at a device: what it does not offer to a program, what failed, and what no standard sets.

Each run looks again; what can be seen and is as planned by now is ticked off.
"""

from __future__ import annotations

from collections.abc import Collection, Iterator, Mapping, Sequence
from dataclasses import asdict, dataclass, replace
from pathlib import Path

from zentrale import quantities
from zentrale.jobs.known.planned import planned_devices, stream_in_words
from zentrale.jobs.known.step_form import DeviceResult, Outcome, StepResult
from zentrale.jobs.recorders.channel_rules import told
from zentrale.jobs.recorders.recorder_registry import driver_of
from zentrale.jobs.streams.rtsp_only import is_rtsp_only
from zentrale.logbook.evidence import Notes, note, observations
from zentrale.logbook.store import Logbook
from zentrale.output.work_sheets import Line, Sheet, sheet_csv, sheets_page
from zentrale.planning.storage import plan_storage
from zentrale.site.folder import SiteFolder, write_atomically
from zentrale.site.model import Camera, Plan, Recorder
from zentrale.subjects import Ref

BY_HAND = "by hand"  # kind of observations
_WELL = (Outcome.UNCHANGED, Outcome.CHANGED)
_NO_STANDARD = "no standard sets it"
_ELSEWHERE = ("back-up",)  # what is no step of a registration, and is seen to be done by its own command
_NO_SERVICE = "no service sets it"


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
            lines += [rule.line for rule in recording_rules(plan, planned, results)]
            lines += [
                *_of_channels(before.get(result.ref, ()), by_name, {line.what for line in lines}),
                *_kept(plan, planned),
            ]
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
    """What is the recorder's stands on its own sheet."""
    for step in result.steps:
        if step.outcome in (Outcome.NOT_OFFERED, Outcome.FAILED) and not step.at_recorder:
            yield Line(step.step, step.place or step.step, step.after or "as planned", _why(step))


def _why(step: StepResult) -> str:
    why = "it does not offer it to a program" if step.outcome is Outcome.NOT_OFFERED else "it failed"
    return f"{why}: {step.error}"


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
        if planned.behind:
            yield from _behind(plan, planned)
        elif is_rtsp_only(plan, planned):
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
    """What is to be recorded on one channel, and was not set by a step, or not held."""

    channel: int
    camera: str
    what: str
    where: str
    value: str
    why: str = _NO_SERVICE
    failed: bool = False

    @property
    def line(self) -> Line:
        """The printed page has the place, what to enter and why: so the place begins with the channel."""
        channel = _on_channel(self.channel, self.camera)
        return Line(f"{channel}: {self.what}", f"{channel}, {self.where}", self.value, self.why)


def _on_channel(channel: int, camera: str) -> str:
    return f"channel {channel} ({camera})"


def recording_rules(plan: Plan, recorder: Recorder, results: Sequence[DeviceResult]) -> list[Rule]:
    """What a person has to see to on each channel: all that is planned where the recorder has no service, else what it does not
    offer, or does not hold. A job that is active records always, so that needs nothing.
    """
    by_name = {r.ref.name: r for r in results}
    asked = driver_of(plan, recorder).has_service
    found = []
    for camera in sorted((c for c in plan.cameras if c.recorder == recorder.name), key=lambda c: c.channel):
        if not asked:
            found += [Rule(camera.channel, camera.name, *line) for line in told(plan.recording(camera))]
        elif camera.name in by_name:
            for step in by_name[camera.name].steps:
                if step.at_recorder and step.outcome in (Outcome.NOT_OFFERED, Outcome.FAILED):
                    value, failed = step.after or "as planned", step.outcome is Outcome.FAILED
                    where = step.place or step.step
                    found.append(Rule(camera.channel, camera.name, step.step, where, value, _why(step), failed))
    return found


def _kept(plan: Plan, recorder: Recorder) -> Iterator[Line]:
    """For how long is to be kept, which no service sets: by value, with the days that were worked out."""
    stored = next(r for r in plan_storage(plan).recorders if r.recorder == recorder.name)
    by_days: dict[float, list[Camera]] = {}
    for camera in sorted((c for c in plan.cameras if c.recorder == recorder.name), key=lambda c: c.channel):
        by_days.setdefault(plan.recording(camera).keep_days, []).append(camera)
    worked_out = {c.camera: stored.kept_days(c) for c in stored.cameras}
    for days, cameras in sorted(by_days.items()):
        channels = quantities.ranges([c.channel for c in cameras])
        least = min((d for c in cameras if (d := worked_out[c.name]) is not None), default=None)
        out = f"; worked out: {least:.1f} days" if least is not None else ""
        of = f"{'channel' if len(cameras) == 1 else 'channels'} {channels}"
        enter = f"at least {days:g} days, then the oldest first"
        yield Line(f"{of}: kept", f"{of}, recording: overwriting", enter, f"{_NO_SERVICE}{out}")


def _of_channels(before: Sequence[Line], results: Mapping[str, DeviceResult], here: Collection[str]) -> Iterator[Line]:
    """Lines of channels on an earlier sheet: those of cameras left out this time stay, what is done is ticked off."""
    when = quantities.to_the_minute(quantities.now())
    for line in before:
        camera = line.what.partition(" (")[2].partition("): ")
        if not camera[1] or line.what in here or line.seen:
            continue
        result = results.get(camera[0])
        if result is None:
            yield line
        elif any(s.step == camera[2] and s.outcome in _WELL for s in result.steps):
            yield replace(line, seen=when)


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


def _behind(plan: Plan, camera: Camera) -> Iterator[Line]:
    """What its recorder sets on it, or a person by the recorder's own screen."""
    why, at = f"only {camera.behind} reaches it", f"at {camera.behind}, camera of channel {camera.channel}"
    yield Line("password", f"{at}: its password", "none that its maker ships", why)
    yield Line("time", f"{at}: date and time", f"as the recorder has it, {plan.site.timezone}", why)
    for stream, wanted in plan.streams(camera).items():
        yield Line(f"{stream} stream", f"{at}: {stream} stream", stream_in_words(wanted), why)


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
