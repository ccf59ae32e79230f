"""Trying to get in as a stranger: without a password, and with the maker's default one. Neither may work.

A default password is tried at one door a window, so that the test locks no device; the doors take turns.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import replace
from datetime import datetime

from zentrale import quantities
from zentrale.errors import DeviceError, LockedError, NotAskedError, RefusedError
from zentrale.field import rtsp_player, scheduler
from zentrale.field.device import Device
from zentrale.field.rtsp_player import Access, AccessResult
from zentrale.field.scheduler import Failure
from zentrale.findings import Finding, finding
from zentrale.jobs.checks.check import Check, Need, Round
from zentrale.jobs.checks.seen import AccessCheck, Attempt, Target, outcome_told
from zentrale.jobs.known.layer import Layer
from zentrale.jobs.known.planned import ref_of
from zentrale.jobs.passwords.keyring import Keyring
from zentrale.jobs.streams.aspects import OURS
from zentrale.jobs.streams.judging import code_of_failure
from zentrale.logbook.evidence import Judged, Observation, latest, standings
from zentrale.protocols import doors
from zentrale.protocols.doors import Door, Purpose
from zentrale.protocols.http_auth import Credentials
from zentrale.site.model import Camera, Plan
from zentrale.subjects import Ref

ACCESS = "access"  # the kind of its observations
AT_ONCE = 32
BUDGET_S = 90.0  # for one camera, each request of which may take 12 s


async def try_as_stranger(keyring: Keyring, target: Target) -> list[AccessCheck]:
    """All attempts on one camera. In a patient run those that have to wait are waited for."""
    assert keyring.plan is not None
    camera, maker = target.camera, keyring.plan.maker(target.camera)
    checks = []
    for door in _doors(target):
        result = await _try(target, door, None)
        checks.append(AccessCheck(camera.name, door, Attempt.NO_PASSWORD, "without a password", result))
    open_doors = {c.door for c in checks if c.result.access is Access.PLAYS}
    for candidate in keyring.contents.candidates:
        if candidate.factory_of.lower() != maker.lower():
            continue
        for door in _in_turn(keyring, target, candidate.credentials, open_doors):
            result = await _try(target, door, candidate.credentials)
            while keyring.patience.patient and result.access is Access.NOT_ASKED and result.again:
                await keyring.wait(camera.name, result.again)
                result = await _try(target, door, candidate.credentials)
            words = f"default password of {maker}"
            checks.append(AccessCheck(camera.name, door, Attempt.DEFAULT_PASSWORD, words, result))
    return checks


def _doors(target: Target) -> list[Door]:
    doors_there = [Door.RTSP] if "main" in target.streams else []
    return [*doors_there, Door.ONVIF] if target.url else doors_there


def _in_turn(keyring: Keyring, target: Target, credentials: Credentials, open_doors: set[Door]) -> list[Door]:
    """The doors that are closed to strangers, that which was tried longest ago first."""
    host = target.streams["main"].host if "main" in target.streams else ""
    where = doors.Target(host, 0, target.visit.endpoint)
    left = [d for d in _doors(target) if d not in open_doors]
    return sorted(left, key=lambda d: keyring.ledger.last_asked(where, d, credentials))


async def _try(target: Target, door: Door, credentials: Credentials | None) -> AccessResult:
    if door is Door.RTSP:
        visit = replace(target.visit, credentials=credentials, purpose=Purpose.STRANGER, patience_s=0.0)
        return await rtsp_player.try_access(target.streams["main"], visit)
    async with Device(target.url, target.visit.rules, endpoint=target.visit.endpoint) as client:
        client.purpose = Purpose.STRANGER
        try:
            await client.read_clock()
            if credentials is None:
                await client.users()
            else:
                await client.login(credentials)
        except (NotAskedError, LockedError) as error:
            return AccessResult(Access.NOT_ASKED, str(error), error.until)
        except RefusedError as error:
            return AccessResult(Access.REFUSED, str(error))
        except DeviceError as error:
            return AccessResult(Access.UNCLEAR, str(error))
    return AccessResult(Access.PLAYS, "GetUsers was answered")


def judge_access(
    camera: Camera, checks: Sequence[AccessCheck], earlier: Mapping[Ref, Observation], since: datetime | None
) -> list[Judged]:
    """What the attempts on one camera say; with those of earlier runs, where a door could not be asked now.

    earlier: the newest observation of each attempt; since: when the default password was last found to open it
    """
    ref = ref_of(camera)
    findings = [f for c in checks if (f := _finding(c, ref)) is not None]
    waiting = [c for c in checks if c.result.access is Access.NOT_ASKED and c.ref not in earlier]
    if waiting:
        until = max((c.result.again for c in waiting if c.result.again), default=None)
        text = ", ".join(dict.fromkeys(f"{c.door.value} {c.attempt}" for c in waiting))
        findings.append(finding("SEC-10", ref, f"not asked: {text}{_from(until)}", "refused", "good practice"))
    codes = {"SEC-10"}
    for check in checks:
        if check.kind is Attempt.NO_PASSWORD and check.result.access in (Access.REFUSED, Access.PLAYS):
            codes.add("SEC-2" if check.door is Door.RTSP else "SEC-4")
    if not any(c.result.access is Access.UNCLEAR for c in checks):
        codes.add("SEC-5")
    defaults = [c for c in checks if c.kind is Attempt.DEFAULT_PASSWORD]
    if defaults and all(_refused(c, earlier, since) for c in defaults):
        codes.add("SEC-1")
    return [Judged(ref, frozenset(codes) | {f.code for f in findings}, tuple(findings))]


def _refused(check: AccessCheck, earlier: Mapping[Ref, Observation], since: datetime | None) -> bool:
    """Now, or in an earlier run after which nothing else was seen."""
    if check.result.access is Access.NOT_ASKED:
        seen = earlier.get(check.ref)
        after = seen is not None and (since is None or seen.at > since)
        return seen is not None and after and outcome_told(seen.content) == Access.REFUSED.value
    return check.result.access is Access.REFUSED


class Strangers(Check):
    name = "strangers"
    layer = Layer.ACCESS
    codes = frozenset({"SEC-1", "SEC-2", "SEC-4", "SEC-5", "SEC-10", *OURS})
    doing = "trying to get in as a stranger"

    async def observe(self, round: Round) -> None:
        keyring = round.keyring
        await keyring.ready()
        tried = await scheduler.run(
            round.targets, lambda t: try_as_stranger(keyring, t), at_once=AT_ONCE, budget_s=keyring.budget(BUDGET_S)
        )
        earlier = latest(keyring.logbook, ACCESS)
        open_now = [s for s in standings(keyring.logbook) if s.finding.code == "SEC-1" and s.settled_by is None]
        found_at = {s.finding.ref: s.at for s in open_now}
        judged: list[Judged] = []
        for target, result in zip(round.targets, tried, strict=True):
            ref = ref_of(target.camera)
            if isinstance(result, Failure):
                code = code_of_failure(result.whose, "SEC-5")
                round.reports += [result.report] if result.report else []
                item = finding(code, ref, result.message, "refused", "good practice")
                judged.append(Judged(ref, frozenset({code}), (item,)))
                continue
            round.access += result
            judged += judge_access(target.camera, result, earlier, found_at.get(ref))
            for attempt in result:
                if attempt.result.access is not Access.NOT_ASKED:
                    round.observe(ACCESS, attempt.ref, attempt.door.value, attempt.document())
        round.keep(self, judged)

    def judge(self, round: Round) -> Iterator[Judged]:
        yield from round.kept(self, list[Judged]())

    def needs(self, plan: Plan, camera: Camera) -> list[Need]:
        return [Need("never tried as a stranger", camera.name, ref_of(camera), "SEC-2")]


def address_findings(check: AccessCheck, url: str) -> list[Finding]:
    """Of a stream address without a site."""
    item = _finding(check, f"stream {url}")
    return [item] if item else []


def _from(until: datetime | None) -> str:
    return f"; from {quantities.clock_time(until)} on" if until else ""


def _finding(check: AccessCheck, subject: Ref | str) -> Finding | None:
    measured = f"{check.door.value} {check.attempt}: {check.result.detail}"
    limit, source = "refused", "good practice; ONVIF Core, access policy"
    if check.result.access is Access.UNCLEAR:
        return finding("SEC-5", subject, measured, limit, source)
    if check.result.access is not Access.PLAYS:
        return None
    if check.kind is Attempt.DEFAULT_PASSWORD:
        return finding("SEC-1", subject, measured, limit, source)
    return finding("SEC-2" if check.door is Door.RTSP else "SEC-4", subject, measured, limit, source)
