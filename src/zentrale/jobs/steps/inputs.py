"""Inputs of a camera, such as door contacts: in which state each is when nothing happens."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from typing import Any

from zentrale.errors import NotOfferedError
from zentrale.field.device import Device
from zentrale.jobs.known.step_form import Step
from zentrale.jobs.steps.bench import Bench
from zentrale.protocols.onvif import device_io
from zentrale.protocols.onvif.device_io import DigitalInput


def steps(bench: Bench) -> list[InputIdle]:
    camera = bench.camera
    return [
        InputIdle(bench.client, i.number, i.idle)
        for i in bench.plan.inputs
        if camera is not None and i.camera == camera.name and i.idle
    ]


def journaled(bench: Bench, name: str, state: Mapping[str, Any]) -> InputIdle | None:
    """The step of this name with what an earlier run asked for, though the plan asks for it no more; None: it is another's."""
    number = name.removeprefix("input ")
    mine = name.startswith("input ") and number.isdigit()
    return InputIdle(bench.client, int(number), str(state.get("idle", ""))) if mine else None


@dataclass(frozen=True)
class InputState:
    """open or closed."""

    idle: str


class InputIdle(Step[InputState]):
    """The Nth input in the order the device lists them."""

    of_a_lens = True

    def __init__(self, client: Device, number: int, idle: str) -> None:
        super().__init__(client)
        self.name = f"input {number}"
        self.place = f"inputs: {number}"
        self._number = number
        self._idle = idle
        self._held: DigitalInput | None = None

    def aim(self) -> str:
        return f"{self._idle} when idle"

    async def look(self) -> InputState:
        inputs = device_io.parse_inputs(await self.client.call("tmd", device_io.get_inputs()))
        if self._number > len(inputs):
            raise NotOfferedError(f"it tells {len(inputs)} inputs; number {self._number} is planned")
        self._held = inputs[self._number - 1]
        if not self._held.idle:
            raise NotOfferedError("it does not tell in which state its input is idle")
        return InputState(self._held.idle)

    def wanted(self, now: InputState) -> InputState:
        return InputState(self._idle)

    async def apply(self, now: InputState, wanted: InputState) -> None:
        assert self._held is not None
        await self.client.call("tmd", device_io.set_inputs([replace(self._held, idle=wanted.idle)]))

    def shown(self, state: InputState) -> str:
        return f"{state.idle} when idle"
