"""The logbook: runs, what was seen (only ever added to), what was done (the journal), and bindings made by hand.

No password is ever written here.
"""

from __future__ import annotations

import json
import re
import sqlite3
from collections.abc import Iterable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import asdict, dataclass
from datetime import datetime
from pathlib import Path
from types import TracebackType
from typing import Any

from zentrale.errors import StorageError
from zentrale.findings import Finding, Severity
from zentrale.quantities import now
from zentrale.site.identity import Identity

SCHEMA_VERSION = 2
_LOCK_WAIT_S = 10.0  # another zentrale may be writing at the same time
# What each version added to the one before. A logbook of an older version is brought up to date when it is opened.
_VERSION_1 = """
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
_VERSION_2 = """
CREATE TABLE known (name TEXT PRIMARY KEY, macs TEXT NOT NULL, serial TEXT NOT NULL, endpoint TEXT NOT NULL,
                    host TEXT NOT NULL, place TEXT NOT NULL, at TEXT NOT NULL);
CREATE TABLE renamed (old TEXT NOT NULL, new TEXT NOT NULL, at TEXT NOT NULL);
CREATE TABLE attempt (id INTEGER PRIMARY KEY, at REAL NOT NULL, host TEXT NOT NULL, port INTEGER NOT NULL,
                      endpoint TEXT NOT NULL,
                      door TEXT NOT NULL, scheme TEXT NOT NULL, fingerprint TEXT NOT NULL, purpose TEXT NOT NULL,
                      state TEXT NOT NULL, until REAL NOT NULL DEFAULT 0);
CREATE INDEX attempt_by_host ON attempt (host, at);
CREATE TABLE opened (host TEXT NOT NULL, port INTEGER NOT NULL, endpoint TEXT NOT NULL, door TEXT NOT NULL,
                     scheme TEXT NOT NULL, fingerprint TEXT NOT NULL, at REAL NOT NULL,
                     PRIMARY KEY (host, port, door));
"""
_MIGRATIONS = (_VERSION_1, _VERSION_2)

_ADVICE_RIGHTS = "give yourself the right to write there, or use a copy of the site folder"

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


@dataclass(frozen=True)
class KnownDevice:
    """A device as it was last recognised under a name of the plan. `place` says where the plan had it: recorder and
    channel, by which a row of the schedule is known again after its name was changed.
    """

    name: str
    identity: Identity
    host: str
    place: str


class Logbook:
    """Open with a path; use as a context manager. Raises StorageError where the file is no logbook of this version or
    an older one, or cannot be read and written.
    """

    def __init__(self, path: Path) -> None:
        self.path = path
        fresh = not path.exists()
        try:
            self._db = sqlite3.connect(path, timeout=_LOCK_WAIT_S, isolation_level=None)
        except sqlite3.Error as error:
            raise self._storage_error(error) from None
        try:
            if fresh:
                path.chmod(0o600)
            self._prepare()
            path.chmod(0o600)  # also one that an older version made readable to all
        except OSError as error:
            self._db.close()
            raise StorageError(f"{path}: {error.strerror}", _ADVICE_RIGHTS) from None
        except BaseException:
            self._db.close()
            raise

    def _prepare(self) -> None:
        self.execute("PRAGMA foreign_keys = ON")
        with self.transaction():
            (version,) = self.execute("PRAGMA user_version").fetchone()
            if version > SCHEMA_VERSION:
                raise StorageError(
                    f"{self.path}: a newer version of this program wrote it (version {version}, known are up to "
                    f"{SCHEMA_VERSION})", "use that version, or a newer one; the logbook was not touched",
                )  # fmt: skip
            for statements in _MIGRATIONS[version:]:
                for statement in statements.split(";\n"):
                    if statement.strip():
                        self.execute(statement)
            if version < SCHEMA_VERSION:
                self.execute(f"PRAGMA user_version = {SCHEMA_VERSION}")

    def _storage_error(self, error: sqlite3.Error) -> StorageError:
        """A message, its cause and what to do, for what SQLite says (sqlite.org, result codes)."""
        code = getattr(error, "sqlite_errorcode", 0) & 0xFF  # the primary code; its upper bits say more
        cause, advice = {
            sqlite3.SQLITE_FULL: ("the disk is full", "free some space, then run the command again"),
            sqlite3.SQLITE_IOERR: ("the disk cannot be read or written", "look at the disk; copy the site folder away"),
            sqlite3.SQLITE_READONLY: ("it or its folder is read-only", _ADVICE_RIGHTS),
            sqlite3.SQLITE_CANTOPEN: ("it cannot be opened or made there", _ADVICE_RIGHTS),
            sqlite3.SQLITE_PERM: ("it may not be opened", _ADVICE_RIGHTS),
            sqlite3.SQLITE_BUSY: ("another program holds it", "end that program, or wait, then run the command again"),
            sqlite3.SQLITE_LOCKED: ("another program holds it", "end that program, or wait, then run it again"),
        }.get(code, (f"not a usable logbook ({error})", "move it away to begin a new one; the plan is not touched"))
        return StorageError(f"{self.path}: {cause}", f"{advice}; nothing was half-written")

    def execute(self, statement: str, values: Sequence[Any] = ()) -> sqlite3.Cursor:
        """The one way to the database. Raises StorageError."""
        try:
            return self._db.execute(statement, values)
        except sqlite3.Error as error:
            raise self._storage_error(error) from None

    def execute_many(self, statement: str, rows: Iterable[Sequence[Any]]) -> None:
        try:
            self._db.executemany(statement, rows)
        except sqlite3.Error as error:
            raise self._storage_error(error) from None

    def close(self) -> None:
        self._db.close()

    def __enter__(self) -> Logbook:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self.close()

    @contextmanager
    def transaction(self) -> Iterator[None]:
        self.execute("BEGIN IMMEDIATE")
        try:
            yield
            self.execute("COMMIT")
        except BaseException:
            if self._db.in_transaction:
                self._db.execute("ROLLBACK")
            raise

    # Runs

    def begin_run(self, command: str, vantage: str) -> int:
        cursor = self.execute(
            "INSERT INTO run (command, vantage, started) VALUES (?, ?, ?)", (command, vantage, now().isoformat())
        )
        assert cursor.lastrowid is not None
        return cursor.lastrowid

    def finish_run(self, run: int, findings: Iterable[Finding]) -> None:
        """Close a run and keep its findings, in one piece."""
        rows = [
            (run, f.code, f.severity.value, f.subject, f.measured, f.limit, f.limit_source, f.advice) for f in findings
        ]
        with self.transaction():
            self.execute_many("INSERT INTO finding VALUES (?, ?, ?, ?, ?, ?, ?, ?)", rows)
            self.execute("UPDATE run SET finished = ? WHERE id = ?", (now().isoformat(), run))

    def runs(self, command: str) -> list[Run]:
        """The runs of `command` that came to their end, newest first."""
        rows = self.execute(
            "SELECT id, command, vantage, started, finished FROM run WHERE command = ? AND finished IS NOT NULL "
            "ORDER BY id DESC",
            (command,),
        )
        return [Run(r[0], r[1], r[2], datetime.fromisoformat(r[3]), datetime.fromisoformat(r[4])) for r in rows]

    def last_run(self, command: str) -> Run | None:
        return next(iter(self.runs(command)), None)

    def findings_of(self, run: int) -> list[Finding]:
        rows = self.execute(
            "SELECT code, severity, subject, measured, limit_value, limit_source, advice FROM finding WHERE run = ?",
            (run,),
        )
        present = self.renamed()
        return [Finding(r[0], Severity(r[1]), _present(r[2], present), *r[3:]) for r in rows]

    # Seen

    def add_seen(self, run: int, kind: str, subject: str, method: str, content: Any) -> None:
        """`content` is a dataclass of plain values or a dictionary; it must hold no secret."""
        data = content if isinstance(content, dict) else asdict(content)
        self.execute(
            "INSERT INTO seen (run, at, kind, subject, method, content) VALUES (?, ?, ?, ?, ?, ?)",
            (run, now().isoformat(), kind, subject, method, json.dumps(data)),
        )

    def seen(self, run: int, kind: str) -> list[tuple[str, dict[str, Any]]]:
        """All of `kind` seen in a run: subject and content."""
        rows = self.execute("SELECT subject, content FROM seen WHERE run = ? AND kind = ? ORDER BY id", (run, kind))
        present = self.renamed()
        return [(_present(subject, present), json.loads(content)) for subject, content in rows]

    # Done

    def begin_change(self, run: int, subject: str, step: str, before: str, after: str) -> int:
        cursor = self.execute(
            "INSERT INTO done (run, at, subject, step, before, after, state) VALUES (?, ?, ?, ?, ?, ?, ?)",
            (run, now().isoformat(), subject, step, before, after, BEGUN),
        )
        assert cursor.lastrowid is not None
        return cursor.lastrowid

    def end_change(self, change: int, error: str = "") -> None:
        state = FAILED if error else DONE
        self.execute("UPDATE done SET state = ?, error = ? WHERE id = ?", (state, error, change))

    def close_interrupted(self) -> tuple[Change, ...]:
        """Mark the steps in which an earlier run died, and return them."""
        interrupted = tuple(c for c in self.changes() if c.state == BEGUN)
        self.execute_many("UPDATE done SET state = ? WHERE id = ?", [(INTERRUPTED, c.id) for c in interrupted])
        return interrupted

    def changes(self, run: int | None = None) -> list[Change]:
        """The journal, oldest first; of one run where `run` is given."""
        rows = self.execute(
            "SELECT id, run, at, subject, step, before, after, state, error FROM done "
            "WHERE ?1 IS NULL OR run = ?1 ORDER BY id", (run,)
        )  # fmt: skip
        present = self.renamed()
        return [Change(r[0], r[1], datetime.fromisoformat(r[2]), _present(r[3], present), *r[4:]) for r in rows]

    # Bindings

    def bind(self, binding: Binding) -> None:
        """Bind a name to a device; a device has one name, so an older binding of the same device goes."""
        with self.transaction():
            self.execute(
                "DELETE FROM binding WHERE name = ? OR address = ? OR (mac != '' AND mac = ?)",
                (binding.name, binding.address, binding.mac),
            )
            self.execute(
                "INSERT INTO binding VALUES (?, ?, ?, ?)",
                (binding.name, binding.mac, binding.address, now().isoformat()),
            )

    def unbind(self, name: str) -> bool:
        return self.execute("DELETE FROM binding WHERE name = ?", (name,)).rowcount > 0

    def bindings(self) -> list[Binding]:
        return [Binding(*row) for row in self.execute("SELECT name, mac, address FROM binding ORDER BY name")]

    # Devices as they were last recognised, and names that were changed

    def remember(self, device: KnownDevice) -> None:
        """What is newly known of a device adds to what was; another device under the same name takes its place."""
        with self.transaction():
            old = next((k for k in self.known() if k.name == device.name), None)
            identity = device.identity
            if old is not None and old.identity.same_device(identity) is not False:
                identity = identity.joined(old.identity)
            self.execute(
                "INSERT OR REPLACE INTO known VALUES (?, ?, ?, ?, ?, ?, ?)",
                (device.name, " ".join(sorted(identity.macs)), identity.serial, identity.endpoint, device.host,
                 device.place, now().isoformat()),
            )  # fmt: skip

    def known(self) -> list[KnownDevice]:
        rows = self.execute("SELECT name, macs, serial, endpoint, host, place FROM known ORDER BY name")
        return [KnownDevice(r[0], Identity(frozenset(r[1].split()), r[2], r[3]), r[4], r[5]) for r in rows]

    def rename(self, old: str, new: str) -> None:
        """The plan calls the device `old` now `new`: what was written of it is read under its new name from now on."""
        with self.transaction():
            self.execute("INSERT INTO renamed VALUES (?, ?, ?)", (old, new, now().isoformat()))
            for table in ("known", "binding"):
                self.execute(f"DELETE FROM {table} WHERE name = ?", (new,))
                self.execute(f"UPDATE {table} SET name = ? WHERE name = ?", (new, old))

    def renamed(self) -> dict[str, str]:
        """The present name by each former one."""
        present: dict[str, str] = {}
        for old, new in self.execute("SELECT old, new FROM renamed ORDER BY rowid"):
            present = {former: new if name == old else name for former, name in present.items()}
            present[old] = new
            present.pop(new, None)
        return present


_NAME_IN_SUBJECT = re.compile(r"(?:(?<=^camera )|(?<=^recorder )|(?<= of )|^)[a-z0-9-]+(?=$|,| )")


def _present(subject: str, renamed: Mapping[str, str]) -> str:
    """A subject as it is called now: history stays with a camera whose row in the plan got another name."""
    if not renamed:
        return subject
    return _NAME_IN_SUBJECT.sub(lambda m: renamed.get(m[0], m[0]), subject)
