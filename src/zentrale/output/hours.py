"""Hours of a recorder's channel, as they are drawn."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass


@dataclass(frozen=True)
class HoursOfChannel:
    """In seconds since 1970. spans: when it is kept; gaps: when it was to be and is not; wanted: when it was to be, empty where
    that depends on what moves; on_motion: recorded as things move
    """

    label: str
    spans: Sequence[tuple[float, float]]
    gaps: Sequence[tuple[float, float]]
    on_motion: bool = False
    wanted: Sequence[tuple[float, float]] = ()
