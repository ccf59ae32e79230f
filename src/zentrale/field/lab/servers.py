"""What stands beside the devices of a laboratory: DHCP servers, rules for packets, whoever asks for multicast groups."""

from __future__ import annotations

import contextlib
import shutil
import socket
import threading
import time
from pathlib import Path

from zentrale.field.lab.namespaces import LabError, Lack, Namespace
from zentrale.protocols import frames

_UP_WITHIN_S = 5.0


def lacks() -> list[Lack]:
    return [
        Lack(tool, f"install it (Debian: apt-get install {package})")
        for tool, package in (("nft", "nftables"), ("dnsmasq", "dnsmasq-base"))
        if shutil.which(tool) is None
    ]


def load_rules(space: Namespace, file: Path) -> None:
    """A file for nftables, as it was written. Raises LabError."""
    space.call("nft", "-f", str(file))


class DhcpServer:
    """dnsmasq with a file as it was written, on one interface."""

    def __init__(self, space: Namespace, interface: str, file: Path, folder: Path) -> None:
        folder.mkdir(exist_ok=True)
        self._log = folder / "dnsmasq.out"
        self._process = space.start(
            "dnsmasq", "-d", "--user=root", f"--conf-file={file}", f"--interface={interface}", "--bind-dynamic",
            f"--dhcp-leasefile={folder / 'leases'}", "--pid-file", "--except-interface=lo", log=self._log,
        )  # fmt: skip
        self._wait()

    def _wait(self) -> None:
        end = time.monotonic() + _UP_WITHIN_S
        while "started" not in (told := self._log.read_text(errors="replace")):
            if self._process.poll() is not None or time.monotonic() > end:
                raise LabError(f"dnsmasq did not come up: {' '.join(told.split()[-20:])}")
            time.sleep(0.02)

    def stop(self) -> None:
        self._process.kill()
        self._process.wait()


class Querier:
    """Asks at one interface who listens to any group (IGMP version 2), every second, as the router of a zone does every 125 s
    (RFC 2236 section 8.2).
    """

    def __init__(self, space: Namespace, interface: str, address: str) -> None:
        with space.inside():
            self._sock = socket.socket(socket.AF_PACKET, socket.SOCK_RAW, 0)
            self._sock.bind((interface, 0))
        mac = self._sock.getsockname()[4].hex(":")
        self._frame = frames.igmp_query(mac, address)
        self._stop = threading.Event()
        self._thread = threading.Thread(target=self._run, daemon=True)
        self._thread.start()

    def _run(self) -> None:
        while not self._stop.is_set():
            with contextlib.suppress(OSError):  # its switch is off
                self._sock.send(self._frame)
            self._stop.wait(1.0)

    def stop(self) -> None:
        self._stop.set()
        self._thread.join()
        self._sock.close()
