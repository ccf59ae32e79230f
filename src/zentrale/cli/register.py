"""`zentrale register`: bring devices to plan, and onto the recorder's channels."""

from __future__ import annotations

import argparse

from zentrale.cli import options

TYPE_CHECKING = False  # as typing has it, without the cost of importing typing
if TYPE_CHECKING:
    from zentrale.cli.output import Output
    from zentrale.cli.work import Work
    from zentrale.jobs.known.step_form import StepResult
    from zentrale.jobs.registration.registering import Registration
    from zentrale.jobs.registration.undoing import Undone

DESCRIPTION = """\
For each planned camera that was found: replaces a first or default password by a generated one kept in the vault,
sets accounts, name, time, streams, picture, motion detection, inputs and at last its address to plan, then plays its
stream as the recorder will, keeps a picture of it, and puts it onto its channel. Every change is read back from the
device, and is in the journal with the value before. What a device does not offer stands on its work sheet. A device
that restarts after a change is waited for, up to two minutes. Running it again changes only what is not as planned;
one camera that fails does not stop the others; a run that was killed is taken up where it stopped; --undo takes a run
back."""
_LONGEST = 400  # letters of names in a command to type
EXAMPLE = "zentrale register --only 'upper-*' --dry-run\n  zentrale register --undo 12"


def add_arguments(parser: argparse.ArgumentParser) -> None:
    options.add_only(parser)
    options.add_dry_run(parser)
    parser.add_argument(
        "--undo", metavar="RUN", type=int, help="take back what this run of register has changed, newest first"
    )
    parser.add_argument(
        "--parallel",
        metavar="N",
        type=options.parallel,
        default=16,
        help="so many devices at once (default 16), of one switch no more than the plan's parallel_per_switch",
    )
    parser.add_argument(
        "--overwrite-accounts",
        action="store_true",
        help="planned accounts that are there already, and not in the vault, get new passwords (else asked)",
    )
    parser.add_argument(
        "--write", action="store_true", help="write the numbers of cameras on the next free channel into cameras.csv"
    )
    parser.add_argument("--picture", action="store_true", help="take each camera's reference picture anew")
    options.add_details(parser)
    options.add_entering(parser)
    options.add_no_wait(parser)
    options.add_site(parser)
    options.add_passphrase(parser)
    options.add_json(parser)
    options.add_common(parser)


def run(args: argparse.Namespace) -> int:
    import asyncio

    from zentrale.cli.live import under_way
    from zentrale.cli.work import Work
    from zentrale.errors import EXIT_AS_PLANNED, EXIT_FAULTS
    from zentrale.findings import count_faults
    from zentrale.jobs.known.selection import select
    from zentrale.jobs.recorders.next_free import write_next
    from zentrale.jobs.recorders.work_sheet import write_work_sheets
    from zentrale.jobs.registration import by_hand
    from zentrale.jobs.registration.registering import Manner, Registrar

    args.only = [*args.only, *args.names]
    work = Work(args)
    output, folder, plan = work.output, work.folder, work.plan
    if args.undo is not None:
        return _undo(work)
    cameras = select(plan, args.only)
    work.open_vault()
    with (
        work.alone("register", needed=not args.dry_run) as logbook,
        under_way(output, "registering", len(cameras)) as under,
    ):
        keyring = work.keyring(dry_run=args.dry_run)
        manner = Manner(args.parallel, args.picture, under.done, under.doing)
        result = asyncio.run(Registrar(keyring, manner).register(cameras))
        made = [] if args.dry_run else by_hand.sheets(plan, result.results, logbook)
        if result.run is not None:
            by_hand.keep(logbook, result.run, result.results, made)
        written = write_next(folder, plan, logbook) if args.write and not args.dry_run else {}
    sheets = [] if args.dry_run else write_work_sheets(folder, result.by_hand)
    sheets += by_hand.write(folder, plan.site.name, made)[:1]
    if args.json:
        output.document(_document(result))
    _show(output, result)
    for path in sheets:
        output.line(f"to be set by hand, device by device: {path}", "bold")
    if written:
        text = ", ".join(f"{name} on channel {number}" for name, number in written.items())
        output.line(f"written into {folder.cameras_file.name}: {text}")
    elif args.write and not args.dry_run:
        output.line(f"no row of {folder.cameras_file.name} has `next` for a channel: nothing was written there")
    _next(output, result)
    output.reports([d.report for d in result.results if d.report], args.site)
    failed = count_faults(result.findings) or result.not_found
    return EXIT_FAULTS if failed else EXIT_AS_PLANNED


def _undo(work: Work) -> int:
    import asyncio

    from zentrale import quantities
    from zentrale.errors import EXIT_AS_PLANNED, EXIT_FAULTS, InputError
    from zentrale.jobs.registration.undoing import undo

    args, output = work.args, work.output
    if args.dry_run or args.only:
        raise InputError("--undo takes back a whole run", "leave --dry-run and --only out")
    work.open_vault()
    with work.alone("register --undo"), output.progress("taking back", len(work.plan.cameras)) as step:
        result = asyncio.run(undo(work.keyring(), args.undo, step))
    back = [u for u in result if u.taken_back]
    stays = [u for u in result if not u.taken_back]
    if args.json:
        output.document(
            {"run": args.undo, "taken_back": [_undone(u) for u in back], "stays": [_undone(u) for u in stays]}
        )
    if stays:
        output.heading("What stays, and why")
        output.table(["device", "step", "why"], ([u.change.subject, u.change.step, u.why] for u in stays))
    if back:
        output.heading("Taken back")
        output.table(
            ["device", "step", "from", "to"],
            ([u.change.subject, u.change.step, u.change.after, u.holds] for u in back),
        )
    changes = quantities.count(len(result), "change")
    output.line(
        f"{len(back)} of {changes} of run {args.undo} taken back" if result else "that run changed nothing", "bold"
    )
    return EXIT_FAULTS if any(not u.by_nature for u in stays) else EXIT_AS_PLANNED


def _undone(item: Undone) -> dict[str, object]:
    change = item.change
    return {
        "device": change.subject, "step": change.step, "was": change.after, "before": change.before,
        "holds": item.holds or None, "why": item.why or None,
    }  # fmt: skip


def _show(output: Output, result: Registration) -> None:
    from zentrale import quantities
    from zentrale.findings import count_faults
    from zentrale.jobs.known.step_form import Outcome

    changed = result.count(Outcome.WOULD_CHANGE if result.dry_run else Outcome.CHANGED)
    verb = "would be made (dry run: nothing was changed)" if result.dry_run else "made"
    said = f"{quantities.count(changed, 'change')} {verb}" if changed else "nothing to change"
    if result.not_found and not count_faults(result.findings):
        missing = quantities.count(len(result.not_found), "planned device")
        output.line(f"FAULTS  {missing} not found; no step failed; {said}", "bold red")
    else:
        more = (
            f"{said}; {quantities.count(len(result.not_found), 'planned device')} not found"
            if result.not_found
            else said
        )
        good = "no step failed" if changed else "all is as planned"
        output.verdict(result.findings, good, more)
    if result.not_found:
        output.line(f"not found: {quantities.listed(result.not_found, 14)}")
    if result.findings:
        output.line()
        output.findings(result.findings)
    for change in result.taken_up:
        output.line(f"taken up: an earlier run was stopped in {change.subject}, step {change.step}", "yellow")
    output.line()
    if output.details:
        _show_steps(output, result)
    else:
        _show_counts(output, result)
    if changed and result.run:
        output.line(f"take it back with `zentrale register --undo {result.run}`")


def _next(output: Output, result: Registration) -> None:
    from zentrale.findings import count_faults
    from zentrale.quantities import listed

    if result.not_found:
        names = listed(result.not_found, 3)
        output.next(f"find {names}: `zentrale discover`, then `zentrale register` again")
    elif count_faults(result.findings):
        names = ",".join(result.left)
        only = f" --only {names}" if 0 < len(result.left) < len(result.results) and len(names) < _LONGEST else ""
        output.next(f"see to what failed, then `zentrale register{only}`: it does only what is left")
    else:
        output.next("`zentrale register`" if result.dry_run else "`zentrale verify`")


def _show_counts(output: Output, result: Registration) -> None:
    """A line for each kind of step: how many devices it changes, how many are as planned, who is left."""
    from zentrale import quantities
    from zentrale.jobs.known.step_form import Outcome

    of: dict[str, dict[Outcome, list[str]]] = {}
    said = {Outcome.UNCHANGED: "as planned"}
    for device in result.results:
        for step in device.steps:
            of.setdefault(step.step, {}).setdefault(step.outcome, []).append(device.ref.name)
    for name, outcomes in of.items():
        words = []
        for outcome, names in outcomes.items():
            by_name = outcome in (Outcome.FAILED, Outcome.NOT_TRIED) or len(names) == 1
            which = f" ({quantities.listed(names, 6)})" if by_name else ""
            words.append(f"{quantities.count(len(names), 'device')} {said.get(outcome, outcome.value)}{which}")
        output.said(name, ", ".join(words), max(map(len, of)) + 2)
    if of:
        output.line("each change with its values: --details")


def _show_steps(output: Output, result: Registration) -> None:
    """A line for each step that changes or fails: before and after."""
    from zentrale.jobs.known.step_form import Outcome

    styles = {
        Outcome.CHANGED: "ok|", Outcome.WOULD_CHANGE: "warning|", Outcome.FAILED: "fault|", Outcome.NOT_TRIED: "warning|",
        Outcome.NOT_OFFERED: "warning|",
    }  # fmt: skip
    rows = []
    for device in result.results:
        quiet = [s.step for s in device.steps if s.outcome is Outcome.UNCHANGED]
        changing = [s for s in device.steps if s.outcome is not Outcome.UNCHANGED]
        for index, step in enumerate(changing):
            subject = "" if index else device.subject
            outcome = f"{styles[step.outcome]}{step.outcome.value}"
            after = "" if step.error else f"{step.after} ({step.note})" if step.note else step.after
            rows.append([subject, step.step, outcome, step.error or step.before, after])
        if quiet:
            rows.append(["" if changing else device.subject, ", ".join(quiet), "as planned", "", ""])
        rows += [["", s.step, "", s.note, ""] for s in device.steps if s.step in quiet and s.note]
    rows += [[name, "", "fault|not found", "run `zentrale discover`", ""] for name in result.not_found]
    output.table(["device", "step", "outcome", "before", "after"], rows)


def _document(result: Registration) -> dict[str, object]:
    from zentrale.cli.output import finding_document

    return {
        "dry_run": result.dry_run,
        "run": result.run,
        "devices": [
            {
                "device": device.subject,
                "steps": [_step_document(s) for s in device.steps],
            }
            for device in result.results
        ],
        "not_found": list(result.not_found),
        "by_hand": [vars(b) for b in result.by_hand],
        "taken_up": [{"subject": c.subject, "step": c.step} for c in result.taken_up],
        "findings": [finding_document(f) for f in result.findings],
    }


def _step_document(step: StepResult) -> dict[str, object]:
    """`before_values` and `after_values` are the step's own values, with units in their names."""
    return {
        "step": step.step, "outcome": step.outcome.value, "before": step.before, "after": step.after,
        "error": step.error or None, "note": step.note or None, "before_values": step.before_values,
        "after_values": step.after_values, **step.facts,
    }  # fmt: skip
