"""One device, asked from its service up to its stream addresses; each answer with how long it took, as far as there is time."""

from __future__ import annotations

import asyncio
import time
from collections.abc import Awaitable, Callable, Mapping
from dataclasses import dataclass, field, replace
from typing import TypeVar

from zentrale.errors import (
    CertificateError,
    ClearTextError,
    DeviceError,
    ForbiddenError,
    NotAskedError,
    RefusedError,
    RemoteProtocolError,
)
from zentrale.field.device import Device
from zentrale.field.visit import Visit
from zentrale.jobs.checks.seen import Target
from zentrale.jobs.known.device_states import State
from zentrale.jobs.known.found_devices import FoundDevice
from zentrale.jobs.known.planned import Planned, ref_of
from zentrale.jobs.known.profile_choice import ProfileChoice
from zentrale.jobs.passwords.access import Claim, find_entry
from zentrale.jobs.passwords.keyring import Keyring
from zentrale.jobs.passwords.trying import Entry
from zentrale.jobs.streams.rtsp_only import find_credentials, kept_addresses, stream_addresses
from zentrale.logbook.evidence import latest
from zentrale.protocols.addresses import bracketed
from zentrale.protocols.onvif.device import SERVICE_PATH
from zentrale.protocols.onvif.media import Profile
from zentrale.protocols.stream_address import StreamAddress
from zentrale.site.model import Camera, StreamPlan
from zentrale.words import MASK

T = TypeVar("T")
ANSWER_S = 7.0  # one that takes longer is late whatever it says
LATE_S = 4.0  # clients give up on the next answer at about this, and nothing gets on with such a device
RTSP_S = 7.0
CLIMB_S = 9.0  # for all of it: an installer waits, and what is above is then not known
_SECURE_PORTS = (443, 8443)
_TICK_S = 0.05
STREAM = "stream"  # the kind of what `verify` saw of streams


class Lag:
    """How late this machine comes to its own work while something is measured: what it adds to times of answers [s]."""

    def __init__(self) -> None:
        self.total_s = 0.0
        self._task: asyncio.Task[None] | None = None

    async def _run(self) -> None:
        while True:
            due = time.monotonic() + _TICK_S
            await asyncio.sleep(_TICK_S)
            self.total_s += time.monotonic() - due

    async def __aenter__(self) -> Lag:
        self._task = asyncio.create_task(self._run())
        return self

    async def __aexit__(self, *_: object) -> None:
        assert self._task is not None
        self._task.cancel()
        await asyncio.gather(self._task, return_exceptions=True)


@dataclass
class Climb:
    """What one device answered. None and empty where it was not come to.

    answered_s: how long its first answer took; failed: why its service did not answer as it should; not_soap: it answered, but
                not as a web service does
    own_s:      how much of that time, or of waiting for it, this machine had no time itself
    offset_s:   how far its clock is ahead [s]; tells_clock: to everybody
    entry:      what opens it; refused: why nothing did, where it was asked by RTSP alone
    profiles:   how many it tells; unfit: why a stream has no address, by stream
    out_of_time: it was not done within its time
    """

    url: str = ""
    answered_s: float | None = None
    own_s: float = 0.0
    failed: str = ""
    answers: list[float] = field(default_factory=list)
    offset_s: float | None = None
    tells_clock: bool = True
    entry: Entry | None = None
    refused: DeviceError | None = None
    profiles: int | None = None
    unfit: dict[str, str] = field(default_factory=dict)
    target: Target | None = None
    out_of_time: bool = False
    by_rtsp: bool = False

    @property
    def slowest_s(self) -> float:
        return max(self.answers, default=0.0)


def service_url(host: str, port: int, seen: FoundDevice | None) -> str:
    """Where its device service is: as it was seen, at the host where it answers now; else where ONVIF puts it."""
    if seen is not None and seen.url and seen.port == port:
        scheme, _, rest = seen.url.partition("://")
        path = rest.partition("/")[2]
        return f"{scheme}://{bracketed(host)}:{port}/{path}"
    scheme = "https" if port in _SECURE_PORTS else "http"
    return f"{scheme}://{bracketed(host)}:{port}{SERVICE_PATH}"


async def climb(
    keyring: Keyring, row: Planned, seen: FoundDevice | None, url: str, *, may_enter: bool, streams: bool
) -> Climb:
    """Ask it all. `may_enter`: credentials may go out there; `streams`: where its streams are."""
    found = Climb(url)
    known = seen or FoundDevice(Device(url).host, url, "diagnosis")
    try:
        async with asyncio.timeout(CLIMB_S):
            await _asked(found, keyring, row, known, may_enter=may_enter, streams=streams)
    except TimeoutError:
        found.out_of_time = True
    except RefusedError as error:
        found.refused = error
    except DeviceError as error:
        if found.answered_s is None:
            found.failed = str(error)
        elif found.entry is None:
            found.refused = error
        else:
            found.unfit.setdefault("main", str(error))
    return found


async def _asked(
    found: Climb, keyring: Keyring, row: Planned, seen: FoundDevice, *, may_enter: bool, streams: bool
) -> None:
    async def timed(ask: Callable[[], Awaitable[T]]) -> T:
        began = time.monotonic()
        try:
            return await ask()
        finally:
            found.answers.append(time.monotonic() - began)

    async def first() -> bool:
        async with Lag() as lag:
            try:
                return await timed(client.read_clock)
            finally:
                found.own_s = lag.total_s

    rules = keyring.rules(row)
    async with Device(found.url, rules, endpoint=seen.own_endpoint, timeout_s=ANSWER_S) as client:
        found.tells_clock = await first()
        found.answered_s = found.answers[0]
        found.offset_s = round(client.clock_offset.total_seconds(), 1) if found.tells_clock else None
        if found.answered_s > LATE_S:
            found.out_of_time = True
        if not may_enter or found.out_of_time:
            return
        claim = replace(Claim.of(keyring, seen, row), thorough=False)
        found.entry = await find_entry(client, keyring, claim, row.name)
        if found.entry.closed:
            return
        if not found.tells_clock:
            await client.system_time()
            found.offset_s = round(client.clock_offset.total_seconds(), 1)
        if not streams or not isinstance(row, Camera):
            return
        told = await timed(client.media.profiles)
        found.profiles = len(told)
        addresses: dict[str, StreamAddress] = {}
        choice = ProfileChoice.remembered(keyring.logbook, ref_of(row), row.source)
        assert keyring.plan is not None
        for stream, profile in _by_size(choice.of(told), keyring.plan.streams(row)).items():
            try:
                addresses[stream] = await timed(lambda token=profile.token: client.media.stream_address(token))  # type: ignore[misc]
            except RemoteProtocolError as error:
                found.unfit[stream] = error.what
        named = tuple(f"{host} ({what})" for host, what in client.named_hosts.items())
        visit = Visit(found.entry.credentials, rules, seen.own_endpoint)
        found.target = Target(row, client.url, visit, addresses, found.unfit, named, found.offset_s, found.entry)


def _by_size(chosen: Mapping[str, Profile], planned: Mapping[str, StreamPlan]) -> Mapping[str, Profile]:
    """Where the only profile that is left is of the sub stream's size, the main one is missing, and not the sub stream."""
    main = chosen["main"].encoder if set(chosen) == {"main"} and "sub" in planned else None
    if main is None:
        return chosen
    size = main.width_px, main.height_px
    return {"sub": chosen["main"]} if size == planned["sub"].resolution != planned["main"].resolution else chosen


def earlier_addresses(keyring: Keyring, camera: Camera) -> dict[str, str]:
    """Where its streams were when they were measured last, or found, by stream."""
    measured = {
        ref.part.removesuffix(" stream"): str(seen.content.get("url") or "")
        for ref, seen in latest(keyring.logbook, STREAM).items()
        if ref.name == camera.name and ref.part.endswith(" stream")
    }
    return {
        **{s: url for s, url in measured.items() if url and MASK not in url},
        **kept_addresses(keyring.logbook, camera.name),
    }


async def climb_by_rtsp(keyring: Keyring, camera: Camera, seen: FoundDevice | None, host: str, port: int) -> Climb:
    """Of one that answers by RTSP alone: where its streams were or are planned, with what the vault has for it."""
    found = Climb(by_rtsp=True)
    assert keyring.plan is not None
    device = replace(seen or FoundDevice(host, "", "diagnosis"), address=host, rtsp_ports=(port,))
    try:
        addresses = stream_addresses(keyring.plan, camera, host, port, earlier_addresses(keyring, camera))
    except DeviceError as error:
        found.unfit["main"] = str(error)
        return found
    visit = Visit(None, keyring.rules(camera), device.own_endpoint)
    found.target = Target(camera, "", visit, addresses)
    try:
        async with asyncio.timeout(RTSP_S):
            credentials = await find_credentials(keyring, camera, device, addresses["main"])
    except TimeoutError:
        found.failed = f"it did not answer within {RTSP_S:g} s"
    except ForbiddenError as error:  # it lets nobody see it, whoever asks
        found.failed = str(error)
    except (RefusedError, NotAskedError, ClearTextError, CertificateError) as error:
        found.refused, found.target = error, None
    except DeviceError as error:  # what that is, playing it tells
        found.failed = str(error)
    else:
        found.target = replace(found.target, visit=replace(visit, credentials=credentials))
        found.entry = Entry(State.OUR_PASSWORD if credentials is not None else State.OPEN, credentials, "vault")
    return found
