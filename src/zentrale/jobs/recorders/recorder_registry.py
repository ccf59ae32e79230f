"""The kinds of recorders: which driver a type has that says so in `control`. The one list of them."""

from __future__ import annotations

from collections.abc import Sequence

from zentrale.field.device import Device
from zentrale.jobs.known.keyring import Keyring
from zentrale.jobs.recorders.book import ChannelBook
from zentrale.jobs.recorders.driver import Driver, PlannedChannel
from zentrale.jobs.recorders.recording_control import OnvifRecorder
from zentrale.jobs.recorders.work_sheet import WorkSheet
from zentrale.site.model import Camera, Plan, Recorder

DRIVERS: dict[str, type[Driver]] = {driver.kind: driver for driver in (OnvifRecorder, WorkSheet)}


def opened(keyring: Keyring, recorder: Recorder, client: Device | None, *, writes: bool = False) -> Driver:
    """The recorder's driver. `writes`: which recording is which channel is kept, since something will be written there."""
    assert keyring.plan is not None
    book = ChannelBook(keyring.logbook, keyring.plan, recorder.name, writes=writes and not keyring.dry_run)
    return driver_of(keyring.plan, recorder)(client, book)


def planned_channels(plan: Plan, cameras: Sequence[Camera], recorder: str) -> dict[int, PlannedChannel]:
    """What the plan has on each channel of a recorder."""
    longest = {group.name: group.recording.max_days for group in plan.groups}
    return {c.channel: PlannedChannel(c.name, longest.get(c.group)) for c in cameras if c.recorder == recorder}


def driver_of(plan: Plan, recorder: Recorder) -> type[Driver]:
    return DRIVERS[plan.recorder_type(recorder).control]
