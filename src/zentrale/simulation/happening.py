"""What happens at the stand-in site, and how its devices tell it: events by pull point."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterable, Iterator
from datetime import UTC, datetime, timedelta

from zentrale.protocols import soap
from zentrale.protocols.onvif import events
from zentrale.protocols.xml import Element

EVENTS_PATH = "/onvif/event_service"
_LASTS = timedelta(minutes=1)
MOVES_EVERY_S, MOVES_FOR_S = 20, 10  # in front of every camera of the stand-in site


def something_moves(now_s: float, before_s: float = 0.0, after_s: float = 0.0) -> bool:
    """Whether a recording that begins and ends around each movement runs at this time."""
    moves = now_s % MOVES_EVERY_S < MOVES_FOR_S
    return moves or (now_s + before_s) % MOVES_EVERY_S < before_s or (now_s - MOVES_FOR_S) % MOVES_EVERY_S < after_s


def movements(since_s: float, until_s: float) -> Iterator[tuple[float, bool]]:
    """Each time at which it began to move, or ended."""
    at = since_s // MOVES_FOR_S * MOVES_FOR_S + MOVES_FOR_S
    while at <= until_s:
        yield at, something_moves(at)
        at += MOVES_FOR_S


class PullPoint:
    """One subscription: the state of each property as it is, then what changes. `state` tells the messages that there are now,
    `changes` those between two times [s since 1970].
    """

    def __init__(
        self,
        url: str,
        state: Callable[[], Iterable[events.Message]],
        changes: Callable[[float, float], Iterable[events.Message]] = lambda since_s, until_s: (),
    ) -> None:
        self._url = url
        self._state = state
        self._changes = changes
        self._waiting: list[events.Message] = []
        self._topics: list[str] = []
        self._since_s = 0.0

    def operations(self) -> dict[str, Callable[[Element], Element]]:
        return {
            "CreatePullPointSubscription": self._subscribe, "PullMessages": self._pull,
            "Unsubscribe": lambda _: soap.WSNT.UnsubscribeResponse(),
        }  # fmt: skip

    def _subscribe(self, request: Element) -> Element:
        self._topics, self._since_s = events.topics_of(request), time.time()
        self._waiting = self._wanted(self._state())
        now = datetime.now(UTC)
        return events.create_response(f"{self._url}/pull-1", now, now + _LASTS)

    def _wanted(self, messages: Iterable[events.Message]) -> list[events.Message]:
        return [m for m in messages if not self._topics or any(m.topic.startswith(t) for t in self._topics)]

    def _pull(self, request: Element) -> Element:
        until_s = time.time()
        some = self._waiting + self._wanted(self._changes(self._since_s, until_s))
        self._waiting, self._since_s = [], until_s
        now = datetime.fromtimestamp(until_s, UTC)
        return events.pull_response(some, now, now + _LASTS)
