"""What was seen, and what it was judged to mean: only ever added to.

A run covers what it looked at and nothing else. A finding is open until a later run looked for the same code at the
same subject, and it came out well. Each observation carries a digest over the one before, so that a later change shows.
"""

from __future__ import annotations

import json
from collections.abc import Collection, Iterable, Iterator, Mapping
from dataclasses import asdict, dataclass, field, replace
from datetime import datetime
from typing import Any

from zentrale.findings import Finding, Severity
from zentrale.logbook.schema import chained
from zentrale.logbook.store import Logbook, present_ref
from zentrale.quantities import now
from zentrale.subjects import Ref
from zentrale.words import masked

VERSION = 1  # of the content of an observation; readers leave alone what they do not know


@dataclass(frozen=True)
class Observation:
    """What was seen of one subject in one run, from where (`vantage`) and how (`method`)."""

    run: int
    at: datetime
    kind: str
    ref: Ref
    vantage: str
    method: str
    content: Mapping[str, Any]


@dataclass(frozen=True)
class Judged:
    """The codes that were looked for at a subject, and what was found of them. A code that is not among the findings
    came out well.
    """

    ref: Ref
    codes: frozenset[str]
    findings: tuple[Finding, ...] = ()


@dataclass(frozen=True)
class Standing:
    """A finding with its origin. `settled_by` is the run that found it well since; None: it is open."""

    finding: Finding
    run: int
    command: str
    vantage: str
    at: datetime
    settled_by: int | None = None
    settled_command: str = ""
    settled_at: datetime | None = None


@dataclass
class Notes:
    """What a run has to write down, gathered and then written in one piece."""

    observations: list[tuple[str, Ref, str, Any]] = field(default_factory=list)
    judged: list[Judged] = field(default_factory=list)

    def observe(self, kind: str, ref: Ref, method: str, content: Any) -> None:
        """`content` is a dataclass of plain values or a dictionary; it must hold no secret."""
        self.observations.append((kind, ref, method, content))

    def judge(self, ref: Ref, codes: Collection[str], findings: Iterable[Finding] = ()) -> None:
        """Findings about the subject belong to codes that were looked for."""
        found = tuple(findings)
        self.judged.append(Judged(ref, frozenset(codes) | {f.code for f in found}, found))


def note(logbook: Logbook, run: int, notes: Notes) -> None:
    """Write `notes` in one transaction, and forget them. Raises StorageError; nothing is half-written then."""
    moment = now().isoformat()
    with logbook.transaction():
        (vantage,) = logbook.execute("SELECT vantage FROM run WHERE id = ?", (run,)).fetchone()
        last = logbook.execute("SELECT digest FROM observation ORDER BY id DESC LIMIT 1").fetchone()
        digest = last[0] if last else ""
        rows = []
        for kind, ref, method, content in notes.observations:
            data = masked(json.dumps(content if isinstance(content, dict) else asdict(content)))
            row = (run, moment, kind, VERSION, ref.kind.name, ref.name, ref.part, vantage, method, data)
            digest = chained(digest, *row)
            rows.append((*row, digest))
        logbook.execute_many(
            "INSERT INTO observation (run, at, kind, version, subject_kind, name, part, vantage, method, content, digest) "
            "VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)", rows
        )  # fmt: skip
        logbook.execute("UPDATE run SET observed = observed + ? WHERE id = ?", (len(rows), run))
        for judged in notes.judged:
            ref = judged.ref
            number = logbook.insert(
                "INSERT INTO judged (run, at, subject_kind, name, part, codes) VALUES (?, ?, ?, ?, ?, ?)",
                (run, moment, ref.kind.name, ref.name, ref.part, json.dumps(sorted(judged.codes))),
            )
            logbook.execute_many(
                "INSERT INTO finding (run, code, severity, subject, measured, limit_value, limit_source, advice, judged) "
                "VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)",
                [(run, f.code, f.severity.value, f.subject, masked(f.measured), masked(f.limit), f.limit_source, f.advice, number)
                 for f in judged.findings],
            )  # fmt: skip
    notes.observations.clear()
    notes.judged.clear()


def observations(logbook: Logbook, kind: str, run: int | None = None) -> list[Observation]:
    """All of `kind` that was ever seen (in one run), oldest first."""
    rows = logbook.execute(
        "SELECT run, at, kind, subject_kind, name, part, vantage, method, content FROM observation "
        "WHERE kind = ?1 AND (?2 IS NULL OR run = ?2) ORDER BY id", (kind, run),
    )  # fmt: skip
    present = logbook.renamed()
    return [
        Observation(
            r[0], datetime.fromisoformat(r[1]), r[2], present_ref(present, *r[3:6]), r[6], r[7], json.loads(r[8])
        )
        for r in rows
    ]


def latest(logbook: Logbook, kind: str) -> dict[Ref, Observation]:
    """The newest observation of each subject."""
    return {item.ref: item for item in observations(logbook, kind)}


@dataclass(frozen=True)
class _Look:
    """One judgement of a code: in which row, by which run, when."""

    judged: int
    run: int
    at: datetime


def _looks(logbook: Logbook) -> tuple[dict[tuple[Ref, str], _Look], dict[int, Ref]]:
    """The newest judgement of each code of each subject; and whom each row of judgements is about."""
    present = logbook.renamed()
    newest: dict[tuple[Ref, str], _Look] = {}
    refs: dict[int, Ref] = {}
    for number, run, at, kind, name, part, codes in logbook.execute(
        "SELECT id, run, at, subject_kind, name, part, codes FROM judged ORDER BY id"
    ):
        ref = refs[number] = present_ref(present, kind, name, part)
        for code in json.loads(codes):
            newest[ref, code] = _Look(number, run, datetime.fromisoformat(at))
    return newest, refs


def looked_at(logbook: Logbook) -> dict[tuple[Ref, str], datetime]:
    """When each code of each subject was last looked for."""
    return {key: look.at for key, look in _looks(logbook)[0].items()}


def standings(logbook: Logbook) -> list[Standing]:
    """Every finding that was ever made about a subject of the site, with whether it is open; oldest first.

    A finding of the same code and subject that was made again is told once, by its newest.
    """
    newest, refs = _looks(logbook)
    runs = {run.id: run for run in logbook.runs()}
    by_subject: dict[tuple[Ref, str], list[tuple[int, Standing]]] = {}
    for judged, number, at, item in _findings(logbook, refs):
        assert item.ref is not None
        key, run = (item.ref, item.code), runs[number]
        look = newest[key]
        standing = Standing(item, run.id, run.command, run.vantage, at)
        if look.judged != judged:
            standing = replace(
                standing, settled_by=look.run, settled_command=runs[look.run].command, settled_at=look.at
            )
        by_subject[key] = [*(s for s in by_subject.get(key, []) if s[0] == judged), (judged, standing)]
    return [standing for group in by_subject.values() for _, standing in group]


def findings_of(logbook: Logbook, run: int) -> list[Finding]:
    """What one run found."""
    return [item for _, number, _, item in _findings(logbook, _looks(logbook)[1]) if number == run]


def _findings(logbook: Logbook, refs: Mapping[int, Ref]) -> Iterator[tuple[int, int, datetime, Finding]]:
    """Each with the row of its judgement, its run, and when."""
    for row in logbook.execute(
        "SELECT f.judged, f.run, j.at, f.code, f.severity, f.measured, f.limit_value, f.limit_source, f.advice "
        "FROM finding f JOIN judged j ON j.id = f.judged ORDER BY f.rowid"
    ).fetchall():
        ref = refs[row[0]]
        item = Finding(row[3], Severity(row[4]), str(ref), row[5], row[6], row[7], row[8], ref)
        yield row[0], row[1], datetime.fromisoformat(row[2]), item


def chain_breaks(logbook: Logbook) -> list[str]:
    """Where the observations are not as they were written, in words; empty where all are."""
    breaks, digest = [], ""
    counted: dict[int, int] = {}
    for number, *row, told in logbook.execute(
        "SELECT id, run, at, kind, version, subject_kind, name, part, vantage, method, content, digest "
        "FROM observation ORDER BY id"
    ):
        counted[row[0]] = counted.get(row[0], 0) + 1
        if chained(digest, *row) != told:
            breaks.append(
                f"observation {number} ({row[2]} of {row[5]}, {row[1][:19]}): it, or one before it, was changed"
            )
        digest = told
    for run, command, observed in logbook.execute("SELECT id, command, observed FROM run ORDER BY id"):
        if counted.get(run, 0) != observed:
            breaks.append(
                f"run {run} (`{command}`): {observed} observations were written, {counted.get(run, 0)} are there"
            )
    return breaks
