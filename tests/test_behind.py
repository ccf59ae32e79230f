"""Cameras at a recorder's own ports: planned, counted, seen and registered through that recorder alone."""

from __future__ import annotations

from pathlib import Path

import pytest

from conftest import CAMERAS, DATA, SITE, TYPES, StartStandIn, make_site, make_vault, zentrale

LODGE = """\
[[recorders]]
name = "lodge"
type = "recorder-p"
zone = "cameras"
switch = "cabinet"
port = 10
address = "127.0.71.22"
http_port = 8080
channels = "by-port"
[[recorders]]
name = "recorder"
"""
TYPE = """\
[[recorder_types]]
name = "recorder-p"
maker = "Orrery"
model = "Almanac 8P"
channels = 8
ingest_mbps = 40
poe_ports = 4
poe_budget_w = 25
power_w = 12
"""
YARD = "yard,back yard,vesper-d4,all,,,2,25,,,,,lodge"
GATE = "gate,rear gate,vesper-d4,all,,,3,25,,,,,lodge"


def lodge(folder: Path, *rows: str, site: str = "", types: str = "") -> Path:
    header, *others = CAMERAS.splitlines()
    table = "\n".join([f"{header},behind", *(f"{row}," for row in others), *rows]) + "\n"
    whole = SITE.replace('[[recorders]]\nname = "recorder"\n', LODGE) + site
    return make_site(folder / "site", whole, table, TYPES + (types or TYPE))


def test_their_power_is_the_recorders_and_no_network_holds_them(tmp_path: Path) -> None:
    """9 W at night over 25 m of 0.125 ohm/m, category 6 or not said: P = V*I with V = 44 V and I from 9 = 44*I - R*I*I
    (IEEE 802.3 clause 33): two of them draw 18.3 W, so that a reserve of 10 % of 25 W is left and of 20 W is not.
    """
    folder = lodge(tmp_path, YARD, GATE, site='[[batteries]]\nname = "ups"\ncapacity_wh = 100\nfeeds = ["lodge"]\n')
    power = zentrale("plan", "power", "--json", cwd=folder).json
    (fed,) = power["recorders_feeding"]
    assert fed["recorder"] == "lodge" and [p["camera"] for p in fed["ports"]] == ["yard", "gate"]
    ohms = 12.5 * 25 / 100  # both ways, as IEEE 802.3 has a channel of 100 m
    amperes = (44 - (44**2 - 4 * ohms * 9) ** 0.5) / (2 * ohms)
    assert fed["draw_w"]["night"] == pytest.approx(2 * 44 * amperes, abs=0.2)
    (battery,) = power["batteries"]
    assert battery["load_w"] == pytest.approx(12 + fed["draw_w"]["night"] / 0.9, abs=0.05)
    everything = zentrale("plan", "--json", cwd=folder)
    codes = {f["code"] for f in everything.json["findings"]}
    assert codes == {"STO-5", "PWR-12"}, everything.out  # no drives are planned; the switch is on no battery
    addressed = zentrale("plan", "addresses", "--json", cwd=folder).json["addresses"]
    assert {a["name"] for a in addressed if a["kind"] == "camera"} == {"north", "south"}
    small = lodge(tmp_path / "small", YARD, GATE, types=TYPE.replace("= 25", "= 15"))
    dark = [f for f in zentrale("plan", "power", "--json", cwd=small).json["findings"] if f["code"] == "PWR-1"]
    assert dark[0]["subject"] == "recorder lodge" and "gate" in dark[0]["measured"]


@pytest.mark.parametrize(
    ("row", "told"),
    [
        (YARD.replace(",,2,", ",,9,"), "field port: found 9; expected 1 to 4 (recorder lodge is a recorder-p)"),
        (YARD.replace(",,2,", ",,,"), "field port: found ''; expected 1 to 4"),
        (YARD.replace(",,2,", ",cabinet,2,"), "field switch: found 'cabinet'; expected empty"),
        (YARD.replace("25,,", "25,127.0.71.14,"), "field address: found '127.0.71.14'; expected empty"),
        (YARD.replace(",,lodge", ",7,lodge"), "field channel: found 7; expected 2, its port, or empty"),
        (YARD.replace(",,lodge", ",next,lodge"), "field channel: found 'next'; expected its number"),
        (YARD.replace(",,,lodge", ",recorder,2,lodge"), "field recorder: found 'recorder'; expected 'lodge'"),
        (YARD.replace("lodge", "lodg"), "field behind: found 'lodg'; expected a recorder: lodge, recorder"),
        (YARD.replace(",,lodge", ",2,recorder"), "field behind: found 'recorder'; expected a recorder with ports of its own"),
        (f"{YARD}\n{GATE.replace(',,3,', ',,2,')}", "port 'lodge:2' is already used at cameras.csv line 4"),
    ],
)  # fmt: skip
def test_what_cannot_stand_there_is_told_with_line_and_field(tmp_path: Path, row: str, told: str) -> None:
    shown = zentrale("check", cwd=lodge(tmp_path, row))
    assert shown.code == 2 and told in shown.all, shown.all


def test_they_are_seen_named_and_judged_through_their_recorder(tmp_path: Path, start_stand_in: StartStandIn) -> None:
    start_stand_in(DATA / "lodge.toml")
    folder = lodge(tmp_path, YARD, GATE)
    make_vault(folder)
    found = zentrale("discover", "--json", cwd=folder)
    rows = {row["planned_as"]: row for row in found.json["behind"]}
    assert (rows["yard"]["there"], rows["gate"]["there"]) == (True, False) and found.json["missing"] == []
    assert [f["subject"] for f in found.json["findings"] if f["code"] in ("DIS-1", "DIS-2", "DIS-11", "DIS-14")] == [
        "camera gate"
    ]
    done = zentrale("register", "--json", cwd=folder)
    steps = {d["device"]: {s["step"]: s for s in d["steps"]} for d in done.json["devices"]}
    yard = steps["camera yard"]["channel"]
    assert yard["outcome"] == "changed" and "CAM 2" in yard["before"] and "yard" in yard["after"], yard
    assert (
        steps["camera gate"]["channel"]["outcome"] == "failed"
        and "light of port 3" in steps["camera gate"]["channel"]["error"]
    )
    again = zentrale("register", "--only", "yard", "--json", cwd=folder)
    outcomes = {s["outcome"] for d in again.json["devices"] for s in d["steps"]}
    assert again.code == 0 and outcomes == {"unchanged"}, again.out
    seen = zentrale("verify", "yard", "--seconds", "3", "--json", cwd=folder)
    (channel,) = seen.json["channels"]
    assert seen.code == 0 and (channel["camera"], channel["records"]) == ("yard", True) and seen.json["streams"] == []
    for command in (
        ("restart", "yard"),
        ("replace", "yard", "--with", "127.0.71.11"),
        ("assign", "yard", "127.0.71.11"),
    ):
        refused = zentrale(*command, cwd=folder)
        assert refused.code == 2 and "only lodge reaches it" in refused.err, refused.all
    undone = zentrale("register", "--undo", str(done.json["run"]), cwd=folder)
    assert "channel 2: CAM 2" in undone.out, undone.out
    assert zentrale("remove", "yard", cwd=folder).out.count("unplug it there") == 1
