"""`zentrale explain`: a finding code in full."""

from __future__ import annotations

import argparse

from zentrale.cli import options

TYPE_CHECKING = False  # as typing has it, without the cost of importing typing
if TYPE_CHECKING:
    from zentrale.findings import Entry

DESCRIPTION = "Explains a finding code, or a key of the plan files. Without one, lists all codes."
EXAMPLE = "zentrale explain STR-3\n  zentrale explain cords_m"


def add_arguments(parser: argparse.ArgumentParser) -> None:
    code = parser.add_argument(
        "code", metavar="CODE", nargs="?", help="a finding code such as STR-3, or a key such as cords_m"
    )
    options.completes(code, options.complete_codes)
    options.add_json(parser)
    options.add_common(parser)


def run(args: argparse.Namespace) -> int:
    from zentrale.cli import pages
    from zentrale.cli.output import Output
    from zentrale.errors import InputError
    from zentrale.findings import CATALOGUE
    from zentrale.words import meant

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
        every = list(pages.plan_keys())
        asked = args.code.rpartition(".")[2].strip("[]").lower()
        found = [key for key in every if key.name == asked]
        if found:
            if args.json:
                output.document({"keys": [vars(key) for key in found]})
            for key in found:
                output.line(f"{key.name}  {key.where}{f'  [{key.unit}]' if key.unit else ''}", "bold")
                output.line(f"  {key.meaning.replace('`', '')}")
            return 0
        near = [code for code in CATALOGUE if code.startswith(args.code.upper().partition("-")[0] + "-")]
        expected = ", ".join(near) if near else "a code as `zentrale explain` lists them, or a key of the plan files"
        known = [*CATALOGUE, *(key.name for key in every)]
        raise InputError(
            f"{args.code}: no such finding code or plan key{meant(args.code, known)}", f"expected: {expected}"
        )
    if args.json:
        output.document(_document(entry))
    output.line(f"{entry.code}  {entry.title}  ({entry.severity.value})", "bold")
    output.line()
    output.line(entry.explanation)
    output.line()
    output.line(f"What to do: {entry.advice}.")
    return 0


def _document(entry: Entry) -> dict[str, str]:
    return {
        "code": entry.code,
        "severity": entry.severity.value,
        "title": entry.title,
        "explanation": entry.explanation,
        "advice": entry.advice,
    }
