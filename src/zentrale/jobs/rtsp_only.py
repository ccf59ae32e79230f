"""Cameras that speak RTSP and nothing else: where their streams are, and which password of the vault opens them."""

from __future__ import annotations

from zentrale.errors import DeviceError, RefusedError
from zentrale.field import rtsp_player
from zentrale.field.rtsp_player import Access
from zentrale.jobs.access import MAX_WRONG_PASSWORDS
from zentrale.logbook.vault import Contents
from zentrale.protocols.http_auth import Credentials
from zentrale.protocols.rtsp_client import StreamAddress
from zentrale.site.model import Camera, Plan

RTSP_PORTS = (554, 8554)


def stream_addresses(plan: Plan, camera: Camera, address: str, open_ports: tuple[int, ...]) -> dict[str, StreamAddress]:
    """Its planned streams, by the paths that its type names. Raises DeviceError where the type names none."""
    kind = plan.camera_type(camera)
    paths = {"main": kind.main_path, "sub": kind.sub_path}
    port = next((p for p in open_ports if p in RTSP_PORTS), RTSP_PORTS[0])
    found = {
        stream: StreamAddress.parse(f"rtsp://{address}:{port}/{paths[stream].lstrip('/')}")
        for stream in plan.streams(camera)
        if paths[stream]
    }
    if "main" not in found:
        raise DeviceError(f"it speaks RTSP only; give main_path of {kind.name} in types.toml, as its manual says")
    return found


async def find_credentials(vault: Contents, name: str, maker: str, main: StreamAddress) -> Credentials | None:
    """The credentials with which the stream plays; None where it plays without any. Raises DeviceError, RefusedError."""
    own = [vault.devices[name]] if name in vault.devices else []
    ours = [c.credentials for c in vault.candidates if not c.factory_of]
    defaults = [c.credentials for c in vault.candidates if c.factory_of.lower() == maker.lower()]
    for credentials in [*own, *ours, *defaults][:MAX_WRONG_PASSWORDS]:
        result = await rtsp_player.try_access(main, credentials)
        if result.access is Access.PLAYS:
            return credentials
        if result.access is Access.UNCLEAR:
            raise DeviceError(result.detail)
    if (await rtsp_player.try_access(main, None)).access is Access.PLAYS:
        return None
    raise RefusedError("no password in the vault opens it; add the right one with `zentrale vault add`")
