"""Planned recorders are also asked directly: their port is in the plan, and may not be swept."""

from __future__ import annotations

from zentrale.jobs.finders.finder import Finder, Looked, Search, Sighting
from zentrale.protocols.onvif.device import SERVICE_PATH


class PlannedAddresses(Finder):
    name = "planned"

    def looks(self, search: Search) -> Looked:
        return Looked(asked=frozenset(r.address for r in search.plan.recorders) if search.plan else frozenset())

    async def find(self, search: Search) -> list[Sighting]:
        if search.plan is None:
            return []
        return [
            Sighting(r.address, self.name, url=f"http://{r.address}:{r.http_port}{SERVICE_PATH}")
            for r in search.plan.recorders
        ]
