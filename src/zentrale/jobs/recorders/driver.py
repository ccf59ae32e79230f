"""What a driver does: it gives a channel to a camera, and tells what each channel holds."""

from __future__ import annotations

import asyncio
from abc import ABC, abstractmethod
from collections.abc import Collection, Mapping
from dataclasses import dataclass, field
from typing import Any

from zentrale.errors import NotOfferedError
from zentrale.field.device import Device
from zentrale.findings import Finding
from zentrale.jobs.known.step_form import Step, StepResult
from zentrale.jobs.passwords.keyring import Keyring
from zentrale.jobs.recorders.book import ChannelBook
from zentrale.jobs.recorders.channel_holds import RuleState, TracksState
from zentrale.jobs.recorders.kept_channels import KeptChannels
from zentrale.jobs.recorders.passes import Passes
from zentrale.protocols.onvif.events import Message
from zentrale.protocols.onvif.recording_jobs import JobState
from zentrale.protocols.onvif.search import Stored, StoredVideo
from zentrale.protocols.stream_address import StreamAddress
from zentrale.site.model import Camera, Recorder, RecordingPlan


@dataclass(frozen=True)
class PlannedChannel:
    """The camera that is planned on a channel, and by which rules it is recorded."""

    camera: str
    rules: RecordingPlan = field(default_factory=RecordingPlan)


@dataclass(frozen=True)
class Streamed:
    """What is to be recorded of a camera: by which rules, the address of its sub stream without a password (empty where it tells
    none), and the planned rate of all that is recorded [kbit/s].
    """

    rules: RecordingPlan
    sub: str = ""
    rate_kbps: float = 0.0


@dataclass(frozen=True)
class ChannelSample:
    """What one channel holds: the camera's name as the recorder has it, its address, empty where it points nowhere; `state` None
    where it has no job. user: as whom it watches, where the recorder tells it; rule, tracks: None where it does not tell them;
    videos: the pictures that are stored by now, one for each track, empty where it does not tell
    """

    name: str
    url: str
    state: JobState | None
    stored: Stored
    user: str = ""
    rule: RuleState | None = None
    tracks: TracksState | None = None
    videos: tuple[StoredVideo, ...] = ()


@dataclass(frozen=True)
class Sample:
    """All channels of a recorder by number, and what is to be told of the recorder itself.

    clock_offset_s: how far its clock is ahead, None where it tells none; hardware: what it says of failed parts, None where it
    tells no events; disks: what it lists as storage
    """

    channels: Mapping[int, ChannelSample] = field(default_factory=dict)
    findings: tuple[Finding, ...] = ()
    clock_offset_s: float | None = None
    hardware: tuple[Message, ...] | None = None
    disks: tuple[str, ...] = ()


@dataclass(frozen=True)
class ByHand:
    """What a person has to enter at the recorder, where no service does it. Never a password: that is in the vault."""

    recorder: str
    channel: int
    camera: str
    url: str
    user: str


class Driver(ABC):
    """One recorder. `has_service`: it is found, entered and asked; else a work sheet is all there is. `speaks_onvif`: its service
    is ONVIF's, so that a discovery sees it by that, and a stand-in can play it.

    turn: cameras take turns, since channels are made and given by number
    """

    has_service = True
    speaks_onvif = False

    def __init__(self, client: Device | None, book: ChannelBook) -> None:
        self.client = client
        self.book = book
        self.turn = asyncio.Lock()

    @abstractmethod
    def give(self, camera: Camera, url: str, passes: Passes) -> Step[Any] | ByHand:
        """The step that puts the stream at `url` onto the camera's channel. Run it within `turn`."""

    def own_port(self, camera: Camera) -> Step[Any] | ByHand:
        """The step that names the channel of a camera at the recorder's own port, which takes it in by itself. Run it within
        `turn`.
        """
        return ByHand(camera.recorder, camera.channel, camera.name, f"its own port {camera.port}", "")

    def rules(self, camera: Camera, stream: Streamed, passes: Passes) -> list[Step[Any]]:
        """The steps that hold what the plan says of its channel, once the camera has it. Run them within `turn`."""
        return []

    @abstractmethod
    async def sample(self, planned: Mapping[int, PlannedChannel], *, whole: bool = True) -> Sample:
        """What all channels hold now. planned: as for `noticed`; whole: with what only one look needs. Raises DeviceError."""

    def kept(self) -> KeptChannels:
        """What it keeps, and where that is played from. Raises NotOfferedError."""
        raise NotOfferedError("it has no service that tells what it keeps; look at its own screen")

    async def taken(self) -> Collection[int]:
        """Channels that record, or point, by what the recorder tells. Raises DeviceError."""
        return ()

    async def settle(self, keyring: Keyring, run: int, recorder: Recorder) -> list[StepResult]:
        """Bring cameras that are on other channels than planned onto theirs, before others are given. Raises DeviceError."""
        return []

    async def noticed(self, planned: Mapping[int, PlannedChannel]) -> tuple[Finding, ...]:
        """What is to be told of its channels as a whole. planned: what the plan has on each channel"""
        return ()


def recorded_url(camera: Camera, address: StreamAddress, *, will_move: bool = False) -> str:
    """What the recorder is given: the stream where the camera was reached, not where it says; at the planned address where a
    translation stands before it, or a rehearsed run would move it there.
    """
    return address.at(camera.host) if camera.host and (camera.translated or will_move) else address.url
