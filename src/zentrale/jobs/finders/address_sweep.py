"""The sweep: which addresses of the networks have one of the ports open."""

from __future__ import annotations

import asyncio
from collections.abc import Mapping

from zentrale.field import arp
from zentrale.field.adapters import Choice
from zentrale.field.sweep import hosts, sweep
from zentrale.jobs.finders.finder import Finder, Looked, Search, Sighting


class AddressSweep(Finder):
    name = "sweep"

    def looks(self, search: Search) -> Looked:
        return Looked(networks=search.networks)

    async def find(self, search: Search) -> list[Sighting]:
        own = {a.address for a in search.choice.adapters if not a.loopback}
        wanted = [host for host in hosts(search.networks) if host not in own]
        there = await _by_arp(search.choice, wanted)
        # On a link that was asked by ARP, only who answered is there.
        asked = [host for host in wanted if there.get(host, ("?",))]
        swept = await sweep(asked, search.ports, search.choice.source, alive=[h for h, macs in there.items() if macs])
        seen = dict.fromkeys((*swept.open, *there, *swept.refused))
        return [
            Sighting(
                host, self.name, ports=tuple(swept.open.get(host, ())), macs=there.get(host, ()),
                certain=host in swept.open, refuses=host not in swept.open and host in swept.refused,
                by_arp=host in there,
            )
            for host in seen
        ]  # fmt: skip


async def _by_arp(choice: Choice, wanted: list[str]) -> Mapping[str, tuple[str, ...]]:
    """Who answers ARP: the MAC addresses for each address that was asked for, none where nobody answered."""
    there: dict[str, tuple[str, ...]] = {}
    for adapter in choice.adapters:
        on_link = [host for host in wanted if adapter.holds(host)]
        answered = await asyncio.to_thread(arp.who_is_there, adapter, on_link) if on_link else None
        if answered is not None:
            there |= {host: answered.get(host, ()) for host in on_link}
    return there
