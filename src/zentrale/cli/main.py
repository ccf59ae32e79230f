"""Declares the commands, hands over to one of them, and turns every error into a message and an exit code.

Nothing heavy is imported before a command runs: start-up is felt.
"""

from __future__ import annotations

import argparse
import gc
import importlib
import os
import re
import sys
from collections.abc import Sequence

from zentrale import __version__

TYPE_CHECKING = False  # as typing has it, without the cost of importing typing
if TYPE_CHECKING:
    from types import ModuleType
    from typing import NoReturn

# In the order of the work. Each is a module of this package with DESCRIPTION, EXAMPLE, add_arguments(parser) and
# run(args) -> exit code; only the one that is asked for is imported.
COMMANDS = {
    "demo": "the full worked example on the stand-in site, one command",
    "new": "make a site folder with plan files to edit",
    "import": "take a camera schedule (CSV, XLSX) into the plan",
    "check": "check the plan files: every error with file, line and field",
    "plan": "calculate: PoE power per switch, traffic per link, days of storage",
    "network": "the plan's network as configuration for switches, router and DHCP",
    "discover": "find devices: what each is, in what state, and which planned one it is",
    "assign": "bind a found device to a planned camera by hand",
    "replace": "let another device take a camera's place",
    "remove": "take a camera off its channel and out of the plan",
    "register": "bring devices to plan: password, name, time, streams, recorder channel",
    "firmware": "which versions are there, and the wanted ones pushed",
    "restart": "restart devices, and see them come back",
    "backup": "save the devices' own configuration, sealed, and restore it",
    "verify": "measure every stream, and all else that acceptance needs",
    "diagnose": "where a camera's way breaks, who is to blame, and what to do next",
    "recordings": "what the recorders keep: hours, holes, days; pictures of a moment",
    "wire": "what is in a capture file: streams, stream addresses, who talked to whom",
    "handover": "write the evidence pack: page, camera list, pictures, figures",
    "vault": "credentials: candidate passwords, and those of each device",
    "explain": "say what a finding code means and what to do about it, or what a plan key means",
    "help": "the documentation, page by page, offline",
    "doctor": "what of this machine is missing, and for which command",
    "simulate": "run the stand-in site: simulated cameras and a recorder on loopback addresses",
}

EPILOG = """\
A site folder holds site.toml, cameras.csv and types.toml; commands find it from the current folder upwards.
Start with `zentrale demo`, or with `zentrale new FOLDER`.

exit codes: 0 all is as planned, 1 it ran and there are faults, 2 wrong usage or bad input,
            3 nothing could be reached, 70 the program itself failed, 130 interrupted
"""


def _formatter(prog: str) -> argparse.HelpFormatter:
    """As wide as COLUMNS or the terminal; argparse's own way of asking imports compression libraries."""
    asked = os.environ.get("COLUMNS", "")
    try:
        columns = int(asked) if asked.isascii() and asked.isdigit() else os.get_terminal_size().columns
    except OSError:
        columns = 100
    return _Help(prog, width=max(40, min(columns, 110)))


class _Help(argparse.RawDescriptionHelpFormatter):
    """Descriptions are wrapped to the width; lines that begin with blanks stay as they are, for lists and examples."""

    def _fill_text(self, text: str, width: int, indent: str) -> str:
        from textwrap import fill

        out: list[str] = []
        paragraph: list[str] = []
        for line in [*text.splitlines(), ""]:
            if line and line[0] != " ":
                paragraph.append(line)
                continue
            if paragraph:
                out.append(fill(" ".join(paragraph), width, break_long_words=False, break_on_hyphens=False))
                paragraph = []
            kept = fill(
                line, width, subsequent_indent=" " * (len(line) - len(line.lstrip()) + 2), break_on_hyphens=False
            )
            out.append(kept if line else "")
        return "\n".join(out).rstrip("\n")


class _Parser(argparse.ArgumentParser):
    """Mistakes are told with what was probably meant, and with the usage of the command that has them."""

    def error(self, message: str) -> NoReturn:
        from zentrale.words import meant

        found = re.search(r"invalid choice: '([^']*)' \(choose from (.*)\)", message)
        if found:
            known = [word.strip(" '") for word in found[2].split(",")]
            message = f"{message[: found.start()]}{found[1]!r} is not known{meant(found[1], known)}"
        self.print_usage(sys.stderr)
        self.exit(2, f"zentrale: {message}\n  `{self.prog} --help` says what there is\n")


def _module(command: str) -> ModuleType:
    """The module of a command; `import` is a word of the language, so its module ends in an underscore."""
    return importlib.import_module(f"zentrale.cli.{'import_' if command == 'import' else command}")


class _Version(argparse.Action):
    """As argparse has it, but asked only when it is asked for."""

    def __call__(
        self, parser: argparse.ArgumentParser, namespace: argparse.Namespace, values: object, option: str | None = None
    ) -> None:
        print(version())
        parser.exit()


def version() -> str:
    import platform

    return f"zentrale {__version__} (Python {platform.python_version()}, {sys.platform} {platform.machine()})"


def build_parser(only: str | None, *, whole: bool = False) -> argparse.ArgumentParser:
    """The parser, with the arguments of the command `only` filled in, or of all with `whole`."""
    parser = _Parser(
        prog="zentrale",
        description="Commission surveillance recorders and IP cameras: plan, discover, register, verify, hand over.",
        epilog=EPILOG,
        formatter_class=_formatter,
    )
    parser.add_argument("--version", action=_Version, nargs=0, help="show the program's version number and exit")
    commands = parser.add_subparsers(dest="command", metavar="COMMAND", required=True)
    for name, summary in COMMANDS.items():
        if name != only and not whole:
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
    if "_ARGCOMPLETE" in os.environ:  # the shell asks what could come next
        import argcomplete

        argcomplete.autocomplete(build_parser(None, whole=True))
    if not arguments:
        _begin()
        return 0
    only = next((a for a in arguments if a in COMMANDS), None)
    parser = build_parser(only)
    args, unknown = parser.parse_known_args(arguments)
    if unknown:
        _tell_unknown(parser, [args.command, getattr(args, "action", None)], unknown)
    module = _module(args.command)

    # Only now: these cost more than the parser.
    from zentrale.cli import errors

    return errors.guarded(module.run, args)


def _tell_unknown(parser: argparse.ArgumentParser, commands: Sequence[str | None], unknown: Sequence[str]) -> NoReturn:
    """By the parser of the command that was given, or of its action, what it does not know."""
    from zentrale.words import meant

    given = []
    for command in commands:
        inner = next((a for a in parser._actions if isinstance(a, argparse._SubParsersAction)), None)
        if inner is not None and command in inner.choices:
            parser = inner.choices[command]
            given.append(command)
    word = unknown[0].partition("=")[0]
    known = [name for action in parser._actions for name in action.option_strings]
    parser.error(f"{' '.join(map(str, given))}: {word} is not known{meant(word, known)}")


_STEPS = (
    ("see it work", "zentrale demo"),
    ("begin a site", "zentrale new FOLDER, then edit its files or zentrale import SCHEDULE"),
    ("before you drive", "zentrale check, zentrale plan"),
    ("passwords", "zentrale vault init, zentrale vault add USER"),
    ("on site", "zentrale discover, zentrale register, zentrale verify"),
    ("at the end", "zentrale handover"),
    ("one stream", "zentrale verify rtsp://USER@HOST/PATH"),
    ("what it means", "zentrale explain CODE, zentrale help"),
)


def _begin() -> None:
    print("Commission surveillance recorders and IP cameras, step by step:\n")
    for what, command in _STEPS:
        print(f"  {what:<17} {command}")
    print("\nzentrale COMMAND --help says more of each; zentrale --help lists all.")


def entry_point() -> None:
    # Starting makes a hundred thousand objects that stay: to look through them every 700 costs a twentieth of a command.
    gc.set_threshold(50_000, 20, 50)
    code = main()
    try:
        sys.stdout.flush()
    except BrokenPipeError:
        # The reader (`head`, say) has what it wanted. Keep the interpreter from flushing again at exit.
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
    sys.exit(code)
