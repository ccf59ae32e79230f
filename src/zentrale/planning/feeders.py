"""What has ports with PoE: switches, and recorders with ports of their own."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

from zentrale.site.device_types import PoeSupply
from zentrale.site.model import Camera, Plan, Recorder, Switch


@dataclass(frozen=True)
class Feeder:
    """`what` is switch or recorder; `ports` what its data sheet says of them, `type` that sheet's name."""

    what: str
    name: str
    cabinet: str
    type: str
    ports: PoeSupply

    @property
    def subject(self) -> str:
        return f"{self.what} {self.name}"


def feeders(plan: Plan) -> Iterator[Feeder]:
    """Every switch; and the recorders that have such ports."""
    yield from (_switch(plan, switch) for switch in plan.switches)
    yield from (_recorder(plan, r) for r in plan.recorders if plan.recorder_type(r).poe_ports)


def feeder_of(plan: Plan, camera: Camera) -> Feeder | None:
    """At whose port the camera stands; None where nobody knows yet."""
    if camera.behind:
        return _recorder(plan, plan.recorder(camera.behind))
    return _switch(plan, plan.switch(camera.switch)) if camera.switch else None


def _switch(plan: Plan, switch: Switch) -> Feeder:
    return Feeder("switch", switch.name, switch.cabinet, switch.type, plan.switch_type(switch))


def _recorder(plan: Plan, recorder: Recorder) -> Feeder:
    """It stands where its switch does."""
    cabinet = plan.switch(recorder.switch).cabinet
    return Feeder("recorder", recorder.name, cabinet, recorder.type, plan.recorder_type(recorder))
