"""`zentrale verify`: measure every stream, try strangers' access, ask the recorders."""

from __future__ import annotations

import argparse

from zentrale.cli import asking, options

TYPE_CHECKING = False  # as typing has it, without the cost of importing typing
if TYPE_CHECKING:
    from zentrale.cli.work import Work
    from zentrale.field.rules import Rules
    from zentrale.jobs.verifying import Verification
    from zentrale.logbook.store import Logbook
    from zentrale.protocols.http_auth import Credentials
    from zentrale.protocols.stream_address import StreamAddress

SECONDS = 5.0
STREAM_PASSWORD_VARIABLE = "ZENTRALE_STREAM_PASSWORD"
DESCRIPTION = f"""\
Plays main and sub stream of every camera at the same time and measures codec, resolution, frame rate, bit rate,
key-frame interval, loss, jitter and time to the first picture; tries to get in without a password and with the
default one; asks the recorder whether each channel records, and plays back what it stored last. Compares with the plan.

With a stream address instead, measures that one without any site. Its password is asked for, or taken from
${STREAM_PASSWORD_VARIABLE} or --password-fd."""
EXAMPLE = "zentrale verify --seconds 10\n  zentrale verify rtsp://viewer@10.20.0.11/live/main"


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "what",
        metavar="NAME|ADDRESS",
        nargs="*",
        help="cameras, the same as --only; or a stream address, rtsp://[USER@]HOST[:PORT]/PATH",
    )
    parser.add_argument(
        "--seconds",
        metavar="S",
        type=float,
        help="measure for this long (default: 5, or as long as the planned key-frame intervals need)",
    )
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
    parser.add_argument(
        "--recorded",
        metavar="S",
        type=float,
        default=10.0,
        help="play back so many of the seconds that each channel stored last (default: 10; 0: none)",
    )
    parser.add_argument(
        "--wall", metavar="NAME", help="play exactly what this wall shows, all at once, rounds at their pace"
    )
    parser.add_argument(
        "--decode", action="store_true", help="with --wall: also decode it all, and tell what this machine bears"
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
    options.add_details(parser)
    options.add_entering(parser)
    options.add_only(parser, names=False)
    options.add_site(parser)
    options.add_passphrase(parser)
    options.add_json(parser)
    options.add_common(parser)


def run(args: argparse.Namespace) -> int:
    from zentrale.cli.verify_shown import show
    from zentrale.cli.work import Work
    from zentrale.errors import EXIT_AS_PLANNED, EXIT_FAULTS, InputError
    from zentrale.findings import count_faults

    addresses = [word for word in args.what if "://" in word]
    if addresses and len(args.what) > 1:
        raise InputError(f"verify {' '.join(args.what)}: one stream address at a time", "or names of planned cameras")
    args.address = addresses[0] if addresses else None
    args.only = [*args.only, *(word for word in args.what if word not in addresses)]
    if args.seconds is not None and not 1 <= args.seconds <= 86_400:
        raise InputError(f"--seconds {args.seconds:g}: out of range", "expected 1 to 86400 seconds (a day)")
    if not 1 <= args.answer_within <= 120:
        raise InputError(f"--answer-within {args.answer_within:g}: out of range", "expected 1 to 120 seconds")
    if not 0 <= args.recorded <= 3600:
        raise InputError(f"--recorded {args.recorded:g}: out of range", "expected 0 to 3600 seconds (an hour)")
    if args.picture and not args.address:
        raise InputError("--picture: only with a stream address", "a site's pictures are written to output/pictures")
    if args.decode and not args.wall:
        raise InputError("--decode: only with --wall", "type `zentrale verify --wall NAME --decode`")
    if args.wall and (args.address or args.only):
        raise InputError(
            f"--wall {args.wall}: without a stream address, --only and names", "a wall names its cameras itself"
        )
    work = Work(args)
    if args.wall:
        from zentrale.cli import wall_shown

        return wall_shown.run(work)
    output = work.output
    result = _one_address(work) if args.address else _site(work)
    if args.json:
        output.document(_document(result))
    if result.unreached is not None:
        raise result.unreached
    show(output, result)
    output.reports(result.reports, args.site)
    return EXIT_FAULTS if count_faults(result.findings) else EXIT_AS_PLANNED


def _site(work: Work) -> Verification:
    import asyncio

    from zentrale.jobs.checks.check import Request
    from zentrale.jobs.checks.check_registry import CHECKS
    from zentrale.jobs.checks.streams_check import seconds_needed
    from zentrale.jobs.known.selection import select
    from zentrale.jobs.verifying import verify_site
    from zentrale.protocols.rtsp_client import Transport

    args, output, folder, plan = work.args, work.output, work.folder, work.plan
    cameras = select(plan, args.only)
    work.vault_if_any()
    transport = Transport(args.transport) if args.transport else None
    needed_s = seconds_needed(plan, cameras)
    seconds = needed_s if args.seconds is None else args.seconds
    if seconds < needed_s - 1:
        output.notice(
            f"--seconds {seconds:g} is too short: the planned key-frame intervals need {needed_s:g} s; what does not show is "
            "not judged"
        )
    request = Request(seconds, transport, folder.output / "pictures", args.answer_within, args.recorded)
    with work.logging(), output.progress("verifying", len(CHECKS)) as step:
        return asyncio.run(verify_site(plan, cameras, work.keyring(), request, step))


def _one_address(work: Work) -> Verification:
    from pathlib import Path

    from zentrale.cli import defects
    from zentrale.protocols.http_auth import Credentials
    from zentrale.protocols.stream_address import StreamAddress
    from zentrale.site.folder import write_atomically

    args, output = work.args, work.output
    address = StreamAddress.parse(args.address)
    args.seconds = SECONDS if args.seconds is None else args.seconds
    credentials = None
    if address.user:
        password = address.password
        if password:
            defects.know(password)
            output.hint(
                "the password in the address shows in the process list and the shell's history; leave it out next time"
            )
        else:
            password = asking.secret(args.password_fd, STREAM_PASSWORD_VARIABLE, f"password of {address.user}")
        credentials = Credentials(address.user, password)
    output.hint(f"measuring {address.url} for {args.seconds:g} s")
    result = _measured(work, address, credentials)
    picture = result.streams[0].picture
    if args.picture and picture is not None:
        write_atomically(Path(args.picture), picture)
        output.hint(f"wrote {args.picture}")
    return result


def _measured(work: Work, address: StreamAddress, credentials: Credentials | None) -> Verification:
    """Measure; where the password would go in clear, or to a server whose certificate nobody knows, only on a yes."""
    import asyncio
    from contextlib import nullcontext

    from zentrale.errors import CertificateError, ClearTextError, InputError
    from zentrale.field.visit import Visit
    from zentrale.jobs.verifying import verify_address
    from zentrale.protocols.rtsp_client import Transport

    args, output = work.args, work.output
    transport = Transport(args.transport) if args.transport else None
    in_clear, accepted = args.basic_in_clear, set(args.trust_new_certificate)
    logbook = _logbook_here(work)
    with logbook or nullcontext():
        for _ in range(3):
            rules = _rules(work, logbook, credentials, accepted, in_clear=in_clear)
            try:
                visit = Visit(credentials, rules, transport=transport, answer_s=args.answer_within)
                return asyncio.run(verify_address(address, visit, args.seconds, wants_picture=bool(args.picture)))
            except ClearTextError:
                what = f"{address.host} takes the password only in clear: anybody on the way can read it"
                if not output.ask(f"{what}. Send it?"):
                    raise InputError(f"{what}; it was not sent", "send it all the same with --basic-in-clear") from None
                in_clear = True
            except CertificateError as error:
                if not output.ask(f"{error.what}. Is it the right one?"):
                    raise InputError(
                        f"{error.what}; no password was sent", f"accept it with --trust-new-certificate {address.host}"
                    ) from None
                accepted.add(address.host)
    raise AssertionError("each question is asked once")


def _rules(
    work: Work,
    logbook: Logbook | None,
    credentials: Credentials | None,
    accepted: set[str],
    *,
    in_clear: bool,
) -> Rules:
    import hashlib
    import secrets

    from zentrale.cli.work import patience
    from zentrale.errors import CertificateError
    from zentrale.field.rules import Rules
    from zentrale.jobs.passwords.keyring import spelled
    from zentrale.logbook.ledger import RefusalLedger
    from zentrale.logbook.vault_contents import Contents
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
    allowed = patience(work.args, work.output, Policy().refusal_window_min)
    return Rules(RefusalLedger(logbook, allowed, key.fingerprint), check, in_clear)


def _logbook_here(work: Work) -> Logbook | None:
    """The logbook of the site in which the command is run, where there is one: its ledger counts for this address too."""
    from zentrale.logbook.store import Logbook

    folder = work.folder_if_any
    return Logbook(folder.logbook_file) if folder is not None and folder.logbook_file.exists() else None


def _document(result: Verification) -> dict[str, object]:
    from zentrale.cli.output import finding_document
    from zentrale.findings import Verdict
    from zentrale.jobs.checks.streams_check import stream_document

    verdicts = [stream.verdict for stream in result.streams]
    return {
        "vantage": result.vantage,
        "seconds": result.duration_s,
        "verdicts": {verdict.value: verdicts.count(verdict) for verdict in Verdict},
        "streams": [
            {**stream_document(s), "findings": [finding_document(f) for f in s.findings]} for s in result.streams
        ],
        "access": [c.document() for c in result.access],
        "channels": [{**c.document(), "findings": [finding_document(f) for f in c.findings]} for c in result.channels],
        "stored": [p.document() for p in result.played],
        "common": [c.document() for c in result.common],
        "findings": [finding_document(f) for f in result.findings],
    }
