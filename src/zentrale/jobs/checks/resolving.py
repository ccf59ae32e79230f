"""Getting into one camera: where its streams are, and with what they open. Asked of it, or taken from its type."""

from __future__ import annotations

from dataclasses import replace

from zentrale.errors import RemoteProtocolError
from zentrale.field.device import GONE_PATIENCE_S, Device
from zentrale.field.visit import Visit
from zentrale.jobs.checks.seen import Target, Unresolved
from zentrale.jobs.known.device_states import State
from zentrale.jobs.known.found_devices import FoundDevice
from zentrale.jobs.known.planned import ref_of
from zentrale.jobs.known.profile_choice import ProfileChoice
from zentrale.jobs.passwords.access import Claim, find_entry
from zentrale.jobs.passwords.keyring import Keyring
from zentrale.jobs.streams.rtsp_only import find_credentials, is_rtsp_only, kept_addresses, stream_addresses
from zentrale.site.model import Camera


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
