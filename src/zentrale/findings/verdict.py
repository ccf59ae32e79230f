"""What can be said of anything that was looked at, or was to be: one of four, and never two of them."""

from __future__ import annotations

from collections.abc import Iterable
from enum import Enum

from zentrale.findings.entry import Severity
from zentrale.findings.form import Finding

# Notes that differ from the plan; all others are worth knowing beside it.
_DEVIATING_NOTES = frozenset({"STR-10", "PIC-5"})


class Verdict(Enum):
    """`otherwise` has a severity. What was not judged is never counted as good."""

    AS_PLANNED = "as_planned"
    OTHERWISE = "otherwise"
    NOT_JUDGED = "not_judged"
    NOT_REACHED = "not_reached"

    @property
    def words(self) -> str:
        return self.value.replace("_", " ")


def severity_of(findings: Iterable[Finding]) -> Severity | None:
    """The worst of those that differ from the plan; None where nothing does."""
    rated = [f.severity for f in findings if f.severity is not Severity.NOTE or f.code in _DEVIATING_NOTES]
    return min(rated, key=lambda severity: severity.rank, default=None)


def verdict_of(findings: Iterable[Finding], *, not_judged: bool) -> Verdict:
    """Of something that was reached."""
    if severity_of(findings) is not None:
        return Verdict.OTHERWISE
    return Verdict.NOT_JUDGED if not_judged else Verdict.AS_PLANNED


def in_words(verdict: Verdict, severity: Severity | None) -> str:
    """The verdict in words, with its severity where it has one."""
    return f"{verdict.words}: {severity.value}" if verdict is Verdict.OTHERWISE and severity else verdict.words
