"""What all parts of the plan share: the base of every plan object, priorities, and what a device may be doing."""

from __future__ import annotations

from collections.abc import Mapping
from enum import Enum, StrEnum
from typing import Any, Self

from pydantic import BaseModel, ConfigDict


class Part(BaseModel):
    """Base of all plan objects: frozen, and a field nobody knows is an error, not a silence."""

    model_config = ConfigDict(frozen=True, extra="forbid", str_strip_whitespace=True)

    def model_copy(self, *, update: Mapping[str, Any] | None = None, deep: bool = False) -> Self:
        """With other values; what was worked out of the old ones (cached properties) stays behind."""
        copy = super().model_copy(update=update, deep=deep)
        for name in copy.__dict__.keys() - type(self).model_fields.keys():
            del copy.__dict__[name]
        return copy


class Priority(Enum):
    """How long a port keeps its power when the supply runs short (RFC 3621, pethPsePortPowerPriority)."""

    CRITICAL = "critical"
    HIGH = "high"
    LOW = "low"

    @property
    def rank(self) -> int:
        return _RANK[self.value]


_RANK = {priority.value: rank for rank, priority in enumerate(Priority)}


class Mode(StrEnum):
    """What a device may be doing when its power is asked for; `WORST` is all of it at once."""

    DAY = "day"
    NIGHT = "night"
    COLD = "cold"
    MOVING = "moving"
    WORST = "worst"

    @property
    def said(self) -> str:
        """As a sentence names it."""
        return "all modes at once" if self is Mode.WORST else f"mode {self.value}"


MODES = tuple(Mode)
