"""When a recorder kept anything: searches over the events of its recordings (ONVIF Recording Search: GetRecordingSummary,
FindEvents, GetEventSearchResults, EndSearch; events tns1:RecordingHistory/Track/State with IsDataPresent).
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from datetime import datetime
from enum import Enum
from typing import NamedTuple

from zentrale.errors import RemoteProtocolError
from zentrale.protocols import soap, xml
from zentrale.protocols.soap import NS, TSE, TT, WSNT
from zentrale.protocols.xml import Element

TRACK_STATE = "tns1:RecordingHistory/Track/State"
PRESENT = "IsDataPresent"
MOST_RESULTS = 2048  # in one answer
_CONCRETE = "http://www.onvif.org/ver10/tev/topicExpression/ConcreteSet"
_MOST_NAME = 64
_TT, _WSNT = f"{{{NS['tt']}}}", f"{{{NS['wsnt']}}}"


class SearchState(Enum):
    """Of a search (tt:SearchState)."""

    QUEUED = "Queued"
    SEARCHING = "Searching"
    COMPLETED = "Completed"
    UNKNOWN = "Unknown"


class TrackEvent(NamedTuple):
    """From `at` on a track holds something, or nothing; `start`: it was so before, and no change."""

    recording: str
    track: str
    at: datetime
    present: bool
    start: bool = False


@dataclass(frozen=True)
class Summary:
    """Of all that a recorder keeps; None where it keeps nothing."""

    since: datetime | None
    until: datetime | None
    recordings: int


def get_summary() -> Element:
    return TSE.GetRecordingSummary()


def summary_response(summary: Summary) -> Element:
    times = [
        TT(name, soap.format_time(at))
        for name, at in (("DataFrom", summary.since), ("DataUntil", summary.until))
        if at is not None
    ]
    return TSE.GetRecordingSummaryResponse(TSE.Summary(*times, TT.NumberRecordings(str(summary.recordings))))


def parse_summary(response: Element) -> Summary:
    at = response.find("tse:Summary", NS)
    return Summary(_time(at, "tt:DataFrom"), _time(at, "tt:DataUntil"), xml.integer(at, "tt:NumberRecordings", NS))


def _time(parent: Element | None, path: str) -> datetime | None:
    text = xml.text(parent, path, NS)
    try:
        return soap.parse_time(text) if text else None
    except RemoteProtocolError:
        return None


def find_events(recordings: Iterable[str], start: datetime, end: datetime, most: int, kept_s: float) -> Element:
    """Of the tracks of these recordings, with their state at the start, oldest first; `kept_s` is how long the search is kept
    unasked.
    """
    return TSE.FindEvents(
        TSE.StartPoint(soap.format_time(start)),
        TSE.EndPoint(soap.format_time(end)),
        TSE.Scope(*(TT.IncludedRecordings(token) for token in recordings)),
        TSE.SearchFilter(WSNT.TopicExpression(TRACK_STATE, Dialect=_CONCRETE)),
        TSE.IncludeStartState("true"),
        TSE.MaxMatches(str(most)),
        TSE.KeepAliveTime(f"PT{kept_s:g}S"),
    )


class Wanted(NamedTuple):
    """What a search is for."""

    recordings: tuple[str, ...]
    start: datetime
    end: datetime
    most: int


def find_events_request(request: Element) -> Wanted:
    """Raises RemoteProtocolError."""
    start, end = (soap.parse_time(xml.text(request, f"tse:{n}", NS)) for n in ("StartPoint", "EndPoint"))
    tokens = [xml.safe(e.text or "") for e in request.findall("tse:Scope/tt:IncludedRecordings", NS)]
    return Wanted(tuple(tokens), start, end, xml.integer(request, "tse:MaxMatches", NS))


def find_events_response(token: str) -> Element:
    return TSE.FindEventsResponse(TSE.SearchToken(token))


def parse_search_token(response: Element) -> str:
    """Raises RemoteProtocolError where it names no search."""
    token = xml.text(response, "tse:SearchToken", NS)
    if not token:
        raise RemoteProtocolError("a search without a token")
    return token


def get_results(token: str, most: int, wait_s: float) -> Element:
    return TSE.GetEventSearchResults(
        TSE.SearchToken(token), TSE.MinResults("1"), TSE.MaxResults(str(most)), TSE.WaitTime(f"PT{wait_s:g}S")
    )


def results_request(request: Element) -> tuple[str, int]:
    """The search, and how many results at most; 0: any."""
    return xml.text(request, "tse:SearchToken", NS), xml.integer(request, "tse:MaxResults", NS)


def results_response(state: SearchState, events: Iterable[TrackEvent]) -> Element:
    return TSE.GetEventSearchResultsResponse(
        TSE.ResultList(TT.SearchState(state.value), *(_result(event) for event in events))
    )


def _result(event: TrackEvent) -> Element:
    inner = TT.Message(
        TT.Source(
            TT.SimpleItem(Name="RecordingToken", Value=event.recording), TT.SimpleItem(Name="Track", Value=event.track)
        ),
        TT.Data(TT.SimpleItem(Name=PRESENT, Value=str(event.present).lower())),
    )
    inner.set("UtcTime", soap.format_time(event.at))
    inner.set("PropertyOperation", "Initialized" if event.start else "Changed")
    return TT.Result(
        TT.RecordingToken(event.recording),
        TT.TrackToken(event.track),
        TT.Time(soap.format_time(event.at)),
        TT.Event(WSNT.Topic(TRACK_STATE, Dialect=_CONCRETE), WSNT.Message(inner)),
        TT.StartStateEvent(str(event.start).lower()),
    )


def parse_results(response: Element) -> tuple[SearchState, list[TrackEvent]]:
    """What cannot be read is left out."""
    held = response.find("tse:ResultList", NS)
    if held is None:
        return SearchState.UNKNOWN, []
    told = (held.findtext(f"{_TT}SearchState") or "").strip()
    state = next((s for s in SearchState if s.value == told), SearchState.UNKNOWN)
    return state, list(_events(held))


def _events(held: Element) -> Iterator[TrackEvent]:
    """Read child by child: there are tens of thousands."""
    for number, result in enumerate(held.iterchildren(f"{_TT}Result")):
        if number >= MOST_RESULTS:
            return
        event = result.find(f"{_TT}Event")
        topic = "" if event is None else (event.findtext(f"{_WSNT}Topic") or "").strip()
        if event is None or topic.partition(":")[2] != TRACK_STATE.partition(":")[2]:
            continue
        present = next(
            (i.get("Value") for i in event.iter(f"{_TT}SimpleItem") if i.get("Name") == PRESENT), None
        )  # fmt: skip
        try:
            at = soap.parse_time(result.findtext(f"{_TT}Time") or "")
        except RemoteProtocolError:
            continue
        if present is not None:
            recording, track = (
                xml.safe(result.findtext(f"{_TT}{n}Token") or "")[:_MOST_NAME] for n in ("Recording", "Track")
            )
            start = xml.true(result.findtext(f"{_TT}StartStateEvent") or "")
            yield TrackEvent(recording, track, at, xml.true(present), start)


def end_search(token: str) -> Element:
    return TSE.EndSearch(TSE.SearchToken(token))


def end_search_token(request: Element) -> str:
    return xml.text(request, "tse:SearchToken", NS)


def end_search_response(at: datetime) -> Element:
    return TSE.EndSearchResponse(TSE.Endpoint(soap.format_time(at)))
