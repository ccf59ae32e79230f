"""`zentrale firmware`: which versions are there, and the wanted ones pushed."""

from __future__ import annotations

import argparse

from zentrale.cli import maintained, options

DESCRIPTION = """\
Without --push: the firmware of each device as the last discovery saw it, beside the version that types.toml wants. With
--push: the file of the type goes to the devices that have another version, and only to those whose maker, model and the
file's SHA-256 are as planned; one camera of a switch at a time, never two that watch the same ground, recorders last. Each
is waited for, and its version is read back; the first that does not come back ends it."""
EXAMPLE = "zentrale firmware\n  zentrale firmware --push upper-gate-north --dry-run"


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("names", metavar="DEVICE", nargs="*", help="cameras and recorders (default: all)")
    parser.add_argument("--push", action="store_true", help="bring them to the wanted version")
    options.add_dry_run(parser)
    maintained.add_arguments(parser)


def run(args: argparse.Namespace) -> int:
    import asyncio

    from zentrale.errors import EXIT_AS_PLANNED
    from zentrale.jobs.discovery.discovering import last_devices
    from zentrale.jobs.known.planned import planned_devices
    from zentrale.jobs.maintaining.job import firmware_file, inventory

    work = maintained.begun(args)
    output, folder, plan = work.output, work.folder, work.plan
    with work.logging() as logbook:
        rows = [v for v in inventory(plan, last_devices(plan, logbook)) if not args.names or v.name in args.names]
    behind = [v for v in rows if v.state == "differs"]
    if not args.push or args.dry_run or not behind:
        if args.json:
            output.document(
                {"devices": [{"device": v.name, "model": v.model, "firmware": v.told or None, "wanted": v.wanted or None,
                              "state": v.state} for v in rows]}
            )  # fmt: skip
        else:
            styles = {"as wanted": "ok|", "differs": "warning|"}
            wanted = sum(bool(v.wanted) for v in rows)
            output.line(
                f"{len(behind)} of {wanted} devices with a wanted version have another one"
                + ("; nothing was sent" if args.push else ""),
                "bold yellow" if behind else "bold green",
            )
            shown = rows if output.details else behind
            cells = [
                [v.name, v.model, v.told or "-", v.wanted or "-", f"{styles.get(v.state, '')}{v.state}"] for v in shown
            ]
            if cells:
                output.table(["device", "model", "firmware", "wanted", "state"], cells)
            if not output.details:
                output.line("every device: `zentrale firmware --details`")
        output.next("`zentrale firmware --push`" if behind else "`zentrale discover` sees the versions anew")
        return EXIT_AS_PLANNED
    devices = [planned_devices(plan)[v.name] for v in behind]
    contents = {plan.kind(d).name: firmware_file(folder, plan, d) for d in devices}
    with maintained.maintainer(work, "firmware") as maintainer:
        turned = asyncio.run(maintainer.push(devices, contents))
    return maintained.show_turned(args, output, turned, "all have the wanted version", "firmware --push")
