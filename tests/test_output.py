"""The hand-over pack and the terminal: hostile names, missing pictures, colour."""

from __future__ import annotations

import csv
import io
import os
import pty
from dataclasses import replace
from datetime import UTC, datetime
from pathlib import Path

import pytest
from PIL import Image

from conftest import PROGRAM, environment, make_site
from zentrale.findings import finding
from zentrale.output.contact_sheet import SheetPicture, contact_sheet
from zentrale.output.figures import MeasuredRate, bandwidth_figure, power_figure, storage_figure
from zentrale.output.handover import DeviceRow, JournalRow, PackContent, Settled, devices_csv, render
from zentrale.planning.detail import plan_detail
from zentrale.planning.ports import plan_ports
from zentrale.planning.power import plan_power
from zentrale.planning.reach import plan_reach
from zentrale.planning.storage import plan_storage
from zentrale.planning.traffic import plan_traffic
from zentrale.site.folder import SiteFolder
from zentrale.site.outline import Outline
from zentrale.site.reading import read_plan

NOW = datetime(2026, 4, 1, 12, 0, tzinfo=UTC)
EVIL = "<script>alert('x')</script>"


def device(**more: str) -> DeviceRow:
    row = DeviceRow(
        "north", "North (door)", "camera", "door", "M", "L", "1", "S", "10.0.0.1", "02:00", "sw", "1", "20", "rec", "1"
    )
    return replace(row, **more)


@pytest.fixture
def content(tmp_path: Path) -> PackContent:
    plan = read_plan(SiteFolder(make_site(tmp_path)))
    return PackContent(
        plan, NOW, NOW, NOW, "laptop", plan_power(plan), plan_traffic(plan), plan_storage(plan), plan_reach(plan),
        plan_ports(plan, plan_power(plan)), plan_detail(plan, Outline()), [device()], [], [], [], [], [],
    )  # fmt: skip


def page(content: PackContent) -> str:
    return render(content)["index.html"].decode()


def test_the_verdict_is_the_first_thing_on_the_page(content: PackContent) -> None:
    fault, warning = finding("STR-3", "camera north", "a", "b", "c"), finding("CLK-1", "camera north", "a", "b", "c")
    assert "READY: no open findings" in page(content)
    assert "READY WITH 1 WARNING TO DECIDE" in page(replace(content, open_findings=[warning]))
    both = page(replace(content, open_findings=[warning, fault]))
    assert "NOT READY: 1 open fault, 1 warning" in both and both.index("STR-3") < both.index("CLK-1"), "worst first"
    assert "NOT VERIFIED" in page(replace(content, verified_at=None))


def test_what_a_device_tells_is_never_run_in_the_customers_browser_or_spreadsheet(content: PackContent) -> None:
    item = finding("STR-2", f"camera {EVIL}", EVIL, EVIL, EVIL, EVIL)
    hostile = replace(
        content, devices=[device(maker=EVIL, model='"><img src=x onerror=1>', firmware="=1+1")], open_findings=[item],
        settled=[Settled(item, EVIL)], journal=[JournalRow(NOW, EVIL, EVIL, EVIL, EVIL, EVIL)],
        pictures=[SheetPicture(EVIL, EVIL, None)], remarks=[EVIL],
    )  # fmt: skip
    text = page(hostile)
    assert "<script" not in text and "<img src=x" not in text and "&lt;script&gt;" in text
    rows = list(csv.reader(io.StringIO(devices_csv(hostile.devices).decode("utf-8-sig"))))
    assert "'=1+1" in rows[1] and not any(cell[:1] in "=+-@" for cell in rows[1] if cell)


def test_the_page_needs_nothing_but_itself(content: PackContent) -> None:
    import re

    text = page(content)
    assert not re.search(r"https?://|url\(|<link|<script", text) and text.count("data:image/png;base64,") == 6


def test_a_contact_sheet_has_a_cell_for_every_camera() -> None:
    jpeg = io.BytesIO()
    Image.new("RGB", (640, 360), "red").save(jpeg, "JPEG")
    one = Image.open(io.BytesIO(contact_sheet("t", [SheetPicture("a", "b", None)])))
    seven = Image.open(io.BytesIO(contact_sheet("t", [SheetPicture("a", "b", jpeg.getvalue())] * 7)))
    assert seven.width > 2 * one.width and seven.height > 2 * one.height
    pixel = seven.convert("RGB").getpixel((seven.width // 6, 56 + 100))
    assert isinstance(pixel, tuple) and pixel[0] > 200 > 100 > pixel[1]
    assert contact_sheet("nobody", []).startswith(b"\x89PNG")


def test_figures_stand_anything(tmp_path: Path) -> None:
    """No camera, a stream that does not play, hundreds of streams: a figure each time, of a sane size."""
    header = "name,type,group,zone,switch,port,run_length_m,recorder,channel\n"
    plan = read_plan(SiteFolder(make_site(tmp_path, cameras=header)))
    rates = [MeasuredRate(f"c{n}", "main", 1e6, None if n % 2 else 9e5) for n in range(300)]
    for png in (
        power_figure(plan, plan_power(plan)),
        bandwidth_figure(plan, plan_traffic(plan), rates),
        storage_figure(plan, plan_storage(plan)),
    ):
        image = Image.open(io.BytesIO(png))
        assert image.width == 1280 and 500 < image.height <= 6000


def on_a_terminal(folder: Path, *arguments: str, **extra: str) -> bytes:
    """What the program shows on a real terminal."""
    pid, terminal = pty.fork()
    if pid == 0:
        os.chdir(folder)
        os.execve(PROGRAM, [PROGRAM, *arguments], environment(TERM="xterm-256color", **extra))
    shown = b""
    try:
        while piece := os.read(terminal, 65536):
            shown += piece
    except OSError:
        pass  # the terminal closes when the program ends
    os.close(terminal)
    os.waitpid(pid, 0)
    return shown


def test_colour_is_for_terminals_and_never_the_only_signal(site: Path) -> None:
    coloured, plain = on_a_terminal(site, "plan", "power"), on_a_terminal(site, "plan", "power", NO_COLOR="1")
    assert b"\x1b[1;32m" in coloured and b"OK" in coloured and b"fits" in coloured
    for quiet in (plain, on_a_terminal(site, "plan", "power", "--no-color")):
        assert b"\x1b[1;32m" not in quiet and b"\x1b[32m" not in quiet and b"fits" in quiet
