"""Gathering the evidence for the hand-over pack from plan and logbook, and writing the pack.

It is built from the newest observation of each subject, whichever run made it, with its time and vantage.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from datetime import datetime
from pathlib import Path

from zentrale import quantities
from zentrale.field.rtsp_player import Access
from zentrale.findings import Finding, Severity, Verdict, finding, severity_of
from zentrale.jobs.checks.check import Need
from zentrale.jobs.checks.check_registry import CHECKS
from zentrale.jobs.checks.recording_check import CHANNEL
from zentrale.jobs.checks.seen import outcome_told
from zentrale.jobs.checks.strangers_check import ACCESS
from zentrale.jobs.checks.streams_check import PICTURE, STREAM
from zentrale.jobs.discovery import discovering
from zentrale.jobs.known.found_devices import FoundDevice
from zentrale.jobs.known.kept_pictures import kept_picture
from zentrale.jobs.known.layer import Layer
from zentrale.jobs.known.planned import Planned, planned_devices, reachable, ref_of
from zentrale.jobs.parts.part_registry import load
from zentrale.jobs.planning import Request, calculate
from zentrale.jobs.recordings.kept_list import hours_seen
from zentrale.jobs.switches.judging_places import follow
from zentrale.jobs.switches.kept import ports_seen, watts_seen
from zentrale.jobs.walls.known import walls_sheet
from zentrale.logbook.evidence import Observation, Standing, chain_breaks, latest, looked_at, observations, standings
from zentrale.logbook.store import INTERRUPTED, Change, Logbook, Run
from zentrale.output.contact_sheet import SheetPicture
from zentrale.output.figures import MeasuredRate
from zentrale.output.handover import (
    DeviceRow,
    JournalRow,
    NeverAsked,
    PackContent,
    SeenAtPort,
    Settled,
    render,
    verdicts_of,
)
from zentrale.site.folder import SiteFolder, write_atomically
from zentrale.site.model import Camera, Plan
from zentrale.site.outline import read_outline
from zentrale.subjects import Kind, Ref

# What was planned, as far as it is evidence; where switches might have stood instead is not.
_PLANNED_PARTS = (
    "power",
    "traffic",
    "storage",
    "zones",
    "addresses",
    "ports",
    "multicast",
    "resilience",
    "detail",
    "walls",
)


@dataclass(frozen=True)
class Handover:
    folder: Path
    files: tuple[Path, ...]
    open_findings: tuple[Finding, ...]
    settled: tuple[Settled, ...]
    verified: bool
    never_asked: tuple[NeverAsked, ...] = ()
    origins: Mapping[Finding, Standing] = field(default_factory=dict)
    not_judged: tuple[NeverAsked, ...] = ()
    verdicts: Mapping[Verdict, int] = field(default_factory=dict)  # how many cameras have each


@dataclass(frozen=True)
class _Evidence:
    """The newest observation of each subject, and what was ever looked for."""

    devices: Mapping[str, FoundDevice]
    seen: Mapping[tuple[str, str], Observation]  # of a device, by its addresses
    streams: Mapping[Ref, Observation]
    pictures: Mapping[Ref, Observation]
    channels: Mapping[Ref, Observation]
    access: Sequence[Observation]
    looked_at: Mapping[tuple[Ref, str], datetime]
    changes: Sequence[Change]
    interrupted: Sequence[Run]

    def stream(self, camera: Camera, stream: str) -> Observation | None:
        return self.streams.get(ref_of(camera, f"{stream} stream"))

    def channel(self, camera: Camera) -> Observation | None:
        """What the recorder said of its channel, where it was asked about this camera."""
        seen = self.channels.get(Ref(Kind.RECORDER, camera.recorder, f"channel {camera.channel}"))
        return seen if seen is not None and seen.content.get("camera") == camera.name else None

    def seen_at(self, name: str) -> Observation | None:
        device = self.devices.get(name)
        return self.seen.get((device.address, device.url)) if device else None


def hand_over(plan: Plan, folder: SiteFolder, logbook: Logbook) -> Handover:
    """Write output/handover. What was not yet done is said on the page, not made up."""
    evidence = _gather(plan, logbook)
    outline = read_outline(folder.outline_file, plan.site.origin)
    request = Request(outline, held={d.name: d.host for d in logbook.known()}, watts=watts_seen(logbook))
    result = calculate(plan, _PLANNED_PARTS, request)
    open_findings, settled = sort_findings(plan, logbook, result.findings)
    never = never_asked(plan, evidence.looked_at)
    unjudged = not_judged(plan, evidence)
    open_ones = [s for s in standings(logbook) if s.settled_at is None]
    origins = dict(zip(follow(s.finding for s in open_ones), open_ones, strict=True))
    measured = sorted(evidence.streams.values(), key=lambda o: o.at)
    content = PackContent(
        plan=plan,
        made_at=quantities.now(),
        discovered_at=max((o.at for o in evidence.seen.values()), default=None),
        verified_at=measured[-1].at if measured else None,
        vantage=", ".join(dict.fromkeys(o.vantage for o in measured)),
        power=result.of(load("power")),
        traffic=result.of(load("traffic")),
        storage=result.of(load("storage")),
        reach=result.of(load("zones")).reach,
        ports=result.of(load("ports")),
        ports_seen=_ports_seen(logbook),
        detail=result.of(load("detail")),
        devices=[*_camera_rows(plan, evidence, open_findings), *_recorder_rows(plan, evidence)],
        rates=_rates(plan, evidence),
        pictures=_pictures(plan, folder, evidence),
        walls=walls_sheet(plan, folder, logbook),
        open_findings=open_findings,
        settled=settled,
        journal=[JournalRow(c.at, c.subject, c.step, c.before, c.after, c.state) for c in evidence.changes],
        access_refused=sum(outcome_told(a.content) == Access.REFUSED.value for a in evidence.access),
        access_tried=len(evidence.access),
        remarks=_remarks(evidence),
        never_asked=never,
        not_judged=unjudged,
        recorded=hours_seen(plan, logbook),
        origins={f: f"`{s.command}` of {_at(s.at)} from {s.vantage}" for f, s in origins.items()},
    )
    target = folder.output / "handover"
    written = []
    for name, data in render(content).items():
        write_atomically(target / name, data)
        written.append(target / name)
    found = tuple(open_findings), tuple(settled)
    return Handover(
        target,
        tuple(written),
        *found,
        bool(measured),
        tuple(never),
        origins,
        tuple(unjudged),
        verdicts_of(content.devices),
    )


def _ports_seen(logbook: Logbook) -> dict[tuple[str, int], SeenAtPort]:
    return {
        place: SeenAtPort(seen.device, seen.state, "" if not seen.watts else f"{seen.watts:.1f}", _at(seen.at))
        for place, seen in ports_seen(logbook).items()
    }


def _gather(plan: Plan, logbook: Logbook) -> _Evidence:
    seen = observations(logbook, discovering.SEEN_KIND)
    return _Evidence(
        discovering.last_devices(plan, logbook) if seen else {},
        {(o.content["address"], o.content["url"]): o for o in seen},
        latest(logbook, STREAM),
        latest(logbook, PICTURE),
        latest(logbook, CHANNEL),
        list(latest(logbook, ACCESS).values()),
        looked_at(logbook),
        logbook.changes(),
        [r for r in logbook.runs() if r.state == INTERRUPTED],
    )


def sort_findings(
    plan: Plan, logbook: Logbook, plan_findings: Sequence[Finding]
) -> tuple[list[Finding], list[Settled]]:
    """What is open: of the plan, and of the site what no later run of the same check found well. And what was settled."""
    names, switches = planned_devices(plan), {s.name for s in plan.switches}
    open_findings, settled = list(plan_findings), []
    for standing in standings(logbook):
        ref = standing.finding.ref
        if ref is not None and ref.kind in (Kind.CAMERA, Kind.RECORDER) and ref.name not in names:
            continue  # of a device that is not in the plan any more
        if ref is not None and ref.kind is Kind.SWITCH and ref.name not in switches:
            continue
        if standing.settled_at is None:
            open_findings.append(standing.finding)
        elif standing.finding.severity is not Severity.NOTE:
            when = quantities.moment(standing.settled_at)
            settled.append(Settled(standing.finding, f"found well by `{standing.settled_command}` of {when}"))
    breaks = chain_breaks(logbook)
    if breaks:
        more = f"; and {len(breaks) - 1} more" if len(breaks) > 1 else ""
        open_findings.append(finding("EVD-1", "logbook", breaks[0] + more, "as it was written", "its digests"))
    return follow(dict.fromkeys(open_findings)), settled


def never_asked(plan: Plan, looked: Mapping[tuple[Ref, str], datetime]) -> list[NeverAsked]:
    """What acceptance needs and no run ever looked at, by what it is."""
    planned, here = planned_devices(plan), reachable(planned_devices(plan))
    needs = [Need("never looked for", n, ref_of(p), "DIS-1" if n in here else "DIS-14") for n, p in planned.items()]
    for check in CHECKS:
        some = plan.cameras if check.layer is Layer.RECORDING else plan.networked
        needs += [need for camera in some for need in check.needs(plan, camera)]
    found: dict[str, list[str]] = {}
    for need in needs:
        if (need.ref, need.code) not in looked:
            found.setdefault(need.what, []).append(need.where)
    return [NeverAsked(what, tuple(subjects)) for what, subjects in found.items()]


# What is said of a stream that was measured, in words.
_OF_A_STREAM = {
    "STR-3": "resolution", "STR-4": "frame rate", "STR-5": "bit rate", "STR-6": "key-frame interval", "STR-7": "loss",
    "STR-9": "damaged pictures", "STR-12": "pauses",
}  # fmt: skip


def not_judged(plan: Plan, evidence: _Evidence) -> list[NeverAsked]:
    """What the last measurement of each stream could not judge, by what it is: this machine was late, or it was too short."""
    found: dict[str, list[str]] = {}
    for camera in plan.networked:
        for stream in plan.streams(camera):
            for what in _unjudged(evidence, evidence.stream(camera, stream)):
                aspect, _, why = what.partition(" (")
                found.setdefault(aspect, []).append(f"{camera.name} {stream}" + (f" ({why}" if why else ""))
    return [NeverAsked(what, tuple(where)) for what, where in found.items()]


def _unjudged(evidence: _Evidence, seen: Observation | None) -> list[str]:
    """Of one stream. Older logbooks say it only by the codes that were looked at."""
    if seen is None or not seen.content.get("codec"):
        return []
    if "not_judged" in seen.content:
        return [str(what) for what in seen.content["not_judged"]]
    looked = {code: evidence.looked_at.get((seen.ref, code)) for code in _OF_A_STREAM}
    return [what for code, what in _OF_A_STREAM.items() if (at := looked[code]) is None or at < seen.at]


def _verdict(
    plan: Plan, camera: Camera, evidence: _Evidence, findings: Sequence[Finding]
) -> tuple[Verdict, Severity | None, list[str]]:
    """Of a camera with its streams and its channel; the severity of what is otherwise; and what was not judged."""
    channel = Ref(Kind.RECORDER, camera.recorder, f"channel {camera.channel}")
    own = [f for f in findings if f.ref is not None and (f.ref.whole == ref_of(camera) or f.ref == channel)]
    if camera.behind:
        return _of_channel(evidence.channel(camera), severity_of(own))
    streams = {stream: evidence.stream(camera, stream) for stream in plan.streams(camera)}
    unknown = [f"{stream} {what}" for stream, seen in streams.items() for what in _unjudged(evidence, seen)]
    unknown += [f"{stream} never measured" for stream, seen in streams.items() if seen is None]
    severity = severity_of(own)
    if severity is not None:
        return Verdict.OTHERWISE, severity, unknown
    if not any(seen is not None and seen.content.get("codec") for seen in streams.values()):
        return Verdict.NOT_REACHED, None, unknown
    return (Verdict.NOT_JUDGED if unknown else Verdict.AS_PLANNED), None, unknown


def _of_channel(seen: Observation | None, severity: Severity | None) -> tuple[Verdict, Severity | None, list[str]]:
    """Of a camera at a recorder's own port: its channel is all that can be looked at."""
    if severity is not None:
        return Verdict.OTHERWISE, severity, []
    verdict = Verdict(str(seen.content["verdict"])) if seen is not None else Verdict.NOT_REACHED
    return verdict, None, []


def _stream_text(seen: Observation | None) -> str:
    if seen is None:
        return "not measured"
    content = seen.content
    if content["codec"] is None:
        return "does not play"
    parts = [content["codec"]]
    if content["width_px"]:
        parts.append(quantities.resolution(content["width_px"], content["height_px"]))
    if content["fps"]:
        parts.append(f"{content['fps']:.1f} fps")
    if content["bitrate_bps"]:
        parts.append(quantities.bitrate(content["bitrate_bps"]))
    return " ".join(parts)


def _camera_rows(plan: Plan, evidence: _Evidence, findings: Sequence[Finding]) -> list[DeviceRow]:
    rows = []
    for camera in plan.cameras:
        channel = evidence.channel(camera)
        streams = [evidence.stream(camera, stream) for stream in ("main", "sub")]
        parts = [f"{s.content['state']}, {_when(channel)}" for s in (channel,) if s is not None]
        measured_at = dict.fromkeys(_when(s) for s in streams if s)
        verdict, severity, unknown = _verdict(plan, camera, evidence, findings)
        rows.append(
            replace(
                _device_row(plan, camera, evidence), shows=camera.shows,
                run_length_m="" if camera.run_length_m is None else f"{camera.run_length_m:g}",
                recorder=camera.recorder, channel=str(camera.channel), main=_stream_text(streams[0]),
                sub=_stream_text(streams[1]), recording=parts[0] if parts else "not asked",
                verdict=verdict.value, severity=severity.value if severity else "", not_judged="; ".join(unknown),
                measured="; ".join(measured_at) or "never",
            )
        )  # fmt: skip
    return rows


def _recorder_rows(plan: Plan, evidence: _Evidence) -> list[DeviceRow]:
    return [replace(_device_row(plan, r, evidence), recorder=r.name) for r in plan.recorders]


def _device_row(plan: Plan, planned: Planned, evidence: _Evidence) -> DeviceRow:
    """What device it is: as it was seen, else as planned, and which of the two."""
    seen, kind = evidence.devices.get(planned.name), plan.kind(planned)
    at = _when(evidence.seen_at(planned.name))
    found = seen or FoundDevice("", "", "")
    title, sort = (planned.title, "camera") if isinstance(planned, Camera) else ("", "recorder")
    return DeviceRow(
        planned.name, title, sort, "", found.maker or kind.maker,
        found.model or kind.model, found.firmware, found.serial, found.address or planned.host,
        found.mac or planned.mac or "", _stands_at(planned), str(planned.port or ""), "", "", "", seen=at or "as planned",
    )  # fmt: skip


def _stands_at(planned: Planned) -> str:
    return planned.behind or planned.switch if isinstance(planned, Camera) else planned.switch


def _when(seen: Observation | None) -> str:
    """When and from where something was seen."""
    return f"{_at(seen.at)} from {seen.vantage}" if seen else ""


def _at(moment: datetime) -> str:
    return quantities.moment(moment)


def _rates(plan: Plan, evidence: _Evidence) -> list[MeasuredRate]:
    rates = []
    for camera in plan.cameras:
        for stream, wanted in plan.streams(camera).items():
            seen = evidence.stream(camera, stream)
            if seen is not None:
                rates.append(MeasuredRate(camera.called, stream, wanted.bitrate_bps, seen.content["bitrate_bps"]))
    return rates


def _pictures(plan: Plan, folder: SiteFolder, evidence: _Evidence) -> list[SheetPicture]:
    """The main stream's newest key frame of each camera; one that is older than the newest measurement says its time."""
    pictures = []
    for camera in plan.cameras:
        stream, seen = evidence.stream(camera, "main"), evidence.pictures.get(ref_of(camera, "main stream"))
        caption = camera.shows or _stream_text(stream)
        picture = kept_picture(folder, seen) if seen else None
        if picture is not None and seen is not None and (stream is None or stream.run != seen.run):
            caption = f"of {quantities.moment(seen.at)}: {caption}"
        pictures.append(SheetPicture(camera.called, caption, picture))
    return pictures


def _remarks(evidence: _Evidence) -> list[str]:
    remarks = []
    if not evidence.seen:
        remarks.append("No discovery was run: addresses and models are those of the plan.")
    last_change = max((c.at for c in evidence.changes if c.ref.kind is not Kind.SWITCH), default=None)
    measured = [o.at for o in evidence.streams.values()]
    if measured and last_change is not None and last_change > max(measured):
        remarks.append("Devices were changed after the last verification: run `zentrale verify` again.")
    if len({o.run for o in evidence.streams.values()}) > 1:
        first, last = _at(min(measured)), _at(max(measured))
        remarks.append(f"The streams were measured in several runs, from {first} to {last}; each says when.")
    if evidence.interrupted:
        run = evidence.interrupted[0]
        remarks.append(
            f"The `{run.command}` of {_at(run.started)} was interrupted: what it had seen up to then is counted."
        )
    return remarks
