"""`zentrale handover`: write the evidence pack."""

from __future__ import annotations

import argparse

from zentrale.cli import options

TYPE_CHECKING = False  # as typing has it, without the cost of importing typing
if TYPE_CHECKING:
    from zentrale.findings import Finding
    from zentrale.jobs.handing_over import Handover

DESCRIPTION = """\
Writes output/handover: a self-contained page (index.html) that opens from a USB stick and prints well, the device
list as CSV, the contact sheet of all cameras, figures for power and bandwidth. Open findings come first. No
password is in it."""
EXAMPLE = "zentrale handover --site brackwater"


def add_arguments(parser: argparse.ArgumentParser) -> None:
    options.add_details(parser)
    options.add_site(parser)
    options.add_json(parser)
    options.add_common(parser)


def run(args: argparse.Namespace) -> int:
    from zentrale import quantities
    from zentrale.cli.output import counted, finding_document
    from zentrale.cli.work import Work
    from zentrale.errors import EXIT_AS_PLANNED, EXIT_FAULTS
    from zentrale.findings import count_faults
    from zentrale.jobs.handing_over import hand_over

    work = Work(args)
    output, plan = work.output, work.plan
    with work.logging() as logbook:
        result = hand_over(plan, work.folder, logbook)
    if args.json:
        output.document({
            "folder": str(result.folder),
            "files": [str(f) for f in result.files],
            "verified": result.verified,
            "cameras": {verdict.value: number for verdict, number in result.verdicts.items()},
            "open_findings": [{**finding_document(f), **_origin(result, f)} for f in result.open_findings],
            "never_asked": [{"what": n.what, "subjects": list(n.subjects)} for n in result.never_asked],
            "not_judged": [{"what": n.what, "subjects": list(n.subjects)} for n in result.not_judged],
            "settled": [{**finding_document(s.finding), "settled_by": s.how} for s in result.settled],
        })  # fmt: skip
    good = "no open finding among what was looked at" if result.never_asked else "no open findings"
    output.result(result.open_findings, good, f"cameras: {counted(result.verdicts)}")
    output.line()
    if not result.verified:
        output.line("WARNING  nothing was verified yet: run `zentrale verify` first", "bold yellow")
    if result.settled and output.details:
        output.heading("Settled on the way")
        output.table(
            ["code", "about", "settled by"], ([s.finding.code, s.finding.subject, s.how] for s in result.settled)
        )
    elif result.settled:
        output.line(f"{quantities.count(len(result.settled), 'finding')} settled on the way (--details)")
    for n in result.never_asked:
        output.line(f"not known, no run has looked at it: {n.what}, {len(n.subjects)}: {_some(n.subjects)}")
    for n in result.not_judged:
        output.line(f"measured, and not judged: {n.what}, {len(n.subjects)}: {_some(n.subjects)}")
    output.line(f"{quantities.count(len(result.files), 'file')} in {result.folder}", "bold")
    output.next(f"open {result.folder / 'index.html'} in a browser; copy the whole folder to the customer's USB stick")
    return EXIT_FAULTS if count_faults(result.open_findings) or result.never_asked else EXIT_AS_PLANNED


def _origin(result: Handover, item: Finding) -> dict[str, object]:
    """By which run it was found; None for what is calculated from the plan."""
    from zentrale.quantities import timestamp

    seen = result.origins.get(item)
    return {
        "command": seen.command if seen else None, "at": timestamp(seen.at) if seen else None,
        "vantage": seen.vantage if seen else None,
    }  # fmt: skip


def _some(subjects: tuple[str, ...]) -> str:
    """Up to six by name; the page and --json have all."""
    left = len(subjects) - 6
    return ", ".join(subjects[:6]) + (f" and {left} more" if left > 0 else "")
