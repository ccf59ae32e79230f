"""What a verification shows to the person: a table of the streams, or one stream in detail, access, channels, findings."""

from __future__ import annotations

TYPE_CHECKING = False  # as typing has it, without the cost of importing typing
if TYPE_CHECKING:
    from zentrale.cli.output import Output
    from zentrale.jobs.verifying import Verification
    from zentrale.protocols.streams.meter import StreamMeasurement

_FEW = 8  # names in a line


def show(output: Output, result: Verification) -> None:
    from zentrale import quantities
    from zentrale.cli.output import counted
    from zentrale.findings import Verdict

    unknown = any(s.verdict is Verdict.NOT_JUDGED for s in result.streams)
    if result.streams and not result.streams[0].camera:
        good = "nothing is wrong with it, and not all was judged" if unknown else "the stream plays without a fault"
        output.result(result.findings, good, unknown=unknown)
        _show_unjudged(output, result)
        _show_address(output, result)
        _show_access(output, result)
        output.next("compare it with what was ordered; a whole site: `zentrale new FOLDER`")
        return
    verdicts = [s.verdict for s in result.streams]
    said = f"of {quantities.count(len(verdicts), 'stream')} {counted({verdict: verdicts.count(verdict) for verdict in Verdict})}"
    good = "nothing is otherwise than planned, and not all was judged" if unknown else "no stranger got in"
    if not verdicts and result.channels:  # cameras at recorders' own ports alone
        good, said = (
            "nothing is otherwise than planned on its channel",
            "only the recorder reaches it: its channel was looked at",
        )
    output.result(result.findings, good, said, unknown=unknown, common=[c.says for c in result.common])
    _show_unjudged(output, result)
    if output.details:
        _show_streams(output, result)
    elif verdicts:
        output.line()
        output.line(
            f"measured from {result.vantage} for {result.duration_s:g} s; every stream with its figures: --details"
        )
    _show_access(output, result)
    if result.channels:
        show_channels(output, result)
    if any(f.severity.value != "note" for f in result.findings):
        output.next(
            "see to what is named (`zentrale diagnose --all`: whose fault it is, and what to do), then `zentrale verify` again"
        )
    else:
        output.next("`zentrale handover`")


def _show_unjudged(output: Output, result: Verification) -> None:
    """What was not judged, by what it is and why."""
    from zentrale.quantities import count, listed

    found: dict[str, list[str]] = {}
    for stream in result.streams:
        reasons: dict[str, list[str]] = {}
        for aspect, why in stream.not_judged.items():
            reasons.setdefault(why, []).append(aspect)
        for why, aspects in reasons.items():
            found.setdefault(f"{', '.join(aspects)} ({why})", []).append(f"{stream.camera} {stream.stream}".strip())
    if found:
        output.line()
    for what, where in found.items():
        names = listed(where, _FEW)
        beside = f": {count(len(where), 'stream')} ({names})" if names else ""
        output.line(f"not judged: {what}{beside}")


def show_channels(output: Output, result: Verification) -> None:
    from zentrale.quantities import count, listed, moment

    if output.details:
        output.heading("Recording")
    good = [c for c in result.channels if c.records]
    unknown = sum(c.records is None for c in result.channels)
    rows = [c for c in result.channels if not c.records or output.details]
    if rows:
        output.table(
            ["recorder", ">channel", "camera", "state", "stored until"],
            (
                [c.recorder, str(c.channel), c.camera, f"{_style(c.records)}|{c.state}",
                 moment(c.stored_until) if c.stored_until else "-"]
                for c in rows
            ),
        )  # fmt: skip
    last = min((c.stored_until for c in good if c.stored_until), default=None)
    text = f", each up to {moment(last)} or later" if last else ""
    left = f"; {unknown} not known, since the recorder was not asked or did not answer" if unknown else ""
    output.line(f"{len(good)} of {count(len(result.channels), 'planned channel')} record{text}{left}")
    played = [p for p in result.played if not p.unplayed]
    if played:
        codes = ("REC-12", "REC-21", "REC-22", "REC-23", "REC-24")
        wrong = {str(f.ref) for f in result.findings if f.code in codes}
        well = [p for p in played if str(p.ref) not in wrong]
        ages = [(p.now - p.newest).total_seconds() for p in well if p.newest]
        old = f", the latest picture at most {max(0.0, *ages):.0f} s old" if ages else ""
        output.line(f"{len(well)} of {count(len(played), 'channel')} played back as streamed{old}")
    for why in dict.fromkeys(p.unplayed for p in result.played if p.unplayed):
        where = [p.camera for p in result.played if p.unplayed == why]
        output.line(f"not judged: what is stored ({why}): {count(len(where), 'channel')} ({listed(where, _FEW)})")


def _style(records: bool | None) -> str:
    return "warning" if records is None else "ok" if records else "fault"


def _show_streams(output: Output, result: Verification) -> None:
    from zentrale import quantities
    from zentrale.findings import Verdict
    from zentrale.findings.verdict import in_words

    rows = []
    for s in result.streams:
        severity = s.severity.value if s.severity else None
        style = severity or ("ok" if s.verdict is Verdict.AS_PLANNED else "warning")
        verdict = f"{style}|{in_words(s.verdict, s.severity)}"
        name = s.camera or s.url
        m = s.measured
        if m is None:
            rows.append([name, s.stream, verdict, f"{'does not play' if s.findings else 'not asked for'}: {s.error}"])
            continue
        sent = m.packets_received + m.packets_lost
        rows.append([
            name, s.stream, verdict, m.codec or "?",
            quantities.resolution(m.width_px, m.height_px) if m.width_px and m.height_px else "?",
            f"{m.fps:.1f}" if m.fps else "?",
            quantities.bitrate(m.bitrate_bps) if m.bitrate_bps else "?",
            f"{m.keyframe_interval_s:.1f} s" if m.keyframe_interval_s else "?",
            f"{m.packets_lost}/{sent}",
            f"{m.jitter_ms:.1f} ms" if m.jitter_ms is not None else "-",
            quantities.seconds(m.longest_gap_s),
            quantities.seconds(m.first_picture_s) if m.first_picture_s is not None else "none",
            m.transport,
        ])  # fmt: skip
    output.heading(f"Streams, measured from {result.vantage} for {result.duration_s:g} s")
    output.table(
        ["camera", "stream", "verdict", "codec", ">resolution", ">fps", ">bit rate", ">key frame", ">lost", ">jitter", ">gap",
         ">1st picture", "by"],
        rows,
    )  # fmt: skip


def _show_address(output: Output, result: Verification) -> None:
    """One stream, a line for each thing measured."""
    from zentrale import quantities
    from zentrale.jobs.streams.judging import counts
    from zentrale.protocols.streams.figures import spread

    (stream,) = result.streams
    m = stream.measured
    output.heading(f"{stream.url}, measured from {result.vantage}")
    if m is None:
        output.line(f"does not play: {stream.error}")
        return
    unknown = "not known"
    bits, rates = spread(m.whole_seconds_bps), spread(m.fps_by_second)
    by_second = ", by second {} to {}, 5th percentile {}"
    of_bits = by_second.format(*map(quantities.bitrate, bits)) if bits else ""
    of_rates = by_second.format(*(f"{rate:.1f}" for rate in rates)) if rates else ""
    sizes = [quantities.size(size) if size else "none" for size in (m.key_picture_bytes, m.other_picture_bytes)]
    rows = [
        ["codec", f"{m.codec or unknown} {m.profile}".strip()],
        ["resolution", quantities.resolution(m.width_px, m.height_px) if m.width_px and m.height_px else unknown],
        ["frame rate", f"{m.fps:.1f} frames/s{of_rates}" if m.fps else unknown],
        ["bit rate", quantities.bitrate(m.bitrate_bps) + of_bits + counts(m) if m.bitrate_bps else unknown],
        ["size of pictures", f"key pictures {sizes[0]}, others {sizes[1]}"],
        [
            "key frame every",
            (f"{m.keyframe_interval_s:.1f} s" if m.keyframe_interval_s else "not seen twice")
            + (", renewed part by part (intra refresh)" if m.intra_refresh else ""),
        ],
        [
            "packets",
            f"{m.packets_received} received, {m.packets_lost} lost, {m.packets_open} open, {m.packets_reordered} out of order, "
            f"{m.packets_doubled} twice",
        ],
        [
            "longest gap",
            quantities.seconds(m.longest_gap_s)
            + (f", read each {quantities.seconds(m.reading_pace_s)}" if m.reading_pace_s else ""),
        ],
        [
            "jitter",
            f"{m.jitter_ms:.1f} ms, at worst {m.jitter_worst_ms:.1f} ms"
            if m.jitter_worst_ms is not None
            else "none over TCP: packets arrive as they are read",
        ],
        [
            "first picture",
            f"after {quantities.seconds(m.first_picture_s)}" if m.first_picture_s is not None else "none",
        ],
        ["pictures", f"{m.frames} in {m.measured_s:.1f} s, {m.frames_damaged} damaged"],
        *([["path", _path(m)]] if m.receive_window_bytes is not None else []),
        ["transport", f"multicast, from {m.group}" if m.group else m.transport.upper()],
    ]
    output.table(["what", "measured"], rows)


def _path(m: StreamMeasurement) -> str:
    from zentrale import quantities

    disordered = "" if m.segments_out_of_order is None else f", {m.segments_out_of_order} TCP segments out of order"
    return f"receive window {quantities.size(m.receive_window_bytes or 0)}{disordered}"


def _show_access(output: Output, result: Verification) -> None:
    if not result.access:
        return
    from zentrale.quantities import count

    if output.details:
        output.heading("Strangers' access (must be refused)")
    refused = [c for c in result.access if c.result.access.value == "refused"]
    waiting = [c for c in result.access if c.result.access.value == "not asked"]
    others = [c for c in result.access if c not in refused and c not in waiting]
    output.table(
        ["camera", "door", "attempt", "outcome"],
        (
            [
                c.camera or "the stream",
                c.door.value,
                c.attempt,
                f"{'fault' if c.result.access.value == 'plays' else 'warning'}|{c.in_words}",
            ]
            for c in others
        ),
    ) if others else None
    left = f"; {count(len(waiting), 'attempt')} not made yet, so that no device locks" if waiting else ""
    output.line(f"{len(refused)} of {count(len(result.access), 'attempt')} of strangers refused{left}")
