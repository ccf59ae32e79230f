"""Running the checks over the cameras of a site, or measuring one stream address without any.

Each check's part is written down as soon as it is done: a run that is interrupted keeps what it has. What was not asked for
is not known, and never counted as good.
"""

from __future__ import annotations

import socket
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace

from zentrale.errors import Cause, CertificateError, ClearTextError, NothingReachedError
from zentrale.field import rtsp_player
from zentrale.field.causes import cause_of
from zentrale.field.visit import Visit
from zentrale.findings import Finding, finding
from zentrale.jobs.checks.check import Check, Request, Round
from zentrale.jobs.checks.check_registry import CHECKS
from zentrale.jobs.checks.seen import AccessCheck, Attempt, ChannelResult, StreamResult
from zentrale.jobs.checks.stored_judging import Played
from zentrale.jobs.checks.strangers_check import address_findings
from zentrale.jobs.discovery.discovering import last_devices
from zentrale.jobs.known.one_cause import Common, broken_at, common, told_beside
from zentrale.jobs.passwords.keyring import Keyring
from zentrale.jobs.streams.aspects import unjudged
from zentrale.jobs.streams.judging import judge_smartness, lateness_finding
from zentrale.jobs.streams.measuring import measure
from zentrale.protocols.doors import Door
from zentrale.protocols.stream_address import StreamAddress
from zentrale.site.model import Camera, Plan

COMMAND = "verify"

Progress = Callable[[int, str], None]


@dataclass(frozen=True)
class Verification:
    vantage: str
    duration_s: float
    streams: tuple[StreamResult, ...]
    access: tuple[AccessCheck, ...]
    channels: tuple[ChannelResult, ...]
    findings: tuple[Finding, ...]
    reports: tuple[str, ...] = ()
    unreached: NothingReachedError | None = None  # not one stream answered
    played: tuple[Played, ...] = ()
    common: tuple[Common, ...] = ()


async def verify_site(
    plan: Plan, cameras: Sequence[Camera], keyring: Keyring, request: Request, progress: Progress
) -> Verification:
    """All checks over `cameras`."""
    vantage = socket.gethostname()
    found = last_devices(plan, keyring.logbook)
    scope = {"cameras": [c.name for c in cameras], "seconds": request.duration_s}
    with keyring.logbook.running(COMMAND, vantage, scope) as run:
        behind = [c for c in cameras if c.behind]
        reachable = [c for c in cameras if not c.behind]
        round = Round(plan, reachable, keyring, request, found, run, behind)
        await run_checks(round, CHECKS, progress)
    streams, looked_at = round.streams, list(dict.fromkeys(c.name for c in cameras))
    unreached = None
    asked = any(c.records is not None for c in round.channels)
    if (streams or not asked) and not any(s.measured or s.cause not in (None, Cause.NO_ANSWER) for s in streams):
        said = f"none of {len(streams)} streams played; the first said: {streams[0].error}" if streams else ""
        channels = next((f"{f.subject}: {f.measured}" for f in round.findings if f.ref), "no camera is planned")
        unreached = NothingReachedError(
            said or f"none of {len(round.channels)} channels could be looked at; the first: {channels}",
            "run `zentrale discover` again, then `zentrale register`",
        )
    return Verification(
        vantage, request.duration_s, tuple(streams), tuple(round.access), round.channels, tuple(round.findings),
        tuple(round.reports), unreached, round.played,
        tuple(common(plan, looked_at, broken_at(plan, round.findings), told_beside(plan, found, keyring.contents))),
    )  # fmt: skip


async def run_checks(round: Round, checks: Sequence[Check], progress: Progress) -> None:
    """All of them in turn; what each has to say is written down before the next begins."""
    for check in checks:
        await check.prepare(round)
    for number, check in enumerate(checks):
        progress(number, check.doing)
        await check.observe(round)
        for judged in check.judge(round):
            round.say(judged)
        await round.write()


async def verify_address(
    address: StreamAddress, visit: Visit, duration_s: float, *, wants_picture: bool
) -> Verification:
    """Measure one address without any site. Raises ClearTextError and CertificateError where the password was not sent for
    that reason.
    """
    result = await measure("", "", address, visit, duration_s, wants_picture=wants_picture)
    if isinstance(result.cause, ClearTextError | CertificateError):
        raise result.cause
    cause = cause_of(result.cause) if result.cause is not None else None
    unreached = None
    if cause is Cause.NO_ANSWER:
        unreached = NothingReachedError(
            result.error, "check the address, and that this machine reaches it (ping, VLAN, firewall)"
        )
    unknown, findings = {}, list(result.findings)
    if result.measured is not None:
        unknown = unjudged(result.measured, None, decoded=result.looked_at)
        findings += judge_smartness(f"stream {address.url}", result.measured, None)
    checks = []
    late = lateness_finding([result.measured] if result.measured else [])
    findings += [late] if late else []
    if result.measured is not None and visit.credentials is None:
        subject = f"stream {address.url}"
        findings.append(finding("SEC-6", subject, "it plays without a password", "a password", "good practice"))
    elif result.measured is not None:
        stranger = await rtsp_player.try_access(address, replace(visit, credentials=None, patience_s=0))
        check = AccessCheck("", Door.RTSP, Attempt.NO_PASSWORD, "without a password", stranger)
        checks.append(check)
        findings += address_findings(check, address.url)
    stream = StreamResult(
        "",
        "",
        address.url,
        result.measured,
        result.error,
        result.findings,
        result.picture,
        cause=cause,
        not_judged=unknown,
    )
    return Verification(
        socket.gethostname(), duration_s, (stream,), tuple(checks), (), tuple(findings), unreached=unreached
    )
