"""`zentrale simulate`: run the stand-in site until Ctrl-C."""

from __future__ import annotations

import argparse

from zentrale.cli import options

TYPE_CHECKING = False  # as typing has it, without the cost of importing typing
if TYPE_CHECKING:
    from asyncio import Queue

    from zentrale.cli.output import Output
    from zentrale.simulation.scenario import Camera, Recorder, Scenario

DESCRIPTION = """\
Runs the stand-in site until Ctrl-C: cameras and a recorder that answer WS-Discovery, ONVIF and RTSP on loopback
addresses of their own. A scenario file says what exists and which faults are on. The first start encodes the
pictures, which takes some seconds; they are kept in the user's cache."""
EXAMPLE = "zentrale simulate"
WITH_PARENT = (
    "also stop when stdin is closed; a line with a scenario file puts its devices, in their first state, in the place "
    "of those that run, an empty line takes them away"
)


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("--scenario", metavar="FILE", help="scenario in TOML (default: Brackwater Locks)")
    parser.add_argument("--new", metavar="FILE", help="begin a scenario of one's own in FILE, and end")
    parser.add_argument(
        "--cameras", metavar="N", type=int, help="so many cameras alike in place of a scenario, for load"
    )
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
    if args.new is not None:
        new_scenario(Path(args.new))
        output.line(f"wrote {args.new}")
        output.next(f"edit it (`zentrale help scenario`), then `zentrale simulate --scenario {args.new}`")
        return 0
    scenario = read_scenario(args.scenario) if args.cameras is None else many_cameras(args.cameras)
    if args.list:
        _list(output, scenario)
        return 0
    if args.device is not None:
        scenario = scenario.alone(args.device)
    prepare(output, scenario)
    try:
        return asyncio.run(_serve(output, scenario, args))
    except KeyboardInterrupt:
        return 0  # the only way this command ends: it is no interruption


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


async def _serve(output: Output, scenario: Scenario, args: argparse.Namespace) -> int:
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
    order = await _one_site(output, scenario, args.scenario, orders)
    while order is not None:
        if order:
            scenario = read_scenario(order)
            prepare(output, scenario)
            order = await _one_site(output, scenario, order, orders)
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


async def _one_site(output: Output, scenario: Scenario, source: str | None, orders: Queue[str | None]) -> str | None:
    """Run the devices of one scenario until the next order comes, and return that."""
    import sys
    import time

    from zentrale import quantities
    from zentrale.simulation.stand_in import StandIn

    site = StandIn(scenario, source)
    await site.start()
    started = time.monotonic()
    cameras = quantities.count(len(site.cameras), "camera")
    recorders = quantities.count(len(site.recorders), "recorder")
    apart = f"; {site.apart.playing} more on one address of a link of their own" if site.apart.playing else ""
    output.line(f"ready: {cameras}, {recorders} of {scenario.name}{apart}; Ctrl-C ends it")
    if site.apart.cameras and site.apart.why_not:
        output.hint(f"{len(site.apart.cameras)} devices on one address are not played: {site.apart.why_not}")
    sys.stdout.flush()
    order = await orders.get()
    for count in site.stored():
        output.hint(
            f"{count.recorder} channel {count.channel} {count.camera}: stored {quantities.size(count.size_bytes)}, "
            f"{count.pictures} pictures in {quantities.seconds(time.monotonic() - started)}"
        )
    await site.stop()
    return order
