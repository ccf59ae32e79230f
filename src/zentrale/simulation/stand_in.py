"""The whole stand-in site: starts every device of a scenario, and stops them all."""

from __future__ import annotations

import asyncio
import errno
import os
import sys
from collections.abc import Iterator, Sequence
from dataclasses import dataclass

from zentrale.errors import InputError
from zentrale.protocols.http_auth import Credentials
from zentrale.simulation import announcing, discovery, encoding, http_server
from zentrale.simulation.apart import Apart
from zentrale.simulation.camera import SimulatedCamera, recipe_for, settings_of, stream_names, stream_of
from zentrale.simulation.faults import Faults, Wanted
from zentrale.simulation.onvif_device import OnvifDevice
from zentrale.simulation.recorder import SimulatedRecorder
from zentrale.simulation.recorder_replay import ReplayConnection
from zentrale.simulation.rtsp_server import CameraConnection, RtspServer
from zentrale.simulation.scenario import Camera, Scenario
from zentrale.simulation.switches import Fed, Switches
from zentrale.simulation.tap import Tap


def recipes(scenario: Scenario) -> Iterator[encoding.StreamRecipe]:
    """Every stream that will be asked for: as the plan wants them, for cameras whose size the plan's sets name."""
    for camera in scenario.cameras:
        for name in stream_names(camera):
            stream = stream_of(name)[0]
            special, own = getattr(camera, f"planned_{stream}"), getattr(camera, stream)
            planned = scenario.planned_main if stream == "main" else scenario.planned_sub
            for encoder in (special,) if special else planned if planned and camera.onvif else (own,):
                yield recipe_for(camera, name, settings_of(name, encoder))


def missing(scenario: Scenario) -> list[encoding.StreamRecipe]:
    """The streams that are not encoded yet."""
    return encoding.missing(recipes(scenario))


def prepare(streams: Sequence[encoding.StreamRecipe]) -> Iterator[int]:
    """Encode them; how many are done so far, after each."""
    yield from encoding.prepare(streams, os.cpu_count() or 1)


@dataclass(frozen=True)
class ChannelCount:
    """What a recorder stored on one channel."""

    recorder: str
    channel: int
    camera: str
    size_bytes: int
    pictures: int


class _Place:
    """The servers of one device, at the address that it has: closed and opened again when it restarts or moves."""

    def __init__(self, device: OnvifDevice, announcer: discovery.Announcer) -> None:
        self.device = device
        self._announcer = announcer
        self._http: asyncio.Server | None = None
        self._rtsp: RtspServer | None = None

    async def open(self) -> None:
        """What is not open yet. Raises OSError where the address or port is not to be had."""
        device, config = self.device, self.device.config
        if self._http is None and (not isinstance(config, Camera) or config.onvif):
            tls = http_server.certificate_for(config.address) if config.quirks.https_only else None
            self._http = await http_server.serve(
                device.handle, config.address, config.http_port, chunked=config.quirks.chunked, tls=tls, tap=device.tap
            )
        serves: RtspServer | None = None
        if isinstance(device, SimulatedCamera):
            serves = RtspServer(device, CameraConnection)
        elif isinstance(device, SimulatedRecorder) and device.config.replay:
            serves = RtspServer(device, ReplayConnection)
        if self._rtsp is None and serves is not None:
            await serves.start()
            self._rtsp = serves
        device.runs = True

    @property
    def is_open(self) -> bool:
        return self._http is not None or self._rtsp is not None

    async def close(self, *, http: bool = True, rtsp: bool = True, runs: bool = False) -> None:
        """Its servers, and whether it still answers probes."""
        self.device.runs = runs or not (http or rtsp)
        if self._rtsp is not None and rtsp:
            await self._rtsp.close()
            self._rtsp = None
        if self._http is not None and http:
            self._http.close()
            self._http = None

    async def move(self) -> None:
        """After a restart: where it is told to be by now."""
        await self.open()
        await self._announcer.moved(self.device)


class StandIn:
    """A running stand-in site."""

    def __init__(self, scenario: Scenario, source: str | None = None, tap: Tap | None = None) -> None:
        """`source`: the file that the scenario was read from, for devices that are played by processes of their own; `tap`:
        writes along what its devices say.
        """
        self.scenario = scenario
        self.cameras = [SimulatedCamera(c) for c in scenario.cameras if not c.apart]
        self.apart = Apart([c for c in scenario.cameras if c.apart], source)
        self.recorders = [SimulatedRecorder(r) for r in scenario.recorders]
        for recorder in self.recorders:
            recorder.key_of, recorder.faults_at = self._key_of, self._faults_at
        for each in self.devices:
            each.still = scenario.still
            each.tap = tap.of(each.config.name) if tap is not None else None
        self._places: list[_Place] = []
        self._beside = announcing.Beside(self.devices)
        self._announcer = discovery.Announcer(self.devices)
        self._switches = Switches(scenario)

    def _key_of(self, host: str) -> Credentials | None:
        """What opens the camera at an address."""
        return next((key for c in self.cameras if c.config.address == host for key in c.credentials()), None)

    def _faults_at(self, host: str) -> set[str]:
        return next((c.faults for c in self.cameras if c.config.address == host), set())

    @property
    def devices(self) -> list[OnvifDevice]:
        return [*self.cameras, *self.recorders]

    async def start(self) -> None:
        """Bind everything. Raises InputError where an address or port is not to be had, and says what to type."""
        try:
            for device in self.devices:
                place = _Place(device, self._announcer)
                self._places.append(place)
                device.network.away, device.network.back = place.close, place.move
                await place.open()
            for recorder in self.recorders:
                recorder.begin()
            await self._announcer.start()
            await self._beside.start()
            await self.apart.start()
            await self._switches.start({p.device.config.name: _fed(p) for p in self._places})
            self.faults = self._with_faults()
            for name, faults in self._from_the_start():
                await self.faults.set(Wanted.parse(f"{name}:{faults}"), on=True)
        except InputError:
            await self.stop()
            raise
        except OSError as error:
            await self.stop()
            raise cannot_bind(
                error, [*(d.config.address for d in self.devices), *(s.address for s in self.scenario.switches)]
            ) from None

    def _with_faults(self) -> Faults:
        for camera, other in zip(self.cameras, [*self.cameras[1:], *self.cameras[:1]], strict=True):
            camera.other = other.config.scene or other.config.name
        by_name = {p.device.config.name: p for p in self._places}
        agents = {a.switch.name: (a.stop, a.start) for a in self._switches.agents}
        hang_on = {s.name: [p.device for p in s.plugs if p.device in by_name] for s in self.scenario.switches}
        return Faults(by_name, self.recorders, agents, hang_on, self.scenario)

    def _from_the_start(self) -> Iterator[tuple[str, str]]:
        for part in (*self.scenario.devices, *self.scenario.switches):
            yield from ((part.name, fault) for fault in part.faults)

    async def stop(self) -> None:
        self._switches.stop()
        await asyncio.to_thread(self.apart.stop)
        await self._beside.stop()
        self._announcer.stop()
        for recorder in self.recorders:
            await recorder.close()
        for place in self._places:
            place.device.network.stop()
            await place.close()

    def stored(self) -> list[ChannelCount]:
        return [
            ChannelCount(r.config.name, number, c.recording.name, c.storage.size_bytes, c.storage.pictures)
            for r in self.recorders
            for number, c in enumerate(r.channels.values(), start=1)
            if c.storage.packets
        ]


def _fed(place: _Place) -> Fed:
    return Fed(place.device.config, place.close, place.move, lambda: place.is_open)


def cannot_bind(error: OSError, addresses: list[str]) -> InputError:
    """What to do where the system does not give an address or port."""
    if error.errno == errno.EADDRINUSE:
        return InputError(
            f"the stand-in site cannot start: {error.strerror or error}",
            "another stand-in (or program) uses these addresses and ports: stop it, then try again",
        )
    if error.errno == errno.EADDRNOTAVAIL:
        alias = "sudo ifconfig lo0 alias {} up" if sys.platform == "darwin" else "sudo ip address add {}/8 dev lo"
        lines = "\n".join("  " + alias.format(address) for address in addresses)
        return InputError(
            "the stand-in site cannot start: this system gives only 127.0.0.1 of its loopback addresses",
            f"type these lines once, then try again:\n{lines}",
        )
    return InputError(f"the stand-in site cannot start: {error.strerror or error}", "see the cause named")
