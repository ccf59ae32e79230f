"""Faults that a stand-in device can be given, alone and together: at each layer of its way from the plug to the recorder's disk.

Most are looked up where the device answers; those that take its servers down, or concern others as well, are brought about here.
"""

from __future__ import annotations

import asyncio
from collections.abc import Awaitable, Callable, Mapping
from dataclasses import dataclass
from typing import Protocol

from zentrale.errors import InputError
from zentrale.protocols.http_auth import Credentials
from zentrale.protocols.stream_address import StreamAddress
from zentrale.simulation.onvif_device import OnvifDevice
from zentrale.simulation.recorder import SimulatedRecorder
from zentrale.simulation.scenario import Camera, Recorder, Scenario
from zentrale.simulation.switch_scenario import Switch
from zentrale.words import meant

CAMERA, RECORDER, SWITCH = "camera", "recorder", "switch"
LATE_S, CLOCK_OFF_S = 6.0, 7200.0

# What each does, in the order of the way; those of `SWITCH` are of a whole one.
FAULTS: Mapping[str, tuple[frozenset[str], str]] = {
    name: (frozenset(kinds.split()), words)
    for name, kinds, words in (
        ("cable-out", "camera recorder", "nothing of it answers; its switch's port has no link"),
        ("default-address", "camera", "it is on its default address, in factory state"),
        ("duplicate-address", "camera", "another device answers at its address as well"),
        ("ports-closed", "camera recorder", "it answers probes, and no port is open"),
        ("onvif-only", "camera", "its RTSP port is closed"),
        ("rtsp-only", "camera", "its web port is closed, and it answers no probe"),
        ("late", "camera recorder", "each answer of its web service takes 6 s"),
        ("clock-off", "camera recorder", "its clock is two hours ahead"),
        ("locked", "camera recorder", "it says that its account is locked"),
        ("other-password", "camera recorder", "its passwords are others than it was given"),
        ("profile-gone", "camera", "it has no main profile"),
        ("describe-404", "camera", "it does not know its streams' addresses"),
        ("no-session", "camera", "it serves no further viewer"),
        ("no-packets", "camera", "it answers PLAY and sends nothing"),
        ("udp-dead", "camera", "no datagram of it arrives; over TCP it plays"),
        ("loses-before-network", "camera", "one packet in 25 is numbered, and never sent nor counted"),
        ("loses-in-network", "camera", "over UDP, bursts of 8 packets do not arrive"),
        ("stops", "camera", "each stream falls silent after 3 s"),
        ("black", "camera", "its picture is black"),
        ("frozen", "camera", "its picture stands still"),
        ("turned", "camera", "it looks elsewhere"),
        ("other-picture", "camera", "it shows what another camera shows"),
        ("recorder-password", "camera", "the recorder has an old password of it"),
        ("recorder-address", "camera", "the recorder takes in another camera on its channel"),
        ("recorder-job", "camera", "the recorder's job for it is in error"),
        ("recorder-keeps-nothing", "camera", "the recorder takes it in and keeps nothing of it"),
        ("silent", "switch", "the switch is dead, and with it all that hangs on it"),
    )
}


@dataclass(frozen=True)
class Wanted:
    """One fault of one device."""

    device: str
    fault: str

    @classmethod
    def parse(cls, text: str) -> Wanted:
        """Raises InputError."""
        device, mark, fault = text.partition(":")
        if not mark or not device or not fault:
            raise InputError(f"--fault {text}: not understood", "expected DEVICE:NAME, as swing-bridge:no-packets")
        if fault not in FAULTS:
            near = meant(fault, list(FAULTS))
            raise InputError(
                f"--fault {text}: there is no fault {fault}{near}", f"expected one of: {', '.join(FAULTS)}"
            )
        return cls(device, fault)


def check(scenario: Scenario, wanted: Wanted) -> None:
    """Raises InputError where there is no such device, or it cannot have this fault."""
    device, fault = wanted.device, wanted.fault
    kinds, _ = FAULTS[fault]
    parts: dict[str, Camera | Recorder | Switch] = {p.name: p for p in (*scenario.devices, *scenario.switches)}
    part = parts.get(device)
    if part is None or (isinstance(part, Camera) and part.apart):
        raise InputError(
            f"--fault {device}:{fault}: no such device{meant(device, list(parts))}", "see `zentrale simulate --list`"
        )
    kind = CAMERA if isinstance(part, Camera) else RECORDER if isinstance(part, Recorder) else SWITCH
    if kind not in kinds:
        raise InputError(
            f"--fault {device}:{fault}: that is a fault of a {' or '.join(sorted(kinds))}", f"{device} is a {kind}"
        )
    if fault == "default-address" and not getattr(part, "default_address", None):
        raise InputError(
            f"--fault {device}:{fault}: the scenario names no default_address of it",
            "give it one in the scenario (`zentrale help scenario`)",
        )


class Servers(Protocol):
    """The servers of one device."""

    device: OnvifDevice

    async def close(self, *, http: bool = True, rtsp: bool = True, runs: bool = False) -> None: ...
    async def open(self) -> None: ...
    async def move(self) -> None: ...


@dataclass
class _Before:
    """What a fault has taken the place of."""

    address: str = ""
    accounts: Mapping[str, tuple[Credentials, str]] | None = None
    clock_offset_s: float = 0.0
    receivers: Mapping[str, str] | None = None


class Faults:
    """`servers` of each device by name; `recorders` of the site; `agents`: by which a switch's own answers are stopped and
    begun again; `hang_on`: the devices at a switch.
    """

    def __init__(
        self,
        servers: Mapping[str, Servers],
        recorders: list[SimulatedRecorder],
        switches: Mapping[str, tuple[Callable[[], None], Callable[[], Awaitable[None]]]],
        hang_on: Mapping[str, list[str]],
        scenario: Scenario,
    ) -> None:
        self._scenario = scenario
        self._servers = servers
        self._recorders = recorders
        self._switches = switches
        self._hang_on = hang_on
        self._before: dict[tuple[str, str], _Before] = {}

    async def set(self, wanted: Wanted, *, on: bool) -> None:
        """Bring it about, or take it back. Raises InputError as `check` does."""
        check(self._scenario, wanted)
        if wanted.device in self._switches:
            await self._switch(wanted.device, on=on)
            return
        servers = self._servers[wanted.device]
        device = servers.device
        if (wanted.fault in device.faults) == on:
            return
        (device.faults.add if on else device.faults.discard)(wanted.fault)
        key = (wanted.device, wanted.fault)
        if on:
            self._before[key] = _Before(device.config.address, dict(device.accounts), device.clock_offset_s)
        before = self._before.get(key, _Before())
        await self._about(wanted, servers, before, on=on)
        if not on:
            self._before.pop(key, None)

    async def _about(self, wanted: Wanted, servers: Servers, before: _Before, *, on: bool) -> None:
        device, fault = servers.device, wanted.fault
        if fault in _DOWN:
            http, rtsp, runs = _DOWN[fault]
            await (servers.close(http=http, rtsp=rtsp, runs=runs) if on else self._up_again(servers))
        elif fault == "default-address":
            await servers.close()
            address = device.config.default_address if on else before.address
            device.config = device.config.model_copy(update={"address": address})
            device.accounts = {} if on else dict(before.accounts or {})
            await servers.move()
        elif fault == "other-password":
            others = {
                u: (Credentials(u, f"Other-{c.password}"), level) for u, (c, level) in (before.accounts or {}).items()
            }
            device.accounts = others if on else dict(before.accounts or {})
            await self._anew(servers)
        elif fault == "clock-off":
            device.clock_offset_s += CLOCK_OFF_S if on else -CLOCK_OFF_S
        elif fault.startswith("recorder-"):
            self._at_recorder(wanted, before, on=on)
        elif fault not in ("late", "locked", "duplicate-address", "no-session"):
            await self._anew(servers)  # who plays it now plays it as it is from here on

    async def _up_again(self, servers: Servers) -> None:
        if not servers.device.faults & set(_DOWN):
            await servers.close()
            await servers.open()

    async def _anew(self, servers: Servers) -> None:
        if not servers.device.faults & set(_DOWN):
            await servers.close(http=False)
            await servers.open()

    def _at_recorder(self, wanted: Wanted, before: _Before, *, on: bool) -> None:
        """The recorder whose receiver has the camera's address."""
        host = self._servers[wanted.device].device.config.address
        others = [s.device.config for n, s in self._servers.items() if n != wanted.device]
        other = next((c for c in others if isinstance(c, Camera)), None)
        for recorder in self._recorders:
            if wanted.fault == "recorder-address" and other is not None:
                if on:
                    own = _receivers_at(recorder, host)
                    before.receivers = {**(before.receivers or {}), **own}
                    _point(recorder, {t: url.replace(f"{host}:", f"{other.address}:") for t, url in own.items()})
                else:
                    own = {t: url for t, url in (before.receivers or {}).items() if t in recorder.receivers}
                    _point(recorder, own)
            else:
                _point(recorder, _receivers_at(recorder, host))

    async def _switch(self, name: str, *, on: bool) -> None:
        stop, start = self._switches[name]
        for device in self._hang_on.get(name, []):
            await self.set(Wanted(device, "cable-out"), on=on)
        if on:
            stop()
        else:
            await start()
        await asyncio.sleep(0)


def _receivers_at(recorder: SimulatedRecorder, host: str) -> dict[str, str]:
    """Those that point to a camera, with the address of each."""
    return {t: url for t, url in recorder.receivers.items() if url and StreamAddress.parse(url).host == host}


def _point(recorder: SimulatedRecorder, receivers: Mapping[str, str]) -> None:
    """Receivers at these addresses; what they take in begins anew."""
    recorder.receivers |= receivers
    for job in list(recorder.jobs.values()):
        if set(receivers) & {job.receiver_token, *(s.token for s in job.sources)}:
            recorder.start_job(job)


# Which servers a fault takes down, and whether the device still answers probes.
_DOWN = {
    "cable-out": (True, True, False), "ports-closed": (True, True, True), "onvif-only": (False, True, True),
    "rtsp-only": (True, False, False),
}  # fmt: skip
