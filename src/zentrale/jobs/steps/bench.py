"""One device at work: what a step is made of."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

from zentrale.field.device import Device
from zentrale.jobs.known.found_devices import FoundDevice
from zentrale.jobs.known.planned import ref_of
from zentrale.jobs.known.profile_choice import ProfileChoice
from zentrale.jobs.passwords.keyring import Keyring
from zentrale.site.model import Camera, Plan, Recorder


@dataclass(frozen=True)
class Bench:
    """How a device is spoken with, how it is planned, and how it was found."""

    client: Device
    keyring: Keyring
    planned: Camera | Recorder
    seen: FoundDevice

    @property
    def plan(self) -> Plan:
        assert self.keyring.plan is not None
        return self.keyring.plan

    @property
    def camera(self) -> Camera | None:
        return self.planned if isinstance(self.planned, Camera) else None

    @property
    def further_lens(self) -> bool:
        """Whether it is a row beside the one that stands for the device."""
        return self.camera is not None and self.plan.device_of(self.camera) is not self.camera

    @cached_property
    def choice(self) -> ProfileChoice:
        """Which profile is which of its streams: one answer for all steps, since they change what it is chosen by."""
        return ProfileChoice.remembered(
            self.keyring.logbook, ref_of(self.planned), self.camera.source if self.camera else None
        )
