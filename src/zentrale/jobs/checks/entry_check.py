"""Getting into each camera of a round, before anything of it is measured."""

from __future__ import annotations

from collections.abc import Iterator

from zentrale.field import scheduler
from zentrale.field.scheduler import Failure
from zentrale.findings import finding
from zentrale.jobs.checks.check import Check, Round
from zentrale.jobs.checks.resolving import resolve
from zentrale.jobs.checks.seen import Target, Unresolved
from zentrale.jobs.known.device_states import State
from zentrale.jobs.known.entry_judged import judge_entry, seen_there
from zentrale.jobs.known.layer import Layer
from zentrale.jobs.known.planned import ref_of
from zentrale.jobs.streams.aspects import NOT_PLAYING, OURS
from zentrale.jobs.streams.judging import code_of_stream
from zentrale.logbook.evidence import Judged

AT_ONCE = 32
BUDGET_S = 90.0  # for one camera, each request of which may take 12 s


class Entering(Check):
    """Gets into each camera and asks where its streams are. One that cannot be asked is one finding, whatever hangs on it."""

    along = True
    name = "entry"
    layer = Layer.ACCESS
    codes = (
        frozenset({"STR-1", "DIS-1", "DIS-6", "DIS-7", "SEC-3", "SEC-4", "SEC-7", "SEC-8", "SEC-9", *OURS})
        | NOT_PLAYING
    )
    doing = "asking for the stream addresses"

    async def observe(self, round: Round) -> None:
        keyring = round.keyring
        results = await scheduler.run(
            round.cameras, lambda c: resolve(keyring, c, round.found.get(c.name)), at_once=AT_ONCE,
            budget_s=keyring.budget(BUDGET_S),
        )  # fmt: skip
        for result in results:
            if isinstance(result, Target):
                round.targets.append(result)
                continue
            if isinstance(result, Failure):
                code = code_of_stream(result)
                result = Unresolved(result.item, result.message, code, observed=True, report=result.report)
            round.unresolved.append(result)
            round.reports += [result.report] if result.report else []

    def judge(self, round: Round) -> Iterator[Judged]:
        for target in round.targets:
            ref, entry = ref_of(target.camera), target.entry
            yield Judged(ref, NOT_PLAYING | OURS)
            if target.camera.name in round.found:
                yield from seen_there(ref, round.found[target.camera.name].address)
            if (
                entry is not None and entry.state is not State.DEFAULT_PASSWORD
            ):  # what opens to strangers is tried apart
                yield judge_entry(ref, entry.state.value, "", entry.label)
        for item in round.unresolved:
            ref = ref_of(item.camera)
            if item.entry is not None:
                own = round.keyring.holds(item.camera.name)
                yield judge_entry(ref, item.entry.state.value, item.entry.in_words(), item.entry.label, own=own)
                continue
            cause = finding(item.code, ref, item.reason, "streams that play", item.camera.where)
            if item.observed:
                yield Judged(ref, frozenset({item.code}), (cause,))
            else:
                round.findings.append(cause)  # said by the discovery, which is its own witness
