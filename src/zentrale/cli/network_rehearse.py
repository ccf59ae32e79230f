"""`zentrale network rehearse`: the written network on software switches of this machine."""

from __future__ import annotations

import argparse

from zentrale.cli import network_inside, options
from zentrale.errors import LabError

TYPE_CHECKING = False  # as typing has it, without the cost of importing typing
if TYPE_CHECKING:
    from pathlib import Path

    from zentrale.cli.output import Output
    from zentrale.cli.work import Work
    from zentrale.jobs.network.rehearsal.job import Rehearsal, Rehearser
    from zentrale.jobs.network.rehearsal.trial import PartyCell
    from zentrale.jobs.network.standing import Standing
    from zentrale.planning.network import NetworkPlan
    from zentrale.site.folder import SiteFolder

FIGURE = "rehearsal.png"


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "--break",
        dest="slip",
        metavar="SLIP",
        help="make one of the classic slips first, to practise on (--break list says which)",
    )
    parser.add_argument(
        "--run", metavar="COMMAND", action="append", default=[],
        help="run a command of this program inside, such as discover or 'register --details', from a laptop at a port of the "
        "site; the devices stand there as they come from the box; can be given several times",
    )  # fmt: skip
    parser.add_argument("--from", dest="zone", metavar="ZONE", help="with --run: the zone in which the laptop stands")
    parser.add_argument(
        "--as-planned",
        action="store_true",
        help="rehearse files as the plan is now, in a folder of their own, whatever stands in output/network",
    )
    parser.add_argument(
        "--failures",
        action="store_true",
        help="take each switch, link and supply away in turn, against what the plan foretold",
    )
    parser.add_argument(
        "--load",
        action="store_true",
        help="all planned streams at once, over links as fast as planned, both divided by one number",
    )
    options.add_details(parser)


def begin(args: argparse.Namespace) -> None:
    """Begins this program again inside namespaces of its own, before anything heavy is loaded; returns inside them, and where
    there are none to be had.
    """
    import sys

    from zentrale.field.lab import namespaces, switch

    if args.slip != "list" and not namespaces.is_inside() and not switch.lacks() and not namespaces.lacks():
        namespaces.begin_inside(sys.argv[1:])


def run(work: Work, net: NetworkPlan) -> int:
    from zentrale.errors import EXIT_AS_PLANNED, EXIT_FAULTS, InputError
    from zentrale.field.lab import namespaces, switch
    from zentrale.findings import count_faults
    from zentrale.jobs.network.rehearsal import slips
    from zentrale.jobs.network.rehearsal.job import Rehearser

    args, output, folder = work.args, work.output, work.folder
    if args.slip == "list":
        for text in slips.in_words():
            output.line(text)
        return EXIT_AS_PLANNED
    slip = slips.slip(args.slip) if args.slip else None
    if args.zone and not args.run:
        raise InputError(
            "--from: no command is to be run", "give one with --run, such as --run discover, or leave it out"
        )
    inside = namespaces.is_inside()
    if not inside and (slip or args.run or args.load or args.failures):
        lack = [*namespaces.lacks(), *switch.lacks()][0]
        raise InputError(
            f"{lack.what}: missing for packets", f"{lack.advice}; without these options the files are read back"
        )
    try:
        room = namespaces.make_room() if inside else None
        standing = _standing(work, net, room)
        rehearser = Rehearser(net, standing, room or folder.path, output.hint)
        if room is None:
            return _only_files(args, output, rehearser)
        if args.run:
            return network_inside.run(args, output, folder, net, rehearser, room)
        if args.load:
            return network_inside.load(args, output, net, rehearser)
        if args.failures:
            return _failures(args, output, rehearser)
        result = rehearser.rehearse(slip)
    except LabError as error:
        raise InputError(
            f"the rehearsal could not be built: {error}", "`zentrale doctor` says what is missing here"
        ) from None
    if args.json:
        output.document(_document(standing, result))
    else:
        _show(output, net, result)
        _figure(output, folder, net, result)
        if count_faults(result.findings):
            output.next("correct the plan or the file where it is named, then `zentrale network write` and this again")
        else:
            output.next("load the files into the switches (`zentrale help network`); on site, `zentrale discover`")
    return EXIT_FAULTS if count_faults(result.findings) else EXIT_AS_PLANNED


def _standing(work: Work, net: NetworkPlan, room: Path | None) -> Standing:
    """The files that are rehearsed, and what a person has to know of them first."""
    from zentrale import quantities
    from zentrale.jobs.network import standing as stands

    output = work.output
    if work.args.as_planned:
        if room is not None:
            output.hint("rehearsed as planned, in a folder of its own; what stands in output/network is not looked at")
            return stands.as_planned(net, room / "standing")
        from zentrale.errors import InputError

        raise InputError("--as-planned: no packets here, so there is nothing to rehearse", "leave it out")
    with work.locked("network rehearse"):
        found = stands.as_it_stands(work.folder, net)
        standing = found if room is None else found.copied(room / "standing")
    for state, paths in standing.by_state().items():
        text = f"{quantities.listed(paths, _FEW)}"
        words = {
            stands.WRITTEN_NOW: f"was missing, written as the plan is now: {text}",
            stands.EDITED: f"edited since it was written, rehearsed as it stands: {text}",
            stands.OLDER: f"older than the plan, rehearsed as it stands: {text}",
            stands.NO_MORE: f"no longer of the plan, left out: {text}",
        }
        output.notice(words[state])
    return standing


_FEW = 4


def _only_files(args: argparse.Namespace, output: Output, rehearser: Rehearser) -> int:
    """Where this machine has no namespaces or no software switches."""
    from zentrale.cli.output import finding_document
    from zentrale.errors import EXIT_AS_PLANNED, EXIT_FAULTS
    from zentrale.field.lab import namespaces, switch
    from zentrale.findings import count_faults

    findings = rehearser.only_files([*namespaces.lacks(), *switch.lacks()])
    if args.json:
        output.document({"packets": None, "findings": [finding_document(f) for f in findings]})
    output.verdict(findings, "the written files say the same", "no packet was tried")
    output.line()
    output.findings(findings)
    return EXIT_FAULTS if count_faults(findings) else EXIT_AS_PLANNED


def _failures(args: argparse.Namespace, output: Output, rehearser: Rehearser) -> int:
    from dataclasses import asdict

    from zentrale.cli.output import finding_document
    from zentrale.errors import EXIT_AS_PLANNED, EXIT_FAULTS
    from zentrale.findings import count_faults

    results = rehearser.fail_in_turn()
    findings = rehearser.findings
    if args.json:
        output.document({"failures": [asdict(r) for r in results], "findings": [finding_document(f) for f in findings]})
    output.verdict(findings, "each failure costs what was foretold", f"{len(results)} parts taken away")
    if findings:
        output.line()
        output.findings(findings)
    output.heading("Without it")
    rows = [
        [
            r.part, str(len(r.foretold)), str(len(r.lost)) if r.as_foretold else f"fault|{len(r.lost)} OTHERS",
            "-" if r.healed_s is None else f"{r.healed_s:.1f} s",
        ]
        for r in results
    ]  # fmt: skip
    output.table(["part", ">cameras lost, foretold", ">by packets", ">the ring healed in"], rows)
    return EXIT_FAULTS if count_faults(findings) else EXIT_AS_PLANNED


def _figure(output: Output, folder: SiteFolder, net: NetworkPlan, result: Rehearsal) -> None:
    """After what was found has been said: a figure that cannot be drawn or written ends nothing."""
    from zentrale.errors import ZentraleError
    from zentrale.output.rehearsal_figure import Cell, rehearsal_figure
    from zentrale.site.folder import write_atomically

    if not result.cells:
        return
    cells = [Cell(str(c.origin), str(c.to), c.planned, c.came, c.tried, c.wrong) for c in result.cells]
    try:
        picture = rehearsal_figure(net.plan.site.name, _parties(net, result), cells, result.packets)
        write_atomically(folder.output / FIGURE, picture)
    except (ZentraleError, OSError, ValueError, KeyError, RuntimeError) as error:
        output.notice(f"no figure of plan and packets: {error}")
        return
    output.hint(f"plan and packets side by side: {folder.output / FIGURE}")


def _parties(net: NetworkPlan, result: Rehearsal) -> list[str]:
    """Those of the plan that were asked, then whoever else stood there."""
    asked = dict.fromkeys(str(p) for c in result.cells for p in (c.origin, c.to))
    planned = [str(p) for p in net.reach.parties]
    return [p for p in planned if p in asked] + [p for p in asked if p not in planned]


def _show(output: Output, net: NetworkPlan, result: Rehearsal) -> None:
    from zentrale import quantities

    text = f"{quantities.count(result.stations, 'device')}, {result.packets:,} pairs tried" if result.packets else ""
    good = "packets go as planned, and nowhere else"
    if result.open:
        good = f"{quantities.count(result.open, 'packet')} this machine was too busy for; the others go as planned"
    output.verdict(result.findings, good, text, unknown=bool(result.open))
    if result.broken:
        output.line(f"broken on purpose: {result.broken}")
    if result.findings:
        output.line()
        output.findings(result.findings)
    if result.cells:
        output.heading("Packets: does the row reach the column?")
        parties = columns = _parties(net, result)
        cells = {(str(c.origin), str(c.to)): c for c in result.cells}
        rows = [[o, *(_cell(cells.get((o, t))) for t in columns)] for o in parties]
        output.table(["from \\ to", *(c.replace(" in ", "\n") for c in columns)], rows)
    if output.details:
        _details(output, result)
    for text in result.added:
        output.line(f"beside the plan: {text}")
    if result.not_tried:
        by_why: dict[str, list[str]] = {}
        for item in result.not_tried:
            by_why.setdefault(item.why, []).append(item.file)
        output.heading("Not tried")
        output.table(["why", "what"], [[why, _named(files, output)] for why, files in by_why.items()])
    took = ", ".join(f"{what} {seconds:.1f} s" for what, seconds in result.took.items())
    output.line(f"took: {took}")


def _named(files: list[str], output: Output) -> str:
    some = files if output.details else files[:_FEW]
    return ", ".join(some) + (f" and {len(files) - len(some)} more" if len(some) < len(files) else "")


def _cell(cell: PartyCell | None) -> str:
    if cell is None:
        return ""
    word = "yes" if cell.came == cell.tried else "no" if not cell.came else f"{cell.came} of {cell.tried}"
    if cell.wrong:
        return f"fault|{cell.wrong} of {cell.tried} WRONG"
    return f"ok|{word}" if cell.wanted is not None else word


def _details(output: Output, result: Rehearsal) -> None:
    output.heading("Each cell")
    rows = [
        [
            str(c.origin),
            str(c.to),
            "yes" if c.planned else "no",
            f"{c.came} of {c.tried}",
            ", ".join(sorted(c.kinds)) or "-",
            str(c.wrong),
        ]
        for c in result.cells
    ]
    output.table(["from", "to", "planned", ">pairs through", "by", ">otherwise than planned"], rows)
    if result.dhcp:
        output.heading("Addresses by DHCP")
        output.table(
            ["zone", "asked for", "planned", "given", "by"],
            [
                [d.zone, d.client, d.planned or "none", d.given or "none", ", ".join(s for s, _ in d.servers) or "-"]
                for d in result.dhcp
            ],
        )
    if result.multicast is not None:
        output.heading("Multicast")
        rows = [
            [g.group, g.sender, ", ".join(g.joined) or "-", ", ".join(g.got) or "-", ", ".join(g.astray) or "-"]
            for g in result.multicast.groups
        ]
        output.table(["group", "from", "joined by", "came to", "went astray to"], rows)


def _document(standing: Standing, result: Rehearsal) -> dict[str, object]:
    from dataclasses import asdict

    from zentrale.cli.output import finding_document
    from zentrale.jobs.network.rehearsal.deviations import deviations

    return {
        "broken_on_purpose": result.broken or None,
        "stations": result.stations,
        "pairs_tried": result.packets,
        "pairs_not_judged": result.open,
        "cells": [
            {
                "from_kind": c.origin.kind, "from_zone": c.origin.zone, "to_kind": c.to.kind, "to_zone": c.to.zone,
                "planned": c.planned, "wanted": c.wanted, "pairs": c.tried, "pairs_through": c.came, "by": sorted(c.kinds),
                "otherwise_than_planned": c.wrong,
            }
            for c in result.cells
        ],
        "dhcp": [asdict(d) for d in result.dhcp],
        "multicast": None if result.multicast is None else asdict(result.multicast),
        "radius": [{**asdict(r), "as_planned": r.as_planned} for r in result.let_in],
        "files": [{"path": f.path, "state": f.state} for f in standing.files.values()],
        "lines_otherwise_than_planned": [asdict(line) for line in deviations(standing)],
        "not_tried": [asdict(item) for item in result.not_tried],
        "beside_the_plan": list(result.added),
        "took_s": {what: round(seconds, 2) for what, seconds in result.took.items()},
        "findings": [
            {**finding_document(f), "at": f.at or None} for f in result.findings
        ],
    }  # fmt: skip
