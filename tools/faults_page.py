"""Every fault of the stand-in, and what the running program says of it: docs/faults.md.

    python tools/faults_page.py > docs/faults.md
    python tools/faults_page.py --healthy 100        as many rounds over the same site while nothing is broken

A site of its own on loopback, with a camera for each fault: brought to plan while all are well, then broken one way each, then
diagnosed and verified by the program. The tests hold the same site against a table written by hand (`tests/test_diagnosing.py`).
"""

from __future__ import annotations

import json
import os
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager
from pathlib import Path
from typing import Any

from zentrale.simulation.faults import CAMERA, FAULTS

ENVIRONMENT = {"ZENTRALE_PASSPHRASE": "passphrase of the faults", "NO_COLOR": "1", "COLUMNS": "100"}
PASSWORD, READS = "installer-1", ("read-made-up-1", "hide-made-up-1")
ALONE = [name for name, (kinds, _) in FAULTS.items() if CAMERA in kinds]
PAIRS = {
    "pair-1": ("clock-off", "black"),
    "pair-2": ("no-packets", "recorder-job"),
    "pair-3": ("late", "recorder-password"),
}
DEAD, WELL = ("far-1", "far-2", "far-3"), ("well-1", "well-2", "well-3")
SETTLES_S = 70.0  # a recorder may write what it keeps by the minute: before that nobody accuses it
_PER_SWITCH = 12


def cameras() -> list[str]:
    return [*ALONE, *PAIRS, *WELL, *DEAD]


def broken() -> dict[str, tuple[str, ...]]:
    """The faults of each camera; those at the dead switch have none of their own."""
    return {**{name: (name,) for name in ALONE}, **PAIRS}


def _switch_of(number: int, name: str) -> tuple[str, int]:
    return (
        ("far", DEAD.index(name) + 1)
        if name in DEAD
        else (f"near-{number // _PER_SWITCH + 1}", number % _PER_SWITCH + 1)
    )


def _address(number: int) -> str:
    return f"127.0.73.{101 + number}"


def _mac(number: int) -> str:
    return f"02:5a:73:00:00:{101 + number:02x}"


def _switches() -> list[str]:
    return list(dict.fromkeys(_switch_of(n, name)[0] for n, name in enumerate(cameras())))


def write_site(folder: Path) -> None:
    """The plan and, beside it, the scenario of its devices."""
    folder.mkdir(parents=True)
    switches, names = _switches(), cameras()
    site = """\
[site]
name = "Faults"
timezone = "Europe/London"
[policy]
sweep_ports = [8080, 8554]
cords_m = 0
cable_category = "6"
fps_tolerance_percent = 60
jitter_ms = 5000
[[zones]]
name = "cameras"
vlan = 73
subnet = "127.0.73.0/24"
[[groups]]
name = "all"
main = { resolution = "320x180", fps = 10, bitrate_kbps = 300, keyframe_interval_s = 1 }
sub = { resolution = "160x96", fps = 5, bitrate_kbps = 64, keyframe_interval_s = 1 }
[[recorders]]
name = "recorder"
type = "recorder-64"
zone = "cameras"
switch = "near-1"
port = 20
address = "127.0.73.21"
mac = "02:5a:73:00:00:15"
http_port = 8080
storage = { drives = 4, drive_tb = 10 }
"""
    for number, switch in enumerate(switches):
        site += (
            f'[[switches]]\nname = "{switch}"\ncabinet = "{switch}"\ntype = "switch-24"\n'
            f'management = {{ zone = "cameras", address = "127.0.73.{11 + number}", snmp = "v3", snmp_port = 1161 }}\n'
        )
    for number, switch in enumerate(switches[1:]):
        site += f'[[links]]\na = "near-1:{21 + number}"\nb = "{switch}:24"\nrate_mbps = 1000\n'
    (folder / "site.toml").write_text(site)
    types = "".join(
        f'[[camera_types]]\nname = "{name}"\nmaker = "Pallas Yard"\nmodel = "{model}"\npoe_class = 3\nday_w = 6.0\n'
        f'max_resolution = "1920x1080"\n{more}'
        for name, model, more in (
            ("larch-2", "Larch 2", ""),
            ("larch-3", "Larch 3", 'default_address = "127.0.9.73"\n'),
        )
    )
    types += (
        '[[switch_types]]\nname = "switch-24"\nmaker = "Orrery"\nmodel = "Tern 24P"\nports = 24\npoe_ports = 24\n'
        "poe_budget_w = 370\n"
        '[[recorder_types]]\nname = "recorder-64"\nmaker = "Orrery"\nmodel = "Almanac 64"\nchannels = 64\ningest_mbps = 200\n'
    )
    (folder / "types.toml").write_text(types)
    rows = ["name,shows,type,group,zone,switch,port,run_length_m,address,mac,recorder,channel"]
    for number, name in enumerate(names):
        switch, port = _switch_of(number, name)
        kind = "larch-3" if name == "default-address" else "larch-2"
        rows.append(
            f"{name},{name},{kind},all,cameras,{switch},{port},20,{_address(number)},{_mac(number)},recorder,{number + 1}"
        )
    (folder / "cameras.csv").write_text("\n".join(rows) + "\n")
    (folder / "scenario.toml").write_text(_scenario(switches, names))


def _scenario(switches: Sequence[str], names: Sequence[str]) -> str:
    main = '{ resolution = "320x180", fps = 10, bitrate_kbps = 300, govlength = 10 }'
    sub = '{ resolution = "160x96", fps = 5, bitrate_kbps = 64, govlength = 5 }'
    account = f'accounts = [{{ user = "admin", password = "{PASSWORD}" }}]\n'
    text = 'name = "Faults"\n'
    for number, name in enumerate(names):
        default = 'default_address = "127.0.9.73"\n' if name == "default-address" else ""
        model = "Larch 3" if default else "Larch 2"
        scene = "" if name == "other-picture" else 'scene = "lock"\n'  # the same for all others: it is encoded once
        text += (
            f'[[cameras]]\nname = "{name}"\naddress = "{_address(number)}"\nmaker = "Pallas Yard"\nmodel = "{model}"\n'
            f'firmware = "3.1.0"\nserial = "F-{number}"\nmac = "{_mac(number)}"\n'
            f"{account}{default}{scene}main = {main}\nsub = {sub}\n"
        )
    text += (
        '[[recorders]]\nname = "recorder"\naddress = "127.0.73.21"\nmaker = "Orrery"\nmodel = "Almanac 64"\nfirmware = "2026.2"\n'
        f'serial = "F-R"\nmac = "02:5a:73:00:00:15"\nchannels = 64\n{account}'
    )
    for number, switch in enumerate(switches):
        text += (
            f'[[switches]]\nname = "{switch}"\naddress = "127.0.73.{11 + number}"\nmaker = "Orrery"\nmodel = "Tern 24P"\n'
            f'firmware = "2.4"\nmac = "02:5a:73:00:01:{number:02x}"\nmanner = "tern"\nports = 24\npoe_ports = 24\n'
            f'budget_w = 370\nusers = [{{ user = "reader", password = "{READS[0]}", privacy = "{READS[1]}" }}]\nplugs = [\n'
        )
        for at, name in enumerate(names):
            own, port = _switch_of(at, name)
            text += (
                f'  {{ port = {port}, device = "{name}", vlan = 73, day_w = 5.0, poe_class = 3 }},\n'
                if own == switch
                else ""
            )
        if switch == "near-1":
            text += '  { port = 20, device = "recorder", vlan = 73, rate_mbps = 1000 },\n'
            for other, name in enumerate(switches[1:]):
                text += f'  {{ port = {21 + other}, to = "{name}:24", tagged = [73], rate_mbps = 1000 }},\n'
        else:
            text += f'  {{ port = 24, to = "near-1:{20 + number}", tagged = [73], rate_mbps = 1000 }},\n'
        text += "]\n"
    return text


def run(*words: str, cwd: Path, codes: Sequence[int] = (0, 1), **more: str) -> str:
    """What the program says. Raises RuntimeError where it ends with another exit code."""
    done = subprocess.run(
        [sys.executable, "-m", "zentrale", *words], cwd=cwd, capture_output=True, text=True, check=False,
        env={**os.environ, **ENVIRONMENT, **more},
    )  # fmt: skip
    if done.returncode not in codes:
        raise RuntimeError(
            f"zentrale {' '.join(words)}: {done.returncode}\n{done.stdout[-2000:]}\n{done.stderr[-2000:]}"
        )
    return done.stdout


class Playing:
    """The stand-in of the site, which takes orders."""

    def __init__(self, folder: Path) -> None:
        command = [
            sys.executable,
            "-m",
            "zentrale",
            "simulate",
            "--with-parent",
            "--quiet",
            "--scenario",
            "scenario.toml",
        ]
        self.process = subprocess.Popen(
            command, cwd=folder, stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True,
            env={**os.environ, **ENVIRONMENT},
        )  # fmt: skip
        self.heard()

    def heard(self) -> str:
        assert self.process.stdout is not None
        return self.process.stdout.readline().strip()

    def order(self, text: str) -> None:
        assert self.process.stdin is not None
        self.process.stdin.write(text + "\n")
        self.process.stdin.flush()
        heard = self.heard()
        if heard != text:
            raise RuntimeError(f"{text}: {heard}")

    def stop(self) -> None:
        assert self.process.stdin is not None
        self.process.stdin.close()
        self.process.wait(30)


@contextmanager
def brought_to_plan(folder: Path) -> Iterator[Playing]:
    """All devices as planned, nothing broken."""
    write_site(folder)
    playing = Playing(folder)
    try:
        run("vault", "init", cwd=folder)
        run("vault", "add", "admin", cwd=folder, ZENTRALE_PASSWORD=PASSWORD)
        run(
            "vault",
            "add",
            "reader",
            "--snmp",
            cwd=folder,
            ZENTRALE_PASSWORD=READS[0],
            ZENTRALE_PRIVACY_PASSWORD=READS[1],
        )
        run("discover", cwd=folder)
        run("register", cwd=folder)
        yield playing
    finally:
        playing.stop()


def break_all(playing: Playing) -> None:
    for name, faults in broken().items():
        for fault in faults:
            playing.order(f"+{name}:{fault}")
    playing.order("+far:silent")


def diagnosed(folder: Path, *names: str) -> dict[str, Any]:
    found: dict[str, Any] = json.loads(run("diagnose", *(names or cameras()), "--json", cwd=folder))
    return found


def page(folder: Path) -> str:
    with brought_to_plan(folder) as playing:
        break_all(playing)
        time.sleep(SETTLES_S)
        found = diagnosed(folder)
        verified = json.loads(run("verify", "--json", cwd=folder))
    by_name = {c["camera"]: c for c in found["cameras"]}
    rows = [_row(f"`{name}`", FAULTS[name][1], by_name[name], verified) for name in ALONE]
    rows += [
        _row(" and ".join(f"`{f}`" for f in faults), "both", by_name[name], verified) for name, faults in PAIRS.items()
    ]
    rows.append(_row("`silent`", f"{FAULTS['silent'][1]}; one of its cameras", by_name[DEAD[0]], verified))
    rows.append(_row("none", "all is well", by_name[WELL[0]], verified))
    common = "; ".join(f'"{c["says"]}"' for c in found["common"])
    return f"""\
# Faults of the stand-in, and what is said of them

Made by `python tools/faults_page.py` from the running program, each fault at a camera of its own, all at the same time.
`zentrale simulate --fault DEVICE:NAME` switches one on; so does `faults = ["NAME"]` of a device in a scenario. `zentrale explain
CODE` tells each code in full.

| fault | what it does | `diagnose` | blame | `verify` |
|---|---|---|---|---|
{chr(10).join(rows)}

Of the switch that is silent: {common}.
"""


def _row(fault: str, what: str, one: Mapping[str, Any], verified: Mapping[str, Any]) -> str:
    codes = sorted(
        {f["code"] for f in verified["findings"] if f["severity"] != "note" and _is_of(f["subject"], one["camera"])}
    )
    code = f"{one['code']}: " if one["code"] else ""
    also = "".join(f"; also {a['code']}, {a['broken_at']}" for a in one["also"])
    says = one["says"].partition(" (20")[0].replace("|", "/")
    return f"| {fault} | {what} | {code}{says}{also} | {one['blame'] or '-'} | {', '.join(codes) or 'as planned'} |"


def _is_of(subject: str, name: str) -> bool:
    number = cameras().index(name) + 1
    return subject in (f"camera {name}", f"channel {number} of recorder") or subject.startswith(f"camera {name},")


def accused(found: Mapping[str, Any]) -> list[str]:
    """What is said against a site on which nothing is broken."""
    wrong = [f"{c['camera']}: {c['says']}" for c in found["cameras"] if c["broken_at"] is not None]
    return wrong + [
        f"{f['code']} {f['subject']}: {f['measured']}" for f in found["findings"] if f["severity"] == "fault"
    ]


def healthy(folder: Path, rounds: int) -> int:
    """How many of so many rounds accuse anybody."""
    bad = 0
    with brought_to_plan(folder):
        for number in range(1, rounds + 1):
            began = time.monotonic()
            wrong = accused(diagnosed(folder))
            bad += bool(wrong)
            print(f"round {number}: {time.monotonic() - began:.1f} s: {'; '.join(wrong) or 'all are well'}", flush=True)
    print(f"{rounds} rounds over {len(cameras())} healthy cameras: {bad} with a fault")
    return bad


def main() -> None:
    with tempfile.TemporaryDirectory() as folder:
        if sys.argv[1:2] == ["--healthy"]:
            sys.exit(bool(healthy(Path(folder) / "site", int(sys.argv[2]))))
        sys.stdout.write(page(Path(folder) / "site"))


if __name__ == "__main__":
    main()
