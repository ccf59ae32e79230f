"""How far the picture is turned: a camera that hangs on its side."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from zentrale.errors import NotOfferedError
from zentrale.jobs.known.step_form import Step
from zentrale.jobs.steps.bench import Bench
from zentrale.protocols.onvif import video_source


def steps(bench: Bench) -> list[Turning]:
    camera = bench.camera
    return [] if camera is None or camera.rotate_deg is None else [Turning(bench, camera.rotate_deg)]


def journaled(bench: Bench, name: str, state: Mapping[str, Any]) -> Turning | None:
    """The step of this name with what an earlier run asked for, though the plan asks for it no more; None: it is another's."""
    return Turning(bench, int(state.get("degrees", 0))) if name == Turning.name else None


@dataclass(frozen=True)
class TurningState:
    """Clockwise; 0: not turned."""

    degrees: int


class Turning(Step[TurningState]):
    """The extension Rotate of the main stream's video source configuration."""

    of_a_lens = True
    name = "turning"
    place = "picture: rotation"

    def __init__(self, bench: Bench, degrees: int) -> None:
        super().__init__(bench.client)
        self._bench = bench
        self._degrees = degrees
        self._held: video_source.Turning | None = None

    def aim(self) -> str:
        return f"{self._degrees}°"

    async def look(self) -> TurningState:
        media = self._bench.client.media
        profile = await self._bench.choice.main(self._bench.client)
        self._held = await media.turning(profile.source_configuration)
        if self._held.degrees is None:
            raise NotOfferedError("it tells nothing of turning its picture")
        return TurningState(self._held.degrees)

    def wanted(self, now: TurningState) -> TurningState:
        return TurningState(self._degrees)

    async def apply(self, now: TurningState, wanted: TurningState) -> None:
        assert self._held is not None
        await (await self._bench.client.media.service()).set_turning(self._held, wanted.degrees)

    def shown(self, state: TurningState) -> str:
        return f"{state.degrees}°"
