"""`zentrale restart`: devices restarted, one after the other where they watch the same ground, and seen to come back."""

from __future__ import annotations

import argparse

from zentrale.cli import maintained

DESCRIPTION = """\
Restarts the named devices (SystemReboot): one camera of a switch at a time, never two that watch the same ground, recorders
last. Each is seen to go and to come back as who it was; the first that does not come back ends it. One that answers nobody
any more is restarted by its switch port: `zentrale network restart`."""
EXAMPLE = "zentrale restart upper-gate-north"


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("names", metavar="DEVICE", nargs="+", help="cameras and recorders")
    maintained.add_arguments(parser)


def run(args: argparse.Namespace) -> int:
    import asyncio

    work = maintained.begun(args)
    with maintained.maintainer(work, "restart") as maintainer:
        turned = asyncio.run(maintainer.restart(maintainer.devices(args.names)))
    return maintained.show_turned(args, work.output, turned, "all are back", "restart")
