"""Which process wrote something, and whether it still runs: what a killed one left open is known by that."""

from __future__ import annotations

import os
from functools import cache
from pathlib import Path

import psutil

_SELF = Path("/proc/self")


@cache
def this_process() -> str:
    """This process among all that ever ran on this machine: host, number and, where the system tells it, when it began."""
    host = os.uname().nodename if hasattr(os, "uname") else ""
    return f"{host} {os.getpid()} {_begun(os.getpid())}".rstrip()


def lives(process: str) -> bool:
    """Whether that process still runs. One on another machine (a shared folder) is not known: it is left alone."""
    host, _, rest = process.partition(" ")
    number, _, begun = rest.partition(" ")
    if not number.isdigit():
        return False
    if host != this_process().partition(" ")[0]:
        return True
    if begun and (told := _begun(int(number))):
        return told == begun
    return _there(int(number))


def _begun(number: int) -> str:
    """When it began [s since 1970]; empty where it is gone, or where /proc is hidden or of other processes than ours."""
    if _SELF.parent.exists() and not _is_ours():
        return ""
    try:
        return f"{psutil.Process(number).create_time():.2f}"
    except (psutil.Error, OSError, ValueError):
        return ""


def _is_ours() -> bool:
    """Whether /proc counts processes as this one does: it may be of another PID namespace."""
    try:
        return _SELF.readlink().name == str(os.getpid())
    except OSError:
        return False


def _there(number: int) -> bool:
    """Whether a process of this number runs: the kernel's own answer, which needs no /proc."""
    if os.name != "posix":
        return psutil.pid_exists(number)
    try:
        os.kill(number, 0)
    except PermissionError:
        return True
    except (OSError, OverflowError):
        return False
    return True
