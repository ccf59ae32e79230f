"""Cameras that speak RTSP and nothing else: where their streams are, and which password of the vault opens them."""

from __future__ import annotations

import asyncio
from collections.abc import Mapping
from dataclasses import replace

from zentrale.errors import DeviceError, ForbiddenError, LockedError, NotAskedError, RefusedError
from zentrale.field import rtsp_player
from zentrale.field.rtsp_player import Access
from zentrale.field.visit import Visit
from zentrale.jobs.known.found_devices import USUAL_RTSP_PORTS, FoundDevice
from zentrale.jobs.passwords.access import Claim, keys_for
from zentrale.jobs.passwords.keyring import Keyring
from zentrale.logbook.evidence import observations
from zentrale.logbook.store import Logbook
from zentrale.protocols.doors import Door, Target
from zentrale.protocols.http_auth import Credentials
from zentrale.protocols.stream_address import StreamAddress
from zentrale.quantities import count
from zentrale.site.model import Camera, Plan
from zentrale.subjects import Kind
from zentrale.words import MASK, masked

_NONE: Mapping[str, str] = {}
PATIENCE_S = 8.0  # a stream server that restarts is back by then


STREAMS = "stream addresses"  # the kind of observation


def kept_addresses(logbook: Logbook, name: str) -> dict[str, str]:
    """Main and sub stream as they were found last or entered by hand, as addresses; those of a camera of this name."""
    seen = [o for o in observations(logbook, STREAMS) if o.ref.name == name and o.ref.kind is Kind.CAMERA]
    urls = [str(s["url"]) for s in seen[-1].content["streams"][:2]] if seen else []
    # One that wants its password within the address is not kept whole: its type tells it anew.
    return {
        stream: url
        for stream, url in zip(("main", "sub"), urls, strict=False)
        if masked(url) == url and MASK not in url
    }


def stream_addresses(
    plan: Plan, camera: Camera, address: str, rtsp_port: int | None, kept: Mapping[str, str] = _NONE
) -> dict[str, StreamAddress]:
    """Its planned streams: by what is `kept` of this one, else by the paths that its type names. Raises DeviceError where
    neither tells its main stream.
    """
    kind = plan.camera_type(camera)
    paths = {"main": kind.main_path, "sub": kind.sub_path}
    port = camera.rtsp_port or rtsp_port or USUAL_RTSP_PORTS[0]
    found = {
        stream: StreamAddress.parse(f"rtsp://{address}:{port}/{paths[stream].lstrip('/')}")
        for stream in plan.streams(camera)
        if paths[stream]
    }
    for stream in plan.streams(camera):
        if stream in kept:
            found[stream] = StreamAddress.parse(StreamAddress.parse(kept[stream]).at(address))
    if "main" not in found:
        raise DeviceError(
            f"it speaks RTSP only; look for its stream with `zentrale discover --streams`, name it with `zentrale assign "
            f"{camera.name} rtsp://...`, or give main_path of {kind.name} in types.toml, as its manual says"
        )
    return found


async def find_credentials(
    keyring: Keyring, camera: Camera, seen: FoundDevice, main: StreamAddress
) -> Credentials | None:
    """The credentials with which the stream plays; None where it plays without any.

    Raises DeviceError; RefusedError where every password was refused, NotAskedError where not all could be tried.
    """
    assert keyring.plan is not None
    rules = keyring.rules(camera)
    visit = Visit(rules=rules, endpoint=seen.own_endpoint, patience_s=PATIENCE_S)
    now = replace(keyring.shows(main.host, camera), endpoint=seen.own_endpoint)
    keys, _ = await keys_for(keyring, Claim.of(keyring, seen, camera), now, main.host)
    target = Target(main.host, main.port, seen.own_endpoint)
    refused: list[RefusedError] = []
    while True:
        order = keyring.ledger.in_turn(target, Door.RTSP, [k.credentials for k in keys], ["digest"])
        until = None
        for credentials, _ in order:
            try:
                await rtsp_player.measure(main, replace(visit, credentials=credentials), 0.0)
            except LockedError:
                raise
            except NotAskedError as error:
                until = error.until
                break
            except RefusedError as error:
                refused.append(error)
                continue
            key = next(k for k in keys if k.credentials == credentials)
            if key.entry:
                await asyncio.to_thread(keyring.proved, key.entry, credentials, now)
            return credentials
        if until is None:
            break
        if not keyring.patience.patient:
            raise NotAskedError(f"{count(len(order), 'password')}, not all tried yet, so that it does not lock", until)
        await keyring.wait(camera.name, until)
    result = await rtsp_player.try_access(main, visit)
    if result.access is Access.PLAYS:
        return None
    if result.access is Access.UNCLEAR:
        raise result.error or DeviceError(result.detail)
    refused += [result.error] if isinstance(result.error, RefusedError) else []
    if refused and all(isinstance(error, ForbiddenError) for error in refused):
        raise refused[-1]  # it knows us, or does not ask: no password helps
    raise RefusedError("no password in the vault opens it; add the right one with `zentrale vault add`")


def is_rtsp_only(plan: Plan, camera: Camera) -> bool:
    """Whether the plan takes it as RTSP only, whatever else it answers."""
    return not plan.camera_type(camera).onvif
