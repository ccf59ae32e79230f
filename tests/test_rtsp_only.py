"""Cameras that speak RTSP only: which address, which password, and how many are tried."""

from __future__ import annotations

import asyncio
from pathlib import Path

import pytest

from conftest import CAMERAS, SITE, TYPES, make_site
from zentrale.errors import DeviceError, RefusedError
from zentrale.field import rtsp_player
from zentrale.field.rtsp_player import Access, AccessResult
from zentrale.jobs import rtsp_only
from zentrale.jobs.access import MAX_WRONG_PASSWORDS
from zentrale.logbook.vault import Candidate, Contents
from zentrale.protocols.http_auth import Credentials
from zentrale.protocols.rtsp_client import StreamAddress
from zentrale.site.folder import SiteFolder
from zentrale.site.reading import read_plan

MAIN = StreamAddress.parse("rtsp://127.0.71.13:8554/analogue/1")
OWN = Credentials("admin", "own")


def candidate(password: str, factory_of: str = "") -> Candidate:
    return Candidate(Credentials("admin", password), password, factory_of)


class Door:
    """A camera that opens to one password, to none, or to nobody; it remembers who knocked."""

    def __init__(self, opens_to: str | None, answer: Access = Access.REFUSED) -> None:
        self.opens_to = opens_to
        self.answer = answer
        self.tried: list[str | None] = []

    async def try_access(self, address: StreamAddress, credentials: Credentials | None) -> AccessResult:
        assert address is MAIN
        password = credentials.password if credentials else None
        self.tried.append(password)
        opened = password == self.opens_to
        return AccessResult(Access.PLAYS if opened else self.answer, "H264 packets arrived" if opened else "401")


def find(monkeypatch: pytest.MonkeyPatch, door: Door, vault: Contents) -> Credentials | None:
    monkeypatch.setattr(rtsp_player, "try_access", door.try_access)
    return asyncio.run(rtsp_only.find_credentials(vault, "west", "Pallas Yard", MAIN))


def test_its_own_password_first_then_ours_then_its_makers_default(monkeypatch: pytest.MonkeyPatch) -> None:
    vault = Contents(
        devices={"west": OWN, "north": Credentials("admin", "other")},
        candidates=(candidate("other-maker", "Orrery"), candidate("default", "pallas yard"), candidate("ours")),
    )
    door = Door("default")
    found = find(monkeypatch, door, vault)
    assert found is not None and found.password == "default"
    assert door.tried == ["own", "ours", "default"], "nor another device's password, nor another maker's default"


def test_at_most_a_few_passwords_are_tried_and_a_dead_camera_is_told_from_a_closed_one(
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    vault = Contents(candidates=tuple(candidate(f"p{n}") for n in range(9)))
    door = Door("p8")
    with pytest.raises(RefusedError, match="zentrale vault add") as error:
        find(monkeypatch, door, vault)
    assert len([p for p in door.tried if p]) == MAX_WRONG_PASSWORDS and "p0" not in str(error.value)
    dead = Door(None, Access.UNCLEAR)
    with pytest.raises(DeviceError):
        find(monkeypatch, dead, vault)
    assert dead.tried == ["p0"], "no answer is no reason to try the next password"


def test_one_that_plays_for_everybody_needs_none(monkeypatch: pytest.MonkeyPatch) -> None:
    assert find(monkeypatch, Door(None), Contents()) is None


def test_the_addresses_come_from_the_type_and_the_open_port(tmp_path: Path) -> None:
    paths = 'max_resolution = "1920x1080"\nonvif = false\nmain_path = "a/1"\nsub_path = "/a/2"'
    types = TYPES.replace('max_resolution = "1920x1080"', paths, 1)
    plan = read_plan(SiteFolder(make_site(tmp_path, SITE, CAMERAS, types)))
    found = rtsp_only.stream_addresses(plan, plan.camera("north"), "10.0.0.9", (80, 8554))
    assert {name: address.url for name, address in found.items()} == {
        "main": "rtsp://10.0.0.9:8554/a/1", "sub": "rtsp://10.0.0.9:8554/a/2",
    }  # fmt: skip
    with pytest.raises(DeviceError, match="main_path of vesper-d4"):
        rtsp_only.stream_addresses(plan, plan.camera("south"), "10.0.0.9", ())
