"""Prints docs/zentrale.1, made from the commands and their options: `python tools/man_page.py > docs/zentrale.1`."""

from __future__ import annotations

import argparse
from collections.abc import Iterator

from zentrale.cli.main import COMMANDS, build_parser


def page() -> str:
    parser = build_parser(None, whole=True)
    (commands,) = (a for a in parser._actions if isinstance(a, argparse._SubParsersAction))
    lines = [
        '.TH ZENTRALE 1 "" "zentrale" "User Commands"', ".SH NAME", "zentrale \\- " + _text(parser.description or ""),
        ".SH SYNOPSIS", ".B zentrale", "COMMAND [OPTION ...]", ".SH DESCRIPTION", _text(parser.epilog or ""), ".SH COMMANDS",
    ]  # fmt: skip
    for name in COMMANDS:
        lines += [f'.SS "zentrale {name}"', *_command(commands.choices[name])]
    lines += [".SH SEE ALSO", ".B zentrale help", "shows the whole documentation, which is inside the program."]
    return "\n".join(lines) + "\n"


def _command(parser: argparse.ArgumentParser) -> Iterator[str]:
    yield _text(parser.description or "")
    for action in parser._actions:
        if isinstance(action, argparse._SubParsersAction):
            for name, sub in action.choices.items():
                yield f'.TP\n.B "{_text(parser.prog)} {name}"'
                yield from _options(sub)
    yield from _options(parser)


def _options(parser: argparse.ArgumentParser) -> Iterator[str]:
    for action in parser._actions:
        if action.help in (None, argparse.SUPPRESS) or isinstance(
            action, argparse._HelpAction | argparse._SubParsersAction
        ):
            continue
        metavar = action.metavar if isinstance(action.metavar, str) else action.dest.upper()
        value = "" if action.nargs == 0 else f" {metavar}"
        names = ", ".join(f"{name}{value}" for name in action.option_strings) or metavar
        yield f".TP\n.B {_text(names)}\n{_text(action.help or '')}"


def _text(text: str) -> str:
    """As roff reads it: no line begins with a dot or a quote, hyphens are hyphens."""
    lines = [line.strip().replace("\\", "\\e").replace("-", "\\-") for line in text.splitlines()]
    return "\n".join(f"\\&{line}" if line[:1] in (".", "'") else line or ".PP" for line in lines)


if __name__ == "__main__":
    print(page(), end="")
