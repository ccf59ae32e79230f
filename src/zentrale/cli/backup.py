"""`zentrale backup`: the devices' own configuration saved, sealed, and restored."""

from __future__ import annotations

import argparse

from zentrale.cli import maintained

DESCRIPTION = """\
Saves each device's configuration as the device itself gives it out (GetSystemUris, else GetSystemBackup) into backups/,
sealed with the vault: it may hold passwords. Its SHA-256 is in the logbook. A device that gives none out has a line on its work
sheet. --restore sends one back (StartSystemRestore) and waits for the device."""
EXAMPLE = "zentrale backup\n  zentrale backup upper-gate-north --restore"


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("names", metavar="DEVICE", nargs="*", help="cameras and recorders (default: all)")
    parser.add_argument("--restore", action="store_true", help="send the newest back-up of the one named device to it")
    parser.add_argument("--file", metavar="NAME", default="", help="with --restore: this one in backups/")
    maintained.add_arguments(parser)


def run(args: argparse.Namespace) -> int:
    import asyncio

    from zentrale.errors import InputError
    from zentrale.jobs.known.step_form import Outcome
    from zentrale.jobs.registration import by_hand

    work = maintained.begun(args)
    output, folder, plan = work.output, work.folder, work.plan
    if args.restore and len(args.names) != 1:
        raise InputError("--restore: takes one device", "name it; each is restored for itself")
    if args.file and not args.restore:
        raise InputError("--file: says which back-up --restore takes", "give --restore too, or leave it out")
    with maintained.maintainer(work, "backup") as maintainer:
        devices = maintainer.devices(args.names)
        if args.restore:
            content, name = maintainer.kept(folder, devices[0], args.file)
            turned = asyncio.run(maintainer.restore(devices[0], content))
            return maintained.show_turned(args, output, turned, f"restored {name}", "backup --restore")
        results = asyncio.run(maintainer.save(folder, devices))
        sheets = by_hand.write(folder, plan.site.name, by_hand.sheets(plan, (), maintainer.logbook))
    code = maintained.show(args, output, results, "all are saved, sealed with the vault, in backups/")
    if sheets and any(step.outcome is Outcome.NOT_OFFERED for result in results for step in result.steps):
        output.line(f"to be done by hand, device by device: {sheets[0]}", "bold")
    return code
