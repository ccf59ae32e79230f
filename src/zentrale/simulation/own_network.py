"""A network of its own for the stand-in site, where the system gives one without rights (Linux user and network
namespaces): two demos on one machine do not meet, and nothing of the person's own network hears them.
"""

from __future__ import annotations

import contextlib
import os
import shutil
import socket
import struct
import subprocess
import sys
import time
from collections.abc import Sequence
from pathlib import Path

INSIDE = "ZENTRALE_OWN_NETWORK"  # set for the process that was begun again inside
_READY_S = 20.0
_SIOCSIFFLAGS, _IFF_UP, _IFF_RUNNING = 0x8914, 0x1, 0x40  # linux/sockios.h, net/if.h


def enter(arguments: Sequence[str]) -> None:
    """Begin this program again inside a network of its own, in the same process; returns where there is none to be had,
    and inside it, with loopback up.
    """
    if os.environ.get(INSIDE):
        _bring_up_loopback()
        return
    tool = shutil.which("unshare") if sys.platform == "linux" else None
    if tool is None:
        return
    inside = [tool, "--user", "--map-root-user", "--net"]
    if subprocess.run([*inside, "true"], capture_output=True, check=False).returncode != 0:
        return
    sys.stdout.flush()
    os.execve(tool, [*inside, sys.executable, "-m", "zentrale", *arguments], {**os.environ, INSIDE: "1"})


def _bring_up_loopback() -> None:
    import fcntl

    with contextlib.suppress(OSError), socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as sock:
        fcntl.ioctl(sock, _SIOCSIFFLAGS, struct.pack("16sH14x", b"lo", _IFF_UP | _IFF_RUNNING))


def lacking() -> str:
    """What keeps links from being made here; empty where nothing does."""
    if not os.environ.get(INSIDE):
        return "only in a network of the stand-in's own"
    missing = [tool for tool in ("ip", "unshare", "nsenter") if shutil.which(tool) is None]
    return f"not installed: {', '.join(missing)}" if missing else ""


def ip(*words: str) -> None:
    subprocess.run(["ip", *words], check=True, capture_output=True)


def await_own_network(pid: int) -> None:
    """Until the process has left ours. Raises OSError."""
    end = time.monotonic() + _READY_S
    while Path(f"/proc/{pid}/ns/net").readlink() == Path("/proc/self/ns/net").readlink():
        if time.monotonic() > end:
            raise OSError("a network of its own did not come about")
        time.sleep(0.02)
