"""Registers the 28 stand-in cameras from fresh, once each alone, once all together; prints the ratio.

Run it as `python benchmarks/registration.py` (in a network of its own, where the system lets it). The limit is the larger of
the slowest camera alone and an eighth of the sum of all alone: the recorders' turns and the program's start are in both.
"""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from zentrale.site.folder import SiteFolder
from zentrale.site.reading import read_plan

PROGRAM = str(Path(sys.executable).with_name("zentrale"))
TOGETHER, SHARE = 1.3, 8
INSIDE = "ZENTRALE_BENCHMARK_INSIDE"


def enter() -> None:
    """Begin again as root of a network of our own."""
    if not os.environ.get(INSIDE):
        users = [] if os.geteuid() == 0 else ["--user", "--map-root-user"]
        os.execvpe("unshare", ["unshare", *users, "--net", sys.executable, *sys.argv], {**os.environ, INSIDE: "1"})
    subprocess.run(["ip", "link", "set", "lo", "up"], check=True)


@contextmanager
def stand_in() -> Iterator[None]:
    process = subprocess.Popen(
        [PROGRAM, "simulate", "--with-parent"], stdin=subprocess.PIPE, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL,
        text=True,
    )  # fmt: skip
    try:
        assert process.stdout is not None and process.stdout.readline().startswith("ready")
        yield
    finally:
        process.terminate()
        process.wait(20)


def run(site: Path, *arguments: str) -> float:
    """Seconds. Raises RuntimeError where it did not go as it should."""
    began = time.monotonic()
    done = subprocess.run(
        [PROGRAM, *arguments, "--site", str(site)], capture_output=True, text=True, stdin=subprocess.DEVNULL
    )
    if done.returncode not in (0, 1):
        raise RuntimeError(f"{arguments}: {done.stdout[-500:]}{done.stderr[-500:]}")
    return time.monotonic() - began


def main() -> None:
    enter()
    os.environ["ZENTRALE_PASSPHRASE"] = "benchmark only 1"
    base = Path(tempfile.mkdtemp(prefix="registration-"))
    site = base / "site"
    subprocess.run([PROGRAM, "new", str(site), "--sample", "brackwater"], check=True, capture_output=True)
    run(site, "vault", "init")
    for password, more in (("Quoin-Paddle-58", ()), ("umbra-1234", ("--factory", "Umbra Works"))):
        os.environ["ZENTRALE_PASSWORD"] = password
        run(site, "vault", "add", "admin", *more)
    names = [c.name for c in read_plan(SiteFolder(site)).cameras]
    alone, together = base / "alone", base / "together"
    with stand_in():
        run(site, "discover")
        shutil.copytree(site, alone)
        each = {name: run(alone, "register", "--only", name, "--quiet") for name in names}
    with stand_in():
        shutil.copytree(site, together)
        all_s = run(together, "register", "--quiet")
    slowest, share = max(each.values()), sum(each.values()) / SHARE
    limit = max(slowest, share)
    print(f"slowest camera alone {slowest:.1f} s, an eighth of the sum of all alone {share:.1f} s")
    print(f"all {len(names)} together {all_s:.1f} s: ratio {all_s / limit:.2f} (wanted {TOGETHER:g} at most)")
    shutil.rmtree(base)


if __name__ == "__main__":
    main()
