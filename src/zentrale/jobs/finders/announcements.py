"""What devices announce beside WS-Discovery: SSDP, and DNS-SD. Each says of itself only; nobody is asked on another's word."""

from __future__ import annotations

from zentrale.field import service_browser, upnp
from zentrale.jobs.finders.finder import Finder, Looked, Search, Sighting


class SsdpSearch(Finder):
    name = "ssdp"

    def looks(self, search: Search) -> Looked:
        return Looked()

    async def find(self, search: Search) -> list[Sighting]:
        if not search.probe:
            return []
        seen = await upnp.search(search.choice.adapters, min(search.wait_s, 1.5))
        found = []
        for item in seen:
            told = item.description
            words = (told.kind, told.maker, told.model, told.name) if told else (item.told.server,)
            model, announced = told.model if told else "", " ".join(dict.fromkeys(w for w in words if w))
            ports = (item.port,) if item.port else ()
            maker, serial = (told.maker, told.serial) if told else ("", "")
            found.append(
                Sighting(
                    item.host,
                    self.name,
                    model=model,
                    ports=ports,
                    announced=announced,
                    certain=False,
                    maker=maker,
                    serial=serial,
                )
            )
        return found


class ServiceBrowser(Finder):
    name = "dns-sd"

    def looks(self, search: Search) -> Looked:
        return Looked()

    async def find(self, search: Search) -> list[Sighting]:
        if not search.probe:
            return []
        services = await service_browser.browse(search.choice.adapters, min(search.wait_s, 1.5))
        # A record may name any address: only those on our own links are taken at its word.
        return [
            Sighting(
                s.host,
                self.name,
                ports=(s.port,),
                announced=s.name,
                certain=False,
                rtsp_ports=(s.port,) if s.type.startswith("_rtsp.") else (),
            )
            for s in services
            if any(a.holds(s.host) for a in search.choice.adapters)
        ]
