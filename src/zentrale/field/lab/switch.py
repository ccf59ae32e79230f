"""A switch: an Open vSwitch of its own in a namespace, in user space, set by the commands that a real one would be given."""

from __future__ import annotations

import shutil
import subprocess
import time
from pathlib import Path

from zentrale.errors import LabError
from zentrale.field.lab.namespaces import Lack, Namespace

_SCHEMA = Path("/usr/share/openvswitch/vswitch.ovsschema")
_UP_WITHIN_S, _LOADED_WITHIN_S = 10.0, 60.0
_TRACED = 'sh -x "$0" 2>&1 | grep "^+ " | tail -n 1'  # the last command that was begun
TOOLS = ("ovsdb-server", "ovs-vswitchd", "ovs-vsctl", "ovs-ofctl", "ovs-appctl", "ovsdb-tool")


def lacks() -> list[Lack]:
    """What is missing for software switches."""
    if any(shutil.which(tool) is None for tool in TOOLS) or not _SCHEMA.exists():
        return [Lack("Open vSwitch", "install it (Debian: apt-get install openvswitch-switch)")]
    if not Path("/dev/net/tun").exists():
        return [Lack("/dev/net/tun", "load the module tun")]
    return []


class LabSwitch:
    """Runs until it is stopped, as if its power went."""

    def __init__(self, space: Namespace, folder: Path) -> None:
        self.space = space
        self._folder = folder
        folder.mkdir()
        self.environment = {
            "OVS_RUNDIR": str(folder), "OVS_DBDIR": str(folder), "OVS_LOGDIR": str(folder), "OVS_SYSCONFDIR": str(folder),
            "DATAPATH": "netdev",
        }  # fmt: skip
        self._processes: list[subprocess.Popen[bytes]] = []

    def start(self) -> None:
        """Raises LabError. Its tables are empty after it was off, as its commands find it."""
        database, socket = self._folder / "conf.db", self._folder / "db.sock"
        for kind in ("sock", "pid", "ctl", "mgmt", "snoop"):
            for left in self._folder.glob(f"*.{kind}"):  # of when it was on before
                left.unlink()
        if not database.exists():
            self.space.call("ovsdb-tool", "create", str(database), str(_SCHEMA), env=self.environment)
        self._begin("ovsdb-server", str(database), f"--remote=punix:{socket}")
        self._wait_for(socket)
        self.space.call("ovs-vsctl", "--no-wait", "init", env=self.environment)
        self._begin("ovs-vswitchd", f"unix:{socket}", "--disable-system")

    def _begin(self, tool: str, *arguments: str) -> None:
        process = self.space.start(
            tool,
            *arguments,
            f"--pidfile={self._folder / tool}.pid",
            log=self._folder / f"{tool}.out",
            env=self.environment,
        )
        self._processes.append(process)

    def _wait_for(self, path: Path) -> None:
        end = time.monotonic() + _UP_WITHIN_S
        while not path.exists():
            if time.monotonic() > end:
                raise LabError(f"Open vSwitch did not come up in {self.space.name}")
            time.sleep(0.01)

    def load(self, script: Path) -> None:
        """Run the commands of a file, byte for byte as it was written. Raises LabError, with the line that was refused."""
        try:
            self.space.call("sh", str(script), env=self.environment, within_s=_LOADED_WITHIN_S)
        except LabError as error:
            if "does not end" in str(error):
                raise
            told = self.space.call("sh", "-c", _TRACED, str(script), env=self.environment, within_s=_LOADED_WITHIN_S)
            begun = told.removeprefix("+ ").split()
            lines = enumerate(script.read_text(errors="replace").splitlines(), 1)
            line = next((number for number, text in lines if begun and text.split()[:5] == begun[:5]), None)
            raise LabError(f"{error} (at line {line} of {script})" if line else str(error)) from None

    def tell(self, *command: str, text: str = "") -> str:
        """One of its own tools."""
        return self.space.call(*command, text=text, env=self.environment)

    def run(self, script: Path, log: Path, **more: str) -> subprocess.Popen[bytes]:
        """The commands of a file that go on, until they are ended. Raises LabError."""
        return self.space.start("sh", str(script), log=log, env={**self.environment, **more})

    def has_tree(self, bridge: str) -> bool:
        return self.tell("ovs-vsctl", "get", "Bridge", bridge, "rstp_enable").strip() == "true"

    def unsettled(self, bridge: str) -> list[str]:
        """Ports that its spanning tree has not yet decided on (IEEE 802.1Q clause 13.37): they are to forward, and do not yet."""
        told = self.tell("ovs-appctl", "rstp/show", bridge)
        rows = [line.split() for line in told.splitlines()]
        return [
            r[0] for r in rows if len(r) >= 3 and r[1] in ("Root", "Designated") and r[2] in ("Discarding", "Learning")
        ]

    def forget(self, bridge: str, learned_table: int) -> None:
        """What was learned while ports were not yet as they stay: addresses, and rules of that table."""
        self.tell("ovs-appctl", "fdb/flush", bridge)
        self.tell("ovs-ofctl", "-O", "OpenFlow13", "del-flows", bridge, f"table={learned_table}")

    def stop(self) -> None:
        """At once, as if its power went."""
        for process in self._processes:
            process.kill()
            process.wait()
        self._processes.clear()
