"""`zentrale assign`: bind a found device to a planned one by hand."""

from __future__ import annotations

import argparse

from zentrale.cli import options

DESCRIPTION = """\
Binds a device of the last discovery, named by its address or MAC address, to a planned camera or recorder: for
plans without MAC addresses, and for devices at another address than planned. Kept in the logbook; the plan files
are not touched."""
EXAMPLE = "zentrale assign upper-gate-north 192.168.1.64"


def add_arguments(parser: argparse.ArgumentParser) -> None:
    name = parser.add_argument("name", metavar="CAMERA", help="name of a planned camera or recorder")
    options.completes(name, options.complete_cameras)
    parser.add_argument("device", metavar="DEVICE", nargs="?", help="address or MAC address of a found device")
    parser.add_argument("--remove", action="store_true", help="take the binding back")
    options.add_no_wait(parser)
    options.add_site(parser)
    options.add_common(parser)


def run(args: argparse.Namespace) -> int:
    from zentrale.cli.output import Output
    from zentrale.errors import InputError
    from zentrale.jobs.assigning import assign, unassign
    from zentrale.logbook.store import Logbook
    from zentrale.site.reading import read_plan

    if args.remove == (args.device is not None):
        raise InputError("assign: a device is missing" if not args.remove else "assign --remove takes no device",
                         "give CAMERA DEVICE, or CAMERA --remove")  # fmt: skip
    output = Output(args)
    folder = options.site_folder(args)
    plan = read_plan(folder)
    with options.alone(args, output, folder, "assign"), Logbook(folder.logbook_file) as logbook:
        if args.remove:
            unassign(plan, logbook, args.name)
            output.line(f"{args.name} is bound to no device by hand any more")
        else:
            binding = assign(plan, logbook, args.name, args.device)
            output.line(f"{binding.name} is the device at {binding.address} ({binding.mac or 'MAC address not told'})")
    output.hint("next: `zentrale register`; what the last discovery saw is matched with the new binding")
    return 0
