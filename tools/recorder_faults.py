"""Stand-in recorders tried with the real program: `python tools/recorder_faults.py > docs/recorder-faults.md` makes the table of
what is said of each fault; `python tools/recorder_faults.py rounds 100` verifies healthy ones so many times.

Everything is played on loopback by `zentrale simulate`, in a temporary folder.
"""

from __future__ import annotations

import contextlib
import io
import json
import os
import subprocess
import sys
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager, redirect_stderr, redirect_stdout
from dataclasses import dataclass
from pathlib import Path

from zentrale.cli.main import main

SUB, OTHER = "rtsp://127.0.73.11:8554/live/sub", "rtsp://127.0.73.12:8554/live/main"
FULL = "dynamic_recordings = true\n"
PLAIN = (
    'idle_jobs = true\nsearch = false\nschedules = false\nevents = false\nown_name = "IN {number}"\n'
    'own_words = "E-21 ({why})"\nretention_step_days = 7\n'
)
ALWAYS, ON_MOTION = 'mode = "continuous"', 'mode = "motion"'


@dataclass(frozen=True)
class Fault:
    """recorder: lines of its scenario; rules: of `recording` in site.toml; seconds: measured by `verify`; still: nothing moves"""

    name: str
    recorder: str
    rules: str = ALWAYS
    seconds: float = 4
    still: bool = False


FAULTS = (
    Fault("none; all services, recordings as they are needed", FULL, f"{ON_MOTION}, sub = true, max_days = 28"),
    Fault("none; four fixed recordings, no search, whole weeks", PLAIN, f"{ALWAYS}, max_days = 28"),
    Fault("disk not initialised: nothing is kept, jobs are active", FULL + 'disk = "not initialised"\n'),
    Fault("disk full", FULL + 'own_words = "E-21 ({why})"\ndisk = "full"\n'),
    Fault("disk failed", FULL + 'disk = "failed"\n'),
    Fault("kept longer than told: whole weeks", FULL + "retention_step_days = 7\n", f"{ALWAYS}, max_days = 30"),
    Fault("channel 1 records the sub stream", FULL + f'really_records = {{ 1 = "{SUB}" }}\n'),
    Fault("plays from another time than it is asked for", FULL + "replay_ignores_range = true\nseed_archive = { days = 2 }\n"),
    Fault("closes in the middle of what it plays", FULL + "replay_ends_after = 10\n"),
    Fault("leaves out pictures when it plays", FULL + "replay_skips = 9\n"),
    Fault("offers no replay", FULL + "replay = false\n"),
    Fault("channel 1 records another camera", FULL + f'really_records = {{ 1 = "{OTHER}" }}\n'),
    Fault("channel 1 stops at a time", FULL + "stops_after_s = { 1 = 1 }\n"),
    Fault("channel 1 never records", FULL + "dead_channels = [1]\n"),
    Fault("records all day, planned is motion", FULL + "records_always = true\n", ON_MOTION, 16, still=True),
    Fault("records nothing while something moves", FULL + "deaf = true\n", ON_MOTION, 22),
    Fault("waits for no events, planned is motion", PLAIN, ON_MOTION),
    Fault("clock an hour ahead, which cannot be set",
          FULL + 'clock_offset_s = 3600\nquirks = { claims = ["SetSystemDateAndTime"] }\n'),
)  # fmt: skip

_CAMERA = """
[[cameras]]
name = "{name}"
address = "127.0.73.{last}"
maker = "Pallas Yard"
model = "Larch 2"
firmware = "3.1.0"
serial = "F-{last}"
mac = "02:5a:73:00:00:{last}"
motion = true
main = {{ resolution = "160x96", fps = 5, bitrate_kbps = 64, govlength = 5 }}
sub = {{ resolution = "160x96", fps = 5, bitrate_kbps = 64, govlength = 5 }}
"""
_RECORDER = """
[[recorders]]
name = "{name}"
address = "127.0.73.{last}"
maker = "Orrery"
model = "Almanac 4"
firmware = "2026.2"
serial = "F-{last}"
mac = "02:5a:73:00:00:{last}"
channels = 4
accounts = [{{ user = "admin", password = "installer-1" }}]
"""
_SCENARIO = """\
name = "Recorders"
still = {still}
planned_main = [{{ resolution = "320x180", fps = 10, bitrate_kbps = 300, govlength = 10 }}]
planned_sub = [{{ resolution = "160x96", fps = 5, bitrate_kbps = 64, govlength = 5 }}]
"""
_SITE = """\
[site]
name = "Recorders"
timezone = "Europe/London"
[policy]
sweep_ports = [8080, 8554]
cable_category = "6"
fps_tolerance_percent = 60
jitter_ms = 5000
[[zones]]
name = "cameras"
vlan = 73
subnet = "127.0.73.0/26"
[[groups]]
name = "all"
main = {{ resolution = "320x180", fps = 10, bitrate_kbps = 300, keyframe_interval_s = 1 }}
sub = {{ resolution = "160x96", fps = 5, bitrate_kbps = 64, keyframe_interval_s = 1 }}
recording = {{ {rules} }}
[[switches]]
name = "cabinet"
cabinet = "hall"
type = "switch-16"
"""
_SITE_RECORDER = """\
[[recorders]]
name = "{name}"
type = "recorder-4"
zone = "cameras"
switch = "cabinet"
port = {port}
address = "127.0.73.{last}"
mac = "02:5a:73:00:00:{last}"
http_port = 8080
"""
_TYPES = """\
[[camera_types]]
name = "larch-2"
maker = "Pallas Yard"
model = "Larch 2"
poe_class = 3
day_w = 6.0
max_resolution = "1920x1080"
[[switch_types]]
name = "switch-16"
maker = "Kestrel Row"
model = "S16"
ports = 16
poe_ports = 12
poe_type = 2
poe_budget_w = 150
[[recorder_types]]
name = "recorder-4"
maker = "Orrery"
model = "Almanac 4"
channels = 4
ingest_mbps = 100
"""


class Site:
    """A site folder of its own, and its stand-in."""

    def __init__(self, folder: Path, recorders: list[str], rules: str, *, still: bool = False) -> None:
        self.folder = folder
        cameras = [(f"c{n}", 10 + n) for n in range(1, 2 * len(recorders) + 1)]
        scenario = _SCENARIO.format(still=str(still).lower())
        scenario += "".join(_CAMERA.format(name=name, last=last) for name, last in cameras)
        site = _SITE.format(rules=rules)
        rows = ["name,type,group,zone,switch,port,run_length_m,address,mac,recorder,channel"]
        for n, more in enumerate(recorders):
            scenario += _RECORDER.format(name=f"recorder-{n + 1}", last=31 + n) + more
            site += _SITE_RECORDER.format(name=f"recorder-{n + 1}", last=31 + n, port=15 + n)
        for n, (name, last) in enumerate(cameras):
            own = f"recorder-{n // 2 + 1},{n % 2 + 1}"
            rows.append(f"{name},larch-2,all,cameras,cabinet,{n + 1},10,127.0.73.{last},02:5a:73:00:00:{last},{own}")
        files = {
            "scenario.toml": scenario,
            "site.toml": site,
            "cameras.csv": "\n".join(rows) + "\n",
            "types.toml": _TYPES,
        }
        for file, text in files.items():
            (folder / file).write_text(text)

    def run(self, *words: str) -> dict[str, object]:
        """What a command says as JSON, with `code`, how it ended."""
        code, out, err = self._typed(*words, "--json")
        if code not in (0, 1):
            raise SystemExit(f"zentrale {' '.join(words)}: {out[-500:]}{err[-500:]}")
        return {**json.loads(out), "code": code}

    def _typed(self, *words: str) -> tuple[int, str, str]:
        """The command in this process, since starting one costs more than most commands do."""
        out, err = io.StringIO(), io.StringIO()
        before = dict(os.environ)
        os.environ.update(_environment())
        try:
            with contextlib.chdir(self.folder), redirect_stdout(out), redirect_stderr(err):
                code = main(words)
        finally:
            os.environ.clear()
            os.environ.update(before)
        return code, out.getvalue(), err.getvalue()

    @contextmanager
    def playing(self) -> Iterator[None]:
        command = ["zentrale", "simulate", "--scenario", "scenario.toml", "--quiet"]
        process = subprocess.Popen(command, cwd=self.folder, env=_environment(), stdout=subprocess.PIPE, text=True)
        assert process.stdout is not None
        try:
            first = process.stdout.readline()
            if not first.startswith("ready"):
                raise SystemExit(f"the stand-in does not start: {first}")
            yield
        finally:
            process.terminate()
            process.wait(20)

    def set_up(self) -> dict[str, object]:
        """The vault is made, devices are found, and brought to plan; what registration says."""
        for words in (("vault", "init"), ("vault", "add", "admin", "--label", "installer")):
            code, out, err = self._typed(*words)
            if code != 0:
                raise SystemExit(f"zentrale {' '.join(words)}: {out}{err}")
        self.run("discover")
        return self.run("register")


def _environment() -> dict[str, str]:
    return {
        **os.environ,
        "ZENTRALE_PASSPHRASE": "made up for this",
        "ZENTRALE_PASSWORD": "installer-1",
        "NO_COLOR": "1",
    }


def said(fault: Fault) -> list[tuple[str, str, str]]:
    """Command, code and words of all that is said of the recorder: by registration, then by verification."""
    with tempfile.TemporaryDirectory() as folder:
        site = Site(Path(folder), [fault.recorder], fault.rules, still=fault.still)
        with site.playing():
            registered = site.set_up()
            verified = site.run("verify", "--seconds", f"{fault.seconds:g}")
    found = [("register", f) for f in registered["findings"]] + [("verify", f) for f in verified["findings"]]  # type: ignore[attr-defined]
    return [
        (
            command,
            f["code"],
            f"{f['subject']}: {f['measured']}{'; follows from ' + f['caused_by'] if f.get('caused_by') else ''}",
        )
        for command, f in found
        if f["code"].startswith(("REC", "REG", "CLK"))
    ]


def table() -> Iterator[str]:
    yield "# What is said of a recorder's faults\n"
    yield "Made by `python tools/recorder_faults.py`: a stand-in recorder with each fault, registered and verified.\n"
    yield "The cause is named only where the recorder tells it; else what was seen, and what to look at.\n"
    yield "| fault | said by | code | what is said |\n|---|---|---|---|"
    for fault in FAULTS:
        found = said(fault)
        if not found:
            yield f"| {fault.name} | | | nothing |"
        for n, (command, code, words) in enumerate(found):
            yield f"| {fault.name if n == 0 else ''} | {command} | {code} | {words.replace('|', '/')} |"


def rounds(number: int) -> int:
    """How many of so many rounds over two healthy recorders, one of each character, had a finding of a recorder; each is told."""
    wrong = 0
    with tempfile.TemporaryDirectory() as folder:
        site = Site(Path(folder), [FULL, PLAIN], f"{ALWAYS}, max_days = 28")
        with site.playing():
            site.set_up()
            for turn in range(number):
                done = site.run("verify", "--seconds", "3")
                found = [f for f in done["findings"] if f["code"].startswith(("REC", "CLK"))]  # type: ignore[attr-defined]
                wrong += bool(found)
                for f in found:
                    print(f"round {turn + 1}: {f['code']} {f['subject']}: {f['measured']}", flush=True)
    return wrong


if __name__ == "__main__":
    if sys.argv[1:2] == ["rounds"]:
        count = int(sys.argv[2])
        print(f"{rounds(count)} of {count} rounds with a finding")
    else:
        for text in table():
            print(text, flush=True)
