"""The whole stand-in site: starts every device of a scenario, and stops them all."""

from __future__ import annotations

import asyncio
import errno
import os
import sys
from collections.abc import Iterator, Sequence
from dataclasses import dataclass

from zentrale.errors import InputError
from zentrale.simulation import announcing, discovery, encoding, http_server
from zentrale.simulation.apart import Apart
from zentrale.simulation.camera import SimulatedCamera, recipe_for, settings_of
from zentrale.simulation.onvif_device import OnvifDevice
from zentrale.simulation.recorder import SimulatedRecorder
from zentrale.simulation.rtsp_server import RtspServer
from zentrale.simulation.scenario import Camera, Scenario


def recipes(scenario: Scenario) -> Iterator[encoding.StreamRecipe]:
    """Every stream that will be asked for: as the plan wants them, for cameras whose size the plan's sets name."""
    for camera in scenario.cameras:
        for stream, planned in (("main", scenario.planned_main), ("sub", scenario.planned_sub)):
            special = getattr(camera, f"planned_{stream}")
            own = getattr(camera, stream)
            for encoder in (special,) if special else planned if planned and camera.onvif else (own,):
                yield recipe_for(camera, stream, settings_of(stream, encoder))


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


class StandIn:
    """A running stand-in site."""

    def __init__(self, scenario: Scenario, source: str | None = None) -> None:
        """`source`: the file that the scenario was read from, for devices that are played by processes of their own."""
        self.scenario = scenario
        self.cameras = [SimulatedCamera(c) for c in scenario.cameras if not c.apart]
        self.apart = Apart([c for c in scenario.cameras if c.apart], source)
        self.recorders = [SimulatedRecorder(r) for r in scenario.recorders]
        self._rtsp: list[RtspServer] = []
        self._http: list[asyncio.Server] = []
        self._beside = announcing.Beside(self.devices)
        self._announcer = discovery.Announcer(self.devices)

    @property
    def devices(self) -> list[OnvifDevice]:
        return [*self.cameras, *self.recorders]

    async def start(self) -> None:
        """Bind everything. Raises InputError where an address or port is not to be had, and says what to type."""
        try:
            for device in self.devices:
                config = device.config
                if isinstance(config, Camera) and not config.onvif:
                    continue
                tls = http_server.certificate_for(config.address) if config.quirks.https_only else None
                self._http.append(
                    await http_server.serve(
                        device.handle, config.address, config.http_port, chunked=config.quirks.chunked, tls=tls
                    )
                )
            for camera in self.cameras:
                server = RtspServer(camera)
                await server.start()
                self._rtsp.append(server)
            await self._announcer.start()
            await self._beside.start()
            await self.apart.start()
        except OSError as error:
            await self.stop()
            raise cannot_bind(error, [d.config.address for d in self.devices]) from None

    async def stop(self) -> None:
        await asyncio.to_thread(self.apart.stop)
        await self._beside.stop()
        self._announcer.stop()
        for recorder in self.recorders:
            await recorder.close()
        for rtsp in self._rtsp:
            await rtsp.close()
        for server in self._http:
            server.close()

    def stored(self) -> list[ChannelCount]:
        return [
            ChannelCount(r.config.name, number, c.recording.name, c.storage.size_bytes, c.storage.pictures)
            for r in self.recorders
            for number, c in enumerate(r.channels.values(), start=1)
            if c.storage.packets
        ]


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
