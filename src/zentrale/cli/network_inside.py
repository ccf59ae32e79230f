"""Commands run inside the rehearsed network: stand-in devices at their ports, a laptop at a port of one zone."""

from __future__ import annotations

import argparse

from zentrale.errors import LabError

TYPE_CHECKING = False  # as typing has it, without the cost of importing typing
if TYPE_CHECKING:
    from pathlib import Path

    from zentrale.cli.output import Output
    from zentrale.field.lab.namespaces import Namespace
    from zentrale.jobs.network.rehearsal.job import Rehearser
    from zentrale.jobs.network.rehearsal.stage import Stage
    from zentrale.planning.network import NetworkPlan
    from zentrale.simulation.scenario import Scenario
    from zentrale.site.folder import SiteFolder

_READY_WITHIN_S = 60.0
_COPIED = ("site.toml", "cameras.csv", "types.toml", "runs.csv", "outline.geojson")


def run(
    args: argparse.Namespace, output: Output, folder: SiteFolder, net: NetworkPlan, rehearser: Rehearser, room: Path
) -> int:
    """Faults that a command finds do not end it; one that fails does. The exit code is the worst of theirs."""
    import os
    import secrets
    import shlex
    import subprocess
    import sys

    from zentrale.cli.asking import PASSPHRASE_VARIABLE
    from zentrale.errors import EXIT_AS_PLANNED, EXIT_FAULTS, InputError
    from zentrale.field.lab.namespaces import INSIDE
    from zentrale.jobs.network.rehearsal.stage import LAPTOP

    zone = args.zone or _usual_zone(net)
    if zone not in {z.name for z in net.plan.zones}:
        raise InputError(
            f"--from {zone}: no zone of the plan", f"expected one of: {', '.join(z.name for z in net.plan.zones)}"
        )
    if any(z.subnet.is_loopback for z in net.plan.zones):
        raise InputError(
            "the plan's addresses are loopback ones, which devices do not have on cables",
            "rehearse commands on a site with real addresses; `zentrale demo network` shows it",
        )
    words = [shlex.split(command) for command in args.run]
    passphrase = secrets.token_urlsafe(12)
    site = _copy(folder, room, passphrase)
    with rehearser.standing(zone) as stage:
        playing = _play(output, stage, _scenario(net, stage))
        output.hint(f"{playing} devices fresh from the box stand at their ports; the laptop stands in {zone}")
        worst = EXIT_AS_PLANNED
        environment = {**os.environ, PASSPHRASE_VARIABLE: passphrase}
        del environment[INSIDE]
        for command in words:
            output.line(f"$ zentrale {shlex.join(command)}", "bold")
            sys.stdout.flush()
            with stage.spaces[LAPTOP].inside():
                done = subprocess.run(
                    [sys.executable, "-m", "zentrale", *command], cwd=site, env=environment, check=False
                )
            worst = max(worst, done.returncode)
            output.line()
            if done.returncode not in (EXIT_AS_PLANNED, EXIT_FAULTS):
                output.line(f"ended with {done.returncode}; what was to follow was not run")
                break
    return worst


def load(args: argparse.Namespace, output: Output, net: NetworkPlan, rehearser: Rehearser) -> int:
    """All planned streams at once."""
    from dataclasses import asdict

    from zentrale import quantities
    from zentrale.cli.output import finding_document
    from zentrale.errors import EXIT_AS_PLANNED, EXIT_FAULTS
    from zentrale.findings import count_faults
    from zentrale.jobs.network.rehearsal.loading import Loading, divisor_of

    divisor = divisor_of(net.plan)
    with rehearser.standing() as stage:
        scenario = _scenario(net, stage, divisor)
        _play(output, stage, scenario)
        cameras = {c.name: c for c in scenario.cameras}

        def address(camera: str, stream: str) -> str:
            c = cameras[net.plan.device_of(net.plan.camera(camera)).name]
            return f"rtsp://{c.address}:{c.rtsp_port}{c.main_path if stream == 'main' else c.sub_path}"

        result = Loading(stage, divisor, address, output.hint).run()
    rehearser.judge_load(result)
    findings = rehearser.findings
    if args.json:
        links = [{**asdict(x), "as_planned": x.as_planned} for x in result.links]
        document = {"divided_by": divisor, "links": links, "streams": [asdict(p) for p in result.played]}
        output.document(
            {**document, "sent_as_datagrams": result.sent, "findings": [finding_document(f) for f in findings]}
        )
    output.verdict(
        findings, "every cable carries what was planned", f"{len(result.played) + result.sent} streams at once"
    )
    if findings:
        output.line()
        output.findings(findings)
    output.heading(f"Cables, as on site: streams and links ran at 1/{divisor:g} of their rates")
    rows = [
        [
            x.link, quantities.bitrate(x.rate_bps), quantities.bitrate(x.planned_bps),
            quantities.bitrate(x.seen_bps) if x.as_planned else f"fault|{quantities.bitrate(x.seen_bps)}",
            quantities.share(x.seen_bps, x.rate_bps),
        ]
        for x in result.links
    ]  # fmt: skip
    output.table(["cable", ">line rate", ">planned", ">by packets", ">of line rate"], rows)
    lost = sum(p.lost for p in result.played)
    if lost and not any(x.full for x in result.links):
        output.line(
            f"{lost} packets were lost though no link is full: in the queues of this machine's switches, not the site's"
        )
    return EXIT_FAULTS if count_faults(findings) else EXIT_AS_PLANNED


def _usual_zone(net: NetworkPlan) -> str:
    """Where a laptop sees the cameras: the zone of a recorder's camera side."""
    return net.plan.recorders[0].zone if net.plan.recorders else net.plan.cameras[0].zone


def _copy(folder: SiteFolder, room: Path, passphrase: str) -> Path:
    """A copy of the plan, with a vault of its own: what is written there goes with the rehearsal."""
    import shutil

    from zentrale.logbook.vault import Vault
    from zentrale.logbook.vault_contents import Candidate
    from zentrale.simulation.from_plan import BY_HAND

    site = room / "site"
    site.mkdir()
    for name in _COPIED:
        if (folder.path / name).exists():
            shutil.copy(folder.path / name, site / name)
    vault = Vault.create(site / folder.vault_file.name, passphrase)
    vault.add_candidate(Candidate(BY_HAND.credentials(), "set by hand"))
    return site


def _scenario(net: NetworkPlan, stage: Stage, divided_by: float = 0) -> Scenario:
    from zentrale.jobs.recorders.recorder_registry import speaking_onvif
    from zentrale.simulation.from_plan import fresh_site

    def leg(name: str) -> tuple[str, str] | None:
        station = stage.stations.get(name)
        return (station.legs[0].mac, station.legs[0].address) if station else None

    return fresh_site(net.plan, leg, speaking_onvif(net.plan), divided_by)


def _play(output: Output, stage: Stage, scenario: Scenario) -> int:
    """Each device in a process of its own, in its own namespace: forked, so that what they have in common is there once. Raises
    LabError.
    """
    import os
    import select
    import time

    from zentrale.cli.simulate import prepare
    from zentrale.simulation import stand_in  # noqa: F401 - loaded once, before the processes part

    prepare(output, scenario)
    waiting = {}
    for device in scenario.devices:
        reading, writing = os.pipe()
        if os.fork() == 0:
            os.close(reading)
            os._exit(_device(scenario.alone(device.name), stage.spaces[device.name], writing))
        os.close(writing)
        waiting[reading] = device.name
    count, end = len(waiting), time.monotonic() + _READY_WITHIN_S
    while waiting and time.monotonic() < end:
        for reading in select.select(list(waiting), [], [], 1.0)[0]:
            told = os.read(reading, 400).decode(errors="replace")
            os.close(reading)
            name = waiting.pop(reading)
            if told != "ready":
                raise LabError(f"the stand-in of {name} did not start: {told or 'it ended'}")
    if waiting:
        raise LabError(f"the stand-in of {', '.join(waiting.values())} did not start in time")
    return count


def _device(scenario: Scenario, space: Namespace, ready: int) -> int:
    """In a process of its own: plays one device until the rehearsal ends."""
    import asyncio
    import os

    from zentrale.errors import ZentraleError
    from zentrale.simulation.stand_in import StandIn

    async def play() -> None:
        await StandIn(scenario).start()
        os.write(ready, b"ready")
        os.close(ready)
        await asyncio.Event().wait()

    with space.inside():
        try:
            asyncio.run(play())
        except (OSError, ZentraleError) as error:
            os.write(ready, str(error).encode())
            return 1
    return 0
