"""`zentrale network here`: at which switch and port this laptop is plugged in, and in which VLAN."""

from __future__ import annotations

import argparse

TYPE_CHECKING = False  # as typing has it, without the cost of importing typing
if TYPE_CHECKING:
    from typing import Any

    from zentrale.cli.output import Output
    from zentrale.cli.work import Work
    from zentrale.jobs.switches.here import Here, Whereabouts
    from zentrale.planning.network import NetworkPlan
    from zentrale.site.model import Plan


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "--adapter", metavar="NAME", action="append", default=[], help="this adapter, by name or address"
    )
    parser.add_argument(
        "--wait", metavar="SECONDS", type=float, default=32.0,
        help="for a neighbour that speaks every 30 s, where the switches' tables do not tell (default: 32)",
    )  # fmt: skip


def run(work: Work, net: NetworkPlan) -> int:
    import asyncio

    from zentrale.errors import EXIT_AS_PLANNED, EXIT_NOTHING_REACHED, InputError
    from zentrale.field.adapters import list_adapters
    from zentrale.jobs.switches.here import whereabouts

    args, output = work.args, work.output
    if not 0 <= args.wait <= 300:
        raise InputError(f"--wait {args.wait:g}: out of range", "expected 0 to 300 seconds")
    adapters = list_adapters()
    if args.adapter:
        chosen = [a for a in adapters if {a.name, a.address} & set(args.adapter)]
        if not chosen:
            have = ", ".join(map(str, adapters)) or "none is up"
            raise InputError(f"--adapter {args.adapter[0]}: no such adapter", f"expected one of: {have}")
        adapters = chosen
    work.vault_if_any()
    with (
        work.logging() as logbook,
        output.progress("looking where this laptop is plugged in", len(net.plan.switches)) as step,
    ):
        found = asyncio.run(whereabouts(net, work.vault, logbook, adapters, args.wait, step))
    if args.json:
        output.document(document(found))
    show(output, net, found)
    if not found.here:
        output.next(
            "plug the laptop into a port of a switch that can be asked; `zentrale network check` tells which can"
        )
    return EXIT_AS_PLANNED if found.here else EXIT_NOTHING_REACHED


def document(found: Whereabouts) -> dict[str, Any]:
    from dataclasses import asdict

    return {"here": [asdict(h) for h in found.here], "why": list(found.why)}


def show(output: Output, net: NetworkPlan, found: Whereabouts) -> None:
    for here in found.here:
        output.line(in_words(net.plan, here), "bold")
    if not found.here:
        output.line("not known where this laptop is plugged in", "bold yellow")
        for why in found.why:
            output.line(f"  {why}")


def in_words(plan: Plan, here: Here) -> str:
    zones = {z.vlan: z.name for z in plan.zones}
    port = f"port {here.port}" if here.port is not None else f"its port {here.port_name}"
    name = f" ({here.port_name})" if here.port is not None and here.port_name else ""
    vlan = (
        "VLAN not told"
        if here.vlan is None
        else f"VLAN {here.vlan}" + (f", {zones[here.vlan]}" if here.vlan in zones else "")
    )
    switch = f"switch {here.switch}" + ("" if here.in_plan else ", which is not in the plan")
    whose = f"; the plan has {here.planned} there" if here.planned else ""
    return f"this laptop ({here.adapter}): {switch}, {port}{name}, {vlan}{whose} (by {here.how})"
