"""What recorders keep, read from stand-ins with an archive of 30 days: `python benchmarks/recordings.py`.

Prints how long two recorders of 48 channels take to be read and how much memory that takes, against one; 16 channels at one
moment against one channel; and how many times faster than it was recorded a film is saved.
"""

from __future__ import annotations

import os
import subprocess
import sys
import tempfile
import time
from datetime import UTC, datetime, timedelta
from pathlib import Path

import recorders

sys.path.insert(0, str(Path(__file__).parent.parent / "tools"))
import recorder_faults as small

CHANNELS, DAYS = recorders.CHANNELS, 30
ON_MIN, OFF_MIN = 230, 10  # six spans a day and channel
AT_ONCE, FILM_S = 16, 600


def run(folder: Path, *words: str) -> tuple[float, float]:
    """Seconds, and the most memory that it had at once [MB]."""
    begun = time.monotonic()
    process = subprocess.Popen(
        ["zentrale", *words, "--quiet", "--json"],
        cwd=folder,
        env=small._environment(),
        stdout=subprocess.DEVNULL,
    )
    _, status, used = os.wait4(process.pid, 0)
    process.returncode = os.waitstatus_to_exitcode(status)
    if process.returncode not in (0, 1):
        raise SystemExit(f"zentrale {' '.join(words)} ended with {process.returncode}")
    return time.monotonic() - begun, used.ru_maxrss / 1024


def archive(folder: Path, number: int) -> small.Site:
    """Recorders alone: the cameras are in the plan, and none is played."""
    site = recorders.site_of(folder, number)
    scenario = (folder / "scenario.toml").read_text()
    head, first, rest = scenario.partition("[[recorders]]")
    channels = list(range(1, CHANNELS + 1))
    seed = f"seed_archive = {{ days = {DAYS}, on_min = {ON_MIN}, off_min = {OFF_MIN}, channels = {channels} }}\n"
    rest = rest.replace("dynamic_recordings = true\n", seed)
    (folder / "scenario.toml").write_text(head.partition("[[cameras]]")[0] + first + rest)
    return site


def read(number: int) -> float:
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        site = archive(folder, number)
        with site.playing():
            for words in (("vault", "init"), ("vault", "add", "admin", "--label", "installer")):
                subprocess.run(
                    ["zentrale", *words],
                    cwd=folder,
                    env=small._environment(),
                    check=True,
                    capture_output=True,
                )
            run(folder, "discover", *(f"recorder-{n + 1}" for n in range(number)))
            taken_s, most_mb = run(folder, "recordings")
            print(
                f"{number} recorders, {number * CHANNELS} channels, {DAYS} days of {ON_MIN} min each {ON_MIN + OFF_MIN} min: "
                f"{taken_s:.1f} s, {most_mb:.0f} MB", flush=True,
            )  # fmt: skip
            if number > 1:
                play_and_save(folder)
    return taken_s


def play_and_save(folder: Path) -> None:
    day = datetime.now(UTC).replace(hour=0, minute=0, second=0, microsecond=0) - timedelta(days=3)
    with_span = [day + timedelta(minutes=20 * n) for n in range(72)]
    at = next(t for t in with_span if _kept(folder, t))
    one_s, _ = run(folder, "recordings", "play", "--at", at.isoformat(), "--only", "c1")
    names = ",".join(f"c{n}" for n in range(1, AT_ONCE + 1))
    many_s, most_mb = run(folder, "recordings", "play", "--at", at.isoformat(), "--only", names)
    print(
        f"{AT_ONCE} channels at one moment: {many_s:.1f} s, {most_mb:.0f} MB; one: {one_s:.1f} s; ratio {many_s / one_s:.2f}"
    )
    span = ("--from", at.isoformat(), "--to", (at + timedelta(seconds=FILM_S)).isoformat(), "--only", "c1")
    film_s, most_mb = run(folder, "recordings", "save", *span)
    print(
        f"a film of {FILM_S} s: {film_s:.1f} s, {most_mb:.0f} MB; {FILM_S / film_s:.1f} times as fast as it was recorded"
    )


def _kept(folder: Path, at: datetime) -> bool:
    """Whether a film's length from then on lies within one span."""
    ends = (at, at + timedelta(seconds=FILM_S))
    asked = [("recordings", "play", "--at", t.isoformat(), "--only", "c1", "--quiet", "--json") for t in ends]
    return all(
        subprocess.run(["zentrale", *words], cwd=folder, env=small._environment(), capture_output=True).returncode == 0
        for words in asked
    )


if __name__ == "__main__":
    os.environ.setdefault("TMPDIR", "/dev/shm" if os.access("/dev/shm", os.W_OK) else tempfile.gettempdir())
    one, two = read(1), read(2)
    print(f"two recorders against one: {two / one:.2f}")
