"""`zentrale plan`: calculate what the plan means, part by part, before anything is bought or pulled."""

from __future__ import annotations

import argparse

from zentrale.cli import options

TYPE_CHECKING = False  # as typing has it, without the cost of importing typing
if TYPE_CHECKING:
    from zentrale.cli.output import Output
    from zentrale.jobs.planning import Calculation
    from zentrale.site.folder import SiteFolder
    from zentrale.site.model import Plan

PARTS = {
    "power": "PoE power of every switch in every mode, batteries",
    "traffic": "every port, link and recorder in both directions, and bursts of key frames",
    "storage": "days kept, and which recorder type fits",
    "zones": "who reaches whom, against the policy",
    "addresses": "blocks of each zone, a fixed address for every device",
    "ports": "the port table of each switch",
    "multicast": "groups, querier, snooping, the load with and without",
    "resilience": "what each failure costs",
    "detail": "pixels per metre at each target, and what no camera sees",
    "placement": "which cabinets, which switches, which camera where, at least cost",
}
DESCRIPTION = """\
Calculates from the plan files alone, before anything is bought or pulled. Says what will not work, and why.

parts:
""" + "\n".join(f"  {name:<11} {summary}" for name, summary in PARTS.items())
EXAMPLE = "zentrale plan power --site brackwater"


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("parts", metavar="PART", nargs="*", help="which parts (default: all), listed above")
    parser.add_argument("--figures", action="store_true", help="also draw the figures into output/ (PNG)")
    parser.add_argument("--tables", action="store_true", help="also write every table into output/plan/ (CSV)")
    parser.add_argument("--write", action="store_true", help="for addresses: enter the proposed ones into cameras.csv")
    parser.add_argument("--pairs", action="store_true", help="for resilience: also let every two parts fail at once")
    parser.add_argument(
        "--seconds",
        metavar="S",
        type=float,
        default=60.0,
        help="for placement: search for at most so long (default: 60)",
    )
    options.add_site(parser)
    options.add_json(parser)
    options.add_common(parser)


def run(args: argparse.Namespace) -> int:
    from zentrale.cli.output import Output, finding_document
    from zentrale.errors import EXIT_AS_PLANNED, EXIT_FAULTS, InputError
    from zentrale.findings import count_faults
    from zentrale.jobs.planning import Request, calculate
    from zentrale.site.outline import read_outline
    from zentrale.site.reading import read_plan

    unknown = [part for part in args.parts if part not in PARTS]
    if unknown:
        raise InputError(f"plan {unknown[0]}: no such part", f"expected any of: {', '.join(PARTS)}")
    if args.write and args.parts != ["addresses"]:
        raise InputError("plan --write: only for addresses", "type `zentrale plan addresses --write`")
    if not 1 <= args.seconds <= 3600:
        raise InputError(f"--seconds {args.seconds:g}: out of range", "expected 1 to 3600 seconds")
    output = Output(args)
    folder = options.site_folder(args)
    plan = read_plan(folder)
    outline = read_outline(folder.outline_file, plan.site.origin)
    parts = args.parts or list(PARTS)
    if "placement" in parts and plan.cabinets:
        output.hint(f"searching for the cheapest placement, for at most {args.seconds:g} s")
    result = calculate(plan, parts, Request(outline, args.pairs, args.seconds))
    _write(output, plan, result, folder, args)
    _show(output, plan, result, args)
    if args.json:
        output.document({**result.document(), "findings": [finding_document(f) for f in result.findings]})
    if result.findings:
        output.heading("Findings")
        output.findings(result.findings)
    output.verdict(result.findings, "the plan holds")
    _enter_addresses(output, result, folder, args)
    return EXIT_FAULTS if count_faults(result.findings) else EXIT_AS_PLANNED


def _show(output: Output, plan: Plan, result: Calculation, args: argparse.Namespace) -> None:
    from zentrale.cli import plan_network_views, plan_views

    named = bool(args.parts)
    if result.power is not None:
        plan_views.show_power(output, result.power, full=named)
    if result.traffic is not None:
        plan_views.show_traffic(output, result.traffic, full=named)
    if result.storage is not None:
        plan_views.show_storage(output, result.storage, full=named)
    if result.reach is not None:
        plan_network_views.show_reach(output, result.reach, full=named)
    if result.addresses is not None:
        plan_views.show_addresses(output, result.addresses)
    if result.ports is not None:
        plan_network_views.show_ports(output, plan, result.ports, full=named)
    if result.multicast is not None:
        plan_network_views.show_multicast(output, result.multicast, full=named)
    if result.resilience is not None:
        plan_views.show_resilience(output, plan, result.resilience, pairs=args.pairs)
    if result.detail is not None:
        plan_network_views.show_detail(output, result.detail, full=named)
    if result.placement is not None:
        plan_network_views.show_placement(output, plan, result.placement, full=named)


def _write(output: Output, plan: Plan, result: Calculation, folder: SiteFolder, args: argparse.Namespace) -> None:
    """Figures and tables, as far as they are asked for; before anything is shown, since a pager may close early."""
    from zentrale.jobs.planning import write_figures, write_tables

    written = write_figures(plan, result, folder) if args.figures else []
    written += write_tables(result, folder) if args.tables else []
    for path in written:
        output.hint(f"wrote {path}")


def _enter_addresses(output: Output, result: Calculation, folder: SiteFolder, args: argparse.Namespace) -> None:
    from zentrale.jobs.planning import write_addresses
    from zentrale.site.folder import write_atomically

    if args.write and result.addresses is not None:
        changed = write_addresses(folder, result.addresses)
        output.line(f"wrote {changed}" if changed else "nothing to write: every camera has its address", "bold")
        reservations = folder.output / "dhcp-reservations.conf"
        write_atomically(reservations, result.addresses.reservations().encode("utf-8"))
        output.line(f"wrote {reservations}", "bold")
