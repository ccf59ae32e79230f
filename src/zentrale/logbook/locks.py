"""Locks of a site folder, between processes: one for the moment in which the vault is changed, one for a whole run
that changes the site. The system frees them when a process ends, however it ends.
"""

from __future__ import annotations

import json
import os
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from datetime import datetime
from pathlib import Path

from filelock import FileLock, Timeout

from zentrale.errors import StorageError
from zentrale.quantities import now
from zentrale.site.folder import SiteFolder, cannot_write, write_atomically

VAULT_LOCK, SITE_LOCK, HOLDER_FILE = ".vault.lock", ".site.lock", ".site.holder.json"
_MOMENT_S = 30.0  # a change of the vault takes well under a second; longer means that a process hangs
_ASK_AGAIN_S = 0.2


@dataclass(frozen=True)
class Holder:
    """The run that changes the site just now."""

    command: str
    process: int
    since: datetime

    def __str__(self) -> str:
        return f"`zentrale {self.command}` (process {self.process}, since {self.since.astimezone():%H:%M:%S})"


@contextmanager
def vault_lock(vault_file: Path) -> Iterator[None]:
    """Held for one reading, changing and writing of the vault. Raises StorageError."""
    with _held(vault_file.parent / VAULT_LOCK, _MOMENT_S, "another process holds the vault"):
        yield


@contextmanager
def site_lock(folder: SiteFolder, command: str, *, wait: bool, waiting: Callable[[str], None]) -> Iterator[None]:
    """Held by a run that changes the site. A second one waits, and says for whom by `waiting`; or, not to `wait`,
    raises StorageError.
    """
    lock = _lock(folder.path / SITE_LOCK)
    try:
        _acquire(lock, 0)
    except Timeout:
        holder = _holder(folder)
        if not wait:
            advice = "wait until it has ended, or leave --no-wait out"
            raise StorageError(f"{folder.path}: {holder} is changing this site", advice) from None
        waiting(holder)
        _acquire(lock, -1)
    try:
        ours = Holder(command, os.getpid(), now())
        content = {"command": ours.command, "process": ours.process, "since": ours.since.isoformat()}
        write_atomically(folder.path / HOLDER_FILE, json.dumps(content).encode())
        yield
    finally:
        lock.release()


def _holder(folder: SiteFolder) -> str:
    try:
        raw = json.loads((folder.path / HOLDER_FILE).read_bytes())
        return str(Holder(raw["command"], raw["process"], datetime.fromisoformat(raw["since"])))
    except (OSError, ValueError, KeyError, TypeError):
        return "another run"  # it has the lock already, and has not told who it is yet


@contextmanager
def _held(path: Path, wait_s: float, otherwise: str) -> Iterator[None]:
    lock = _lock(path)
    try:
        _acquire(lock, wait_s)
    except Timeout:
        raise StorageError(f"{path.parent}: {otherwise} for more than {wait_s:g} s", "end that process") from None
    try:
        yield
    finally:
        lock.release()


def _lock(path: Path) -> FileLock:
    return FileLock(path, mode=0o600)


def _acquire(lock: FileLock, timeout_s: float) -> None:
    try:
        lock.acquire(timeout=timeout_s, poll_interval=_ASK_AGAIN_S)
    except Timeout:
        raise
    except OSError as error:
        raise cannot_write(Path(lock.lock_file), error) from None
