"""A device with several lenses: a row of the schedule each, one device for power, address and password."""

from __future__ import annotations

import re
from collections.abc import Iterator
from pathlib import Path

import pytest

from conftest import CAMERAS, DATA, SITE, StartStandIn, make_site, make_vault, measured, zentrale
from strangers import Settable
from test_steps import HOST, Place, serving
from zentrale.jobs.registration import registering
from zentrale.jobs.registration.registering import Registrar
from zentrale.jobs.rotating import RECORDING
from zentrale.jobs.steps.step_registry import steps_of
from zentrale.logbook.evidence import standings
from zentrale.logbook.store import Logbook
from zentrale.planning.addresses import plan_addresses
from zentrale.planning.placed import as_placed
from zentrale.planning.placing.dealing import Cost
from zentrale.planning.placing.search import PlacedCabinet, PlacedSwitch, Solution
from zentrale.planning.power import plan_power
from zentrale.planning.traffic import plan_traffic
from zentrale.site.folder import SiteFolder
from zentrale.site.model import Plan
from zentrale.site.reading import read_plan

HEADER = CAMERAS.splitlines()[0] + ",source\n"
NORTH = "north,north door,larch-2,all,cameras,cabinet,1,20,127.0.71.11,02:5a:71:00:00:11,recorder,1,2\n"
YARD = "yard,the yard,larch-2,all,cameras,cabinet,1,20,,,recorder,2,1\n"


@pytest.fixture
def two_lenses(tmp_path: Path, start_stand_in: StartStandIn) -> Iterator[Path]:
    """The first camera of the small site with two lenses; its row of the first source is the second in the file."""
    scenario = tmp_path / "lenses.toml"
    scenario.write_text((DATA / "small.toml").read_text().replace(':00:11"', ':00:11"\nlenses = 2'))
    start_stand_in(scenario)
    yard = YARD.replace(",20,,,", ",20,127.0.71.11,02:5a:71:00:00:11,")
    site = make_site(tmp_path / "site", SITE, HEADER + NORTH.replace("127.0.71.11,02:5a:71:00:00:11", ",") + yard)
    make_vault(site)
    yield site


def test_each_lens_is_registered_recorded_and_verified_and_the_device_entered_once(two_lenses: Path) -> None:
    found = zentrale("discover", "--json", cwd=two_lenses)
    assert found.code == 0 and found.json["missing"] == [], found.all
    done = zentrale("register", "--only", "north", "--json", cwd=two_lenses)
    assert done.code == 0, done.all
    steps = {d["device"].split()[-1]: {s["step"]: s["after"] for s in d["steps"]} for d in done.json["devices"]}
    assert steps["yard"]["channel"].startswith("channel 2: rtsp://127.0.71.11:8554/live/main as")
    assert steps["north"]["channel"].startswith("channel 1: rtsp://127.0.71.11:8554/live/main/2 as")
    assert steps["yard"]["host name"] == "yard" and not {"host name", "password", "address"} & set(steps["north"])
    kept = zentrale("vault", "list", "--json", cwd=two_lenses).json
    assert {e["name"] for e in kept["entries"] if e["kind"] == "device"} == {"yard", "recorder"}
    seen = measured("--json", cwd=two_lenses)
    assert seen.code == 0 and len(seen.json["streams"]) == 4 and not seen.json["findings"], seen.all
    again = zentrale("register", "--json", cwd=two_lenses)
    assert not [s for d in again.json["devices"] for s in d["steps"] if s["outcome"] != "unchanged"]
    rotated = zentrale("vault", "rotate", "north", "--json", cwd=two_lenses)
    assert rotated.code == 0, rotated.all
    recorded = [s for d in rotated.json["devices"] for s in d["steps"] if s["step"] == RECORDING]
    assert len(recorded) == 2, "the password that the recorder watches with has changed: both channels were given it"
    # The row that stands for the device goes: the other one stands for it from now on, with its password.
    assert zentrale("remove", "yard", cwd=two_lenses).code == 0
    verified = measured("--json", cwd=two_lenses)
    assert verified.json["findings"] == []
    kept = zentrale("vault", "list", "--json", cwd=two_lenses).json
    assert {e["name"] for e in kept["entries"] if e["kind"] == "device"} == {"north", "recorder"}


def test_profiles_are_told_apart_by_their_video_source(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """Its profiles of lens_2 come first in its list, and those of both lenses have the same sizes."""
    camera = Settable(HOST)
    place = Place(tmp_path, camera)
    (row,) = place.plan.cameras
    two = [row.model_copy(update={"name": name, "source": n, "channel": n}) for n, name in ((1, "one"), (2, "two"))]
    three = row.model_copy(update={"name": "three", "source": 3, "channel": 3})
    values = dict(place.plan)
    place.plan = Plan(**{**values, "cameras": (*two, three)})
    with serving(camera):
        place.discover()
        done = {r.ref.name: {s.step: s for s in r.steps} for r in place.registration().results}
        with monkeypatch.context() as broken:
            broken.setattr(registering, "steps_of", lambda b: 1 / 0 if b.planned.source == 2 else steps_of(b))
            second = place.registration()
            broken.setattr(Registrar, "_open", lambda *_: 1 / 0)
            ended = place.registration()
        place.plan = Plan(**{**values, "cameras": tuple(two)})
        place.registration()
    with Logbook(place.folder.logbook_file) as log:
        stands = [(str(s.finding.ref), s.finding.code) for s in standings(log) if s.settled_by is None]
    assert [(r.ref.name, r.failed, r.steps[-1].step) for r in second.results] == [
        ("one", False, "what follows"), ("two", True, "begin"), ("three", False, "begin"),
    ], "what ended the work on a lens stands at its row"  # fmt: skip
    assert [s for s in stands if "camera" in s[0]] == [], "and does not stand any more where all went well since"
    assert [(r.ref.name, r.failed) for r in ended.results] == [("one", True), ("two", False), ("three", False)]
    assert ended.left == ("one", "two", "three"), "each lens has a line, whatever ended the work on its device"
    widths = {t: re.findall(r"Width>(\d+)<", x)[0] for t, x in camera.encoders.items()}
    assert widths == {"E1m": "320", "E1s": "160", "E2m": "320", "E2s": "160"}
    changes = {row: done[row]["main stream"].before_values or {} for row in ("one", "two")}
    assert [changes[row]["token"] for row in changes] == ["E1m", "E2m"]
    told = done["three"]["main stream"]
    assert (
        told.outcome.value == "not offered"
        and told.error == "it tells 2 video sources (lens_1, lens_2); source 3 is planned"
    )


def test_the_device_is_planned_once_and_its_streams_each(tmp_path: Path) -> None:
    folder = make_site(tmp_path / "two", SITE, HEADER + NORTH + YARD)
    plan = read_plan(SiteFolder(folder))
    alone = read_plan(SiteFolder(make_site(tmp_path / "one", SITE, HEADER + NORTH)))
    assert [c.host for c in plan.cameras] == ["127.0.71.11"] * 2, "what one row leaves empty is as the other has it"
    assert plan_power(plan).switches[0].draw_w == plan_power(alone).switches[0].draw_w
    assert len(plan_addresses(plan).devices) == len(plan_addresses(alone).devices)
    port = {load.name: load.load_bps for load in plan_traffic(plan).links}["cabinet:1"]
    assert port == pytest.approx(2 * {load.name: load.load_bps for load in plan_traffic(alone).links}["cabinet:1"])
    device = plan.device_of(plan.cameras[0]).name
    placed = PlacedCabinet("hall", (PlacedSwitch("switch-8", (device,)),), {device: 9.0})
    moved, _ = as_placed(plan, Solution((placed,), Cost(0, 0, 0), 0.0, 0.0, None))
    assert {(c.switch, c.port, c.run_length_m) for c in moved.cameras} == {("placed-1", 1, 9.0)}


@pytest.mark.parametrize(
    ("yard", "said"),
    [
        (YARD.replace(",,,", ",127.0.71.9,,"), r"line 2: field address: found '127.0.71.11'; expected '127.0.71.9', as .* 3"),
        (YARD[:-2] + "2\n", r"line 3: field source: source '2 of \w+' is already used at cameras.csv line 2"),
        (YARD[:-2] + "\n", r"line 3: field port: port 'cabinet:1' is already used at cameras.csv line 2"),
        (YARD[:-2] + "0\n", r"line 3: field cameras.source: found '0'; expected 1 or more"),
    ],
)  # fmt: skip
def test_rows_that_do_not_agree_are_told(tmp_path: Path, yard: str, said: str) -> None:
    done = zentrale("check", cwd=make_site(tmp_path, SITE, HEADER + NORTH + yard))
    assert done.code == 2 and re.search(said, done.all), done.all


def test_each_lens_counts_where_it_records_and_the_device_where_it_stands(tmp_path: Path) -> None:
    """By hand: two streams to keep and two channels; one port, one DHCP reservation, one camera on the switch's sheet."""
    from zentrale.planning.network import plan_network
    from zentrale.planning.storage import plan_storage

    recording = 'recording = { mode = "continuous", keep_days = 10 }\n'
    site = SITE.replace('name = "all"\n', 'name = "all"\n' + recording).replace(
        "http_port = 8080\n", "http_port = 8080\nstorage = { drives = 2, drive_tb = 4 }\n"
    )
    plan = read_plan(SiteFolder(make_site(tmp_path / "two", site, HEADER + NORTH + YARD)))
    alone = read_plan(SiteFolder(make_site(tmp_path / "one", site, HEADER + NORTH)))
    (two,), (one,) = plan_storage(plan).recorders, plan_storage(alone).recorders
    assert two.needed_bytes == pytest.approx(2 * one.needed_bytes) and len(two.cameras) == 2
    net = plan_network(plan)
    assert [d.name for d in net.reserved(net.plan.zones[0])] == ["recorder", "yard"], (
        "under the row of the first source"
    )
    used = [r.device for r in net.ports.rows if r.kind == "camera"]
    assert (
        used == ["yard"]
        and len(plan.camera_devices) == 1
        and [c.name for c in plan.lenses(plan.cameras[0])] == ["yard", "north"]
    )


def test_a_lens_is_undone_with_its_device_and_bound_by_any_of_its_rows(two_lenses: Path) -> None:
    zentrale("discover", cwd=two_lenses)
    bound = zentrale("assign", "north", "127.0.71.11", cwd=two_lenses)
    assert bound.code == 0 and zentrale("discover", "--json", cwd=two_lenses).json["missing"] == []
    done = zentrale("register", "--json", cwd=two_lenses)
    assert done.code == 0, done.all
    undone = zentrale("register", "--undo", str(done.json["run"]), "--json", cwd=two_lenses)
    back = {(u["device"], u["step"]) for u in undone.json["taken_back"]}
    assert {
        ("camera north", "channel"),
        ("camera yard", "channel"),
        ("camera north", "main stream"),
        ("camera yard", "host name"),
    } <= back
    again = zentrale("register", "--json", cwd=two_lenses)
    assert again.code == 0 and measured("--only", "north", "--json", cwd=two_lenses).json["findings"] == [], again.all
    listed = zentrale("firmware", "--json", cwd=two_lenses).json
    assert [d["device"] for d in listed["devices"]] == ["yard", "recorder"], "one device, one firmware"


def test_a_schedule_with_a_column_for_lenses_is_taken_in(tmp_path: Path) -> None:
    folder = make_site(tmp_path / "site", SITE, HEADER + NORTH)
    schedule = tmp_path / "schedule.csv"
    schedule.write_text(
        "Camera,Model,Switch,Port,Cable (m),IP,NVR,Channel,Lens,Zone,Group\n"
        "hall-left,larch-2,cabinet,3,12,127.0.71.15,recorder,1,1,cameras,all\nhall-right,larch-2,cabinet,3,12,,recorder,2,2,cameras,all\n"
    )
    done = zentrale("import", str(schedule), "--remove-missing", cwd=folder)
    assert done.code == 0, done.all
    rows = {c.name: c for c in read_plan(SiteFolder(folder)).cameras}
    assert (rows["hall-right"].source, rows["hall-right"].host) == (2, "127.0.71.15")
