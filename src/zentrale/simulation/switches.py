"""The stand-in switches beside the devices that hang on them: who runs at which port, and ports that take the power away."""

from __future__ import annotations

import asyncio
from collections.abc import Awaitable, Callable
from dataclasses import dataclass

import psutil

from zentrale.simulation.scenario import Camera, Recorder, Scenario
from zentrale.simulation.switch_agent import SwitchAgent
from zentrale.simulation.switch_tables import Around, PowerSwitches


@dataclass
class Fed:
    """A device at a port, as far as the switch has to do with it: its servers, and whether they are up."""

    config: Camera | Recorder
    away: Callable[[], Awaitable[None]]
    back: Callable[[], Awaitable[None]]
    up: Callable[[], bool]


class Switches:
    def __init__(self, scenario: Scenario) -> None:
        self._fed: dict[str, Fed] = {}
        self._tasks: dict[str, asyncio.Task[None]] = {}
        self._scenario = scenario
        by_name = {s.name: s for s in scenario.switches}
        self.around = Around(by_name, self._macs, self._runs, _own_macs(), PowerSwitches(), night=scenario.night)
        self.around.power.changed = self._power
        self.agents = [SwitchAgent(s, self.around) for s in scenario.switches]

    async def start(self, fed: dict[str, Fed]) -> None:
        """Raises OSError where an address or port is not to be had."""
        self._fed = fed
        for agent in self.agents:
            await agent.start()

    def stop(self) -> None:
        for task in self._tasks.values():
            task.cancel()
        for agent in self.agents:
            agent.stop()

    def _macs(self, name: str) -> tuple[str, ...]:
        device = next((d for d in self._scenario.devices if d.name == name), None)
        return (device.mac,) if device is not None else ()

    def _runs(self, name: str) -> bool:
        """A device that is not played runs, as far as anybody knows."""
        return name not in self._fed or self._fed[name].up()

    def _power(self, switch: str, port: int, on: bool) -> None:
        """The port's power changed: the device at it is gone at once, and back when it has started."""
        plug = self.around.switches[switch].plug(port)
        fed = self._fed.get(plug.device) if plug is not None else None
        if fed is None or plug is None:
            return
        if (under_way := self._tasks.pop(plug.device, None)) is not None:
            under_way.cancel()
        self._tasks[plug.device] = asyncio.get_running_loop().create_task(self._starts(fed) if on else self._stops(fed))

    async def _stops(self, fed: Fed) -> None:
        if fed.up():
            await fed.away()

    async def _starts(self, fed: Fed) -> None:
        await asyncio.sleep(fed.config.quirks.restart_s)
        if not fed.up():
            await fed.back()


def _own_macs() -> tuple[str, ...]:
    found = [a.address for addresses in psutil.net_if_addrs().values() for a in addresses if a.family == psutil.AF_LINK]
    return tuple(dict.fromkeys(mac.replace("-", ":").lower() for mac in found if mac.strip("0:-")))
