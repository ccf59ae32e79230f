"""What recorders will keep, from the evidence of earlier looks: the newest rate of each stream, the oldest picture stored."""

from __future__ import annotations

from datetime import UTC, datetime

from zentrale.jobs.checks.recording_check import CHANNEL
from zentrale.jobs.checks.streams_check import STREAM
from zentrale.logbook.evidence import latest
from zentrale.logbook.store import Logbook
from zentrale.planning.keeping import RecorderKeeping, keeping, recorded_rates
from zentrale.site.model import Plan


def keeping_as_measured(plan: Plan, logbook: Logbook) -> list[RecorderKeeping]:
    """By the newest measurement of each stream, and what was found stored first of each camera."""
    rates = {
        (seen.ref.name, str(seen.content["stream"])): float(seen.content["bitrate_bps"])
        for seen in latest(logbook, STREAM).values()
        if seen.content.get("bitrate_bps")
    }
    oldest = {
        str(seen.content["camera"]): datetime.fromisoformat(str(seen.content["stored_from"]))
        for seen in latest(logbook, CHANNEL).values()
        if seen.content.get("stored_from")
    }
    return keeping(plan, recorded_rates(plan, rates), oldest, datetime.now(UTC))
