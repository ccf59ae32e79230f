"""What stands beside the devices of a laboratory: DHCP and RADIUS servers, rules for packets."""

from __future__ import annotations

import shutil
import subprocess
import time
from pathlib import Path

from zentrale.errors import LabError
from zentrale.field.lab.namespaces import Lack, Namespace, call
from zentrale.protocols import radius

_UP_WITHIN_S = 5.0


def lacks() -> list[Lack]:
    return [
        Lack(tool, f"install it (Debian: apt-get install {package})")
        for tool, package in (("nft", "nftables"), ("dnsmasq", "dnsmasq-base"))
        if shutil.which(tool) is None
    ]


def lacks_rules() -> bool:
    return any(lack.what == "nft" for lack in lacks())


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


RADIUS_SECRET = b"rehearsal"  # of a server that nobody else can reach
_RADIUS = """\
name = rehearsal
raddbdir = {folder}
logdir = {folder}
run_dir = {folder}
pidfile = {folder}/pid
libdir = {library}
log {{ destination = stdout }}
client all {{
  ipaddr = 127.0.0.1
  secret = {secret}
}}
modules {{
  files {{ filename = {file} }}
  pap {{ }}
}}
server default {{
  listen {{
    type = auth
    ipaddr = 127.0.0.1
    port = {port}
  }}
  authorize {{
    files
    pap
  }}
  authenticate {{
    Auth-Type PAP {{
      pap
    }}
  }}
}}
"""


def radius_tool() -> str:
    """FreeRADIUS, by whichever of its two names it has here; empty where there is none."""
    return next((tool for tool in ("freeradius", "radiusd") if shutil.which(tool)), "")


class RadiusServer:
    """FreeRADIUS with a users file as it was written, at the loopback address of this process' own namespace. Raises LabError."""

    def __init__(self, file: Path, folder: Path) -> None:
        folder.mkdir(exist_ok=True)
        library = next(
            (p for p in map(Path, ("/usr/lib/freeradius", "/usr/lib64/freeradius")) if p.is_dir()), Path("/usr/lib")
        )
        text = _RADIUS.format(
            folder=folder, library=library, secret=RADIUS_SECRET.decode(), file=file, port=radius.PORT
        )
        (folder / "radiusd.conf").write_text(text)
        (folder / "dictionary").write_text("$INCLUDE /usr/share/freeradius/dictionary\n")
        call("ip", "link", "set", "lo", "up")
        self._log = folder / "radius.out"
        with self._log.open("wb") as log:
            self._process = subprocess.Popen(
                [radius_tool(), "-f", "-l", "stdout", "-x", "-d", str(folder), "-n", "radiusd"],
                stdin=subprocess.DEVNULL, stdout=log, stderr=log,
            )  # fmt: skip
        end = time.monotonic() + _UP_WITHIN_S
        while "Ready to process requests" not in (told := self._log.read_text(errors="replace")):
            if self._process.poll() is not None or time.monotonic() > end:
                self.stop()
                raise LabError(f"{radius_tool()} did not come up: {' '.join(told.split()[-24:])}")
            time.sleep(0.02)

    def stop(self) -> None:
        self._process.kill()
        self._process.wait()
