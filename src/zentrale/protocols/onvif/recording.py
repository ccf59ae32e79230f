"""What a recorder offers: receivers, recordings, recording jobs, and what is stored.

ONVIF Receiver, Recording Control and Recording Search specifications. A receiver pulls a stream, a recording
stores one, a job ties them together.
"""

from __future__ import annotations

import copy
from collections.abc import Iterable
from dataclasses import dataclass, field, replace
from urllib.parse import unquote

from zentrale.protocols import soap, xml
from zentrale.protocols.http_auth import without_userinfo
from zentrale.protocols.soap import NS, TRC, TRV, TT
from zentrale.protocols.xml import Element

_MAX_ITEMS = 4096


@dataclass(frozen=True)
class Receiver:
    """`mode` is AlwaysConnect, AutoConnect or NeverConnect; `uri` comes without user and password, `user` where it told one.

    element: its Configuration as the recorder sent it; it goes back whole but for what is changed. It may hold a
    password: never to be shown or logged
    """

    token: str
    uri: str
    mode: str = "AlwaysConnect"
    element: Element | None = field(default=None, compare=False, repr=False)
    user: str = field(default="", compare=False)


@dataclass(frozen=True)
class Recording:
    """`name` is Source/Name: the camera's name where one was given, else often one of the recorder's own. `source_id` is
    Source/SourceId, `retention_s` how long it keeps what it records at most [s], 0 where nothing ends it.

    tracks:  token and kind (Video, Audio, Metadata) of each
    element: its Configuration as the recorder sent it; it goes back whole but for what is changed
    """

    token: str
    name: str = ""
    location: str = ""
    address: str = ""
    element: Element | None = field(default=None, compare=False, repr=False)
    source_id: str = ""
    retention_s: float = 0.0
    tracks: tuple[tuple[str, str], ...] = ()

    def tracks_of(self, kind: str) -> list[str]:
        return [token for token, of in self.tracks if of == kind]


@dataclass(frozen=True)
class RecorderLimits:
    """GetServiceCapabilities of Recording Control; 0 where it does not say, which for the two times of events means no limit.

    max_rate_kbps: of one recording [kbit/s]; options: it answers GetRecordingOptions; events: a job may wait for them
    """

    max_recordings: int
    max_jobs: int
    dynamic_recordings: bool
    dynamic_tracks: bool = False
    options: bool = False
    events: bool = False
    before_limit_s: float = 0.0
    after_limit_s: float = 0.0
    max_rate_kbps: float = 0.0


def ask(service: str, name: str) -> Element:
    """A request that carries nothing; `service` is receiver or recording."""
    return {"receiver": TRV, "recording": TRC}[service](name)


def _receiver_configuration(element: Element, receiver: Receiver) -> Element:
    if receiver.element is None:
        setup = TT.StreamSetup(TT.Stream("RTP-Unicast"), TT.Transport(TT.Protocol("RTSP")))
        element.extend([TT.Mode(receiver.mode), TT.MediaUri(receiver.uri), setup])
        return element
    element.extend(copy.deepcopy(list(receiver.element)))
    _set(element, "Mode", receiver.mode)
    _set(element, "MediaUri", receiver.uri)
    return element


def _set(parent: Element, name: str, value: str) -> None:
    child = parent.find(f"tt:{name}", NS)
    if child is None:
        child = TT(name)
        parent.append(child)
    child.text = value


def user_of(uri: str) -> str:
    """Whom an address names, empty where nobody."""
    userinfo, at, _ = uri.partition("://")[2].partition("/")[0].rpartition("@")
    return unquote(userinfo.partition(":")[0])[:64] if at else ""


def points_somewhere(uri: str) -> bool:
    """Whether a receiver's address names a host: many recorders come with empty ones, or with 0.0.0.0."""
    host = without_userinfo(uri).partition("://")[2].partition("/")[0]
    host = host.rpartition(":")[0] if host.rpartition(":")[2].isdigit() else host
    return bool(host.strip("[]")) and host.strip("[]") not in ("0.0.0.0", "::")


def create_receiver(uri: str) -> Element:
    return TRV.CreateReceiver(_receiver_configuration(TRV.Configuration(), Receiver("", uri)))


def configure_receiver(receiver: Receiver) -> Element:
    configuration = _receiver_configuration(TRV.Configuration(), receiver)
    return TRV.ConfigureReceiver(TRV.ReceiverToken(receiver.token), configuration)


def delete_receiver(token: str) -> Element:
    return TRV.DeleteReceiver(TRV.ReceiverToken(token))


def receiver_request(request: Element) -> Receiver:
    """The token (empty in CreateReceiver) and address in a request."""
    configuration = request.find("trv:Configuration", NS)
    return Receiver(
        xml.text(request, "trv:ReceiverToken", NS),
        xml.text(configuration, "tt:MediaUri", NS),
        xml.text(configuration, "tt:Mode", NS),
        configuration,
    )


def _receiver(element: Element, receiver: Receiver) -> Element:
    element.append(TT.Token(receiver.token))
    element.append(_receiver_configuration(TT.Configuration(), receiver))
    return element


def create_receiver_response(receiver: Receiver) -> Element:
    return TRV.CreateReceiverResponse(_receiver(TRV.Receiver(), receiver))


def parse_create_receiver(response: Element) -> str:
    return xml.text(response, "trv:Receiver/tt:Token", NS)


def receivers_response(receivers: Iterable[Receiver]) -> Element:
    return TRV.GetReceiversResponse(*[_receiver(TRV.Receivers(), r) for r in receivers])


def parse_receivers(response: Element) -> list[Receiver]:
    """The addresses come without user and password, whatever the recorder tells."""
    found = response.findall("trv:Receivers", NS)[:_MAX_ITEMS]
    return [
        Receiver(
            xml.text(r, "tt:Token", NS),
            without_userinfo(xml.text(r, "tt:Configuration/tt:MediaUri", NS)),
            xml.text(r, "tt:Configuration/tt:Mode", NS),
            r.find("tt:Configuration", NS),
            user_of(xml.text(r, "tt:Configuration/tt:MediaUri", NS)),
        )
        for r in found
    ]


def capabilities_response(limits: RecorderLimits) -> Element:
    element = TRC.Capabilities()
    element.set("DynamicRecordings", str(limits.dynamic_recordings).lower())
    for name, value in (
        ("DynamicTracks", limits.dynamic_tracks), ("Options", limits.options), ("EventRecording", limits.events),
    ):  # fmt: skip
        element.set(name, str(value).lower())
    element.set("MaxRecordings", str(limits.max_recordings))
    element.set("MaxRecordingJobs", str(limits.max_jobs))
    for name, seconds in (("BeforeEventLimit", limits.before_limit_s), ("AfterEventLimit", limits.after_limit_s)):
        if seconds:
            element.set(name, _duration(seconds))
    if limits.max_rate_kbps:
        element.set("MaxRate", f"{limits.max_rate_kbps:g}")
    element.set("Encoding", "H264 H265 JPEG")
    return TRC.GetServiceCapabilitiesResponse(element)


def parse_capabilities(response: Element) -> RecorderLimits:
    element = response.find("trc:Capabilities", NS)

    def attribute(name: str) -> str:
        return "" if element is None else str(element.get(name) or "")

    def number(name: str) -> float:
        return max(0.0, xml.sensible(attribute(name)))

    def true(name: str) -> bool:
        return xml.true(attribute(name))

    return RecorderLimits(
        int(number("MaxRecordings")), int(number("MaxRecordingJobs")), true("DynamicRecordings"), true("DynamicTracks"),
        true("Options"), true("EventRecording"), soap.parse_duration_s(attribute("BeforeEventLimit")),
        soap.parse_duration_s(attribute("AfterEventLimit")), number("MaxRate"),
    )  # fmt: skip


def _recording_configuration(element: Element, recording: Recording) -> Element:
    if recording.element is not None:
        element.extend(copy.deepcopy(list(recording.element)))
        source = element.find("tt:Source", NS)
        if source is None:
            source = TT.Source()
            element.insert(0, source)
        for name, value in (("Name", recording.name), ("Location", recording.location), ("Address", recording.address)):
            _set(source, name, value)
        _set_retention(element, recording.retention_s)
        return element
    element.extend([
        TT.Source(
            TT.SourceId(recording.address), TT.Name(recording.name), TT.Location(recording.location),
            TT.Description(""), TT.Address(recording.address),
        ),
        TT.Content(recording.name),
        TT.MaximumRetentionTime(_duration(recording.retention_s)),
    ])  # fmt: skip
    return element


def _duration(seconds: float) -> str:
    """As xs:duration, in days where it is whole ones; PT0S: nothing ends it."""
    days, rest = divmod(round(seconds), 86_400)
    return f"P{days}D" if days and not rest else f"PT{round(seconds)}S"


def _set_retention(configuration: Element, seconds: float) -> None:
    """In its place behind Content (the schema is a sequence); what says the same already stays as it was sent."""
    held = configuration.find("tt:MaximumRetentionTime", NS)
    if held is None:
        if not seconds:
            return
        held = TT.MaximumRetentionTime()
        behind = configuration.find("tt:Content", NS)
        configuration.insert(1 if behind is None else configuration.index(behind) + 1, held)
    if soap.parse_duration_s(held.text or "") != seconds:
        held.text = _duration(seconds)


def create_recording(recording: Recording) -> Element:
    return TRC.CreateRecording(_recording_configuration(TRC.RecordingConfiguration(), recording))


def set_recording(recording: Recording) -> Element:
    return TRC.SetRecordingConfiguration(
        TRC.RecordingToken(recording.token), _recording_configuration(TRC.RecordingConfiguration(), recording)
    )


def _parse_recording(token: str, configuration: Element | None) -> Recording:
    def get(name: str) -> str:
        return xml.text(configuration, f"tt:Source/tt:{name}", NS)[:200]

    kept_s = soap.parse_duration_s(xml.text(configuration, "tt:MaximumRetentionTime", NS))
    return Recording(token, get("Name"), get("Location"), get("Address"), configuration, get("SourceId"), kept_s)


def recording_request(request: Element) -> Recording:
    """From CreateRecording (token empty) or SetRecordingConfiguration."""
    configuration = request.find("trc:RecordingConfiguration", NS)
    return _parse_recording(xml.text(request, "trc:RecordingToken", NS), configuration)


def create_recording_response(token: str) -> Element:
    return TRC.CreateRecordingResponse(TRC.RecordingToken(token))


def _tracks(tracks: Iterable[tuple[str, str]]) -> list[Element]:
    made = [
        TT.Track(TT.TrackToken(token), TT.Configuration(TT.TrackType(kind), TT.Description("")))
        for token, kind in tracks
    ]
    return [TT.Tracks(*made)] if made else []


def recordings_response(recordings: Iterable[Recording]) -> Element:
    return TRC.GetRecordingsResponse(
        *[
            TRC.RecordingItem(
                TT.RecordingToken(r.token), _recording_configuration(TT.Configuration(), r), *_tracks(r.tracks)
            )
            for r in recordings
        ]
    )


def parse_recordings(response: Element) -> list[Recording]:
    return [
        replace(
            _parse_recording(xml.text(item, "tt:RecordingToken", NS), item.find("tt:Configuration", NS)),
            tracks=tuple(
                (xml.text(t, "tt:TrackToken", NS), xml.text(t, "tt:Configuration/tt:TrackType", NS))
                for t in item.findall("tt:Tracks/tt:Track", NS)[:_MAX_ITEMS]
            ),
        )
        for item in response.findall("trc:RecordingItem", NS)[:_MAX_ITEMS]
    ]
