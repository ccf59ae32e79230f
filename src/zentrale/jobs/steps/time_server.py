"""The device's time server, where the plan names one: so that its clock stays right when nobody looks."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from datetime import UTC, datetime
from typing import Any

from zentrale.field.device import Device
from zentrale.jobs.known.step_form import Step
from zentrale.jobs.steps.bench import Bench
from zentrale.protocols.onvif import device, ntp
from zentrale.protocols.onvif.ntp import TimeServers

DHCP = "dhcp"


def steps(bench: Bench) -> list[TimeServer]:
    wanted = bench.plan.site.time_server
    return [TimeServer(bench.client, wanted)] if wanted else []


def journaled(bench: Bench, name: str, state: Mapping[str, Any]) -> TimeServer | None:
    """The step of this name with what an earlier run asked for, though the plan asks for it no more; None: it is another's."""
    return TimeServer(bench.client, "dhcp") if name == TimeServer.name else None


@dataclass(frozen=True)
class TimeServerState:
    """`source` Manual or NTP; `servers` those given by hand, or none where they come from DHCP."""

    source: str
    from_dhcp: bool
    servers: tuple[str, ...] = ()


class TimeServer(Step[TimeServerState]):
    name = "time server"
    needs = ("time",)

    def __init__(self, client: Device, server: str) -> None:
        super().__init__(client)
        self._server = server

    async def look(self) -> TimeServerState:
        told = ntp.parse_ntp(await self.client.call("tds", ntp.get_ntp()))
        time = await self.client.system_time()
        return TimeServerState(time.source, told.from_dhcp, told.servers)

    def wanted(self, now: TimeServerState) -> TimeServerState:
        if self._server == DHCP:
            return TimeServerState("NTP", from_dhcp=True, servers=now.servers)
        return TimeServerState("NTP", from_dhcp=False, servers=(self._server,))

    def holds(self, now: TimeServerState, wanted: TimeServerState) -> bool:
        """From DHCP, what is left of servers by hand does not matter."""
        same = wanted.from_dhcp or now.servers == wanted.servers
        return same and (now.source, now.from_dhcp) == (wanted.source, wanted.from_dhcp)

    async def apply(self, now: TimeServerState, wanted: TimeServerState) -> None:
        """The server first: a device that is told to ask one that it does not know may refuse."""
        await self.client.call("tds", ntp.set_ntp(TimeServers(wanted.from_dhcp, wanted.servers)))
        told = await self.client.system_time()
        if told.source != wanted.source:
            asked = device.SystemTime(datetime.now(UTC), told.timezone, wanted.source, told.daylight_savings)
            await self.client.call("tds", device.set_system_time(asked))

    def shown(self, state: TimeServerState) -> str:
        if state.source != "NTP":
            return "none: its clock is set by hand"
        return "from DHCP" if state.from_dhcp else ", ".join(state.servers) or "none"
