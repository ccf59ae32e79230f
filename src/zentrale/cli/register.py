"""`zentrale register`: bring devices to plan, and onto the recorder's channels."""

from __future__ import annotations

import argparse

from zentrale.cli import options

TYPE_CHECKING = False  # as typing has it, without the cost of importing typing
if TYPE_CHECKING:
    from zentrale.cli.output import Output
    from zentrale.jobs.registering import Registration
    from zentrale.jobs.steps import DeviceResult

DESCRIPTION = """\
For each planned camera that was found: replaces a first or default password by a generated one kept in the vault,
sets name, time and encoder settings to plan, then puts it onto its channel of the recorder. Every change is in the
journal with the value before. Running it again changes only what is not as planned; one camera that fails does not
stop the others; a run that was killed is taken up where it stopped."""
EXAMPLE = "zentrale register --only 'upper-*' --dry-run"


def add_arguments(parser: argparse.ArgumentParser) -> None:
    options.add_only(parser)
    options.add_dry_run(parser)
    parser.add_argument("--details", action="store_true", help="show each change with the value before and after")
    options.add_entering(parser)
    options.add_no_wait(parser)
    options.add_site(parser)
    options.add_passphrase(parser)
    options.add_json(parser)
    options.add_common(parser)


def run(args: argparse.Namespace) -> int:
    import asyncio

    from zentrale.cli.output import Output
    from zentrale.errors import EXIT_AS_PLANNED, EXIT_FAULTS
    from zentrale.jobs.registering import Registrar
    from zentrale.jobs.selection import select
    from zentrale.logbook.store import Logbook
    from zentrale.site.reading import read_plan

    output = Output(args)
    folder = options.site_folder(args)
    plan = read_plan(folder)
    cameras = select(plan, args.only)
    vault = options.open_vault(args, folder)
    with (
        options.alone(args, output, folder, "register", needed=not args.dry_run),
        Logbook(folder.logbook_file) as logbook,
        output.progress("registering", len(cameras)) as step,
    ):
        keyring = options.keyring(args, output, plan, vault, logbook, dry_run=args.dry_run)
        result = asyncio.run(Registrar(keyring).register(cameras, step))
    if args.json:
        output.document(_document(result))
    _show(output, result, details=args.details or args.dry_run)
    output.reports([d.report for d in result.results if d.report], args.site)
    failed = bool(result.findings) or bool(result.not_found)
    return EXIT_FAULTS if failed else EXIT_AS_PLANNED


def _show(output: Output, result: Registration, *, details: bool) -> None:
    from zentrale import quantities
    from zentrale.jobs.steps import Outcome

    for change in result.taken_up:
        output.line(f"taken up: an earlier run was stopped in {change.subject}, step {change.step}", "yellow")
    if details:
        _show_steps(output, result)
    else:
        _show_devices(output, result)
    if result.findings:
        output.heading("Findings")
        output.findings(result.findings)
    changed = result.count(Outcome.WOULD_CHANGE if result.dry_run else Outcome.CHANGED)
    verb = "would be made (dry run: nothing was changed)" if result.dry_run else "made"
    output.line()
    if changed:
        output.line(f"{quantities.count(changed, 'change')} {verb}", "bold")
    elif not result.findings:
        output.line("nothing to change: all is as planned", "bold")
    if result.not_found:
        output.line(f"FAULTS  {quantities.count(len(result.not_found), 'planned camera')} not found", "bold red")
    output.verdict(result.findings, "no step failed")
    output.hint("next: `zentrale register`" if result.dry_run else "next: `zentrale verify`")


def _show_devices(output: Output, result: Registration) -> None:
    """A line for each device: what was changed, what was as planned, where it failed."""
    from zentrale.jobs.steps import Outcome

    def steps(device: DeviceResult, *outcomes: Outcome) -> str:
        return ", ".join(s.step for s in device.steps if s.outcome in outcomes) or "-"

    rows = [
        [
            device.subject,
            "fault|FAILED" if device.failed else "ok|ok",
            steps(device, Outcome.CHANGED, Outcome.WOULD_CHANGE),
            steps(device, Outcome.UNCHANGED),
            steps(device, Outcome.FAILED),
        ]
        for device in result.results
    ]
    rows += [[f"camera {name}", "fault|not found", "-", "-", "-"] for name in result.not_found]
    output.table(["device", "outcome", "changed", "was as planned", "failed at"], rows)


def _show_steps(output: Output, result: Registration) -> None:
    """A line for each step that changes or fails: before and after."""
    from zentrale.jobs.steps import Outcome

    styles = {Outcome.CHANGED: "ok|", Outcome.WOULD_CHANGE: "warning|", Outcome.FAILED: "fault|"}
    rows = []
    for device in result.results:
        quiet = [s.step for s in device.steps if s.outcome is Outcome.UNCHANGED]
        changing = [s for s in device.steps if s.outcome is not Outcome.UNCHANGED]
        for index, step in enumerate(changing):
            subject = "" if index else device.subject
            outcome = f"{styles[step.outcome]}{step.outcome.value}"
            rows.append([subject, step.step, outcome, step.error or step.before, "" if step.error else step.after])
        if quiet:
            rows.append(["" if changing else device.subject, ", ".join(quiet), "as planned", "", ""])
    rows += [[f"camera {name}", "", "fault|not found", "run `zentrale discover`", ""] for name in result.not_found]
    output.table(["device", "step", "outcome", "before", "after"], rows)


def _document(result: Registration) -> dict[str, object]:
    from zentrale.cli.output import finding_document

    return {
        "dry_run": result.dry_run,
        "devices": [
            {
                "device": device.subject,
                "steps": [
                    {
                        "step": s.step,
                        "outcome": s.outcome.value,
                        "before": s.before,
                        "after": s.after,
                        "error": s.error or None,
                    }
                    for s in device.steps
                ],
            }
            for device in result.results
        ],
        "not_found": list(result.not_found),
        "taken_up": [{"subject": c.subject, "step": c.step} for c in result.taken_up],
        "findings": [finding_document(f) for f in result.findings],
    }
