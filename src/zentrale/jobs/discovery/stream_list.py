"""Where the streams of found devices are: told by ONVIF Media or Media 2; for devices that speak RTSP only, by trying paths.

Paths are tried politely: one after the other, with the password that opened the first, never more than the ledger lets go out.
"""

from __future__ import annotations

import asyncio
import re
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import asdict, dataclass, replace
from pathlib import Path

from zentrale import quantities
from zentrale.errors import Cause, DeviceError, InputError, RefusedError
from zentrale.field import rtsp_player, scheduler
from zentrale.field.causes import cause_of
from zentrale.field.scheduler import Failure
from zentrale.field.visit import Visit
from zentrale.jobs.discovery.discovering import AT_ONCE, BUDGET_S
from zentrale.jobs.discovery.matching import Matching
from zentrale.jobs.known.device_states import State
from zentrale.jobs.known.found_devices import USUAL_RTSP_PORTS, FoundDevice
from zentrale.jobs.known.planned import planned_devices, ref_of
from zentrale.jobs.passwords.access import entered
from zentrale.jobs.passwords.keyring import Keyring
from zentrale.jobs.streams.rtsp_only import STREAMS
from zentrale.logbook.evidence import Notes, note
from zentrale.logbook.store import Logbook
from zentrale.protocols.addresses import bracketed
from zentrale.protocols.doors import Door, Target
from zentrale.protocols.http_auth import Credentials
from zentrale.protocols.stream_address import StreamAddress
from zentrale.site.model import Camera, Plan
from zentrale.subjects import Kind, Ref

PATHS_FILE = "paths.txt"
# Paths that name nothing of a maker. {n} is 1 for the main stream; the sub stream is looked for with other numbers.
NEUTRAL_PATHS = (
    "/", "/live", "/stream", "/stream{n}", "/live/{n}", "/live/main", "/live{n}", "/media/video{n}", "/video{n}", "/video",
    "/ch{n}", "/ch0{n}", "/channel{n}", "/main", "/h264", "/{n}",
)  # fmt: skip
MOST_PATHS = 60
_PAUSE_S = 0.1
_PICTURE_WITHIN_S = 5.0  # for its size


@dataclass(frozen=True)
class ListedStream:
    """A stream as its device describes it; what it does not tell is empty or 0. `url` holds no password."""

    name: str
    url: str
    codec: str = ""
    width_px: int = 0
    height_px: int = 0
    fps: float = 0.0
    bitrate_kbps: int = 0


@dataclass(frozen=True)
class Listed:
    """The streams of one device; `note` says why there are none, or what was tried."""

    name: str
    device: FoundDevice
    streams: tuple[ListedStream, ...] = ()
    note: str = ""


def path_patterns(folder: Path) -> tuple[str, ...]:
    """The person's own paths first, then the neutral ones. Raises InputError for a line that is no path."""
    file = folder / PATHS_FILE
    own: list[str] = []
    if file.exists():
        try:
            lines = file.read_text(encoding="utf-8").splitlines()
        except (OSError, UnicodeDecodeError) as error:
            raise InputError(
                f"{file}: cannot be read: {error}", "expected one path a line, such as /stream{n}"
            ) from None
        for number, line in enumerate(lines, start=1):
            text = line.strip()
            if text and not text.startswith("#"):
                if not text.startswith("/") or " " in text or len(text) > 200:
                    raise InputError(
                        f"{file} line {number}: {text[:80]!r} is no path", "expected one such as /stream{n}"
                    )
                own.append(text)
    return tuple(dict.fromkeys((*own, *NEUTRAL_PATHS)))[:MOST_PATHS]


def sub_paths(main: str) -> Iterator[str]:
    """Paths that may be the sub stream's: each number of the main one's path as the next one and the one before, the last
    number first; main as sub, high as low.
    """
    for match in reversed(list(re.finditer(r"\d+", main))):
        for step in (1, -1):
            number = int(match[0]) + step
            if number >= 0:
                yield main[: match.start()] + str(number).zfill(len(match[0])) + main[match.end() :]
    for word, other in (("main", "sub"), ("high", "low")):
        if word in main:
            yield main.replace(word, other)


async def list_streams(
    plan: Plan, keyring: Keyring, matching: Matching[FoundDevice], patterns: Sequence[str]
) -> list[Listed]:
    """The streams of all devices that were found, as far as they let us in; kept in the logbook."""
    recorders = {r.name for r in plan.recorders}
    playing = [d for d in matching.devices if d.speaks_onvif or d.state == State.RTSP_ONLY.value]
    devices = [d for d in playing if matching.name_of(d) not in recorders]

    async def one(device: FoundDevice) -> Listed:
        name = matching.name_of(device)
        if device.state == State.RTSP_ONLY.value:
            return await _by_paths(plan, keyring, name, device, patterns)
        return await _by_onvif(plan, keyring, name, device)

    results = await scheduler.run(devices, one, at_once=AT_ONCE, budget_s=keyring.budget(BUDGET_S))
    return [Listed(matching.name_of(r.item), r.item, note=r.message) if isinstance(r, Failure) else r for r in results]


def keep(logbook: Logbook, run: int, plan: Plan, listed: Iterable[Listed]) -> None:
    planned = planned_devices(plan)
    notes = Notes()
    for item in listed:
        if item.streams:
            ref = ref_of(planned[item.name]) if item.name else Ref(Kind.DEVICE, item.device.address)
            notes.observe(STREAMS, ref, item.device.method, {"streams": [asdict(s) for s in item.streams]})
    note(logbook, run, notes)


async def _by_onvif(plan: Plan, keyring: Keyring, name: str, device: FoundDevice) -> Listed:
    planned = planned_devices(plan).get(name)
    async with entered(keyring, device, planned, patience_s=0.0) as client:
        streams = []
        for profile in await client.media.profiles():
            if (e := profile.encoder) is not None:
                url = (await client.media.stream_address(profile.token)).url
                name_ = profile.name or profile.token
                streams.append(ListedStream(name_, url, e.codec, e.width_px, e.height_px, e.fps, e.bitrate_kbps))
        return Listed(name, device, tuple(streams), "" if streams else "it tells no profile with video")


async def _by_paths(plan: Plan, keyring: Keyring, name: str, device: FoundDevice, patterns: Sequence[str]) -> Listed:
    planned = planned_devices(plan).get(name)
    kind = plan.camera_type(planned) if isinstance(planned, Camera) else None
    known = [f"/{path.lstrip('/')}" for path in (kind.main_path, kind.sub_path) if path] if kind else []
    port = device.rtsp_port or USUAL_RTSP_PORTS[0]
    tries = _Paths(plan, keyring, planned if isinstance(planned, Camera) else None, name, device, port)
    found = [s for s in [await tries.one(p) for p in known] if s]
    for path in () if found else [p.replace("{n}", "1") for p in patterns]:
        stream = await tries.one(path)
        if stream is not None:
            found.append(stream)
            for sub in sub_paths(path):
                other = await tries.one(sub)
                if other is not None:
                    found.append(other)
                    break
            break
    note_ = (
        ""
        if found
        else f"{quantities.count(len(tries.tried), 'path')} tried, none plays{tries.why}; add its own to {PATHS_FILE}"
    )
    return Listed(name, device, tuple(found), note_)


class _Paths:
    """Trying paths at one device: once credentials were taken, they are used for all."""

    def __init__(
        self, plan: Plan, keyring: Keyring, camera: Camera | None, name: str, device: FoundDevice, port: int
    ) -> None:
        self.keyring = keyring
        self.base = f"rtsp://{bracketed(device.address)}:{port}"
        self.visit = Visit(rules=keyring.rules(camera), endpoint=device.own_endpoint)
        maker = plan.maker(camera) if camera else device.maker
        other = keyring.contradiction(name, keyring.shows(device.address, camera), device.identity) if name else ""
        keys = [] if other else keyring.keys(device.identity, [name] if name else [], maker)
        target = Target(device.address, port, device.own_endpoint)
        order = keyring.ledger.in_turn(target, Door.RTSP, [k.credentials for k in keys], ["digest"])
        self.left: list[Credentials | None] = [None, *(c for c, _ in order)]
        self.why = ""
        self.tried: set[str] = set()

    async def one(self, path: str) -> ListedStream | None:
        """The stream at this path; None where there is none, or nobody of ours may see it."""
        while self.left:
            address = StreamAddress.parse(f"{self.base}{path}")
            self.tried.add(path)
            try:
                visit = replace(self.visit, credentials=self.left[0])
                measured = await rtsp_player.measure(address, visit, _PICTURE_WITHIN_S, until_picture=True)
            except RefusedError as error:
                if len(self.left) == 1:
                    self.why = f": {error.what}"
                self.left.pop(0)
                continue
            except DeviceError as error:
                self.why = f": {error.what}" if cause_of(error) is not Cause.PATH else self.why
                await asyncio.sleep(_PAUSE_S)
                return None
            return ListedStream(path, address.url, measured.codec, measured.width_px or 0, measured.height_px or 0)
        return None
