"""Power and traffic against values worked out by hand."""

from __future__ import annotations

from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from conftest import CAMERAS, SITE, TYPES, make_site, zentrale
from zentrale.findings import CATALOGUE
from zentrale.planning import poe
from zentrale.planning.power import plan_power
from zentrale.planning.traffic import OVERHEAD, plan_traffic
from zentrale.site.folder import SiteFolder
from zentrale.site.model import Mode, Plan
from zentrale.site.reading import read_plan


def port_w(device_w: float, run_m: float, poe_class: int, awg: int | None = None) -> float:
    """Power at the port of a cable that carries it."""
    told = poe.port_power_w(device_w, poe.Channel(run_m, awg, "6"), poe_class)
    assert told is not None
    return told


def plan_of(folder: Path, site: str = SITE, cameras: str = CAMERAS, types: str = TYPES) -> Plan:
    return read_plan(SiteFolder(make_site(folder, site, cameras, types)))


def test_poe_classes_are_those_of_the_standard() -> None:
    assert [poe.supply_power_w(c) for c in range(9)] == [15.4, 4.0, 7.0, 15.4, 30.0, 45.0, 60.0, 75.0, 90.0]
    assert [poe.needed_type(c) for c in range(9)] == [1, 1, 1, 1, 2, 3, 3, 4, 4]


def test_cable_loss_by_hand() -> None:
    """25.5 W over 100 m, class 4: 12.5 I² - 50 I + 25.5 = 0 gives I = 0.6 A, and 50 V x 0.6 A = 30.0 W.

    So the tables of the standard fit together: what a class may draw at the end of the worst channel is what its port must
    give. On category 3 (20 ohm) 12.95 W are 44 V x 0.35 A = 15.4 W; over two pair sets 51 W are 60 W and 71.3 W are 90 W.
    """
    unknown = [poe.port_power_w(poe.device_limit_w(c), poe.Channel(100), c) for c in range(1, 9)]
    assert unknown == pytest.approx([poe.supply_power_w(c) for c in range(1, 9)], rel=0.05)
    assert [unknown[c - 1] for c in (3, 4, 6, 8)] == pytest.approx([15.4, 30.0, 60.0, 90.0], abs=0.05)
    assert poe.port_power_w(25.5, poe.Channel(100), 4, port_type=1) == pytest.approx(
        35.69, abs=0.01
    )  # 20 I² - 50 I + 25.5
    assert port_w(25.5, 100, 4) == pytest.approx(30.0, abs=0.01)
    # 12.95 W over 100 m at 44 V: I = (44 - sqrt(44² - 4 x 12.5 x 12.95)) / 25 = 0.3241 A, x 44 V
    assert port_w(12.95, 100, 3) == pytest.approx(44 * 0.32411, abs=0.01)
    assert port_w(51.0, 100, 6) == pytest.approx(60.0, abs=0.3)
    assert port_w(10, 0, 3) == 10


@given(st.floats(0.1, 60), st.floats(0, 150), st.integers(0, 8))
def test_a_port_gives_what_the_device_draws_and_the_cable_burns(
    device_w: float, length_m: float, poe_class: int
) -> None:
    given_w = poe.port_power_w(device_w, poe.Channel(length_m, category="5e"), poe_class)
    voltage = 44.0 if poe_class <= 3 else 50.0 if poe_class <= 6 else 52.0
    resistance = 12.5 * length_m / 100 / (2 if poe_class > 4 else 1)
    if voltage**2 < 4 * resistance * device_w:
        assert given_w is None, "the cable cannot carry it"
        return
    assert given_w is not None and given_w >= device_w * (1 - 1e-9)
    assert given_w - resistance * (given_w / voltage) ** 2 == pytest.approx(device_w, rel=1e-6)


def test_who_goes_dark_at_night(tmp_path: Path) -> None:
    """Two cameras of 9 W at night on a supply of 15 W: the higher port number goes first."""
    types = TYPES.replace("poe_budget_w = 60", "poe_budget_w = 15").replace(
        "day_w = 6.0", "day_w = 6.0\nnight_w = 9.0", 1
    )
    power = plan_power(plan_of(tmp_path, types=types))
    (switch,) = power.switches
    assert switch.dark[Mode.DAY] == () and switch.dark[Mode.NIGHT] == ("south",)
    assert switch.draw_w[Mode.NIGHT] == pytest.approx(port_w(9, 20, 3) + port_w(9, 30, 3))
    (found,) = power.findings
    assert (found.code, found.subject) == ("PWR-1", "switch cabinet")
    assert "18.3 W drawn, mode night; dark: south" in found.measured and "15.0 W" in found.limit
    assert zentrale("plan", "power", cwd=tmp_path).code == 1


# What is changed in the plan, and the one finding it must bring: code, subject, a word of what was measured.
CASES = [
    ("types", "poe_budget_w = 60", "poe_budget_w = 16", "PWR-3", "switch cabinet", "15.2 W drawn"),
    ("types", "poe_class = 3", "poe_class = 4", "PWR-2", "camera north", "class 4 on cabinet port 1, type 1"),
    ("cameras", "cabinet,1,20", "cabinet,10,20", "PWR-4", "camera north", "cabinet port 10"),
    ("cameras", "cabinet,1,20", "cabinet,1,104", "RUN-1", "camera north", "104 m"),
    ("site", "bitrate_kbps = 300", "bitrate_kbps = 380", "TRF-2", "leg cabinet:9 recorder", "802 kbit/s"),
    ("site", "bitrate_kbps = 300", "bitrate_kbps = 60000", "TRF-3", "recorder recorder", "120 Mbit/s planned"),
    ("types", "channels = 4", "channels = 2", "CHN-1", "recorder recorder", "beyond the last channel: south"),
    ("types", "poe_budgeting", "poe_budgeting", "PWR-5", "switch cabinet", "30.8 W by class; dark: south"),
]


@pytest.mark.parametrize(("file", "right", "wrong", "code", "subject", "measured"), CASES)
def test_a_planning_fault_is_found_and_nothing_else(
    tmp_path: Path, file: str, right: str, wrong: str, code: str, subject: str, measured: str
) -> None:
    texts = {"site": SITE, "types": TYPES.replace("poe_budget_w", "poe_type = 1\npoe_budget_w"), "cameras": CAMERAS}
    if code == "PWR-5":
        texts["types"] = texts["types"].replace("poe_budget_w = 60", 'poe_budget_w = 20\npoe_budgeting = "class"')
    if code == "TRF-2":
        texts["types"] = texts["types"].replace("ports = 10", "ports = 10\nport_rate_mbps = 1")
    texts[file] = texts[file].replace(right, wrong, 1)
    plan = plan_of(tmp_path, **texts)
    found = [*plan_power(plan).findings, *plan_traffic(plan).findings]
    assert [(f.code, f.subject) for f in found] == [(code, subject)]
    assert measured in found[0].measured
    assert found[0].limit and found[0].limit_source and found[0].advice


def test_conductors_by_hand() -> None:
    """AWG 24 has 8.422 ohm per 100 m at 20 °C, 9.415 at 50 °C; four pairs halve the loop."""
    assert poe.loop_resistance_ohm(poe.Channel(100, 24), 3) == pytest.approx(9.415, abs=0.001)
    assert poe.loop_resistance_ohm(poe.Channel(50, 24), 6) == pytest.approx(9.415 / 4, abs=0.001)
    assert [poe.loop_resistance_ohm(poe.Channel(100, None, c), 3) for c in ("", "3", "5e", "6a")] == [
        20,
        20,
        12.5,
        12.5,
    ]
    assert [poe.loop_resistance_ohm(poe.Channel(100), c) for c in (4, 5, 8)] == [12.5, 6.25, 6.25]
    thin, thick = (port_w(12, 80, 3, awg) for awg in (26, 22))
    assert thin > thick > 12


# A class, its draw [W], the run [m] and conductor: what is found. By hand: 55 W over 10 m (0.625 ohm, 50 V) are 1.1155 A,
# 55.8 W at the port; over 80 m (5 ohm) 1.2583 A, 62.9 W. 25.5 W over 300 m of AWG 26 (44.9 ohm): 50² < 4 x 44.9 x 25.5.
DRAWS = [
    (3, 12.95, 20, "", [], ""), (3, 16, 20, "", ["PWR-8"], "16.0 W, mode day"), (6, 55, 10, "", ["PWR-10"], "55.8 W at the port"),
    (6, 55, 80, "", ["PWR-8"], "62.9 W at the port"), (4, 25.5, 300, "26", ["PWR-9", "RUN-1"], "25.5 W, mode day, over 300 m"),
    (1, 4.0, 20, "", ["PWR-8"], "4.0 W"), (8, 71.3, 50, "", [], ""), (5, 40.1, 20, "", ["PWR-8"], "40.1 W"),
]  # fmt: skip


@pytest.mark.parametrize(("poe_class", "draw_w", "run_m", "awg", "wanted", "measured"), DRAWS)
def test_a_device_keeps_to_its_class_and_its_cable_carries_it(
    tmp_path: Path, poe_class: int, draw_w: float, run_m: int, awg: str, wanted: list[str], measured: str
) -> None:
    """PClass_PD of IEEE 802.3 tables 33-18 and 145-26; extended power of clause 145.3.8.2."""
    types = TYPES.replace("poe_class = 3\nday_w = 6.0", f"poe_class = {poe_class}\nday_w = {draw_w}", 1)
    types = types.replace("poe_budget_w = 60", "poe_budget_w = 200\npoe_type = 4")
    cameras = with_columns(conductor_awg=f"{awg or 22} 22").replace("cabinet,1,20", f"cabinet,1,{run_m}")
    plan = plan_of(
        tmp_path, cameras=cameras if awg else CAMERAS.replace("cabinet,1,20", f"cabinet,1,{run_m}"), types=types
    )
    found = {f.code: f for f in plan_power(plan).findings}
    assert sorted(found) == sorted(wanted)
    assert not wanted or measured in found[wanted[0]].measured


def test_cords_and_unknown_cable_count_and_modes_add_up(tmp_path: Path) -> None:
    """12 W by day, 2 W more at night, 3 W more when cold: 17 W, at most 16.5 by the data sheet. Over 40 m and 10 m of cords,
    category unknown (class 3: 10 ohm; class 4: 6.25): 12 W at 44 V are 0.2921 A, 12.85 W; 16.5 W at 50 V are 0.3449 A, 17.24 W.
    """
    site = SITE.replace('cords_m = 0\ncable_category = "6"\n', "")
    more = "day_w = 12\nnight_w = 14\ncold_w = 15"
    types = TYPES.replace("poe_class = 3\nday_w = 6.0", f"poe_class = 4\n{more}\nmost_w = 16.5", 1)
    rows = CAMERAS.replace("cabinet,1,20", "cabinet,1,40")
    (switch,) = plan_power(plan_of(tmp_path / "a", site, rows, types)).switches
    north, worst = switch.ports[0], switch.draw_w[Mode.WORST]
    assert north.draw_w[Mode.WORST] == pytest.approx(17.24, abs=0.01)
    at_night = switch.ports[1].draw_w[Mode.NIGHT]
    assert worst == pytest.approx(17.24 + at_night, abs=0.01), "the other draws most at night"
    class_3 = TYPES.replace("day_w = 6.0", "day_w = 12", 1)
    assert plan_power(plan_of(tmp_path / "c", site, rows, class_3)).switches[0].ports[0].draw_w[
        Mode.DAY
    ] == pytest.approx(12.85, abs=0.01)
    known = with_columns(cable_category="5e 5e").replace("cabinet,1,20", "cabinet,1,40")
    told = plan_power(plan_of(tmp_path / "d", site, known, class_3)).switches[0].ports[0].draw_w[Mode.DAY]
    assert told == pytest.approx(port_w(12, 50, 3)) and told < 12.85
    # Each mode keeps to class 3 (12.95 W), all together do not: worth a look, no fault, and none once most_w says so.
    summed = TYPES.replace("day_w = 6.0", "day_w = 10\nnight_w = 12\ncold_w = 12", 1)
    found = plan_power(plan_of(tmp_path / "e", site, CAMERAS, summed)).findings
    assert [(f.code, f.measured, f.severity.value) for f in found] == [("PWR-11", "14.0 W, all modes at once", "note")]
    told_most = summed.replace("cold_w = 12", "cold_w = 12\nmost_w = 12.9")
    assert not plan_power(plan_of(tmp_path / "f", site, CAMERAS, told_most)).findings


def test_what_is_left_is_counted_as_the_switch_counts(tmp_path: Path) -> None:
    """Two cameras of class 3: by class 30.8 W of 33 W are gone and 2.2 W left, less than a tenth; by draw there is plenty."""
    types = TYPES.replace("poe_budget_w = 60", "poe_budget_w = 33")
    by_class = types.replace("poe_budget_w = 33", 'poe_budget_w = 33\npoe_budgeting = "class"')
    plain, counted = (plan_power(plan_of(tmp_path / n, types=t)) for n, t in (("a", types), ("b", by_class)))
    assert plain.switches[0].left_w > 17 and counted.switches[0].left_w == pytest.approx(2.2)
    assert not plain.findings and [f.code for f in counted.findings] == ["PWR-3"]
    assert "30.8 W by class" in counted.findings[0].measured


def with_columns(**columns: str) -> str:
    """The two cameras with more columns; a value for each camera, parted by a blank."""
    lines = CAMERAS.splitlines()
    for name, values in columns.items():
        north, south = values.split(" ")
        lines = [f"{line},{cell}" for line, cell in zip(lines, (name, north, south), strict=True)]
    return "\n".join(lines) + "\n"


@pytest.mark.parametrize(
    ("route", "cable", "fits"),
    [
        ("outdoor", "indoor", False),
        ("outdoor", "uv-proof", True),
        ("sunlit", "outdoor", False),
        ("indoor", "indoor", True),
    ],
)
def test_a_cable_is_made_for_its_way(tmp_path: Path, route: str, cable: str, fits: bool) -> None:
    cameras = with_columns(route=f"{route} indoor", cable_kind=f"{cable} indoor")
    found = plan_power(plan_of(tmp_path, cameras=cameras)).findings
    assert [(f.code, f.subject) for f in found] == ([] if fits else [("RUN-2", "camera north")])
    assert all(cable in f.measured and route in f.measured for f in found)


def test_priority_decides_who_goes_dark_before_the_port_number(tmp_path: Path) -> None:
    types = TYPES.replace("poe_budget_w = 60", "poe_budget_w = 10")
    cameras = with_columns(priority="low critical")
    (switch,) = plan_power(plan_of(tmp_path / "a", cameras=cameras, types=types)).switches
    assert switch.dark[Mode.DAY] == ("north",)
    by_class = types.replace("poe_budget_w = 10", 'poe_budget_w = 16\npoe_budgeting = "class"')
    (switch,) = plan_power(plan_of(tmp_path / "b", cameras=cameras, types=by_class)).switches
    assert all(dark == ("north",) for dark in switch.dark.values()), "15.4 W are reserved for each, in every mode"


def test_the_loss_of_one_supply(tmp_path: Path) -> None:
    types = TYPES.replace("poe_budget_w = 60", "poe_budget_w = 60\npoe_budget_one_supply_w = 12.5")
    power = plan_power(plan_of(tmp_path, types=types))
    assert power.switches[0].dark_one_supply[Mode.DAY] == () != power.switches[0].dark_one_supply[Mode.NIGHT]
    assert [(f.code, f.severity.value) for f in power.findings] == [("PWR-6", "warning")]
    assert "mode night, one supply lost: dark: south" in power.findings[0].measured


def test_injectors_and_mains_are_counted_apart(tmp_path: Path) -> None:
    power = plan_power(plan_of(tmp_path, cameras=with_columns(supply="injector mains")))
    assert power.apart == (("north", "injector"), ("south", "mains"))
    assert power.switches[0].ports == () and power.findings == ()


BATTERY = """
[[batteries]]
name = "ups"
capacity_wh = 200
wanted_min = WANTED
feeds = ["cabinet", "recorder"]
"""


def test_how_long_a_battery_lasts_by_hand(tmp_path: Path) -> None:
    """200 Wh x 0.8 x 0.8 x 0.9 = 115.2 Wh; 10 W switch, 30 W recorder, at night 6.04 W and 9.16 W at the ports, for which the
    PoE supply takes a ninth more.
    """
    types = TYPES.replace("ports = 10", "ports = 10\nself_w = 10", 1).replace(
        "channels = 4", "channels = 4\npower_w = 30"
    )
    power = plan_power(plan_of(tmp_path / "a", SITE + BATTERY.replace("WANTED", "100"), types=types))
    (battery,) = power.batteries
    load_w = 40 + (port_w(6, 20, 3) + port_w(9, 30, 3)) / 0.9
    assert battery.mode is Mode.NIGHT and battery.load_w == pytest.approx(load_w) == pytest.approx(56.9, abs=0.1)
    assert battery.run_time_min == pytest.approx(60 * 115.2 / load_w) and not power.findings
    short = plan_power(plan_of(tmp_path / "b", SITE + BATTERY.replace("WANTED", "240"), types=types))
    (found,) = short.findings
    needed = load_w * 4 / (0.8 * 0.8 * 0.9)
    assert found.code == "PWR-7" and f"{needed:.0f} Wh" in found.advice
    assert "battery ups" in found.subject and "2 h 01 min" in found.measured
    shown = zentrale("plan", "power", cwd=tmp_path / "b")
    assert shown.code == 0 and "too short" in shown.out and "4 h 00 min" in shown.out


@pytest.mark.parametrize(
    ("feeds", "wanted"),
    [
        ('"cabinet", "far", "core", "recorder"', {}),
        ('"cabinet", "recorder"', {"PWR-12 switch far": "south"}),
        (
            '"far", "recorder"',
            {"PWR-12 switch cabinet": "north", "PWR-13 recorder recorder": "its switch cabinet does not"},
        ),
        ('"cabinet", "far", "recorder"', {"PWR-13 switch far": "leads over one that does not: south"}),
        ("", {}),
    ],
)
def test_what_is_dark_when_the_mains_fails(tmp_path: Path, feeds: str, wanted: dict[str, str]) -> None:
    """The recorder and north hang on cabinet, south on far, and core lies between."""
    names = "".join(f'[[switches]]\nname = "{n}"\ncabinet = "{n}"\ntype = "switch-8"\n' for n in ("far", "core"))
    links = "".join(
        f'[[links]]\na = "core:{n}"\nb = "{s}:10"\nrate_mbps = 100\n' for n, s in ((1, "far"), (2, "cabinet"))
    )
    battery = f'[[batteries]]\nname = "ups"\ncapacity_wh = 2000\nfeeds = [{feeds}]\n'
    plan = plan_of(tmp_path, SITE + names + links + battery, CAMERAS.replace("cabinet,2", "far,2"))
    found = {f"{f.code} {f.subject}": f.measured for f in plan_power(plan).findings}
    assert set(found) == set(wanted) and all(words in found[key] for key, words in wanted.items())


TWO_SWITCHES = """
[[switches]]
name = "far"
cabinet = "yard"
type = "switch-8"
[[links]]
a = "cabinet:10"
b = "far:10"
rate_mbps = RATE
lit = LIT
"""


def test_traffic_crosses_the_links_on_its_path(tmp_path: Path) -> None:
    extra = TWO_SWITCHES.replace("RATE", "100").replace("LIT", "true")
    cameras = CAMERAS.replace("cabinet,2", "far,2")
    traffic = plan_traffic(plan_of(tmp_path, SITE + extra, cameras))
    loads = {load.name: load for load in traffic.links}
    link, leg = loads["cabinet:10 - far:10"], loads["cabinet:9 recorder"]
    assert link.load_bps == pytest.approx(300_000 * OVERHEAD) and link.cameras == ("south",)
    assert leg.load_bps == pytest.approx(600_000 * OVERHEAD) and leg.cameras == ("north", "south")
    assert pytest.approx(1478 / 1400) == OVERHEAD
    assert not traffic.findings


def test_a_link_beyond_line_rate_and_a_dark_one_are_faults(tmp_path: Path) -> None:
    cameras = CAMERAS.replace("cabinet,2", "far,2")
    site = SITE.replace("bitrate_kbps = 300", "bitrate_kbps = 2000")
    slow = plan_of(tmp_path / "a", site + TWO_SWITCHES.replace("RATE", "2").replace("LIT", "true"), cameras)
    assert [(f.code, f.subject) for f in plan_traffic(slow).findings] == [("TRF-1", "link cabinet:10 - far:10")]
    dark = plan_of(tmp_path / "b", SITE + TWO_SWITCHES.replace("RATE", "100").replace("LIT", "false"), cameras)
    assert [(f.code, f.subject) for f in plan_traffic(dark).findings] == [("TRF-4", "camera south")]


def test_plan_gives_figures_and_a_document(tmp_path: Path) -> None:
    folder = make_site(tmp_path)
    result = zentrale("plan", "--json", "--figures", cwd=folder)
    assert result.code == 0
    (switch,) = result.json["switches"]
    assert switch["poe_supply_w"] == 60 and set(switch["draw_w"]) == {"day", "night", "cold", "moving", "worst"}
    assert {link["kind"] for link in result.json["links"]} == {"leg", "port"}
    for name in ("power.png", "bandwidth.png", "storage.png"):
        assert (folder / "output" / name).read_bytes().startswith(b"\x89PNG")
    assert zentrale("plan", "weather", cwd=folder).code == 2


def test_every_code_is_explained() -> None:
    for code in CATALOGUE:
        assert code in zentrale("explain", code.lower()).out if code == "PWR-1" else CATALOGUE[code].explanation
    listing = zentrale("explain")
    assert all(code in listing.out for code in CATALOGUE)
    unknown = zentrale("explain", "PWR-99")
    assert unknown.code == 2 and "PWR-1" in unknown.err


def test_the_page_of_codes_is_made_from_the_registry() -> None:
    page = (Path(__file__).parent.parent / "docs" / "findings.md").read_text()
    for code, entry in CATALOGUE.items():
        assert f"## {code}: {entry.title}\n\n*{entry.severity.value}*. {entry.explanation}\n" in page, (
            "run tools/findings_page.py"
        )
