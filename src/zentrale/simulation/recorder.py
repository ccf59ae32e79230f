"""A stand-in recorder: ONVIF Receiver, Recording Control, Search, Schedule and Event services, and it really records.

Each active job takes its receivers' streams in over RTSP, into a bounded ring on disk for each track.
"""

from __future__ import annotations

import asyncio
import logging
import secrets
import time
from collections.abc import Callable, Iterator
from dataclasses import replace
from datetime import UTC, datetime

from zentrale.errors import DeviceError, InputError, SoapRefusalError
from zentrale.protocols import soap
from zentrale.protocols.http_auth import Credentials
from zentrale.protocols.onvif import device, events, recording, recording_jobs, storage
from zentrale.protocols.onvif.recording_jobs import AUDIO, FIRST_AUDIO, FIRST_VIDEO, VIDEO
from zentrale.protocols.soap import NS
from zentrale.protocols.stream_address import StreamAddress
from zentrale.protocols.xml import Element
from zentrale.simulation.happening import EVENTS_PATH, PullPoint, something_moves
from zentrale.simulation.onvif_device import OnvifDevice
from zentrale.simulation.recorder_history import Stored
from zentrale.simulation.recorder_pulling import pull, why
from zentrale.simulation.recorder_ring import Channel, Ring
from zentrale.simulation.recorder_services import SCHEDULE_PATH, Schedules
from zentrale.simulation.scenario import BehindRecorder, Recorder

log = logging.getLogger(__name__)
RECORDING_PATH = "/onvif/recording_service"
STALE_AFTER_S = 3.0  # without packets for longer, a job is in error
RETRY_S = (1.0, 2.0, 4.0, 8.0)
_MOST_TRACKS = 2  # for video


class SimulatedRecorder(OnvifDevice):
    """A recorder with a limit of channels. Passwords in receiver addresses are taken and never told again."""

    config: Recorder
    device_type = "NetworkVideoStorage"

    def __init__(self, config: Recorder) -> None:
        super().__init__(config)
        self.channels: dict[str, Channel] = {}
        self.receivers: dict[str, str] = {}  # token to address, with its password
        self.jobs: dict[str, recording_jobs.RecordingJob] = {}
        self.schedules = Schedules()
        self.key_of: Callable[[str], Credentials | None] = lambda host: None  # what opens another camera of the site
        self.faults_at: Callable[[str], set[str]] = lambda host: set()  # those of the camera at an address
        self.started_s = time.time()
        self._pulling: dict[str, list[asyncio.Task[None]]] = {}
        for n in range(1, 1 if config.dynamic_recordings else config.channels + 1):
            self._ship(n)
        for camera in config.behind:
            self._give_private_port(camera)
        self.operations |= {
            "GetServiceCapabilities": lambda _: recording.capabilities_response(self.limits),
            "GetReceivers": lambda _: recording.receivers_response(
                recording.Receiver(t, _shown(uri)) for t, uri in self.receivers.items()
            ),
            "CreateReceiver": self._create_receiver,
            "ConfigureReceiver": self._configure_receiver,
            "DeleteReceiver": self._delete_receiver,
            "GetRecordings": lambda _: recording.recordings_response(c.recording for c in self.channels.values()),
            "CreateRecording": self._create_recording,
            "SetRecordingConfiguration": self._set_recording,
            "GetRecordingJobs": lambda _: recording_jobs.jobs_response(self.jobs.values()),
            "CreateRecordingJob": self._create_job,
            "SetRecordingJobConfiguration": self._set_job,
            "DeleteRecordingJob": self._delete_job,
            "SetRecordingJobMode": self._set_job_mode,
            "GetRecordingJobState": self._job_state,
            "GetRecordingOptions": self._options,
            "CreateTrack": self._create_track,
            "GetStorageConfigurations": lambda _: storage.configurations_response(self._disks()),
        }
        self.stored = Stored(self)
        self.operations |= self.stored.operations()
        if config.events:
            self.operations |= PullPoint(self.base_url + EVENTS_PATH, self._events).operations()
        if config.schedules:
            self.operations |= self.schedules.operations()

    def _new(self, token: str, name: str = "", address: str = "", retention_s: float = 0.0) -> Channel:
        tracks = ((FIRST_VIDEO, VIDEO), *(((FIRST_AUDIO, AUDIO),) if self.config.dynamic_recordings else ()))
        held = recording.Recording(token, name, address=address, retention_s=retention_s, tracks=tracks)
        return Channel(held, self._ring())

    def _ring(self) -> Ring:
        return Ring(round(self.config.ring_mb * 1e6))

    def _ship(self, n: int) -> None:
        """A fixed recording, with an idle job and an empty receiver where it comes with such."""
        token = f"REC{n:03d}"
        name = self.config.own_name.format(number=n) if self.config.own_name else ""
        self.channels[token] = self._new(token, name, retention_s=self.retention_s)
        if self.config.idle_jobs:
            self.receivers[f"RCV{n:03d}"] = ""
            job = recording_jobs.RecordingJob(f"JOB{n:03d}", token, f"RCV{n:03d}", recording_jobs.IDLE)
            self.jobs[job.token] = job

    def _give_private_port(self, camera: BehindRecorder) -> None:
        """On its channel from the start; it records what nobody else can reach."""
        number, token = f"REC{camera.channel:03d}", f"RCV-P{camera.channel}"
        url = camera.stream or f"rtsp://{camera.address}:554/1"
        self.channels[number] = self._new(number, camera.name, _shown(url))
        self.receivers[token] = url
        self.jobs[f"JOB-P{camera.channel}"] = recording_jobs.RecordingJob(f"JOB-P{camera.channel}", number, token)

    def begin(self) -> None:
        """Take in what stands at its own ports."""
        for job in [j for j in self.jobs.values() if j.token.startswith("JOB-P")]:
            self.start_job(job)

    @property
    def retention_s(self) -> float:
        """How long each of its recordings is kept at most [s]; 0: without an end."""
        return 86400.0 * self.config.retention_days

    def _kept_s(self, wanted_s: float) -> float:
        """Rounded up to whole steps, where it has such."""
        step_s = 86400.0 * self.config.retention_step_days
        return -(-wanted_s // step_s) * step_s if step_s else wanted_s

    @property
    def limits(self) -> recording.RecorderLimits:
        dynamic, waits = self.config.dynamic_recordings, self.config.events
        return recording.RecorderLimits(
            self.config.channels, self.config.channels, dynamic, dynamic, options=dynamic, events=waits,
            before_limit_s=10.0 if waits else 0.0, after_limit_s=300.0 if waits else 0.0,
        )  # fmt: skip

    def services(self) -> list[device.Service]:
        address = self.base_url + RECORDING_PATH
        prefixes = ("trv", "trc", *(["tse"] if self.config.search else []), *(["trp"] if self.config.replay else []))
        more = {"tev": EVENTS_PATH} if self.config.events else {}
        more |= {"tsc": SCHEDULE_PATH} if self.config.schedules else {}
        return [
            *super().services(), *(device.Service(NS[prefix], address) for prefix in prefixes),
            *(device.Service(NS[prefix], self.base_url + path) for prefix, path in more.items()),
        ]  # fmt: skip

    async def close(self) -> None:
        tasks = [task for some in self._pulling.values() for task in some]
        for task in tasks:
            task.cancel()
        await asyncio.gather(*tasks, return_exceptions=True)
        for channel in self.channels.values():
            for ring in (channel.storage, *channel.further):
                ring.close()

    # Receivers

    def _address(self, request: Element) -> str:
        uri = recording.receiver_request(request).uri
        if not uri and self.config.idle_jobs:
            return uri
        try:
            StreamAddress.parse(uri)
        except InputError:
            raise SoapRefusalError(
                "Sender", "InvalidArgVal", "BadConfiguration", reason="not an rtsp:// address"
            ) from None
        return uri

    def _create_receiver(self, request: Element) -> Element:
        most = self.config.channels * _MOST_TRACKS
        if len(self.receivers) >= most:
            raise SoapRefusalError("Receiver", "Action", "MaxReceivers", reason=f"all {most} are in use")
        token = f"RCV{secrets.token_hex(3)}"
        self.receivers[token] = self._address(request)
        return recording.create_receiver_response(recording.Receiver(token, _shown(self.receivers[token])))

    def _receiver_token(self, token: str) -> str:
        if token not in self.receivers:
            raise SoapRefusalError("Sender", "InvalidArgVal", "UnknownToken", reason="no such receiver")
        return token

    def _configure_receiver(self, request: Element) -> Element:
        token = self._receiver_token(recording.receiver_request(request).token)
        self.receivers[token] = self._address(request)
        for job in self.jobs.values():
            if token in {s.token for s in job.sources or (recording_jobs.JobSource(job.receiver_token),)}:
                self.start_job(job)
        return soap.TRV.ConfigureReceiverResponse()

    def _delete_receiver(self, request: Element) -> Element:
        token = self._receiver_token(recording.receiver_request(request).token)
        if any(token in {job.receiver_token, *(s.token for s in job.sources)} for job in self.jobs.values()):
            raise SoapRefusalError("Sender", "OperationProhibited", "CannotDeleteReceiver", reason="a job uses it")
        del self.receivers[token]
        return soap.TRV.DeleteReceiverResponse()

    # Recordings and jobs

    def channel_of(self, token: str) -> Channel:
        if token not in self.channels:
            raise SoapRefusalError("Sender", "InvalidArgVal", "NoRecording", reason="no such recording")
        return self.channels[token]

    def _create_recording(self, request: Element) -> Element:
        if not self.config.dynamic_recordings or len(self.channels) >= self.config.channels:
            raise SoapRefusalError(
                "Receiver", "Action", "MaxRecordings", reason=f"at most {self.config.channels} recordings"
            )
        token = f"REC{len(self.channels) + 1:03d}"
        wanted = recording.recording_request(request)
        kept_s = self._kept_s(wanted.retention_s) or self.retention_s
        channel = self.channels[token] = self._new(token)
        tracks = channel.recording.tracks
        channel.recording = replace(wanted, token=token, element=None, retention_s=kept_s, tracks=tracks)
        return recording.create_recording_response(token)

    def _set_recording(self, request: Element) -> Element:
        wanted = recording.recording_request(request)
        channel, kept_s = self.channel_of(wanted.token), self._kept_s(wanted.retention_s)
        channel.recording = replace(wanted, retention_s=kept_s, tracks=channel.recording.tracks)
        return soap.TRC.SetRecordingConfigurationResponse()

    def _create_job(self, request: Element) -> Element:
        wanted = recording_jobs.job_request(request)
        self.channel_of(wanted.recording_token)
        self._receiver_token(wanted.receiver_token)
        if any(j.recording_token == wanted.recording_token for j in self.jobs.values()):
            raise SoapRefusalError("Receiver", "Action", "MaxRecordingJobs", reason="the recording has a job already")
        job = replace(wanted, token=f"JOB{secrets.token_hex(3)}")
        self.jobs[job.token] = job
        self.start_job(job)
        return recording_jobs.create_job_response(job)

    def _job(self, request: Element) -> recording_jobs.RecordingJob:
        token = recording_jobs.job_token_of(request)
        if token not in self.jobs:
            raise SoapRefusalError("Sender", "InvalidArgVal", "NoRecordingJob", reason="no such job")
        return self.jobs[token]

    def _delete_job(self, request: Element) -> Element:
        job = self._job(request)
        del self.jobs[job.token]
        self._stop(job.token)
        return soap.TRC.DeleteRecordingJobResponse()

    def _set_job(self, request: Element) -> Element:
        held, wanted = self._job(request), recording_jobs.job_request(request)
        if wanted.events is not None and not self.config.events:
            raise SoapRefusalError("Receiver", "ActionNotSupported", reason="no recording on events")
        if wanted.schedule and wanted.schedule not in self.schedules.held:
            raise SoapRefusalError("Sender", "InvalidArgVal", "BadConfiguration", reason="no such schedule")
        for source in wanted.sources:
            self._receiver_token(source.token)
        known = {token for token, _ in self.channel_of(held.recording_token).recording.tracks}
        if any(track not in known for source in wanted.sources for _, track in source.tracks):
            raise SoapRefusalError("Sender", "InvalidArgVal", "BadConfiguration", reason="no such track")
        job = replace(wanted, token=held.token, recording_token=held.recording_token)
        self.jobs[job.token] = job
        if (job.mode, job.sources) != (held.mode, held.sources):
            self.start_job(job)
        return recording_jobs.set_job_response(job)

    def _options(self, request: Element) -> Element:
        channel = self.channel_of(recording_jobs.options_token_of(request))
        videos = len(channel.recording.tracks_of(VIDEO))
        own = [j for j in self.jobs.values() if j.recording_token == channel.recording.token]
        spare = _MOST_TRACKS - videos if self.config.dynamic_recordings else 0
        audio = 1 - len(channel.recording.tracks_of(AUDIO)) if self.config.dynamic_recordings else 0
        return recording_jobs.options_response(recording_jobs.RecordingOptions(1 - len(own), spare, audio))

    def _create_track(self, request: Element) -> Element:
        token, kind = recording_jobs.track_request(request)
        held = self.channel_of(token).recording
        have = len(held.tracks_of(kind))
        if not self.config.dynamic_recordings or have >= (_MOST_TRACKS if kind == VIDEO else 1):
            raise SoapRefusalError("Receiver", "Action", "MaxTracks", reason=f"at most {have} tracks of {kind}")
        track = f"{kind.upper()}{have + 1:03d}"
        self.channel_of(token).recording = replace(held, tracks=(*held.tracks, (track, kind)))
        return recording_jobs.create_track_response(track)

    def _set_job_mode(self, request: Element) -> Element:
        job = replace(self._job(request), mode=recording_jobs.job_mode_of(request))
        self.jobs[job.token] = job
        self.start_job(job)
        return soap.TRC.SetRecordingJobModeResponse()

    def _job_state(self, request: Element) -> Element:
        job = self._job(request)
        return recording_jobs.job_state_response(job, self.state_of(job))

    # Faults of one camera that show here

    def _faults_of(self, job: recording_jobs.RecordingJob) -> set[str]:
        url = self.receivers.get(job.receiver_token, "")
        return self.faults_at(StreamAddress.parse(url).host) if url else set()

    def state_of(self, job: recording_jobs.RecordingJob) -> recording_jobs.JobState:
        """Its disk is no part of it, but where that is full: a job takes in what comes."""
        storage = self.channels[job.recording_token].storage
        if "recorder-job" in self._faults_of(job):
            return recording_jobs.JobState(recording_jobs.ERROR, self._said("no licence for this channel"))
        if job.token not in self._pulling:
            return recording_jobs.JobState(recording_jobs.IDLE)
        if self.config.disk == "full":
            return recording_jobs.JobState(recording_jobs.ERROR, self._said("no space left"))
        if time.time() - storage.heard_s < STALE_AFTER_S:
            waits = not self._runs(job) and not self.config.records_always
            return recording_jobs.JobState(recording_jobs.IDLE if waits else recording_jobs.ACTIVE)
        error = self._said(storage.error) if storage.error else ""
        return recording_jobs.JobState(recording_jobs.ERROR if error else recording_jobs.IDLE, error)

    def _said(self, error: str) -> str:
        return self.config.own_words.format(why=error) if self.config.own_words else error

    def _disks(self) -> list[storage.Storage]:
        return [storage.Storage(f"disk-{n}", "LocalStorage", f"/mnt/disk{n}") for n in (1, 2)]

    def _events(self) -> Iterator[events.Message]:
        now = datetime.fromtimestamp(self.now_s(), UTC)
        failed = str(self.config.disk == "failed").lower()
        yield events.Message(events.STORAGE_FAILURE, {"Token": "disk-1"}, {"Failed": failed}, now)
        yield events.Message(f"{events.HARDWARE}/FanFailure", {"Token": "fan-1"}, {"Failed": "false"}, now)

    # Taking in

    def _runs(self, job: recording_jobs.RecordingJob) -> bool:
        """Whether it is to record now, by its filter and its schedule."""
        now = time.time()
        if job.events is not None:
            hears = not self.config.deaf and not self.still
            if not hears or not something_moves(now, job.events.before_s, job.events.after_s):
                return False
        return not job.schedule or self.schedules.runs(job.schedule, self.now_s(), self.timezone)

    def _keeps(self, job: recording_jobs.RecordingJob) -> bool:
        """Whether what comes now reaches the disk."""
        held = self.jobs.get(job.token, job)
        stops = self.config.stops_after_s.get(self._number(held))
        over = stops is not None and time.time() - self.started_s > stops
        over = over or "recorder-keeps-nothing" in self._faults_of(held)
        return not self.config.disk and not over and (self.config.records_always or self._runs(held))

    def _number(self, job: recording_jobs.RecordingJob) -> int:
        return list(self.channels).index(job.recording_token) + 1

    def _stop(self, job: str) -> None:
        for task in self._pulling.pop(job, []):
            task.cancel()

    def start_job(self, job: recording_jobs.RecordingJob) -> None:
        self._stop(job.token)
        number, channel = self._number(job), self.channels[job.recording_token]
        if job.mode != recording_jobs.ACTIVE or number in self.config.dead_channels:
            return
        sources = job.sources or (recording_jobs.JobSource(job.receiver_token),)
        while len(channel.further) < len(sources) - 1:
            channel.further.append(self._ring())
        rings = (channel.storage, *channel.further)
        self._pulling[job.token] = [
            asyncio.create_task(self._record(job, source.token, ring, number if ring is channel.storage else 0))
            for source, ring in zip(sources, rings, strict=False)
        ]

    async def _record(self, job: recording_jobs.RecordingJob, receiver: str, ring: Ring, number: int) -> None:
        """`number`: of the channel, where this is its main stream; it may take in something else than it was told."""
        attempt = 0
        while True:
            before = ring.heard_s
            try:
                told = StreamAddress.parse(self.receivers[receiver])
                if other := self.config.really_records.get(number):
                    address = StreamAddress.parse(other)
                    key = self.key_of(address.host)
                    told = replace(address, user=key.user, password=key.password) if key else address
                if "recorder-password" in self.faults_at(told.host):
                    told = replace(told, password=f"old-{told.password}")
                await pull(told, ring, lambda: self._keeps(job))
            except (OSError, DeviceError, InputError) as error:
                ring.error = why(error)
                log.debug("%s: %s: %s", self.config.name, job.recording_token, ring.error)
            attempt = 0 if ring.heard_s > before else min(attempt + 1, len(RETRY_S) - 1)
            await asyncio.sleep(RETRY_S[attempt])


def _shown(uri: str) -> str:
    return StreamAddress.parse(uri).url if uri else ""
