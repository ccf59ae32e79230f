"""`zentrale network`: the plan's network as configuration, and the switches as they are."""

from __future__ import annotations

import argparse

from zentrale.cli import network_check, network_here, network_rehearse, network_restart, options

TYPE_CHECKING = False  # as typing has it, without the cost of importing typing
if TYPE_CHECKING:
    from zentrale.cli.output import Output
    from zentrale.cli.work import Work
    from zentrale.jobs.network.writing import NetworkFiles
    from zentrale.planning.by_hand.sheet import WorkSheet
    from zentrale.planning.network import NetworkPlan

DESCRIPTION = """\
Makes configuration of the plan's network, before anyone drives to site; and holds the switches against it there.

  write      files for each switch, the router, the recorders, DHCP and labels, into output/network/
  rehearse   these files on software switches of this machine, and real packets through them (Linux)
  here       at which switch and port this laptop is plugged in, and in which VLAN
  check      the switches' own tables against plan and logbook: ports, VLANs, who is where, watts (SNMP)
  restart    a camera's port without power for a moment; `zentrale restart` asks the camera itself to restart"""
EXAMPLE = """zentrale network write
  zentrale network write --dry-run --details
  zentrale network write --sheet pump-house --at control-house:7
  zentrale network rehearse
  zentrale network rehearse --break wrong-vlan
  zentrale network here
  zentrale network check
  zentrale network restart upper-gate-north"""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    actions = parser.add_subparsers(dest="action", metavar="ACTION", required=True)
    write = actions.add_parser("write", help="the plan's network as files for switches, router, DHCP, and labels")
    write.add_argument("--dry-run", action="store_true", help="only say what would change")
    write.add_argument(
        "--with-secrets", metavar="FILE",
        help="the RADIUS users with the passwords of 802.1X accounts too: a file for you alone, outside of the site folder",
    )  # fmt: skip
    write.add_argument(
        "--sheet", metavar="SWITCH", help="print the work sheet of one switch: what a person types into its page"
    )
    write.add_argument(
        "--at", metavar="SWITCH:PORT",
        help="where the laptop is plugged in: work sheets begin with the switches that are far from it (kept for the next time)",
    )  # fmt: skip
    options.add_details(write)
    rehearse = actions.add_parser("rehearse", help="the written network on software switches, tried with real packets")
    network_rehearse.add_arguments(rehearse)
    here = actions.add_parser("here", help="at which switch and port this laptop is plugged in")
    network_here.add_arguments(here)
    check = actions.add_parser("check", help="the switches' own tables, held against the plan")
    network_check.add_arguments(check)
    restart = actions.add_parser("restart", help="take a port's power away and give it back")
    network_restart.add_arguments(restart)
    for sub in (write, rehearse, here, check, restart):
        options.add_site(sub)
        options.add_json(sub)
        options.add_common(sub)
    for sub in (write, here, check, restart):
        options.add_passphrase(sub)
    for sub in (write, rehearse, restart):
        options.add_no_wait(sub)


def run(args: argparse.Namespace) -> int:
    if args.action == "rehearse":
        network_rehearse.begin(args)
    from zentrale.cli.work import Work
    from zentrale.planning.network import plan_network

    work = Work(args)
    net = plan_network(work.plan)
    actions = {
        "write": _write, "rehearse": network_rehearse.run, "here": network_here.run, "check": network_check.run,
        "restart": network_restart.run,
    }  # fmt: skip
    return actions[args.action](work, net)


def _write(work: Work, net: NetworkPlan) -> int:
    from pathlib import Path

    from zentrale.errors import EXIT_AS_PLANNED, EXIT_FAULTS
    from zentrale.findings import count_faults
    from zentrale.jobs.network.laptop import laptop_at
    from zentrale.jobs.network.writing import write_network, write_secrets

    args, output, folder = work.args, work.output, work.folder
    laptop = laptop_at(net, args.at) if args.at is not None else None
    _known_switch(net, args.sheet)
    with work.locked("network write", needed=not args.dry_run):
        secrets = 0
        if args.with_secrets and not args.dry_run:
            secrets = write_secrets(folder, net, work.open_vault(), Path(args.with_secrets))
        written = write_network(folder, net, laptop, dry_run=args.dry_run)
    sheet = _sheet(net, written, args.sheet) if args.sheet is not None else None
    if args.json:
        output.document(_document(written, sheet, dry_run=args.dry_run))
    if sheet is None:
        _show(output, written, dry_run=args.dry_run)
    else:
        _show_sheet(output, written, sheet, dry_run=args.dry_run)
    if secrets:
        output.line(
            f"{args.with_secrets}: {secrets} passwords with the switches' RADIUS secret, for you alone; the vault keeps them"
        )
    if sheet is None and not args.dry_run:
        output.next(
            "`zentrale network rehearse`: these files on this machine, packet by packet, before a switch has them"
        )
    return EXIT_FAULTS if count_faults(written.findings) else EXIT_AS_PLANNED


def _known_switch(net: NetworkPlan, name: str | None) -> None:
    from zentrale.errors import InputError
    from zentrale.words import meant

    switches = [s.name for s in net.plan.switches]
    if name is not None and name not in switches:
        expected = (
            f"expected one of {', '.join(switches)}"
            if switches
            else "the plan has no switches (site.toml [[switches]])"
        )
        raise InputError(f"--sheet {name}: no such switch in the plan{meant(name, switches)}", expected)


def _sheet(net: NetworkPlan, written: NetworkFiles, name: str) -> WorkSheet:
    from zentrale.planning.by_hand.order import orders
    from zentrale.planning.by_hand.sheet import work_sheets

    return next(s for s in work_sheets(net, orders(net, written.laptop)) if s.switch == name)


def _show_sheet(output: Output, written: NetworkFiles, sheet: WorkSheet, *, dry_run: bool) -> None:
    from zentrale import quantities
    from zentrale.cli import network_sheet
    from zentrale.findings import count_faults
    from zentrale.output.network.registry import SHEET

    network_sheet.show(output, sheet)
    output.line()
    page = written.folder / sheet.switch / SHEET
    output.line(f"{'as a page it would be' if dry_run else 'as a page'}: {page}")
    if written.findings:
        faults = quantities.count(count_faults(written.findings), "fault")
        text = f"the plan has {quantities.count(len(written.findings), 'finding')}, {faults} among them"
        output.line(f"{text}: `zentrale network write` without --sheet tells them", "yellow")


def _show(output: Output, written: NetworkFiles, *, dry_run: bool) -> None:
    from zentrale import quantities
    from zentrale.jobs.network.writing import CHANGED, GONE, NEW, SAME

    counts = [f"{n} {state}" for state in (NEW, CHANGED, GONE, SAME) if (n := written.count(state))]
    would = "would be written" if dry_run else "written"
    text = f"{quantities.count(len(written.files), 'file')}: {', '.join(counts)}"
    output.verdict(written.findings, f"the network is {would}", text)
    if written.findings:
        output.line()
        output.findings(written.findings)
    output.line()
    shown = (
        [f for f in written.files if f.state != SAME] if written.count(SAME) and not output.details else written.files
    )
    if shown:
        first = shown if output.details else shown[:_MOST_FILES]
        output.table(["file", "what", "since last time"], [[f.path, f.what, f.state] for f in first])
        if len(first) < len(shown):
            output.line(f"and {len(shown) - len(first)} more files: --details tells all of them")
    for file in (f for f in written.files if f.kept_as):
        kept = "would be kept" if dry_run else "is kept"
        output.line(
            f"{file.path} had been edited by somebody since it was written: that {kept} as {file.kept_as}", "yellow"
        )
    for file in (f for f in written.files if f.lines):
        some = file.lines if output.details else file.lines[:_FEW]
        output.line(f"{file.path}:")
        for line in some:
            output.line(f"  {line}")
        if len(some) < len(file.lines):
            output.line(f"  and {len(file.lines) - len(some)} more lines (--details)")
    output.line("not in these files:")
    for text in written.left_out:
        output.line(f"  {text}")
    output.line(f"in {written.folder}")


_FEW, _MOST_FILES = 6, 80


def _document(written: NetworkFiles, sheet: WorkSheet | None, *, dry_run: bool) -> dict[str, object]:
    from zentrale.cli import network_sheet
    from zentrale.cli.output import finding_document

    return {
        "folder": str(written.folder), "dry_run": dry_run,
        "files": [{"path": f.path, "what": f.what, "state": f.state, "lines": list(f.lines), "kept_as": f.kept_as or None}
                  for f in written.files],
        "not_in_these_files": list(written.left_out),
        "laptop": str(written.laptop) if written.laptop else None,
        **({"sheet": network_sheet.document(sheet)} if sheet is not None else {}),
        "findings": [finding_document(f) for f in written.findings],
    }  # fmt: skip
