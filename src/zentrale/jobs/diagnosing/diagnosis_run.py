"""The whole of it: who is looked at, what was seen of each, and what that says of it and of several together."""

from __future__ import annotations

import socket
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path

from zentrale.errors import InputError, NothingReachedError
from zentrale.field.adapters import Choice, choose, list_adapters
from zentrale.findings import Finding, Severity
from zentrale.jobs.checks.check import Round
from zentrale.jobs.checks.streams_check import seconds_needed
from zentrale.jobs.diagnosing.climbing import service_url
from zentrale.jobs.diagnosing.diagnosis import Diagnosis, Judged, concluded
from zentrale.jobs.diagnosing.ground import Ground, look
from zentrale.jobs.diagnosing.judging_address import judge_address, judge_ports
from zentrale.jobs.diagnosing.judging_device import judge_access, judge_service
from zentrale.jobs.diagnosing.judging_pictures import judge_loss, judge_picture
from zentrale.jobs.diagnosing.judging_reach import judge_link, judge_plan, reach
from zentrale.jobs.diagnosing.judging_recording import RecordingSeen, judge_channels, judge_recording
from zentrale.jobs.diagnosing.judging_streams import StreamsSeen, figures, judge_stream
from zentrale.jobs.diagnosing.site_look import SiteLook, beside, device_row, error_of, look_at, request_for
from zentrale.jobs.discovery.discovering import last_devices
from zentrale.jobs.known.found_devices import FoundDevice
from zentrale.jobs.known.layer import layer_of
from zentrale.jobs.known.one_cause import Common, broken_at, common, told_beside
from zentrale.jobs.known.planned import Planned, planned_devices, ref_of, whole_devices
from zentrale.jobs.passwords.keyring import Keyring
from zentrale.jobs.recorders.driver import Sample
from zentrale.jobs.recorders.recorder_registry import driver_of
from zentrale.jobs.streams.rtsp_only import is_rtsp_only
from zentrale.logbook.evidence import Notes, note, standings
from zentrale.planning.contradictions import files_alone
from zentrale.site.model import Camera, Plan, Recorder

COMMAND = "diagnose"
DIAGNOSIS = "diagnosis"  # the kind of its observations
Progress = Callable[[int, str], None]
STEPS = ("knocking at all doors", "asking, playing, looking at what is stored", "concluding")
_WHOLE = frozenset({"REC-15", "REC-16"})  # of a recorder, on which its channels hang
_STORED = frozenset({"REC-12", "REC-21", "REC-23"})


@dataclass(frozen=True)
class Request:
    """`names`: of devices; empty: all that have an open fault, or are silent now. `adapters`: by name or address.
    `caught`: of a capture made elsewhere, by address: packets of its streams that are missing there, and that are there.
    """

    names: tuple[str, ...]
    adapters: tuple[str, ...]
    pictures_folder: Path
    caught: Mapping[str, tuple[int, int]] = field(default_factory=dict)


@dataclass(frozen=True)
class Diagnoses:
    """In the order of the plan. `well`: names of those that were knocked at, and of which nothing speaks for a diagnosis."""

    vantage: str
    devices: tuple[Diagnosis, ...]
    common: tuple[Common, ...]
    findings: tuple[Finding, ...]
    well: tuple[str, ...] = ()
    remarks: tuple[str, ...] = ()
    reports: tuple[str, ...] = ()
    unreached: NothingReachedError | None = None


async def diagnose(plan: Plan, keyring: Keyring, request: Request, progress: Progress) -> Diagnoses:
    """Raises InputError where no adapter can be used."""
    remarks = [] if keyring.vault is not None else [
        "no vault is here: what a password opens is not looked at (`zentrale vault init`, then `zentrale register`)"
    ]  # fmt: skip
    try:
        found: Mapping[str, FoundDevice] = last_devices(plan, keyring.logbook)
    except InputError:
        found = {}
        remarks.append(
            "nothing was discovered yet: devices were looked for where they are planned (`zentrale discover`)"
        )
    choice = choose(request.adapters, [(f"zone {z.name}", z.network) for z in plan.zones], list_adapters())
    remarks += choice.remarks
    rows = planned_devices(plan)
    asked = [rows[name] for name in request.names]
    scope = {"devices": list(request.names)}
    with keyring.logbook.running(COMMAND, str(choice), scope) as run:
        progress(0, STEPS[0])
        ground = await look(plan, keyring, choice, beside(plan, asked or list(rows.values())), found)
        some = asked or _those_with_trouble(plan, keyring, found, ground)
        found = {**_as_planned(plan, found, ground), **found}
        progress(1, STEPS[1])
        seen = await _seen(plan, keyring, request, some, found, run, ground)
        progress(2, STEPS[2])
        problems = files_alone(plan)
        devices = tuple(_conclude(seen, found, r, problems, request.caught.get(device_row(plan, r).host)) for r in some)
        notes = Notes()
        for device in devices:
            notes.observe(DIAGNOSIS, device.ref, "from the plug to the disk", device.document())
        note(keyring.logbook, run, notes)
    return Diagnoses(
        socket.gethostname(), devices, tuple(_common(plan, keyring, devices, found, whole=not asked)),
        tuple(seen.round.findings), _well(plan, some, request), tuple(remarks), tuple(seen.round.reports),
        _unreached(ground, choice),
    )  # fmt: skip


def _well(plan: Plan, some: Sequence[Planned], request: Request) -> tuple[str, ...]:
    if request.names:
        return ()
    names = {row.name for row in some}
    return tuple(name for name in planned_devices(plan) if name not in names)


def _as_planned(plan: Plan, found: Mapping[str, FoundDevice], ground: Ground) -> dict[str, FoundDevice]:
    """Those that no discovery has found, and that answer where they are planned."""
    some: dict[str, FoundDevice] = {}
    for name, row in whole_devices(plan).items():
        at = reach(plan, row, None, ground) if name not in found else None
        if at is not None and at.web is not None and at.ours:
            some[name] = FoundDevice(at.host, service_url(at.host, at.web.port, None), COMMAND)
    return some


def _those_with_trouble(
    plan: Plan, keyring: Keyring, found: Mapping[str, FoundDevice], ground: Ground
) -> list[Planned]:
    """Those with an open fault of their way, and those that are silent, elsewhere, or not whom they should be now."""
    open_faults = [s.finding for s in standings(keyring.logbook) if s.settled_by is None]
    broken = broken_at(plan, open_faults)
    recorders = {
        f.ref.name for f in open_faults
        if f.severity is Severity.FAULT and f.ref is not None and not f.ref.part and layer_of(f.code) is not None
    }  # fmt: skip

    def is_off(row: Planned) -> bool:
        device = device_row(plan, row)
        at = reach(plan, device, found.get(device.name), ground)
        return at.place is None or not at.ours or (bool(device.host) and at.host != device.host)

    some: list[Planned] = []
    for name, row in planned_devices(plan).items():
        behind = isinstance(row, Camera) and bool(row.behind)
        if name in broken or name in recorders or (not behind and is_off(row)):
            some.append(row)
    return some


async def _seen(
    plan: Plan, keyring: Keyring, request: Request, some: Sequence[Planned], found: Mapping[str, FoundDevice], run: int,
    ground: Ground,
) -> SiteLook:  # fmt: skip
    cameras = [r for r in some if isinstance(r, Camera)]
    recorders = [r for r in some if isinstance(r, Recorder)]
    asked = {c.name for c in cameras}
    own = {r.name for r in recorders}
    only_channels = [
        c for c in plan.cameras if (c.name in asked and c.behind) or (c.recorder in own and c.name not in asked)
    ]
    on_network = [c for c in cameras if not c.behind]
    seconds = seconds_needed(plan, on_network)
    wanted = request_for([c.name for c in cameras], request.pictures_folder, seconds)
    look_round = Round(plan, on_network, keyring, wanted, found, run, only_channels)
    return await look_at(look_round, ground, recorders)


def _conclude(
    seen: SiteLook,
    found: Mapping[str, FoundDevice],
    row: Planned,
    problems: Sequence[Finding],
    caught: tuple[int, int] | None = None,
) -> Diagnosis:
    plan, ground = seen.plan, seen.ground
    device = device_row(plan, row)
    known, at, climb = found.get(device.name), seen.reached[row.name], seen.climbs.get(row.name)
    ref = ref_of(row)
    kind = plan.kind(row)
    judged: list[Judged] = [judge_plan(plan, row, [f for f in problems if f.subject == str(ref)])]
    if isinstance(row, Camera) and row.behind:
        judged.append(_recording(seen, row, StreamsSeen(), plays=False))
        return concluded(ref, judged, kind=f"{kind.maker} {kind.model}")
    onvif = not (isinstance(row, Camera) and is_rtsp_only(plan, row))
    judged += [
        judge_link(device, at, ground),
        judge_address(plan, device, known, at, ground, climb),
        judge_ports(device, known, at, ground, onvif=onvif),
        judge_service(device, climb, plan.policy),
        judge_access(device, climb, vault=seen.round.keyring.vault is not None),
    ]
    streams = replace(
        seen.streams.get(row.name, StreamsSeen()), stored_whole=_stored_whole(seen, row.name), caught=caught
    )
    if isinstance(row, Camera):
        plays = streams.main is not None and streams.main.measured is not None
        stream, trouble = judge_stream(plan, row, climb, streams)
        why_not = stream.seen if trouble is None else "it does not play"
        judged += [
            (stream, trouble), judge_loss(row, streams, plan.policy, why_not),
            judge_picture(row, streams, plan.policy, why_not), _recording(seen, row, streams, plays=plays),
        ]  # fmt: skip
    else:
        judged.append(_channels(seen, row))
    return concluded(
        ref, judged, figures=figures(streams), address=at.host or device.host,
        kind=f"{kind.maker} {kind.model}",
    )  # fmt: skip


def _stored_whole(seen: SiteLook, camera: str) -> bool | None:
    """Whether what was played of what is stored lacks nothing; None where nothing was."""
    played = next((p for p in seen.round.played if p.camera == camera and p.times), None)
    return None if played is None else not (played.lost or played.holes)


def _recording(seen: SiteLook, camera: Camera, streams: StreamsSeen, *, plays: bool) -> Judged:
    look_round = seen.round
    sample = look_round.samples.get(camera.recorder)
    ref = next((c.ref for c in look_round.channels if c.camera == camera.name), None)
    held = sample.channels.get(camera.channel) if isinstance(sample, Sample) else None
    recorder = seen.plan.recorder(camera.recorder)
    return judge_recording(
        seen.plan, camera,
        RecordingSeen(
            next((c for c in look_round.channels if c.camera == camera.name), None), held, error_of(seen, camera.recorder),
            any(seen.ground.answers(leg) for leg in [recorder.host]),
            next((p for p in look_round.played if p.camera == camera.name), None),
            driver_of(seen.plan, recorder).has_service,
            [f for f in look_round.findings if f.code in _WHOLE and f.ref == ref_of(recorder)],
            [f for f in look_round.findings if f.code in _STORED and f.ref == ref],
        ),
        streams, plays=plays,
    )  # fmt: skip


def _channels(seen: SiteLook, recorder: Recorder) -> Judged:
    own = [c for c in seen.round.channels if c.recorder == recorder.name]
    whole = [f for f in seen.round.findings if f.code in _WHOLE and f.ref == ref_of(recorder)]
    return judge_channels(recorder.name, own, whole, error_of(seen, recorder.name) if own else None)


def _common(
    plan: Plan, keyring: Keyring, devices: Sequence[Diagnosis], found: Mapping[str, FoundDevice], *, whole: bool
) -> list[Common]:
    """Of the cameras that were looked at; of all where all were knocked at and the others gave no reason."""
    names = {c.name for c in plan.cameras}
    broken = {d.name: d.trouble.layer for d in devices if d.trouble is not None and d.name in names}
    looked_at = [c.name for c in plan.cameras if whole or any(d.name == c.name for d in devices)]
    return common(plan, looked_at, broken, told_beside(plan, found, keyring.contents))


def _unreached(ground: Ground, choice: Choice) -> NothingReachedError | None:
    hosts = {host for host, _ in ground.knocks}
    if not hosts or any(ground.answers(h) for h in hosts):
        return None
    return NothingReachedError(
        f"nothing of the site answers: {len(hosts)} addresses were tried from {choice}",
        "look at this machine's own cable and address first: `zentrale network here`, `zentrale discover`",
    )
