"""Firmware, restart, back-up: to the right devices, in turns that keep the site watched; the first that stays away ends it."""

from __future__ import annotations

import asyncio
import hashlib
from pathlib import Path

import pytest

from conftest import CAMERAS, DATA, SITE, TYPES, StartStandIn, make_site, make_vault, zentrale
from strangers import Rich
from test_steps import HOST, Place, serving
from zentrale.jobs.known.planned import Planned, ref_of
from zentrale.jobs.known.step_form import DeviceResult, Outcome, StepResult
from zentrale.jobs.maintaining import steps as maintained
from zentrale.jobs.maintaining.job import Maintainer
from zentrale.jobs.maintaining.turns import in_turn, may_begin
from zentrale.jobs.registration import by_hand
from zentrale.logbook.store import Logbook
from zentrale.planning.overlaps import overlapping
from zentrale.protocols.onvif.maintenance import seconds
from zentrale.site.folder import SiteFolder
from zentrale.site.model import Plan
from zentrale.site.reading import read_plan

FILE = b"made-up firmware 9.9\n"
WANTED = f'firmware = {{ version = "9.9", file = "larch.bin", sha256 = "{hashlib.sha256(FILE).hexdigest()}" }}\n'
TYPED = TYPES.replace('model = "Larch 2"\n', f'model = "Larch 2"\n{WANTED}')


def maintained_site(folder: Path, start: StartStandIn, quirks: str = "", types: str = TYPED) -> Path:
    scenario = folder / "scenario.toml"
    head, mark, tail = (DATA / "small.toml").read_text().partition("[[cameras]]\n")
    scenario.write_text(f"{head}{mark}quirks = {{ restart_s = 0.4{quirks} }}\n{tail}")
    site = make_site(folder / "site", types=types)
    (site / "larch.bin").write_bytes(FILE)
    make_vault(site)
    start(scenario)
    assert zentrale("discover", cwd=site).code in (0, 1)
    assert zentrale("register", cwd=site).code == 0
    return site


@pytest.fixture(autouse=True)
def short(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(maintained, "_PATIENCE_S", 5.0)


def test_firmware_goes_where_it_belongs_and_is_read_back(tmp_path: Path, start_stand_in: StartStandIn) -> None:
    """The plan has one of them as another model than it says itself: the file is not for that."""
    types = TYPED.replace('model = "Vesper D4"', 'model = "Vesper D5"\n' + WANTED)
    site = maintained_site(tmp_path, start_stand_in, types=types)
    listed = zentrale("firmware", "--json", cwd=site).json["devices"]
    assert {d["device"]: d["state"] for d in listed} == {
        "north": "differs", "south": "differs", "recorder": "-",
    }  # fmt: skip
    (site / "larch.bin").write_bytes(FILE + b"x")
    wrong = zentrale("firmware", "--push", cwd=site)
    assert wrong.code == 2 and "is not the file that the plan names" in wrong.err
    (site / "larch.bin").write_bytes(FILE)
    assert zentrale("firmware", "--push", "--dry-run", cwd=site).code == 0
    pushed = zentrale("firmware", "--push", "--json", cwd=site)
    done = {d["device"]: d["steps"][0] for d in pushed.json["devices"]}
    assert (done["camera north"]["outcome"], done["camera north"]["after"]) == ("changed", "9.9"), pushed.all
    assert "the file is for Umbra Works Vesper D5, and was not sent" in done["camera south"]["error"]
    assert pushed.code == 1 and pushed.json["stopped_by"] is None
    zentrale("discover", cwd=site)
    assert zentrale("firmware", "north", "--json", cwd=site).json["devices"][0]["state"] == "as wanted"


@pytest.mark.parametrize(("quirk", "told"), [("keeps", "answered OK, but keeps 3.1.0"), ("dies", "did not come back")])
def test_one_that_keeps_the_old_or_stays_away(
    tmp_path: Path, start_stand_in: StartStandIn, quirk: str, told: str, monkeypatch: pytest.MonkeyPatch
) -> None:
    site = maintained_site(tmp_path, start_stand_in, f', firmware = "{quirk}"')

    async def sent(*_: object) -> tuple[float, float]:
        await real(*_)  # type: ignore[arg-type]
        return 1.0, 3.0

    real = maintained._sent
    monkeypatch.setattr(maintained, "_sent", sent)
    pushed = zentrale("firmware", "--push", "--json", cwd=site)
    assert pushed.code == 1 and told in pushed.json["devices"][0]["steps"][0]["error"], pushed.out
    assert pushed.json["stopped_by"] == ("north" if quirk == "dies" else None)


def test_a_restart_is_seen_and_a_back_up_brings_back_what_was(tmp_path: Path, start_stand_in: StartStandIn) -> None:
    site = maintained_site(tmp_path, start_stand_in)
    saved = zentrale("backup", "north", cwd=site)
    assert saved.code == 0, saved.all
    (file,) = (site / "backups").iterdir()
    assert b"north" not in file.read_bytes() and oct(file.stat().st_mode & 0o777) == "0o600", "it may hold passwords"
    with Logbook(site / "logbook.sqlite") as log:
        undone = next(r.id for r in log.runs("register"))
    assert zentrale("register", "--undo", str(undone), cwd=site).code in (0, 1)
    restored = zentrale("backup", "north", "--restore", "--json", cwd=site)
    assert restored.code == 0, restored.all
    steps = zentrale("register", "--dry-run", "--json", cwd=site).json["devices"]
    north = {s["step"]: s["outcome"] for s in next(d["steps"] for d in steps if d["device"] == "camera north")}
    assert (north["name"], north["host name"], north["main stream"]) == ("unchanged", "unchanged", "would change")
    content = file.read_bytes()
    file.write_bytes(content[:-1] + bytes([content[-1] ^ 1]))
    changed = zentrale("backup", "north", "--restore", cwd=site)
    assert changed.code == 2 and "was changed" in changed.err
    restarted = zentrale("restart", "north", "--json", cwd=site)
    assert restarted.code == 0 and restarted.json["devices"][0]["steps"][0]["after"] == "restarted", restarted.all
    assert zentrale("restart", "nroth", cwd=site).code == 2


class Giving(Rich):
    """Its back-up is in the answer itself, or nowhere (ONVIF Core, GetSystemBackup)."""

    files = ""

    def content(self, name: str, body: str) -> str | None:
        if name == "GetSystemBackup" and self.files:
            return f"<tds:{name}Response>{self.files}</tds:{name}Response>"
        return None if name in ("GetSystemUris", "GetSystemBackup") else super().content(name, body)


def test_a_back_up_that_is_in_no_place_of_its_own(tmp_path: Path) -> None:
    """Taken from the answer where it is there; else it is for hands, until it was done."""
    camera = Giving(HOST)
    place = Place(tmp_path, camera)

    def saved() -> StepResult:
        with Logbook(place.folder.logbook_file) as log:
            maintainer = Maintainer(place.keyring(log), lambda _: None)
            (result,) = asyncio.run(maintainer.save(place.folder, maintainer.devices(["north"])))
        return result.steps[0]

    def lines() -> list[tuple[str, str]]:
        with Logbook(place.folder.logbook_file) as log:
            return [(s.device, x.what) for s in by_hand.sheets(place.plan, (), log) for x in s.lines]

    with serving(camera):
        place.discover()
        place.register()
        assert saved().outcome is Outcome.NOT_OFFERED and ("north", "back-up") in lines()
        done = place.registration()
        with Logbook(place.folder.logbook_file) as log:
            by_hand.keep(log, done.run or 0, done.results, by_hand.sheets(place.plan, done.results, log))
        assert ("north", "back-up") in lines(), "a registration does not do it"
        camera.files = "<tds:BackupFiles><tt:Name>a.bin</tt:Name><tt:Data>Zm9v\nYmFy</tt:Data></tds:BackupFiles>"
        assert ", 6 B, " in saved().after and ("north", "back-up") not in lines()
    (file,) = (place.folder.path / "backups").iterdir()
    assert b"foobar" not in file.read_bytes() and place.vault.unseal(file.read_bytes()) == b"foobar"


def placed(tmp_path: Path) -> Plan:
    """Two look at the same place from both sides, a third looks away, a fourth has no place; two switches."""
    head = CAMERAS.splitlines()[0] + ",x_m,y_m,height_m,heading_deg,tilt_deg\n"
    rows = [("a", 1, "0,0,3,0,10"), ("b", 2, "0,8,3,180,10"), ("c", 3, "0,-100,3,180,10"), ("d", 4, ",,,,")]
    where = {"b": "other"}
    text = head + "".join(
        f"{n},x,larch-2,all,cameras,{where.get(n, 'cabinet')},{p},1,127.0.71.{p},,recorder,{p},{place}\n"
        for n, p, place in rows
    )
    site = SITE + '[[switches]]\nname = "other"\ncabinet = "hut"\ntype = "switch-8"\n'
    types = TYPES.replace('model = "Larch 2"\n', 'model = "Larch 2"\nview_deg = 90\n')
    return read_plan(SiteFolder(make_site(tmp_path, site, text, types)))


def test_never_two_that_watch_the_same_ground_nor_two_of_a_switch(tmp_path: Path) -> None:
    plan = placed(tmp_path)
    pairs = overlapping(plan, plan.cameras)
    unknown = {frozenset(("d", other)) for other in "abc"}
    assert pairs == {frozenset("ab"), *unknown}
    a, b, c, d = plan.cameras
    (recorder,) = plan.recorders
    assert not may_begin(plan, b, [a], pairs) and may_begin(plan, b, [c], pairs) and not may_begin(plan, c, [a], pairs)
    assert (
        not may_begin(plan, d, [c], pairs)
        and not may_begin(plan, recorder, [a], pairs)
        and may_begin(plan, recorder, [], pairs)
    )
    down: list[set[str]] = []
    now: set[str] = set()

    async def work(device: Planned) -> tuple[DeviceResult, bool]:
        now.add(device.name)
        down.append(set(now))
        await asyncio.sleep(0.01)
        now.discard(device.name)
        return DeviceResult(ref_of(device), ()), device.name != "b"

    turned = asyncio.run(in_turn(plan, [recorder, *plan.cameras], work))
    assert not any(frozenset(pair) <= names for names in down for pair in pairs) and {"b", "c"} in down
    assert turned.stopped_by == "b" and "recorder" in turned.left, "no other is begun after one that stays away"


def test_durations_are_those_of_xml_schema() -> None:
    """xs:duration, as ExpectedDownTime has it; no device takes longer than half an hour, whatever it says."""
    assert [seconds(t) for t in ("PT5S", "PT1M30S", "PT1H", "P1D", "", "PT0.5S")] == [5, 90, 1800, 0, 0, 0.5]
