"""Discovery: the sweep of a /24 with two live hosts beside `nmap -sT -T4` by an ordinary user, the memory of a /20, and 500
stand-in devices. Networks are namespaces of this benchmark's own (Linux, iproute2, user namespaces or root).

    python benchmarks/discovery.py

Prints what each took, and the ratio. Where there is no nmap, its line is left out.
"""

from __future__ import annotations

import json
import os
import re
import resource
import shutil
import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path

PORTS, ROUNDS, WANTED = (80, 443, 554, 8080), 3, 0.7
INSIDE = "ZENTRALE_BENCHMARK_INSIDE"
PROGRAM = str(Path(sys.executable).with_name("zentrale"))


def enter() -> None:
    """Begin again as root of a network of our own."""
    if not os.environ.get(INSIDE):
        users = [] if os.geteuid() == 0 else ["--user", "--map-root-user"]
        os.execvpe("unshare", ["unshare", *users, "--net", sys.executable, *sys.argv], {**os.environ, INSIDE: "1"})


def link(prefix: int) -> subprocess.Popen[bytes]:
    """A cable to a machine that has 10.40.0.11 and 10.40.0.12; we are 10.40.0.250."""
    far = subprocess.Popen(["unshare", "--net", "sleep", "600"])
    time.sleep(0.3)
    for line in (
        "link set lo up", "link add name near type veth peer name far", f"link set far netns {far.pid}",
        f"addr add 10.40.0.250/{prefix} brd + dev near", "link set near up",
    ):  # fmt: skip
        subprocess.run(["ip", *line.split()], check=True)
    for line in (f"addr add 10.40.0.11/{prefix} dev far", f"addr add 10.40.0.12/{prefix} dev far", "link set far up"):
        subprocess.run(["nsenter", "-t", str(far.pid), "-n", "ip", *line.split()], check=True)
    time.sleep(1.5)
    return far


def swept(network: str, *, by_arp: bool) -> tuple[float, float, int]:
    """Wall time [s] and memory [MB] of a process of its own that sweeps, and how many hosts it found."""
    begin = [sys.executable, __file__, "--sweep", network, "arp" if by_arp else "tcp"]
    started = time.perf_counter()
    told = json.loads(subprocess.run(begin, check=True, capture_output=True, text=True).stdout)
    return time.perf_counter() - started, told["memory_mb"], told["hosts"]


def sweep_here(network: str, *, by_arp: bool) -> None:
    import asyncio

    from zentrale.field import arp
    from zentrale.field.adapters import list_adapters
    from zentrale.field.sweep import hosts, networks_of, sweep

    adapter = next(a for a in list_adapters() if a.name == "near")
    addresses = hosts(networks_of(network))
    there = arp.who_is_there(adapter, addresses) if by_arp else None
    result = asyncio.run(sweep(list(there) if there is not None else addresses, PORTS, lambda _: None))
    memory = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024
    print(json.dumps({"memory_mb": memory, "hosts": len({*result.open, *result.refused} - {adapter.address})}))


def beside_nmap() -> None:
    far = link(24)
    try:
        for way in ("tcp", "arp"):
            times = [swept("10.40.0.0/24", by_arp=way == "arp") for _ in range(ROUNDS)]
            print(f"/24 by {way}: {statistics.median(t for t, _, _ in times):.2f} s, {times[0][2]} hosts found")
            if way == "tcp":
                ours = statistics.median(t for t, _, _ in times)
        if shutil.which("nmap") is None:
            print("nmap is not installed: no ratio")
            return
        user = ["setpriv", "--reuid", "65534", "--regid", "65534", "--clear-groups"] if os.getuid() == 0 else []
        command = [*user, "nmap", "-sT", "-T4", "-n", "-p", ",".join(map(str, PORTS)), "10.40.0.0/24"]
        theirs = []
        for _ in range(ROUNDS):
            subprocess.run(["ip", "neigh", "flush", "dev", "near"], check=True)
            started = time.perf_counter()
            subprocess.run(command, check=True, capture_output=True)
            theirs.append(time.perf_counter() - started)
        ratio = ours / statistics.median(theirs)
        print(
            f"nmap -sT -T4: {statistics.median(theirs):.2f} s; ratio {ratio:.2f} without ARP, wanted at most {WANTED:g}"
        )
    finally:
        far.kill()
        far.wait()


def large() -> None:
    far = link(20)
    try:
        for way in ("arp", "tcp"):
            seconds, memory, number = swept("10.40.0.0/20", by_arp=way == "arp")
            print(f"/20 by {way}: {seconds:.1f} s, {memory:.0f} MB (wanted at most 100), {number} hosts found")
    finally:
        far.kill()
        far.wait()


def five_hundred() -> None:
    """Half in the range swept; the other half can only be heard."""
    extra = {"ZENTRALE_PASSPHRASE": "a passphrase for this benchmark", "ZENTRALE_PASSWORD": "made-up-1"}
    simulating = subprocess.Popen(
        [PROGRAM, "simulate", "--cameras", "500", "--with-parent"],
        stdin=subprocess.PIPE,
        stdout=subprocess.PIPE,
        text=True,
    )
    assert simulating.stdout is not None and simulating.stdin is not None
    simulating.stdout.readline()
    with tempfile.TemporaryDirectory() as folder:
        site = Path(folder) / "site"
        for words in (["new", str(site)], ["vault", "init"], ["vault", "add", "admin", "--label", "load"]):
            where = site if site.exists() else Path(folder)
            subprocess.run([PROGRAM, *words], cwd=where, env={**os.environ, **extra}, check=True, capture_output=True)
        started = time.perf_counter()
        done = subprocess.run(
            [PROGRAM, "discover", "--range", "127.0.40.0/24", "--json"], cwd=site, env={**os.environ, **extra}, text=True,
            capture_output=True, check=False,
        )  # fmt: skip
        seconds, memory = time.perf_counter() - started, resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss / 1024
        devices = json.loads(done.stdout)["devices"]
        entered = sum(d["state"] == "known password" for d in devices)
    status = Path(f"/proc/{simulating.pid}/status").read_text()
    theirs = re.search(r"VmHWM:\s+(\d+)", status)
    simulating.communicate()
    print(
        f"500 devices: {len(devices)} found and {entered} entered in {seconds:.1f} s (wanted 120), at most {memory:.0f} MB "
        f"(wanted 250); the stand-in took {int(theirs[1]) // 1024 if theirs else 0} MB"
    )


def main() -> None:
    if sys.argv[1:2] == ["--sweep"]:
        sweep_here(sys.argv[2], by_arp=sys.argv[3] == "arp")
        return
    enter()
    beside_nmap()
    large()
    five_hundred()


if __name__ == "__main__":
    main()
