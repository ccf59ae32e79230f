"""Does each camera's clock go right? Heard along when it was entered."""

from __future__ import annotations

from collections.abc import Iterator

from zentrale.jobs.checks.check import Check, Need, Round
from zentrale.jobs.known.entry_judged import judge_clock
from zentrale.jobs.known.layer import Layer
from zentrale.jobs.known.planned import ref_of
from zentrale.logbook.evidence import Judged
from zentrale.site.model import Camera, Plan


class Clock(Check):
    along = True
    name = "clock"
    layer = Layer.SERVICE
    codes = frozenset({"CLK-1"})
    doing = "comparing the clocks"

    async def observe(self, round: Round) -> None:
        """The entry has heard it."""

    def judge(self, round: Round) -> Iterator[Judged]:
        for target in round.targets:
            if target.clock_offset_s is not None:
                yield judge_clock(ref_of(target.camera), target.clock_offset_s, round.plan.policy)

    def needs(self, plan: Plan, camera: Camera) -> list[Need]:
        if not plan.camera_type(camera).onvif:
            return []  # it tells nobody its time
        return [Need("clock never looked at", camera.name, ref_of(camera), "CLK-1")]
