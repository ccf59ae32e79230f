"""`zentrale wire capture` and `compare`: packets caught here, and two captures side by side."""

from __future__ import annotations

from zentrale.cli.wire_here import journal, plan_here

TYPE_CHECKING = False  # as typing has it, without the cost of importing typing
if TYPE_CHECKING:
    from pathlib import Path

    from zentrale.cli.work import Work
    from zentrale.field.adapters import Adapter
    from zentrale.jobs.wire.capturing import Catch
    from zentrale.jobs.wire.comparing import Comparison

_UNITS = {"s": 1, "m": 60, "h": 3600}
_MOST_S = 24 * 3600.0


def capture(work: Work) -> int:
    from datetime import datetime
    from pathlib import Path

    from zentrale.errors import EXIT_AS_PLANNED, EXIT_NOTHING_REACHED, InputError

    args, output = work.args, work.output
    name = args.to or f"capture-{datetime.now().astimezone():%Y%m%d-%H%M%S}.pcapng"
    file = Path(name)
    if file.exists() or not file.parent.is_dir():
        wrong = "is there already" if file.exists() else f"no such folder: {file.parent}"
        raise InputError(f"--to {file}: {wrong}", "give another name; nothing was changed")
    caught = _catch(work, file)
    if args.json:
        output.document({
            "files": [str(f) for f in caught.files], "packets": caught.packets, "bytes": caught.size_bytes,
            "dropped": caught.dropped, "own": caught.own, "seconds": round(caught.seconds, 1), "given_way": caught.given_way,
        })  # fmt: skip
    _show_caught(work, caught)
    return EXIT_AS_PLANNED if caught.packets else EXIT_NOTHING_REACHED


def _catch(work: Work, file: Path) -> Catch:
    """Raises InputError where the system does not let it; with the line to type for the system's own tool."""
    from zentrale.errors import InputError
    from zentrale.jobs.known.selection import select
    from zentrale.jobs.wire.capturing import capture as catch

    args, plan = work.args, plan_here(work)
    seconds = _seconds(args.seconds)
    if args.only and plan is None:
        raise InputError("--only: no site is here whose cameras could be meant", "name one with --site")
    hosts = [c.host for c in select(plan, args.only) if c.host] if plan is not None and args.only else []
    adapter = _adapter(args.adapter)
    work.output.hint(f"catching on {adapter} for {seconds:g} s; Ctrl-C ends it, and keeps what was caught")
    try:
        caught = catch(adapter.name, seconds, file, hosts)
    except PermissionError:
        which = f" '{' or '.join(f'host {h}' for h in hosts)}'" if hosts else ""
        raise InputError(
            f"{adapter.name}: this program may not catch packets here (it needs CAP_NET_RAW)",
            f"catch with the system's own tool, then read that:\n  sudo tcpdump -i {adapter.name} -w {file}{which}",
        ) from None
    except OSError as error:
        raise InputError(
            f"{adapter.name}: cannot be listened to: {error.strerror or error}", "name another adapter"
        ) from None
    if plan is not None:
        journal(work, {"file": str(file), "packets": caught.packets, "adapter": str(adapter)})
    return caught


def _adapter(given: str | None) -> Adapter:
    from zentrale.field.adapters import choose, list_adapters

    return choose([given] if given else [], [], list_adapters()).adapters[0]


def _seconds(text: str) -> float:
    """Raises InputError."""
    from zentrale.errors import InputError

    number, unit = (text[:-1], text[-1]) if text[-1:] in _UNITS else (text, "s")
    try:
        seconds = float(number) * _UNITS[unit]
    except ValueError:
        seconds = 0.0
    if not 1 <= seconds <= _MOST_S:
        raise InputError(f"--for {text}: not understood", "expected 1s to 24h, as 30s or 5m")
    return seconds


def _show_caught(work: Work, caught: Catch, *, kept: bool = True) -> None:
    from zentrale.quantities import size

    output = work.output
    dropped = f"; {caught.dropped} more were dropped by this machine" if caught.dropped else ""
    style = "bold yellow" if caught.dropped or not caught.packets else "bold green"
    output.line(
        f"{'CAUGHT' if caught.packets else 'NOTHING'}  {caught.packets:,} packets, {size(caught.size_bytes)} in "
        f"{caught.seconds:.0f} s{dropped}", style,
    )  # fmt: skip
    if caught.own:
        output.line(f"{caught.own:,} of them are this machine's own (marked outbound)")
    if caught.given_way:
        output.line(f"{caught.given_way} older files gave way to newer ones")
    if not kept:
        return
    for file in caught.files:
        output.line(f"  {file}")
    output.next(f"`zentrale wire read {caught.files[-1]}`")


def compare(work: Work) -> int:
    import tempfile
    from pathlib import Path

    from zentrale.errors import EXIT_AS_PLANNED, EXIT_FAULTS, InputError
    from zentrale.jobs.wire.comparing import compare as lay_beside
    from zentrale.site.folder import write_atomically

    args, output = work.args, work.output
    if args.first == "live":
        raise InputError("wire compare: A is a capture file, not live", "live goes second: compare FILE live")
    if not Path(args.first).is_file():
        raise InputError(f"{args.first}: there is no such file", "expected a capture, pcap or pcapng")
    if args.second == "live":
        with tempfile.TemporaryDirectory() as folder:
            here = Path(folder) / "live.pcapng"
            _show_caught(work, _catch(work, here), kept=False)
            found = lay_beside(Path(args.first), here)
    else:
        found = lay_beside(Path(args.first), Path(args.second))
    if plan_here(work) is not None:
        journal(work, {"files": list(found.files), "streams": len(found.streams)})
    if args.json:
        from zentrale.cli.output import finding_document

        output.document({**found.document(), "findings": [finding_document(f) for f in found.findings]})
    _show_compared(work, found)
    if args.figure:
        from zentrale.output.wire_figure import compare_figure

        rows = [(f"{s.source} to {s.destination}", s.by_second, s.delay_ms.tolist()) for s in found.streams]
        write_atomically(Path(args.figure), compare_figure(" against ".join(found.files), rows))
        output.hint(f"wrote {args.figure}")
    return EXIT_FAULTS if found.findings else EXIT_AS_PLANNED


def _show_compared(work: Work, found: Comparison) -> None:
    import numpy as np

    from zentrale.quantities import count

    output = work.output
    said = f"{count(len(found.streams), 'stream')} and {found.segments:,} TCP segments are at both places"
    output.result(found.findings, "nothing was lost between the two", said)
    if found.swapped:
        output.line("the second file seems to be nearer to the cameras: give them the other way round", "bold yellow")
    for remark in found.remarks:
        output.line(f"not read: {remark}", "yellow")
    rows = []
    for s in sorted(found.streams, key=lambda s: -s.lost_between):
        middle, high = (float(np.percentile(s.delay_ms, p)) for p in (50, 95))
        after = "?" if s.lost_after is None else str(s.lost_after)
        rows.append([
            s.source, s.destination, str(s.packets), str(s.lost_before),
            f"{'fault' if s.lost_between else 'ok'}|{s.lost_between}", after, f"{middle:.2f} ms", f"{high:.2f} ms",
        ])  # fmt: skip
    output.heading("Streams at both places")
    output.table(["from", "to", ">both", ">lost before", ">between", ">after", ">delay", "?>95 % within"], rows)
    if found.segments_lost:
        output.line(f"{found.segments_lost} TCP segments were caught at the first place alone")
    output.line(f"clocks: {found.aligned}; the second is {1000 * found.offset_s:+.1f} ms against the first")
