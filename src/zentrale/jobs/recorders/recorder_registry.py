"""The driver of a recorder, by the kind that its type has in `control`; the list of kinds is in `recorder_kinds.py`."""

from __future__ import annotations

import importlib
from collections.abc import Sequence

from zentrale.field.device import Device
from zentrale.jobs.passwords.keyring import Keyring
from zentrale.jobs.recorders.book import ChannelBook
from zentrale.jobs.recorders.driver import Driver, PlannedChannel
from zentrale.jobs.recorders.recorder_kinds import KINDS
from zentrale.site.model import Camera, Plan, Recorder


def opened(keyring: Keyring, recorder: Recorder, client: Device | None, *, writes: bool = False) -> Driver:
    """The recorder's driver. `writes`: which recording is which channel is kept, since something will be written there."""
    assert keyring.plan is not None
    book = ChannelBook(keyring.logbook, keyring.plan, recorder.name, writes=writes and not keyring.dry_run)
    return driver_of(keyring.plan, recorder)(client, book)


def planned_channels(plan: Plan, cameras: Sequence[Camera], recorder: str) -> dict[int, PlannedChannel]:
    """What the plan has on each channel of a recorder."""
    return {c.channel: PlannedChannel(c.name, plan.recording(c)) for c in cameras if c.recorder == recorder}


def speaking_onvif(plan: Plan) -> list[str]:
    """The recorders whose service is ONVIF's."""
    return [r.name for r in plan.recorders if driver_of(plan, r).speaks_onvif]


def driver_of(plan: Plan, recorder: Recorder) -> type[Driver]:
    module, _, name = KINDS[plan.recorder_type(recorder).control].partition(":")
    driver: type[Driver] = getattr(importlib.import_module(module), name)
    return driver
