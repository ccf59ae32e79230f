"""The site folder: where it is, what is in it, and how its files are written (whole or not at all)."""

from __future__ import annotations

import contextlib
import errno
import os
import tempfile
from dataclasses import dataclass
from importlib import resources
from pathlib import Path

from zentrale.errors import InputError, StorageError

PLAN_FILES = ("site.toml", "cameras.csv", "types.toml")
OUTLINE_FILE = "outline.geojson"
RUNS_FILE = "runs.csv"
WALLS_FILE = "walls.csv"
OPTIONAL_FILES = (RUNS_FILE, WALLS_FILE, OUTLINE_FILE)


@dataclass(frozen=True)
class SiteFolder:
    path: Path

    @property
    def site_file(self) -> Path:
        return self.path / "site.toml"

    @property
    def cameras_file(self) -> Path:
        return self.path / "cameras.csv"

    @property
    def types_file(self) -> Path:
        return self.path / "types.toml"

    @property
    def outline_file(self) -> Path:
        return self.path / OUTLINE_FILE

    @property
    def runs_file(self) -> Path:
        return self.path / RUNS_FILE

    @property
    def walls_file(self) -> Path:
        return self.path / WALLS_FILE

    @property
    def logbook_file(self) -> Path:
        return self.path / "logbook.sqlite"

    @property
    def vault_file(self) -> Path:
        return self.path / "vault.bin"

    @property
    def output(self) -> Path:
        return self.path / "output"


def find_site(given: str | None, start: Path | None = None) -> SiteFolder:
    """The site folder: `given`, or the nearest folder from `start` (default: here) upwards with a site.toml.

    Raises InputError where there is none.
    """
    if given is not None:
        path = Path(given)
        if not (path / "site.toml").is_file():
            raise InputError(
                f"{path}: no site.toml there", "give a site folder with --site, or make one with `zentrale new`"
            )
        return SiteFolder(path.resolve())
    start = (start or Path.cwd()).resolve()
    for folder in (start, *start.parents):
        if (folder / "site.toml").is_file():
            return SiteFolder(folder)
    raise InputError(
        f"{start}: neither this folder nor one above it holds a site.toml",
        "change into a site folder, give one with --site, or make one with `zentrale new`",
    )


def write_atomically(path: Path, content: bytes, mode: int = 0o644) -> None:
    """Write `content` to `path` whole or not at all: a temporary neighbour, flushed, then renamed over it.

    A link is followed, so that it stays one. Raises StorageError where this machine does not let it be written; the old
    content is then still there.
    """
    path = path.resolve()
    temporary: Path | None = None
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        handle, name = tempfile.mkstemp(dir=path.parent, prefix=_temporary_prefix(path))
        temporary = Path(name)
        with os.fdopen(handle, "wb") as file:
            file.write(content)
            file.flush()
            os.fsync(file.fileno())
        temporary.chmod(mode)
        temporary.replace(path)
        temporary = None
        _flush_folder(path.parent)
    except OSError as error:
        raise cannot_write(path, error) from None
    finally:
        if temporary is not None:
            temporary.unlink(missing_ok=True)


def cannot_write(path: Path, error: OSError) -> StorageError:
    """What to say, and what to do, where `path` cannot be written."""
    advice = {
        errno.ENOSPC: "free some space on this disk, then run the command again",
        errno.EDQUOT: "free some space on this disk, then run the command again",
        errno.EROFS: "the disk is read-only: use a copy of the site folder on another disk",
        errno.EACCES: "give yourself the right to write there, or use a copy of the site folder",
        errno.EPERM: "give yourself the right to write there, or use a copy of the site folder",
    }.get(error.errno or 0, "use a copy of the site folder on another disk")
    return StorageError(f"{path}: cannot be written: {error.strerror or error}", f"{advice}; its old content is kept")


def cannot_read(path: Path, error: OSError) -> StorageError:
    """What to say, and what to do, where `path` cannot be read."""
    denied = error.errno in (errno.EACCES, errno.EPERM)
    advice = "give yourself the right to read it" if denied else "look at the disk; copy the site folder away"
    return StorageError(f"{path}: cannot be read: {error.strerror or error}", advice)


def clear_leftovers(path: Path) -> None:
    """Remove what a crash left while `path` was written. Only for whoever holds the lock on writing it."""
    for left in path.parent.glob(f"{_temporary_prefix(path)}*"):
        left.unlink(missing_ok=True)


def _temporary_prefix(path: Path) -> str:
    return f".{path.name}.new-"


def _flush_folder(folder: Path) -> None:
    """The new name, too, must survive a power cut. Some network disks have no such call: the file is in place then."""
    with contextlib.suppress(OSError):
        handle = os.open(folder, os.O_RDONLY)
        try:
            os.fsync(handle)
        finally:
            os.close(handle)


def create_site(path: Path, sample: str) -> list[Path]:
    """Make a site folder at `path` from a sample that ships with the package (`empty` or `brackwater`).

    Returns the files written. Raises InputError where the folder already holds a plan.
    """
    present = [name for name in (*PLAN_FILES, *OPTIONAL_FILES) if (path / name).exists()]
    if present:
        raise InputError(f"{path}: already holds {', '.join(present)}", "give another folder; nothing was changed")
    if path.exists() and not path.is_dir():
        raise InputError(f"{path}: is a file, expected a folder to make", "give another name")
    source = resources.files("zentrale") / "site" / "templates"
    written = []
    for name in (*PLAN_FILES, *OPTIONAL_FILES):
        if not (source / f"{sample}.{name}").is_file():
            continue  # not every sample has all
        content = (source / f"{sample}.{name}").read_bytes()
        write_atomically(path / name, content)
        written.append(path / name)
    return written
