"""Network namespaces (namespaces(7)) and virtual cables between them (veth(4)), inside a user namespace of our own.

All of it ends with the process that holds it: nothing is left on the machine, and several stand beside each other.
"""

from __future__ import annotations

import contextlib
import ctypes
import fcntl
import os
import shutil
import signal
import socket
import struct
import subprocess
import sys
from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import NoReturn

from zentrale.errors import InputError, LabError

INSIDE = "ZENTRALE_REHEARSAL"  # set for the process that was begun again inside
_PR_SET_PDEATHSIG = 1  # linux/prctl.h
_CLONE_NEWNET = 0x40000000  # linux/sched.h
_OWN = ("--user", "--map-root-user", "--net", "--mount", "--pid", "--fork", "--kill-child", "--mount-proc")
_SIOCETHTOOL, _STXCSUM = 0x8946, 0x17  # linux/sockios.h, linux/ethtool.h


_libc = ctypes.CDLL(None, use_errno=True)


@dataclass(frozen=True)
class Lack:
    """What of this machine is missing, for what, and what to do about it."""

    what: str
    advice: str


def lacks() -> list[Lack]:
    """What keeps a laboratory from being built here; empty where it can be."""
    if sys.platform != "linux":
        return [Lack("network namespaces", "rehearse on a Linux machine, or in a virtual one")]
    found = [
        Lack(tool, f"install it (Debian: apt-get install {package})")
        for tool, package in (("unshare", "util-linux"), ("ip", "iproute2"))
        if shutil.which(tool) is None
    ]
    if found:
        return found
    tried = subprocess.run(["unshare", *_OWN, "true"], capture_output=True, text=True, check=False)
    if tried.returncode:
        why = tried.stderr.strip().splitlines()[-1:] or ["it was refused"]
        return [
            Lack(
                f"user namespaces ({why[0]})",
                "let users make them (sysctl kernel.unprivileged_userns_clone=1), or run as root",
            )
        ]
    return []


def is_inside() -> bool:
    """Whether this process was begun inside: it is the first one of its namespace then. The mark alone may be left over."""
    return bool(os.environ.get(INSIDE)) and os.getpid() == 1


def begin_inside(arguments: Sequence[str]) -> NoReturn:
    """Begin this program again inside namespaces of its own, and end as it does. Raises InputError where there are none.

    All of it goes at once when this process is ended, whoever by: the first process inside hears no signal of others but SIGKILL.
    """
    missing = lacks()
    if missing:
        raise InputError(f"{missing[0].what}: missing for a rehearsal", missing[0].advice)
    tool = shutil.which("unshare") or "unshare"
    sys.stdout.flush()
    sys.stderr.flush()
    inside = subprocess.Popen(
        [tool, *_OWN, sys.executable, "-m", "zentrale", *arguments],
        env={**os.environ, INSIDE: "1"},
        preexec_fn=_end_with_parent,
    )

    ended_by: list[int] = []

    def end(number: int, frame: object) -> None:
        ended_by.append(number)
        os.kill(inside.pid, signal.SIGKILL)

    for number in (signal.SIGTERM, signal.SIGHUP):
        signal.signal(number, end)
    signal.signal(signal.SIGINT, signal.SIG_IGN)  # the terminal tells the program inside, too
    code = inside.wait()
    for signal_number in ended_by:  # as any other program would
        signal.signal(signal_number, signal.SIG_DFL)
        os.kill(os.getpid(), signal_number)
    sys.exit(code if code >= 0 else 128 - code)


def _end_with_parent() -> None:
    _libc.prctl(_PR_SET_PDEATHSIG, signal.SIGKILL)
    signal.signal(signal.SIGINT, signal.SIG_DFL)


def make_room() -> Path:
    """Inside: a place for what belongs to this rehearsal alone, which nobody else sees and which goes with it. Raises LabError
    anywhere else, where it would hide what the machine itself needs.
    """
    if not is_inside():
        raise LabError("not in namespaces of its own")
    run = Path("/run")
    call("mount", "-t", "tmpfs", "-o", "mode=755", "tmpfs", str(run))
    (run / "netns").mkdir()
    return run


def call(*command: str, text: str = "", env: Mapping[str, str] | None = None, within_s: float | None = None) -> str:
    """A program, and what it said. Raises LabError where it fails, or does not end within the time that is given."""
    try:
        done = subprocess.run(
            command,
            timeout=within_s,
            input=text,
            capture_output=True,
            text=True,
            check=False,
            env=None if env is None else {**os.environ, **env},
        )
    except OSError as error:
        raise LabError(f"{command[0]}: {error.strerror or error}") from None
    except subprocess.TimeoutExpired:
        raise LabError(f"{' '.join(command[:6])}: does not end within {within_s:.0f} s") from None
    if done.returncode:
        said = (done.stderr or done.stdout).strip().splitlines()[:2]
        raise LabError(f"{' '.join(command[:6])}: {' '.join(said) or f'ended with {done.returncode}'}")
    return done.stdout


class Namespace:
    """One network namespace; what is opened while one is inside it stays in it."""

    def __init__(self, name: str) -> None:
        self.name = name
        self._handle = os.open(f"/run/netns/{name}", os.O_RDONLY | os.O_CLOEXEC)

    @contextmanager
    def inside(self) -> Iterator[None]:
        """This thread within it. Sockets opened meanwhile belong to it for good."""
        outer = os.open("/proc/thread-self/ns/net", os.O_RDONLY | os.O_CLOEXEC)
        try:
            _set_namespace(self._handle)
            yield
        finally:
            _set_namespace(outer)
            os.close(outer)

    def call(
        self, *command: str, text: str = "", env: Mapping[str, str] | None = None, within_s: float | None = None
    ) -> str:
        """A program within it; what it said. Raises LabError where it fails, or does not end within the time that is given."""
        try:
            with self.inside():
                return call(*command, text=text, env=env, within_s=within_s)
        except LabError as error:
            raise LabError(f"in {self.name}: {error}") from None

    def start(self, *command: str, log: Path, env: Mapping[str, str] | None = None) -> subprocess.Popen[bytes]:
        """A program that stays, and ends with us. Raises LabError where it is not there."""
        try:
            with self.inside(), log.open("wb") as file:
                return subprocess.Popen(
                    command, stdin=subprocess.DEVNULL, stdout=file, stderr=file, env={**os.environ, **(env or {})}
                )
        except OSError as error:
            raise LabError(f"{command[0]}: {error.strerror or error}") from None

    def set(self, key: str, value: str) -> None:
        """A setting below /proc/sys/net."""
        with self.inside():
            Path(f"/proc/sys/net/{key}").write_text(value)


def whole_checksums(interface: str) -> None:
    """Packets leave with their checksums: a bridge in user space does not put them in, as hardware would."""
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as asked:
        value = ctypes.create_string_buffer(struct.pack("II", _STXCSUM, 0))
        with contextlib.suppress(OSError):  # an older kernel: then it is seen that nothing arrives
            fcntl.ioctl(asked, _SIOCETHTOOL, struct.pack("16sP", interface.encode(), ctypes.addressof(value)))


def _set_namespace(handle: int) -> None:
    if _libc.setns(handle, _CLONE_NEWNET) != 0:
        number = ctypes.get_errno()
        raise LabError(f"setns: {os.strerror(number)}")


@dataclass(frozen=True)
class End:
    """One end of a cable: in which namespace, and what the interface is called there."""

    space: str
    interface: str
    mac: str = ""


def build(names: Sequence[str], cables: Sequence[tuple[End, End]]) -> dict[str, Namespace]:
    """The namespaces with their cables plugged in and up. Raises LabError."""
    lines = [f"netns add {name}" for name in names]
    for number, (a, b) in enumerate(cables):
        lines.append(f"link add c{number}a type veth peer name c{number}b")
        lines += [f"link set c{number}{side} netns {end.space}" for side, end in (("a", a), ("b", b))]
    call("ip", "-batch", "-", text="\n".join([*lines, ""]))
    spaces = {name: Namespace(name) for name in names}
    by_space: dict[str, list[str]] = {name: [] for name in names}
    for number, ends in enumerate(cables):
        for side, end in zip("ab", ends, strict=True):
            mac = f" address {end.mac}" if end.mac else ""
            by_space[end.space] += [
                f"link set c{number}{side} name {end.interface}{mac}",
                f"link set {end.interface} up",
            ]
    for name, commands in by_space.items():
        spaces[name].call("ip", "-batch", "-", text="\n".join([*commands, ""]))
    for end in (end for ends in cables for end in ends):
        with spaces[end.space].inside():
            whole_checksums(end.interface)
    return spaces
