"""A stand-in recorder: ONVIF Receiver, Recording Control and Search services, and it really records.

Each active job pulls its receiver's address over RTSP and counts what it would store.
"""

from __future__ import annotations

import asyncio
import contextlib
import logging
import os
import secrets
import time
from dataclasses import dataclass, field, replace
from datetime import UTC, datetime

from zentrale.errors import DeviceError, InputError, SoapRefusalError
from zentrale.protocols import soap
from zentrale.protocols.http_auth import Answering, Credentials
from zentrale.protocols.onvif import device, recording
from zentrale.protocols.rtp import RtpPacket
from zentrale.protocols.rtsp_client import Challenged, Described, MediaPacket, PlayerSession, Refused, StreamAddress
from zentrale.protocols.soap import NS
from zentrale.protocols.xml import Element
from zentrale.simulation.onvif_device import OnvifDevice
from zentrale.simulation.scenario import BehindRecorder, Recorder

log = logging.getLogger(__name__)
RECORDING_PATH = "/onvif/recording_service"
STALE_AFTER_S = 3.0  # without packets for longer, a job is in error
KEEP_ALIVE_S = 20.0
RETRY_S = (1.0, 2.0, 4.0, 8.0)


@dataclass
class Storage:
    """What one channel has stored, and how the pulling goes."""

    packets: int = 0
    size_bytes: int = 0
    pictures: int = 0
    first_s: float | None = None
    last_s: float | None = None
    error: str = ""


@dataclass
class Channel:
    recording: recording.Recording
    storage: Storage = field(default_factory=Storage)


class SimulatedRecorder(OnvifDevice):
    """A recorder with a limit of channels. Passwords in receiver addresses are taken and never told again."""

    config: Recorder
    device_type = "NetworkVideoStorage"

    def __init__(self, config: Recorder) -> None:
        super().__init__(config)
        first = 0 if config.dynamic_recordings else config.channels
        self.channels = {
            f"REC{n:03d}": Channel(recording.Recording(f"REC{n:03d}", retention_s=self.retention_s))
            for n in range(1, first + 1)
        }
        self.receivers: dict[str, str] = {}  # token to address, with its password
        self.jobs: dict[str, recording.RecordingJob] = {}
        self._pulling: dict[str, asyncio.Task[None]] = {}
        for camera in config.behind:
            self._give_private_port(camera)
        self.operations |= {
            "GetServiceCapabilities": lambda _: recording.capabilities_response(self.limits),
            "GetReceivers": lambda _: recording.receivers_response(
                recording.Receiver(t, StreamAddress.parse(uri).url) for t, uri in self.receivers.items()
            ),
            "CreateReceiver": self._create_receiver,
            "ConfigureReceiver": self._configure_receiver,
            "DeleteReceiver": self._delete_receiver,
            "GetRecordings": lambda _: recording.recordings_response(c.recording for c in self.channels.values()),
            "CreateRecording": self._create_recording,
            "SetRecordingConfiguration": self._set_recording,
            "GetRecordingJobs": lambda _: recording.jobs_response(self.jobs.values()),
            "CreateRecordingJob": self._create_job,
            "DeleteRecordingJob": self._delete_job,
            "SetRecordingJobMode": self._set_job_mode,
            "GetRecordingJobState": self._job_state,
            "GetRecordingInformation": self._information,
        }

    def _give_private_port(self, camera: BehindRecorder) -> None:
        """On its channel from the start; it records what nobody else can reach."""
        number, token = f"REC{camera.channel:03d}", f"RCV-P{camera.channel}"
        url = f"rtsp://{camera.address}:554/1"
        self.channels[number] = Channel(recording.Recording(number, camera.name, address=url))
        self.receivers[token] = url
        self.jobs[f"JOB-P{camera.channel}"] = recording.RecordingJob(f"JOB-P{camera.channel}", number, token)

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
        return recording.RecorderLimits(self.config.channels, self.config.channels, self.config.dynamic_recordings)

    def services(self) -> list[device.Service]:
        address = self.base_url + RECORDING_PATH
        return [*super().services(), *(device.Service(NS[prefix], address) for prefix in ("trv", "trc", "tse"))]

    async def close(self) -> None:
        tasks = list(self._pulling.values())
        for task in tasks:
            task.cancel()
        await asyncio.gather(*tasks, return_exceptions=True)

    # Receivers

    def _address(self, request: Element) -> str:
        uri = recording.receiver_request(request).uri
        try:
            StreamAddress.parse(uri)
        except InputError:
            raise SoapRefusalError(
                "Sender", "InvalidArgVal", "BadConfiguration", reason="not an rtsp:// address"
            ) from None
        return uri

    def _create_receiver(self, request: Element) -> Element:
        if len(self.receivers) >= self.config.channels:
            raise SoapRefusalError(
                "Receiver", "Action", "MaxReceivers", reason=f"all {self.config.channels} are in use"
            )
        token = f"RCV{secrets.token_hex(3)}"
        self.receivers[token] = self._address(request)
        shown = StreamAddress.parse(self.receivers[token]).url
        return recording.create_receiver_response(recording.Receiver(token, shown))

    def _receiver_token(self, token: str) -> str:
        if token not in self.receivers:
            raise SoapRefusalError("Sender", "InvalidArgVal", "UnknownToken", reason="no such receiver")
        return token

    def _configure_receiver(self, request: Element) -> Element:
        token = self._receiver_token(recording.receiver_request(request).token)
        self.receivers[token] = self._address(request)
        for job in self.jobs.values():
            if job.receiver_token == token:
                self._start(job)
        return soap.TRV.ConfigureReceiverResponse()

    def _delete_receiver(self, request: Element) -> Element:
        token = self._receiver_token(recording.receiver_request(request).token)
        if any(job.receiver_token == token for job in self.jobs.values()):
            raise SoapRefusalError("Sender", "OperationProhibited", "CannotDeleteReceiver", reason="a job uses it")
        del self.receivers[token]
        return soap.TRV.DeleteReceiverResponse()

    # Recordings and jobs

    def _channel(self, token: str) -> Channel:
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
        self.channels[token] = Channel(replace(wanted, token=token, element=None, retention_s=kept_s))
        return recording.create_recording_response(token)

    def _set_recording(self, request: Element) -> Element:
        wanted = recording.recording_request(request)
        self._channel(wanted.token).recording = replace(wanted, retention_s=self._kept_s(wanted.retention_s))
        return soap.TRC.SetRecordingConfigurationResponse()

    def _create_job(self, request: Element) -> Element:
        wanted = recording.job_request(request)
        self._channel(wanted.recording_token)
        self._receiver_token(wanted.receiver_token)
        if any(j.recording_token == wanted.recording_token for j in self.jobs.values()):
            raise SoapRefusalError("Receiver", "Action", "MaxRecordingJobs", reason="the recording has a job already")
        job = replace(wanted, token=f"JOB{secrets.token_hex(3)}")
        self.jobs[job.token] = job
        self._start(job)
        return recording.create_job_response(job)

    def _job(self, request: Element) -> recording.RecordingJob:
        token = recording.job_token_of(request)
        if token not in self.jobs:
            raise SoapRefusalError("Sender", "InvalidArgVal", "NoRecordingJob", reason="no such job")
        return self.jobs[token]

    def _delete_job(self, request: Element) -> Element:
        job = self._job(request)
        del self.jobs[job.token]
        if job.token in self._pulling:
            self._pulling.pop(job.token).cancel()
        return soap.TRC.DeleteRecordingJobResponse()

    def _set_job_mode(self, request: Element) -> Element:
        job = replace(self._job(request), mode=recording.job_mode_of(request))
        self.jobs[job.token] = job
        self._start(job)
        return soap.TRC.SetRecordingJobModeResponse()

    def _job_state(self, request: Element) -> Element:
        job = self._job(request)
        return recording.job_state_response(job, self.state_of(job))

    def state_of(self, job: recording.RecordingJob) -> recording.JobState:
        storage = self.channels[job.recording_token].storage
        if job.token not in self._pulling:
            return recording.JobState(recording.IDLE)
        if storage.last_s is not None and time.time() - storage.last_s < STALE_AFTER_S:
            return recording.JobState(recording.ACTIVE)
        return recording.JobState(recording.ERROR if storage.error else recording.IDLE, storage.error)

    def _information(self, request: Element) -> Element:
        channel = self._channel(recording.recording_token_of(request))
        first, last = (
            None if moment is None else datetime.fromtimestamp(moment + self.clock_offset_s, UTC)
            for moment in (channel.storage.first_s, channel.storage.last_s)
        )
        states = [self.state_of(j).state for j in self.jobs.values() if j.recording_token == channel.recording.token]
        status = "Recording" if recording.ACTIVE in states else "Stopped"
        return recording.information_response(channel.recording, recording.Stored(first, last, status))

    # Pulling

    def _start(self, job: recording.RecordingJob) -> None:
        if job.token in self._pulling:
            self._pulling.pop(job.token).cancel()
        number = list(self.channels).index(job.recording_token) + 1
        if job.mode == recording.ACTIVE and number not in self.config.dead_channels:
            self._pulling[job.token] = asyncio.create_task(self._record(job))

    async def _record(self, job: recording.RecordingJob) -> None:
        storage = self.channels[job.recording_token].storage
        attempt = 0
        while True:
            before = storage.packets
            try:
                await self._pull(StreamAddress.parse(self.receivers[job.receiver_token]), storage)
            except (OSError, DeviceError) as error:
                storage.error = _why(error)
                log.debug("%s: %s: %s", self.config.name, job.recording_token, storage.error)
            attempt = 0 if storage.packets > before else min(attempt + 1, len(RETRY_S) - 1)
            await asyncio.sleep(RETRY_S[attempt])

    async def _pull(self, address: StreamAddress, storage: Storage) -> None:
        credentials = Credentials(address.user, address.password) if address.user else None
        session = PlayerSession(address)
        async with asyncio.timeout(10):
            reader, writer = await asyncio.open_connection(address.host, address.port)
        codec, next_keep_alive = "", time.monotonic() + KEEP_ALIVE_S
        try:
            session.start()
            while True:
                writer.write(session.data_to_send())
                async with asyncio.timeout(10):
                    data = await reader.read(262144)
                if not data:
                    raise ConnectionError("the camera closed the connection")
                for event in session.receive(data):
                    if isinstance(event, Challenged):
                        if credentials is None or not event.offers.challenges:
                            raise DeviceError(f"{event.refused.method} was refused: 401 {event.refused.reason}")
                        session.authenticate(Answering(credentials, secrets.token_hex(8)), event.offers.challenges[0])
                    if isinstance(event, Refused):
                        raise DeviceError(f"{event.method} was refused: {event.status} {event.reason}")
                    if isinstance(event, Described):
                        codec = event.media.codec
                    elif isinstance(event, MediaPacket) and not event.is_rtcp:
                        _store(RtpPacket.parse(event.data), codec, storage)
                if session.playing and time.monotonic() > next_keep_alive:
                    session.keep_alive()
                    next_keep_alive = time.monotonic() + KEEP_ALIVE_S
        finally:
            session.teardown()
            with contextlib.suppress(OSError):
                writer.write(session.data_to_send())
            writer.close()


def _store(packet: RtpPacket, codec: str, storage: Storage) -> None:
    now = time.time()
    storage.packets += 1
    storage.size_bytes += len(packet.payload)
    storage.pictures += packet.marker
    storage.first_s = storage.first_s or now
    storage.last_s = now
    storage.error = "" if codec else "the description names no codec"


def _why(error: Exception) -> str:
    """As a recorder says it."""
    return os.strerror(error.errno).lower() if isinstance(error, OSError) and error.errno else str(error) or "no answer"
