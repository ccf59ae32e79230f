"""`zentrale plan`: calculate what the plan means, part by part, before anything is bought or pulled."""

from __future__ import annotations

import argparse

from zentrale.cli import options
from zentrale.jobs.parts.part_registry import PARTS, PROPOSING

TYPE_CHECKING = False  # as typing has it, without the cost of importing typing
if TYPE_CHECKING:
    from collections.abc import Callable
    from typing import TypeVar

    from zentrale.cli.output import Output
    from zentrale.jobs.planning import Calculation, Request
    from zentrale.site.folder import SiteFolder
    from zentrale.site.model import Plan

    T = TypeVar("T")

DESCRIPTION = """\
Calculates from the plan files alone, before anything is bought or pulled. Says what will not work, and why.

parts:
""" + "\n".join(f"  {name:<11} {summary}" for name, summary in PARTS.items())
EXAMPLE = "zentrale plan power --site brackwater"


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("parts", metavar="PART", nargs="*", help="which parts (default: all), listed above")
    parser.add_argument("--figures", action="store_true", help="also draw the figures into output/ (PNG)")
    parser.add_argument(
        "--tables",
        action="store_true",
        help="also write every table into output/plan/ (CSV; the tender also XLSX; walls as playlists into output/walls/)",
    )
    parser.add_argument(
        "--with-users",
        action="store_true",
        help="for walls with --tables: the user who may watch goes into the addresses",
    )
    parser.add_argument(
        "--write", action="store_true", help="for addresses or multicast: enter what is proposed into cameras.csv"
    )
    parser.add_argument(
        "--against", metavar="OLD", help="what changes: OLD is another site folder, or a revision of this one under git"
    )
    parser.add_argument(
        "--measured", action="store_true", help="for storage: what is kept at the bit rates that verify measured"
    )
    parser.add_argument("--pairs", action="store_true", help="for resilience: also let every two parts fail at once")
    parser.add_argument(
        "--seconds",
        metavar="S",
        type=float,
        default=60.0,
        help="for placement: search for at most so long (default: 60)",
    )
    options.add_details(parser)
    options.add_site(parser)
    options.add_json(parser)
    options.add_common(parser)


def run(args: argparse.Namespace) -> int:
    from zentrale import quantities
    from zentrale.cli.bounded import show_findings, show_page
    from zentrale.cli.output import finding_document, verdict_of
    from zentrale.cli.work import Work
    from zentrale.errors import EXIT_AS_PLANNED, EXIT_FAULTS, InputError
    from zentrale.findings import count_faults
    from zentrale.jobs.parts.part import Asked
    from zentrale.jobs.planning import Request, calculate, held_addresses, measured_keeping, seen_watts
    from zentrale.site.outline import read_outline
    from zentrale.words import meant

    unknown = [part for part in args.parts if part not in PARTS]
    if unknown:
        raise InputError(
            f"plan {unknown[0]}: no such part{meant(unknown[0], PARTS)}", f"expected any of: {', '.join(PARTS)}"
        )
    if args.write and (not args.parts or not set(args.parts) <= set(PROPOSING)):
        words = f"only for {' and '.join(PROPOSING)}"
        raise InputError(f"plan --write: {words}", "type `zentrale plan addresses --write`")
    if args.against is not None and (args.write or args.figures or args.tables):
        raise InputError("plan --against: only tells what changes", "leave --write, --figures and --tables out")
    if args.measured and args.parts != ["storage"]:
        raise InputError("plan --measured: only for storage", "type `zentrale plan storage --measured`")
    if args.with_users and not (args.tables and "walls" in (args.parts or PARTS)):
        raise InputError(
            "plan --with-users: only for walls with --tables", "type `zentrale plan walls --tables --with-users`"
        )
    if not 1 <= args.seconds <= 3600:
        raise InputError(f"--seconds {args.seconds:g}: out of range", "expected 1 to 3600 seconds")
    work = Work(args)
    output, folder, plan = work.output, work.folder, work.plan
    outline = read_outline(folder.outline_file, plan.site.origin)
    parts = args.parts or list(PARTS)
    if "placement" in parts and plan.cabinets and (args.against is None or args.parts):
        output.hint(f"searching for the cheapest placement, for at most {args.seconds:g} s")
    held = _held(output, folder, held_addresses) if "addresses" in parts else {}
    watts = _held(output, folder, seen_watts) if "power" in parts else {}
    keeping = measured_keeping(plan, folder) if args.measured else ()
    request = Request(outline, args.pairs, args.seconds, held, keeping, watts)
    if plan.walls and (args.figures or args.tables) and "walls" in parts:
        request = _with_walls(output, request, plan, folder, args)
    if args.against is not None:
        return _against(output, folder, plan, request, args)
    result = calculate(plan, parts, request)
    _write(output, result, folder, args)
    if args.json:
        documents = [finding_document(f) for f in result.findings]
        output.document({"verdict": verdict_of(result.findings), **result.document(), "findings": documents})
    counted = quantities.count(len(plan.cameras), "camera")
    output.verdict(result.findings, f"{plan.site.name}: the plan holds", f"{counted} calculated")
    if args.details:
        if result.findings:
            output.line()
            output.findings(result.findings)
        result.show(output, Asked(True, args.pairs))
    elif not output.json:
        taken = 1 + show_findings(output, result.findings)
        if args.parts:
            show_page(output, taken, lambda page: result.show(page, Asked(True, args.pairs)))
        else:
            output.line()
            for name, text in result.summaries():
                output.said(name, text)
            output.line("tables: `zentrale plan PART`, or all with --details")
    if args.write:
        _enter(output, result, folder)
    _next(output, result, folder)
    return EXIT_FAULTS if count_faults(result.findings) else EXIT_AS_PLANNED


def _with_walls(output: Output, request: Request, plan: Plan, folder: SiteFolder, args: argparse.Namespace) -> Request:
    """What was seen on site, for drawing walls and writing them out; a logbook that cannot be read is told."""
    from dataclasses import replace

    from zentrale.errors import StorageError
    from zentrale.jobs.walls.known import addresses_of, pictures_of, planned_addresses, viewing_user
    from zentrale.logbook.store import Logbook

    request = replace(request, address=planned_addresses(plan), user=viewing_user(plan) if args.with_users else "")
    if not folder.logbook_file.exists():
        return request
    try:
        with Logbook(folder.logbook_file) as logbook:
            return replace(request, picture=pictures_of(folder, logbook), address=addresses_of(plan, logbook))
    except StorageError as error:
        output.notice(f"{error.what}: walls are drawn and written without what was seen on site")
        return request


def _held(output: Output, folder: SiteFolder, ask: Callable[[SiteFolder], dict[str, T]]) -> dict[str, T]:
    """What the logbook knows; one that cannot be read is told, and keeps nobody from planning."""
    from zentrale.errors import StorageError

    try:
        return ask(folder)
    except StorageError as error:
        output.notice(f"{error.what}: what was seen on site is not looked at")
        return {}


def _next(output: Output, result: Calculation, folder: SiteFolder) -> None:
    from zentrale.findings import count_faults

    if count_faults(result.findings):
        output.next("change the plan files where they are named, then `zentrale plan` again")
    elif result.plan.switches and not (folder.output / "network").exists():
        output.next("`zentrale network write`: the plan as files for switches, router and DHCP")
    elif not folder.vault_file.exists():
        output.next("on site, `zentrale vault init` for the passwords, then `zentrale discover`")
    else:
        output.next("`zentrale discover`")


def _against(output: Output, folder: SiteFolder, plan: Plan, request: Request, args: argparse.Namespace) -> int:
    """What changes; 1 where the change brings faults that were not there."""
    from dataclasses import asdict, replace

    from zentrale.cli.output import finding_document
    from zentrale.errors import EXIT_AS_PLANNED, EXIT_FAULTS
    from zentrale.findings import count_faults
    from zentrale.jobs.comparing import compare, old_site, read_old, summary
    from zentrale.jobs.planning import calculate
    from zentrale.site.outline import read_outline

    parts = args.parts or [part for part in PARTS if part != "placement"]
    with old_site(folder, args.against) as former:
        before = read_old(former, args.against)
        asked = replace(request, outline=read_outline(former.outline_file, before.site.origin))
        found = compare(calculate(before, parts, asked), calculate(plan, parts, request))
    if args.json:
        output.document({
            "against": args.against, "changes": [asdict(c) for c in found.changes],
            "findings_new": [finding_document(f) for f in found.new],
            "findings_gone": [finding_document(f) for f in found.gone],
            "findings_changed": [{**finding_document(b), "measured_before": a.measured} for a, b in found.other],
        })  # fmt: skip
    output.line(f"against {args.against}: {summary(found)}", "bold")
    if found.new:
        output.heading("New findings")
        output.findings(found.new)
    if found.gone or found.other:
        output.heading("Findings that are gone, or say something else")
        rows = [[f.code, f.subject, f.measured, "ok|gone"] for f in found.gone]
        rows += [[b.code, b.subject, a.measured, b.measured] for a, b in found.other]
        output.table(["code", "about", "before", "now"], rows)
    for about in dict.fromkeys(c.about for c in found.changes):
        output.heading(f"What changes: {about}")
        rows = [[c.subject, c.before or "-", c.after or "gone"] for c in found.changes if c.about == about]
        output.table(["", "before", "now"], rows)
    output.next("take the change, or take it back; `zentrale plan` says all of the plan as it is now")
    return EXIT_FAULTS if count_faults(found.new) else EXIT_AS_PLANNED


def _write(output: Output, result: Calculation, folder: SiteFolder, args: argparse.Namespace) -> None:
    """Figures and tables, as far as they are asked for; before anything is shown, since a pager may close early."""
    from zentrale.jobs.planning import write_figures, write_tables

    written = write_figures(result, folder) if args.figures else []
    written += write_tables(result, folder) if args.tables else []
    for path in written:
        output.hint(f"wrote {path}")


def _enter(output: Output, result: Calculation, folder: SiteFolder) -> None:
    from zentrale.jobs.planning import write_proposals

    written = write_proposals(result, folder)
    if folder.cameras_file not in written:
        output.line("nothing to write into cameras.csv: all of it is entered", "bold")
    for path in written:
        output.line(f"wrote {path}", "bold")
