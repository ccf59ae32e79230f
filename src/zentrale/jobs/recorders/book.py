"""The numbering of one recorder's channels, as the logbook keeps it under the recorder's identity."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from dataclasses import replace

from zentrale.jobs.recorders.numbering import Kept, Numbering, Rule, numbered
from zentrale.logbook.channel_numbers import KeptNumber, keep_numbers, kept_numbers
from zentrale.logbook.store import Logbook
from zentrale.protocols.onvif.recording import Recording
from zentrale.site.identity import Identity
from zentrale.site.model import Plan


class ChannelBook:
    """One recorder's. `writes`: what is worked out is kept; else, as in a dry run, it is only told."""

    def __init__(self, logbook: Logbook, plan: Plan, recorder: str, *, writes: bool) -> None:
        self._logbook = logbook
        self.recorder = recorder
        self._writes = writes
        self._planned = frozenset(c.name for c in plan.cameras)
        self._result: Numbering | None = None

    def numbered(self, recordings: Sequence[Recording], with_jobs: Collection[str]) -> Numbering:
        """Which channel each recording is. Worked out once in a run; what is made later gets the next free numbers."""
        by_token = {item.token: item for item in recordings}
        before = self._result
        if before is None or {k.token for k in before.channels.values()} != by_token.keys():
            before = self._result = self._worked_out(recordings, with_jobs, before)
        return replace(before, recordings={n: by_token[k.token] for n, k in before.channels.items()})

    def _worked_out(
        self, recordings: Sequence[Recording], with_jobs: Collection[str], before: Numbering | None
    ) -> Numbering:
        identity = self._identity()
        kept = [
            Kept(k.number, k.token, k.called, k.had_job, Rule[k.rule])
            for k in kept_numbers(self._logbook, self.recorder, identity)
        ]
        known = kept or (list(before.channels.values()) if before is not None else [])
        result = numbered(recordings, with_jobs, self._planned | self._written(), known)
        channels = [k for _, k in sorted(result.channels.items())]
        if self._writes and channels != kept:
            numbers = [KeptNumber(k.number, k.token, k.name, k.had_job, k.rule.name) for k in channels]
            keep_numbers(self._logbook, self.recorder, identity, numbers)
        return result if before is None else replace(result, against=before.against, gone=before.gone + result.gone)

    def _identity(self) -> Identity:
        return next((k.identity for k in self._logbook.known() if k.name == self.recorder), Identity())

    def _written(self) -> frozenset[str]:
        """Names that runs of ours gave to channels."""
        changes = [c for c in self._logbook.changes(step="channel") if c.after_state]
        return frozenset(str((c.after_state or {}).get("camera", "")) for c in changes) - {""}
