"""What a recorder offers: receivers, recordings, recording jobs, and what is stored.

ONVIF Receiver, Recording Control and Recording Search specifications. A receiver pulls a stream, a recording
stores one, a job ties them together.
"""

from __future__ import annotations

import copy
from collections.abc import Iterable
from dataclasses import dataclass, field
from datetime import datetime

from zentrale.protocols import soap, xml
from zentrale.protocols.http_auth import without_userinfo
from zentrale.protocols.soap import NS, TRC, TRV, TSE, TT
from zentrale.protocols.xml import Element

_MAX_ITEMS = 4096
RECEIVER_TYPE = "http://www.onvif.org/ver10/schema/Receiver"  # the type of a job's source that is a receiver
ACTIVE, IDLE, ERROR = "Active", "Idle", "Error"
NOT_TOLD = "not told"  # by a search service that lacks the operation


@dataclass(frozen=True)
class Receiver:
    """`mode` is AlwaysConnect, AutoConnect or NeverConnect; `uri` comes without user and password.

    element: its Configuration as the recorder sent it; it goes back whole but for what is changed. It may hold a
    password: never to be shown or logged
    """

    token: str
    uri: str
    mode: str = "AlwaysConnect"
    element: Element | None = field(default=None, compare=False, repr=False)


@dataclass(frozen=True)
class Recording:
    """`name` is Source/Name: the camera's name where one was given, else often one of the recorder's own. `source_id` is
    Source/SourceId, `retention_s` how long it keeps what it records at most [s], 0 where nothing ends it.

    element: its Configuration as the recorder sent it; it goes back whole but for what is changed
    """

    token: str
    name: str = ""
    location: str = ""
    address: str = ""
    element: Element | None = field(default=None, compare=False, repr=False)
    source_id: str = ""
    retention_s: float = 0.0


@dataclass(frozen=True)
class RecordingJob:
    """`receiver_token` is that of its source; `profile`: that is no receiver, but a media profile of the recorder's own."""

    token: str
    recording_token: str
    receiver_token: str
    mode: str = ACTIVE
    profile: bool = False


@dataclass(frozen=True)
class JobState:
    """`state` is Idle, Active, PartiallyActive or Error; `error` the recorder's own words."""

    state: str
    error: str = ""


@dataclass(frozen=True)
class RecorderLimits:
    max_recordings: int
    max_jobs: int
    dynamic_recordings: bool


@dataclass(frozen=True)
class Stored:
    """What the search service knows of one recording; None where nothing is stored."""

    earliest: datetime | None
    latest: datetime | None
    status: str


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
        )
        for r in found
    ]


def capabilities_response(limits: RecorderLimits) -> Element:
    element = TRC.Capabilities()
    element.set("DynamicRecordings", str(limits.dynamic_recordings).lower())
    element.set("MaxRecordings", str(limits.max_recordings))
    element.set("MaxRecordingJobs", str(limits.max_jobs))
    element.set("Encoding", "H264 H265 JPEG")
    return TRC.GetServiceCapabilitiesResponse(element)


def parse_capabilities(response: Element) -> RecorderLimits:
    element = response.find("trc:Capabilities", NS)

    def attribute(name: str) -> str:
        return "" if element is None else str(element.get(name) or "")

    def number(name: str) -> int:
        text = attribute(name)
        return int(text) if text.isascii() and text.isdigit() and len(text) < 7 else 0

    dynamic = attribute("DynamicRecordings") in ("true", "1")
    return RecorderLimits(number("MaxRecordings"), number("MaxRecordingJobs"), dynamic)


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


def recordings_response(recordings: Iterable[Recording]) -> Element:
    return TRC.GetRecordingsResponse(
        *[
            TRC.RecordingItem(TT.RecordingToken(r.token), _recording_configuration(TT.Configuration(), r))
            for r in recordings
        ]
    )


def parse_recordings(response: Element) -> list[Recording]:
    return [
        _parse_recording(xml.text(item, "tt:RecordingToken", NS), item.find("tt:Configuration", NS))
        for item in response.findall("trc:RecordingItem", NS)[:_MAX_ITEMS]
    ]


def _job_configuration(element: Element, job: RecordingJob) -> Element:
    token = TT.SourceToken(TT.Token(job.receiver_token))
    token.set("Type", RECEIVER_TYPE)
    element.extend(
        [
            TT.RecordingToken(job.recording_token),
            TT.Mode(job.mode),
            TT.Priority("1"),
            TT.Source(token, TT.Tracks(TT.SourceTag("video"), TT.Destination("VIDEO001"))),
        ]
    )
    return element


def create_job(job: RecordingJob) -> Element:
    return TRC.CreateRecordingJob(_job_configuration(TRC.JobConfiguration(), job))


def _parse_job(token: str, configuration: Element | None) -> RecordingJob:
    def get(path: str) -> str:
        return xml.text(configuration, path, NS)

    sources = [] if configuration is None else configuration.findall("tt:Source/tt:SourceToken", NS)
    receivers = [s for s in sources if not str(s.get("Type") or RECEIVER_TYPE).endswith("/Profile")]
    source = next(iter(receivers or sources), None)
    profile = bool(sources) and not receivers  # ONVIF Recording Control, RecordingJobSource: Profile or Receiver
    return RecordingJob(token, get("tt:RecordingToken"), xml.text(source, "tt:Token", NS), get("tt:Mode"), profile)


def job_request(request: Element) -> RecordingJob:
    return _parse_job(xml.text(request, "trc:JobToken", NS), request.find("trc:JobConfiguration", NS))


def create_job_response(job: RecordingJob) -> Element:
    return TRC.CreateRecordingJobResponse(TRC.JobToken(job.token), _job_configuration(TRC.JobConfiguration(), job))


def jobs_response(jobs: Iterable[RecordingJob]) -> Element:
    return TRC.GetRecordingJobsResponse(
        *[TRC.JobItem(TT.JobToken(j.token), _job_configuration(TT.JobConfiguration(), j)) for j in jobs]
    )


def parse_jobs(response: Element) -> list[RecordingJob]:
    return [
        _parse_job(xml.text(item, "tt:JobToken", NS), item.find("tt:JobConfiguration", NS))
        for item in response.findall("trc:JobItem", NS)[:_MAX_ITEMS]
    ]


def set_job_mode(token: str, mode: str) -> Element:
    return TRC.SetRecordingJobMode(TRC.JobToken(token), TRC.Mode(mode))


def job_mode_of(request: Element) -> str:
    return xml.text(request, "trc:Mode", NS)


def delete_job(token: str) -> Element:
    return TRC.DeleteRecordingJob(TRC.JobToken(token))


def get_job_state(token: str) -> Element:
    return TRC.GetRecordingJobState(TRC.JobToken(token))


def job_token_of(request: Element) -> str:
    return xml.text(request, "trc:JobToken", NS)


def job_state_response(job: RecordingJob, state: JobState) -> Element:
    source_token = TT.SourceToken(TT.Token(job.receiver_token))
    track = TT.Track(TT.SourceTag("video"), TT.Destination("VIDEO001"), TT.Error(state.error), TT.State(state.state))
    sources = TT.Sources(source_token, TT.State(state.state), TT.Tracks(track))
    return TRC.GetRecordingJobStateResponse(
        TRC.State(TT.RecordingToken(job.recording_token), TT.State(state.state), sources)
    )


def parse_job_state(response: Element) -> JobState:
    at = response.find("trc:State", NS)
    error = without_userinfo(xml.text(at, "tt:Sources/tt:Tracks/tt:Track/tt:Error", NS))[:200]
    return JobState(xml.text(at, "tt:State", NS), error)


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
