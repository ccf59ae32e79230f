"""Runs pairs of commands on one site at the same time, and looks whether anything was lost.

    python tools/together.py --rounds 100

The devices are stand-ins in this process, with no streams; the commands are the installed program. After each round
every password that a device has must be in the vault, whichever command came first, and what each command was to leave
behind must be there. Prints a line a pair, and exits with 1 where a round lost something.
"""

from __future__ import annotations

import argparse
import asyncio
import logging
import os
import random
import shutil
import sys
import tempfile
import time
from collections.abc import Awaitable, Callable
from dataclasses import dataclass
from pathlib import Path

from zentrale.jobs.discovery.discovering import last_devices
from zentrale.logbook import vault as vault_module
from zentrale.logbook.store import Logbook
from zentrale.logbook.vault import Vault
from zentrale.logbook.vault_contents import Candidate
from zentrale.protocols.http_auth import Credentials
from zentrale.simulation import http_server
from zentrale.simulation.camera import SimulatedCamera
from zentrale.simulation.onvif_device import OnvifDevice
from zentrale.simulation.recorder import SimulatedRecorder
from zentrale.simulation.rtsp_server import CameraConnection, RtspServer
from zentrale.simulation.scenario import Account, Camera, Encoder, Recorder
from zentrale.site.folder import SiteFolder
from zentrale.site.reading import read_plan

PROGRAM = str(Path(sys.executable).with_name("zentrale"))
PASSPHRASE, NEWER = "together in a boat", "another boat entirely"
CANDIDATE, ADDED = "installer-1", "added-meanwhile-1"
SITE = """\
[site]
name = "Two at once"
timezone = "Europe/London"
[policy]
sweep_ports = [8080]
[[zones]]
name = "cameras"
vlan = 75
subnet = "127.0.75.0/28"
[[groups]]
name = "all"
main = { resolution = "320x180", fps = 10, bitrate_kbps = 300 }
[[switches]]
name = "cabinet"
cabinet = "hall"
type = "switch-8"
[[recorders]]
name = "recorder"
type = "recorder-4"
zone = "cameras"
switch = "cabinet"
port = 9
address = "127.0.75.9"
http_port = 8080
"""
TYPES = """\
[[camera_types]]
name = "larch-2"
maker = "Pallas Yard"
model = "Larch 2"
day_w = 6.0
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
name,type,group,zone,switch,port,run_length_m,address,recorder,channel
north,larch-2,all,cameras,cabinet,1,20,127.0.75.1,recorder,1
south,larch-2,all,cameras,cabinet,2,20,127.0.75.2,recorder,2
east,larch-2,all,cameras,cabinet,3,20,,recorder,3
"""
ENCODER = Encoder.model_validate({"resolution": "160x96", "fps": 5, "bitrate_kbps": 64, "govlength": 5})


@dataclass(frozen=True)
class Done:
    code: int
    text: str


class Round:
    """One round: fresh devices and a fresh site on which everything was discovered."""

    def __init__(self, folder: Path, devices: list[OnvifDevice]) -> None:
        self.site = SiteFolder(folder)
        self.devices = devices

    async def run(self, *command: str, password: str = "", feed_after: Awaitable[object] | None = None) -> Done:
        """Run the program; with `feed_after` its password comes by a pipe, once that is over."""
        environment = {**os.environ, "ZENTRALE_PASSPHRASE": PASSPHRASE}
        arguments, descriptors = list(command), []
        read = write = -1
        if feed_after is not None:
            read, write = os.pipe()
            arguments += ["--new-fd" if command[1] == "passphrase" else "--password-fd", str(read)]
            descriptors = [read]
        process = await asyncio.create_subprocess_exec(
            PROGRAM, *arguments, cwd=self.site.path, env=environment, pass_fds=descriptors,
            stdin=asyncio.subprocess.DEVNULL, stdout=asyncio.subprocess.PIPE, stderr=asyncio.subprocess.STDOUT,
        )  # fmt: skip
        if feed_after is not None:
            os.close(read)
            await feed_after
            os.write(write, f"{password}\n".encode())
            os.close(write)
        out, _ = await process.communicate()
        return Done(process.returncode or 0, out.decode())

    def lost(self, passphrase: str = PASSPHRASE) -> list[str]:
        """Devices with a password that is nowhere in the vault."""
        contents = Vault.open(self.site.vault_file, passphrase).contents
        kept = {c.credentials for c in contents.candidates} | {e.credentials for e in contents.devices.values()}
        kept |= {f.entry.credentials for f in contents.former} | set(contents.accounts.values())
        return [d.config.name for d in self.devices for c in d.credentials() if c not in kept]


async def both(first: Awaitable[Done], second: Awaitable[Done]) -> tuple[Done, Done]:
    """Both at once, the second up to half a second later: the moments at which they meet differ from round to round."""

    async def later() -> Done:
        await asyncio.sleep(random.uniform(0, 0.5))
        return await second

    return await asyncio.gather(first, later())


def went(done: Done) -> bool:
    """`register` did all its steps; the camera that was never found is told, and is no step."""
    return done.code in (0, 1) and "no step failed" in done.text


def wrong(*checks: tuple[bool, str]) -> list[str]:
    return [text for good, text in checks if not good]


async def register_register(r: Round) -> list[str]:
    one, two = await both(r.run("register", "--only", "north"), r.run("register", "--only", "south"))
    return wrong((went(one) and went(two), f"{one.text}\n{two.text}"), (r.lost() == [], f"lost: {r.lost()}"),
                 (not any(d.fresh for d in r.devices[:2]), "a camera has no password"))  # fmt: skip


async def vault_add_register(r: Round) -> list[str]:
    """The password is typed only after `register` has ended."""
    registering = asyncio.ensure_future(r.run("register"))
    added = await r.run("vault", "add", "admin", "--label", "later", password=ADDED, feed_after=registering)
    done = await registering
    labels = [c.label for c in Vault.open(r.site.vault_file, PASSPHRASE).contents.candidates]
    return wrong((went(done) and added.code == 0, done.text + added.text), (r.lost() == [], f"lost: {r.lost()}"),
                 ("later" in labels, "the added candidate is gone"))  # fmt: skip


async def register_verify(r: Round) -> list[str]:
    one, two = await both(r.run("register"), r.run("verify", "--seconds", "1"))
    return wrong((went(one), one.text), (two.code in (0, 1, 3), two.text), (r.lost() == [], f"lost: {r.lost()}"))


async def verify_handover(r: Round) -> list[str]:
    one, two = await both(r.run("verify", "--seconds", "1"), r.run("handover"))
    with Logbook(r.site.logbook_file) as log:
        runs = len(log.runs("verify"))
    page = r.site.output / "handover" / "index.html"
    return wrong((one.code in (0, 1, 3) and runs == 1, one.text), (two.code in (0, 1), two.text),
                 (page.exists() and page.read_text().rstrip().endswith("</html>"), "the page is not whole"))  # fmt: skip


async def assign_discover(r: Round) -> list[str]:
    one, two = await both(r.run("assign", "east", "127.0.75.3"), r.run("discover", "--wait", "0.1"))
    with Logbook(r.site.logbook_file) as log:
        east = last_devices(read_plan(r.site), log).get("east")
    return wrong((one.code == 0, one.text), (two.code in (0, 1), two.text),
                 (east is not None and east.address == "127.0.75.3", "the binding is gone"))  # fmt: skip


async def passphrase_register(r: Round) -> list[str]:
    moment = asyncio.ensure_future(asyncio.sleep(random.uniform(0.3, 1.5)))
    one, two = await asyncio.gather(r.run("vault", "passphrase", password=NEWER, feed_after=moment), r.run("register"))
    told = two.code in (0, 1) or (two.code == 2 and ("passphrase was changed" in two.text or "wrong pass" in two.text))
    return wrong((one.code == 0, one.text), (told, two.text), (r.lost(NEWER) == [], f"lost: {r.lost(NEWER)}"))


PAIRS: dict[str, Callable[[Round], Awaitable[list[str]]]] = {
    "register/register": register_register,
    "vault add/register": vault_add_register,
    "register/verify": register_verify,
    "verify/handover": verify_handover,
    "assign/discover": assign_discover,
    "passphrase/register": passphrase_register,
}


def make_devices() -> list[OnvifDevice]:
    def camera(number: int, *accounts: Account) -> SimulatedCamera:
        return SimulatedCamera(Camera(
            name=f"c{number}", address=f"127.0.75.{number}", maker="Pallas Yard", model="Larch 2", firmware="1",
            serial=f"T-75{number}", mac=f"02:5a:75:00:00:0{number}", accounts=accounts, main=ENCODER, sub=ENCODER,
            answers_probes=False,
        ))  # fmt: skip

    ours = Account(user="admin", password=CANDIDATE)
    recorder = SimulatedRecorder(Recorder(
        name="r", address="127.0.75.9", maker="Orrery", model="Almanac 16", firmware="1", serial="T-759",
        mac="02:5a:75:00:00:09", channels=4, accounts=(ours,), answers_probes=False,
    ))  # fmt: skip
    return [camera(1), camera(2), camera(3), recorder]


async def play(pair: str, rounds: int, base: Path) -> list[str]:
    """All rounds of one pair; what was wrong, a line each."""
    template = base / "template"
    problems: list[str] = []
    for number in range(rounds):
        devices = make_devices()
        servers = [await http_server.serve(d.handle, d.config.address, d.config.http_port) for d in devices]
        streams = [RtspServer(d, CameraConnection) for d in devices if isinstance(d, SimulatedCamera)]
        try:
            for stream in streams:
                await stream.start()
            if not template.exists():
                make_site(template)
                await Round(template, devices).run("discover", "--wait", "0.1")
            folder = base / "round"
            shutil.rmtree(folder, ignore_errors=True)
            shutil.copytree(template, folder)
            found = await PAIRS[pair](Round(folder, devices))
            problems += [f"{pair}, round {number + 1}: {text}" for text in found]
        finally:
            for device in devices:
                if isinstance(device, SimulatedRecorder):
                    await device.close()
            for stream in streams:
                await stream.close()
            for server in servers:
                server.close()
    return problems


def make_site(folder: Path) -> None:
    folder.mkdir()
    for name, text in (("site.toml", SITE), ("types.toml", TYPES), ("cameras.csv", CAMERAS)):
        (folder / name).write_text(text)
    vault_module.SCRYPT_LOG2_N = 10  # the cost of a guess is not what is tried here
    vault = Vault.create(folder / "vault.bin", PASSPHRASE)
    vault.add_candidate(Candidate(Credentials("admin", CANDIDATE), "installer"))


def main() -> int:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--rounds", type=int, default=100, help="of each pair (default: 100)")
    parser.add_argument("--only", choices=list(PAIRS), action="append", help="only this pair")
    args = parser.parse_args()
    logging.getLogger("asyncio").setLevel(logging.ERROR)  # a stand-in whose client was ended goes on sending a moment
    failed = False
    with tempfile.TemporaryDirectory() as base:
        for pair in args.only or PAIRS:
            started = time.monotonic()
            problems = asyncio.run(play(pair, args.rounds, Path(base)))
            failed |= bool(problems)
            took = time.monotonic() - started
            print(f"{pair:<22} {args.rounds} rounds, {len(problems)} with a loss, {took:.0f} s", flush=True)
            for text in problems:
                print(f"  {text}")
    return 1 if failed else 0


if __name__ == "__main__":
    sys.exit(main())
