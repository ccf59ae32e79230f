"""Declares the commands, hands over to one of them, and turns every error into a message and an exit code.

Nothing heavy is imported before a command runs: start-up is felt.
"""

from __future__ import annotations

import argparse
import importlib
import os
import sys
from collections.abc import Sequence

from zentrale import __version__

# In the order of the work. Each is a module of this package with SUMMARY, DESCRIPTION, EXAMPLE,
# add_arguments(parser) and run(args) -> exit code.
COMMANDS = (
    "demo", "new", "check", "plan", "discover", "assign", "register", "verify", "handover", "vault", "explain", "simulate",
)  # fmt: skip

EPILOG = """\
A site folder holds site.toml, cameras.csv and types.toml; commands find it from the current folder upwards.
Start with `zentrale demo`, or with `zentrale new FOLDER`.

exit codes: 0 all is as planned, 1 it ran and there are faults, 2 wrong usage or bad input,
            3 nothing could be reached, 130 interrupted
"""


def build_parser(only: str | None = None) -> argparse.ArgumentParser:
    """The whole parser; with `only`, just that command's arguments are filled in."""
    parser = argparse.ArgumentParser(
        prog="zentrale",
        description="Commission surveillance recorders and IP cameras: plan, discover, register, verify, hand over.",
        epilog=EPILOG,
        formatter_class=argparse.RawDescriptionHelpFormatter,
    )
    parser.add_argument("--version", action="version", version=f"zentrale {__version__}")
    commands = parser.add_subparsers(dest="command", metavar="COMMAND", required=True)
    for name in COMMANDS:
        module = importlib.import_module(f"zentrale.cli.{name}")
        sub = commands.add_parser(
            name, help=module.SUMMARY, description=module.DESCRIPTION, epilog=f"example:\n  {module.EXAMPLE}",
            formatter_class=argparse.RawDescriptionHelpFormatter,
        )  # fmt: skip
        if only in (None, name):
            module.add_arguments(sub)
            common = sub.add_argument_group("common options")
            common.add_argument("--no-color", action="store_true", help="no colour (NO_COLOR does the same)")
            common.add_argument("--quiet", action="store_true", help="only the result; no progress, no hints")
            common.add_argument(
                "-v", "--verbose", action="store_true", help="log what is asked and answered, to stderr"
            )
    return parser


def main(argv: Sequence[str] | None = None) -> int:
    arguments = list(sys.argv[1:] if argv is None else argv)
    only = next((a for a in arguments if a in COMMANDS), "none")
    args = build_parser(only).parse_args(arguments)
    module = importlib.import_module(f"zentrale.cli.{args.command}")

    # Only now: these cost more than the parser.
    from zentrale.cli import errors

    return errors.guarded(module.run, args)


def entry_point() -> None:
    code = main()
    try:
        sys.stdout.flush()
    except BrokenPipeError:
        # The reader (`head`, say) has what it wanted. Keep the interpreter from flushing again at exit.
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
    sys.exit(code)
