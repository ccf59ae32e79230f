"""For how long the recorders will keep what they write, by the rates that were measured."""

from __future__ import annotations

from collections.abc import Iterator

from zentrale.jobs.checks.check import Check, Round
from zentrale.jobs.checks.kept_rates import keeping_as_measured
from zentrale.jobs.known.layer import Layer
from zentrale.logbook.evidence import Judged
from zentrale.planning.keeping import keeping_findings
from zentrale.subjects import Kind, Ref


class Keeping(Check):
    name = "keeping"
    layer = Layer.RECORDING
    codes = frozenset({"STO-7"})
    doing = "working out what will be kept"

    async def observe(self, round: Round) -> None:
        """The streams were measured, and the recorders asked: that is all it needs."""

    def judge(self, round: Round) -> Iterator[Judged]:
        asked = {c.recorder for c in round.on_channels}
        for recorder in keeping_as_measured(round.plan, round.keyring.logbook):
            if recorder.recorder in asked and recorder.measured:
                ref = Ref(Kind.RECORDER, recorder.recorder)
                short = [
                    f for f in keeping_findings(recorder) if f.code in self.codes
                ]  # a rate above plan is its stream's
                yield Judged(ref, self.codes, tuple(short))
