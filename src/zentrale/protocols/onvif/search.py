"""What is stored (ONVIF Recording Search specification)."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime

from zentrale.protocols import soap, xml
from zentrale.protocols.onvif.history import SearchState
from zentrale.protocols.onvif.recording import Recording
from zentrale.protocols.soap import NS, TSE, TT
from zentrale.protocols.xml import Element

_MAX_ITEMS = 4096
NOT_TOLD = "not told"  # by a search service that lacks the operation


@dataclass(frozen=True)
class Stored:
    """What the search service knows of one recording; None where nothing is stored."""

    earliest: datetime | None
    latest: datetime | None
    status: str


def get_recording_information(recording_token: str) -> Element:
    return TSE.GetRecordingInformation(TSE.RecordingToken(recording_token))


def recording_token_of(request: Element) -> str:
    return xml.text(request, "tse:RecordingToken", NS)


def information_response(recording: Recording, stored: Stored) -> Element:
    parts = [TT.RecordingToken(recording.token), TT.Source(TT.Name(recording.name))]
    if stored.earliest is not None and stored.latest is not None:
        parts.append(TT.EarliestRecording(soap.format_time(stored.earliest)))
        parts.append(TT.LatestRecording(soap.format_time(stored.latest)))
    parts += [TT.Content(recording.name), TT.RecordingStatus(stored.status)]
    return TSE.GetRecordingInformationResponse(TSE.RecordingInformation(*parts))


def parse_information(response: Element) -> Stored:
    at = response.find("tse:RecordingInformation", NS)
    moments = [xml.text(at, f"tt:{name}", NS) for name in ("EarliestRecording", "LatestRecording")]
    earliest, latest = (soap.parse_time(m) if m else None for m in moments)
    return Stored(earliest, latest, xml.text(at, "tt:RecordingStatus", NS))


def find_recordings(kept_s: float) -> Element:
    """All of them; `kept_s` is how long the search is kept unasked."""
    return TSE.FindRecordings(TSE.Scope(), TSE.KeepAliveTime(f"PT{kept_s:g}S"))


def get_recording_results(token: str, most: int, wait_s: float) -> Element:
    return TSE.GetRecordingSearchResults(
        TSE.SearchToken(token), TSE.MinResults("1"), TSE.MaxResults(str(most)), TSE.WaitTime(f"PT{wait_s:g}S")
    )


def parse_recording_results(response: Element) -> tuple[SearchState, list[Recording]]:
    """What the search service tells of recordings: their names and tracks; those without a token are left out."""
    held = response.find("tse:ResultList", NS)
    if held is None:
        return SearchState.UNKNOWN, []
    told = xml.text(held, "tt:SearchState", NS)
    state = next((s for s in SearchState if s.value == told), SearchState.UNKNOWN)
    found = []
    for item in held.findall("tt:RecordingInformation", NS)[:_MAX_ITEMS]:
        tracks = tuple(
            (xml.text(track, "tt:TrackToken", NS), xml.text(track, "tt:TrackType", NS))
            for track in item.findall("tt:Track", NS)[:_MAX_ITEMS]
        )
        token = xml.text(item, "tt:RecordingToken", NS)
        name, location, source_id = (xml.text(item, f"tt:Source/tt:{n}", NS) for n in ("Name", "Location", "SourceId"))
        if token:
            found.append(Recording(token, name, location, source_id=source_id, tracks=tracks))
    return state, found


@dataclass(frozen=True)
class StoredVideo:
    """One video track at one moment (GetMediaAttributes). `encoding` and rates as the recorder tells them."""

    width_px: int
    height_px: int
    encoding: str = ""
    framerate_fps: float = 0.0
    bitrate_kbps: float = 0.0


def get_media_attributes(recording_token: str, at: datetime) -> Element:
    return TSE.GetMediaAttributes(TSE.RecordingTokens(recording_token), TSE.Time(soap.format_time(at)))


def attributes_token_of(request: Element) -> str:
    return xml.text(request, "tse:RecordingTokens", NS)


def media_attributes_response(recording: Recording, videos: list[StoredVideo], at: datetime) -> Element:
    tracks = [
        TT.TrackAttributes(
            TT.TrackInformation(TT.TrackToken(f"VIDEO{n:03d}"), TT.TrackType("Video"), TT.Description("")),
            TT.VideoAttributes(
                TT.Bitrate(f"{v.bitrate_kbps:.0f}"), TT.Width(str(v.width_px)), TT.Height(str(v.height_px)),
                TT.Encoding(v.encoding), TT.Framerate(f"{v.framerate_fps:g}"),
            ),
        )
        for n, v in enumerate(videos, start=1)
    ]  # fmt: skip
    when = soap.format_time(at)
    return TSE.GetMediaAttributesResponse(
        TSE.MediaAttributes(TT.RecordingToken(recording.token), *tracks, TT.From(when), TT.Until(when))
    )


def parse_media_attributes(response: Element) -> list[StoredVideo]:
    """The video tracks, in the order of the answer."""
    found = response.findall("tse:MediaAttributes/tt:TrackAttributes/tt:VideoAttributes", NS)[:_MAX_ITEMS]
    return [
        StoredVideo(
            xml.integer(v, "tt:Width", NS), xml.integer(v, "tt:Height", NS), xml.text(v, "tt:Encoding", NS),
            xml.number(v, "tt:Framerate", NS), xml.number(v, "tt:Bitrate", NS),
        )
        for v in found
    ]  # fmt: skip
