"""Devices on a link of their own, as fresh cameras come: two with one address. Each is a process in a network of its own, on one
bridge with us. Only inside a network that is the stand-in's own: nothing of the person's machine is touched.
"""

from __future__ import annotations

import asyncio
import contextlib
import logging
import subprocess
import sys
from collections.abc import Sequence
from dataclasses import dataclass

from zentrale.simulation.own_network import await_own_network, ip, lacking
from zentrale.simulation.scenario import Camera

log = logging.getLogger(__name__)
LINK = "link0"
_OWN_HOST = 250


@dataclass(frozen=True)
class _Device:
    holder: subprocess.Popen[bytes]  # keeps the network; ends when its stdin is closed
    player: subprocess.Popen[bytes]


class Apart:
    """The devices of a scenario that stand apart. `why_not` says what keeps them from being played; empty where nothing does."""

    def __init__(self, cameras: Sequence[Camera], scenario: str | None) -> None:
        self.cameras = cameras
        self.scenario = scenario
        self.why_not = "" if cameras else "none is in the scenario"
        self._devices: list[_Device] = []
        self._linked = False  # the link is there, and ours

    @property
    def playing(self) -> int:
        return len(self._devices)

    async def start(self) -> None:
        if not self.cameras:
            return
        self.why_not = lacking()
        if not self.why_not:
            try:
                await asyncio.to_thread(self._start)
            except (OSError, subprocess.SubprocessError) as error:
                self.why_not = f"this system does not let it: {error}"
                self.stop()
        if self.why_not:
            log.info("devices on one address are not played: %s", self.why_not)

    def _start(self) -> None:
        """Raises OSError or SubprocessError where the system does not give what it takes."""
        network = self.cameras[0].address.rpartition(".")[0]
        ip("link", "add", "name", LINK, "type", "bridge")
        self._linked = True
        ip("link", "set", LINK, "up")
        ip("addr", "add", f"{network}.{_OWN_HOST}/24", "brd", "+", "dev", LINK)
        for number, camera in enumerate(self.cameras):
            holder = subprocess.Popen(["unshare", "--net", "cat"], stdin=subprocess.PIPE, stdout=subprocess.DEVNULL)
            await_own_network(holder.pid)
            near, far = f"near{number}", f"far{number}"
            ip("link", "add", "name", near, "type", "veth", "peer", "name", far)
            ip("link", "set", near, "master", LINK, "up")
            ip("link", "set", far, "address", camera.mac, "netns", str(holder.pid))
            inside = ["nsenter", "-t", str(holder.pid), "-n"]
            for words in (
                ("link", "set", "lo", "up"), ("addr", "add", f"{camera.address}/24", "dev", far), ("link", "set", far, "up"),
            ):  # fmt: skip
                subprocess.run([*inside, "ip", *words], check=True, capture_output=True)
            command = [
                sys.executable,
                "-m",
                "zentrale",
                "simulate",
                "--with-parent",
                "--quiet",
                "--device",
                camera.name,
            ]
            more = ["--scenario", self.scenario] if self.scenario else []
            player = subprocess.Popen([*inside, *command, *more], stdin=subprocess.PIPE, stdout=subprocess.PIPE)
            self._devices.append(_Device(holder, player))
        for device in self._devices:
            assert device.player.stdout is not None
            if not device.player.stdout.readline().startswith(b"ready"):
                raise OSError("a device did not start")

    def stop(self) -> None:
        for device in self._devices:
            for process in (device.player, device.holder):
                assert process.stdin is not None
                with contextlib.suppress(OSError):
                    process.stdin.close()
        for device in self._devices:
            for process in (device.player, device.holder):
                try:
                    process.wait(timeout=10)
                except subprocess.TimeoutExpired:
                    process.kill()
                    process.wait()
        if self._linked:  # the cables too: they go by themselves, but only some time after their far ends
            for link in (*(f"near{number}" for number in range(len(self._devices))), LINK):
                subprocess.run(["ip", "link", "delete", link], check=False, capture_output=True)
        self._devices, self._linked = [], False
