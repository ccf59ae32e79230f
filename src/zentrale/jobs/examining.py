"""What of this machine is missing for which command, and what to do about it."""

from __future__ import annotations

import importlib.util
import shutil
import socket
import subprocess
import sys
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from pathlib import Path

from zentrale.field.adapters import list_adapters
from zentrale.field.lab import servers, switch

_GROUP = "239.255.255.250"  # of WS-Discovery
_FEW_FILES, _FEW_BYTES = 1024, 1 << 20


@dataclass(frozen=True)
class Examined:
    """One thing: `found` in words, `needed_for` the commands that want it, `advice` where it is not `well`."""

    what: str
    well: bool
    found: str
    needed_for: str
    advice: str = ""


def examine() -> Iterator[Examined]:
    """Each thing asked of the system itself; nothing is sent beyond this machine."""
    for look in (_adapters, _loopback, _multicast, _files, _buffers, _rights, _namespaces, _fonts, _switch, _git):
        yield from look()


def _adapters() -> Iterator[Examined]:
    real = [a for a in list_adapters() if not a.loopback]
    names = ", ".join(str(a) for a in real) or "none but loopback"
    yield Examined("network adapter", bool(real), names, "discover, register, verify",
                   "plug in the cable or switch the adapter on; the demo needs none")  # fmt: skip


def _loopback() -> Iterator[Examined]:
    taken = _tried(lambda: socket.create_server(("127.0.20.11", 0)).close())
    yield Examined("loopback addresses", taken is None, taken or "127.0.0.0/8 can be used", "demo, simulate",
                   "on macOS: sudo ifconfig lo0 alias 127.0.20.11, and so on; `zentrale simulate` prints the lines")  # fmt: skip


def _multicast() -> Iterator[Examined]:
    def joined() -> None:
        with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as sock:
            mreq = socket.inet_aton(_GROUP) + socket.inet_aton("0.0.0.0")
            sock.setsockopt(socket.IPPROTO_IP, socket.IP_ADD_MEMBERSHIP, mreq)

    refused = _tried(joined)
    yield Examined("multicast", refused is None, refused or "groups can be joined", "discover (probes), verify of groups",
                   "allow multicast on the adapter and in the firewall; discover finds by its sweep all the same")  # fmt: skip


def _files() -> Iterator[Examined]:
    try:
        import resource
    except ImportError:  # Windows has no such limit
        return
    soft, _ = resource.getrlimit(resource.RLIMIT_NOFILE)
    many = soft == resource.RLIM_INFINITY or soft >= _FEW_FILES
    yield Examined("open files", many, f"{soft} at once", "discover of large networks, verify of many streams",
                   "ulimit -n 4096 before the command")  # fmt: skip


def _buffers() -> Iterator[Examined]:
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as sock:
        sock.setsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF, 8 << 20)
        given = sock.getsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF)
    yield Examined("receive buffers", given >= _FEW_BYTES, f"{given // 1024} kB", "verify of many streams over UDP",
                   "sudo sysctl net.core.rmem_max=8388608; over TCP it does not matter")  # fmt: skip


def _rights() -> Iterator[Examined]:
    if not sys.platform.startswith("linux"):
        return
    refused = _tried(lambda: socket.socket(socket.AF_PACKET, socket.SOCK_RAW, 0).close())
    yield Examined("raw packets", refused is None, refused or "allowed", "discover (asks by ARP first; slower without)",
                   f"sudo setcap cap_net_raw+ep {sys.executable}, or begin the command with sudo")  # fmt: skip


def _fonts() -> Iterator[Examined]:
    place = importlib.util.find_spec("matplotlib")
    folder = Path(place.origin).parent / "mpl-data" / "fonts" / "ttf" if place is not None and place.origin else Path()
    there = (folder / "DejaVuSans.ttf").exists()
    yield Examined("fonts", there, "DejaVu Sans" if there else "not there", "plan --figures, handover, pictures of verify",
                   "install matplotlib again, with its data")  # fmt: skip


def _namespaces() -> Iterator[Examined]:
    if not sys.platform.startswith("linux"):
        return
    command = shutil.which("unshare")
    asked = [] if command is None else [command, "--user", "--map-root-user", "--net", "true"]
    allowed = bool(asked) and subprocess.run(asked, capture_output=True, check=False).returncode == 0
    yield Examined("network of its own", allowed, "can be made" if allowed else "not allowed", "demo (apart from all else)",
                   "allow user namespaces (sysctl kernel.unprivileged_userns_clone=1); the demo runs without, too")  # fmt: skip


def _switch() -> Iterator[Examined]:
    """What a rehearsal of the network is built of. It can only be installed while there is a network."""
    for what, tools, missing in (
        ("Open vSwitch", "ovs-vswitchd", switch.lacks()), ("nftables, dnsmasq", "nft, dnsmasq", servers.lacks()),
    ):  # fmt: skip
        advice = "; ".join(f"{lack.what}: {lack.advice}" for lack in missing)
        yield Examined(
            what, not missing, f"{tools} are there" if not missing else "not installed", "network rehearse", advice
        )

    tool = servers.radius_tool()
    yield Examined("RADIUS server", bool(tool), f"{tool} is there" if tool else "not installed", "network rehearse",
                   "install it (Debian: apt-get install freeradius); who is let in at a port is not tried without")  # fmt: skip


def _git() -> Iterator[Examined]:
    there = shutil.which("git")
    yield Examined("git", there is not None, there or "not installed", "plan --against REVISION",
                   "install git; older folders are compared without it")  # fmt: skip


def _tried(action: Callable[[], object]) -> str | None:
    """What the system says against it; None where it works."""
    try:
        action()
    except OSError as error:
        return error.strerror or str(error)
    return None
