"""`zentrale check`: read and check the plan files."""

from __future__ import annotations

import argparse

from zentrale.cli import options

DESCRIPTION = """\
Reads site.toml, cameras.csv and types.toml and says everything that is wrong with them at once: which file,
which line, which field, what was found and what was expected; and what cannot work, as far as the files alone tell.
Changes nothing. `zentrale plan` works out the rest."""
EXAMPLE = "zentrale check --site brackwater"


def add_arguments(parser: argparse.ArgumentParser) -> None:
    options.add_site(parser)
    options.add_json(parser)
    options.add_common(parser)


def run(args: argparse.Namespace) -> int:
    from zentrale import quantities
    from zentrale.cli.output import finding_document
    from zentrale.cli.work import Work
    from zentrale.errors import EXIT_AS_PLANNED, EXIT_FAULTS, PlanError
    from zentrale.findings import count_faults
    from zentrale.planning.contradictions import files_alone

    work = Work(args)
    output = work.output
    try:
        plan = work.plan
    except PlanError as error:
        if args.json:
            output.document({"site": str(work.folder.path), "problems": [_document(p) for p in error.problems]})
            return error.exit_code
        raise
    counts = {
        "cameras": len(plan.cameras),
        "recorders": len(plan.recorders),
        "switches": len(plan.switches),
        "zones": len(plan.zones),
    }
    findings = files_alone(plan)
    if args.json:
        documents = [finding_document(f) for f in findings]
        output.document({"site": plan.site.name, "problems": [], **counts, "findings": documents})
    parts = ", ".join(
        quantities.count(n, name[:-1] if name != "switches" else "switch", name) for name, n in counts.items()
    )
    output.verdict(findings, f"{plan.site.name}: the plan files hold together", parts)
    if findings:
        output.line()
        output.findings(findings)
    output.line(
        "This is not the whole: power, loads, storage, who reaches whom and the rest `zentrale plan` works out."
    )
    output.hint("next: `zentrale plan`")
    return EXIT_FAULTS if count_faults(findings) else EXIT_AS_PLANNED


def _document(problem: str) -> dict[str, object]:
    """A problem in its parts; what it has none of is None."""
    import re

    place = re.match(
        r"(?P<file>[^\s:]+)(?: line (?P<line>\d+))?: (?:field '?(?P<field>[\w.]+)'?:? ?)?(?P<what>.*)", problem, re.S
    )
    if place is None:
        return {"file": None, "line": None, "field": None, "found": problem, "expected": None}
    found, _, expected = place["what"].partition("; expected ")
    return {
        "file": place["file"], "line": int(place["line"]) if place["line"] else None, "field": place["field"],
        "found": found.removeprefix("found "), "expected": expected or None,
    }  # fmt: skip
