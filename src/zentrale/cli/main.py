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

TYPE_CHECKING = False  # as typing has it, without the cost of importing typing
if TYPE_CHECKING:
    from types import ModuleType

# In the order of the work. Each is a module of this package with DESCRIPTION, EXAMPLE, add_arguments(parser) and
# run(args) -> exit code; only the one that is asked for is imported.
COMMANDS = {
    "demo": "the full worked example on the stand-in site, one command",
    "new": "make a site folder with plan files to edit",
    "import": "take a camera schedule (CSV, XLSX) into the plan",
    "check": "check the plan files: every error with file, line and field",
    "plan": "calculate: PoE power per switch, traffic per link, days of storage",
    "discover": "find devices: what each is, in what state, and which planned one it is",
    "assign": "bind a found device to a planned camera by hand",
    "register": "bring devices to plan: password, name, time, streams, recorder channel",
    "verify": "measure every stream, and all else that acceptance needs",
    "handover": "write the evidence pack: page, camera list, pictures, figures",
    "vault": "credentials: candidate passwords, and those of each device",
    "explain": "say what a finding code means and what to do about it",
    "simulate": "run the stand-in site: simulated cameras and a recorder on loopback addresses",
}

EPILOG = """\
A site folder holds site.toml, cameras.csv and types.toml; commands find it from the current folder upwards.
Start with `zentrale demo`, or with `zentrale new FOLDER`.

exit codes: 0 all is as planned, 1 it ran and there are faults, 2 wrong usage or bad input,
            3 nothing could be reached, 70 the program itself failed, 130 interrupted
"""


def _formatter(prog: str) -> argparse.HelpFormatter:
    """As wide as the terminal; argparse's own way of asking imports compression libraries."""
    try:
        columns = os.get_terminal_size().columns
    except OSError:
        columns = 100
    return argparse.RawDescriptionHelpFormatter(prog, width=max(60, min(columns, 110) - 2))


def _module(command: str) -> ModuleType:
    """The module of a command; `import` is a word of the language, so its module ends in an underscore."""
    return importlib.import_module(f"zentrale.cli.{'import_' if command == 'import' else command}")


def build_parser(only: str | None) -> argparse.ArgumentParser:
    """The parser, with the arguments of the command `only` filled in."""
    parser = argparse.ArgumentParser(
        prog="zentrale",
        description="Commission surveillance recorders and IP cameras: plan, discover, register, verify, hand over.",
        epilog=EPILOG,
        formatter_class=_formatter,
    )
    parser.add_argument("--version", action="version", version=f"zentrale {__version__}")
    commands = parser.add_subparsers(dest="command", metavar="COMMAND", required=True)
    for name, summary in COMMANDS.items():
        if name != only:
            commands.add_parser(name, help=summary)
            continue
        module = _module(name)
        sub = commands.add_parser(
            name,
            help=summary,
            description=module.DESCRIPTION,
            epilog=f"example:\n  {module.EXAMPLE}",
            formatter_class=_formatter,
        )
        module.add_arguments(sub)
    return parser


def main(argv: Sequence[str] | None = None) -> int:
    arguments = list(sys.argv[1:] if argv is None else argv)
    only = next((a for a in arguments if a in COMMANDS), None)
    args = build_parser(only).parse_args(arguments)
    module = _module(args.command)

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
