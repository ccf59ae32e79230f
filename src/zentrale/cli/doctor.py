"""`zentrale doctor`: what of this machine is missing, and for which command."""

from __future__ import annotations

import argparse

from zentrale.cli import options

DESCRIPTION = """\
Looks at this machine itself: adapters, multicast, limits, what is installed. Says for each thing which command wants it, and
what to do where it is missing. Sends nothing to anybody."""
EXAMPLE = "zentrale doctor"


def add_arguments(parser: argparse.ArgumentParser) -> None:
    options.add_json(parser)
    options.add_common(parser)


def run(args: argparse.Namespace) -> int:
    from dataclasses import asdict

    from zentrale import quantities
    from zentrale.cli.main import version
    from zentrale.cli.output import Output
    from zentrale.jobs.examining import examine

    output = Output(args)
    found = list(examine())
    missing = [item for item in found if not item.well]
    if args.json:
        output.document({"version": version(), "examined": [asdict(item) for item in found]})
    if missing:
        output.line(f"WARNINGS  {quantities.count(len(missing), 'thing')} missing or small", "bold yellow")
    else:
        output.line("OK  nothing is missing", "bold green")
    output.line(version())
    output.table(
        ["what", "", "found", "wanted by"],
        ([i.what, "ok|ok" if i.well else "warning|missing", i.found, i.needed_for] for i in found),
    )
    for item in missing:
        output.line(f"{item.what}: {item.advice}")
    output.next("`zentrale demo`, or `zentrale new FOLDER`")
    return 0
