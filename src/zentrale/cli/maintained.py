"""What firmware, restart and back-up have in common on the terminal: who is chosen, and what came of it."""

from __future__ import annotations

import argparse
from contextlib import contextmanager
from typing import TYPE_CHECKING, Any

from zentrale.cli import options

if TYPE_CHECKING:
    from collections.abc import Iterator, Sequence

    from zentrale.cli.output import Output
    from zentrale.cli.work import Work
    from zentrale.jobs.known.step_form import DeviceResult
    from zentrale.jobs.maintaining.job import Maintainer
    from zentrale.jobs.maintaining.turns import Turned


def add_arguments(parser: argparse.ArgumentParser) -> None:
    options.add_details(parser)
    options.add_entering(parser)
    options.add_no_wait(parser)
    options.add_site(parser)
    options.add_passphrase(parser)
    options.add_json(parser)
    options.add_common(parser)


def begun(args: argparse.Namespace) -> Work:
    """The site of a command that is about named devices. Raises InputError for a name that the plan does not have."""
    from zentrale.cli.work import Work
    from zentrale.errors import InputError
    from zentrale.jobs.known.planned import planned_devices
    from zentrale.jobs.known.selection import check_reachable
    from zentrale.words import meant

    work = Work(args)
    known = list(planned_devices(work.plan))
    for name in args.names:
        if name not in known:
            expected = f"expected one of: {', '.join(known)}"
            raise InputError(f"{name}: no planned camera or recorder{meant(name, known)}", expected)
        check_reachable(work.plan, name)
    return work


@contextmanager
def maintainer(work: Work, command: str) -> Iterator[Maintainer]:
    """With the vault open, and the site for this command alone."""
    from zentrale.jobs.maintaining.job import Maintainer

    work.open_vault()
    with work.alone(command):
        yield Maintainer(work.keyring(), work.output.hint)


def show_turned(args: argparse.Namespace, output: Output, turned: Turned[DeviceResult], good: str, command: str) -> int:
    """The verdict, what failed, and who was not begun for it. Returns the exit code."""
    from zentrale.errors import EXIT_AS_PLANNED, EXIT_FAULTS

    code = show(
        args, output, turned.results, good, {"not_begun": list(turned.left), "stopped_by": turned.stopped_by or None}
    )
    if turned.stopped_by:
        output.line(
            f"stopped at {turned.stopped_by}, which did not come back; not begun: {', '.join(turned.left) or 'none'}",
            "bold red",
        )
        output.next(f"see to {turned.stopped_by}, then `zentrale {command}` for those that were not begun")
        return EXIT_FAULTS
    return EXIT_AS_PLANNED if code == EXIT_AS_PLANNED else code


def show(
    args: argparse.Namespace,
    output: Output,
    results: Sequence[DeviceResult],
    good: str,
    more: dict[str, Any] | None = None,
) -> int:
    from zentrale import quantities
    from zentrale.cli.output import finding_document
    from zentrale.errors import EXIT_AS_PLANNED, EXIT_FAULTS
    from zentrale.findings import count_faults

    findings = [f for r in results for f in r.findings()]
    if args.json:
        output.document(
            {
                "devices": [
                    {
                        "device": r.subject,
                        "steps": [
                            {"step": s.step, "outcome": s.outcome.value, "before": s.before or None, "after": s.after or None,
                             "error": s.error or None}
                            for s in r.steps
                        ],
                    }
                    for r in results
                ],
                "findings": [finding_document(f) for f in findings],
                **(more or {}),
            }
        )  # fmt: skip
    output.result(findings, good, quantities.count(len(results), "device"))
    if output.details or not findings:
        rows = [[r.subject, s.outcome.value, s.before, s.error or s.after] for r in results for s in r.steps]
        output.table(["device", "outcome", "before", "after"], rows)
    return EXIT_FAULTS if count_faults(findings) else EXIT_AS_PLANNED
