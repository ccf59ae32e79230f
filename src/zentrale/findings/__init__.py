"""Findings: the one form in which every comparison of plan, limits and observation is reported."""

from zentrale.findings.catalogue import CATALOGUE, entry
from zentrale.findings.entry import Entry
from zentrale.findings.form import Finding, Severity, count_faults, finding, worst_first
from zentrale.findings.verdict import Verdict, severity_of, verdict_of

__all__ = [
    "CATALOGUE", "Entry", "Finding", "Severity", "Verdict", "count_faults", "entry", "finding", "severity_of", "verdict_of",
    "worst_first",
]  # fmt: skip
