"""One finding code: its severity, a title for a table, what it means in full, and the usual advice."""

from __future__ import annotations

from dataclasses import dataclass
from enum import Enum


class Severity(Enum):
    """`fault` stops acceptance, `warning` needs a decision, `note` is worth knowing."""

    FAULT = "fault"
    WARNING = "warning"
    NOTE = "note"

    @property
    def rank(self) -> int:
        return list(Severity).index(self)


@dataclass(frozen=True)
class Entry:
    """One code: its severity, a title for a table, what it means in full, and the usual advice."""

    code: str
    severity: Severity
    title: str
    explanation: str
    advice: str
