"""The logbook: runs, what was seen (only ever added to), what was done (the journal), and bindings made by hand.

No password is ever written here.
"""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Iterable, Iterator
from contextlib import contextmanager
from dataclasses import asdict, dataclass
from datetime import datetime
from pathlib import Path
from types import TracebackType
from typing import Any

from zentrale.errors import InputError
from zentrale.findings import Finding, Severity
from zentrale.quantities import now

SCHEMA_VERSION = 1
_LOCK_WAIT_S = 10.0  # another zentrale may be writing at the same time
_SCHEMA = """
CREATE TABLE run (id INTEGER PRIMARY KEY, command TEXT NOT NULL, vantage TEXT NOT NULL,
                  started TEXT NOT NULL, finished TEXT);
CREATE TABLE seen (id INTEGER PRIMARY KEY, run INTEGER NOT NULL REFERENCES run(id), at TEXT NOT NULL,
                   kind TEXT NOT NULL, subject TEXT NOT NULL, method TEXT NOT NULL, content TEXT NOT NULL);
CREATE INDEX seen_by_kind ON seen (kind, run);
CREATE TABLE finding (run INTEGER NOT NULL REFERENCES run(id), code TEXT NOT NULL, severity TEXT NOT NULL,
                      subject TEXT NOT NULL, measured TEXT NOT NULL, limit_value TEXT NOT NULL,
                      limit_source TEXT NOT NULL, advice TEXT NOT NULL);
CREATE TABLE done (id INTEGER PRIMARY KEY, run INTEGER NOT NULL REFERENCES run(id), at TEXT NOT NULL,
                   subject TEXT NOT NULL, step TEXT NOT NULL, before TEXT NOT NULL, after TEXT NOT NULL,
                   state TEXT NOT NULL, error TEXT NOT NULL DEFAULT '');
CREATE TABLE binding (name TEXT PRIMARY KEY, mac TEXT NOT NULL, address TEXT NOT NULL, at TEXT NOT NULL);
"""

BEGUN, DONE, FAILED, INTERRUPTED = "begun", "done", "failed", "interrupted"


@dataclass(frozen=True)
class Run:
    id: int
    command: str
    vantage: str
    started: datetime
    finished: datetime | None


@dataclass(frozen=True)
class Change:
    """One entry of the journal. `state` stays `begun` where the program died within the step, until the next run
    calls it `interrupted` and does the step again.
    """

    id: int
    run: int
    at: datetime
    subject: str
    step: str
    before: str
    after: str
    state: str
    error: str = ""


@dataclass(frozen=True)
class Binding:
    """A planned name bound by hand to a device, by MAC address where it tells one."""

    name: str
    mac: str
    address: str


class Logbook:
    """Open with a path; use as a context manager. Raises InputError where the file is no logbook."""

    def __init__(self, path: Path) -> None:
        self.path = path
        self._db = sqlite3.connect(path, timeout=_LOCK_WAIT_S, isolation_level=None)
        try:
            self._prepare()
        except sqlite3.DatabaseError as error:
            self._db.close()
            advice = "move it away to begin a new one; the plan is not touched"
            raise InputError(f"{path}: not a usable logbook ({error})", advice) from None

    def _prepare(self) -> None:
        self._db.execute("PRAGMA foreign_keys = ON")
        with self._transaction():
            (version,) = self._db.execute("PRAGMA user_version").fetchone()
            if version == 0:
                for statement in _SCHEMA.split(";\n"):
                    if statement.strip():
                        self._db.execute(statement)
                self._db.execute(f"PRAGMA user_version = {SCHEMA_VERSION}")
            elif version != SCHEMA_VERSION:
                raise sqlite3.DatabaseError(f"version {version}, this program writes version {SCHEMA_VERSION}")

    def __enter__(self) -> Logbook:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self._db.close()

    @contextmanager
    def _transaction(self) -> Iterator[None]:
        self._db.execute("BEGIN IMMEDIATE")
        try:
            yield
        except BaseException:
            self._db.execute("ROLLBACK")
            raise
        self._db.execute("COMMIT")

    # Runs

    def begin_run(self, command: str, vantage: str) -> int:
        cursor = self._db.execute(
            "INSERT INTO run (command, vantage, started) VALUES (?, ?, ?)", (command, vantage, now().isoformat())
        )
        assert cursor.lastrowid is not None
        return cursor.lastrowid

    def finish_run(self, run: int, findings: Iterable[Finding]) -> None:
        """Close a run and keep its findings, in one piece."""
        rows = [
            (run, f.code, f.severity.value, f.subject, f.measured, f.limit, f.limit_source, f.advice) for f in findings
        ]
        with self._transaction():
            self._db.executemany("INSERT INTO finding VALUES (?, ?, ?, ?, ?, ?, ?, ?)", rows)
            self._db.execute("UPDATE run SET finished = ? WHERE id = ?", (now().isoformat(), run))

    def runs(self, command: str) -> list[Run]:
        """The runs of `command` that came to their end, newest first."""
        rows = self._db.execute(
            "SELECT id, command, vantage, started, finished FROM run WHERE command = ? AND finished IS NOT NULL "
            "ORDER BY id DESC",
            (command,),
        )
        return [Run(r[0], r[1], r[2], datetime.fromisoformat(r[3]), datetime.fromisoformat(r[4])) for r in rows]

    def last_run(self, command: str) -> Run | None:
        return next(iter(self.runs(command)), None)

    def findings_of(self, run: int) -> list[Finding]:
        rows = self._db.execute(
            "SELECT code, severity, subject, measured, limit_value, limit_source, advice FROM finding WHERE run = ?",
            (run,),
        )
        return [Finding(r[0], Severity(r[1]), *r[2:]) for r in rows]

    # Seen

    def add_seen(self, run: int, kind: str, subject: str, method: str, content: Any) -> None:
        """`content` is a dataclass of plain values or a dictionary; it must hold no secret."""
        data = content if isinstance(content, dict) else asdict(content)
        self._db.execute(
            "INSERT INTO seen (run, at, kind, subject, method, content) VALUES (?, ?, ?, ?, ?, ?)",
            (run, now().isoformat(), kind, subject, method, json.dumps(data)),
        )

    def seen(self, run: int, kind: str) -> list[tuple[str, dict[str, Any]]]:
        """All of `kind` seen in a run: subject and content."""
        rows = self._db.execute("SELECT subject, content FROM seen WHERE run = ? AND kind = ? ORDER BY id", (run, kind))
        return [(subject, json.loads(content)) for subject, content in rows]

    # Done

    def begin_change(self, run: int, subject: str, step: str, before: str, after: str) -> int:
        cursor = self._db.execute(
            "INSERT INTO done (run, at, subject, step, before, after, state) VALUES (?, ?, ?, ?, ?, ?, ?)",
            (run, now().isoformat(), subject, step, before, after, BEGUN),
        )
        assert cursor.lastrowid is not None
        return cursor.lastrowid

    def end_change(self, change: int, error: str = "") -> None:
        state = FAILED if error else DONE
        self._db.execute("UPDATE done SET state = ?, error = ? WHERE id = ?", (state, error, change))

    def close_interrupted(self) -> tuple[Change, ...]:
        """Mark the steps in which an earlier run died, and return them."""
        interrupted = tuple(c for c in self.changes() if c.state == BEGUN)
        self._db.executemany("UPDATE done SET state = ? WHERE id = ?", [(INTERRUPTED, c.id) for c in interrupted])
        return interrupted

    def changes(self, run: int | None = None) -> list[Change]:
        """The journal, oldest first; of one run where `run` is given."""
        rows = self._db.execute(
            "SELECT id, run, at, subject, step, before, after, state, error FROM done "
            "WHERE ?1 IS NULL OR run = ?1 ORDER BY id", (run,)
        )  # fmt: skip
        return [Change(r[0], r[1], datetime.fromisoformat(r[2]), *r[3:]) for r in rows]

    # Bindings

    def bind(self, binding: Binding) -> None:
        """Bind a name to a device; a device has one name, so an older binding of the same device goes."""
        with self._transaction():
            self._db.execute(
                "DELETE FROM binding WHERE name = ? OR address = ? OR (mac != '' AND mac = ?)",
                (binding.name, binding.address, binding.mac),
            )
            self._db.execute(
                "INSERT INTO binding VALUES (?, ?, ?, ?)",
                (binding.name, binding.mac, binding.address, now().isoformat()),
            )

    def unbind(self, name: str) -> bool:
        return self._db.execute("DELETE FROM binding WHERE name = ?", (name,)).rowcount > 0

    def bindings(self) -> list[Binding]:
        return [Binding(*row) for row in self._db.execute("SELECT name, mac, address FROM binding ORDER BY name")]
