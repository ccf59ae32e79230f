"""Findings: the one form in which every comparison of plan, limits and observation is reported."""

from zentrale.findings.catalogue import CATALOGUE, entry
from zentrale.findings.entry import Entry
from zentrale.findings.form import Finding, Severity, count_faults, finding, worst_first

__all__ = ["CATALOGUE", "Entry", "Finding", "Severity", "count_faults", "entry", "finding", "worst_first"]
