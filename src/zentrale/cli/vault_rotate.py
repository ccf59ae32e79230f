"""`zentrale vault rotate` and `zentrale vault seal`: new passwords on the devices, and the owner's sheet."""

from __future__ import annotations

import argparse

from zentrale.cli import asking, options

TYPE_CHECKING = False  # as typing has it, without the cost of importing typing
if TYPE_CHECKING:
    from zentrale.cli.output import Output
    from zentrale.cli.work import Work
    from zentrale.jobs.rotating import Rotation

SHEET_VARIABLE = "ZENTRALE_SHEET_PASSPHRASE"


def add_rotate(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("names", metavar="DEVICE", nargs="*", help="cameras and recorders (default: all)")
    parser.add_argument(
        "--anew", action="store_true", help="begin again, where an earlier rotation was stopped and would go on"
    )
    options.add_details(parser)
    options.add_entering(parser)
    options.add_no_wait(parser)
    options.add_json(parser)


def add_seal(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("file", metavar="FILE", help="where the sealed PDF document goes")
    parser.add_argument(
        "--sheet-fd",
        type=int,
        metavar="N",
        help=f"read the sheet's passphrase from file descriptor N (default: ${SHEET_VARIABLE}, else ask)",
    )


def rotate(work: Work) -> int:
    import asyncio

    from zentrale.cli.live import under_way
    from zentrale.errors import EXIT_AS_PLANNED, EXIT_FAULTS, InputError
    from zentrale.findings import count_faults
    from zentrale.jobs.known.planned import planned_devices
    from zentrale.jobs.known.selection import check_reachable
    from zentrale.jobs.rotating import Rotator

    args, output, plan = work.args, work.output, work.plan
    known = planned_devices(plan)
    for name in args.names:
        if name not in known:
            raise InputError(f"{name}: no planned camera or recorder", f"expected one of: {', '.join(known)}")
        check_reachable(plan, name)
    work.open_vault()
    total = len(args.names or known)
    with (
        work.alone("vault rotate"),
        under_way(output, "new passwords", total) as under,
    ):
        done = 0

        def one(_: int, text: str) -> None:
            nonlocal done
            done += 1
            under.done(done, text)

        result = asyncio.run(Rotator(work.keyring(), one).rotate(args.names, anew=args.anew))
    if args.json:
        output.document(_document(result))
    _show(output, result)
    return EXIT_FAULTS if count_faults(result.findings) else EXIT_AS_PLANNED


def _show(output: Output, result: Rotation) -> None:
    from zentrale import quantities
    from zentrale.jobs.known.step_form import Outcome
    from zentrale.jobs.steps.rotate import PREFIX

    changed = sum(s.outcome is Outcome.CHANGED and s.step.startswith(PREFIX) for r in result.results for s in r.steps)
    output.verdict(result.findings, "all are new", f"{quantities.count(changed, 'password')} changed")
    if result.taken_up is not None:
        output.line(
            f"went on with run {result.taken_up}: {quantities.count(len(result.already), 'device')} had theirs already "
            "(--anew begins again)"
        )
    if result.findings:
        output.line()
        output.findings(result.findings)
    if output.details:
        rows = [[r.subject, s.step, s.outcome.value, s.error or s.after] for r in result.results for s in r.steps]
        output.table(["device", "step", "outcome", "what"], rows)
    if result.findings:
        output.next("see to what failed, then `zentrale vault rotate` again: it does only what is left")
    else:
        output.next("`zentrale vault seal FILE.pdf` makes the owner's sheet anew")


def _document(result: Rotation) -> dict[str, object]:
    from zentrale.cli.output import finding_document

    return {
        "run": result.run,
        "taken_up": result.taken_up,
        "already": list(result.already),
        "devices": [
            {
                "device": r.subject,
                "steps": [{"step": s.step, "outcome": s.outcome.value, "error": s.error or None} for s in r.steps],
            }
            for r in result.results
        ],
        "findings": [finding_document(f) for f in result.findings],
    }


def seal(work: Work) -> None:
    from pathlib import Path

    from zentrale.errors import InputError
    from zentrale.jobs.passwords.sealing import secret_lines
    from zentrale.logbook.vault import weakness
    from zentrale.output.sealed_sheet import sealed_sheet
    from zentrale.site.folder import write_atomically

    args, output, plan = work.args, work.output, work.plan
    path = Path(args.file)
    if path.exists():
        raise InputError(f"{path}: is there already", "give another name; nothing was changed")
    contents = work.open_vault().contents
    lines = secret_lines(plan, contents)
    if not lines:
        raise InputError("the vault holds no password of a device yet", "run `zentrale register` first")
    passphrase = asking.secret(args.sheet_fd, SHEET_VARIABLE, "passphrase of the sheet", twice=True)
    if why := weakness(passphrase):
        raise InputError(
            f"passphrase of the sheet: {why}", "take several words; whoever gets the file can guess for ever"
        )
    write_atomically(path, sealed_sheet(plan.site.name, plan.site.customer, lines, passphrase), mode=0o600)
    output.line(f"sealed {len(lines)} passwords of {plan.site.name}: {path}")
    output.hint(
        "any PDF viewer opens it with its passphrase (AES-256); give the passphrase on another way than the file"
    )
