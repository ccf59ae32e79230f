"""What a verification shows to the person: a table of the streams, or one stream in detail, access, channels, findings."""

from __future__ import annotations

TYPE_CHECKING = False  # as typing has it, without the cost of importing typing
if TYPE_CHECKING:
    from zentrale.cli.output import Output
    from zentrale.jobs.verifying import Verification


def show(output: Output, result: Verification) -> None:
    from zentrale import quantities

    if result.streams and not result.streams[0].camera:
        output.result(result.findings, "the stream plays without a fault")
        _show_address(output, result)
        _show_access(output, result)
        output.next("compare it with what was ordered; a whole site: `zentrale new FOLDER`")
        return
    as_planned = sum(s.verdict == "ok" for s in result.streams)
    said = f"{as_planned} of {quantities.count(len(result.streams), 'stream')} as planned"
    output.result(result.findings, "every stream is as planned, no stranger got in", said)
    if output.details:
        _show_streams(output, result)
    else:
        output.line()
        output.line(
            f"measured from {result.vantage} for {result.duration_s:g} s; every stream with its figures: --details"
        )
    _show_access(output, result)
    if result.channels:
        show_channels(output, result)
    if any(f.severity.value != "note" for f in result.findings):
        output.next("see to what is named, then `zentrale verify` again; `zentrale handover` tells what is open")
    else:
        output.next("`zentrale handover`")


def show_channels(output: Output, result: Verification) -> None:
    from zentrale.quantities import count, moment

    if output.details:
        output.heading("Recording")
    good = [c for c in result.channels if c.records]
    unknown = sum(c.records is None for c in result.channels)
    listed = [c for c in result.channels if not c.records or output.details]
    if listed:
        output.table(
            ["recorder", ">channel", "camera", "state", "stored until"],
            (
                [c.recorder, str(c.channel), c.camera, f"{_style(c.records)}|{c.state}",
                 moment(c.stored_until) if c.stored_until else "-"]
                for c in listed
            ),
        )  # fmt: skip
    last = min((c.stored_until for c in good if c.stored_until), default=None)
    told = f", each up to {moment(last)} or later" if last else ""
    left = f"; {unknown} not known, since the recorder was not asked or did not answer" if unknown else ""
    output.line(f"{len(good)} of {count(len(result.channels), 'planned channel')} record{told}{left}")


def _style(records: bool | None) -> str:
    return "warning" if records is None else "ok" if records else "fault"


def _show_streams(output: Output, result: Verification) -> None:
    from zentrale import quantities

    rows = []
    for s in result.streams:
        verdict = f"{s.verdict}|{s.verdict.upper() if s.verdict == 'fault' else s.verdict}"
        name = s.camera or s.url
        m = s.measured
        if m is None:
            does = "not asked for" if s.verdict == "not known" else "does not play"
            rows.append([name, s.stream, verdict.replace("not known|", "warning|"), f"{does}: {s.error}"])
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

    (stream,) = result.streams
    m = stream.measured
    output.heading(f"{stream.url}, measured from {result.vantage}")
    if m is None:
        output.line(f"does not play: {stream.error}")
        return
    unknown = "not known"
    # Whole seconds of arrival beside whole groups of pictures: the mean belongs into the range all the same.
    seconds = [*m.bitrate_by_second[: int(m.measured_s)], m.bitrate_bps or 0]
    spread = (
        f", by second {quantities.bitrate(min(seconds))} to {quantities.bitrate(max(seconds))}"
        if len(seconds) > 1
        else ""
    )
    rows = [
        ["codec", f"{m.codec or unknown} {m.profile}".strip()],
        ["resolution", quantities.resolution(m.width_px, m.height_px) if m.width_px and m.height_px else unknown],
        ["frame rate", f"{m.fps:.1f} frames/s" if m.fps else unknown],
        ["bit rate", quantities.bitrate(m.bitrate_bps) + spread if m.bitrate_bps else unknown],
        [
            "key frame every",
            (f"{m.keyframe_interval_s:.1f} s" if m.keyframe_interval_s else "not seen twice")
            + (", renewed part by part (intra refresh)" if m.intra_refresh else ""),
        ],
        [
            "packets",
            f"{m.packets_received} received, {m.packets_lost} lost, {m.packets_reordered} out of order, "
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
        ["transport", f"multicast, from {m.group}" if m.group else m.transport.upper()],
    ]
    output.table(["what", "measured"], rows)


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
                f"{'fault' if c.result.access.value == 'plays' else 'warning'}|{c.told}",
            ]
            for c in others
        ),
    ) if others else None
    left = f"; {count(len(waiting), 'attempt')} not made yet, so that no device locks" if waiting else ""
    output.line(f"{len(refused)} of {count(len(result.access), 'attempt')} of strangers refused{left}")
