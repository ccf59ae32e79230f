"""The device's clock: its time zone with the rule for summer time, and the right time."""

from __future__ import annotations

from dataclasses import dataclass, replace
from datetime import UTC, datetime, timedelta

from zentrale import quantities
from zentrale.errors import DeviceError
from zentrale.field.device import Device
from zentrale.jobs.known.step_form import Step
from zentrale.jobs.steps.bench import Bench
from zentrale.protocols.onvif import device
from zentrale.site.timezone import posix_timezone, same_timezone


def steps(bench: Bench) -> list[Clock]:
    return [Clock(bench.client, bench.plan.site.timezone, bench.plan.policy.clock_tolerance_s)]


@dataclass(frozen=True)
class ClockState:
    """`source` Manual or NTP; `timezone` a POSIX TZ string; `offset_s` how far its clock is ahead, negative behind."""

    source: str
    timezone: str
    daylight_savings: bool
    offset_s: float


class Clock(Step[ClockState]):
    """A device that has its time from NTP keeps it: only its zone is set."""

    name = "time"
    settles = ("CLK-1",)

    def __init__(self, client: Device, timezone: str, tolerance_s: float) -> None:
        super().__init__(client)
        self._timezone = posix_timezone(timezone)
        self._tolerance_s = tolerance_s
        self._name = timezone

    async def look(self) -> ClockState:
        told = await self.client.system_time()
        offset_s = round(self.client.clock_offset.total_seconds(), 1)
        return ClockState(told.source, told.timezone, told.daylight_savings, offset_s)

    def wanted(self, now: ClockState) -> ClockState:
        right = abs(now.offset_s) <= self._tolerance_s
        if now.source == "NTP" and not right:
            raise DeviceError(
                f"it has its time from NTP, and is {quantities.difference(now.offset_s)}: look at its time server and at "
                "the way there; its clock was left alone"
            )
        return ClockState(now.source, self._timezone, "," in self._timezone, now.offset_s if right else 0.0)

    def holds(self, now: ClockState, wanted: ClockState) -> bool:
        """Whether it says that it has daylight saving does not matter: the rule in its zone does."""
        right = abs(now.offset_s - wanted.offset_s) <= self._tolerance_s
        return right and same_timezone(now.timezone, wanted.timezone) and now.source == wanted.source

    async def apply(self, now: ClockState, wanted: ClockState) -> None:
        moment = datetime.now(UTC) + timedelta(seconds=wanted.offset_s)
        asked = device.SystemTime(moment, wanted.timezone, wanted.source, wanted.daylight_savings)
        await self.client.call("tds", device.set_system_time(asked))

    def back(self, now: ClockState, before: ClockState) -> ClockState:
        """The zone as it was. A wrong time is not put back."""
        return replace(before, offset_s=now.offset_s)

    def shown(self, state: ClockState) -> str:
        zone = self._name if same_timezone(state.timezone, self._timezone) else state.timezone or "no zone"
        right = abs(state.offset_s) <= self._tolerance_s
        source = ", from NTP" if state.source == "NTP" else ""
        return f"{zone}, {'right' if right else quantities.difference(state.offset_s)}{source}"
