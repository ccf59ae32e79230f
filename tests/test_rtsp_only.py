"""Cameras that speak RTSP only: which address, which password, and how many are tried."""

from __future__ import annotations

import asyncio
from collections.abc import Callable, Iterator
from functools import partial
from pathlib import Path

import pytest

from conftest import CAMERAS, SITE, TYPES, make_site
from zentrale.errors import Cause, DeviceError, ForbiddenError, NotAskedError, PlayError, RefusedError, UnreachableError
from zentrale.field import rtsp_player
from zentrale.field.scheduler import failure
from zentrale.field.visit import Visit
from zentrale.jobs.known.found_devices import FoundDevice
from zentrale.jobs.passwords.keyring import Keyring
from zentrale.jobs.streams import rtsp_only
from zentrale.jobs.streams.judging import code_of_stream
from zentrale.logbook.ledger import Patience
from zentrale.logbook.store import Logbook
from zentrale.logbook.vault import Vault
from zentrale.logbook.vault_contents import Candidate
from zentrale.protocols.doors import Door, Outcome, Target
from zentrale.protocols.http_auth import Credentials
from zentrale.protocols.stream_address import StreamAddress
from zentrale.protocols.streams.meter import StreamMeasurement
from zentrale.site.folder import SiteFolder
from zentrale.site.reading import read_plan

MAIN = StreamAddress.parse("rtsp://127.0.71.13:8554/analogue/1")
OWN = Credentials("admin", "own")


def candidate(password: str, factory_of: str = "") -> Candidate:
    return Candidate(Credentials("admin", password), password, factory_of)


class Doorway:
    """A camera that opens to one password, to none, or to nobody; it remembers who knocked."""

    def __init__(self, opens_to: str | None, error: Callable[[str], DeviceError] = RefusedError) -> None:
        self.opens_to = opens_to
        self.error = error
        self.tried: list[str | None] = []

    async def measure(self, address: StreamAddress, visit: Visit, duration_s: float) -> StreamMeasurement:
        assert address is MAIN
        password = visit.credentials.password if visit.credentials else None
        ticket = None
        if visit.credentials is not None:
            target = Target(address.host, address.port)
            ticket = visit.rules.ledger.admit(target, Door.RTSP, "digest", visit.credentials, visit.purpose)
        self.tried.append(password)
        if password != self.opens_to:
            if ticket is not None:
                visit.rules.ledger.settle(ticket, Outcome.REFUSED)
            raise self.error("401")
        if ticket is not None:
            visit.rules.ledger.settle(ticket, Outcome.ACCEPTED)
        return StreamMeasurement(transport="tcp", codec="H264")


@pytest.fixture
def keyring(tmp_path: Path) -> Iterator[Keyring]:
    paths = 'max_resolution = "1920x1080"\nonvif = false\nmain_path = "a/1"\nsub_path = "/a/2"'
    types = TYPES.replace('max_resolution = "1920x1080"', paths, 1)
    folder = SiteFolder(make_site(tmp_path, SITE, CAMERAS, types))
    with Logbook(folder.logbook_file) as logbook:
        vault = Vault.create(folder.vault_file, "p")
        yield Keyring(read_plan(folder), vault, logbook, Patience(1800))


def find(monkeypatch: pytest.MonkeyPatch, door: Doorway, keyring: Keyring) -> Credentials | None:
    assert keyring.plan is not None
    monkeypatch.setattr(rtsp_player, "measure", door.measure)
    seen = FoundDevice("127.0.71.13", "", "sweep")
    return asyncio.run(rtsp_only.find_credentials(keyring, keyring.plan.camera("north"), seen, MAIN))


def hold(keyring: Keyring, *candidates: Candidate) -> None:
    assert keyring.vault is not None
    for item in candidates:
        keyring.vault.add_candidate(item)


def test_its_own_password_first_then_ours_then_its_makers_default(
    monkeypatch: pytest.MonkeyPatch, keyring: Keyring
) -> None:
    assert keyring.vault is not None
    keyring.vault.set_device("north", OWN)
    keyring.vault.set_device("south", Credentials("admin", "other"))
    hold(keyring, candidate("other-maker", "Orrery"), candidate("default", "pallas yard"), candidate("ours"))
    keyring.ledger.patience = Patience(1800, tries=9)
    door = Doorway("default")
    found = find(monkeypatch, door, keyring)
    assert found is not None and found.password == "default"
    assert door.tried == ["own", "ours", "default"], "nor another device's password, nor another maker's default"
    door.tried.clear()
    find(monkeypatch, door, keyring)
    assert door.tried == ["default"], "what worked last is tried first"


def test_at_most_two_passwords_are_tried_and_a_dead_camera_is_told_from_a_closed_one(
    monkeypatch: pytest.MonkeyPatch, keyring: Keyring
) -> None:
    hold(keyring, *(candidate(f"p{n}") for n in range(9)))
    door = Doorway("p8")
    with pytest.raises(NotAskedError, match="not all tried yet") as error:
        find(monkeypatch, door, keyring)
    assert door.tried == ["p0", "p1"] and "p0" not in str(error.value)
    dead = Doorway(None, UnreachableError)
    keyring.ledger.patience = Patience(0.0)
    with pytest.raises(UnreachableError):
        find(monkeypatch, dead, keyring)
    assert dead.tried == ["p2"], "no answer is no reason to try the next password"


def test_one_that_plays_for_everybody_needs_none(monkeypatch: pytest.MonkeyPatch, keyring: Keyring) -> None:
    assert find(monkeypatch, Doorway(None), keyring) is None


def test_the_addresses_come_from_the_type_and_the_open_port(keyring: Keyring) -> None:
    plan = keyring.plan
    assert plan is not None
    port = FoundDevice("10.0.0.9", "", "", open_ports=(80, 8554)).rtsp_port
    found = rtsp_only.stream_addresses(plan, plan.camera("north"), "10.0.0.9", port)
    assert {name: address.url for name, address in found.items()} == {
        "main": "rtsp://10.0.0.9:8554/a/1", "sub": "rtsp://10.0.0.9:8554/a/2",
    }  # fmt: skip
    with pytest.raises(DeviceError, match="main_path of vesper-d4"):
        rtsp_only.stream_addresses(plan, plan.camera("south"), "10.0.0.9", None)


@pytest.mark.parametrize(
    ("error", "code"),
    [(partial(PlayError, cause=Cause.TRANSPORT), "STR-20"), (partial(PlayError, cause=Cause.DESCRIPTION), "STR-22"),
     (ForbiddenError, "STR-35"), (RefusedError, "STR-18"), (UnreachableError, "STR-1")],
)  # fmt: skip
def test_the_cause_is_the_same_by_site_as_by_address(
    monkeypatch: pytest.MonkeyPatch, keyring: Keyring, error: Callable[[str], DeviceError], code: str
) -> None:
    """An encrypted stream, one without video, one that forbids: what ends the search for a password names it."""
    with pytest.raises(DeviceError) as ended:
        find(monkeypatch, Doorway("nobody's", error), keyring)
    assert code_of_stream(failure("north", ended.value)) == code
