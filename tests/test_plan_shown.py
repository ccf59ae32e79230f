"""What `plan` shows where something is wrong, missing or large; and its figures for networks of any kind."""

from __future__ import annotations

import argparse
import csv
import io
from pathlib import Path
from typing import Any

import pytest
from PIL import Image

from conftest import CAMERAS, SITE, TYPES, Result, make_site, zentrale
from zentrale.cli.output import Output
from zentrale.cli.verify_shown import show_channels
from zentrale.findings import finding
from zentrale.jobs.checks.seen import ChannelResult
from zentrale.jobs.planning import Request, calculate, write_figures
from zentrale.jobs.verifying import Verification
from zentrale.site.folder import SiteFolder
from zentrale.site.model import Plan
from zentrale.site.reading import read_plan

OFFICE = '[[zones]]\nname = "office"\nvlan = 72\nsubnet = "127.0.72.0/27"\ngateway = "127.0.72.1"\n'
FORWARDING = SITE.replace(
    "http_port",
    'forwards = true\nviewing = { zone = "office", switch = "cabinet", port = 6, address = "127.0.72.5" }\nhttp_port',
)
WANTED = '[[reach]]\nfrom = "cameras"\nto = "*"\nwanted = false\n'
CABINET = '[[cabinets]]\nname = "hall"\nx_m = 0\ny_m = 0\nmax_switches = 1\n'
PRICED = TYPES.replace("ports = 10", "ports = 10\nprice = 200")


def shown(folder: Path, *parts: str, site: str = SITE, cameras: str = CAMERAS, types: str = TYPES) -> Result:
    return zentrale("plan", *parts, cwd=make_site(folder, site, cameras, types))


def line_with(result: Result, *words: str) -> str:
    return next(line for line in result.out.splitlines() if all(word in line for word in words))


def test_a_way_past_the_rules_stands_out_in_words(tmp_path: Path) -> None:
    result = shown(tmp_path, "zones", site=FORWARDING + OFFICE + WANTED)
    assert (
        result.code == 1
        and result.out.startswith("FAULTS")
        and "YES, WRONG" in line_with(result, "camera in cameras  ")
    )
    why = line_with(result, "camera in cameras  ", "recorder in office", "forwards from leg to leg")
    assert why.split()[-1] == "no", "what is wanted stands at the end"
    assert "RCH-4" in result.out


def test_shown_in_short_where_no_part_is_named(tmp_path: Path) -> None:
    folder = make_site(tmp_path)
    everything, ports = zentrale("plan", cwd=folder), zentrale("plan", "ports", cwd=folder)
    assert "Ports of cabinet" in ports.out and "Ports of cabinet" not in everything.out
    assert (
        "`zentrale plan PART`" in everything.out and "Ports of cabinet" in zentrale("plan", "--details", cwd=folder).out
    )
    assert "placement:" not in everything.out, "there are no cabinets to choose from"
    assert "multicast:   no viewer watches by multicast" in everything.out and "3 of 10 ports used" in everything.out
    assert "0 of 0 cameras with a lens" in everything.out and len(everything.out.splitlines()) < 24
    north = line_with(ports, "north ")
    assert north.split()[:4] == ["1", "north", "access", "71"] and "20 m" in north and "6.0 W" in north
    narrow = zentrale("plan", "ports", cwd=folder, COLUMNS="80")
    assert line_with(narrow, "north ").split()[:4] == ["1", "north", "access", "71"], "a line a port"
    assert "no room here for: " in narrow.out and max(map(len, narrow.out.splitlines())) <= 80
    assert "7 ports free, switched off: 3-8, 10" in ports.out


def test_a_named_part_is_shown_camera_by_camera(tmp_path: Path) -> None:
    cameras = CAMERAS.replace("recorder,3\n", "recorder,3,critical\n").replace("recorder,1\n", "recorder,1,\n")
    cameras = cameras.replace("channel\n", "channel,priority\n")
    storage = "http_port = 8080\nstorage = { drives = 1, drive_tb = 0.01 }\n"
    folder = make_site(tmp_path, SITE.replace("http_port = 8080\n", storage), cameras)
    power = zentrale("plan", "power", cwd=folder)
    # Where power runs short the low priority goes first, though the other port has the higher number.
    assert line_with(power, "cabinet:1", "north", "20 m", "low").split()[-3:] == ["1", "of", "2"]
    assert line_with(power, "cabinet:2", "south", "30 m", "critical").split()[-3:] == ["2", "of", "2"]
    assert "goes dark as" not in zentrale("plan", cwd=folder).out
    traffic = zentrale("plan", "traffic", cwd=folder)
    assert "cabinet:1 north" in traffic.out and "cabinet:2 south" in traffic.out
    kept = line_with(zentrale("plan", "storage", cwd=folder), "north", "continuous")
    assert kept.split()[-3:] == ["1.4", "14", "-"], "10 GB less 7 % hold 1.4 days of 2 x 3.3 GB; 14 are wanted"


def test_what_a_placement_lacks_and_why_there_is_none(tmp_path: Path) -> None:
    lacking = shown(tmp_path / "a", "placement")
    assert (
        lacking.code == 0 and "[[cabinets]] with x_m and y_m" in lacking.out and "price of at least one" in lacking.out
    )
    far = shown(
        tmp_path / "b", "placement", site=SITE + CABINET, cameras=CAMERAS.replace(",1,20,", ",1,95,"), types=PRICED
    )
    assert far.code == 1 and "PLC-1" in far.out and "95 m to hall, the nearest" in far.out
    hungry = PRICED.replace("poe_budget_w = 60", "poe_budget_w = 14")
    crowd = shown(tmp_path / "c", "placement", site=SITE + CABINET, types=hungry)
    assert crowd.code == 1 and "PLC-2" in crowd.out and "1 camera left over" in crowd.out
    assert "PoE power in the worst mode" in crowd.out and "max_switches of the cabinets" in crowd.out
    strong = shown(
        tmp_path / "d", "placement", site=SITE + CABINET, types=PRICED.replace("poe_class = 3", "poe_class = 8", 1)
    )
    assert "PLC-3" in strong.out and "PoE class 8 needs type 4" in strong.out
    good = shown(tmp_path / "e", "placement", "--json", site=SITE + CABINET, types=PRICED)
    assert good.json["placement"]["cost"] == {"total": 250.0, "switches": 200.0, "cable": 50.0, "cabinets": 0.0}
    assert [row["switch_type"] for row in good.json["placed_cameras"]] == ["switch-8", "switch-8"]


def test_a_link_that_carries_too_much_is_red_and_says_so(tmp_path: Path) -> None:
    far = '[[switches]]\nname = "far"\ncabinet = "yard"\ntype = "switch-8"\n'
    thin = far + link("cabinet:10", "far:10").replace("100", "1")
    site = SITE.replace("bitrate_kbps = 300", "bitrate_kbps = 1200") + thin
    result = shown(tmp_path, "traffic", site=site, cameras=CAMERAS.replace("cabinet,2", "far,2"))
    row = line_with(result, "link  ", "far:10")
    assert result.code == 1 and "127 %" in row and "none is enough" in row and "TRF-1" in result.out


def network(folder: Path, links: str, switches: int) -> Plan:
    more = "".join(f'[[switches]]\nname = "s{n}"\ncabinet = "c{n}"\ntype = "switch-8"\n' for n in range(switches))
    return read_plan(SiteFolder(make_site(folder, FORWARDING + OFFICE + WANTED + more + links)))


def link(a: str, b: str, lit: str = "true") -> str:
    return f'[[links]]\na = "{a}"\nb = "{b}"\nrate_mbps = 100\nlit = {lit}\n'


NETWORKS = {
    "nothing": ("", 0),
    "alone": ("", 3),
    "chain": (link("cabinet:8", "s0:1") + link("s0:2", "s1:1") + link("s1:2", "s2:1"), 3),
    "ring": (link("cabinet:8", "s0:1") + link("s0:2", "s1:1") + link("s1:2", "cabinet:7"), 2),
    "parallel and dark": (link("cabinet:8", "s0:1") + link("cabinet:7", "s0:2") + link("s0:3", "s1:1", "false"), 2),
    "layer with a far link": ("".join(link(f"cabinet:{n + 3}", f"s{n}:1") for n in range(3)) + link("s0:2", "s2:2"), 3),
    "many": ("".join(link(f"s{n}:10", f"s{n + 1}:9") for n in range(89)), 90),
}


@pytest.mark.parametrize("name", NETWORKS)
def test_every_network_can_be_drawn(tmp_path: Path, name: str) -> None:
    plan = network(tmp_path, *NETWORKS[name])
    folder = SiteFolder(tmp_path)
    result = calculate(plan, ["traffic", "zones", "power", "storage", "detail"], Request())
    written = write_figures(result, folder)
    assert {path.name for path in written} == {"power.png", "bandwidth.png", "topology.png", "storage.png", "reach.png"}
    for path in written:
        image = Image.open(path)
        assert image.width == 1280 and 500 <= image.height <= 6000, path.name
    red = Image.open(tmp_path / "output" / "reach.png").convert("RGB").getcolors(maxcolors=10**6)
    assert red is not None and any(r > 150 and g < 40 and b < 60 for _, (r, g, b) in red if isinstance(r, int)), (  # type: ignore[misc]
        "what is not as wanted is marked"
    )


def channels(good: int, bad: int) -> Verification:
    fault = finding("REC-1", "channel", "nothing is stored", "recording", "x")
    idle = [ChannelResult("rec", n, f"cam-{n}", "Idle", None, (fault,), records=False) for n in range(bad)]
    rows = idle + [ChannelResult("rec", n, f"cam-{n}", "Active", None, records=True) for n in range(bad, good + bad)]
    return Verification("here", 1.0, (), (), tuple(rows), ())


@pytest.mark.parametrize(("good", "bad", "details", "listed"), [(3, 0, True, 3), (28, 0, False, 0), (26, 2, False, 2)])
def test_many_good_channels_are_counted_and_bad_ones_listed(
    capsys: pytest.CaptureFixture[str], good: int, bad: int, details: bool, listed: int
) -> None:
    output = Output(argparse.Namespace(quiet=True, no_color=True, json=False, details=details))
    show_channels(output, channels(good, bad))
    out = capsys.readouterr().out
    assert out.count("cam-") == listed and f"{good} of {good + bad} planned channels record" in out
    assert out.count("Idle") == bad


def test_the_hand_over_has_the_port_map_and_the_plans_findings(tmp_path: Path) -> None:
    folder = make_site(tmp_path, FORWARDING + OFFICE + WANTED, CAMERAS.replace(",1,20,", ",1,95,"))
    handed = zentrale("handover", "--json", cwd=folder)
    told: Any = {f["code"] for f in handed.json["open_findings"]}
    assert {"RUN-1", "RCH-1", "RCH-4"} <= told
    pack = folder / "output" / "handover"
    rows = list(csv.DictReader(io.StringIO((pack / "ports.csv").read_text(encoding="utf-8-sig"))))
    assert [(r["port"], r["device"], r["zones"], r["poe"]) for r in rows] == [
        ("1", "north", "cameras", "on"), ("2", "south", "cameras", "on"),
        ("6", "recorder", "office", "off"), ("9", "recorder", "cameras", "off"),
    ]  # fmt: skip
    page = (pack / "index.html").read_text()
    assert "Port map" in page and "Who reaches whom" in page and "Links and their load" in page
    assert "What the cameras see" not in page, "no camera has a position"
