"""What an ONVIF recorder keeps on its channels, and where it is played from."""

from __future__ import annotations

import asyncio
import time
from collections.abc import Collection, Mapping, Sequence
from datetime import UTC, datetime, timedelta

from zentrale.errors import (
    DeviceError,
    NotOfferedError,
    PlayError,
    RefusedError,
    RemoteProtocolError,
    UnreachableError,
)
from zentrale.field.device import Device
from zentrale.field.replaying import replaying
from zentrale.field.visit import Visit
from zentrale.jobs.recorders.history import NOT_TOLD, SEARCH, EventSearch, History, by_track, spans_of, wound
from zentrale.jobs.recorders.onvif_lists import RecorderChannels
from zentrale.protocols.onvif import replay
from zentrale.protocols.onvif.history import TrackEvent
from zentrale.protocols.onvif.recording import Recording
from zentrale.protocols.onvif.recording_jobs import VIDEO
from zentrale.protocols.onvif.replay import Replay
from zentrale.protocols.onvif.search import Stored
from zentrale.protocols.stream_address import StreamAddress

_AHEAD = timedelta(minutes=1)
_WIND_S = 480.0  # for all channels of a recorder that has to be wound
_NOTHING_THERE = (404, 457)  # RFC 2326 clause 11.3: Not Found, Invalid Range


class KeptChannels:
    """Of one recorder. The times are its own clock's."""

    def __init__(self, client: Device, channels: RecorderChannels) -> None:
        self._client = client
        self._channels = channels
        self._addresses: dict[int, StreamAddress] = {}
        self._known: Mapping[int, Recording] | None = None
        self._asking = asyncio.Lock()

    @property
    def now(self) -> datetime:
        return datetime.now(UTC) + self._client.clock_offset

    @property
    def visit(self) -> Visit:
        client = self._client
        return Visit(client.credentials, client.rules, client.target.endpoint)

    async def read(self, numbers: Collection[int]) -> Mapping[int, History]:
        """Of these channels, as far as there are such. Raises DeviceError."""
        items = await self._items()
        wanted = {number: items[number] for number in numbers if number in items}
        try:
            return await self._searched(wanted)
        except NotOfferedError:
            found, end = dict[int, History](), time.monotonic() + _WIND_S
            for number in wanted:
                enough_s = (end - time.monotonic()) / (len(wanted) - len(found))  # what others left is for the rest
                found[number] = await self._wound(number, enough_s)
            return found

    async def _items(self) -> Mapping[int, Recording]:
        """The recording of each channel; asked once, however many channels are looked at together."""
        async with self._asking:
            if self._known is None:
                self._known = (await self._channels.numbering()).recordings
        return self._known

    async def _searched(self, wanted: Mapping[int, Recording]) -> Mapping[int, History]:
        stored = {number: await self._channels.stored(item) for number, item in wanted.items()}
        some = {n: s for n, s in stored.items() if s.earliest is not None and s.latest is not None}
        found = {n: History(searched=SEARCH) for n in stored if n not in some}
        if not some:
            return found
        start = min(s.earliest for s in some.values() if s.earliest is not None) - timedelta(seconds=1)
        search = EventSearch(self._client)
        events = by_track(await search.events([wanted[n].token for n in some], start, self.now + _AHEAD))
        for number, told in some.items():
            item = wanted[number]
            found[number] = _history(item, told, events, search)
            if found[number].searched == NOT_TOLD and len(some) > 1:  # what it tells of many at once may be cut short
                alone = EventSearch(self._client)
                own = by_track(await alone.events([item.token], start, self.now + _AHEAD))
                found[number] = _history(item, told, own, alone)
        return found

    async def address(self, number: int) -> StreamAddress:
        """Where a channel is played. Raises NotOfferedError, or another DeviceError."""
        if number not in self._addresses:
            item = (await self._items()).get(number)
            if item is None:
                raise DeviceError(f"it has no channel {number}")
            uri = replay.parse_replay_uri(await self._client.call("trp", replay.get_replay_uri(item.token)))
            if not uri:
                raise RemoteProtocolError("it tells no address for what it has stored")
            self._addresses[number] = StreamAddress.told(uri, self._client.host)
        return self._addresses[number]

    async def _wound(self, number: int, enough_s: float) -> History:
        try:
            await self.address(number)
        except NotOfferedError:
            return History(searched=NOT_TOLD, problem="it offers neither a search nor a replay")

        async def first_from(at: datetime) -> datetime | None:
            return await self.first_from(number, at)

        try:
            return await wound(first_from, self.now, enough_s)
        except (RefusedError, UnreachableError):
            raise
        except DeviceError as error:
            return History(searched=NOT_TOLD, problem=f"it does not play what it has stored: {error}")

    async def first_from(self, number: int, at: datetime) -> datetime | None:
        """When the first picture was recorded that is played from a moment on; None where there is none. Raises DeviceError."""
        address = await self.address(number)
        try:
            async with replaying(address, self.visit, Replay(at, None, key_pictures=True)) as player:
                async for each in player.packets():
                    if each.stamp is not None and not each.stamp.last:
                        return each.stamp.at
        except PlayError as error:
            if error.status not in _NOTHING_THERE:
                raise
        return None


def _history(
    item: Recording, told: Stored, events: Mapping[tuple[str, str], Sequence[TrackEvent]], search: EventSearch
) -> History:
    """Of the recording's first picture track, and of its second."""
    tracks = item.tracks_of(VIDEO)
    own = {track: some for (token, track), some in events.items() if token == item.token}
    assert told.latest is not None
    if not own:
        return _between(told, search.problem)
    first = next((t for t in tracks if t in own), next(iter(own)))
    second = next((t for t in tracks if t in own and t != first), None)
    until = min(told.latest, search.known_until or told.latest)
    main = spans_of(own[first], told.earliest, until)
    if not main:
        return _between(told, search.problem)
    sub = None if second is None else spans_of(own[second], told.earliest, until)
    return History(main, sub, SEARCH, 1.0, search.problem, search.known_until)


def _between(told: Stored, problem: str) -> History:
    """All that is known are the first and the last picture."""
    span = ((told.earliest.timestamp(), told.latest.timestamp()),) if told.earliest and told.latest else ()
    return History(
        span, None, NOT_TOLD, 1.0, problem or "between the first and the last picture its search tells nothing"
    )
