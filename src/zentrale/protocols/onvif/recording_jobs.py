"""Recording jobs: what of a receiver goes onto which track of a recording, and when (ONVIF Recording Control).

A job that is Active records always, unless it has an event filter or a schedule: then only while these say so.
"""

from __future__ import annotations

import copy
from collections.abc import Iterable
from dataclasses import dataclass, field

from zentrale.protocols import soap, xml
from zentrale.protocols.http_auth import without_userinfo
from zentrale.protocols.soap import NS, TRC, TT
from zentrale.protocols.xml import Element

_MAX_ITEMS = 4096
_MOST_TOPICS = 32
RECEIVER_TYPE = "http://www.onvif.org/ver10/schema/Receiver"  # the type of a job's source that is a receiver
ACTIVE, IDLE, ERROR = "Active", "Idle", "Error"
VIDEO, AUDIO = "Video", "Audio"
FIRST_VIDEO, FIRST_AUDIO = "VIDEO001", "AUDIO001"  # the tracks that a recording has from the start (CreateRecording)


@dataclass(frozen=True)
class JobSource:
    """A receiver, or a media profile of the recorder's own, with tracks: what each is called there, and the recording's own."""

    token: str
    profile: bool = False
    tracks: tuple[tuple[str, str], ...] = (("video", FIRST_VIDEO),)


@dataclass(frozen=True)
class EventFilter:
    """What begins a recording: topics, each an alternative, with the seconds that are kept before and after."""

    topics: tuple[str, ...]
    before_s: float = 0.0
    after_s: float = 0.0


@dataclass(frozen=True)
class RecordingJob:
    """`receiver_token` is that of its first source; `profile`: that is no receiver, but a media profile of the recorder's own.

    element: its configuration as the recorder sent it; it goes back whole but for what is changed
    """

    token: str
    recording_token: str
    receiver_token: str
    mode: str = ACTIVE
    profile: bool = False
    sources: tuple[JobSource, ...] = ()
    events: EventFilter | None = None
    schedule: str = ""
    priority: str = "1"
    element: Element | None = field(default=None, compare=False, repr=False)


@dataclass(frozen=True)
class JobState:
    """`state` is Idle, Active, PartiallyActive or Error; `error` the recorder's own words."""

    state: str
    error: str = ""


def _source(source: JobSource) -> Element:
    token = TT.SourceToken(TT.Token(source.token))
    token.set("Type", RECEIVER_TYPE.replace("Receiver", "Profile") if source.profile else RECEIVER_TYPE)
    tracks = [TT.Tracks(TT.SourceTag(tag), TT.Destination(track)) for tag, track in source.tracks]
    return TT.Source(token, *tracks)


def _job_configuration(element: Element, job: RecordingJob) -> Element:
    sources = job.sources or (JobSource(job.receiver_token, job.profile),)
    if job.element is None:
        element.extend([TT.RecordingToken(job.recording_token), TT.Mode(job.mode), TT.Priority(job.priority)])
        element.extend(_source(s) for s in sources)
    else:
        for key, value in job.element.attrib.items():
            element.set(key, value)
        element.extend(copy.deepcopy(list(job.element)))
        _change_sources(element, _sources(job.element), sources)
    for old in element.findall("tt:EventFilter", NS):
        element.remove(old)
    if job.events is not None:
        before, after = (
            TT(n, _duration(s)) for n, s in (("Before", job.events.before_s), ("After", job.events.after_s))
        )
        topics = TT.Filter(TT.Topic("|".join(job.events.topics)))
        last = max(i for i, e in enumerate(element) if xml.local_name(e) in _BEFORE_FILTER)
        element.insert(last + 1, TT.EventFilter(topics, before, after))
    element.attrib.pop("ScheduleToken", None)
    if job.schedule:
        element.set("ScheduleToken", job.schedule)
    return element


_BEFORE_FILTER = ("RecordingToken", "Mode", "Priority", "Source", "Extension")  # in the schema's sequence


def _change_sources(element: Element, held: tuple[JobSource, ...], wanted: tuple[JobSource, ...]) -> None:
    """Sources that stay, stay as they were sent."""
    if held == wanted:
        return
    sent = dict(zip(held, element.findall("tt:Source", NS), strict=True))
    for old in sent.values():
        element.remove(old)
    at = 1 + max((i for i, e in enumerate(element) if xml.local_name(e) in _BEFORE_FILTER[:3]), default=-1)
    for offset, source in enumerate(wanted):
        element.insert(at + offset, sent.get(source, _source(source)) if source in sent else _source(source))


def _duration(seconds: float) -> str:
    """As xs:duration (XML Schema part 2 clause 3.2.6)."""
    return f"PT{seconds:g}S"


def create_job(job: RecordingJob) -> Element:
    return TRC.CreateRecordingJob(_job_configuration(TRC.JobConfiguration(), job))


def set_job(job: RecordingJob) -> Element:
    """SetRecordingJobConfiguration: all of it as the recorder sent it, but for what is changed; so its priority stays."""
    return TRC.SetRecordingJobConfiguration(
        TRC.JobToken(job.token), _job_configuration(TRC.JobConfiguration(), job)
    )  # fmt: skip


def set_job_response(job: RecordingJob) -> Element:
    return TRC.SetRecordingJobConfigurationResponse(_job_configuration(TRC.JobConfiguration(), job))


def _sources(configuration: Element | None) -> tuple[JobSource, ...]:
    """Of a source without a type the standard says that it is a receiver (RecordingJobSource: Profile or Receiver)."""
    found = []
    for source in [] if configuration is None else configuration.findall("tt:Source", NS)[:_MAX_ITEMS]:
        token = source.find("tt:SourceToken", NS)
        kind = RECEIVER_TYPE if token is None else str(token.get("Type") or RECEIVER_TYPE)
        tracks = tuple(
            (xml.text(t, "tt:SourceTag", NS), xml.text(t, "tt:Destination", NS))
            for t in source.findall("tt:Tracks", NS)[:_MAX_ITEMS]
        )
        found.append(JobSource(xml.text(token, "tt:Token", NS), kind.endswith("/Profile"), tracks))
    return tuple(found)


def _events(configuration: Element | None) -> EventFilter | None:
    """A filter without a topic begins nothing, and is as good as none."""
    element = None if configuration is None else configuration.find("tt:EventFilter", NS)
    if element is None:
        return None
    texts = [xml.text(f, "tt:Topic", NS) for f in element.findall("tt:Filter", NS)[:_MOST_TOPICS]]
    topics = [topic.strip()[:120] for text in texts for topic in text.split("|") if topic.strip()]
    seconds = (soap.parse_duration_s(xml.text(element, f"tt:{n}", NS)) for n in ("Before", "After"))
    return EventFilter(tuple(sorted(set(topics))), *seconds) if topics else None


def _parse_job(token: str, configuration: Element | None) -> RecordingJob:
    def get(path: str) -> str:
        return xml.text(configuration, path, NS)

    sources = _sources(configuration)
    first = next((s for s in sources if not s.profile), next(iter(sources), JobSource("")))
    schedule = "" if configuration is None else xml.safe(str(configuration.get("ScheduleToken") or ""))
    return RecordingJob(
        token, get("tt:RecordingToken"), first.token, get("tt:Mode"), first.profile, sources, _events(configuration),
        schedule, get("tt:Priority") or "1", configuration,
    )  # fmt: skip


def job_request(request: Element) -> RecordingJob:
    """Of CreateRecordingJob (token empty) or SetRecordingJobConfiguration."""
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
    track = TT.Track(TT.SourceTag("video"), TT.Destination(FIRST_VIDEO), TT.Error(state.error), TT.State(state.state))
    sources = TT.Sources(source_token, TT.State(state.state), TT.Tracks(track))
    return TRC.GetRecordingJobStateResponse(
        TRC.State(TT.RecordingToken(job.recording_token), TT.State(state.state), sources)
    )


def parse_job_state(response: Element) -> JobState:
    """Of the words of several tracks the first that are any."""
    at = response.find("trc:State", NS)
    tracks = [] if at is None else at.findall("tt:Sources/tt:Tracks/tt:Track", NS)[:_MAX_ITEMS]
    errors = (without_userinfo(xml.text(track, "tt:Error", NS))[:200] for track in tracks)
    return JobState(xml.text(at, "tt:State", NS), next((e for e in errors if e), ""))


# What a recording may have, asked before anything is written


@dataclass(frozen=True)
class RecordingOptions:
    """GetRecordingOptions: how many more jobs and tracks this recording takes; None where it does not say.

    sources: the only ones that it can record, empty where any
    """

    spare_jobs: int | None = None
    spare_video: int | None = None
    spare_audio: int | None = None
    sources: tuple[str, ...] = ()


def get_options(recording_token: str) -> Element:
    return TRC.GetRecordingOptions(TRC.RecordingToken(recording_token))


def options_token_of(request: Element) -> str:
    return xml.text(request, "trc:RecordingToken", NS)


def options_response(options: RecordingOptions) -> Element:
    job, track = TRC.Job(), TRC.Track()
    for element, name, value in (
        (job, "Spare", options.spare_jobs), (track, "SpareVideo", options.spare_video),
        (track, "SpareAudio", options.spare_audio),
    ):  # fmt: skip
        if value is not None:
            element.set(name, str(value))
    if options.sources:
        job.set("CompatibleSources", " ".join(options.sources))
    return TRC.GetRecordingOptionsResponse(TRC.Options(job, track))


def parse_options(response: Element) -> RecordingOptions:
    def spare(path: str, name: str) -> int | None:
        at = response.find(path, NS)
        text = "" if at is None else str(at.get(name) or "")
        return int(text) if text.isascii() and text.isdigit() and len(text) < 7 else None

    job, track = "trc:Options/trc:Job", "trc:Options/trc:Track"
    at = response.find(job, NS)
    sources = () if at is None else tuple(xml.safe(str(at.get("CompatibleSources") or "")).split())
    return RecordingOptions(spare(job, "Spare"), spare(track, "SpareVideo"), spare(track, "SpareAudio"), sources)


def create_track(recording_token: str, kind: str) -> Element:
    """`kind` is Video, Audio or Metadata (tt:TrackType)."""
    configuration = TRC.TrackConfiguration(TT.TrackType(kind), TT.Description(""))
    return TRC.CreateTrack(TRC.RecordingToken(recording_token), configuration)


def track_request(request: Element) -> tuple[str, str]:
    """The recording and the kind of track in CreateTrack."""
    kind = xml.text(request.find("trc:TrackConfiguration", NS), "tt:TrackType", NS)
    return xml.text(request, "trc:RecordingToken", NS), kind


def create_track_response(token: str) -> Element:
    return TRC.CreateTrackResponse(TRC.TrackToken(token))


def parse_create_track(response: Element) -> str:
    return xml.text(response, "trc:TrackToken", NS)
