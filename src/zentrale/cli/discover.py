"""`zentrale discover`: find devices and say which planned one each is."""

from __future__ import annotations

import argparse

from zentrale.cli import options

TYPE_CHECKING = False  # as typing has it, without the cost of importing typing
if TYPE_CHECKING:
    from collections.abc import Callable, Collection, Sequence

    from zentrale.cli.output import Output
    from zentrale.jobs.discovering import Discovery
    from zentrale.jobs.keyring import Keyring
    from zentrale.jobs.stream_list import Listed
    from zentrale.logbook.vault import Vault
    from zentrale.site.folder import SiteFolder
    from zentrale.site.model import Plan

DESCRIPTION = """\
Sends WS-Discovery probes on one network adapter and sweeps the planned address ranges for RTSP and ONVIF ports,
asks each device who it is with the candidate passwords of the vault, and compares with the plan: what is missing,
what nobody planned, what is not as it should be. Changes nothing on any device."""
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
    options.add_details(parser)
    options.add_entering(parser)
    options.add_site(parser)
    options.add_passphrase(parser)
    options.add_json(parser)
    options.add_common(parser)


def run(args: argparse.Namespace) -> int:
    import asyncio

    from zentrale.cli.output import Output
    from zentrale.errors import EXIT_AS_PLANNED, EXIT_FAULTS, InputError, NothingReachedError
    from zentrale.findings import count_faults
    from zentrale.jobs.discovering import Request, discover
    from zentrale.logbook.store import Logbook
    from zentrale.site.reading import read_plan

    if not 0.1 <= args.wait <= 60:
        raise InputError(f"--wait {args.wait:g}: out of range", "expected 0.1 to 60 seconds")
    output = Output(args)
    folder = options.site_folder(args)
    plan = read_plan(folder)
    vault = options.vault_or_none(args, folder)
    if args.follow:
        return _follow(args, output, plan, vault)
    request = Request(tuple(args.adapter), tuple(args.range), args.wait, not args.no_sweep, not args.no_probe)
    with (
        Logbook(folder.logbook_file) as logbook,
        output.progress("discovering", len(plan.cameras) + len(plan.recorders)) as step,
    ):
        keyring = options.keyring(args, output, plan, vault, logbook)
        result = asyncio.run(discover(plan, keyring, request, step))
        listed = asyncio.run(_streams(folder, plan, keyring, result, step)) if args.streams else None
    if args.json:
        streams = {} if listed is None else {"streams": [_listed(item) for item in listed]}
        output.document({**_document(result, result.matching.as_planned(plan)), **streams})
    _show(output, plan, result, listed)
    output.reports([d.report for d in result.matching.devices if d.report], args.site)
    if not result.matching.devices:
        raise NothingReachedError(
            f"no device answered on {result.choice}",
            "check the cable and the VLAN; choose the adapter with --adapter, the network with --range",
        )
    return EXIT_FAULTS if count_faults(result.findings) else EXIT_AS_PLANNED


def _follow(args: argparse.Namespace, output: Output, plan: Plan, vault: Vault | None) -> int:
    import asyncio
    import json
    import sys
    from dataclasses import asdict

    from zentrale.jobs.following import CAME, EVERY_S, LEFT, MOVED, Event, adapters_for, follow
    from zentrale.logbook.store import Logbook

    choice = adapters_for(plan, tuple(args.adapter))
    signs = {CAME: "+", MOVED: "~", LEFT: "-"}

    def tell(event: Event) -> None:
        device = event.device
        if args.json:
            told = {
                "at": event.at.isoformat(),
                "event": event.what,
                "planned_as": event.name or None,
                "before": event.before,
            }
            print(json.dumps({**told, "device": _device(asdict(device))}), flush=True)
            return
        what = " ".join(p for p in (device.maker, device.model) if p) or device.announced or "unknown device"
        moved = f" (was at {event.before})" if event.before else ""
        state = "gone" if event.what == LEFT else device.state
        at = f"{event.at.astimezone():%H:%M:%S}"
        line = "  ".join([at, signs[event.what], event.name or "not planned", device.address + moved, state])
        line += f"  ({what})" if len(line) + len(what) + 4 <= (output.width or 200) or not event.name else ""
        output.line(line, "bold" if event.name else "yellow")
        sys.stdout.flush()

    output.hint(f"listening on {choice} ({choice.reason}), probing every {EVERY_S:g} s; Ctrl-C ends it")
    with Logbook(options.site_folder(args).logbook_file) as logbook:
        keyring = options.keyring(args, output, plan, vault, logbook)
        try:
            asyncio.run(follow(plan, keyring, choice, tell))
        except KeyboardInterrupt:
            output.line()
    output.next("`zentrale discover` keeps what is found")
    return 0


async def _streams(
    folder: SiteFolder, plan: Plan, keyring: Keyring, result: Discovery, step: Callable[[int, str], None]
) -> list[Listed]:
    from zentrale.jobs import stream_list

    patterns = stream_list.path_patterns(folder.path)
    step(0, "asking for streams")
    with keyring.logbook.running("discover --streams", str(result.choice)) as run:
        listed = await stream_list.list_streams(plan, keyring, result.matching, patterns)
        stream_list.keep(keyring.logbook, run, plan, listed)
    return listed


def _listed(item: Listed) -> dict[str, object]:
    from dataclasses import asdict

    return {
        "planned_as": item.name or None, "address": item.device.address, "note": item.note,
        "streams": [asdict(stream) for stream in item.streams],
    }  # fmt: skip


def _show_streams(output: Output, listed: Sequence[Listed]) -> None:
    output.heading("Streams, as their devices describe them")
    for item in listed:
        output.line(item.name or item.device.address, "bold")
        for s in item.streams:
            told = [f"{s.codec} {s.width_px}x{s.height_px}" if s.width_px else s.codec, f"{s.fps:g} fps" if s.fps else "",
                    f"{s.bitrate_kbps} kbit/s" if s.bitrate_kbps else ""]  # fmt: skip
            output.verbatim(f"  {s.name}  {s.url}")
            output.line(f"    {', '.join(t for t in told if t) or 'not described'}")
        if not item.streams:
            output.line(f"  {item.note}", "yellow")


def _show(output: Output, plan: Plan, result: Discovery, listed: Sequence[Listed] | None) -> None:
    from zentrale import quantities

    planned, good = len(plan.cameras) + len(plan.recorders), result.matching.as_planned(plan)
    said = (
        f"{len(good)} of {quantities.count(planned, 'planned device')} found, {len(result.matching.extra)} not planned"
        if result.matching.devices
        else "nothing answered"
    )
    output.result(result.findings, "all planned devices found, and nothing else", said)
    output.line()
    swept = ", ".join(result.swept) or "nothing"
    output.line(f"asked from {result.choice} ({result.choice.reason}); swept {swept}")
    for remark in result.choice.remarks:
        output.line(f"remark: {remark}", "yellow")
    if output.details:
        _show_devices(output, plan, result)
    elif result.matching.devices:
        output.line("every device: `zentrale discover --details`")
    if listed is not None:
        _show_streams(output, listed)
    if not good:
        output.next("look at the adapter, the VLAN and the plan's addresses, then `zentrale discover` again")
    elif len(good) < planned:
        output.next("find what is missing, then `zentrale discover` again; or go on: `zentrale register --dry-run`")
    else:
        output.next("`zentrale register --dry-run`, then `zentrale register`")


def _show_devices(output: Output, plan: Plan, result: Discovery) -> None:
    from zentrale.jobs.states import State

    good = result.matching.as_planned(plan)
    name_of = result.matching.name_of
    bad = {
        s.value for s in (State.DEFAULT_PASSWORD, State.UNKNOWN_PASSWORD, State.OPEN, State.NO_ANSWER, State.LOCKED,
                          State.UNSAFE, State.FAILING)
    }  # fmt: skip
    wary = {State.FRESH.value: "note", State.NOT_ASKED.value: "warning"}
    order = {name: i for i, name in enumerate([c.name for c in plan.cameras] + [r.name for r in plan.recorders])}
    rows = []
    for device in sorted(result.matching.devices, key=lambda d: order.get(name_of(d), len(order))):
        name = name_of(device)
        wrong = device.state in bad or bool(name and name not in good)
        style = "fault" if wrong else wary.get(device.state, "ok")
        state = f"{style}|{device.state}"
        rows.append([
            name or "note|not planned", device.maker or "?", device.model or "?", device.address,
            device.mac or "?", device.firmware or "?", state, device.method,
        ])  # fmt: skip
    rows += [[name, "", "", "", "", "", "fault|not found", ""] for name in result.matching.missing]
    output.line()
    output.table(["planned as", "maker", "model", "address", "MAC address", "firmware", "state", "found by"], rows)


def _device(content: dict[str, object]) -> dict[str, object]:
    """Without what is for the file of the report only."""
    return {k: v for k, v in content.items() if k != "report"}


def _document(result: Discovery, good: Collection[str]) -> dict[str, object]:
    from dataclasses import asdict

    from zentrale.cli.output import finding_document

    missing = [*result.matching.missing, *(n for n in result.matching.by_name if n not in good)]
    return {
        "adapters": [{"name": a.name, "address": a.address} for a in result.choice.adapters],
        "adapter_reason": result.choice.reason,
        "remarks": list(result.choice.remarks),
        "swept": list(result.swept),
        "devices": [
            {"planned_as": result.matching.name_of(d) or None, **_device(asdict(d))} for d in result.matching.devices
        ],
        "missing": missing,
        "renamed": [{"from": old, "to": new} for old, new in result.matching.renamed],
        "not_planned": [d.address for d in result.matching.extra],
        "findings": [finding_document(f) for f in result.findings],
    }
