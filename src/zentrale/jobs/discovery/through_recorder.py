"""Cameras at a recorder's own ports, as that recorder tells of them: nothing else reaches them."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from urllib.parse import urlsplit

from zentrale.errors import DeviceError
from zentrale.field.adapters import Adapter
from zentrale.findings import finding
from zentrale.jobs.checks.check import Samples
from zentrale.jobs.checks.recording_check import sample_recorders
from zentrale.jobs.discovery.matching import Matching
from zentrale.jobs.known.found_devices import FoundDevice
from zentrale.jobs.known.planned import ref_of
from zentrale.jobs.passwords.keyring import Keyring
from zentrale.jobs.recorders.driver import ChannelSample
from zentrale.logbook.evidence import Judged
from zentrale.site.model import Camera, Plan
from zentrale.subjects import Ref

KIND = "behind"  # of its observations
CODES = frozenset({"DIS-14"})


@dataclass(frozen=True)
class Behind:
    """One such camera. `there`: whether its channel takes anything in, None where the recorder could not be asked; `state` what
    the recorder says, or why it says nothing; `address` where the recorder has it, empty where it does not tell.
    """

    name: str
    recorder: str
    port: int
    channel: int
    there: bool | None
    state: str
    address: str = ""

    def document(self) -> dict[str, object]:
        return {
            "planned_as": self.name, "behind": self.recorder, "port": self.port, "channel": self.channel, "there": self.there,
            "state": self.state, "address": self.address or None,
        }  # fmt: skip


async def look_behind(
    plan: Plan, found: Mapping[str, FoundDevice], keyring: Keyring, names: Sequence[str] = ()
) -> list[Behind]:
    """What the recorders tell of the cameras at their own ports. names: of these cameras or recorders alone; empty: all"""
    cameras = [c for c in plan.cameras if c.behind and (not names or c.name in names or c.behind in names)]
    wanted = {c.behind for c in cameras}
    if not wanted:
        return []
    samples = await sample_recorders(
        plan, plan.cameras, {n: d for n, d in found.items() if n in wanted}, keyring, whole=False
    )
    return [_as_told(camera, samples) for camera in cameras]


def _as_told(camera: Camera, samples: Samples) -> Behind:
    sample = samples[camera.behind]
    place = camera.name, camera.behind, camera.port, camera.channel
    if isinstance(sample, DeviceError):
        return Behind(*place, None, f"not known: {camera.behind} {_why(sample)}")
    channel = sample.channels.get(camera.channel)
    if channel is None or (not channel.url and channel.state is None):
        return Behind(*place, False, f"not there: channel {camera.channel} takes nothing in")
    return Behind(*place, True, _state(channel), _host(channel.url))


def _why(error: DeviceError) -> str:
    text = str(error)
    return f"was not asked ({text})"


def _state(channel: ChannelSample) -> str:
    """Its job's own words."""
    if channel.state is None:
        return "taken in, not recorded yet"
    error = f": {channel.state.error}" if channel.state.error else ""
    return f"its recorder says {channel.state.state}{error}"


def _host(url: str) -> str:
    try:
        return urlsplit(url).hostname or ""
    except ValueError:  # not an address, whatever it is
        return ""


async def addresses_told(
    plan: Plan, keyring: Keyring, matching: Matching[FoundDevice], adapters: Sequence[Adapter]
) -> dict[str, set[str]]:
    """The addresses in the channel lists of the recorders, where a camera is missing that may stand behind its ports."""
    away = [
        c
        for c in plan.networked
        if c.name in matching.missing and c.host and not any(a.holds(c.host) for a in adapters)
    ]
    wanted = {c.recorder for c in away} & set(matching.by_name)
    if not wanted:
        return {}
    samples = await sample_recorders(plan, plan.cameras, {n: matching.by_name[n] for n in wanted}, keyring, whole=False)
    return {
        name: {_host(channel.url) for channel in sample.channels.values()}
        for name, sample in samples.items()
        if not isinstance(sample, DeviceError)
    }


def judged_behind(plan: Plan, seen: Sequence[Behind]) -> list[Judged]:
    """Those that their recorder told of."""
    judged = []
    for row in seen:
        camera = plan.camera(row.name)
        ref: Ref = ref_of(camera)
        if row.there is not None:
            wanted = f"the camera at port {row.port} of {row.recorder}"
            item = [] if row.there else [finding("DIS-14", ref, row.state.partition(": ")[2], wanted, camera.where)]
            judged.append(Judged(ref, CODES, tuple(item)))
    return judged
