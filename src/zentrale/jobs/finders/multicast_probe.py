"""The WS-Discovery probe: who answers on these adapters' networks, and who comes and goes meanwhile."""

from __future__ import annotations

import asyncio
from collections.abc import Sequence
from urllib.parse import urlsplit

from zentrale.field.probe import Answer, probe, probe_directly
from zentrale.jobs.finders.finder import Finder, Looked, Search, Sighting
from zentrale.jobs.finders.merging import sighting
from zentrale.protocols.addresses import same_host
from zentrale.protocols.ws_discovery import Match

_MAX_PROXIED, _AT_ONCE = 256, 32


class MulticastProbe(Finder):
    name = "probe"

    def looks(self, search: Search) -> Looked:
        return Looked(probed=tuple(a.network for a in search.choice.adapters)) if search.probe else Looked()

    async def find(self, search: Search) -> list[Sighting]:
        if not search.probe:
            return []
        heard = await probe(search.choice.adapters, search.wait_s)
        return [sighting(match, host) for match, host in await ask_those_told_of([*heard.answers, *heard.hellos])]


async def ask_those_told_of(heard: Sequence[Answer]) -> list[Answer]:
    """Where an answer names only other hosts, a proxy may be telling of a device: that host is asked itself, without
    credentials. Where it answers with that endpoint it is the device; else the address told is a stale one.
    """
    gate = asyncio.Semaphore(_AT_ONCE)

    async def one(match: Match, source: str) -> Answer:
        hosts = _hosts(match)
        if not hosts or any(same_host(h, source) for h in hosts):
            return match, source
        async with gate:
            for host in hosts[:2]:
                for answer, _ in await probe_directly([host]):
                    if answer.endpoint == match.endpoint:
                        return answer, host
        return match, source

    asked = [one(m, s) for m, s in heard[:_MAX_PROXIED]]
    return [*await asyncio.gather(*asked), *heard[_MAX_PROXIED:]]


def _hosts(match: Match) -> list[str]:
    """The hosts that an answer names, IPv4 addresses only: a name would have to be asked for elsewhere."""
    hosts = [urlsplit(address).hostname or "" for address in match.xaddrs]
    return [h for h in dict.fromkeys(hosts) if h.count(".") == 3 and h.replace(".", "").isdigit()]
