"""Addresses: given last, looked for at both places, known again by who it is, and taken back."""

from __future__ import annotations

import asyncio
from pathlib import Path

import pytest

from conftest import CAMERAS, make_site
from strangers import LEASED, PORT, Camera, Mover, listening, moving
from test_steps import HOST, SITE, Place, hurry
from zentrale.jobs.discovery.discovering import last_devices
from zentrale.jobs.known.planned import ref_of
from zentrale.jobs.registration.undoing import undo
from zentrale.jobs.steps import whereabouts
from zentrale.jobs.steps.address import Address
from zentrale.logbook.store import Logbook
from zentrale.site.folder import SiteFolder
from zentrale.site.reading import read_plan

__all__ = ["hurry"]
NEW = "127.0.77.25"


class Elsewhere(Place):
    """The camera of the plan is found by its MAC address, at an address that is not the planned one."""

    def __init__(self, folder: Path, camera: Mover, cells: str = "", address: str = NEW) -> None:
        super().__init__(folder, camera)
        head = CAMERAS.splitlines()[0] + ",addressing\n"
        row = f"north,x,larch-2,all,cameras,cabinet,1,20,{address},{camera.mac},recorder,1,{cells}\n"
        self.folder = SiteFolder(make_site(folder / "site", SITE, head + row))
        self.plan = read_plan(self.folder)


@pytest.fixture(autouse=True)
def short(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(Address, "settle_s", 3.0)
    monkeypatch.setattr(whereabouts, "_PROBE_S", 0.1)


@pytest.mark.parametrize("nature", ["", "reboots", "silent", "slow", "late"])
def test_a_camera_gets_its_planned_address_and_is_found_there(tmp_path: Path, nature: str) -> None:
    camera = Mover(HOST, nature=nature)
    place = Elsewhere(tmp_path, camera)
    with moving(camera):
        place.discover()
        result = place.registration()
        steps = {s.step: s for s in result.results[0].steps}
        assert (steps["address"].outcome.value, camera.at) == ("changed", NEW), steps["address"].error
        assert (steps["address"].before, steps["address"].after) == (f"{HOST}/24", f"{NEW}/27")
        assert camera.told.count("SetNetworkInterfaces") == 1, "what may have been done is looked at, not asked again"
        names = [s.step for s in result.results[0].steps]
        assert names.index("address") > names.index("main stream"), "it goes last"
        with Logbook(place.folder.logbook_file) as log:
            assert last_devices(place.plan, log)["north"].address == NEW, "later commands go there"
        assert place.register()["address"].outcome.value == "unchanged" and "DIS-3" not in place.open_codes()
        if nature in ("", "reboots"):
            with Logbook(place.folder.logbook_file) as log:
                assert result.run is not None
                undone = {u.change.step: u for u in asyncio.run(undo(place.keyring(log), result.run, lambda *_: None))}
            assert undone["address"].taken_back and camera.at == HOST, undone["address"].why
            assert undone["main stream"].taken_back, "it is spoken with at its old address again"
            with Logbook(place.folder.logbook_file) as log:
                assert last_devices(place.plan, log)["north"].address == HOST


def test_one_that_was_moved_by_a_killed_run_is_taken_up_where_it_is(tmp_path: Path) -> None:
    """The journal says what was asked last; the device is there, and the last discovery has it at its old address."""
    camera = Mover(HOST)
    place = Elsewhere(tmp_path, camera)
    with moving(camera):
        place.discover()
        with Logbook(place.folder.logbook_file) as log, log.running("register", "here", {}) as run:
            ref = ref_of(place.plan.cameras[0])
            log.begin_change(run, ref, "address", HOST, NEW, ({"address": HOST}, {"address": NEW}))
        camera.at = camera.host = NEW
        result = place.registration()
        assert [c.step for c in result.taken_up] == ["address"] and not [
            f for f in result.findings if f.code == "REG-1"
        ]
        with Logbook(place.folder.logbook_file) as log:
            assert last_devices(place.plan, log)["north"].address == NEW


def test_one_that_stays_is_told_and_goes_on_where_it_is(tmp_path: Path) -> None:
    camera = Mover(HOST, nature="lies")
    place = Elsewhere(tmp_path, camera)
    with moving(camera):
        place.discover()
        steps = place.register()
    assert steps["address"].outcome.value == "failed" and f"answered OK, but keeps {HOST}" in steps["address"].error


def test_an_address_that_somebody_has_is_not_given_away(tmp_path: Path) -> None:
    camera, other = Mover(HOST), Camera(NEW)
    place = Elsewhere(tmp_path, camera)
    with moving(camera), listening((other.serve, NEW, PORT, None)):
        place.discover()
        step = place.register()["address"]
    assert step.outcome.value == "failed" and f"{NEW} is taken" in step.error and camera.at == HOST
    assert "SetNetworkInterfaces" not in camera.told


def test_an_address_from_dhcp_and_one_left_alone(tmp_path: Path) -> None:
    camera = Mover(HOST)
    place = Elsewhere(tmp_path / "a", camera, "dhcp", LEASED)
    with moving(camera):
        place.discover()
        step = place.register()["address"]
        assert (step.outcome.value, step.after, camera.dhcp) == ("changed", f"{LEASED}/24 from DHCP", "true"), (
            step.error
        )
        fixed = Elsewhere(tmp_path / "b", camera, "fixed", LEASED)
        fixed.discover(LEASED)
        assert fixed.register()["address"].after == f"{LEASED}/27" and camera.dhcp == "false"
    other = Mover(HOST)
    left = Elsewhere(tmp_path / "c", other, "leave")
    with moving(other):
        left.discover()
        assert "address" not in left.register() and other.at == HOST


def test_an_address_out_of_sight_is_not_given(tmp_path: Path) -> None:
    """The device is on our own link now, and would be on none of ours there: nobody could say that it arrived."""
    from ipaddress import IPv4Network

    from zentrale.field.adapters import Adapter

    here = [Adapter("eth0", "192.168.1.9", IPv4Network("192.168.1.0/24"))]
    assert not whereabouts.seen_from_here("192.168.1.64", "10.20.0.11", here)
    both = [*here, Adapter("eth0", "10.20.0.250", IPv4Network("10.20.0.0/24"))]
    assert whereabouts.seen_from_here("192.168.1.64", "10.20.0.11", both)
    assert whereabouts.seen_from_here("10.30.0.64", "10.20.0.11", here), "through a router as before"
