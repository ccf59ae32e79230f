"""How long a channel may keep what it records, where law or the customer sets an end to that (MaximumRetentionTime)."""

from __future__ import annotations

from dataclasses import dataclass, replace

from zentrale.errors import DeviceError
from zentrale.jobs.known.step_form import Step
from zentrale.jobs.recorders.onvif_lists import RecorderChannels
from zentrale.protocols.onvif import recording
from zentrale.protocols.onvif.recording import Recording

_DAY_S = 86_400


@dataclass(frozen=True)
class RetentionState:
    """Of channel `number` [s]; 0 is for ever: what PT0S, or nothing, means (ONVIF Recording Control, MaximumRetentionTime)."""

    number: int
    kept_s: float


class Retention(Step[RetentionState]):
    """Run it within the recorder's turn, once the camera has its channel. What a recorder rounds down still ends in time; rounded
    up it keeps longer than it may.
    """

    name = "retention"
    at_recorder = True
    place = "recording: longest retention"
    needs = ("channel",)

    def __init__(self, channels: RecorderChannels, number: int, max_days: float) -> None:
        super().__init__(channels.client)
        self.channels = channels
        self._number = number
        self._max_s = max_days * _DAY_S
        self._item = Recording("")

    def aim(self) -> str:
        return self.shown(RetentionState(self._number, self._max_s))

    async def look(self) -> RetentionState:
        self._item = (await self.channels.lists()).held(self._number).item
        return RetentionState(self._number, self._item.retention_s)

    async def read_back(self, wanted: RetentionState) -> RetentionState:
        """Which recording the channel is, is known by now."""
        again = {item.token: item for item in (await self.channels.again("recordings")).recordings}
        if self._item.token not in again:
            raise DeviceError(f"its recording {self._item.token}, channel {self._number}, is in its list no more")
        return RetentionState(self._number, again[self._item.token].retention_s)

    def wanted(self, now: RetentionState) -> RetentionState:
        return RetentionState(self._number, self._max_s)

    def near(self, now: RetentionState, wanted: RetentionState) -> bool:
        return 0 < now.kept_s <= wanted.kept_s

    async def apply(self, now: RetentionState, wanted: RetentionState) -> None:
        if not self._item.token:
            raise DeviceError(f"it has no channel {self._number}")
        await self.channels.write("trc", recording.set_recording(replace(self._item, retention_s=wanted.kept_s)))

    def shown(self, state: RetentionState) -> str:
        return f"at most {state.kept_s / _DAY_S:.4g} days" if state.kept_s else "for ever"
