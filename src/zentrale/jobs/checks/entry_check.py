"""Getting into a camera: where its streams are, and with what they open. Asked of it, or taken from its type."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace

from zentrale.errors import RemoteProtocolError
from zentrale.field import scheduler
from zentrale.field.device import GONE_PATIENCE_S, Device
from zentrale.field.scheduler import Failure
from zentrale.field.visit import Visit
from zentrale.findings import finding
from zentrale.jobs.checks.check import Check, Layer, Round
from zentrale.jobs.checks.seen import Target, Unresolved
from zentrale.jobs.known.device_states import State
from zentrale.jobs.known.entry_judged import judge_entry, seen_there
from zentrale.jobs.known.found_devices import FoundDevice
from zentrale.jobs.known.planned import ref_of
from zentrale.jobs.known.profile_choice import ProfileChoice
from zentrale.jobs.passwords.access import Claim, find_entry
from zentrale.jobs.passwords.keyring import Keyring
from zentrale.jobs.streams.aspects import NOT_PLAYING, OURS
from zentrale.jobs.streams.judging import code_of_stream
from zentrale.jobs.streams.rtsp_only import find_credentials, is_rtsp_only, kept_addresses, stream_addresses
from zentrale.logbook.evidence import Judged
from zentrale.site.model import Camera

AT_ONCE = 32
BUDGET_S = 90.0  # for one camera, each request of which may take 12 s


async def resolve(keyring: Keyring, camera: Camera, seen: FoundDevice | None) -> Target | Unresolved:
    """Raises DeviceError where it does not answer as it should."""
    assert keyring.plan is not None
    await keyring.ready()
    if seen is None:
        return Unresolved(camera, "the last discovery did not find it; its streams were not asked for", "DIS-1")
    rules = keyring.rules(camera)
    if is_rtsp_only(keyring.plan, camera):
        addresses = stream_addresses(
            keyring.plan, camera, seen.address, seen.rtsp_port, kept_addresses(keyring.logbook, camera.name)
        )
        credentials = await find_credentials(keyring, camera, seen, addresses["main"])
        return Target(camera, "", Visit(credentials, rules, seen.own_endpoint), addresses)
    if not seen.url:
        code = "DIS-7" if seen.state == State.RTSP_ONLY.value else "DIS-6"
        return Unresolved(camera, f"by the last discovery: {seen.note or seen.state}", code)
    async with Device(seen.url, rules, endpoint=seen.own_endpoint, patience_s=GONE_PATIENCE_S) as client:
        told_clock = await client.read_clock()
        claim = replace(Claim.of(keyring, seen, camera), thorough=False)
        entry = await find_entry(client, keyring, claim, camera.name)
        if entry.closed:
            return Unresolved(
                camera, f"the camera did not let us in: {entry.in_words()}", "SEC-3", entry, observed=True
            )
        if not told_clock:
            await client.system_time()  # it told its clock to nobody without credentials
        streams, failed = {}, {}
        choice = ProfileChoice.remembered(keyring.logbook, ref_of(camera), camera.source)
        for stream, profile in choice.of(await client.media.profiles()).items():
            try:
                streams[stream] = await client.media.stream_address(profile.token)
            except RemoteProtocolError as error:
                failed[stream] = error.what
        named = tuple(f"{host} ({what})" for host, what in client.named_hosts.items())
        offset_s = round(client.clock_offset.total_seconds(), 1)
        visit = Visit(entry.credentials, rules, seen.own_endpoint)
        return Target(camera, client.url, visit, streams, failed, named, offset_s, entry)


class Entering(Check):
    """Gets into each camera and asks where its streams are. One that cannot be asked is one finding, whatever hangs on it."""

    name = "entry"
    layer = Layer.ACCESS
    codes = (
        frozenset({"STR-1", "DIS-1", "DIS-6", "DIS-7", "SEC-3", "SEC-4", "SEC-7", "SEC-8", "SEC-9", *OURS})
        | NOT_PLAYING
    )
    doing = "asking for the stream addresses"

    async def observe(self, round: Round) -> None:
        keyring = round.keyring
        results = await scheduler.run(
            round.cameras, lambda c: resolve(keyring, c, round.found.get(c.name)), at_once=AT_ONCE,
            budget_s=keyring.budget(BUDGET_S),
        )  # fmt: skip
        for result in results:
            if isinstance(result, Target):
                round.targets.append(result)
                continue
            if isinstance(result, Failure):
                code = code_of_stream(result)
                result = Unresolved(result.item, result.message, code, observed=True, report=result.report)
            round.unresolved.append(result)
            round.reports += [result.report] if result.report else []

    def judge(self, round: Round) -> Iterator[Judged]:
        for target in round.targets:
            ref, entry = ref_of(target.camera), target.entry
            yield Judged(ref, NOT_PLAYING | OURS)
            yield from seen_there(ref, round.found[target.camera.name].address)
            if (
                entry is not None and entry.state is not State.DEFAULT_PASSWORD
            ):  # what opens to strangers is tried apart
                yield judge_entry(ref, entry.state.value, "", entry.label)
        for item in round.unresolved:
            ref = ref_of(item.camera)
            if item.entry is not None:
                own = round.keyring.holds(item.camera.name)
                yield judge_entry(ref, item.entry.state.value, item.entry.in_words(), item.entry.label, own=own)
                continue
            cause = finding(item.code, ref, item.reason, "streams that play", item.camera.where)
            if item.observed:
                yield Judged(ref, frozenset({item.code}), (cause,))
            else:
                round.findings.append(cause)  # said by the discovery, which is its own witness
