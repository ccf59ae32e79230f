"""Two cameras from the box with one address: each is spoken with by its own MAC address, moved, and the next one taken."""

from __future__ import annotations

import os
import shutil
import subprocess
from collections.abc import Iterator
from pathlib import Path

import pytest

from conftest import CAMERAS, DATA, OWN_NETWORK, PROGRAM, SITE, TYPES, make_site, make_vault, zentrale
from zentrale.errors import CannotPinError
from zentrale.field import arp, pinning
from zentrale.simulation.own_network import INSIDE

FRESH = """
[[cameras]]
apart = true
name = "{0}"
address = "10.71.0.64"
maker = "Kestrel Row"
model = "Windhover P30"
firmware = "2.4"
serial = "KR-{1}"
mac = "02:5a:71:00:0d:0{1}"
main = {{ resolution = "320x180", fps = 10, bitrate_kbps = 300, govlength = 10 }}
sub = {{ resolution = "160x96", fps = 5, bitrate_kbps = 64, govlength = 5 }}
"""


@pytest.fixture
def two_fresh(tmp_path: Path) -> Iterator[Path]:
    """The stand-ins on a link of this test's own, and a site that plans them by their MAC addresses."""
    if not OWN_NETWORK or not shutil.which("ip") or not arp.allowed():
        pytest.skip("needs a network of its own, and iproute2")
    recorder = "[[recorders]]" + (DATA / "small.toml").read_text().partition("[[recorders]]")[2]
    scenario = tmp_path / "fresh.toml"
    scenario.write_text('name = "fresh"' + FRESH.format("one", 1) + FRESH.format("two", 2) + recorder)
    zone = '[[zones]]\nname = "yard"\nvlan = 72\nsubnet = "10.71.0.0/24"\n'
    rows = "".join(
        f"{name},x,larch-2,all,yard,cabinet,{n},20,10.71.0.1{n},02:5a:71:00:0d:0{n},recorder,{n}\n"
        for n, name in ((1, "one"), (2, "two"))
    )
    types = TYPES.replace('maker = "Pallas Yard"\nmodel = "Larch 2"', 'maker = "Kestrel Row"\nmodel = "Windhover P30"')
    site = make_site(tmp_path / "site", SITE + zone, CAMERAS.splitlines()[0] + "\n" + rows, types)
    make_vault(site)
    process = subprocess.Popen(
        [PROGRAM, "simulate", "--with-parent", "--scenario", str(scenario)], stdin=subprocess.PIPE, stdout=subprocess.PIPE,
        stderr=subprocess.DEVNULL, text=True, env={**os.environ, INSIDE: "1"},
    )  # fmt: skip
    try:
        assert process.stdout is not None and "2 more on one address" in process.stdout.readline()
        yield site
    finally:
        assert process.stdin is not None
        process.stdin.close()  # it ends, and takes its link away
        process.wait(20)


def neighbours() -> str:
    return subprocess.run(
        ["ip", "neigh", "show", "nud", "permanent"], capture_output=True, text=True, check=True
    ).stdout


def test_each_is_brought_to_plan_and_moved_before_the_next(two_fresh: Path) -> None:
    found = zentrale("discover", "--json", cwd=two_fresh)
    told = {f["code"]: f["measured"] for f in found.json["findings"]}
    assert "where another device answers too" in told["DIS-1"] and "DIS-12" in told, found.out
    done = zentrale("register", "--json", cwd=two_fresh)
    assert done.code == 0, done.all
    steps = {d["device"]: {s["step"]: s["after"] for s in d["steps"]} for d in done.json["devices"]}
    assert (steps["camera one"]["address"], steps["camera two"]["address"]) == ("10.71.0.11/24", "10.71.0.12/24")
    assert steps["camera two"]["channel"] == "channel 2: rtsp://10.71.0.12:8554/live/main as recorder"
    assert "10.71.0.64" not in neighbours(), "nothing is left pinned"
    again = zentrale("discover", "--json", cwd=two_fresh)
    assert again.code == 0 and {d["planned_as"]: d["serial"] for d in again.json["devices"] if d["planned_as"] != "recorder"} == {
        "one": "KR-1", "two": "KR-2",
    }, again.out  # fmt: skip


def test_without_the_right_it_says_whom_to_unplug(two_fresh: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    def cannot(*_: object) -> None:
        raise CannotPinError("this user may not pin a neighbour")

    monkeypatch.setattr(pinning, "_pin", cannot)
    assert zentrale("discover", cwd=two_fresh).code == 1
    done = zentrale("register", "--json", cwd=two_fresh)
    told = {f["subject"]: f["measured"] for f in done.json["findings"] if f["code"] == "REG-1"}
    assert done.code == 1 and "unplug two (cabinet port 2)" in told["camera one, step begin"], done.out
    assert "unplug one (cabinet port 1)" in told["camera two, step begin"]
