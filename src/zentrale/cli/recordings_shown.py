"""What the recorders keep, for the person: a line a channel, holes first; one day as a line of hours; a figure and tables."""

from __future__ import annotations

TYPE_CHECKING = False  # as typing has it, without the cost of importing typing
if TYPE_CHECKING:
    from datetime import date, datetime
    from pathlib import Path

    from zentrale.cli.output import Output
    from zentrale.jobs.recordings.kept_list import ChannelKept, RecordingList
    from zentrale.site.folder import SiteFolder
    from zentrale.site.model import Plan

_NOW_S = 120.0  # what is stored last is always some seconds old
_CLEAR_DAYS = 300
_NEAR_ENOUGH_S = 600
_FULL, _PART, _NONE, _NOT_WANTED = "█", "▒", "·", " "


def show(output: Output, plan: Plan, listed: RecordingList, day: date | None) -> None:
    from zentrale import quantities

    rows = listed.channels
    asked = [r for r in rows if not r.error]
    holes = sum(bool(r.gaps) for r in asked)
    unknown = sum(r.share is None for r in asked)
    parts = [f"{quantities.count(len(asked), 'channel')} asked", f"{holes} with holes"]
    parts += [f"of {unknown} not known how much is missing"] if unknown else []
    good = "nothing is missing of what was to be recorded"
    if unknown:
        good = f"nothing is seen to be missing; {unknown} of {len(asked)} not known how much"
    output.result(listed.findings, good, ", ".join(parts), unknown=bool(unknown))
    output.line()
    for recorder, offset_s in listed.offsets_s.items():
        if abs(offset_s) > plan.policy.clock_tolerance_s:
            text = f"the clock of {recorder} is {quantities.difference(offset_s)}: its times below are its own"
            output.line(text, "yellow")
    if day is None:
        _table(output, plan, rows)
    else:
        _show_day(output, plan, rows, day)
    if output.details:
        _show_gaps(output, rows)
    elif holes:
        output.line("every hole: --details")
    if holes:
        output.next(
            "`zentrale recordings --day DATE` shows one day; look at what happened then; `zentrale verify` at what happens now"
        )
    elif any(r.error for r in rows):
        output.next("see to the recorders named above, then this again")
    else:
        output.next("`zentrale handover`")


def _table(output: Output, plan: Plan, rows: tuple[ChannelKept, ...]) -> None:
    from zentrale import quantities
    from zentrale.jobs.recordings.kept_list import moment

    table: list[list[str]] = []
    why: dict[str, list[str]] = {}
    for row in rows:
        keep = plan.recording(plan.camera(row.camera)).keep_days
        place = f"{row.recorder} {row.channel}"
        if row.error or not row.spans:
            told = row.error or row.problem or "nothing is stored"
            why.setdefault(f"{row.recorder}: {told}", []).append(str(row.channel))
            table.append([row.camera, "fault|-", "-", "-", "-", place])
            continue
        share = "warning|unknown" if row.share is None else f"{'ok' if not row.gaps else 'fault'}|{_percent(row.share)}"
        if row.wanted is None and not row.problem:
            share = "motion"
        longest = row.gaps[0] if row.gaps else None
        hole = "" if longest is None else f"{_length(longest.seconds)}, {_short(longest.start)}"
        days = f"{row.days:.1f}/{keep:g}" if row.days is not None else "-"
        table.append([row.camera, _short(row.oldest), days, share, hole, place])
    output.table(["camera", "from", ">days", ">there", "longest hole, from", "?channel"], table)
    older = [row for row in rows if row.newest and (row.asked_at - row.newest).total_seconds() > _NOW_S]
    for row in older:
        known = "not known" if row.problem else "nothing is kept"
        output.line(f"{row.camera}: {known} after {moment(row.newest)}", "red" if _is_due(row) else "")
    for told, channels in why.items():
        output.line(f"{told} (channel {quantities.listed(channels, 12)})", "red")
    if any(row.spans for row in rows):
        until = f"each {'of the others ' if older else ''}up to now; "
        output.line(f"{until}days kept/planned; times of {plan.site.timezone} by the recorders' clocks")
    sub = [f"{row.camera} {_percent(row.sub_share)}" for row in rows if row.sub_share is not None]
    if sub and output.details:
        output.line(f"of what is kept, the sub stream is there too: {quantities.listed(sub, 14)}")
    wound = [r for r in rows if r.searched == "replay" and r.spans]
    if wound:
        step = quantities.seconds(max(r.step_s for r in wound))
        output.line(
            f"{quantities.count(len(wound), 'channel')} by winding, since no search is offered: holes under {step} may be unseen"
        )
    for problem in dict.fromkeys(f"{r.recorder}: {r.problem}" for r in rows if r.problem and r.spans):
        output.line(problem, "yellow")


def _is_due(row: ChannelKept) -> bool:
    """Whether something is to be recorded now, and it is known that it is not."""
    wanted = row.wanted or ()
    return bool(wanted) and not row.problem and wanted[-1][1] >= row.asked_at.timestamp()


def _short(at: datetime | None) -> str:
    """Day and time by the site's clocks; the year only where it is not clear."""
    from zentrale import quantities

    if at is None:
        return "-"
    old = (quantities.now() - at).total_seconds() > _CLEAR_DAYS * 86400
    return f"{quantities.at_site(at):{'%Y-%m-%d' if old else '%m-%d %H:%M'}}"


def _length(seconds: float) -> str:
    """To the minute, where that is near enough."""
    from zentrale import quantities

    return quantities.seconds(seconds if seconds < _NEAR_ENOUGH_S else 60 * round(seconds / 60))


def _percent(share: float) -> str:
    """Never rounded up to all of it."""
    return f"{100 * share:.1f} %" if share in (0, 1) or share < 0.999 else "99.9 %"


def _show_gaps(output: Output, rows: tuple[ChannelKept, ...]) -> None:
    from zentrale import quantities
    from zentrale.jobs.recordings.kept_list import moment

    gaps = [(row, gap) for row in rows for gap in sorted(row.gaps, key=lambda g: g.start)]
    if gaps:
        output.heading("Every hole, by the recorder's clock")
        cells = [
            [
                f"{row.recorder} {row.channel}",
                row.camera,
                moment(gap.start),
                moment(gap.end),
                quantities.seconds(gap.seconds),
            ]
            for row, gap in gaps
        ]
        output.table(["channel", "camera", "from", "to", ">long"], cells)


def _show_day(output: Output, plan: Plan, rows: tuple[ChannelKept, ...], day: date) -> None:
    """A line of hours for each channel; as many columns as there is room for."""
    from datetime import datetime, timedelta
    from zoneinfo import ZoneInfo

    from zentrale.jobs.recordings.kept_list import in_day

    zone = ZoneInfo(plan.site.timezone)
    start, end = (
        datetime(d.year, d.month, d.day, tzinfo=zone).timestamp() for d in (day, day + timedelta(days=1))
    )  # fmt: skip
    hours = round((end - start) / 3600)
    named = max((len(r.camera) for r in rows), default=0)
    each = (
        4
        if (output.width or 120) >= named + 2 + 4 * hours
        else 2
        if (output.width or 120) >= named + 2 + 2 * hours
        else 1
    )
    output.heading(f"{day:%A %Y-%m-%d}, {hours} h, times of {plan.site.timezone} by the recorders' clocks")
    marks = "".join(f"{datetime.fromtimestamp(start + 3600 * h, zone):%H}".ljust(3 * each) for h in range(0, hours, 3))
    output.verbatim(f"{'':<{named}}  {marks.rstrip()}")
    cell = 3600 / each
    for row in rows:
        if row.error:
            output.verbatim(f"{row.camera:<{named}}  not asked: {row.error[:60]}")
            continue
        kept, due = in_day(row, start, end)
        line = "".join(_mark(kept, due, start + n * cell, cell, row.asked_at.timestamp()) for n in range(hours * each))
        output.verbatim(f"{row.camera:<{named}}  {line.rstrip()}")
    output.line(
        f"{_FULL} recorded   {_PART} in part   {_NONE} nothing   blank: nothing was to be recorded, or it is still to come"
    )


def _mark(
    kept: list[tuple[float, float]], due: list[tuple[float, float]] | None, at: float, long: float, now: float
) -> str:
    from zentrale.jobs.known.spans import total, within

    if at >= now:
        return _NOT_WANTED
    long = min(long, now - at)
    there = total(within(kept, at, at + long)) / long
    want = None if due is None else total(within(due, at, at + long)) / long
    if there == 0:
        return _NOT_WANTED if not want else _NONE
    return _FULL if there > 0.99 or (want is not None and there >= want - 0.01) else _PART


def write(folder: SiteFolder, plan: Plan, listed: RecordingList) -> list[Path]:
    """The figure and the tables. Raises StorageError."""
    from zentrale.jobs.recordings.kept_list import hours_of
    from zentrale.output.csv_tables import csv_tables
    from zentrale.output.recordings_figure import recordings_figure
    from zentrale.site.folder import write_atomically

    documents = [row.document() for row in listed.channels]
    holes = [
        {
            "recorder": r.recorder,
            "channel": r.channel,
            "camera": r.camera,
            "from": g.start,
            "to": g.end,
            "seconds": g.seconds,
        }
        for r in listed.channels
        for g in r.gaps
    ]
    channels = [{k: v for k, v in document.items() if k != "gaps"} for document in documents]
    files = {f"{name}.csv": data for name, data in csv_tables({"channels": channels, "holes": holes}).items()}
    now = max((r.asked_at.timestamp() for r in listed.channels), default=0.0)
    rows = [hours_of(plan, row) for row in listed.channels]
    title = f"{plan.site.name}: what the recorders keep"
    files["recordings.png"] = recordings_figure(title, plan.site.timezone, rows, now)
    written = []
    for name, data in files.items():
        path = folder.output / "recordings" / name
        write_atomically(path, data)
        written.append(path)
    return written
