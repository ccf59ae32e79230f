"""`zentrale remove`: a camera goes."""

from __future__ import annotations

import argparse

from zentrale.cli import options

DESCRIPTION = """\
Takes a camera off its recorder channel and out of cameras.csv, and closes what is open about it. What was found and done is
kept, and so is its password in the vault. Where the recorder cannot free the channel, nothing is changed."""
EXAMPLE = "zentrale remove boat-yard-slip"


def add_arguments(parser: argparse.ArgumentParser) -> None:
    name = parser.add_argument("name", metavar="CAMERA", help="name of a planned camera")
    options.completes(name, options.complete_cameras)
    parser.add_argument("--by-hand", action="store_true", help="its channel was freed at the recorder by hand already")
    options.add_entering(parser)
    options.add_no_wait(parser)
    options.add_site(parser)
    options.add_passphrase(parser)
    options.add_common(parser)


def run(args: argparse.Namespace) -> int:
    import asyncio

    from zentrale.cli.work import Work
    from zentrale.jobs.discovery.replacing import REMOVE, remove_camera

    work = Work(args)
    output, folder, plan = work.output, work.folder, work.plan
    work.vault_if_any()
    with work.alone(REMOVE):
        done = asyncio.run(remove_camera(plan, folder, work.keyring(), args.name, by_hand=args.by_hand))
    output.line(f"{args.name} is out of the plan; what was found and done is kept", "bold")
    output.line(done.channel, "" if done.freed else "yellow")
    output.next("`zentrale check`, then `zentrale handover` for the new state")
    return 0
