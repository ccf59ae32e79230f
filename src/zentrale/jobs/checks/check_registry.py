"""The checks of a verification, in the order in which they are run: the one list of them."""

from __future__ import annotations

from zentrale.jobs.checks.addresses_check import Addresses
from zentrale.jobs.checks.check import Check
from zentrale.jobs.checks.clock_check import Clock
from zentrale.jobs.checks.entry_check import Entering
from zentrale.jobs.checks.keeping_check import Keeping
from zentrale.jobs.checks.motion_check import MotionWatch
from zentrale.jobs.checks.recording_check import Recording
from zentrale.jobs.checks.stored_check import Stored
from zentrale.jobs.checks.strangers_check import Strangers
from zentrale.jobs.checks.streams_check import Streams

CHECKS: list[Check] = [
    Entering(), Clock(), MotionWatch(), Streams(), Addresses(), Strangers(), Recording(), Stored(), Keeping(),
]  # fmt: skip
