"""`zentrale network restart`: a port's power taken away and given back."""

from __future__ import annotations

import argparse

from zentrale.cli import options

TYPE_CHECKING = False  # as typing has it, without the cost of importing typing
if TYPE_CHECKING:
    from collections.abc import Sequence

    from zentrale.cli.output import Output
    from zentrale.cli.work import Work
    from zentrale.jobs.maintaining.port_power import PortPower, Restarted
    from zentrale.planning.network import NetworkPlan


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.description = (
        "Takes the power of the port away at which a switch hears the camera, for 5 s, and gives it back; waits until the camera "
        "plays. One camera of a switch at a time, never two that watch the same ground. Never a port that feeds a switch, a "
        "recorder or this laptop, or that several MAC addresses hang on, unless named with --port and confirmed. A camera that "
        "still answers is restarted more gently by `zentrale restart`."
    )
    name = parser.add_argument("names", metavar="CAMERA", nargs="*", help="cameras of the plan")
    options.completes(name, options.complete_cameras)
    parser.add_argument(
        "--port", metavar="SWITCH:PORT", help="this port, whatever hangs on it; asks before it does harm"
    )
    parser.add_argument("--yes", action="store_true", help="with --port: do not ask")
    options.add_details(parser)
    options.add_entering(parser)


def run(work: Work, net: NetworkPlan) -> int:
    import asyncio

    from zentrale.errors import EXIT_AS_PLANNED, EXIT_FAULTS, InputError
    from zentrale.findings import count_faults
    from zentrale.jobs.known.selection import check_reachable, select
    from zentrale.jobs.maintaining.port_power import PortPower, port_named
    from zentrale.jobs.switches.asking import askable

    args, output = work.args, work.output
    if bool(args.names) == bool(args.port):
        raise InputError("network restart: which port is meant?", "give CAMERA, or --port SWITCH:PORT")
    if args.yes and not args.port:
        raise InputError("network restart: --yes goes with --port", "name the port, so that it is sure which is meant")
    askable(net.plan)
    place = port_named(net, args.port) if args.port else None
    for name in args.names:
        check_reachable(net.plan, name)
    cameras = list(dict.fromkeys(net.plan.device_of(c) for c in select(net.plan, args.names))) if args.names else []
    work.open_vault()
    with work.alone("network restart"):
        power = PortPower(net, work.keyring(), output.hint)
        with output.progress("looking where everything is", len(net.plan.switches)) as step:
            asyncio.run(power.look(step))
        if place is not None:
            _confirm(work, power, place)
            results: Sequence[Restarted] = [asyncio.run(power.restart_port(place))]
            left: Sequence[str] = ()
        else:
            turned = asyncio.run(power.restart(cameras))
            results, left = turned.results, turned.left
        power.note(results)
    findings = [f for r in results for f in r.findings()]
    if args.json:
        from zentrale.cli.output import finding_document

        output.document({
            "ports": [
                {"subject": str(r.ref), "port": r.place or None, "refused": r.refused, "problem": r.problem or None,
                 "back_s": r.back_s, "plays_s": r.plays_s, "note": r.note or None}
                for r in results
            ],
            "not_begun": list(left), "findings": [finding_document(f) for f in findings],
        })  # fmt: skip
    _show(output, results, left)
    return EXIT_FAULTS if count_faults(findings) else EXIT_AS_PLANNED


def _confirm(work: Work, power: PortPower, place: tuple[str, int]) -> None:
    """Raises InputError where what hangs there speaks against it and nobody said yes."""
    from zentrale.errors import InputError

    objections = power.objections(place)
    if not objections or work.args.yes:
        return
    what = f"{place[0]}:{place[1]}: {'; '.join(objections)}"
    if not work.output.ask(f"{what}. Take its power away all the same?"):
        raise InputError(what, "nothing was switched; --yes does it all the same")


def _show(output: Output, results: Sequence[Restarted], left: Sequence[str]) -> None:
    from zentrale import quantities

    findings = [f for r in results for f in r.findings()]
    good = "all are back" if all(r.back_s for r in results) else "its power is on again"
    output.result(findings, good, quantities.count(len(results), "port"))
    for r in results:
        if r.problem:
            continue
        if r.plays_s is None:
            output.line(f"{r.ref} at {r.place}: {r.note}")
        else:
            times = f"answered {quantities.seconds(r.back_s or 0)} after its power was on again, played after"
            output.line(
                f"{r.ref} at {r.place}: {times} {quantities.seconds(r.plays_s)}{f' ({r.note})' if r.note else ''}"
            )
    if left:
        output.line(f"not begun, since one did not come back: {', '.join(left)}", "bold red")
