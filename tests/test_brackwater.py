"""The worked example as a whole: its planning faults and nothing else, and everything that `plan` writes."""

from __future__ import annotations

import csv
import io
import json
from pathlib import Path
from typing import Any

import pytest
from PIL import Image

from conftest import zentrale
from zentrale.cli.demo import SEEDED
from zentrale.cli.main import main
from zentrale.findings import CATALOGUE
from zentrale.jobs.parts.part_registry import PARTS
from zentrale.output.csv_tables import csv_tables, safe_cell


@pytest.fixture(scope="module")
def brackwater(tmp_path_factory: pytest.TempPathFactory) -> Path:
    folder = tmp_path_factory.mktemp("brackwater") / "site"
    assert zentrale("new", str(folder), "--sample", "brackwater").code == 0
    return folder


@pytest.fixture(scope="module")
def document(brackwater: Path) -> Any:
    shown = zentrale("plan", "--json", "--figures", "--tables", cwd=brackwater)
    assert shown.code == 1
    return shown.json


def test_the_seeded_planning_faults_are_found_and_nothing_else(document: Any) -> None:
    found = {(f["code"], f["subject"]) for f in document["findings"] if f["severity"] != "note"}
    assert found == {(code, subject) for command, code, subject, _ in SEEDED if command == "plan"}
    assert {f["code"] for f in document["findings"] if f["severity"] == "note"} == {"STO-4"}
    told = {f["code"]: f for f in document["findings"]}
    assert told["PWR-1"]["measured"] == "82.0 W drawn, mode night; dark: sluice, fish-pass"
    assert "lock-mast" in told["ADR-5"]["measured"] and "swing-bridge" in told["ADR-5"]["measured"]
    assert "127.0.21.37" in told["ADR-1"]["measured"] and "104 m" in told["RUN-1"]["measured"]


def test_every_part_says_its_figures(document: Any) -> None:
    links = {link["name"]: link for link in document["links"]}
    uplink = links["control-house:24 - pump-house:9"]
    # Eight cameras: 6 Mbit/s recorded, 0.4 recorded for the desk, 6 once more by multicast; 1478 bytes for 1400.
    assert uplink["load_bps"] == round(8 * 12.4e6 * 1478 / 1400) and uplink["towards"] == "control-house"
    assert uplink["burst_together_bps"] > uplink["load_bps"] and uplink["burst_buffer_bytes"] is None
    assert len(document["addresses"]) == 28 + 2 + 2 + 5 and len(document["ports"]) == 28 + 4 * 10
    groups = document["multicast_groups"]
    assert len(groups) == 9 and len({g["ethernet"] for g in groups}) == 9  # eight of the water side, and the whole lock
    water, locks = document["walls"]
    assert [p["stream"] for p in water["panels"]] == ["main"] * 9 and [p["stream"] for p in locks["panels"]] == [
        "sub"
    ] * 4
    # Three sub streams of 640x360 at 10, and a main one of 1920x1080 at 15: more than 30 million.
    assert locks["enlarged"]["pixels_per_s"] == 3 * 2_304_000 + 31_104_000 and locks["limits"]["case"] == "enlarged"
    reach = {(r["from_zone"], r["to_zone"]): r for r in document["who_reaches_whom"] if r["from_kind"] == "camera"}
    assert {zone for (_, zone), r in reach.items() if r["allowed"]} == {"recording"}
    assert all(a["seen_m2"] == pytest.approx(a["size_m2"], rel=0.01) for a in document["areas"])
    placement = document["placement"]
    assert placement["gap"] <= 0.01 and placement["cost"]["total"] < placement["nearest_cabinet_cost"]
    assert len(document["placed_cameras"]) == 27, "the door station has no cable"
    assert max(row["run_length_m"] for row in document["placed_cameras"]) <= 90


def test_figures_and_tables_are_written(document: Any, brackwater: Path) -> None:
    for name in ("power", "bandwidth", "topology", "storage", "reach", "coverage"):
        image = Image.open(brackwater / "output" / f"{name}.png")
        assert image.width == 1280 and image.height >= 600
        colours = image.convert("RGB").getcolors(maxcolors=10**6)
        assert colours is not None and len(colours) > 50, f"{name}.png is not empty"
    folder = brackwater / "output" / "plan"
    tables = {
        path.stem: list(csv.DictReader(io.StringIO(path.read_text(encoding="utf-8-sig"))))
        for path in folder.glob("*.csv")
    }
    assert {
        "switches",
        "links",
        "storage",
        "who-reaches-whom",
        "addresses",
        "ports",
        "multicast-groups",
        "detail",
    } <= set(tables)
    assert [row["camera"] for row in tables["detail"]] == [d["camera"] for d in document["detail"]]
    pump = [row for row in tables["switches-ports"] if row["switch"] == "pump-house"]
    assert [row["port"] for row in pump] == [str(n) for n in range(1, 9)] and pump[0]["draw_w_night"]


@pytest.mark.parametrize("part", [part for part in PARTS if part != "placement"])
def test_each_part_can_be_shown_alone(part: str, brackwater: Path) -> None:
    shown = zentrale("plan", part, cwd=brackwater)
    assert shown.code in (0, 1) and len(shown.out.splitlines()) > 5
    assert ("FAULTS" in shown.out) == (shown.code == 1)


def test_the_solver_says_nothing_on_our_output(brackwater: Path) -> None:
    shown = zentrale("plan", "placement", cwd=brackwater)
    assert shown.code == 0 and "Highs" not in shown.all and "boat yard" in shown.out and "proven gap" in shown.out
    assert zentrale("plan", "placement", "--seconds", "0", cwd=brackwater).code == 2


def test_every_code_is_explained(capsys: pytest.CaptureFixture[str]) -> None:
    for code, entry in CATALOGUE.items():
        assert main(["explain", code, "--no-color"]) == 0
        told = "".join(capsys.readouterr().out.split())
        assert all("".join(text.split()) in told for text in (code, entry.title, entry.explanation, entry.advice))


def test_tables_for_a_spreadsheet() -> None:
    tables = csv_tables({
        "failures": [{"fails": "=cmd()", "lost": ["a", "b"], "parts": [{"kind": "link", "name": "x"}], "at": {"w": -1.5}}],
        "scalar": 3, "empty": [],
    })  # fmt: skip
    rows = {name: data.decode("utf-8-sig").splitlines() for name, data in tables.items()}
    assert rows["failures"] == ["fails,lost,at_w", "'=cmd(),a; b,-1.5"]
    assert rows["failures-parts"] == ["fails,kind,name", "'=cmd(),link,x"]
    assert [safe_cell(cell) for cell in ("+1", "-2.5", "-x", "@a")] == ["+1", "-2.5", "'-x", "'@a"]
    assert json.loads(json.dumps(list(tables))) == ["failures", "failures-parts"]
