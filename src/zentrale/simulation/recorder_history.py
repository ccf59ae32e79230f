"""What a stand-in recorder tells of what it keeps: searches, told in pages, and where it is played."""

from __future__ import annotations

import secrets
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from datetime import UTC, datetime
from typing import Protocol

from zentrale.errors import SoapRefusalError
from zentrale.protocols.onvif import history, recording_jobs, replay, search
from zentrale.protocols.onvif.history import SearchState, Summary, TrackEvent
from zentrale.protocols.onvif.recording_jobs import FIRST_VIDEO, JobState, RecordingJob
from zentrale.protocols.xml import Element
from zentrale.simulation.recorder_archive import Archive
from zentrale.simulation.recorder_ring import Channel
from zentrale.simulation.scenario import Recorder as RecorderConfig

_PAGE = 200


@dataclass
class _Search:
    results: list[TrackEvent]
    told: int = 0


class Recorder(Protocol):
    """What a recorder must tell for this."""

    config: RecorderConfig
    channels: dict[str, Channel]
    jobs: dict[str, RecordingJob]
    started_s: float
    clock_offset_s: float

    def channel_of(self, token: str) -> Channel: ...
    def state_of(self, job: RecordingJob) -> JobState: ...
    def now_s(self) -> float: ...


class Stored:
    """The search and replay services of a recorder, as far as it has them."""

    def __init__(self, recorder: Recorder) -> None:
        self._recorder = recorder
        self._config = recorder.config
        self._searches: dict[str, _Search] = {}

    def operations(self) -> dict[str, Callable[[Element], Element]]:
        found: dict[str, Callable[[Element], Element]] = {}
        if self._config.search:
            found = {
                "GetRecordingInformation": self._information,
                "GetMediaAttributes": self._media_attributes,
                "GetRecordingSummary": lambda _: history.summary_response(self._summary()),
                "FindEvents": self._find,
                "GetEventSearchResults": self._results,
                "EndSearch": self._end,
            }
        return {**found, "GetReplayUri": self._replay_uri} if self._config.replay else found

    def archives(self) -> dict[str, Archive]:
        """What each recording keeps by now, by its token."""
        return {token: self._archive(n, token) for n, token in enumerate(self._recorder.channels, start=1)}

    def _archive(self, number: int, token: str) -> Archive:
        recorder, seed = self._recorder, self._config.seed_archive
        channel = recorder.channels[token]
        recorded = any(j.recording_token == token for j in recorder.jobs.values())
        seeded = seed if seed is not None and (number in seed.channels or (not seed.channels and recorded)) else None
        name = channel.recording.name or f"channel {number}"
        return Archive(name, number, channel.storage, seeded, recorder.started_s, recorder.clock_offset_s)

    def _replay_uri(self, request: Element) -> Element:
        token = replay.replay_token_of(request)
        self._recorder.channel_of(token)
        return replay.replay_uri_response(f"rtsp://{self._config.address}:{self._config.rtsp_port}/replay/{token}")

    def _information(self, request: Element) -> Element:
        channel = self._recorder.channel_of(search.recording_token_of(request))
        spans = self.archives()[channel.recording.token].spans()
        first, last = (
            None if moment is None else datetime.fromtimestamp(moment, UTC)
            for moment in ((spans[0][0], spans[-1][1]) if spans else (None, None))
        )
        states = [
            self._recorder.state_of(j).state
            for j in self._recorder.jobs.values()
            if j.recording_token == channel.recording.token
        ]
        status = "Recording" if recording_jobs.ACTIVE in states else "Stopped"
        return search.information_response(channel.recording, search.Stored(first, last, status))

    def _media_attributes(self, request: Element) -> Element:
        channel = self._recorder.channel_of(search.attributes_token_of(request))
        rings = [r for r in (channel.storage, *channel.further) if r.packets and all(r.resolution)]
        videos = [search.StoredVideo(*r.resolution, "H264") for r in rings]
        return search.media_attributes_response(
            channel.recording, videos, datetime.fromtimestamp(self._recorder.now_s(), UTC)
        )

    def _summary(self) -> Summary:
        spans = [span for archive in self.archives().values() for span in archive.spans()]
        count = len(self.archives())
        if not spans:
            return Summary(None, None, count)
        return Summary(_moment(min(a for a, _ in spans)), _moment(max(b for _, b in spans)), count)

    def _find(self, request: Element) -> Element:
        wanted, archives = history.find_events_request(request), self.archives()
        start, end = wanted.start.timestamp(), wanted.end.timestamp()
        results: list[TrackEvent] = []
        for token in wanted.recordings or archives:
            if token in archives:
                results += _events(token, archives[token], start, end)
        results.sort(key=lambda event: event.at)
        most = min(wanted.most or len(results), self._config.search_most or len(results))
        name = f"SEARCH{secrets.token_hex(3)}"
        self._searches[name] = _Search(results[:most])
        return history.find_events_response(name)

    def _search(self, token: str) -> _Search:
        if token not in self._searches:
            raise SoapRefusalError("Sender", "InvalidArgVal", "InvalidToken", reason="no such search")
        return self._searches[token]

    def _results(self, request: Element) -> Element:
        token, most = history.results_request(request)
        search = self._search(token)
        page = min(most or _PAGE, self._config.search_page or _PAGE)
        some = search.results[search.told : search.told + page]
        search.told += len(some)
        if self._config.search_dies_after and search.told >= self._config.search_dies_after:
            del self._searches[token]  # fault: it forgets a search that is long
        done = search.told >= len(search.results)
        return history.results_response(SearchState.COMPLETED if done else SearchState.SEARCHING, some)

    def _end(self, request: Element) -> Element:
        token = history.end_search_token(request)
        self._search(token)
        del self._searches[token]
        return history.end_search_response(datetime.now(UTC))


def _moment(seconds: float) -> datetime:
    return datetime.fromtimestamp(seconds, UTC)


def _events(token: str, archive: Archive, start: float, end: float) -> Iterator[TrackEvent]:
    spans = archive.spans()
    before = any(a <= start < b for a, b in spans)
    yield TrackEvent(token, FIRST_VIDEO, _moment(start), before, start=True)
    for a, b in spans:
        if start < a <= end:
            yield TrackEvent(token, FIRST_VIDEO, _moment(a), present=True)
        if start < b <= end:
            yield TrackEvent(token, FIRST_VIDEO, _moment(b), present=False)
