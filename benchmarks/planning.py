"""Planning at scale: sites of growing size, CPU time and memory of each part of `plan`, and how the cost grows.

The largest is measured against n log n from the smallest: a ratio near 1 or below means that nothing is quadratic.
"""

from __future__ import annotations

import math
import multiprocessing
import tempfile
import time
import tracemalloc
from concurrent.futures import ProcessPoolExecutor
from pathlib import Path

from zentrale.jobs.parts.part_registry import load
from zentrale.jobs.planning import calculate
from zentrale.site.folder import SiteFolder
from zentrale.site.reading import read_plan

SIZES = (250, 500, 1000, 2000, 4000)
PARTS = ("power", "traffic", "storage", "zones", "addresses", "ports", "multicast", "resilience", "detail", "materials")
PER_SWITCH, PER_RECORDER = 17, 100

TYPES = """\
[[camera_types]]
name = "cam"
maker = "Orrery"
model = "Meridian 2"
poe_class = 3
day_w = 6
night_w = 9
max_resolution = "1920x1080"
view_deg = 66
[[switch_types]]
name = "access"
maker = "Orrery"
model = "Tern 28P"
ports = 28
poe_ports = 24
poe_budget_w = 370
[[switch_types]]
name = "core"
maker = "Orrery"
model = "Tern 512X"
ports = 512
port_rate_mbps = 10000
[[recorder_types]]
name = "rec"
maker = "Orrery"
model = "Almanac 128"
channels = 128
ingest_mbps = 1000
"""


def make(folder: Path, cameras: int) -> SiteFolder:
    """A star of access switches around one core, recorders at the core."""
    switches, recorders = -(-cameras // PER_SWITCH), -(-cameras // PER_RECORDER)
    stream = '{ resolution = "1920x1080", fps = 15, bitrate_kbps = 3000 }'
    storage = '{ drives = 16, drive_tb = 18, redundancy = "6" }'
    parts = [
        '[site]\nname = "scale"\ntimezone = "Europe/London"\n[[zones]]\nname = "cameras"\nvlan = 20\nsubnet = "10.20.0.0/16"',
        '[[viewers]]\nname = "wall"\nzone = "cameras"\nswitch = "core"\nport = 500\nsource = "camera"\nmulticast = true\n'
        'stream = "main"\npanels = 64\n[[viewers]]\nname = "desk"\nzone = "cameras"\nswitch = "core"\nport = 501\npanels = 64',
        f'[[groups]]\nname = "all"\nmain = {stream}\n[[switches]]\nname = "core"\ncabinet = "core"\ntype = "core"',
    ]
    for n in range(switches):
        parts.append(f'[[switches]]\nname = "s{n}"\ncabinet = "c{n}"\ntype = "access"')
        parts.append(f'[[links]]\na = "s{n}:28"\nb = "core:{n + 1}"\nrate_mbps = 1000')
    for n in range(recorders):
        parts.append(
            f'[[recorders]]\nname = "r{n}"\ntype = "rec"\nzone = "cameras"\nswitch = "core"\nport = {switches + n + 1}\n'
            f'address = "10.20.255.{n + 2}"\nstorage = {storage}'
        )
    rows = [
        "name,type,group,zone,switch,port,run_length_m,recorder,channel,x_m,y_m,height_m,heading_deg,tilt_deg,target_m,wants"
    ]
    for n in range(cameras):
        switch, port = divmod(n, PER_SWITCH)
        recorder, channel = divmod(n, PER_RECORDER)
        rows.append(
            f"cam-{n},cam,all,cameras,s{switch},{port + 1},{20 + n % 60},r{recorder},{channel + 1},"
            f"{n % 50 * 15},{n // 50 * 15},4,{n * 37 % 360},12,12,observe"
        )
    (folder / "site.toml").write_text("\n".join(parts))
    (folder / "types.toml").write_text(TYPES)
    (folder / "cameras.csv").write_text("\n".join(rows) + "\n")
    return SiteFolder(folder)


def seconds_of(folder: SiteFolder, *parts: str) -> float:
    """CPU time of these parts alone, on a plan that nothing was worked out of yet."""
    plan = read_plan(folder)
    started = time.process_time()
    calculate(plan, parts)
    return time.process_time() - started


def whole(folder: SiteFolder) -> float:
    """CPU time from the files to all parts, in a process of its own: what several parts need is worked out once, and
    nothing is left from a run before.
    """
    with ProcessPoolExecutor(1, multiprocessing.get_context("spawn")) as process:
        return process.submit(_whole, folder.path).result()


def _whole(path: Path) -> float:
    for part in PARTS:
        load(part)  # what Python takes to load the program is no calculation
    folder = SiteFolder(path)
    started = time.process_time()
    calculate(read_plan(folder), PARTS)
    return time.process_time() - started


def main() -> None:
    totals: dict[int, float] = {}
    print(
        f"{'cameras':>8} {'switches':>8} {'read':>8} "
        + " ".join(f"{p:>10}" for p in PARTS)
        + f" {'total':>8} {'peak':>9}"
    )
    for size in SIZES:
        with tempfile.TemporaryDirectory() as name:
            folder = make(Path(name), size)
            started = time.process_time()
            plan = read_plan(folder)
            read_s = time.process_time() - started
            parts = {part: min(seconds_of(folder, part) for _ in range(2)) for part in PARTS}
            totals[size] = min(whole(folder) for _ in range(2))
        tracemalloc.start()
        calculate(plan, PARTS)
        peak = tracemalloc.get_traced_memory()[1]
        tracemalloc.stop()
        cells = " ".join(f"{parts[part]:9.2f}s" for part in PARTS)
        print(f"{size:8} {len(plan.switches):8} {read_s:7.2f}s {cells} {totals[size]:7.2f}s {peak / 1e6:6.0f} MB")
    small, large = SIZES[0], SIZES[-1]
    growth = totals[large] / totals[small]
    n_log_n = large * math.log(large) / (small * math.log(small))
    print(
        f"from {small} to {large} cameras: cost x {growth:.1f}, n log n would be x {n_log_n:.1f}; ratio {growth / n_log_n:.2f}"
    )


if __name__ == "__main__":
    main()
