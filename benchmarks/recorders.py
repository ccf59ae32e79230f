"""Two stand-in recorders of 48 channels each, all with rules: `python benchmarks/recorders.py`.

Prints how long the recorders' own steps took, from the first to the last entry of the journal, how long the whole registration
took, what a second run changes and how many requests a channel it makes, and the ratio of the two recorders' time to one's.
"""

from __future__ import annotations

import os
import re
import sqlite3
import subprocess
import sys
import tempfile
import time
from datetime import datetime
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent.parent / "tools"))
import recorder_faults as small

CHANNELS = int(sys.argv[1]) if len(sys.argv) > 1 else 48
RULES = 'mode = "motion", before_s = 5, after_s = 20, sub = true, max_days = 28'
STEPS = ("channel", "retention", "tracks", "recording")


def site_of(folder: Path, recorders: int) -> small.Site:
    """Cameras alike, so that their pictures are encoded once."""
    site = small.Site(folder, [small.FULL] * recorders, RULES)
    scenario = small._SCENARIO.format(still="false")
    rows = ["name,type,group,zone,switch,port,run_length_m,address,mac,recorder,channel"]
    for n in range(CHANNELS * recorders):
        name, address, mac = (
            f"c{n + 1}",
            f"127.0.{74 + n // 200}.{n % 200 + 1}",
            f"02:5a:74:00:{n // 200:02x}:{n % 200:02x}",
        )
        text = small._CAMERA.format(name=name, last=11 + n)
        text = re.sub(r'address = ".*"', f'address = "{address}"', text)
        text = re.sub(r'mac = ".*"', f'mac = "{mac}"\nscene = "all"', text)
        scenario += text
        own = f"recorder-{n // CHANNELS + 1},{n % CHANNELS + 1}"
        rows.append(f"{name},larch-2,all,cameras,cabinet,{n + 1},10,{address},{mac},{own}")
    for n in range(recorders):
        text = small._RECORDER.format(name=f"recorder-{n + 1}", last=31 + n).replace("127.0.73.", "127.0.79.")
        scenario += text.replace("channels = 4", f"channels = {CHANNELS}") + small.FULL
    (folder / "scenario.toml").write_text(scenario)
    plan = (
        (folder / "site.toml")
        .read_text()
        .replace('"127.0.73.0/26"', '"127.0.72.0/21"')
        .replace("127.0.73.", "127.0.79.")
    )
    (folder / "site.toml").write_text(
        re.sub(r"port = 1(\d)\n", r"port = 25\1\n", plan).replace("[policy]", "[policy]\nparallel_per_switch = 16")
    )
    types = small._TYPES.replace("channels = 4", f"channels = {CHANNELS}").replace("ports = 16\n", "ports = 300\n")
    (folder / "types.toml").write_text(types.replace("poe_ports = 12", "poe_ports = 250"))
    (folder / "cameras.csv").write_text("\n".join(rows) + "\n")
    return site


def measured(recorders: int) -> float:
    """Seconds from the first to the last change at the recorders."""
    with tempfile.TemporaryDirectory() as folder:
        site = site_of(Path(folder), recorders)
        with site.playing():
            begun = time.monotonic()
            site.set_up()
            whole_s = time.monotonic() - begun
            with sqlite3.connect(Path(folder) / "logbook.sqlite") as log:
                rows = log.execute(f"SELECT at, state FROM done WHERE step IN {STEPS} ORDER BY at").fetchall()
            first, last = (datetime.fromisoformat(rows[n][0]) for n in (0, -1))
            own_s = (last - first).total_seconds()
            env = {**small._environment(), "PYTHONUNBUFFERED": "1"}
            begun = time.monotonic()
            again = subprocess.run(["zentrale", "register", "-vv"], cwd=folder, env=env, capture_output=True, text=True)
            again_s = time.monotonic() - begun
            asked = len(re.findall(r"http://127\.0\.79\.\d+:8080\S* \w+: HTTP", again.stderr))
    channels = CHANNELS * recorders
    changed = re.search(r"(\d+) changes? made|nothing to change", again.stdout)
    print(
        f"{recorders} recorders, {channels} channels: {own_s:.1f} s at the recorders ({len(rows)} changes), "
        f"{whole_s:.1f} s in all; "
        f"second run {again_s:.1f} s, {changed[0] if changed else again.stdout[:200]}, {asked / channels:.1f} requests a channel",
        flush=True,
    )
    return own_s


if __name__ == "__main__":
    os.environ.setdefault("TMPDIR", "/dev/shm" if os.access("/dev/shm", os.W_OK) else tempfile.gettempdir())
    one, two = measured(1), measured(2)
    print(f"two recorders against one: {two / one:.2f}")
