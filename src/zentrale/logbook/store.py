"""The logbook: what was seen and judged (`evidence`), what was done (the journal), bindings made by hand, and which
device is known under which name.

No password is ever written here.
"""

from __future__ import annotations

import errno
import json
import sqlite3
import threading
from collections.abc import Iterable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import dataclass
from datetime import datetime
from pathlib import Path
from types import TracebackType
from typing import Any

from zentrale.errors import StorageError
from zentrale.logbook.processes import lives, this_process
from zentrale.logbook.schema import MIGRATIONS, SCHEMA_VERSION
from zentrale.quantities import now
from zentrale.site.identity import Identity
from zentrale.subjects import Kind, Ref
from zentrale.words import masked

_LOCK_WAIT_S = 10.0  # another zentrale may be writing at the same time
_ADVICE_RIGHTS = "give yourself the right to write there, or use a copy of the site folder"

BEGUN, DONE, FAILED, INTERRUPTED = "begun", "done", "failed", "interrupted"


@dataclass(frozen=True)
class Run:
    """One command on this site. `state` is begun, done or interrupted; an interrupted one keeps what it had.

    scope: what it set out to look at or to change, in the form of its command
    """

    id: int
    command: str
    vantage: str
    started: datetime
    finished: datetime | None
    state: str
    scope: Mapping[str, Any]


@dataclass(frozen=True)
class Change:
    """One entry of the journal. `state` stays `begun` where the program died within the step, until the next run
    calls it `interrupted` and does the step again.

    before, after: in words, as they were shown; before_state, after_state: the same as the step's own values, empty
    where an older version wrote the entry
    """

    id: int
    run: int
    at: datetime
    ref: Ref
    step: str
    before: str
    after: str
    state: str
    error: str = ""
    before_state: Mapping[str, Any] | None = None
    after_state: Mapping[str, Any] | None = None

    @property
    def subject(self) -> str:
        return str(self.ref)


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
    """Open with a path; use as a context manager, from one thread at a time or several. Raises StorageError where the
    file is no logbook of this version or an older one, or cannot be read and written.
    """

    def __init__(self, path: Path) -> None:
        self.path = path
        self._turn = threading.RLock()  # writes may come from worker threads: the event loop does not wait for the disk
        fresh = not path.exists()
        try:
            self._db = sqlite3.connect(path, timeout=_LOCK_WAIT_S, isolation_level=None, check_same_thread=False)
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
            try:
                for parts in MIGRATIONS[version:]:
                    for part in parts:
                        part(self._db)
            except sqlite3.Error as error:
                raise self._storage_error(error) from None
            except (ValueError, KeyError, TypeError) as error:
                what = f"{self.path}: cannot be brought up to date, an entry in it is not as it was written ({error})"
                raise StorageError(what, "move it away to begin a new one; it was not touched") from None
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
        if code == sqlite3.SQLITE_CANTOPEN:  # SQLite does not say why
            try:
                self.path.open("rb").close()
            except OSError as why:
                if why.errno in (errno.EMFILE, errno.ENFILE):
                    cause, advice = "this machine: too many open files", "`ulimit -n 4096`, then run the command again"
        return StorageError(f"{self.path}: {cause}", f"{advice}; nothing was half-written")

    def execute(self, statement: str, values: Sequence[Any] = ()) -> sqlite3.Cursor:
        """The one way to the database. Raises StorageError."""
        with self._turn:
            try:
                return self._db.execute(statement, values)
            except sqlite3.Error as error:
                raise self._storage_error(error) from None

    def execute_many(self, statement: str, rows: Iterable[Sequence[Any]]) -> None:
        with self._turn:
            try:
                self._db.executemany(statement, rows)
            except sqlite3.Error as error:
                raise self._storage_error(error) from None

    def insert(self, statement: str, values: Sequence[Any]) -> int:
        """The number of the new row."""
        with self._turn:
            number = self.execute(statement, values).lastrowid
        assert number is not None
        return number

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
        with self._turn:
            self.execute("BEGIN IMMEDIATE")
            try:
                yield
                self.execute("COMMIT")
            except BaseException:
                if self._db.in_transaction:
                    self._db.execute("ROLLBACK")
                raise

    # Runs

    def begin_run(self, command: str, vantage: str, scope: Mapping[str, Any] | None = None) -> int:
        return self.insert(
            "INSERT INTO run (command, vantage, started, scope, state, process) VALUES (?, ?, ?, ?, ?, ?)",
            (command, vantage, now().isoformat(), json.dumps(scope or {}), BEGUN, this_process()),
        )

    def end_run(self, run: int, *, interrupted: bool = False) -> None:
        self.execute(
            "UPDATE run SET finished = ?, state = ? WHERE id = ?",
            (now().isoformat(), INTERRUPTED if interrupted else DONE, run),
        )

    @contextmanager
    def running(self, command: str, vantage: str, scope: Mapping[str, Any] | None = None) -> Iterator[int]:
        """A run from its beginning to its end, however it ends."""
        run = self.begin_run(command, vantage, scope)
        try:
            yield run
        except BaseException:
            self.end_run(run, interrupted=True)
            raise
        self.end_run(run)

    def runs(self, command: str | None = None) -> list[Run]:
        """All runs (of `command`), newest first. One whose process died is interrupted."""
        rows = self.execute(
            "SELECT id, command, vantage, started, finished, state, scope, process FROM run "
            "WHERE ?1 IS NULL OR command = ?1 ORDER BY id DESC",
            (command,),
        )
        return [
            Run(r[0], r[1], r[2], datetime.fromisoformat(r[3]), datetime.fromisoformat(r[4]) if r[4] else None,
                INTERRUPTED if r[5] == BEGUN and not lives(r[7]) else r[5], json.loads(r[6]))
            for r in rows
        ]  # fmt: skip

    def last_run(self, command: str) -> Run | None:
        """The newest run of `command` that came to its end."""
        return next((run for run in self.runs(command) if run.state == DONE), None)

    # The journal

    def begin_change(
        self,
        run: int,
        ref: Ref,
        step: str,
        before: str,
        after: str,
        states: tuple[Mapping[str, Any], Mapping[str, Any]] | None = None,
    ) -> int:
        kept = [masked(json.dumps(state)) for state in states] if states else ["", ""]
        return self.insert(
            "INSERT INTO done (run, at, subject, step, before, after, state, subject_kind, name, before_state, "
            "after_state) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
            (
                run,
                now().isoformat(),
                str(ref),
                step,
                masked(before),
                masked(after),
                BEGUN,
                ref.kind.name,
                ref.name,
                *kept,
            ),
        )

    def end_change(
        self, change: int, error: str = "", after: str | None = None, after_state: Mapping[str, Any] | None = None
    ) -> None:
        """The step came to its end; `after` is what was read back, where that is not what was asked for."""
        kept = None if after_state is None else masked(json.dumps(after_state))
        self.execute(
            "UPDATE done SET state = ?, error = ?, after = COALESCE(?, after), "
            "after_state = COALESCE(?, after_state) WHERE id = ?",
            (FAILED if error else DONE, masked(error), None if after is None else masked(after), kept, change),
        )

    def close_interrupted(self) -> tuple[Change, ...]:
        """Mark the steps in which an earlier run died, and return them. Steps of a process that lives are its own."""
        dead = {run.id for run in self.runs() if run.state != BEGUN}
        interrupted = tuple(c for c in self.changes() if c.state == BEGUN and c.run in dead)
        self.execute_many("UPDATE done SET state = ? WHERE id = ?", [(INTERRUPTED, c.id) for c in interrupted])
        return interrupted

    def changes(self, run: int | None = None, *, of: Ref | None = None, step: str = "") -> list[Change]:
        """The journal, oldest first; of one run, of one subject, and of steps whose name ends so, where these are given."""
        present = self.renamed()
        names = [of.name, *(old for old, new in present.items() if new == of.name)] if of else []
        rows = self.execute(
            "SELECT id, run, at, subject_kind, name, step, before, after, state, error, before_state, after_state FROM done "
            "WHERE (?1 IS NULL OR run = ?1) AND (?2 = '' OR substr(step, -length(?2)) = ?2) AND (?3 = '' OR (subject_kind = ?3 "
            "AND name IN (SELECT value FROM json_each(?4)))) ORDER BY id",
            (run, step, of.kind.name if of else "", json.dumps(names)),
        )  # fmt: skip
        found = (
            Change(r[0], r[1], datetime.fromisoformat(r[2]), present_ref(present, r[3], r[4]), *r[5:10],
                   *(json.loads(s) if s else None for s in r[10:]))
            for r in rows
        )  # fmt: skip
        return [change for change in found if of is None or change.ref == of]  # its name may have been another's

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

    def forget(self, name: str) -> None:
        """The device under this name is not known by it any more; what was written of it stays."""
        self.execute("DELETE FROM known WHERE name = ?", (name,))

    def known(self) -> list[KnownDevice]:
        rows = self.execute("SELECT name, macs, serial, endpoint, host, place FROM known ORDER BY name")
        return [KnownDevice(r[0], Identity(frozenset(r[1].split()), r[2], r[3]), r[4], r[5]) for r in rows]

    def rename(self, old: str, new: str) -> None:
        """The plan calls the device `old` now `new`: what was written of it is read under its new name from now on."""
        with self.transaction():
            self.execute("INSERT INTO renamed VALUES (?, ?, ?)", (old, new, now().isoformat()))
            for table in ("known", "binding", "numbering", "next_channel"):
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


def present_ref(renamed: Mapping[str, str], kind: str, name: str, part: str = "") -> Ref:
    """A subject as it is called now: history stays with a camera whose row in the plan got another name."""
    return Ref(Kind[kind], name if kind == Kind.DEVICE.name else renamed.get(name, name), part)
