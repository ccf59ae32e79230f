"""The ways of discovery: the one list of them. They look at the same time; what they see is brought together in this order."""

from __future__ import annotations

from zentrale.jobs.finders.address_sweep import AddressSweep
from zentrale.jobs.finders.announcements import ServiceBrowser, SsdpSearch
from zentrale.jobs.finders.finder import Finder
from zentrale.jobs.finders.multicast_probe import MulticastProbe
from zentrale.jobs.finders.planned_addresses import PlannedAddresses

FINDERS: list[Finder] = [MulticastProbe(), SsdpSearch(), ServiceBrowser(), AddressSweep(), PlannedAddresses()]
