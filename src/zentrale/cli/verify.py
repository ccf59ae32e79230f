"""`zentrale verify`: measure every stream, try strangers' access, ask the recorders."""

from __future__ import annotations

import argparse

from zentrale.cli import options

TYPE_CHECKING = False  # as typing has it, without the cost of importing typing
if TYPE_CHECKING:
    from zentrale.cli.output import Output
    from zentrale.field.rules import Rules
    from zentrale.jobs.verifying import Verification
    from zentrale.logbook.store import Logbook
    from zentrale.protocols.http_auth import Credentials
    from zentrale.protocols.rtsp_client import StreamAddress

STREAM_PASSWORD_VARIABLE = "ZENTRALE_STREAM_PASSWORD"
DESCRIPTION = f"""\
Plays main and sub stream of every camera at the same time and measures codec, resolution, frame rate, bit rate,
key-frame interval, loss, jitter and time to the first picture; tries to get in without a password and with the
default one; asks the recorder whether each channel records. Compares with the plan.

With a stream address instead, measures that one without any site. Its password is asked for, or taken from
${STREAM_PASSWORD_VARIABLE} or --password-fd."""
EXAMPLE = "zentrale verify --seconds 10\n  zentrale verify rtsp://viewer@10.20.0.11/live/main"


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "address", metavar="ADDRESS", nargs="?", help="a stream address, rtsp://[USER@]HOST[:PORT]/PATH"
    )
    parser.add_argument("--seconds", metavar="S", type=float, default=5.0, help="measure for this long (default: 5)")
    parser.add_argument(
        "--transport",
        choices=("tcp", "udp", "multicast"),
        help="how packets travel (default: multicast where planned or described, else tcp, or udp where it must)",
    )
    parser.add_argument(
        "--answer-within",
        metavar="S",
        type=float,
        default=12.0,
        help="what each single answer of a camera may take (default: 12)",
    )
    parser.add_argument("--picture", metavar="FILE", help="with ADDRESS: write the decoded key frame as JPEG")
    parser.add_argument(
        "--password-fd", type=int, metavar="N", help="with ADDRESS: read its password from file descriptor N"
    )
    parser.add_argument(
        "--basic-in-clear",
        action="store_true",
        help="with ADDRESS: send the password in clear where the server takes it no other way",
    )
    options.add_entering(parser)
    options.add_only(parser)
    options.add_site(parser)
    options.add_passphrase(parser)
    options.add_json(parser)
    options.add_common(parser)


def run(args: argparse.Namespace) -> int:
    from zentrale.cli.output import Output
    from zentrale.errors import EXIT_AS_PLANNED, EXIT_FAULTS, InputError
    from zentrale.findings import count_faults

    if not 1 <= args.seconds <= 86_400:
        raise InputError(f"--seconds {args.seconds:g}: out of range", "expected 1 to 86400 seconds (a day)")
    if not 1 <= args.answer_within <= 120:
        raise InputError(f"--answer-within {args.answer_within:g}: out of range", "expected 1 to 120 seconds")
    if args.picture and not args.address:
        raise InputError("--picture: only with a stream address", "a site's pictures are written to output/pictures")
    output = Output(args)
    result = _one_address(args, output) if args.address else _site(args, output)
    if args.json:
        output.document(_document(result))
    if result.unreached is not None:
        raise result.unreached
    _show(output, result)
    output.reports(result.reports, args.site)
    return EXIT_FAULTS if count_faults(result.findings) else EXIT_AS_PLANNED


def _site(args: argparse.Namespace, output: Output) -> Verification:
    import asyncio

    from zentrale.jobs.checks.check import Request
    from zentrale.jobs.checks.registry import CHECKS
    from zentrale.jobs.selection import select
    from zentrale.jobs.verifying import verify_site
    from zentrale.logbook.store import Logbook
    from zentrale.protocols.rtsp_client import Transport
    from zentrale.site.reading import read_plan

    folder = options.site_folder(args)
    plan = read_plan(folder)
    cameras = select(plan, args.only)
    vault = options.vault_or_none(args, folder)
    transport = Transport(args.transport) if args.transport else None
    request = Request(args.seconds, transport, folder.output / "pictures", args.answer_within)
    with Logbook(folder.logbook_file) as logbook, output.progress("verifying", len(CHECKS)) as step:
        keyring = options.keyring(args, output, plan, vault, logbook)
        return asyncio.run(verify_site(plan, cameras, keyring, request, step))


def _one_address(args: argparse.Namespace, output: Output) -> Verification:
    from pathlib import Path

    from zentrale.cli import defects
    from zentrale.protocols.http_auth import Credentials
    from zentrale.protocols.rtsp_client import StreamAddress
    from zentrale.site.folder import write_atomically

    address = StreamAddress.parse(args.address)
    credentials = None
    if address.user:
        password = address.password
        if password:
            defects.know(password)
            output.hint(
                "the password in the address shows in the process list and the shell's history; leave it out next time"
            )
        else:
            password = options.secret(args.password_fd, STREAM_PASSWORD_VARIABLE, f"password of {address.user}")
        credentials = Credentials(address.user, password)
    output.hint(f"measuring {address.url} for {args.seconds:g} s")
    result = _measured(args, output, address, credentials)
    picture = result.streams[0].picture
    if args.picture and picture is not None:
        write_atomically(Path(args.picture), picture)
        output.hint(f"wrote {args.picture}")
    return result


def _measured(
    args: argparse.Namespace, output: Output, address: StreamAddress, credentials: Credentials | None
) -> Verification:
    """Measure; where the password would go in clear, or to a server whose certificate nobody knows, only on a yes."""
    import asyncio
    from contextlib import nullcontext

    from zentrale.errors import CertificateError, ClearTextError, InputError
    from zentrale.field.playing import Visit
    from zentrale.jobs.verifying import verify_address
    from zentrale.protocols.rtsp_client import Transport

    transport = Transport(args.transport) if args.transport else None
    in_clear, accepted = args.basic_in_clear, set(args.trust_new_certificate)
    logbook = _logbook_here(args)
    with logbook or nullcontext():
        for _ in range(3):
            rules = _rules(args, output, logbook, credentials, accepted, in_clear=in_clear)
            try:
                visit = Visit(credentials, rules, transport=transport, answer_s=args.answer_within)
                return asyncio.run(verify_address(address, visit, args.seconds))
            except ClearTextError:
                what = f"{address.host} takes the password only in clear: anybody on the way can read it"
                if not _yes(f"{what}. Send it?"):
                    raise InputError(f"{what}; it was not sent", "send it all the same with --basic-in-clear") from None
                in_clear = True
            except CertificateError as error:
                if not _yes(f"{error.what}. Is it the right one?"):
                    raise InputError(
                        f"{error.what}; no password was sent", f"accept it with --trust-new-certificate {address.host}"
                    ) from None
                accepted.add(address.host)
    raise AssertionError("each question is asked once")


def _rules(
    args: argparse.Namespace,
    output: Output,
    logbook: Logbook | None,
    credentials: Credentials | None,
    accepted: set[str],
    *,
    in_clear: bool,
) -> Rules:
    import hashlib
    import secrets

    from zentrale.errors import CertificateError
    from zentrale.field.rules import Rules
    from zentrale.jobs.keyring import spelled
    from zentrale.logbook.ledger import RefusalLedger
    from zentrale.logbook.vault import Contents
    from zentrale.protocols.doors import OpenLedger
    from zentrale.site.model import Policy

    def check(host: str, port: int, certificate: bytes) -> None:
        if credentials is not None and host not in accepted:
            shown = spelled(hashlib.sha256(certificate).hexdigest())
            raise CertificateError(f"{host}:{port} shows a certificate that nobody has looked at, SHA-256 {shown}")

    if logbook is None:
        return Rules(OpenLedger(), check, in_clear)
    # A fingerprint of a password that a person typed is of no use later: its key goes with this run.
    key = Contents(key=secrets.token_bytes(32))
    patience = options.patience(args, output, Policy().refusal_window_min)
    return Rules(RefusalLedger(logbook, patience, key.fingerprint), check, in_clear)


def _logbook_here(args: argparse.Namespace) -> Logbook | None:
    """The logbook of the site in which the command is run, where there is one: its ledger counts for this address too."""
    from zentrale.errors import InputError
    from zentrale.logbook.store import Logbook

    try:
        folder = options.site_folder(args)
    except InputError:
        if args.site:
            raise
        return None
    return Logbook(folder.logbook_file) if folder.logbook_file.exists() else None


def _yes(question: str) -> bool:
    """What the person at the terminal answers; no where there is none."""
    import sys

    if not sys.stdin.isatty():
        return False
    sys.stderr.write(f"{question} [y/N] ")
    sys.stderr.flush()
    return sys.stdin.readline().strip().lower() in ("y", "yes")


def _show(output: Output, result: Verification) -> None:
    if result.streams and not result.streams[0].camera:
        _show_address(output, result)
    else:
        _show_streams(output, result)
    _show_access(output, result)
    if result.channels:
        _show_channels(output, result)
    if result.findings:
        output.heading("Findings")
        output.findings(result.findings)
    good = (
        "every stream is as planned, no stranger got in"
        if result.streams[0].camera
        else "the stream plays without a fault"
    )
    output.verdict(result.findings, good)


_MOST_CHANNELS = 12  # more are counted, and only those that do not record are listed


def _show_channels(output: Output, result: Verification) -> None:
    from zentrale.quantities import count, timestamp

    output.heading("Recording")
    good = [c for c in result.channels if c.records]
    unknown = sum(c.records is None for c in result.channels)
    listed = [c for c in result.channels if not c.records or len(result.channels) <= _MOST_CHANNELS]
    if listed:
        output.table(
            ["recorder", ">channel", "camera", "state", "stored until"],
            (
                [c.recorder, str(c.channel), c.camera, f"{_style(c.records)}|{c.state}",
                 timestamp(c.stored_until) if c.stored_until else "-"]
                for c in listed
            ),
        )  # fmt: skip
    last = min((c.stored_until for c in good if c.stored_until), default=None)
    told = f", each up to {timestamp(last)} or later" if last else ""
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
                f"{'fault' if c.result.access.value == 'plays' else 'warning'}|{c.result.access.value}",
            ]
            for c in others
        ),
    ) if others else None
    left = f"; {count(len(waiting), 'attempt')} not made yet, so that no device locks" if waiting else ""
    output.line(f"{len(refused)} of {len(result.access)} attempts were refused{left}")


def _document(result: Verification) -> dict[str, object]:
    from zentrale.cli.output import finding_document
    from zentrale.jobs.checks.streams import stream_document

    return {
        "vantage": result.vantage,
        "seconds": result.duration_s,
        "streams": [
            {**stream_document(s), "findings": [finding_document(f) for f in s.findings]} for s in result.streams
        ],
        "access": [c.document() for c in result.access],
        "channels": [{**c.document(), "findings": [finding_document(f) for f in c.findings]} for c in result.channels],
        "findings": [finding_document(f) for f in result.findings],
    }
