"""`zentrale replace`: another device takes a camera's place."""

from __future__ import annotations

import argparse

from zentrale.cli import options

DESCRIPTION = """\
Another device takes over a camera's place, channel, settings, name and history: one of the last discovery, named by its
address, its MAC address or its last digits. Where cameras.csv names the old device's MAC address or serial number, the new
one's are written there. The next `zentrale register` sets the new device."""
EXAMPLE = "zentrale replace upper-gate-north --with 192.168.1.64"


def add_arguments(parser: argparse.ArgumentParser) -> None:
    name = parser.add_argument("name", metavar="CAMERA", help="name of a planned camera")
    options.completes(name, options.complete_cameras)
    parser.add_argument(
        "--with", dest="device", metavar="DEVICE", required=True, help="address or MAC address of the new device"
    )
    options.add_no_wait(parser)
    options.add_site(parser)
    options.add_passphrase(parser)
    options.add_common(parser)


def run(args: argparse.Namespace) -> int:
    from zentrale.cli.work import Work
    from zentrale.jobs.discovery.replacing import REPLACE, replace_camera

    work = Work(args)
    output, folder, plan = work.output, work.folder, work.plan
    work.vault_if_any()
    with work.alone(REPLACE) as logbook:
        done = replace_camera(plan, folder, logbook, work.vault, args.name, args.device)
    output.line(f"{args.name} is now the device {done.after}; it was {done.before}", "bold")
    for column, value in done.cells.items():
        output.line(f"cameras.csv: {column} is {value or 'empty'} now")
    if done.other_model:
        planned = plan.camera_type(plan.camera(args.name))
        output.line(
            f"WARNING  it is {done.other_model}; planned is {planned.maker} {planned.model}: correct `type` in "
            "cameras.csv, or fetch the right one", "yellow",
        )  # fmt: skip
    row = plan.camera(args.name)
    output.line(
        f"what was recorded until now stays on channel {row.channel} of {row.recorder}; the logbook keeps of which device"
    )
    if done.old_password:
        output.line(f"the old device's password stays in the vault, under {done.old_password!r}")
    output.next(f"`zentrale discover`, then `zentrale register --only {args.name}`")
    return 0
