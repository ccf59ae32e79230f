"""Where a camera's streams are, and with what they open: asked of the camera, or taken from its type."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Protocol

from zentrale.errors import DeviceError, RemoteProtocolError
from zentrale.field.device import GONE_PATIENCE_S, Device
from zentrale.field.rtsp_player import Visit
from zentrale.findings import Finding, finding
from zentrale.jobs.access import find_entry
from zentrale.jobs.device_steps import pick_profiles
from zentrale.jobs.found import FoundDevice
from zentrale.jobs.keyring import Keyring
from zentrale.jobs.planned import ref_of
from zentrale.jobs.rtsp_only import find_credentials, is_rtsp_only, stream_addresses
from zentrale.protocols.rtsp_client import StreamAddress
from zentrale.protocols.stream_meter import StreamMeasurement
from zentrale.site.model import Camera


@dataclass(frozen=True)
class Target:
    """A camera that was got into: its streams by name, those whose address could not be used with the reason, how to ask
    for them, and its ONVIF address (empty where it has none). `named`: other hosts in what it told.
    """

    camera: Camera
    url: str
    visit: Visit
    streams: Mapping[str, StreamAddress]
    failed: Mapping[str, str] = field(default_factory=dict)
    named: tuple[str, ...] = ()


async def resolve(keyring: Keyring, camera: Camera, seen: FoundDevice | None) -> Target:
    """Raises DeviceError with the reason why there are none."""
    assert keyring.plan is not None
    await keyring.ready()
    if seen is None:
        raise DeviceError("the last discovery did not find the camera")
    rules = keyring.rules(camera)
    if is_rtsp_only(keyring.plan, camera):
        addresses = stream_addresses(keyring.plan, camera, seen.address, seen.open_ports)
        credentials = await find_credentials(keyring, camera, seen, addresses["main"])
        return Target(camera, "", Visit(credentials, rules, seen.own_endpoint), addresses)
    if not seen.url:
        raise DeviceError(f"the camera does not speak ONVIF: {seen.note or seen.state}")
    async with Device(seen.url, rules, endpoint=seen.own_endpoint, patience_s=GONE_PATIENCE_S) as client:
        await client.system_time()
        keys = keyring.keys(seen.identity, [camera.name], keyring.plan.maker(camera))
        entry = await find_entry(client, keyring, keys, camera.name)
        if entry.closed:
            raise DeviceError(f"the camera did not let us in: {entry.told()}")
        streams, failed = {}, {}
        for stream, profile in pick_profiles(await client.profiles()).items():
            try:
                streams[stream] = await client.stream_address(profile.token)
            except RemoteProtocolError as error:
                failed[stream] = error.what
        named = tuple(f"{host} ({what})" for host, what in client.named_hosts.items())
        return Target(camera, client.url, Visit(entry.credentials, rules, seen.own_endpoint), streams, failed, named)


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
    return finding("DIS-9", str(ref_of(target.camera)), ", ".join(named), limit, "its answers")
