"""The form of a finding. A verdict without a cause is not a finding: every field is filled."""

from __future__ import annotations

import re
from collections.abc import Iterable
from dataclasses import dataclass

from zentrale.findings.catalogue import entry
from zentrale.findings.entry import Severity
from zentrale.subjects import Ref

__all__ = ["Finding", "Severity", "count_faults", "finding", "worst_first"]


@dataclass(frozen=True)
class Finding:
    """One difference between what should be and what is.

    code:         stable, as listed in the catalogue (`STR-3`)
    subject:      what it is about, by its kind and name ("camera upper-gate-north, main stream")
    measured:     what was found, with its unit
    limit:        the limit or planned value, with its unit
    limit_source: where that limit stands (a file and row, a standard and clause)
    advice:       what to do about it
    ref:          the subject itself, where it is a device of the site or a part of one
    at:           file and line of what makes it so, where one is known
    caused_by:    name of the finding that it follows from, empty where it stands for itself
    """

    code: str
    severity: Severity
    subject: str
    measured: str
    limit: str
    limit_source: str
    advice: str
    ref: Ref | None = None
    at: str = ""
    caused_by: str = ""

    @property
    def name(self) -> str:
        """By which others say that they follow from it."""
        return f"{self.code} {self.subject}"

    @property
    def title(self) -> str:
        return entry(self.code).title


def finding(code: str, subject: str | Ref, measured: str, limit: str, limit_source: str, advice: str = "") -> Finding:
    """A finding with the severity, and where `advice` is empty the advice, that the catalogue gives its code."""
    known = entry(code)
    ref = subject if isinstance(subject, Ref) else None
    return Finding(code, known.severity, str(subject), measured, limit, limit_source, advice or known.advice, ref)


def worst_first(findings: Iterable[Finding]) -> list[Finding]:
    """What this machine did not do before all else, since it explains the rest; then by severity; of the same, security first."""
    return sorted(
        findings,
        key=lambda f: (
            not _is_of_the_machine(f),
            f.severity.rank,
            not f.code.startswith("SEC-"),
            f.code,
            _in_order(f.subject),
        ),
    )


_DIGITS = re.compile(r"(\d+)")


def _in_order(text: str) -> list[tuple[int, str]]:
    """By it port 2 comes before port 10."""
    return [(int(part), "") if part.isdigit() else (-1, part) for part in _DIGITS.split(text)]


def _is_of_the_machine(item: Finding) -> bool:
    return item.code == "STR-38"


def count_faults(findings: Iterable[Finding]) -> int:
    """Each cause once, without what follows from it."""
    return sum(f.severity is Severity.FAULT and not f.caused_by for f in findings)
