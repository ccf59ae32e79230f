"""The tables of the logbook, version by version, and how a logbook of an older one is brought up to date.

What was written is never changed in its meaning: a migration adds columns, and takes subjects apart that were text.
"""

from __future__ import annotations

import hashlib
import json
import re
import sqlite3
from collections.abc import Callable

from zentrale.subjects import Kind, Ref

VERSION_1 = """
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
VERSION_2 = """
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
# Runs with their scope; observations, judgements and changes by subject; each observation with a digest of all before.
VERSION_3 = """
ALTER TABLE run ADD COLUMN scope TEXT NOT NULL DEFAULT '{}';
ALTER TABLE run ADD COLUMN state TEXT NOT NULL DEFAULT '';
ALTER TABLE run ADD COLUMN process TEXT NOT NULL DEFAULT '';
ALTER TABLE run ADD COLUMN observed INTEGER NOT NULL DEFAULT 0;
CREATE TABLE observation (id INTEGER PRIMARY KEY, run INTEGER NOT NULL REFERENCES run(id), at TEXT NOT NULL,
                          kind TEXT NOT NULL, version INTEGER NOT NULL, subject_kind TEXT NOT NULL,
                          name TEXT NOT NULL, part TEXT NOT NULL, vantage TEXT NOT NULL, method TEXT NOT NULL,
                          content TEXT NOT NULL, digest TEXT NOT NULL);
CREATE INDEX observation_by_kind ON observation (kind, id);
CREATE TABLE judged (id INTEGER PRIMARY KEY, run INTEGER NOT NULL REFERENCES run(id), at TEXT NOT NULL,
                     subject_kind TEXT NOT NULL, name TEXT NOT NULL, part TEXT NOT NULL, codes TEXT NOT NULL);
ALTER TABLE finding ADD COLUMN judged INTEGER REFERENCES judged(id);
ALTER TABLE done ADD COLUMN subject_kind TEXT NOT NULL DEFAULT '';
ALTER TABLE done ADD COLUMN name TEXT NOT NULL DEFAULT '';
ALTER TABLE done ADD COLUMN before_state TEXT NOT NULL DEFAULT '';
ALTER TABLE done ADD COLUMN after_state TEXT NOT NULL DEFAULT '';
"""
# Which process has a try under way: what a killed one left open is told from what another one waits for. What opened a door last
# is kept for each account, so that a recorder's does not stand for the administrator's. Which recording is which channel of a
# recorder, and which number a camera got that was planned onto the next free one.
VERSION_4 = """
ALTER TABLE attempt ADD COLUMN process TEXT NOT NULL DEFAULT '';
ALTER TABLE opened RENAME TO opened_before;
CREATE TABLE opened (host TEXT NOT NULL, port INTEGER NOT NULL, endpoint TEXT NOT NULL, door TEXT NOT NULL,
                     scheme TEXT NOT NULL, fingerprint TEXT NOT NULL, at REAL NOT NULL, account TEXT NOT NULL DEFAULT '',
                     PRIMARY KEY (host, port, door, account));
INSERT INTO opened (host, port, endpoint, door, scheme, fingerprint, at) SELECT * FROM opened_before;
DROP TABLE opened_before;
CREATE TABLE numbering (name TEXT NOT NULL, macs TEXT NOT NULL, serial TEXT NOT NULL, number INTEGER NOT NULL,
                        token TEXT NOT NULL, called TEXT NOT NULL, had_job INTEGER NOT NULL, rule TEXT NOT NULL,
                        PRIMARY KEY (name, number));
CREATE TABLE next_channel (name TEXT PRIMARY KEY, recorder TEXT NOT NULL, number INTEGER NOT NULL);
"""


def chained(before: str, *parts: object) -> str:
    """The digest of an observation: SHA-256 over the digest of the one before it and all it says."""
    return hashlib.sha256(json.dumps([before, *parts]).encode()).hexdigest()


def _to_version_3(db: sqlite3.Connection) -> None:
    """Runs of before had no scope: what a run has rows or findings of, it looked at, and nothing else."""
    db.execute("UPDATE run SET state = CASE WHEN finished IS NULL THEN 'interrupted' ELSE 'done' END")
    codes_of: dict[tuple[int, Ref], set[str]] = {}
    digest = ""
    vantages = dict(db.execute("SELECT id, vantage FROM run"))
    for number, run, at, kind, subject, method, content in db.execute("SELECT * FROM seen ORDER BY id").fetchall():
        ref, codes = _observed_of_old(kind, subject, json.loads(content))
        row = (run, at, kind, 1, ref.kind.name, ref.name, ref.part, vantages[run], method, content)
        digest = chained(digest, *row)
        db.execute(f"INSERT INTO observation VALUES ({', '.join('?' * 12)})", (number, *row, digest))
        codes_of.setdefault((run, ref), set()).update(codes)
    finished = dict(db.execute("SELECT id, COALESCE(finished, started) FROM run"))
    rows = db.execute("SELECT rowid, run, code, subject, measured FROM finding").fetchall()
    for number, run, code, subject, measured in rows:
        ref = ref_of_text(subject)
        if code == "REG-1" and (step := re.match(r"step ([^:]+):", measured)):
            ref = Ref(ref.kind, ref.name, f"step {step[1]}")
        codes_of.setdefault((run, ref), set()).add(code)
        db.execute("UPDATE finding SET subject = ? WHERE rowid = ?", (str(ref), number))
    for (run, ref), codes in codes_of.items():
        cursor = db.execute(
            "INSERT INTO judged (run, at, subject_kind, name, part, codes) VALUES (?, ?, ?, ?, ?, ?)",
            (run, finished[run], ref.kind.name, ref.name, ref.part, json.dumps(sorted(codes))),
        )
        db.execute("UPDATE finding SET judged = ? WHERE run = ? AND subject = ?", (cursor.lastrowid, run, str(ref)))
    for number, subject in db.execute("SELECT id, subject FROM done").fetchall():
        ref = ref_of_text(subject)
        db.execute("UPDATE done SET subject_kind = ?, name = ? WHERE id = ?", (ref.kind.name, ref.name, number))
    db.execute("UPDATE run SET observed = (SELECT count(*) FROM observation WHERE observation.run = run.id)")
    db.execute("DROP TABLE seen")


_STREAM_CODES = {f"STR-{number}" for number in range(1, 12)}
_DEVICE_CODES = {"DIS-1", "DIS-3", "DIS-4", "DIS-6", "DIS-7", "SEC-1", "SEC-3", "SEC-4", "CLK-1"}


def _observed_of_old(kind: str, subject: str, content: dict[str, object]) -> tuple[Ref, set[str]]:
    """Whom a row of before is about, and which codes that run had then looked for."""
    name, _, part = subject.partition(" ")
    if kind == "stream":
        played = content.get("codec") is not None
        return Ref(Kind.CAMERA, name, f"{part} stream"), _STREAM_CODES if played else {"STR-1"}
    if kind == "channel":
        observed = content.get("state") != "not known"
        return (
            Ref(Kind.RECORDER, str(content.get("recorder")), f"channel {content.get('channel')}"),
            {"REC-1", "REC-2"} if observed else set(),
        )
    if kind == "access":
        return Ref(Kind.CAMERA, name), {"SEC-2", "SEC-5"} if content.get("result") == "refused" else set()
    if not subject:
        return Ref(Kind.DEVICE, str(content.get("address"))), set()
    return Ref(Kind.CAMERA, name), _DEVICE_CODES


def ref_of_text(subject: str) -> Ref:
    """A subject as older logbooks have it, in text: the reverse of `str(Ref)`."""
    if found := re.fullmatch(r"(.+) of ([a-z0-9-]+)", subject):
        return Ref(Kind.RECORDER, found[2], found[1])
    for kind in Kind:
        if subject.startswith(f"{kind.value} "):
            name, _, part = subject.removeprefix(f"{kind.value} ").partition(", ")
            return Ref(kind, name, part)
    return Ref(Kind.CAMERA, subject)


def _statements(text: str) -> Callable[[sqlite3.Connection], None]:
    def run(db: sqlite3.Connection) -> None:
        for statement in text.split(";\n"):
            if statement.strip():
                db.execute(statement)

    return run


MIGRATIONS: tuple[tuple[Callable[[sqlite3.Connection], None], ...], ...] = (
    (_statements(VERSION_1),),
    (_statements(VERSION_2),),
    (_statements(VERSION_3), _to_version_3),
    (_statements(VERSION_4),),
)
SCHEMA_VERSION = len(MIGRATIONS)
