"""The kinds of recorders: which driver a type has that says so in `control`. The one list of them."""

from __future__ import annotations

from zentrale.jobs.recorders.driver import Driver
from zentrale.jobs.recorders.recording_control import OnvifRecorder
from zentrale.jobs.recorders.work_sheet import WorkSheet
from zentrale.site.model import Plan, Recorder

DRIVERS: dict[str, type[Driver]] = {driver.kind: driver for driver in (OnvifRecorder, WorkSheet)}


def driver_of(plan: Plan, recorder: Recorder) -> type[Driver]:
    return DRIVERS[plan.recorder_type(recorder).control]
