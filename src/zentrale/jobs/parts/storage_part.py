"""Days kept, and which recorder type fits."""

from __future__ import annotations

from dataclasses import dataclass

from zentrale import quantities
from zentrale.jobs.parts.part import Asked, Fact, Made, Page, Part, Request
from zentrale.planning.keeping import RecorderKeeping, keeping_findings
from zentrale.planning.storage import RecorderStorage, StoragePlan, plan_storage
from zentrale.site.model import Plan


@dataclass(frozen=True)
class MeasuredStorage(StoragePlan):
    """With what is kept at the rates that were measured."""

    keeping: tuple[RecorderKeeping, ...] = ()


def calculate(plan: Plan, made: Made, request: Request) -> StoragePlan:
    planned = plan_storage(plan)
    if not request.keeping:
        return planned
    findings = [f for recorder in request.keeping for f in keeping_findings(recorder)]
    return MeasuredStorage(planned.recorders, (*planned.findings, *findings), tuple(request.keeping))


def document(result: StoragePlan) -> dict[str, object]:
    measured = [keeping_document(r) for r in result.keeping] if isinstance(result, MeasuredStorage) else []
    documents: dict[str, object] = {"storage": [storage_document(recorder) for recorder in result.recorders]}
    return documents | ({"storage_as_measured": measured} if measured else {})


def keeping_document(recorder: RecorderKeeping) -> dict[str, object]:
    return {
        "recorder": recorder.recorder, "measured_cameras": recorder.measured,
        "write_bps": round(recorder.storage.write_bps), "drive_failure_costs": recorder.storage.drive_failure,
        "cameras": [
            {
                "camera": c.camera, "planned_bps": round(c.planned_bps),
                "measured_bps": None if c.measured_bps is None else round(c.measured_bps),
                "kept_days": None if c.days is None else round(c.days, 2), "keep_days": c.keep_days, "max_days": c.max_days,
                "oldest_goes_on": None if c.goes is None else c.goes.date().isoformat(),
            }
            for c in recorder.cameras
        ],
    }  # fmt: skip


def storage_document(recorder: RecorderStorage) -> dict[str, object]:
    return {
        "recorder": recorder.recorder,
        "write_bps": round(recorder.write_bps),
        "needed_bytes": round(recorder.needed_bytes),
        "usable_bytes": None if recorder.usable_bytes is None else round(recorder.usable_bytes),
        "days": None if recorder.days is None else round(recorder.days, 2),
        "drive_failure_costs": recorder.drive_failure,
        "smallest_fitting_type": recorder.smallest_fit or None,
        "types": [
            {"type": f.type, "fits": f.fits, "reasons": list(f.reasons), "licences_missing": f.licences_missing}
            for f in recorder.fits
        ],
        "cameras": [
            {
                "camera": c.camera,
                "mode": c.mode,
                "recorded_share": round(c.share, 4),
                "bitrate_bps": round(c.bitrate_bps),
                "day_bytes": round(c.day_bytes),
                "kept_days": None if (kept := recorder.kept_days(c)) is None else round(kept, 2),
                "keep_days": c.keep_days,
                "max_days": c.max_days,
            }
            for c in recorder.cameras
        ],
    }


def show(page: Page, plan: Plan, result: StoragePlan, asked: Asked) -> None:
    show_storage(page, result, full=asked.full)
    if isinstance(result, MeasuredStorage):
        _show_measured(page, result)


def _show_measured(page: Page, result: MeasuredStorage) -> None:
    page.heading("At the rates that were measured")
    rows = []
    for recorder in result.keeping:
        for c in recorder.cameras:
            short = c.days is not None and c.days < c.keep_days
            measured = "-" if c.measured_bps is None else quantities.bitrate(c.measured_bps)
            rows.append([
                recorder.recorder, c.camera, quantities.bitrate(c.planned_bps), f"{'warning|' if c.over else ''}{measured}",
                "-" if c.days is None else f"{'fault|' if short else ''}{c.days:.1f}", f"{c.keep_days:g}",
                "-" if c.max_days is None else f"{c.max_days:g}", "-" if c.goes is None else f"{c.goes:%Y-%m-%d}",
            ])  # fmt: skip
    columns = [">planned", ">measured", ">days", ">wanted", ">at most", "oldest goes on"]
    page.table(["recorder", "camera", *columns], rows)
    for recorder in result.keeping:
        of = f"{recorder.measured} of {quantities.count(len(recorder.cameras), 'camera')} measured"
        page.line(f"{recorder.recorder}: {of}; a failed drive costs {recorder.storage.drive_failure}")


def show_storage(page: Page, storage: StoragePlan, *, full: bool) -> None:

    page.heading("Storage")
    rows = []
    for r in storage.recorders:
        wanted = max((c.keep_days for c in r.cameras), default=0)
        verdict = "-" if r.reach is None else "ok|enough" if r.reach >= 1 else "fault|too few"
        rows.append([
            r.recorder, str(len(r.cameras)), quantities.bitrate(r.write_bps), quantities.size(r.needed_bytes),
            "no drives" if r.usable_bytes is None else quantities.size(r.usable_bytes),
            "-" if r.usable_bytes is None else f"{r.usable_bytes / 2**40:.1f} TiB",
            "-" if r.days is None else f"{r.days:.1f}", f"{wanted:g}", verdict, r.smallest_fit or "none on file",
        ])  # fmt: skip
    columns = [
        ">cameras",
        ">writes",
        ">needed",
        ">usable",
        ">binary",
        ">days",
        ">wanted",
        "",
        "smallest type that fits",
    ]
    page.table(["recorder", *columns], rows)
    for r in storage.recorders:
        if r.usable_bytes is not None:
            page.line(f"{r.recorder}: a failed drive costs {r.drive_failure}")
    if full:
        _show_recorded(page, storage)


def _show_recorded(page: Page, storage: StoragePlan) -> None:
    """What fits a recorder's cameras, and how long each of them is kept."""

    rows = []
    for recorder in storage.recorders:
        fits = [f"{fit.type} {'fits' if fit.fits else 'does not, ' + ', '.join(fit.reasons)}" for fit in recorder.fits]
        page.line(f"{recorder.recorder}: {'; '.join(fits) or 'no recorder type is on file'}")
        for c in recorder.cameras:
            kept = recorder.kept_days(c)
            short = kept is not None and kept < c.keep_days
            rows.append([
                recorder.recorder, c.camera, c.mode, f"{100 * c.share:.0f} %", quantities.bitrate(c.bitrate_bps),
                quantities.size(c.day_bytes), quantities.size(c.needed_bytes),
                "-" if kept is None else f"{'fault|' if short else ''}{kept:.1f}", f"{c.keep_days:g}",
                "-" if c.max_days is None else f"{c.max_days:g}",
            ])  # fmt: skip
    page.heading("Each camera, the drives shared out as the days are wanted")
    columns = [">of the time", ">writes then", ">a day", ">needed", ">days", ">wanted", ">longest allowed"]
    page.table(["recorder", "camera", "when", *columns], rows)


def figures_of(plan: Plan, result: StoragePlan) -> dict[str, bytes]:
    from zentrale.output import figures  # drawing takes a second to load

    return {"storage.png": figures.storage_figure(plan, result)}


def facts(plan: Plan, result: StoragePlan) -> list[Fact]:
    return [
        Fact("days kept", f"recorder {r.recorder}", "no drives" if r.days is None else f"{r.days:.1f} days", r.days)
        for r in result.recorders
    ]


def summary(plan: Plan, result: StoragePlan) -> str:
    kept = [
        f"{r.recorder} keeps {'no drives planned' if r.days is None else f'{r.days:.0f} days'}"
        for r in result.recorders
    ]
    return quantities.listed(kept, 4) if kept else "no recorder"


PART = Part("storage", calculate, document, show, figures_of, facts=facts, summary=summary)
