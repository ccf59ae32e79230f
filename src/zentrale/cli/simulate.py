"""`zentrale simulate`: run the stand-in site until Ctrl-C."""

from __future__ import annotations

import argparse

from zentrale.cli import options

TYPE_CHECKING = False  # as typing has it, without the cost of importing typing
if TYPE_CHECKING:
    from asyncio import Queue
    from ipaddress import IPv4Address
    from typing import Any

    from zentrale.cli.output import Output
    from zentrale.simulation.own_link import OwnLink
    from zentrale.simulation.scenario import Camera, Recorder, Scenario
    from zentrale.simulation.tap import Tap
    from zentrale.site.model import Plan

DESCRIPTION = """\
Runs the stand-in site until Ctrl-C: cameras and a recorder that answer WS-Discovery, ONVIF and RTSP on loopback
addresses of their own. A scenario file says what exists and which faults are on. The first start encodes the
pictures, which takes some seconds; they are kept in the user's cache.

With --plan it plays one's own plan: in a network of its own, where the system gives one, and the command is printed that
opens a shell there; with --into DIR on loopback, for a copy of the site with loopback addresses."""
EXAMPLE = "zentrale simulate\n  zentrale simulate --plan --into practice"
WITH_PARENT = (
    "also stop when stdin is closed; a line with a scenario file puts its devices, in their first state, in the place "
    "of those that run, an empty line takes them away; +DEVICE:NAME brings a fault about, -DEVICE:NAME takes it back"
)


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("--scenario", metavar="FILE", help="scenario in TOML (default: Brackwater Locks)")
    parser.add_argument("--new", metavar="FILE", help="begin a scenario of one's own in FILE, and end")
    parser.add_argument(
        "--cameras", metavar="N", type=int, help="so many cameras alike in place of a scenario, for load"
    )
    parser.add_argument(
        "--plan",
        action="store_true",
        help="the devices of a site's plan, fresh from the box at their planned addresses",
    )
    parser.add_argument("--into", metavar="DIR", help="with --plan: on loopback, for a copy of the site in DIR")
    options.add_site(parser)
    parser.add_argument(
        "--night", action="store_true", help="the cameras' lamps are on: their switches give more watts"
    )
    fault = parser.add_argument(
        "--fault", metavar="DEVICE:NAME", action="append", default=[],
        help="a fault, on from the start; may be given more than once (`--fault list` tells all)",
    )  # fmt: skip
    options.completes(fault, _faults)
    parser.add_argument(
        "--capture", metavar="FILE", help="write along what the devices say and hear, as a capture (pcap)"
    )
    parser.add_argument("--capture-of", metavar="NAME", action="append", default=[], help="only of this device")
    parser.add_argument("--list", action="store_true", help="say what the scenario holds, and stop")
    parser.add_argument("--with-parent", action="store_true", help=WITH_PARENT)
    parser.add_argument("--device", metavar="NAME", help=argparse.SUPPRESS)  # one device, where it stands apart
    options.add_common(parser)


def run(args: argparse.Namespace) -> int:
    import asyncio
    from pathlib import Path

    from zentrale.cli.output import Output
    from zentrale.simulation.scenario import many_cameras, new_scenario, read_scenario

    output = Output(args)
    if args.fault == ["list"]:
        _list_faults(output)
        return 0
    _check_usage(args)
    if args.plan:
        return _play_plan(args, output)
    if args.new is not None:
        new_scenario(Path(args.new))
        output.line(f"wrote {args.new}")
        output.next(f"edit it (`zentrale help scenario`), then `zentrale simulate --scenario {args.new}`")
        return 0
    scenario = read_scenario(args.scenario) if args.cameras is None else many_cameras(args.cameras)
    if args.night:
        scenario = scenario.model_copy(update={"night": True})
    if args.list:
        _list(output, scenario)
        return 0
    scenario = _with_faults(scenario, args.fault)
    if args.device is not None:
        scenario = scenario.alone(args.device)
    prepare(output, scenario)
    tap = None
    if args.capture is not None:
        from zentrale.simulation.tap import tap_of

        tap = tap_of(scenario, Path(args.capture), args.capture_of)
    try:
        return asyncio.run(_serve(output, scenario, args, tap))
    except KeyboardInterrupt:
        return 0  # the only way this command ends: it is no interruption


def _faults(**_: object) -> list[str]:
    from zentrale.simulation.faults import FAULTS

    return list(FAULTS)


def _list_faults(output: Output) -> None:
    from zentrale.simulation.faults import FAULTS

    rows = ([name, ", ".join(sorted(kinds)), words] for name, (kinds, words) in FAULTS.items())
    output.table(["fault", "of a", "what it does"], rows)


def _with_faults(scenario: Scenario, given: list[str]) -> Scenario:
    """Raises InputError."""
    from zentrale.simulation.faults import Wanted, check

    wanted = [Wanted.parse(text) for text in given]
    for one in wanted:
        check(scenario, one)

    def faulty(parts: tuple[Any, ...]) -> tuple[Any, ...]:
        more = {p.name: tuple(w.fault for w in wanted if w.device == p.name) for p in parts}
        return tuple(p.model_copy(update={"faults": (*p.faults, *more[p.name])}) if more[p.name] else p for p in parts)

    return scenario.model_copy(
        update={
            "cameras": faulty(scenario.cameras),
            "recorders": faulty(scenario.recorders),
            "switches": faulty(scenario.switches),
        }
    )


def _check_usage(args: argparse.Namespace) -> None:
    """Raises InputError where the options do not fit together."""
    from zentrale.errors import InputError

    others = {"--scenario": args.scenario, "--new": args.new, "--cameras": args.cameras, "--device": args.device}
    given = [name for name, value in others.items() if value is not None]
    if args.plan:
        given += [name for name, value in (("--fault", args.fault), ("--capture", args.capture)) if value]
    if args.capture_of and args.capture is None:
        raise InputError("--capture-of goes with --capture", "say into which file: --capture FILE")
    if args.plan and given:
        raise InputError(f"{given[0]} does not go with --plan", "the plan says what exists")
    if not args.plan and (args.into or args.site):
        raise InputError(f"{'--into' if args.into else '--site'} goes with --plan alone", "say --plan, or leave it out")


def _play_plan(args: argparse.Namespace, output: Output) -> int:
    import asyncio
    import os
    import sys
    from pathlib import Path

    from zentrale.cli.work import Work
    from zentrale.errors import InputError
    from zentrale.jobs.recorders.recorder_registry import speaking_onvif
    from zentrale.simulation import own_network
    from zentrale.simulation.from_plan import fresh_site, not_played
    from zentrale.site.folder import SiteFolder
    from zentrale.site.loopback import loopback_copy
    from zentrale.site.reading import read_plan

    work = Work(args, output)
    folder, plan = work.folder, work.plan
    link = None
    if args.into is not None:
        copy = SiteFolder(Path(args.into).resolve())
        ours = (copy.path / _MARK).exists()
        plan = read_plan(copy) if ours else loopback_copy(folder, plan, copy)
        (copy.path / _MARK).write_text(
            f"A copy of {folder.path} to practise on; `zentrale simulate --plan` plays it.\n"
        )
        folder = copy
    elif not all(zone.subnet.is_loopback for zone in plan.zones) and not args.list:
        own_network.enter(sys.argv[1:])
        if not os.environ.get(own_network.INSIDE):
            raise InputError(
                "no network of its own can be had here (Linux with `unshare` has one)",
                "play a copy on loopback: `zentrale simulate --plan --into DIR`",
            )
    legs, laptop = _legs(plan)
    served = speaking_onvif(plan)
    scenario = fresh_site(plan, legs.get, served)
    if args.list:
        _list(output, scenario)
    away = not_played(plan, scenario, served)
    if away:
        output.line("in the plan, and not played:")
        for text in away:
            output.line(f"  {text}")
    if args.list:
        return 0
    prepare(output, scenario)
    if os.environ.get(own_network.INSIDE) and args.into is None:
        link = _link(plan, scenario, laptop)
    try:
        if link is not None:
            output.line("open a shell on this site's network, in another terminal:")
            output.verbatim(f"  {link.shell}")
        output.line(f"then there, one after the other: cd {folder.path}, `zentrale vault init`, `zentrale discover`")
        return asyncio.run(_serve(output, scenario, args))
    except KeyboardInterrupt:
        return 0
    finally:
        if link is not None:
            link.stop()


_MARK = "practice.txt"


def _legs(plan: Plan) -> tuple[dict[str, tuple[str, str]], dict[str, IPv4Address]]:
    """MAC and IPv4 address of each device, chosen where the plan has none; and by zone a free address for the laptop."""
    from zentrale.planning.addresses import plan_addresses

    planned = [d for d in plan_addresses(plan).devices if not d.translated and d.kind in ("camera", "recorder")]
    names = {*(c.name for c in plan.cameras), *(r.name for r in plan.recorders)}
    legs = {
        d.name: (d.mac or f"02:5a:7e:{n >> 16 & 255:02x}:{n >> 8 & 255:02x}:{n & 255:02x}", str(d.address))
        for n, d in enumerate(planned, start=1)
        if d.name in names
    }
    taken = {d.address for d in plan_addresses(plan).devices} | {z.gateway for z in plan.zones}
    laptop: dict[str, IPv4Address] = {}
    for zone in plan.zones:
        if zone.subnet not in [plan.zone(name).subnet for name in laptop]:
            free = (zone.subnet.broadcast_address - n for n in range(1, zone.subnet.num_addresses - 1))
            address = next((a for a in free if a not in taken), None)
            if address is not None:
                laptop[zone.name] = address
    return legs, laptop


def _link(plan: Plan, scenario: Scenario, laptop: dict[str, IPv4Address]) -> OwnLink:
    """The devices on a link of their own. Raises InputError where the system does not give it."""
    from ipaddress import IPv4Address, IPv4Interface

    from zentrale.errors import InputError
    from zentrale.simulation.own_link import OwnLink, Seat

    def with_prefix(address: str) -> IPv4Interface:
        subnets = [z.subnet for z in plan.zones if IPv4Address(address) in z.subnet]
        return IPv4Interface(f"{address}/{subnets[0].prefixlen if subnets else 32}")

    link = OwnLink(
        [Seat(with_prefix(d.address), d.mac) for d in scenario.devices], [with_prefix(str(a)) for a in laptop.values()]
    )
    try:
        link.start()
    except OSError as error:
        raise InputError(
            f"no link for the devices can be made here: {error}",
            "play a copy on loopback: `zentrale simulate --plan --into DIR`",
        ) from None
    return link


def prepare(output: Output, scenario: Scenario) -> None:
    from zentrale.simulation import stand_in

    streams = stand_in.missing(scenario)
    if streams:
        with output.progress("encoding the cameras' pictures, only this once", len(streams)) as step:
            for done in stand_in.prepare(streams):
                step(done)


def _list(output: Output, scenario: Scenario) -> None:
    def faults(device: Camera | Recorder) -> str:
        names = []
        if getattr(device, "streams_resolution", None):
            names.append("streams another resolution than it claims")
        if getattr(device, "anonymous_viewing", False):
            names.append("plays without a password")
        return "; ".join(names)

    rows = [
        [
            d.name,
            d.maker,
            d.model,
            d.address,
            str(d.http_port),
            "fresh" if not d.accounts else "has a password",
            faults(d),
        ]
        for d in scenario.devices
    ]
    output.table(["device", "maker", "model", "address", ">ONVIF port", "state", "fault that stays"], rows)
    if scenario.switches:
        output.line()
        told = {"tern": "all tables", "bittern": "an older one's", "plover": "numbers of its own"}
        output.table(
            ["switch", "maker", "model", "address", ">SNMP port", "tables"],
            [[s.name, s.maker, s.model, s.address, str(s.snmp_port), told[s.manner]] for s in scenario.switches],
        )


async def _serve(output: Output, scenario: Scenario, args: argparse.Namespace, tap: Tap | None = None) -> int:
    import asyncio
    import signal
    import sys

    from zentrale.simulation.scenario import read_scenario

    loop = asyncio.get_running_loop()
    orders: asyncio.Queue[str | None] = asyncio.Queue()
    for number in (signal.SIGINT, signal.SIGTERM):
        loop.add_signal_handler(number, orders.put_nowait, None)
    if args.with_parent:
        loop.add_reader(sys.stdin.fileno(), _orders, sys.stdin.fileno(), bytearray(), orders)
    order = await _one_site(output, scenario, args.scenario, orders, tap)
    while order is not None:
        if order:
            scenario = read_scenario(order)
            prepare(output, scenario)
            order = await _one_site(output, scenario, order, orders, tap)
        else:
            output.line("no devices run")
            sys.stdout.flush()
            order = await orders.get()
    return 0


def _orders(stdin: int, begun: bytearray, orders: Queue[str | None]) -> None:
    """Takes in the lines of the parent; None is the end."""
    import asyncio
    import os

    data = os.read(stdin, 4096)
    begun += data
    *lines, rest = begun.split(b"\n")
    begun[:] = rest
    for line in lines:
        orders.put_nowait(line.decode().strip())
    if not data:
        asyncio.get_running_loop().remove_reader(stdin)
        orders.put_nowait(None)


async def _one_site(
    output: Output, scenario: Scenario, source: str | None, orders: Queue[str | None], tap: Tap | None = None
) -> str | None:
    """Run the devices of one scenario until the next order comes, and return that."""
    import sys
    import time

    from zentrale import quantities
    from zentrale.errors import InputError
    from zentrale.simulation.faults import Wanted
    from zentrale.simulation.stand_in import StandIn

    site = StandIn(scenario, source, tap)
    await site.start()
    started = time.monotonic()
    cameras = quantities.count(len(site.cameras), "camera")
    recorders = quantities.count(len(site.recorders), "recorder")
    apart = f"; {site.apart.playing} more on one address of a link of their own" if site.apart.playing else ""
    switches = f", {quantities.count(len(scenario.switches), 'switch')}" if scenario.switches else ""
    output.line(f"ready: {cameras}, {recorders}{switches} of {scenario.name}{apart}; Ctrl-C ends it")
    if site.apart.cameras and site.apart.why_not:
        output.hint(f"{len(site.apart.cameras)} devices on one address are not played: {site.apart.why_not}")
    sys.stdout.flush()
    order = await orders.get()
    while order and order[0] in "+-":
        try:
            await site.faults.set(Wanted.parse(order[1:]), on=order[0] == "+")
            output.line(order)
        except InputError as error:
            output.line(f"{error.what}; {error.advice}")
        sys.stdout.flush()
        order = await orders.get()
    for count in site.stored():
        output.hint(
            f"{count.recorder} channel {count.channel} {count.camera}: stored {quantities.size(count.size_bytes)}, "
            f"{count.pictures} pictures in {quantities.seconds(time.monotonic() - started)}"
        )
    await site.stop()
    if tap is not None and order is None:
        tap.close()
        output.hint(f"wrote {tap.path}: {tap.packets:,} packets")
    return order
