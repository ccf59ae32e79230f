"""Begins to listen to cameras that are recorded on motion, once they were entered and before their streams are measured."""

from __future__ import annotations

from collections.abc import Iterator

from zentrale.jobs.checks.check import Check, Round
from zentrale.jobs.checks.motion_watch import listen
from zentrale.jobs.known.layer import Layer
from zentrale.jobs.recorders.channel_holds import BY_MOTION
from zentrale.logbook.evidence import Judged


class MotionWatch(Check):
    """What is heard is judged with the recording. Only those are asked that let us in a moment ago, so nobody is tried twice."""

    name = "motion"
    layer = Layer.SERVICE
    codes = frozenset[str]()
    doing = "listening for motion"

    async def observe(self, round: Round) -> None:
        entered = {t.camera.name for t in round.targets if t.entry is not None and t.entry.credentials is not None}
        on_motion = [c for c in round.cameras if c.name in entered and round.plan.recording(c).mode == BY_MOTION]
        round.listening = await listen(on_motion, round.found, round.keyring) if on_motion else []

    def judge(self, round: Round) -> Iterator[Judged]:
        yield from ()
