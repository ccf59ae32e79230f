"""`zentrale explain`: a finding code in full."""

from __future__ import annotations

import argparse

from zentrale.cli import options

TYPE_CHECKING = False  # as typing has it, without the cost of importing typing
if TYPE_CHECKING:
    from zentrale.findings import Entry

DESCRIPTION = "Prints the longer explanation of a finding code. Without a code, lists them all."
EXAMPLE = "zentrale explain STR-3"


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("code", metavar="CODE", nargs="?", help="a finding code such as STR-3")
    options.add_json(parser)
    options.add_common(parser)


def run(args: argparse.Namespace) -> int:
    from textwrap import fill

    from zentrale.cli.output import Output
    from zentrale.errors import InputError
    from zentrale.findings import CATALOGUE

    output = Output(args)
    if args.code is None:
        if args.json:
            output.document({"codes": [_document(e) for e in CATALOGUE.values()]})
        output.table(
            ["code", "severity", "what it says"],
            ([e.code, f"{e.severity.value}|{e.severity.value}", e.title] for e in CATALOGUE.values()),
        )
        return 0
    entry = CATALOGUE.get(args.code.upper())
    if entry is None:
        near = [code for code in CATALOGUE if code.startswith(args.code.upper().partition("-")[0])]
        expected = ", ".join(near) if near else "a code as `zentrale explain` lists them"
        raise InputError(f"{args.code}: no such finding code", f"expected: {expected}")
    if args.json:
        output.document(_document(entry))
    output.line(f"{entry.code}  {entry.title}  ({entry.severity.value})", "bold")
    output.line()
    output.line(fill(entry.explanation, 88))
    output.line()
    output.line(fill(f"What to do: {entry.advice}.", 88))
    return 0


def _document(entry: Entry) -> dict[str, str]:
    return {
        "code": entry.code,
        "severity": entry.severity.value,
        "title": entry.title,
        "explanation": entry.explanation,
        "advice": entry.advice,
    }
