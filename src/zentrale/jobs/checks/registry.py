"""The checks of a verification, in the order in which they are run: the one list of them."""

from __future__ import annotations

from zentrale.jobs.checks.addresses import Addresses
from zentrale.jobs.checks.check import Check
from zentrale.jobs.checks.clock import Clock
from zentrale.jobs.checks.entry import Entering
from zentrale.jobs.checks.recording import Recording
from zentrale.jobs.checks.strangers import Strangers
from zentrale.jobs.checks.streams import Streams

CHECKS: list[Check] = [Entering(), Clock(), Streams(), Addresses(), Strangers(), Recording()]
