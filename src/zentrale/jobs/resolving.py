"""Where a camera's streams are, and with what they open: asked of the camera, or taken from its type."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Protocol

from zentrale.errors import RemoteProtocolError
from zentrale.field.device import GONE_PATIENCE_S, Device
from zentrale.field.rtsp_player import Visit
from zentrale.findings import Finding, finding
from zentrale.jobs.access import Entry, find_entry
from zentrale.jobs.found import FoundDevice
from zentrale.jobs.keyring import Keyring
from zentrale.jobs.planned import ref_of
from zentrale.jobs.rtsp_only import find_credentials, is_rtsp_only, stream_addresses
from zentrale.jobs.states import State
from zentrale.jobs.steps.encoder import ProfileChoice
from zentrale.protocols.rtsp_client import StreamAddress
from zentrale.protocols.stream_meter import StreamMeasurement
from zentrale.site.model import Camera


@dataclass(frozen=True)
class Target:
    """A camera that was got into: its streams by name, those whose address could not be used with the reason, how to ask
    for them, and its ONVIF address (empty where it has none). `named`: other hosts in what it told; `clock_offset_s` how
    far its clock is ahead, None where it tells none.
    """

    camera: Camera
    url: str
    visit: Visit
    streams: Mapping[str, StreamAddress]
    failed: Mapping[str, str] = field(default_factory=dict)
    named: tuple[str, ...] = ()
    clock_offset_s: float | None = None
    entry: Entry | None = None


@dataclass(frozen=True)
class Unresolved:
    """A camera whose streams cannot be asked for. `entry` where it was asked and did not let us in; `code` of the finding
    that says so otherwise. `observed`: by this run, not by an earlier discovery.
    """

    camera: Camera
    reason: str
    code: str
    entry: Entry | None = None
    observed: bool = False
    report: str = ""


async def resolve(keyring: Keyring, camera: Camera, seen: FoundDevice | None) -> Target | Unresolved:
    """Raises DeviceError where it does not answer as it should."""
    assert keyring.plan is not None
    await keyring.ready()
    if seen is None:
        return Unresolved(camera, "the last discovery did not find it; its streams were not asked for", "DIS-1")
    rules = keyring.rules(camera)
    if is_rtsp_only(keyring.plan, camera):
        addresses = stream_addresses(keyring.plan, camera, seen.address, seen.open_ports)
        credentials = await find_credentials(keyring, camera, seen, addresses["main"])
        return Target(camera, "", Visit(credentials, rules, seen.own_endpoint), addresses)
    if not seen.url:
        code = "DIS-7" if seen.state == State.RTSP_ONLY.value else "DIS-6"
        return Unresolved(camera, f"by the last discovery: {seen.note or seen.state}", code)
    async with Device(seen.url, rules, endpoint=seen.own_endpoint, patience_s=GONE_PATIENCE_S) as client:
        await client.system_time()
        keys = keyring.keys(seen.identity, [camera.name], keyring.plan.maker(camera))
        entry = await find_entry(client, keyring, keys, camera.name)
        if entry.closed:
            return Unresolved(camera, f"the camera did not let us in: {entry.told()}", "SEC-3", entry, observed=True)
        streams, failed = {}, {}
        choice = ProfileChoice.remembered(keyring.logbook, ref_of(camera))
        for stream, profile in choice.of(await client.profiles()).items():
            try:
                streams[stream] = await client.stream_address(profile.token)
            except RemoteProtocolError as error:
                failed[stream] = error.what
        named = tuple(f"{host} ({what})" for host, what in client.named_hosts.items())
        offset_s = round(client.clock_offset.total_seconds(), 1)
        visit = Visit(entry.credentials, rules, seen.own_endpoint)
        return Target(camera, client.url, visit, streams, failed, named, offset_s, entry)


class _Stream(Protocol):
    @property
    def camera(self) -> str: ...
    @property
    def measured(self) -> StreamMeasurement | None: ...


def named_hosts_finding(target: Target, streams: Sequence[_Stream]) -> Finding | None:
    """Told once for a camera, whatever it named."""
    played = [s.measured.named_hosts for s in streams if s.camera == target.camera.name and s.measured]
    named = dict.fromkeys((*target.named, *(f"{host} (within RTSP)" for hosts in played for host in hosts)))
    if not named:
        return None
    limit = f"its own address, {next(iter(target.streams.values())).host}" if target.streams else "its own address"
    return finding("DIS-9", ref_of(target.camera, "stream addresses"), ", ".join(named), limit, "its answers")
