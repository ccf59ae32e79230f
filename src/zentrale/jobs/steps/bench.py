"""One device at work: what a step is made of."""

from __future__ import annotations

from dataclasses import dataclass

from zentrale.field.device import Device
from zentrale.jobs.discovery.found import FoundDevice
from zentrale.jobs.keyring import Keyring
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
