"""The camera's name: in its scopes, where discovery shows it, and as its host name in the network."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from typing import Any
from urllib.parse import quote

from zentrale.field.device import Device
from zentrale.jobs.steps.bench import Bench
from zentrale.jobs.steps.step import Step, loaded
from zentrale.protocols.onvif import device
from zentrale.protocols.ws_discovery import scope_value


def steps(bench: Bench) -> list[Step[Any]]:
    name = bench.planned.name
    return [
        Scope(bench.client, "name", name),
        Scope(bench.client, "location", bench.plan.site.name),
        HostName(bench.client, name),
    ]


@dataclass(frozen=True)
class ScopeState:
    """`others` are its other configurable scopes: setting scopes replaces all of them. `more`: it has several of the kind."""

    name: str
    others: tuple[str, ...] = ()
    more: bool = False


class Scope(Step[ScopeState]):
    """The scope of a kind: the camera's name, or the site as its location (ONVIF Core, scope parameters; SetScopes)."""

    def __init__(self, client: Device, kind: str, wanted: str) -> None:
        self.client = client
        self.name = self.place = kind
        self._prefix = f"onvif://www.onvif.org/{kind}/"
        self._wanted = wanted

    def aim(self) -> str:
        return self._wanted

    async def look(self) -> ScopeState:
        configurable = [scope for kind, scope in await self.client.scopes() if kind == "Configurable"]
        others = tuple(sorted(s for s in configurable if not s.startswith(self._prefix)))
        several = len(configurable) - len(others) > 1
        return ScopeState(scope_value(configurable, self.name), others, several)

    def wanted(self, now: ScopeState) -> ScopeState:
        return replace(now, name=self._wanted, more=False)

    async def apply(self, now: ScopeState, wanted: ScopeState) -> None:
        named = [self._prefix + quote(wanted.name)] if wanted.name else []
        await self.client.call("tds", device.set_scopes([*wanted.others, *named]))

    def shown(self, state: ScopeState) -> str:
        return (state.name or "none") + (" and others" if state.more else "")

    def load(self, document: Mapping[str, Any]) -> ScopeState:
        return loaded(ScopeState, document)


@dataclass(frozen=True)
class HostNameState:
    name: str


class HostName(Step[HostNameState]):
    """Its name for DHCP and for its own pages."""

    name = "host name"

    def __init__(self, client: Device, wanted: str) -> None:
        self.client = client
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

    def load(self, document: Mapping[str, Any]) -> HostNameState:
        return loaded(HostNameState, document)
