"""Hours of a recorder's channel, as they are drawn."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass


@dataclass(frozen=True)
class HoursOfChannel:
    """spans: when it is kept; gaps: when it was to be and is not, both in seconds since 1970; on_motion: as things move"""

    label: str
    spans: Sequence[tuple[float, float]]
    gaps: Sequence[tuple[float, float]]
    on_motion: bool = False
