"""`zentrale new`: make a site folder."""

from __future__ import annotations

import argparse

from zentrale.cli import options

DESCRIPTION = """\
Makes a folder with site.toml, cameras.csv and types.toml. Edit them, then run `zentrale check`.
Refuses to touch a folder that already holds a plan."""
EXAMPLE = "zentrale new brackwater --sample brackwater"


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("folder", metavar="FOLDER", help="the folder to make")
    parser.add_argument(
        "--sample",
        choices=("empty", "network", "brackwater"),
        default="empty",
        help="what to begin with: a plan of one camera to replace (empty), one without cameras for devices that are there "
        "already (network), or the worked example (brackwater)",
    )
    options.add_common(parser)


def run(args: argparse.Namespace) -> int:
    from pathlib import Path

    from zentrale.cli.output import Output
    from zentrale.site.folder import create_site

    output = Output(args)
    for path in create_site(Path(args.folder), args.sample):
        output.line(f"wrote {path}")
    output.hint(f"next: edit them, then `cd {args.folder}` and `zentrale check`")
    return 0
