"""`zentrale discover`: find devices and say which planned one each is."""

from __future__ import annotations

import argparse

from zentrale.cli import options

TYPE_CHECKING = False  # as typing has it, without the cost of importing typing
if TYPE_CHECKING:
    from collections.abc import Callable

    from zentrale.cli.discover_shown import Found
    from zentrale.cli.work import Work
    from zentrale.jobs.discovery.discovering import Discovery
    from zentrale.jobs.discovery.stream_list import Listed
    from zentrale.jobs.passwords.keyring import Keyring
    from zentrale.site.folder import SiteFolder
    from zentrale.site.model import Plan

DESCRIPTION = """\
Sends WS-Discovery probes on one network adapter and sweeps the planned address ranges for RTSP and ONVIF ports,
asks each device who it is with the candidate passwords of the vault, and compares with the plan: what is missing,
what nobody planned, what is not as it should be. Says why a planned one is likely not seen. Hears SSDP and DNS-SD too.
Changes nothing on any device."""
EXAMPLE = "zentrale discover --adapter eth0 --range 192.168.1.0/24"


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "--adapter",
        metavar="NAME",
        action="append",
        default=[],
        help="network adapter, by name or address; may be given more than once (default: chosen, and said why)",
    )
    parser.add_argument(
        "--range",
        metavar="RANGE",
        action="append",
        default=[],
        help="sweep this instead, such as 192.168.1.0/24 or 192.168.1.20-90; may be given more than once",
    )
    parser.add_argument("--no-sweep", action="store_true", help="only the multicast probe")
    parser.add_argument("--no-probe", action="store_true", help="only the sweep of addresses")
    parser.add_argument(
        "--wait", metavar="SECONDS", type=float, default=2.0, help="wait for answers to the probe (default: 2)"
    )
    parser.add_argument(
        "--streams", action="store_true", help="also list where the streams of each device are, and keep that"
    )
    parser.add_argument(
        "--follow", action="store_true", help="keep on until Ctrl-C, and tell who comes and goes; nothing is kept"
    )
    options.add_only(parser)
    options.add_details(parser)
    options.add_entering(parser)
    options.add_sites(parser)
    options.add_passphrase(parser)
    options.add_json(parser)
    options.add_common(parser)


def run(args: argparse.Namespace) -> int:
    from zentrale.cli import discover_shown as shown
    from zentrale.cli.output import Output
    from zentrale.cli.work import Work
    from zentrale.errors import EXIT_AS_PLANNED, EXIT_FAULTS, InputError, NothingReachedError
    from zentrale.findings import count_faults
    from zentrale.site.folder import find_site

    if not 0.1 <= args.wait <= 60:
        raise InputError(f"--wait {args.wait:g}: out of range", "expected 0.1 to 60 seconds")
    args.only = [*args.only, *args.names]
    if args.only and (args.range or args.follow):
        raise InputError("names of devices do not go with --range or --follow", "leave one of them out")
    output = Output(args)
    sites = [Work(args, output, find_site(place)) for place in args.site or [None]]
    for work in sites:
        _ = work.plan  # before anything is asked: a plan that is wrong ends the command
    if args.follow:
        if len(sites) > 1:
            raise InputError("discover --follow follows one site", "give --site once")
        return _follow(sites[0])
    found = [_discover(work) for work in sites]
    if args.json:
        documents = [shown.document(f) for f in found]
        output.document(documents[0] if len(found) == 1 else {"sites": documents})
    if len(found) == 1:
        shown.show(output, found[0])
    else:
        shown.show_sites(output, found)
    for work, one in zip(sites, found, strict=True):
        output.reports([d.report for d in one.result.matching.devices if d.report], str(work.folder.path))
    if not any(one.result.matching.devices for one in found):
        raise NothingReachedError(
            f"no device answered on {found[0].result.choice}",
            "check the cable and the VLAN; choose the adapter with --adapter, the network with --range",
        )
    return EXIT_FAULTS if any(count_faults(one.result.findings) for one in found) else EXIT_AS_PLANNED


def _discover(work: Work) -> Found:
    """One site, with the vault and logbook of its own."""
    import asyncio

    from zentrale.cli.discover_shown import Found
    from zentrale.jobs.discovery.discovering import Request, discover
    from zentrale.jobs.known.selection import devices_named

    args, plan = work.args, work.plan
    work.vault_if_any()
    only = devices_named(plan, args.only) if args.only else ()
    request = Request(tuple(args.adapter), tuple(args.range), args.wait, not args.no_sweep, not args.no_probe, only)
    with work.logging(), work.output.progress("discovering", len(plan.cameras) + len(plan.recorders)) as step:
        keyring = work.keyring()
        result = asyncio.run(discover(plan, keyring, request, step))
        listed = asyncio.run(_streams(work.folder, plan, keyring, result, step)) if args.streams else None
    return Found(plan, result, listed, only)


def _follow(work: Work) -> int:
    import asyncio
    import json
    import sys
    from dataclasses import asdict

    from zentrale.cli.discover_shown import device_document
    from zentrale.jobs.discovery.following import CAME, EVERY_S, LEFT, MOVED, Event, adapters_for, follow
    from zentrale.jobs.known.planned import planned_devices

    args, output, plan = work.args, work.output, work.plan
    work.vault_if_any()
    choice = adapters_for(plan, tuple(args.adapter))
    widest = max(map(len, planned_devices(plan)))
    signs = {CAME: "+", MOVED: "~", LEFT: "-"}

    def tell(event: Event) -> None:
        device = event.device
        if args.json:
            document = {
                "at": event.at.isoformat(),
                "event": event.what,
                "planned_as": event.name or None,
                "before": event.before,
            }
            print(json.dumps({**document, "device": device_document(asdict(device))}), flush=True)
            return
        what = " ".join(p for p in (device.maker, device.model) if p) or device.announced or "unknown device"
        moved = f" (was at {event.before})" if event.before else ""
        state = "gone" if event.what == LEFT else device.state
        at = f"{event.at.astimezone():%H:%M:%S}"
        name = f"{event.name or 'not planned':<{widest}}"
        line = "  ".join([at, signs[event.what], name, f"{device.address + moved:<15}", state])
        line += f"  ({what})" if len(line) + len(what) + 4 <= (output.width or 200) or not event.name else ""
        output.line(line, "bold" if event.name else "yellow")
        sys.stdout.flush()

    output.hint(f"listening on {choice} ({choice.reason}), probing every {EVERY_S:g} s; Ctrl-C ends it")
    with work.logging():
        keyring = work.keyring()
        try:
            asyncio.run(follow(plan, keyring, choice, tell))
        except KeyboardInterrupt:
            output.line()
    output.next("`zentrale discover` keeps what is found")
    return 0


async def _streams(
    folder: SiteFolder, plan: Plan, keyring: Keyring, result: Discovery, step: Callable[[int, str], None]
) -> list[Listed]:
    from zentrale.jobs.discovery import stream_list

    patterns = stream_list.path_patterns(folder.path)
    step(0, "asking for streams")
    with keyring.logbook.running("discover --streams", str(result.choice)) as run:
        listed = await stream_list.list_streams(plan, keyring, result.matching, patterns)
        stream_list.keep(keyring.logbook, run, plan, listed)
    return listed
