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

NAME_SCOPE = "onvif://www.onvif.org/name/"


def steps(bench: Bench) -> list[Step[Any]]:
    return [Name(bench.client, bench.planned.name), HostName(bench.client, bench.planned.name)]


@dataclass(frozen=True)
class NameState:
    """`others` are its other configurable scopes: setting scopes replaces all of them."""

    name: str
    others: tuple[str, ...] = ()


class Name(Step[NameState]):
    """The name scope (ONVIF Core, Device management, SetScopes)."""

    name = "name"

    def __init__(self, client: Device, wanted: str) -> None:
        self.client = client
        self._wanted = wanted

    async def look(self) -> NameState:
        configurable = [scope for kind, scope in await self.client.scopes() if kind == "Configurable"]
        others = tuple(sorted(s for s in configurable if not s.startswith(NAME_SCOPE)))
        return NameState(scope_value(configurable, "name"), others)

    def wanted(self, now: NameState) -> NameState:
        return replace(now, name=self._wanted)

    async def apply(self, now: NameState, wanted: NameState) -> None:
        named = [NAME_SCOPE + quote(wanted.name)] if wanted.name else []
        await self.client.call("tds", device.set_scopes([*wanted.others, *named]))

    def shown(self, state: NameState) -> str:
        return state.name or "none"

    def load(self, document: Mapping[str, Any]) -> NameState:
        return loaded(NameState, document)


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
