"""What holds of a channel beside its stream: the steps that set it, those that take it back, and the same for a person to set."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from zentrale.jobs.known.step_form import Step
from zentrale.jobs.recorders.channel_holds import in_words, planned
from zentrale.jobs.recorders.driver import Streamed
from zentrale.jobs.recorders.onvif_lists import RecorderChannels
from zentrale.jobs.recorders.passes import Passes
from zentrale.jobs.recorders.retention_step import Retention
from zentrale.jobs.recorders.rule_step import Rule
from zentrale.jobs.recorders.tracks_step import Tracks, Wanted
from zentrale.logbook.store import Change
from zentrale.site.model import RecordingPlan
from zentrale.subjects import Ref

RETENTION = Retention.name
NAMES = (RETENTION, Tracks.name, Rule.name)


def steps(channels: RecorderChannels, number: int, camera: Ref, stream: Streamed, passes: Passes) -> list[Step[Any]]:
    rules, sub = stream.rules, stream.sub
    wanted = Wanted(rules.sound, sub if rules.sub else "")
    longest: list[Step[Any]] = [] if rules.max_days is None else [Retention(channels, number, rules.max_days)]
    return [
        *longest,
        Tracks(channels, number, camera.name, wanted, passes),
        Rule(channels, number, rules, camera, stream.rate_kbps),
    ]


def step_of_journal(channels: RecorderChannels, change: Change, passes: Passes) -> Step[Any] | None:
    """The step that takes a change back; None where it is none of these."""
    number = int((change.after_state or {}).get("number", 0))
    if change.step == Retention.name:
        return Retention(channels, number, 0.0)
    if change.step == Tracks.name:
        return Tracks(channels, number, change.ref.name, Wanted(), passes)
    return Rule(channels, number, RecordingPlan(), change.ref) if change.step == Rule.name else None


def told(rules: RecordingPlan) -> Iterator[tuple[str, str, str]]:
    """What, where and how: what a person enters where no service does it."""
    if rules.mode != "continuous":
        yield Rule.name, Rule.place, in_words(planned(0, rules))
    parts = ["the sub stream too"] if rules.sub else []
    if rules.sound is not None:
        parts.append("sound too" if rules.sound else "no sound")
    if parts:
        yield Tracks.name, Tracks.place, " and ".join(parts)
    if rules.max_days is not None:
        yield Retention.name, Retention.place, f"at most {rules.max_days:g} days"
