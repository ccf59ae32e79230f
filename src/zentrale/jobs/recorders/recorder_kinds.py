"""The kinds of recorders by the name that a type has in `control`: the one list of them. A kind is a line here and its module.

Light on purpose: the plan is checked against it by every command, and a driver is loaded only where it is asked for.
"""

from __future__ import annotations

KINDS = {  # module and class of the driver
    "onvif": "zentrale.jobs.recorders.recording_control:OnvifRecorder",
    "by-hand": "zentrale.jobs.recorders.work_sheet:WorkSheet",
}
