"""What a reading of a capture shows: the verdict and what is wrong, the streams, the addresses, who talked to whom."""

from __future__ import annotations

TYPE_CHECKING = False  # as typing has it, without the cost of importing typing
if TYPE_CHECKING:
    from collections.abc import Sequence

    from zentrale.cli.output import Output
    from zentrale.jobs.wire.entering import Entry
    from zentrale.jobs.wire.telling import AddressRow, WireTold

_FEW = 8  # rows without --details


def show_read(output: Output, told: WireTold) -> None:
    from zentrale.quantities import count, seconds

    read = told.read
    said = (
        f"{read.packets:,} packets in {seconds(read.seconds)}: {count(len(told.streams), 'stream')}, "
        f"{count(len(told.addresses), 'stream address')}"
    )
    output.result(told.findings, "nothing in it is wrong by itself", said)
    if read.snapped:
        output.line(f"{read.snapped:,} packets were not caught whole: sizes are by their headers")
    for what, number in read.left_out.items():
        output.line(f"left out, for want of room: {number:,} {what}", "yellow")
    for link, number in read.links.items():
        output.line(f"not read: {number:,} packets of link type {link}")
    _streams(output, told)
    show_addresses(output, told)
    _talk(output, told)
    output.next(
        f"`zentrale wire addresses {read.file}`" if told.addresses else "`zentrale explain CODE` tells each code"
    )


def _streams(output: Output, told: WireTold) -> None:
    from zentrale import quantities

    if not told.streams:
        return
    rows = []
    worst = sorted(told.streams, key=lambda row: -row.measured.packets_lost)
    for row in told.streams if output.details else worst[:_FEW]:
        m = row.measured
        sent = m.packets_lost + m.packets_received
        jitter = f"{m.jitter_ms:.1f} ms" if m.jitter_ms is not None and row.stream.told.media else "-"
        rows.append([
            row.source, row.destination, row.kind, m.codec or "?", quantities.resolution(*row.size) if row.size else "?",
            f"{m.fps:.1f}" if m.fps else "?", f"{'fault' if m.packets_lost else 'ok'}|{m.packets_lost}/{sent}",
            str(m.packets_reordered), jitter, str(m.frames),
        ])  # fmt: skip
    output.heading(f"Streams{'' if output.details or len(told.streams) <= _FEW else ', those that lack most'}")
    output.table(
        ["from", "to", "?stream", "codec", ">size", ">fps", ">lost", "?>disordered", "?>jitter", "?>frames"], rows
    )


def show_works(output: Output, told: WireTold) -> None:
    """The verdict on the addresses alone."""
    from zentrale.quantities import count

    number, within = len(told.addresses), f"{told.read.packets:,} packets"
    if told.read.ended:
        within += f", and the file ends early: {told.read.ended}"
    if not number:
        output.line(f"NOT JUDGED  nobody asks for a stream in {within}", "bold yellow")
        return
    states = [a.works for a in told.addresses]
    said = [f"{states.count(state)} {word}" for state, word in ((True, "described"), (False, "refused"),
                                                                (None, "without an answer")) if state in states]  # fmt: skip
    word, style = ("OK", "bold green") if all(states) and not told.read.ended else ("WARNINGS", "bold yellow")
    asked = f"{count(number, 'stream address')} asked for in {within}"
    output.line(f"{word}  {asked}: {', '.join(said)}", style)


def show_addresses(output: Output, told: WireTold) -> None:
    if not told.addresses:
        return
    output.heading("Stream addresses that were asked for")
    output.table(
        ["device", "address", "stream", "asked by", "answer"],
        (
            [a.device, a.asked.url, a.stream, a.by, _answer(a)]
            for a in told.addresses
        ),
    )  # fmt: skip


def _answer(row: AddressRow) -> str:
    if row.works is None:
        return "warning|no answer"
    return "ok|works" if row.works else f"fault|refused ({row.asked.answer})"


def show_entries(output: Output, some: Sequence[Entry], *, asked: bool) -> None:
    rows = [
        [e.type, e.key, e.before or "-", e.path, e.why_not or ("as it is" if e.path == e.before else "to be entered")]
        for e in some
    ]
    if rows:
        output.heading("In types.toml")
        output.table(["type", "key", "now", "seen", ""], rows)
    if any(not e.why_not and e.path != e.before for e in some) and not asked:
        output.next("`--write` enters them")


def _talk(output: Output, told: WireTold) -> None:
    from zentrale.quantities import size

    rows = [
        [t.source, t.destination, f"{t.packets:,}", size(t.size_bytes), t.what]
        for t in (told.talk if output.details else told.talk[:_FEW])
    ]
    if rows:
        more = "" if output.details or len(told.talk) <= _FEW else f", {_FEW} of {len(told.talk)} pairs"
        output.heading(f"Who talked to whom{more}")
        output.table(["from", "to", ">packets", ">bytes", "what"], rows)
