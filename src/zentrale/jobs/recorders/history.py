"""When a recorder kept what on a channel: by a search over its events, else by winding to moments and looking what is played."""

from __future__ import annotations

import time
from collections.abc import Awaitable, Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta

from zentrale import quantities
from zentrale.field.device import Device
from zentrale.jobs.known.spans import Span, joined
from zentrale.jobs.recorders.searching import AT_ONCE, KEPT_S, WAIT_S, search_all
from zentrale.protocols.onvif import history
from zentrale.protocols.onvif.history import TrackEvent

SEARCH, REPLAY, NOT_TOLD = "search", "replay", "not told"
_MOST = 100_000  # results of one search
_MOST_EVENTS = 400_000  # of one recorder
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
        return await search_all(
            self._client, history.find_events(recordings, start, end, _MOST, KEPT_S),
            lambda token: history.get_results(token, AT_ONCE, WAIT_S), history.parse_results, most=_MOST, deadline=deadline,
        )  # fmt: skip


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
            last = await _end(first_from, last, at)
            spans.append((begun.timestamp(), last.timestamp()))
            begun = None
        if came is not None:
            begun = await _beginning(first_from, before, came) if near else came
            last = at = max(at, begun)
    if begun is not None:
        spans.append((begun.timestamp(), last.timestamp()))
    problem = (
        f"there was no time to wind on from {quantities.moment(last)}: ask fewer channels with --only" if late else ""
    )
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
    return await _beginning(first_from, gone, found)


_DAY_MIN = 24 * 60
_BACK_MIN = (1, 10, 60, 360, *(_DAY_MIN * 2**n for n in range(11)))  # the last of them before any recorder's time
_NEAR_S = 10.0  # to the next key picture
_LAST = timedelta(seconds=1)  # before now: what is looked at last


async def _end(first_from: First, there: datetime, gone: datetime) -> datetime:
    """Until when something is kept: between a moment where it is and a later one where it is not, to a second."""
    while gone - there > _LAST:
        middle = there + (gone - there) / 2
        came = await first_from(middle)
        if came is not None and (came - middle).total_seconds() < min(_NEAR_S, (gone - middle).total_seconds()):
            there = max(middle, came)
        else:
            gone = middle
    return there


async def _beginning(first_from: First, gone: datetime, there: datetime) -> datetime:
    """Since when: between a moment from which nothing is played and a later one where something was seen, to a second."""
    found = there
    while there - gone > _LAST:
        middle = gone + (there - gone) / 2
        came = await first_from(middle)
        if came is None or (came - middle).total_seconds() > _NEAR_S:
            gone = middle
        else:
            there = middle
        found = found if came is None else min(found, came)
    return found


def by_track(events: Iterable[TrackEvent]) -> Mapping[tuple[str, str], list[TrackEvent]]:
    """Of each recording's track, in order."""
    found: dict[tuple[str, str], list[TrackEvent]] = {}
    for event in events:
        found.setdefault((event.recording, event.track), []).append(event)
    return found
