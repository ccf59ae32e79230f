"""Planned devices whose port is in the plan are also asked directly: it may not be swept."""

from __future__ import annotations

from zentrale.jobs.finders.finder import Finder, Looked, Search, Sighting
from zentrale.protocols.onvif.device import SERVICE_PATH
from zentrale.site.model import Plan


class PlannedAddresses(Finder):
    name = "planned"

    def looks(self, search: Search) -> Looked:
        return Looked(asked=frozenset(address for address, *_ in _planned(search.plan)) if search.plan else frozenset())

    async def find(self, search: Search) -> list[Sighting]:
        if search.plan is None:
            return []
        return [
            Sighting(address, self.name, url=f"http://{address}:{port}{SERVICE_PATH}", translated=translated)
            for address, port, translated in _planned(search.plan)
        ]


def _planned(plan: Plan) -> list[tuple[str, int, bool]]:
    """Recorders, and cameras behind a translation: address, port, and whether it is one of these."""
    behind = [(c.host, c.http_port, True) for c in plan.cameras if c.host and c.http_port]
    return [*((r.host, r.http_port, False) for r in plan.recorders), *behind]
