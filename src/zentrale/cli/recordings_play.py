"""`zentrale recordings play`: what was there at a moment, or through a night."""

from __future__ import annotations

import argparse

TYPE_CHECKING = False  # as typing has it, without the cost of importing typing
if TYPE_CHECKING:
    from collections.abc import Sequence
    from datetime import datetime

    from zentrale.cli.output import Output
    from zentrale.cli.work import Work
    from zentrale.jobs.recordings.instants import Instant, Instants

MOST_PICTURES = 600
COMMAND = "recordings play"


def add_arguments(parser: argparse.ArgumentParser) -> None:
    add_times(parser)
    parser.add_argument("--at", metavar="TIME", help="the moment, as '2026-11-24 22:14', 'yesterday 22:14' or 22:14:30")
    parser.add_argument("--every", metavar="LENGTH", help="with --from and --to: a picture so often, as 10m or 30s")


def add_times(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("--from", dest="begin", metavar="TIME", help="the first moment")
    parser.add_argument("--to", dest="end", metavar="TIME", help="the last moment")
    parser.add_argument("--reason", metavar="WHY", default="", help="why it is looked at: it goes into the logbook")


def run(work: Work) -> int:
    import asyncio
    import socket

    from zentrale.errors import EXIT_AS_PLANNED, EXIT_BAD_INPUT, EXIT_FAULTS
    from zentrale.jobs.known.selection import select
    from zentrale.jobs.recordings.instants import instants, keep

    args, output, plan = work.args, work.output, work.plan
    times = _times(work)
    cameras = select(plan, args.only)
    total = len(times) * len(cameras)
    work.vault_if_any()
    with work.logging() as logbook, output.progress("fetching pictures", total) as step:
        keyring = work.keyring()
        scope = {
            "cameras": [c.name for c in cameras], "from": times[0].isoformat(), "to": times[-1].isoformat(),
            "reason": args.reason,
        }  # fmt: skip
        with logbook.running(COMMAND, socket.gethostname(), scope) as number:
            fetched = asyncio.run(instants(plan, keyring, cameras, times, step))
            rows = _written(work, fetched.pictures)
            keep(keyring, number, plan, rows, args.reason)
    sheet = _sheet(work, rows, times)
    if args.json:
        output.document({"pictures": [row.document() for row in rows], "sheet": sheet or None})
    _show(work, output, rows, fetched, sheet)
    have = sum(row.jpeg is not None for row in rows)
    return EXIT_BAD_INPUT if not have else EXIT_AS_PLANNED if have == len(rows) else EXIT_FAULTS


def _times(work: Work) -> list[datetime]:
    """Raises InputError."""
    from datetime import timedelta

    from zentrale.errors import InputError
    from zentrale.jobs.known.selection import select
    from zentrale.jobs.recordings.moments import length_s

    args = work.args
    if args.at:
        if args.begin or args.end or args.every:
            raise InputError("--at does not go with --from, --to or --every", "leave one of them out")
        return [moment(work, args.at, "--at")]
    if not (args.begin and args.end and args.every):
        raise InputError("recordings play: no moment is said", "give --at TIME, or --from TIME --to TIME --every 10m")
    begin, end = interval(work)
    step = timedelta(seconds=length_s(args.every, "--every"))
    number = int((end - begin) / step) + 1
    most = number * len(select(work.plan, args.only))
    if most > MOST_PICTURES:
        raise InputError(
            f"--every {args.every}: makes {most} pictures",
            f"expected at most {MOST_PICTURES}: a longer step, fewer cameras",
        )
    return [begin + n * step for n in range(number)]


def interval(work: Work) -> tuple[datetime, datetime]:
    """`--from` and `--to`. Raises InputError."""
    from zentrale.errors import InputError

    begin, end = moment(work, work.args.begin, "--from"), moment(work, work.args.end, "--to")
    if end <= begin:
        raise InputError(f"--to {work.args.end}: not after --from {work.args.begin}", "expected a later time")
    return begin, end


def moment(work: Work, text: str, option: str) -> datetime:
    """By the site's clocks; where they show a time twice, the person at the terminal is asked which. Raises InputError."""
    import sys
    from datetime import UTC

    from zentrale import quantities
    from zentrale.errors import TwiceError
    from zentrale.jobs.recordings.moments import moment_of

    try:
        return moment_of(text, work.plan.site.timezone, quantities.now(), option)
    except TwiceError as error:
        if not sys.stdin.isatty():
            raise
        first, second = error.both
        earlier = work.output.ask(f"{error.what}. Is {first:%H:%M %Z}, the earlier one, meant? (no: {second:%H:%M %Z})")
        return (first if earlier else second).astimezone(UTC)


def _written(work: Work, rows: Sequence[Instant]) -> list[Instant]:
    """Each picture in a file of its own, for nobody else to read."""
    from dataclasses import replace

    from zentrale.site.folder import write_atomically

    written = []
    for row in rows:
        if row.jpeg is not None and row.got is not None:
            path = work.folder.output / "recordings" / "pictures" / f"{row.camera}-{row.got:%Y%m%dT%H%M%SZ}.jpg"
            write_atomically(path, row.jpeg, 0o600)
            row = replace(row, file=str(path))
        written.append(row)
    return written


def _sheet(work: Work, rows: Sequence[Instant], times: Sequence[datetime]) -> str:
    """All on one sheet: the cameras side by side, a moment below the other. Its file; empty where there is no picture."""
    from zentrale import quantities
    from zentrale.output.contact_sheet import SheetPicture, contact_sheet
    from zentrale.site.folder import write_atomically

    if not any(row.jpeg for row in rows):
        return ""
    cells = [SheetPicture(work.plan.called(row.camera), _caption(row), row.jpeg) for row in rows]
    single = len(times) == 1
    said = quantities.moment(times[0]) + ("" if single else f" to {quantities.moment(times[-1])}")
    columns = 3 if single else len(rows) // len(times)
    path = work.folder.output / "recordings" / f"{'moment' if single else 'night'}-{times[0]:%Y%m%dT%H%M%S}.png"
    write_atomically(path, contact_sheet(f"{work.plan.site.name}: {said}", cells, columns=columns), 0o600)
    return str(path)


def _caption(row: Instant) -> str:
    from zentrale import quantities

    if row.got is None or row.off_s is None:
        return row.says[:58]
    return f"{quantities.moment(row.got)}, {row.off_s:+.1f} s"


def _show(work: Work, output: Output, rows: Sequence[Instant], fetched: Instants, sheet: str) -> None:
    from zentrale import quantities

    have = [row for row in rows if row.jpeg is not None]
    text = f"{len(have)} of {quantities.count(len(rows), 'picture')}"
    worst = max((abs(r.off_s or 0.0) for r in have), default=0.0)
    good = f"{text}; the farthest is {worst:.1f} s from the moment asked for"
    if len(have) == len(rows):
        output.line(f"OK  {good}", "bold green")
    elif have:
        output.line(f"FAULTS  {good}", "bold red")
    else:
        output.line("FAULTS  no channel has a picture of it", "bold red")
    for recorder, offset_s in fetched.offsets_s.items():
        if abs(offset_s) > work.plan.policy.clock_tolerance_s:
            told = f"the clock of {recorder} is {quantities.difference(offset_s)} now; if it was so then, what happened when "
            output.line(f"{told}you asked for stands there at another time, by as much", "yellow")
    output.line()
    if len(rows) <= 40 or output.details:
        single = len({row.asked for row in rows}) == 1
        table = []
        for row in rows:
            got = row.says if row.got is None or row.jpeg is None else quantities.moment(row.got)
            off = f"{row.off_s:+.1f} s" if row.off_s is not None and row.jpeg is not None else "-"
            asked = [] if single else [quantities.moment(row.asked)]
            table.append([row.camera, *asked, f"{'ok' if row.jpeg else 'fault'}|{got}", off])
        if single:
            output.line(f"asked for {quantities.moment(rows[0].asked)}")
        output.table(["camera", *([] if single else ["asked for"]), "picture of", ">off"], table)
    if sheet:
        output.line(f"sheet: {sheet}", "bold")
        output.next("open the sheet; `zentrale recordings save --from TIME --to TIME` keeps the film")
    else:
        output.next("`zentrale recordings` shows what there is")
