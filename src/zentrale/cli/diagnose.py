"""`zentrale diagnose`: up the way of a camera from the plug to the disk, to where it breaks."""

from __future__ import annotations

import argparse

from zentrale.cli import options

TYPE_CHECKING = False  # as typing has it, without the cost of importing typing
if TYPE_CHECKING:
    from pathlib import Path

    from zentrale.cli.work import Work
    from zentrale.jobs.diagnosing.diagnosis_run import Diagnoses

DESCRIPTION = """\
Goes up the way of a camera (or a recorder): plan, link, address, port, service, access, stream, loss, picture,
recording. The first layer that breaks is the cause; what speaks for it is told in numbers. Says who is to blame
(camera, network, recorder, plan, password, this machine), the likely causes, the next thing to do, and a line to
read out on the phone. Where several break alike, what they have in common is said first."""
EXAMPLE = "zentrale diagnose pump-west\n  zentrale diagnose --all\n  zentrale diagnose pump-west --bundle pump-west.zip"


def add_arguments(parser: argparse.ArgumentParser) -> None:
    named = parser.add_argument("names", metavar="CAMERA", nargs="*", help="cameras, recorders, groups or patterns")
    options.completes(named, options.complete_cameras)
    parser.add_argument("--all", action="store_true", help="all that have open faults, or are silent or elsewhere now")
    parser.add_argument(
        "--bundle", metavar="FILE", help="also pack the evidence, without any password, for somebody elsewhere (zip)"
    )
    parser.add_argument(
        "--adapter",
        metavar="NAME",
        action="append",
        default=[],
        help="network adapter to look from, by name or address",
    )
    parser.add_argument(
        "--wire", metavar="FILE", help="a capture made elsewhere at the same time: what of its streams is missing there"
    )
    options.add_details(parser)
    options.add_entering(parser)
    options.add_site(parser)
    options.add_passphrase(parser)
    options.add_json(parser)
    options.add_common(parser)


def run(args: argparse.Namespace) -> int:
    from pathlib import Path

    from zentrale.cli.diagnose_shown import document, show
    from zentrale.cli.work import Work
    from zentrale.errors import EXIT_AS_PLANNED, EXIT_FAULTS, InputError

    if bool(args.names) == args.all:
        raise InputError(
            "diagnose: which device?" if not args.names else "diagnose: names do not go with --all",
            "give the name of a camera or recorder, or --all for those with open faults or silent now",
        )
    work = Work(args)
    bundle = Path(args.bundle) if args.bundle else None
    if bundle is not None and bundle.exists():
        raise InputError(f"--bundle {bundle}: is there already", "give another name; nothing was changed")
    if bundle is not None and not bundle.parent.is_dir():
        raise InputError(f"--bundle {bundle}: no such folder: {bundle.parent}", "make it, or name another place")
    result = _diagnose(work)
    found = document(result)
    if args.json:
        work.output.document(found)
    if result.unreached is None:
        show(work.output, result)
        work.output.reports(result.reports, args.site)
    if bundle is not None:  # after what was found has been said
        _pack(work, bundle, result, found)
    if result.unreached is not None:
        raise result.unreached
    return EXIT_FAULTS if any(d.trouble for d in result.devices) else EXIT_AS_PLANNED


def _diagnose(work: Work) -> Diagnoses:
    import asyncio

    from zentrale.jobs.diagnosing.diagnosis_run import STEPS, Request, diagnose
    from zentrale.jobs.known.selection import rows_named

    args, output, folder, plan = work.args, work.output, work.folder, work.plan
    names = rows_named(plan, args.names) if args.names else ()
    caught = _caught(args.wire)
    work.vault_if_any()
    request = Request(names, tuple(args.adapter), folder.output / "pictures", caught)
    with work.logging(), output.progress("diagnosing", len(STEPS)) as step:
        return asyncio.run(diagnose(plan, work.keyring(), request, step))


def _caught(file: str | None) -> dict[str, tuple[int, int]]:
    """By the address of who sends: packets of its streams that are missing in the capture, and that are there."""
    from pathlib import Path

    if file is None:
        return {}
    from zentrale.jobs.wire.reading import read_file

    read = read_file(Path(file))
    found: dict[str, tuple[int, int]] = {}
    for stream, measured in read.streams:
        host = read.addresses.text(stream.way.source)
        lost, there = found.get(host, (0, 0))
        found[host] = lost + measured.packets_lost, there + measured.packets_received
    return found


def _pack(work: Work, path: Path, result: Diagnoses, found: dict[str, object]) -> None:
    from zentrale.jobs.diagnosing.bundle import pack

    pack(path, work.folder, work.vault.contents if work.vault is not None else None, result, found)
    work.output.hint(f"wrote {path}: no password is in it")
