"""What this machine sets limits to: open files, ports, buffers. No device is judged by them."""

from __future__ import annotations

import errno
import logging
import os
from pathlib import Path

from zentrale.errors import MachineError

log = logging.getLogger(__name__)
_KEPT_FILES = 24  # that the rest of the program may want at once
_FEW_FILES = 256  # what a system without a limit that can be asked for allows at least

_ADVICE = {
    errno.EMFILE: "allow more open files: `ulimit -n 4096` before the command; `zentrale doctor` says how many there are",
    errno.ENFILE: "end other programs of this machine: the whole system has no more files to open",
    errno.ENOBUFS: "end other programs of this machine, or measure fewer streams at once with --only",
    errno.ENOMEM: "end other programs of this machine: its memory is full",
    errno.EADDRNOTAVAIL: "give this machine's adapter its address again; where all ports are taken, end other programs",
    errno.EADDRINUSE: "end the other program of this machine that listens there, such as a player",
    errno.EPERM: "let this program through this machine's own firewall",
}


def own_limit(where: str, error: BaseException) -> MachineError | None:
    """What to say where it was this machine that did not let a connection or socket come about; None where it was not."""
    seen: list[BaseException] = [error]
    while (inner := seen[-1].__cause__ or seen[-1].__context__) is not None and len(seen) < 10:
        seen.append(inner)
    for cause in seen:
        if isinstance(cause, OSError) and cause.errno in _ADVICE:
            return MachineError(f"{where}: this machine: {os.strerror(cause.errno).lower()}", _ADVICE[cause.errno])
    return None


def open_files(wanted: int) -> int:
    """How many of `wanted` further files and sockets may be opened, at least 1; the soft limit is raised for them."""
    try:
        import resource
    except ImportError:  # Windows: its own bound is far above
        return wanted
    soft, hard = resource.getrlimit(resource.RLIMIT_NOFILE)
    needed = wanted + _open_now() + _KEPT_FILES
    if soft == resource.RLIM_INFINITY:
        return wanted
    if soft < needed and soft != hard:
        more = needed if hard == resource.RLIM_INFINITY else min(hard, needed)
        try:
            resource.setrlimit(resource.RLIMIT_NOFILE, (more, hard))
            soft = more
        except (OSError, ValueError) as error:
            log.info("open files stay at %d: %s", soft, error)
    return max(1, min(wanted, soft - needed + wanted))


def _open_now() -> int:
    try:
        return sum(1 for _ in Path("/dev/fd").iterdir())
    except OSError:
        return _FEW_FILES // 4
