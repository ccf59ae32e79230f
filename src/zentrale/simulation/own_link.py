"""A site's devices at the addresses that the plan gives them, on a link in a network of the stand-in's own, and a place for the
laptop on it. Each device answers ARP with its own MAC address; nothing of the person's machine is touched.
"""

from __future__ import annotations

import contextlib
import subprocess
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from ipaddress import IPv4Interface
from pathlib import Path

from zentrale.simulation.own_network import await_own_network, ip, lacking

LAPTOP = "lap0"
_BRIDGE, _DOOR = "site0", "door0"
_CONF = Path("/proc/sys/net/ipv4/conf/all")
# linux, Documentation/networking/ip-sysctl: answer ARP for an address only where it is, and ask as who is there; packets of one
# device may leave by the link of another.
_SETTINGS = {"arp_ignore": "1", "arp_announce": "2", "rp_filter": "0"}


@dataclass(frozen=True)
class Seat:
    """Where a device is on the link."""

    address: IPv4Interface
    mac: str


class OwnLink:
    """Open with the devices' seats and the addresses of the laptop. `start` raises OSError where the system does not give it."""

    def __init__(self, seats: Sequence[Seat], laptop: Sequence[IPv4Interface]) -> None:
        self._seats, self._laptop = seats, laptop
        self._holder: subprocess.Popen[bytes] | None = None

    @property
    def shell(self) -> str:
        """The command that opens a shell at the laptop's place."""
        assert self._holder is not None
        return f"nsenter --preserve-credentials --user --net --target {self._holder.pid}"

    def start(self) -> None:
        why = lacking()
        if why:
            raise OSError(why)
        try:
            for name, value in _SETTINGS.items():
                (_CONF / name).write_text(value)
            self._holder = subprocess.Popen(
                ["unshare", "--net", "cat"], stdin=subprocess.PIPE, stdout=subprocess.DEVNULL
            )
            await_own_network(self._holder.pid)
            ip("link", "add", "name", _BRIDGE, "type", "bridge")
            ip("link", "set", _BRIDGE, "up")
            _batch(line for n, seat in enumerate(self._seats) for line in _cable(n, seat))
            ip("link", "add", "name", _DOOR, "type", "veth", "peer", "name", LAPTOP, "netns", str(self._holder.pid))
            ip("link", "set", _DOOR, "master", _BRIDGE, "up")
            inside = ["nsenter", "-t", str(self._holder.pid), "-n", "ip"]
            lines = [("link", "set", "lo", "up"), *(("addr", "add", str(a), "dev", LAPTOP) for a in self._laptop)]
            for words in (*lines, ("link", "set", LAPTOP, "up")):
                subprocess.run([*inside, *words], check=True, capture_output=True)
        except subprocess.CalledProcessError as error:
            self.stop()
            raise OSError(error.stderr.decode(errors="replace").strip() or str(error)) from None
        except BaseException:
            self.stop()
            raise

    def stop(self) -> None:
        """The laptop's place ends; the links go with the network."""
        holder, self._holder = self._holder, None
        if holder is not None:
            assert holder.stdin is not None
            with contextlib.suppress(OSError):
                holder.stdin.close()
            try:
                holder.wait(timeout=10)
            except subprocess.TimeoutExpired:
                holder.kill()
                holder.wait()


def _cable(number: int, seat: Seat) -> list[str]:
    near, far = f"near{number}", f"far{number}"
    return [
        f"link add name {near} type veth peer name {far} address {seat.mac}",
        f"link set {near} master {_BRIDGE} up",
        f"addr add {seat.address} dev {far}",
        f"link set {far} up",
    ]


def _batch(lines: Iterable[str]) -> None:
    text = "\n".join(lines) + "\n"
    subprocess.run(["ip", "-batch", "-"], input=text.encode(), check=True, capture_output=True)
