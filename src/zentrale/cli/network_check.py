"""`zentrale network check`: the switches' own tables, held against the plan."""

from __future__ import annotations

import argparse

from zentrale.cli import network_here, options

TYPE_CHECKING = False  # as typing has it, without the cost of importing typing
if TYPE_CHECKING:
    from collections.abc import Mapping
    from typing import Any

    from zentrale.cli.output import Output
    from zentrale.cli.work import Work
    from zentrale.jobs.switches.asking import Asked
    from zentrale.jobs.switches.checking import Check
    from zentrale.planning.network import NetworkPlan
    from zentrale.protocols.mib.switch import SeenPort, SeenSwitch

_MODES = ("day", "night", "cold", "moving", "worst")


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "--only", metavar="SWITCH", action="append", default=[], help="this switch; may be given more than once"
    )
    parser.add_argument(
        "--mode", choices=_MODES,
        help="how the site is now, for the watts: with lamps on it is night (default: what a port draws at most in any)",
    )  # fmt: skip
    parser.add_argument(
        "--no-guess", action="store_true", help="do not try whether the switches take the community that is everybody's"
    )
    options.add_details(parser)


def run(work: Work, net: NetworkPlan) -> int:
    import asyncio

    from zentrale.errors import EXIT_AS_PLANNED, EXIT_FAULTS, NothingReachedError
    from zentrale.findings import count_faults
    from zentrale.jobs.switches.asking import named
    from zentrale.jobs.switches.checking import Request, check, observed
    from zentrale.jobs.switches.here import Whereabouts
    from zentrale.site.part import Mode

    args, output = work.args, work.output
    names = tuple(word.strip() for item in args.only for word in item.split(",") if word.strip())
    switches = named(net.plan, names)
    work.vault_if_any()
    request = Request(names, not args.no_guess, Mode(args.mode) if args.mode else None)
    with work.logging() as logbook, output.progress("reading the switches", len(switches)) as step:
        result = asyncio.run(check(net, work.vault, logbook, request, step))
    if args.json:
        from zentrale.cli.output import finding_document

        output.document({
            "here": network_here.document(Whereabouts(result.here))["here"],
            "switches": [_document(net, observed(one, result.places)) for one in result.asked],
            "not_asked": list(result.not_asked),
            "findings": [finding_document(f) for f in result.findings],
        })  # fmt: skip
    _show(output, net, result)
    output.reports([a.report for a in result.asked if a.report], str(work.folder.path))
    if not any(one.seen for one in result.asked) and not any(one.refused for one in result.asked):
        raise NothingReachedError(
            "no switch answered",
            "look whether this laptop is in their zone: `zentrale network here`; and whether SNMP is on",
        )
    return EXIT_FAULTS if count_faults(result.findings) else EXIT_AS_PLANNED


def _document(net: NetworkPlan, switch: dict[str, Any]) -> dict[str, Any]:
    rows = {row.port: row.device or None for row in net.ports.of(switch["switch"])}
    return {**switch, "ports": [{**port, "planned": rows.get(port["port"])} for port in switch["ports"]]}


def _show(output: Output, net: NetworkPlan, result: Check) -> None:
    from zentrale import quantities

    read = [one for one in result.asked if one.seen is not None]
    ports = sum(len(one.seen.ports) for one in read if one.seen)
    unknown = any(_is_open(net, one) for one in result.asked)
    text = f"{len(read)} of {quantities.count(len(result.asked), 'switch')} read, {quantities.count(ports, 'port')}"
    for here in result.here:
        output.line(network_here.in_words(net.plan, here))
    good = "what the switches told is as planned" if unknown else "the switches are as planned"
    output.result(result.findings, good, text, unknown=unknown)
    if result.not_asked:
        output.line(f"not asked, since the plan does not say how (snmp in management): {', '.join(result.not_asked)}")
    if not read:
        return
    output.line()
    output.table(
        ["switch", "answers", ">ports up", ">PoE used", ">budget", "port numbers by"],
        [_row(one) for one in result.asked],
    )
    if output.details:
        for one in read:
            output.line()
            assert one.seen is not None
            output.heading(one.name)
            output.line(_what(one.seen))
            if one.seen.tree is not None:
                output.line(_tree(one.seen, {a.seen.bridge_mac: a.name for a in read if a.seen}))
            output.table(
                [
                    "port",
                    "planned",
                    "seen",
                    ">Mbit/s",
                    "VLAN",
                    "PoE",
                    ">asked W",
                    ">allotted W",
                    ">drawn W",
                    ">errors/min",
                ],
                [_port(net, one, port, result) for port in one.seen.ports],
            )
            for text in one.seen.not_told:
                output.line(f"not told by this switch: {text}")
    else:
        output.next("`zentrale network check --details` shows each port; `zentrale explain CODE` a finding in full")


def _is_open(net: NetworkPlan, one: Asked) -> bool:
    """Whether what matters of it could not be judged: it, or a port that the plan uses, was not told; or VLANs, or who is
    where.
    """
    if one.seen is None or not (one.seen.vlans_told and one.seen.addresses_told):
        return True
    told = {port.port for port in one.seen.ports}
    return any(row.kind != "free" and row.mode != "off" and row.port not in told for row in net.ports.of(one.name))


def _what(seen: SeenSwitch) -> str:
    """What it is and runs, by its own words."""
    firmware = f"; software {seen.firmware}" if seen.firmware and seen.firmware not in seen.description else ""
    return f"{seen.description or 'it does not say what it is'}{firmware}"


def _tree(seen: SeenSwitch, names: Mapping[str, str]) -> str:
    from zentrale import quantities

    assert seen.tree is not None
    root = "itself" if seen.tree.is_root else names.get(seen.tree.root[1], seen.tree.root[1])
    blocked = [str(p.port) for p in seen.ports if p.tree_state == "blocking"]
    changes = quantities.count(seen.tree.changes, "change of the topology", "changes of the topology")
    return f"spanning tree: root {root}, blocked ports {', '.join(blocked) or 'none'}, {changes} since it counts"


def _row(one: Asked) -> list[str]:
    seen = one.seen
    if seen is None:
        return [one.name, "refuses" if one.refused else "no", "-", "-", "-", "-"]
    up = f"{sum(p.up for p in seen.ports)} of {len(seen.ports)}" if seen.ports else "not told"
    used, budget = (f"{seen.supply.used_w:.0f} W", f"{seen.supply.budget_w:.0f} W") if seen.supply else ("-", "-")
    return [
        one.name,
        f"SNMP{one.key.version}" if one.key else "yes",
        up,
        used,
        budget,
        " / ".join(seen.numbering.ways) or "-",
    ]


def _port(net: NetworkPlan, one: Asked, port: SeenPort, result: Check) -> list[str]:
    row, place = net.ports.at(one.name, port.port), (one.name, port.port)
    owners = [result.places.owner.get(mac, mac) for mac in result.places.at.get(place, ())]
    link = result.places.links.get(place)
    seen = f"to {link}" if link else ", ".join(owners[:2]) + (f" and {len(owners) - 2} more" if len(owners) > 2 else "")
    half = " half" if port.duplex == "half" else ""
    rate = "not told" if port.rate_mbps is None else f"{port.rate_mbps}{half}"
    rate = rate if port.up else "no link"
    vlan = "not told" if port.pvid is None else str(port.pvid)
    poe = port.poe

    def watts(value: float | None) -> str:
        return "-" if value is None or poe is None or poe.state != "deliveringPower" else f"{value:.1f}"

    words = {"deliveringPower": "on", "otherFault": "fault"}
    state = "-" if poe is None else "off" if not poe.enabled else words.get(poe.state, poe.state)
    errors = "-" if port.errors is None else f"{port.errors.errors:.0f}"
    three = [watts(w) for w in ((poe.asked_w, poe.allotted_w, poe.power_w) if poe else (None,) * 3)]
    heard = seen or ("not told" if port.up and port.macs is None else "-")
    return [str(port.port), row.device or "-", heard, rate, vlan, state, *three, errors]
