"""Which of HTTP, HTTPS and RTSP a device offers, where the policy says so."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from typing import Any

from zentrale.errors import DeviceError, NotOfferedError
from zentrale.field.device import Device
from zentrale.jobs.known.step_form import Step
from zentrale.jobs.steps.bench import Bench
from zentrale.protocols.onvif import network
from zentrale.protocols.onvif.network import NetworkProtocol


def steps(bench: Bench) -> list[Service]:
    policy = bench.plan.policy
    wanted = {"HTTPS": policy.https, "HTTP": policy.http, "RTSP": policy.rtsp}
    return [Service(bench.client, name, on=word == "on") for name, word in wanted.items() if word]


def journaled(bench: Bench, name: str, state: Mapping[str, Any]) -> Service | None:
    """The step of this name with what an earlier run asked for, though the plan asks for it no more; None: it is another's."""
    protocol = name.removeprefix("service ")
    mine = name.startswith("service ")
    return Service(bench.client, protocol, on=bool(state.get("enabled"))) if mine else None


@dataclass(frozen=True)
class ServiceState:
    enabled: bool


class Service(Step[ServiceState]):
    """SetNetworkProtocols for one of them; its ports stay."""

    last = True

    def __init__(self, client: Device, protocol: str, *, on: bool) -> None:
        super().__init__(client)
        self.name = f"service {protocol}"
        self.place = f"network: {protocol}"
        self._protocol = protocol
        self._on = on
        self._held: NetworkProtocol | None = None

    def aim(self) -> str:
        return "on" if self._on else "off"

    async def look(self) -> ServiceState:
        told = network.parse_protocols(await self.client.call("tds", network.get_protocols()))
        self._held = next((p for p in told if p.name == self._protocol), None)
        if self._held is None:
            raise NotOfferedError(f"it tells nothing of {self._protocol}")
        return ServiceState(self._held.enabled)

    def wanted(self, now: ServiceState) -> ServiceState:
        spoken = "HTTPS" if self.client.url.startswith("https:") else "HTTP"
        if now.enabled and not self._on and self._protocol == spoken:
            other = "HTTP" if spoken == "HTTPS" else "HTTPS"
            raise DeviceError(
                f"it is entered over {spoken} now, and would be out of reach; run `zentrale discover` once it is found over "
                f"{other}, then register again"
            )
        return ServiceState(self._on)

    async def apply(self, now: ServiceState, wanted: ServiceState) -> None:
        assert self._held is not None
        await self.client.call("tds", network.set_protocols([replace(self._held, enabled=wanted.enabled)]))

    def shown(self, state: ServiceState) -> str:
        return "on" if state.enabled else "off"
