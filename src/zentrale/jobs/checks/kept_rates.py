"""What recorders will keep, from the evidence of earlier looks: the newest rate of each stream, the oldest picture stored."""

from __future__ import annotations

from collections.abc import Mapping
from datetime import UTC, datetime
from typing import Any

from zentrale.jobs.checks.recording_check import CHANNEL
from zentrale.jobs.checks.streams_check import STREAM
from zentrale.jobs.streams.aspects import BIT_RATE
from zentrale.logbook.evidence import latest
from zentrale.logbook.store import Logbook
from zentrale.planning.keeping import RecorderKeeping, keeping, recorded_rates
from zentrale.site.model import Plan


def keeping_as_measured(plan: Plan, logbook: Logbook) -> list[RecorderKeeping]:
    """By the newest measurement of each stream that was long enough to judge its rate, and what was found stored first."""
    rates = {
        (seen.ref.name, str(seen.content["stream"])): float(seen.content["bitrate_bps"])
        for seen in latest(logbook, STREAM).values()
        if seen.content.get("bitrate_bps") and not _unjudged(seen.content)
    }
    oldest = {
        str(seen.content["camera"]): datetime.fromisoformat(str(seen.content["stored_from"]))
        for seen in latest(logbook, CHANNEL).values()
        if seen.content.get("stored_from")
    }
    return keeping(plan, recorded_rates(plan, rates), oldest, datetime.now(UTC))


def _unjudged(content: Mapping[str, Any]) -> bool:
    return any(str(aspect).startswith(BIT_RATE) for aspect in content.get("not_judged", ()))
