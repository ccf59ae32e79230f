"""Walls: twelve of 25 panels, with rounds over 300 cameras of four groups, on machines that do not bear all at its best; CPU time
of `plan_walls` alone, beside that of calculating the traffic of the same plan.

    python benchmarks/walls.py
"""

from __future__ import annotations

import statistics
import tempfile
import time
from pathlib import Path

from zentrale.planning.flows import flows
from zentrale.planning.walls.wall_plan import plan_walls
from zentrale.site.folder import SiteFolder
from zentrale.site.model import Plan
from zentrale.site.reading import read_plan

CAMERAS, WALLS, ROUNDS, WANTED_S = 300, 12, 5, 1.0
GROUPS = (("a", "1920x1080", 25), ("b", "2560x1440", 20), ("c", "3840x2160", 15), ("d", "1280x720", 30))


def site(folder: Path) -> Plan:
    """Each wall: nine panels of one camera, and sixteen rounds of four, of 8, 10 or 12 seconds each."""
    lines = [
        '[site]\nname = "Large"\ntimezone = "Europe/London"\n[[zones]]\nname = "z"\nvlan = 5\nsubnet = "10.5.0.0/16"\n'
    ]
    for name, size, fps in GROUPS:
        lines.append(
            f'[[groups]]\nname = "{name}"\nmain = {{ resolution = "{size}", fps = {fps}, bitrate_kbps = 4000 }}\n'
            'sub = { resolution = "640x360", fps = 10, bitrate_kbps = 400 }\n'
        )
    for n in range(8):
        lines.append(f'[[switches]]\nname = "s{n}"\ncabinet = "c{n}"\ntype = "t48"\n')
        if n:
            lines.append(f'[[links]]\na = "s0:{40 + n}"\nb = "s{n}:48"\nmedium = "copper"\nrate_mbps = 10000\n')
    lines.append(
        '[[recorders]]\nname = "r"\ntype = "r"\nzone = "z"\nswitch = "s0"\nport = 40\naddress = "10.5.250.1"\n'
    )
    for w in range(WALLS):
        lines.append(
            f'[[viewers]]\nname = "v{w}"\nzone = "z"\nswitch = "s0"\nport = {1 + w}\ntype = "m"\nsource = "camera"\n'
            f'[[walls]]\nname = "w{w}"\nviewer = "v{w}"\npixels = [7680, 4320]\nrows = 5\ncolumns = 5\n'
        )
        for p in range(25):
            some = [f"k{(w * 73 + p * 4 + i) % CAMERAS}" for i in range(1 if p < 9 else 4)]
            lines.append(
                f'[[walls.panels]]\npanel = "{p}"\nrow = {1 + p // 5}\ncolumn = {1 + p % 5}\nseconds = {(8, 10, 12)[p % 3]}\n'
                f"cameras = {some!r}\npriority = {1 + p % 3}\n".replace("'", '"')
            )
    (folder / "site.toml").write_text("".join(lines))
    rows = ["name,shows,type,group,zone,switch,port,run_length_m,address,recorder,channel"]
    rows += [
        f"k{n},x,k,{GROUPS[n % 4][0]},z,s{1 + n // 46},{1 + n % 46},20,10.5.{1 + n // 200}.{1 + n % 200},r,{n + 1}"
        for n in range(CAMERAS)
    ]
    (folder / "cameras.csv").write_text("\n".join(rows))
    (folder / "types.toml").write_text(
        '[[camera_types]]\nname = "k"\nmaker = "Orrery"\nmodel = "K"\npoe_class = 3\nday_w = 6\n'
        '[[switch_types]]\nname = "t48"\nmaker = "Orrery"\nmodel = "T"\nports = 48\npoe_ports = 46\npoe_budget_w = 700\n'
        '[[recorder_types]]\nname = "r"\nmaker = "Orrery"\nmodel = "R"\nchannels = 512\ningest_mbps = 4000\n'
        '[[viewer_types]]\nname = "m"\nhardware = [{ codec = "H264", pixels_per_s = 900e6, frames_per_s = 600 }]\n'
        'software = [{ codec = "H264", pixels_per_s = 120e6 }]\nmemory_mb = 4096\n'
    )
    return read_plan(SiteFolder(folder))


def main() -> None:
    with tempfile.TemporaryDirectory() as name:
        plan = site(Path(name))
        took: list[float] = []
        beside: list[float] = []
        for _ in range(ROUNDS):
            plan.kept.clear()
            begun = time.process_time()
            result = plan_walls(plan)
            took.append(time.process_time() - begun)
            begun = time.process_time()
            flows(plan)
            beside.append(time.process_time() - begun)
        less = sum(v.offer.sharpness < v.wished.sharpness for w in result.walls for v in w.panels)
        first, rest = took[0], statistics.median(took[1:])
        panels = sum(len(w.panels) for w in result.walls)
        print(f"{len(result.walls)} walls, {panels} panels, {less} of them less sharp than their size")
        print(f"{first:.2f} s of CPU time with the solver loaded, {rest:.2f} s again; wanted at most {WANTED_S:g} s")
        print(f"ratio {rest / max(1e-6, statistics.median(beside)):.1f} to what flows where in the same plan")


if __name__ == "__main__":
    main()
