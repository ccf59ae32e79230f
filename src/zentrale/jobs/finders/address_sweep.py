"""The sweep: which addresses of the networks have one of the ports open."""

from __future__ import annotations

from zentrale.field.sweep import hosts, sweep
from zentrale.jobs.finders.finder import Finder, Looked, Search, Sighting


class AddressSweep(Finder):
    name = "sweep"

    def looks(self, search: Search) -> Looked:
        return Looked(networks=search.networks)

    async def find(self, search: Search) -> list[Sighting]:
        source = None if search.adapter.loopback else search.adapter.address
        swept = await sweep(hosts(search.networks), search.ports, source, lambda done: None)
        return [Sighting(host, self.name, ports=tuple(ports)) for host, ports in swept.items()]
