"""When a recorder kept what on a channel: by a search over its events, else by winding to moments and looking what is played."""

from __future__ import annotations

import time
from collections.abc import Awaitable, Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta

from zentrale import quantities
from zentrale.errors import DeviceError, RefusedError, UnreachableError
from zentrale.field.device import Device
from zentrale.jobs.known.spans import Span, joined
from zentrale.protocols.onvif import history
from zentrale.protocols.onvif.history import SearchState, TrackEvent

SEARCH, REPLAY, NOT_TOLD = "search", "replay", "not told"
_AT_ONCE = 500  # results in one answer
_MOST = 100_000  # results of one search
_MOST_EVENTS = 400_000  # of one recorder
_WAIT_S, _KEPT_S = 5.0, 60.0
_NOTHING_NEW = 3  # answers in a row without a result
_ENOUGH_S = 120.0
_NEXT = timedelta(milliseconds=1)  # times are told to a millisecond
_JOINED_S = 1.5  # recorders cut what is contiguous into files
_STEP_S = 3600.0
_MOST_STEPS = 120


@dataclass(frozen=True)
class History:
    """Of one channel, by the recorder's own clock. main, sub: when its streams were kept, `sub` None where the recording has no
    second picture; searched: in which way that was learnt; step_s: how finely; problem: why it is not known whole; known_until:
    up to where it is known then, None where it is known until now
    """

    main: tuple[Span, ...] = ()
    sub: tuple[Span, ...] | None = None
    searched: str = NOT_TOLD
    step_s: float = 1.0
    problem: str = ""
    known_until: datetime | None = None


class EventSearch:
    """All events of some recordings, however the recorder tells them: many or one in an answer, in one search or several."""

    def __init__(self, client: Device) -> None:
        self._client = client
        self.problem = ""
        self.known_until: datetime | None = None  # up to where all was told, None where it was told whole

    async def events(self, recordings: Sequence[str], start: datetime, end: datetime) -> list[TrackEvent]:
        """Oldest first. Raises NotOfferedError where it has no such search, or another DeviceError."""
        found: list[TrackEvent] = []
        since, deadline = start, time.monotonic() + _ENOUGH_S
        while True:
            some, whole = await self._one(recordings, since, end, deadline)
            changes = [e for e in some if not e.start]
            found += some
            newest = max((e.at for e in changes), default=since)
            if time.monotonic() > deadline or len(found) >= _MOST_EVENTS:
                self.problem, self.known_until = f"not all was told in time: {len(found)} events", newest
                break
            # A search that the recorder cut short looks like one that is complete: it is complete when it brings nothing more.
            if not changes or newest < since:
                if not whole:
                    self.problem, self.known_until = f"its search ended by itself after {len(found)} events", newest
                break
            since = newest + _NEXT  # the state at the beginning tells what else changed in that moment
        return sorted(dict.fromkeys(found), key=lambda e: e.at)

    async def _one(
        self, recordings: Sequence[str], start: datetime, end: datetime, deadline: float
    ) -> tuple[list[TrackEvent], bool]:
        """What one search brings, and whether it came to its end."""
        request = history.find_events(recordings, start, end, _MOST, _KEPT_S)
        token = history.parse_find_events(await self._client.call("tse", request))
        found: list[TrackEvent] = []
        empty = 0
        try:
            while time.monotonic() < deadline and len(found) < _MOST:
                answer = await self._client.call("tse", history.get_results(token, _AT_ONCE, _WAIT_S))
                state, some = history.parse_results(answer)
                found += some
                empty = 0 if some else empty + 1
                if state in (SearchState.COMPLETED, SearchState.UNKNOWN) or empty >= _NOTHING_NEW:
                    return found, state is SearchState.COMPLETED
        except (RefusedError, UnreachableError):
            raise
        except DeviceError:
            return found, False  # it knows its own search no more
        await self._end(token)
        return found, False

    async def _end(self, token: str) -> None:
        try:
            await self._client.call("tse", history.end_search(token))
        except DeviceError:
            return  # it ends by itself


def spans_of(events: Iterable[TrackEvent], earliest: datetime | None, until: datetime) -> tuple[Span, ...]:
    """When one track held something. earliest: since when, where the first event says that it holds nothing from then on, and no
    state was told before; until: what is still kept then
    """
    spans: list[Span] = []
    begun: float | None = None
    first = True
    for event in events:
        at = event.at.timestamp()
        if event.present and begun is None:
            begun = at
        elif not event.present:
            if begun is None and first and not event.start and earliest is not None:
                begun = earliest.timestamp()
            if begun is not None:
                spans.append((begun, at))
            begun = None
        first = False
    if begun is not None:
        spans.append((begun, until.timestamp()))
    return tuple(joined(spans, _JOINED_S))


First = Callable[[datetime], Awaitable[datetime | None]]


async def wound(first_from: First, now: datetime, enough_s: float = _ENOUGH_S) -> History:
    """By what is played from a moment on. first_from: when the first picture was recorded that comes, None where none does: some
    recorders play on from the next picture there is, others refuse or say nothing in a hole. enough_s: no longer than that [s]
    """
    deadline = time.monotonic() + enough_s
    oldest = await _oldest(first_from, now)
    if oldest is None:
        return History(searched=REPLAY, problem="nothing was played")
    step_s = max(_STEP_S, (now - oldest).total_seconds() / _MOST_STEPS)
    step = timedelta(seconds=step_s)
    spans: list[Span] = []
    begun: datetime | None = oldest  # of the span that is looked at; None in a hole where nothing is played
    last = at = oldest  # where something was seen, and where it was looked for
    late = False
    while at < now - _LAST and not late:
        before, at = at, min(at + step, now - _LAST)
        late = time.monotonic() > deadline
        came = None if late else await first_from(at)
        if came is not None and came < at - step:
            return History(searched=NOT_TOLD, problem="it plays from another time than was asked for")
        near = came is not None and (came - at).total_seconds() < _NEAR_S
        if near and begun is not None:
            last = at
            continue
        if begun is not None and not late:
            last = await _edge(first_from, last, at)
            spans.append((begun.timestamp(), last.timestamp()))
            begun = None
        if came is not None:
            begun = await _edge(first_from, came, before) if near else came
            last = at = max(at, begun)
    if begun is not None:
        spans.append((begun.timestamp(), last.timestamp()))
    problem = f"there was no time to wind on from {quantities.moment(last)}" if late else ""
    return History(tuple(joined(spans, _JOINED_S)), None, REPLAY, step_s, problem, last if late else None)


async def _oldest(first_from: First, now: datetime) -> datetime | None:
    """The first picture there is: what is played from long ago on; where that is refused, between the farthest moment at which
    something comes and the next at which nothing does.
    """
    came = await first_from(datetime(1990, 1, 1, tzinfo=UTC))
    if came is not None:
        return came
    found: datetime | None = None
    since = gone = now
    for at in (now - timedelta(minutes=m) for m in _BACK_MIN):
        came = await first_from(at)
        if came is not None:
            found, since = came, at
        elif gone >= since:
            gone = at
    if found is None or gone >= since or (found - since).total_seconds() > _NEAR_S:
        return found
    return await _edge(first_from, found, gone)


_DAY_MIN = 24 * 60
_BACK_MIN = (1, 10, 60, 360, *(_DAY_MIN * 2**n for n in range(11)))  # the last of them before any recorder's time
_NEAR_S = 10.0  # to the next key picture
_LAST = timedelta(seconds=1)  # before now: what is looked at last


async def _edge(first_from: First, there: datetime, gone: datetime) -> datetime:
    """Until when something is kept, or since when: between a moment where it is and one where it is not, to a second."""
    while abs(gone - there) > timedelta(seconds=1):
        middle = there + (gone - there) / 2
        came = await first_from(middle)
        near_s = min(_NEAR_S, abs(gone - middle).total_seconds())
        if came is not None and (came - middle).total_seconds() < near_s:
            there = max(middle, came) if gone > there else min(there, came)
        else:
            gone = middle
    return there


def by_track(events: Iterable[TrackEvent]) -> Mapping[tuple[str, str], list[TrackEvent]]:
    """Of each recording's track, in order."""
    found: dict[tuple[str, str], list[TrackEvent]] = {}
    for event in events:
        found.setdefault((event.recording, event.track), []).append(event)
    return found
