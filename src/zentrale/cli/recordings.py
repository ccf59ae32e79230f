"""`zentrale recordings`: what the recorders keep."""

from __future__ import annotations

import argparse

from zentrale.cli import options, recordings_play, recordings_save

TYPE_CHECKING = False  # as typing has it, without the cost of importing typing
if TYPE_CHECKING:
    from datetime import date

    from zentrale.cli.work import Work
    from zentrale.jobs.recordings.kept_list import RecordingList

DESCRIPTION = """\
Asks the recorders what they keep of each planned channel: oldest and newest hour, days against the plan, every hole, and how much
of what was to be recorded is there. Where a recorder has no search, it is wound from moment to moment instead. Changes nothing on
any device; each asking stands in the logbook."""
EXAMPLE = """zentrale recordings
  zentrale recordings --day 2026-11-24 --only 'quay-*'
  zentrale recordings play --at '2026-11-24 22:14' --only 'quay-*'"""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("--day", metavar="DATE", help="the hours of one day, as 2026-11-24, today or yesterday")
    parser.add_argument("--figures", action="store_true", help="write a figure and tables to output/recordings")
    options.add_details(parser)
    _add_common(parser)
    actions = parser.add_subparsers(dest="action", metavar="ACTION")
    play = actions.add_parser("play", help="the pictures of a moment on one sheet, each with its true time")
    recordings_play.add_arguments(play)
    _add_common(play)
    save = actions.add_parser("save", help="films of what is stored, as it is stored, with a digest each")
    recordings_save.add_arguments(save)
    _add_common(save)
    check = actions.add_parser("check", help="whether films are still what was saved")
    recordings_save.add_check_arguments(check)
    options.add_site(check)
    options.add_json(check)
    options.add_common(check)


def _add_common(parser: argparse.ArgumentParser) -> None:
    options.add_only(parser, names=False)
    options.add_entering(parser)
    options.add_site(parser)
    options.add_passphrase(parser)
    options.add_json(parser)
    options.add_common(parser)


def run(args: argparse.Namespace) -> int:
    from zentrale.cli.work import Work

    does = {"play": recordings_play.run, "save": recordings_save.run, "check": recordings_save.run_check, None: _list}
    return does[args.action](Work(args))


def _list(work: Work) -> int:
    import asyncio
    import socket

    from zentrale.cli import recordings_shown as shown
    from zentrale.cli.output import finding_document
    from zentrale.errors import EXIT_AS_PLANNED, EXIT_FAULTS, NothingReachedError
    from zentrale.findings import count_faults
    from zentrale.jobs.known.selection import select
    from zentrale.jobs.recordings.kept_list import COMMAND, keep, recordings_of

    args, output, plan = work.args, work.output, work.plan
    day = _day(args.day, plan.site.timezone) if args.day else None
    cameras = select(plan, args.only)
    recorders = len({c.recorder for c in cameras})
    work.vault_if_any()
    with work.logging() as logbook, output.progress("asking recorders", recorders) as step:
        keyring = work.keyring()
        with logbook.running(COMMAND, socket.gethostname(), {"cameras": [c.name for c in cameras]}) as run_number:
            listed: RecordingList = asyncio.run(recordings_of(plan, keyring, cameras, step))
            keep(keyring, run_number, listed)
    if args.json:
        output.document({
            "channels": [row.document() for row in listed.channels], "clock_offset_s": dict(listed.offsets_s),
            "findings": [finding_document(f) for f in listed.findings],
        })  # fmt: skip
    shown.show(output, plan, listed, day)
    if args.figures:
        for path in shown.write(work.folder, plan, listed):
            output.line(f"written: {path}")
    if listed.channels and all(row.error for row in listed.channels):
        raise NothingReachedError(listed.channels[0].error, "run `zentrale discover`, then this again")
    return EXIT_FAULTS if count_faults(listed.findings) else EXIT_AS_PLANNED


def _day(text: str, zone: str) -> date:
    """Raises InputError."""
    from datetime import date, datetime, timedelta
    from zoneinfo import ZoneInfo

    from zentrale.errors import InputError

    today = datetime.now(ZoneInfo(zone)).date()
    known = {"today": today, "yesterday": today - timedelta(days=1)}
    try:
        return known.get(text.strip().lower()) or date.fromisoformat(text.strip())
    except ValueError:
        raise InputError(f"--day {text}: not a date", f"expected one such as {today}, or today, or yesterday") from None
