"""Fixtures: the installed program, site folders, and running stand-in sites."""

from __future__ import annotations

import contextlib
import ctypes
import fcntl
import gc
import io
import json
import logging
import os
import re
import shutil
import socket
import ssl
import struct
import subprocess
import sys
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from datetime import datetime, timedelta
from pathlib import Path
from typing import Any

import pytest
from cryptography import x509
from cryptography.hazmat.primitives import hashes
from cryptography.hazmat.primitives.asymmetric import ec
from cryptography.hazmat.primitives.serialization import Encoding, NoEncryption, PrivateFormat
from hypothesis import settings
from xdist.scheduler import LoadScopeScheduling

from zentrale.cli.main import main
from zentrale.errors import EXIT_DEFECT
from zentrale.logbook import vault

DATA = Path(__file__).parent / "data"
PROGRAM = str(Path(sys.executable).with_name("zentrale"))
PASSPHRASE = "test passphrase"
SECRETS = ("factory-1234", "installer-1", PASSPHRASE)

# Vaults of the tests are made with the lowest cost that is taken; one test looks at the real one.
vault.SCRYPT_LOG2_N = 10


def _own_network() -> bool:
    """Give this process a network of its own, where the system lets it: two test processes, or two runs of the tests,
    then never meet. Only loopback is in it.
    """
    try:
        if ctypes.CDLL(None).unshare(0x40000000) != 0:  # CLONE_NEWNET of sched.h
            return False
        with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as sock:  # SIOCSIFFLAGS with IFF_UP and IFF_RUNNING
            fcntl.ioctl(sock, 0x8914, struct.pack("16sH14x", b"lo", 0x1 | 0x40))
    except (AttributeError, OSError):  # not Linux, or not allowed
        return False
    return True


OWN_NETWORK = _own_network()
os.environ.pop("COLUMNS", None)  # the test runner's own; output is as wide as a pipe's where no test says otherwise
INSIDE = "TESTS_IN_A_USER_NAMESPACE"
settings.register_profile("default", deadline=None, max_examples=150)
settings.load_profile("default")

SITE = """\
[site]
name = "Small site"
timezone = "Europe/London"
[policy]
sweep_ports = [8080, 8554]
cords_m = 0
cable_category = "6"
# A loaded test machine sends unevenly: these tests are about other things.
fps_tolerance_percent = 60
jitter_ms = 5000
[[zones]]
name = "cameras"
vlan = 71
subnet = "127.0.71.0/27"
[[groups]]
name = "all"
main = { resolution = "320x180", fps = 10, bitrate_kbps = 300, keyframe_interval_s = 1 }
sub = { resolution = "160x96", fps = 5, bitrate_kbps = 64, keyframe_interval_s = 1 }
[[switches]]
name = "cabinet"
cabinet = "hall"
type = "switch-8"
management = { zone = "cameras", address = "127.0.71.8" }
[[recorders]]
name = "recorder"
type = "recorder-4"
zone = "cameras"
switch = "cabinet"
port = 9
address = "127.0.71.21"
mac = "02:5a:71:00:00:21"
http_port = 8080
"""
TYPES = """\
[[camera_types]]
name = "larch-2"
maker = "Pallas Yard"
model = "Larch 2"
poe_class = 3
day_w = 6.0
max_resolution = "1920x1080"
[[camera_types]]
name = "vesper-d4"
maker = "Umbra Works"
model = "Vesper D4"
poe_class = 3
day_w = 6.0
night_w = 9.0
max_resolution = "1920x1080"
[[switch_types]]
name = "switch-8"
maker = "Orrery"
model = "Tern 10P"
ports = 10
poe_ports = 8
poe_budget_w = 60
[[recorder_types]]
name = "recorder-4"
maker = "Orrery"
model = "Almanac 16"
channels = 4
ingest_mbps = 40
"""
CAMERAS = """\
name,shows,type,group,zone,switch,port,run_length_m,address,mac,recorder,channel
north,north door,larch-2,all,cameras,cabinet,1,20,127.0.71.11,02:5a:71:00:00:11,recorder,1
south,south door,vesper-d4,all,cameras,cabinet,2,30,127.0.71.12,,recorder,3
"""


@dataclass(frozen=True)
class Result:
    """What one run of the program gave."""

    code: int
    out: str
    err: str

    @property
    def json(self) -> Any:
        return json.loads(self.out)

    @property
    def all(self) -> str:
        return self.out + self.err


def environment(**extra: str) -> dict[str, str]:
    kept = {k: v for k, v in os.environ.items() if not k.startswith("ZENTRALE_") or k == "ZENTRALE_CACHE"}
    return {**kept, "ZENTRALE_PASSPHRASE": PASSPHRASE, **extra}


def program(*arguments: str, cwd: Path | None = None, timeout_s: float = 120, **extra: str) -> Result:
    """Run the installed program in a process of its own: for what only a process shows. It must never show a traceback."""
    done = subprocess.run(
        [PROGRAM, *arguments], cwd=cwd, env=environment(**extra), capture_output=True, text=True, timeout=timeout_s,
        stdin=subprocess.DEVNULL, check=False,
    )  # fmt: skip
    assert "Traceback" not in done.stderr, done.stderr
    return Result(done.returncode, done.stdout, done.stderr)


def zentrale(*arguments: str, cwd: Path | None = None, **extra: str) -> Result:
    """The same program in this process, from its arguments to its exit code: starting a process costs more than most
    commands do. It must never end by an exception.
    """
    out, err = io.StringIO(), io.StringIO()
    root = logging.getLogger()
    with (
        pytest.MonkeyPatch.context() as patch,
        contextlib.chdir(cwd or Path.cwd()),
        contextlib.redirect_stdout(out),
        contextlib.redirect_stderr(err),
        Path(os.devnull).open() as nobody,
    ):
        patch.setattr(os, "environ", environment(**extra))
        patch.setattr(sys, "stdin", nobody)
        patch.setattr(root, "handlers", [])  # so that the command sets up its own
        level = root.level
        try:
            code = main(arguments)
        except SystemExit as end:  # how argparse ends
            code = end.code if isinstance(end.code, int) else 2
        finally:
            root.setLevel(level)
    assert code != EXIT_DEFECT and "Traceback" not in err.getvalue(), err.getvalue()
    return Result(code, out.getvalue(), err.getvalue())


def measured(*arguments: str, cwd: Path, **extra: str) -> Result:
    """What `verify` says. Where it says that this machine came late, it is measured again, as the program advises."""
    shown = zentrale("verify", *arguments, cwd=cwd, **extra)
    for _ in range(5):
        if not re.search("STR-(17|38)", shown.out):
            break
        shown = zentrale("verify", *arguments, cwd=cwd, **extra)
    return shown


def make_site(folder: Path, site: str = SITE, cameras: str = CAMERAS, types: str = TYPES) -> Path:
    folder.mkdir(parents=True, exist_ok=True)
    (folder / "site.toml").write_text(site)
    (folder / "cameras.csv").write_text(cameras)
    (folder / "types.toml").write_text(types)
    return folder


def make_vault(folder: Path) -> None:
    assert zentrale("vault", "init", cwd=folder).code == 0
    add = ("vault", "add", "admin")
    assert zentrale(*add, "--label", "installer", cwd=folder, ZENTRALE_PASSWORD="installer-1").code == 0
    assert zentrale(*add, "--factory", "Umbra Works", cwd=folder, ZENTRALE_PASSWORD="factory-1234").code == 0


def everything_below(folder: Path) -> bytes:
    """All that lies in a site folder but the vault."""
    return b"".join(p.read_bytes() for p in folder.rglob("*") if p.is_file() and p.name != "vault.bin")


def certificate(folder: Path, name: str) -> ssl.SSLContext:
    """A server's context with a certificate of its own making, as devices have them."""
    key = ec.generate_private_key(ec.SECP256R1())
    subject = x509.Name([x509.NameAttribute(x509.NameOID.COMMON_NAME, name)])
    start = datetime(1970, 1, 1)  # made before its clock was set
    made = (
        x509.CertificateBuilder().subject_name(subject).issuer_name(subject).public_key(key.public_key())
        .serial_number(x509.random_serial_number()).not_valid_before(start).not_valid_after(start + timedelta(days=1))
        .sign(key, hashes.SHA256())
    )  # fmt: skip
    pem = made.public_bytes(Encoding.PEM) + key.private_bytes(Encoding.PEM, PrivateFormat.PKCS8, NoEncryption())
    (folder / f"{name}.pem").write_bytes(pem)
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
    context.load_cert_chain(folder / f"{name}.pem")
    return context


@pytest.fixture
def site(tmp_path: Path) -> Path:
    """A site folder without a vault."""
    drives = "http_port = 8080\nstorage = { drives = 1, drive_tb = 4 }\n"
    return make_site(tmp_path / "site", SITE.replace("http_port = 8080\n", drives))


@pytest.fixture
def ready_site(site: Path) -> Path:
    """A site folder with a vault that holds the candidates."""
    make_vault(site)
    return site


# Files whose tests bind fixed loopback addresses or the port of the discovery probe: one after the other, where the test
# processes share a network.
ON_THE_WIRE = {
    "test_commissioning.py",
    "test_registration.py",
    "test_field.py",
    "test_stand_in.py",
    "test_steps.py",
    "test_growth.py",
    "test_discovery.py",
    "test_first_day.py",
}
# One after the other: whole networks of this machine's own, since two at once take its time from each other; and what reads all
# modules, which is read once then.
TOGETHER = {"test_rehearsal.py": "lab", "test_work_sheets.py": "lab", "test_architecture.py": "modules"}
LONGEST_FIRST = (
    "test_rehearsal.py", "test_work_sheets.py", "test_diagnosing.py", "test_help.py", "test_commissioning.py", "test_together.py",
    "test_hostile.py",
    "test_rotation.py", "test_recorders.py", "test_steps.py",
)  # fmt: skip


class _Scheduling(LoadScopeScheduling):  # type: ignore[misc]  # the package tells no types
    """Each test wherever there is time; those on the wire one after the other, where they could meet."""

    def _split_scope(self, nodeid: str) -> str:
        file = Path(nodeid.partition("::")[0]).name
        if file in TOGETHER:
            return TOGETHER[file]
        if OWN_NETWORK:
            return nodeid
        return "wire" if file in ON_THE_WIRE else file if file == "test_hostile.py" else nodeid


def pytest_configure(config: pytest.Config) -> None:
    """An ordinary user may have a network of his own inside a user namespace: the whole run is begun again in one."""
    tool = shutil.which("unshare")
    if OWN_NETWORK or hasattr(config, "workerinput") or tool is None or os.environ.get(INSIDE):
        return
    inside = [tool, "--user", "--map-root-user"]
    if subprocess.run([*inside, "--net", "true"], capture_output=True, check=False).returncode == 0:
        capture = config.pluginmanager.getplugin("capturemanager")
        capture.suspend_global_capture(in_=True)
        arguments = [*inside, sys.executable, "-m", "pytest", *map(str, config.invocation_params.args)]
        os.execve(tool, arguments, {**os.environ, INSIDE: "1"})


def pytest_xdist_make_scheduler(config: pytest.Config, log: object) -> LoadScopeScheduling:
    return _Scheduling(config, log)


def pytest_collection_modifyitems(items: list[pytest.Item]) -> None:
    """What takes longest begins first, so that no process waits for the other at the end."""
    order = {name: number for number, name in enumerate(LONGEST_FIRST)}
    items.sort(key=lambda item: order.get(item.path.name, len(order)))
    gc.freeze()  # what was collected stays to the end: nobody looks through it again


StartStandIn = Callable[[Path], None]


@pytest.fixture(scope="session")
def stand_in_process() -> Iterator[Callable[[str], str]]:
    """One process of the program for all stand-in sites of a run: it is told scenario files and says when they run."""
    process: list[subprocess.Popen[str]] = []

    def tell(order: str) -> str:
        if not process:
            begin = [PROGRAM, "simulate", "--with-parent", "--quiet", "--scenario", order]
            pipe = subprocess.PIPE
            process.append(subprocess.Popen(begin, env=environment(), stdin=pipe, stdout=pipe, text=True))
        else:
            process[0].stdin.write(order + "\n")  # type: ignore[union-attr]  # a pipe
            process[0].stdin.flush()  # type: ignore[union-attr]
        return process[0].stdout.readline()  # type: ignore[union-attr]

    yield tell
    for begun in process:
        begun.communicate(timeout=20)  # closes its stdin
        assert begun.returncode == 0, "the stand-in ends when its parent does"


@pytest.fixture
def start_stand_in(stand_in_process: Callable[[str], str]) -> Iterator[StartStandIn]:
    """Starts the site of a scenario file in its first state; its addresses are free again after the test."""

    def start(scenario: Path) -> None:
        assert stand_in_process(str(scenario)).startswith("ready: ")

    yield start
    assert stand_in_process("") == "no devices run\n"


@pytest.fixture
def stand_in(start_stand_in: StartStandIn) -> Iterator[None]:
    """The small stand-in site, in its first state."""
    start_stand_in(DATA / "small.toml")
    yield
