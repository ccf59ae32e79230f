"""Does a camera name other hosts than itself, in its services or its streams? They were not asked."""

from __future__ import annotations

from collections.abc import Iterator

from zentrale.findings import Finding, finding
from zentrale.jobs.checks.check import Check, Round
from zentrale.jobs.checks.seen import Target
from zentrale.jobs.known.layer import Layer
from zentrale.jobs.known.planned import ref_of
from zentrale.logbook.evidence import Judged


class Addresses(Check):
    name = "addresses"
    layer = Layer.ADDRESS
    codes = frozenset({"DIS-9"})
    doing = "looking at the addresses told"

    async def observe(self, round: Round) -> None:
        """What was named was heard along the way."""

    def judge(self, round: Round) -> Iterator[Judged]:
        for target in round.targets:
            item = _finding(target, round)
            yield Judged(ref_of(target.camera, "stream addresses"), self.codes, (item,) if item else ())


def _finding(target: Target, round: Round) -> Finding | None:
    """Told once for a camera, whatever it named."""
    played = [s.measured.named_hosts for s in round.streams if s.camera == target.camera.name and s.measured]
    named = dict.fromkeys((*target.named, *(f"{host} (within RTSP)" for hosts in played for host in hosts)))
    if not named:
        return None
    limit = f"its own address, {next(iter(target.streams.values())).host}" if target.streams else "its own address"
    return finding("DIS-9", ref_of(target.camera, "stream addresses"), ", ".join(named), limit, "its answers")
