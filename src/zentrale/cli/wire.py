"""`zentrale wire`: what is in a capture file."""

from __future__ import annotations

import argparse

from zentrale.cli import options, wire_caught
from zentrale.cli.wire_here import journal, plan_here

TYPE_CHECKING = False  # as typing has it, without the cost of importing typing
if TYPE_CHECKING:
    from zentrale.cli.work import Work
    from zentrale.jobs.wire.telling import WireTold

DESCRIPTION = """\
Reads capture files (pcap, pcapng) as capture tools write them: who talked to whom, in words of the plan where there is one;
the stream addresses that were asked for, with their answers; each RTP stream with loss, order, jitter and frames, by the
meter of live streams; what others could have read. No password in them is ever shown. Nothing is sent to anybody."""
EXAMPLE = "zentrale wire read site.pcapng\n  zentrale wire addresses site.pcapng --write"


def add_arguments(parser: argparse.ArgumentParser) -> None:
    actions = parser.add_subparsers(dest="action", metavar="ACTION", required=True)
    read = actions.add_parser("read", help="who talked to whom, streams and addresses, and what is wrong with that")
    read.add_argument("file", metavar="FILE", help="a capture, pcap or pcapng")
    options.add_details(read)
    addresses = actions.add_parser(
        "addresses", help="the stream addresses that were asked for: device, main or sub, works or not"
    )
    addresses.add_argument("file", metavar="FILE", help="a capture, pcap or pcapng")
    addresses.add_argument(
        "--write", action="store_true",
        help="enter main_path and sub_path into the plan's types that speak no ONVIF, after showing what changes",
    )  # fmt: skip
    addresses.add_argument("--yes", action="store_true", help="with --write: do not ask")
    capture = actions.add_parser("capture", help="catch packets off an adapter into a file that only you may read")
    _add_catching(capture, "60s")
    capture.add_argument("--to", metavar="FILE", help="the file, pcapng (default: capture-DATE-TIME.pcapng here)")
    compare = actions.add_parser("compare", help="two captures of one time: lost before, between, after; delay")
    compare.add_argument("first", metavar="A", help="the capture nearer to the cameras")
    compare.add_argument(
        "second", metavar="B", help="the other one; or live: caught on this machine now, before A is read"
    )
    _add_catching(compare, "20s")
    compare.add_argument("--figure", metavar="FILE", help="also draw it by the second (PNG)")
    options.add_details(compare)
    for action in (read, addresses, capture, compare):
        options.add_site(action)
        options.add_json(action)
        options.add_common(action)


def _add_catching(parser: argparse.ArgumentParser, seconds: str) -> None:
    parser.add_argument("--adapter", metavar="NAME", help="network adapter (default: the likeliest)")
    parser.add_argument(
        "--for", dest="seconds", metavar="TIME", default=seconds, help=f"as 30s, 5m (default: {seconds})"
    )
    parser.add_argument("--only", metavar="WHICH", action="append", default=[], help="only packets of these cameras")


def run(args: argparse.Namespace) -> int:
    from zentrale.cli.work import Work

    does = {"read": _read, "addresses": _addresses, "capture": wire_caught.capture, "compare": wire_caught.compare}
    return does[args.action](Work(args))


def _told(work: Work) -> WireTold:
    from pathlib import Path

    from zentrale.jobs.wire.reading import read_file
    from zentrale.jobs.wire.telling import tell
    from zentrale.quantities import size

    path, plan = Path(work.args.file), plan_here(work)
    if path.is_file():
        work.output.hint(f"reading {path.name}, {size(path.stat().st_size)}")
    told = tell(read_file(path), plan)
    if plan is not None:
        journal(work, {"file": told.read.file, "packets": told.read.packets})
    return told


def _read(work: Work) -> int:
    from zentrale.cli.output import finding_document
    from zentrale.cli.wire_shown import show_read
    from zentrale.errors import EXIT_AS_PLANNED, EXIT_FAULTS
    from zentrale.findings import count_faults

    told = _told(work)
    if work.args.json:
        work.output.document({**told.document(), "findings": [finding_document(f) for f in told.findings]})
    show_read(work.output, told)
    return EXIT_FAULTS if count_faults(told.findings) or told.read.ended else EXIT_AS_PLANNED


def _addresses(work: Work) -> int:
    from zentrale.cli.wire_shown import show_addresses, show_entries, show_works
    from zentrale.errors import EXIT_AS_PLANNED, EXIT_FAULTS, InputError
    from zentrale.jobs.wire.entering import changes, entries, write

    args, output = work.args, work.output
    if args.yes and not args.write:
        raise InputError("wire addresses: --yes goes with --write", "say --write, or leave it out")
    plan = plan_here(work)
    if args.write and plan is None:
        raise InputError("wire addresses --write: no site is here", "run it in a site folder, or name one with --site")
    told = _told(work)
    some = entries(plan, told.addresses) if plan is not None else []
    if args.json:
        output.document({
            "file": told.read.file, "addresses": [a.document() for a in told.addresses],
            "entries": [
                {"type": e.type, "key": e.key, "path": e.path, "before": e.before or None, "why_not": e.why_not or None}
                for e in some
            ],
        })  # fmt: skip
    show_works(output, told)
    show_addresses(output, told)
    show_entries(output, some, asked=args.write)
    todo = changes(some)
    if args.write and todo and (args.yes or output.ask(f"Enter {len(todo)} of them into {work.folder.types_file}?")):
        write(work.folder, some)
        output.hint(f"wrote {work.folder.types_file}")
    return EXIT_FAULTS if told.read.ended else EXIT_AS_PLANNED
