"""Start-up: `zentrale --help` beside a bare argparse program that shows its help, in turns. Prints the ratio.

Run with the Python that has zentrale installed: `python benchmarks/startup.py`.
"""

from __future__ import annotations

import statistics
import subprocess
import sys
import time
from pathlib import Path

ROUNDS = 25
WANTED = 1.3
BARE = "import argparse; argparse.ArgumentParser(description='x').parse_args(['--help'])"


def seconds(command: list[str]) -> float:
    started = time.perf_counter()
    subprocess.run(command, stdout=subprocess.DEVNULL, check=True)
    return time.perf_counter() - started


def main() -> None:
    program = str(Path(sys.executable).with_name("zentrale"))
    bare, ours = [], []
    for _ in range(ROUNDS):
        bare.append(seconds([sys.executable, "-c", BARE]))
        ours.append(seconds([program, "--help"]))
    # The least of each: what it costs where nothing else gets in the way.
    ratio = min(ours) / min(bare)
    print(
        f"bare argparse, --help:          {min(bare) * 1000:6.1f} ms (median {statistics.median(bare) * 1000:.1f} ms)"
    )
    print(
        f"zentrale --help:                {min(ours) * 1000:6.1f} ms (median {statistics.median(ours) * 1000:.1f} ms)"
    )
    print(f"ratio {ratio:.2f}, wanted at most {WANTED:g}")


if __name__ == "__main__":
    main()
