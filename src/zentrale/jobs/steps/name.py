"""The camera's name: in its scopes, where discovery shows it, and as its host name in the network."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from typing import Any
from urllib.parse import quote, unquote

from zentrale.field.device import Device
from zentrale.jobs.known.step_form import Step, loaded
from zentrale.jobs.steps.bench import Bench
from zentrale.protocols.onvif import device
from zentrale.words import clean


def steps(bench: Bench) -> list[Step[Any]]:
    name = bench.planned.name
    return [
        Scope(bench.client, "name", name),
        Scope(bench.client, "location", bench.plan.site.name),
        HostName(bench.client, name),
    ]


@dataclass(frozen=True)
class ScopeState:
    """`own` are its configurable scopes of the kind, as it tells them, `others` the rest: setting scopes replaces all of them."""

    own: tuple[str, ...] = ()
    others: tuple[str, ...] = ()


class Scope(Step[ScopeState]):
    """The scope of a kind: the camera's name, or the site as its location (ONVIF Core, scope parameters; SetScopes)."""

    def __init__(self, client: Device, kind: str, wanted: str) -> None:
        super().__init__(client)
        self.name = self.place = kind
        self._prefix = f"onvif://www.onvif.org/{kind}/"
        self._wanted = wanted

    def aim(self) -> str:
        return self._wanted

    async def look(self) -> ScopeState:
        configurable = sorted(scope for kind, scope in await self.client.scopes() if kind == "Configurable")
        own = tuple(s for s in configurable if s.startswith(self._prefix))
        return ScopeState(own, tuple(s for s in configurable if s not in own))

    def wanted(self, now: ScopeState) -> ScopeState:
        return replace(now, own=(self._prefix + quote(self._wanted),))

    def holds(self, now: ScopeState, wanted: ScopeState) -> bool:
        """However it writes what is not plain (RFC 3986 clause 2.1)."""
        return sorted(map(unquote, now.own)) == sorted(map(unquote, wanted.own)) and now.others == wanted.others

    async def apply(self, now: ScopeState, wanted: ScopeState) -> None:
        await self.client.call("tds", device.set_scopes([*wanted.others, *wanted.own]))

    def shown(self, state: ScopeState) -> str:
        return ", ".join(clean(unquote(s.removeprefix(self._prefix)), 80) for s in state.own) or "none"

    def load(self, document: Mapping[str, Any]) -> ScopeState:
        """Entries of an older version hold the name itself."""
        if "name" in document:
            raise TypeError("it is of an older version")
        return loaded(ScopeState, document)


@dataclass(frozen=True)
class HostNameState:
    name: str


class HostName(Step[HostNameState]):
    """Its name for DHCP and for its own pages."""

    name = "host name"

    def __init__(self, client: Device, wanted: str) -> None:
        super().__init__(client)
        self._wanted = wanted

    async def look(self) -> HostNameState:
        return HostNameState(await self.client.hostname())

    def wanted(self, now: HostNameState) -> HostNameState:
        return HostNameState(self._wanted)

    def holds(self, now: HostNameState, wanted: HostNameState) -> bool:
        return now.name.lower() == wanted.name.lower()  # RFC 1123 clause 2.1, RFC 4343: no matter in which letters

    async def apply(self, now: HostNameState, wanted: HostNameState) -> None:
        await self.client.call("tds", device.set_hostname(wanted.name))

    def shown(self, state: HostNameState) -> str:
        return state.name or "none"
