"""Gathering the evidence for the hand-over pack from plan and logbook, and writing the pack."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from zentrale import quantities
from zentrale.findings import Finding
from zentrale.jobs import discovering, registering, verifying
from zentrale.jobs.planning import Request, calculate
from zentrale.logbook.store import DONE, Change, Logbook, Run
from zentrale.output.contact_sheet import SheetPicture
from zentrale.output.figures import MeasuredRate
from zentrale.output.handover import DeviceRow, JournalRow, PackContent, Settled, render
from zentrale.site.folder import SiteFolder, write_atomically
from zentrale.site.model import Camera, Plan
from zentrale.site.outline import read_outline

# What was planned, as far as it is evidence; where switches might have stood instead is not.
_PLANNED_PARTS = ("power", "traffic", "storage", "zones", "addresses", "ports", "multicast", "resilience", "detail")
# What a step of the registration settles: a finding of the discovery is closed by a later change of this step.
_SETTLED_BY = {"SEC-1": "password", "SEC-3": "password", "SEC-4": "password", "CLK-1": "time"}


@dataclass(frozen=True)
class Handover:
    folder: Path
    files: tuple[Path, ...]
    open_findings: tuple[Finding, ...]
    settled: tuple[Settled, ...]
    verified: bool


@dataclass(frozen=True)
class _Evidence:
    discovered: Run | None
    verified: Run | None
    devices: Mapping[str, Mapping[str, Any]]
    streams: Mapping[tuple[str, str], Mapping[str, Any]]
    channels: Mapping[str, Mapping[str, Any]]
    access: Sequence[Mapping[str, Any]]
    changes: Sequence[Change]


def hand_over(plan: Plan, folder: SiteFolder, logbook: Logbook) -> Handover:
    """Write output/handover. What was not yet done is said on the page, not made up."""
    evidence = _gather(logbook)
    outline = read_outline(folder.outline_file, plan.site.origin)
    result = calculate(plan, _PLANNED_PARTS, Request(outline))
    power, traffic, storage, reach, ports, detail = (
        result.power, result.traffic, result.storage, result.reach, result.ports, result.detail,
    )  # fmt: skip
    assert power and traffic and storage and reach and ports and detail
    planned = result.findings
    open_findings, settled = sort_findings(logbook, planned, evidence.changes)
    content = PackContent(
        plan=plan,
        made_at=quantities.now(),
        discovered_at=evidence.discovered.finished if evidence.discovered else None,
        verified_at=evidence.verified.finished if evidence.verified else None,
        vantage=evidence.verified.vantage if evidence.verified else "",
        power=power,
        traffic=traffic,
        storage=storage,
        reach=reach,
        ports=ports,
        detail=detail,
        devices=[*_camera_rows(plan, evidence, open_findings), *_recorder_rows(plan, evidence)],
        rates=_rates(plan, evidence),
        pictures=_pictures(plan, folder, evidence),
        open_findings=open_findings,
        settled=settled,
        journal=[JournalRow(c.at, c.subject, c.step, c.before, c.after, c.state) for c in evidence.changes],
        access_refused=sum(a["result"] == "refused" for a in evidence.access),
        access_tried=len(evidence.access),
        remarks=_remarks(evidence),
    )
    target = folder.output / "handover"
    written = []
    for name, data in render(content).items():
        write_atomically(target / name, data)
        written.append(target / name)
    return Handover(target, tuple(written), tuple(open_findings), tuple(settled), evidence.verified is not None)


def _gather(logbook: Logbook) -> _Evidence:
    discovered, verified = logbook.last_run(discovering.COMMAND), logbook.last_run(verifying.COMMAND)
    devices = logbook.seen(discovered.id, discovering.SEEN_KIND) if discovered else []
    streams = logbook.seen(verified.id, "stream") if verified else []
    channels = logbook.seen(verified.id, "channel") if verified else []
    access = logbook.seen(verified.id, "access") if verified else []
    return _Evidence(
        discovered,
        verified,
        {name: content for name, content in devices if name},
        {(content["camera"], content["stream"]): content for _, content in streams},
        dict(channels),
        [content for _, content in access],
        logbook.changes(),
    )


def sort_findings(
    logbook: Logbook, plan_findings: Sequence[Finding], changes: Sequence[Change]
) -> tuple[list[Finding], list[Settled]]:
    """Open findings of the plan and of the newest runs; and those of the discovery that a later change settled."""
    open_findings, settled = list(plan_findings), []
    for command in (discovering.COMMAND, registering.COMMAND, verifying.COMMAND):
        run = logbook.last_run(command)
        for item in logbook.findings_of(run.id) if run else []:
            closing = _closing_change(item, run, changes) if run else None
            if closing is not None:
                settled.append(Settled(item, f"{closing.step}: {closing.after}, {quantities.timestamp(closing.at)}"))
            else:
                open_findings.append(item)
    settled += _settled_earlier(logbook, open_findings, settled)
    return list(dict.fromkeys(open_findings)), settled


def _closing_change(item: Finding, run: Run, changes: Sequence[Change]) -> Change | None:
    step = _SETTLED_BY.get(item.code)
    if step is None or run.command != discovering.COMMAND:
        return None
    later = [
        c for c in changes if c.subject == item.subject and c.step == step and c.state == DONE and c.at > run.started
    ]
    return later[-1] if later else None


def _settled_earlier(logbook: Logbook, open_findings: Sequence[Finding], settled: Sequence[Settled]) -> list[Settled]:
    """Faults and warnings of earlier runs of the same command that its newest run did not find again."""
    known = {(f.code, f.subject) for f in open_findings} | {(s.finding.code, s.finding.subject) for s in settled}
    earlier = []
    for command in (discovering.COMMAND, verifying.COMMAND):
        newest = logbook.last_run(command)
        for run in logbook.runs(command):
            for item in logbook.findings_of(run.id):
                key = (item.code, item.subject)
                if newest is not None and run.id != newest.id and key not in known:
                    known.add(key)
                    when = quantities.timestamp(newest.finished or newest.started)
                    earlier.append(Settled(item, f"not found again by `{command}` of {when}"))
    return earlier


def _verdict(camera: Camera, evidence: _Evidence, findings: Sequence[Finding]) -> str:
    if not any(name == camera.name for name, _ in evidence.streams):
        return "not verified"
    words = {f"camera {camera.name}", f"channel {camera.channel} of {camera.recorder}"}
    own = [f for f in findings if f.subject in words or f.subject.startswith(f"camera {camera.name},")]
    return min((f.severity for f in own), key=lambda s: s.rank).value if own else "ok"


def _stream_text(content: Mapping[str, Any] | None) -> str:
    if content is None:
        return "not measured"
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
        seen = evidence.devices.get(camera.name, {})
        kind = plan.camera_type(camera)
        channel = evidence.channels.get(camera.name)
        rows.append(
            DeviceRow(
                camera.name, "camera", camera.shows, seen.get("maker") or kind.maker, seen.get("model") or kind.model,
                seen.get("firmware", ""), seen.get("serial", ""), seen.get("address") or camera.address or "",
                seen.get("mac") or camera.mac or "", camera.switch, str(camera.port), f"{camera.run_length_m:g}",
                camera.recorder, str(camera.channel), _stream_text(evidence.streams.get((camera.name, "main"))),
                _stream_text(evidence.streams.get((camera.name, "sub"))), channel["state"] if channel else "not checked",
                _verdict(camera, evidence, findings),
            )
        )  # fmt: skip
    return rows


def _recorder_rows(plan: Plan, evidence: _Evidence) -> list[DeviceRow]:
    rows = []
    for recorder in plan.recorders:
        seen = evidence.devices.get(recorder.name, {})
        kind = plan.recorder_type(recorder)
        rows.append(
            DeviceRow(
                recorder.name, "recorder", "", seen.get("maker") or kind.maker, seen.get("model") or kind.model,
                seen.get("firmware", ""), seen.get("serial", ""), seen.get("address") or recorder.address,
                seen.get("mac") or recorder.mac or "", recorder.switch, str(recorder.port), "", recorder.name, "",
            )
        )  # fmt: skip
    return rows


def _rates(plan: Plan, evidence: _Evidence) -> list[MeasuredRate]:
    rates = []
    for camera in plan.cameras:
        for stream, wanted in plan.streams(camera).items():
            content = evidence.streams.get((camera.name, stream))
            if content is not None:
                rates.append(MeasuredRate(camera.name, stream, wanted.bitrate_bps, content["bitrate_bps"]))
    return rates


def _pictures(plan: Plan, folder: SiteFolder, evidence: _Evidence) -> list[SheetPicture]:
    """The main stream's key frame of each camera, from the newest verification only."""
    pictures = []
    for camera in plan.cameras:
        content = evidence.streams.get((camera.name, "main"))
        file = folder.output / "pictures" / f"{camera.name}-main.jpg"
        plays = content is not None and content["codec"] is not None and file.exists()
        pictures.append(
            SheetPicture(camera.name, camera.shows or _stream_text(content), file.read_bytes() if plays else None)
        )
    return pictures


def _remarks(evidence: _Evidence) -> list[str]:
    remarks = []
    if evidence.discovered is None:
        remarks.append("No discovery was run: addresses and models are those of the plan.")
    last_change = max((c.at for c in evidence.changes), default=None)
    verified = evidence.verified
    if verified is not None and last_change is not None and last_change > verified.started:
        remarks.append("Devices were changed after the last verification: run `zentrale verify` again.")
    return remarks
