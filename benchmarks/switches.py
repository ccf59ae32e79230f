"""Switches of 48 ports with 500 MAC addresses each, over SNMPv3: `python benchmarks/switches.py`.

Prints how long `zentrale network check` takes for one and for ten at once, with `snmp_rate` lifted, its peak memory, and the
ratio of ten to one; and, where net-snmp's client is there, of one to that client walking the same tables.
"""

from __future__ import annotations

import os
import resource
import shutil
import subprocess
import sys
import tempfile
import time
from pathlib import Path

SWITCHES = int(sys.argv[1]) if len(sys.argv) > 1 else 10
PORTS, ADDRESSES = 48, 500
PASSWORD, PRIVACY = "read-made-up-1", "hide-made-up-1"
SITE = """\
[site]
name = "Many switches"
timezone = "Europe/London"
[policy]
snmp_rate = 0
[[zones]]
name = "cameras"
vlan = 20
subnet = "127.0.90.0/24"
[[groups]]
name = "all"
main = { resolution = "640x360", fps = 10, bitrate_kbps = 400, keyframe_interval_s = 1 }
[[recorders]]
name = "recorder"
type = "recorder"
zone = "cameras"
switch = "s1"
port = 48
address = "127.0.90.250"
"""
TYPES = """\
[[camera_types]]
name = "larch-2"
maker = "Pallas Yard"
model = "Larch 2"
poe_class = 3
day_w = 6.0
[[switch_types]]
name = "tern-48"
maker = "Orrery"
model = "Tern 48"
ports = 48
poe_ports = 46
poe_budget_w = 600
[[recorder_types]]
name = "recorder"
maker = "Orrery"
model = "Almanac 16"
channels = 16
ingest_mbps = 100
"""
ROOTS = (
    "1.3.6.1.2.1.2.2", "1.3.6.1.2.1.31.1.1", "1.3.6.1.2.1.10.7", "1.3.6.1.2.1.17", "1.0.8802", "1.3.6.1.2.1.105",
    "1.3.6.1.2.1.47", "1.3.6.1.2.1.99",
)  # fmt: skip


def scenario(first: int, number: int) -> str:
    text = 'name = "many"\n'
    for n in range(first, first + number):
        plugs = []
        for port in range(1, PORTS):
            macs = [f"02:5a:{n:02x}:{port:02x}:00:{k:02x}" for k in range(ADDRESSES // (PORTS - 1) + 1)]
            plugs.append(
                f'{{ port = {port}, mac = "{macs[0]}", also = {macs[1:]}, vlan = 20, day_w = 5.0 }}'.replace("'", '"')
            )
        text += f"""
[[switches]]
name = "s{n}"
address = "127.0.90.{n}"
maker = "Orrery"
model = "Tern 48"
firmware = "1.0"
mac = "02:5a:ff:00:00:{n:02x}"
manner = "tern"
ports = {PORTS}
poe_ports = 46
budget_w = 600
users = [{{ user = "reader", password = "{PASSWORD}", privacy = "{PRIVACY}" }}]
plugs = [{", ".join(plugs)}]
"""
    return text


def check(site: Path, *more: str) -> tuple[float, float]:
    """Wall time [s] and peak memory [MB] of one run of the program."""
    began = time.monotonic()
    program = [sys.executable, "-m", "zentrale", "network", "check", "--no-guess", "--json", *more]
    process = subprocess.Popen(program, cwd=site, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL, env=environment())
    told = process.communicate()[0]
    took = time.monotonic() - began
    assert told.count(b'"answers": true') == (1 if more else SWITCHES), told[:2000]
    return took, resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss / 1024


def environment() -> dict[str, str]:
    own = {"ZENTRALE_PASSPHRASE": "four made up words here", "ZENTRALE_PASSWORD": PASSWORD}
    return {**os.environ, **own, "ZENTRALE_PRIVACY_PASSWORD": PRIVACY}


def walked() -> float | None:
    """The same tables of one switch by net-snmp's client [s]; None where it is not installed."""
    client = shutil.which("snmpbulkwalk")
    if client is None:
        return None
    key = ["-v3", "-l", "authPriv", "-u", "reader", "-a", "SHA-256", "-A", PASSWORD, "-x", "AES", "-X", PRIVACY]
    began = time.monotonic()
    for root in ROOTS:
        command = [client, *key, "-Cr50", "-m", "", "-On", "127.0.90.1:1161", root]
        subprocess.run(command, check=True, stdout=subprocess.DEVNULL)
    return time.monotonic() - began


def main() -> None:
    with tempfile.TemporaryDirectory() as folder:
        site = Path(folder) / "site"
        site.mkdir()
        switches = "".join(
            f'[[switches]]\nname = "s{n}"\ncabinet = "hall"\ntype = "tern-48"\n'
            f'management = {{ zone = "cameras", address = "127.0.90.{n}", snmp = "v3", snmp_port = 1161 }}\n'
            for n in range(1, SWITCHES + 1)
        )
        (site / "site.toml").write_text(SITE + switches)
        (site / "types.toml").write_text(TYPES)
        columns = "name,type,group,zone,switch,port,run_length_m,address,mac,recorder,channel"
        (site / "cameras.csv").write_text(f"{columns}\none,larch-2,all,cameras,s1,1,20,,02:5a:01:01:00:00,recorder,1\n")
        agents = []
        for first in range(1, SWITCHES + 1, 5):
            file = Path(folder) / f"scenario-{first}.toml"
            file.write_text(scenario(first, min(5, SWITCHES + 1 - first)))
            command = [
                sys.executable,
                "-m",
                "zentrale",
                "simulate",
                "--with-parent",
                "--quiet",
                "--scenario",
                str(file),
            ]
            agents.append(subprocess.Popen(command, stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True))
        try:
            for agent in agents:
                assert agent.stdout is not None and agent.stdout.readline().startswith("ready")
            for command in (["init"], ["add", "reader", "--snmp"]):
                program = [sys.executable, "-m", "zentrale", "vault", *command]
                subprocess.run(program, cwd=site, env=environment(), check=True, capture_output=True)
            check(site, "--only", "s1")
            one, _ = check(site, "--only", "s1")
            reader = walked()
            many, memory_mb = check(site)
        finally:
            for agent in agents:
                agent.communicate()
    print(f"one switch, {PORTS} ports, {ADDRESSES} addresses: {one:.1f} s")
    print(f"{SWITCHES} switches at once: {many:.1f} s, {memory_mb:.0f} MB")
    print(f"ratio of {SWITCHES} to one: {many / one:.1f}")
    if reader:
        print(f"net-snmp's client for the tables of one: {reader:.1f} s; ratio of one to it: {one / reader:.1f}")


if __name__ == "__main__":
    main()
