"""Which steps a device gets, in their order: the one list of them."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from zentrale.field.device import Device
from zentrale.jobs.found import FoundDevice
from zentrale.jobs.keyring import Keyring
from zentrale.jobs.planned import ref_of
from zentrale.jobs.steps.clock import Clock
from zentrale.jobs.steps.encoder import Encoder, ProfileChoice
from zentrale.jobs.steps.name import HostName, Name
from zentrale.jobs.steps.password import Password
from zentrale.jobs.steps.step import Step
from zentrale.site.model import Camera, Plan, Recorder


@dataclass(frozen=True)
class Bench:
    """One device at work: how it is spoken with, how it is planned, and how it was found."""

    client: Device
    keyring: Keyring
    planned: Camera | Recorder
    seen: FoundDevice

    @property
    def plan(self) -> Plan:
        assert self.keyring.plan is not None
        return self.keyring.plan


def steps_of(bench: Bench) -> list[Step[Any]]:
    """The steps on the device itself; the channel of its recorder is a step of its own, in the recorder's turn."""
    client, planned, policy = bench.client, bench.planned, bench.plan.policy
    steps: list[Step[Any]] = [
        Password(client, bench.keyring, planned, bench.seen),
        Name(client, planned.name),
        HostName(client, planned.name),
        Clock(client, bench.plan.site.timezone, policy.clock_tolerance_s),
    ]
    if isinstance(planned, Camera):
        choice = ProfileChoice.remembered(bench.keyring.logbook, ref_of(planned))
        streams = bench.plan.streams(planned).items()
        steps += [Encoder(client, stream, wanted, policy, choice) for stream, wanted in streams]
    return steps
