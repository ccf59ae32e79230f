"""Passwords that are made: whom they go to, when they count as refused, and what a device makes of them.

The cameras are hand-written; what they were sent and what they hold is the truth.
"""

from __future__ import annotations

import asyncio
import re
import struct
import time
from collections.abc import Callable
from dataclasses import dataclass, field, replace
from functools import partial
from pathlib import Path

import psutil
import pytest

from conftest import CAMERAS, make_site
from strangers import SOAP, Settable
from test_steps import HOST, SITE, Place, hurry, serving
from zentrale.errors import InputError
from zentrale.field.device import Device
from zentrale.findings import Finding
from zentrale.jobs.passwords.keyring import Keyring
from zentrale.jobs.passwords.keyring import Manner as Said
from zentrale.jobs.registration import registering
from zentrale.jobs.rotating import Rotation, Rotator
from zentrale.logbook import processes, vault
from zentrale.logbook.ledger import Patience
from zentrale.logbook.store import Logbook
from zentrale.logbook.vault import Vault
from zentrale.logbook.vault_contents import Candidate
from zentrale.protocols.doors import Door, Outcome, Purpose, Target
from zentrale.protocols.http_auth import Credentials
from zentrale.site.identity import Identity
from zentrale.site.reading import read_plan

__all__ = ["hurry"]
OTHER_MAC = "02:66:00:00:00:01"


@pytest.fixture(autouse=True)
def patient(hurry: None, monkeypatch: pytest.MonkeyPatch) -> None:
    """None of these cameras is silent, so that a machine that stalls may take its time."""
    monkeypatch.setattr(registering, "Device", partial(Device, timeout_s=5.0))


@dataclass
class Guarded(Settable):
    """Keeps all that it is sent in `heard`. cuts: characters that it keeps of a password; takes_s: until it takes one, and lets
    nobody in meanwhile; room: for accounts; wants_all: credentials for everything, in its own HTTP date; rules: as it tells them
    """

    told_mac: str | None = None
    cuts: int = 0
    takes_s: float = 0.0
    room: int = 0
    wants_all: bool = False
    rules: dict[str, int] = field(default_factory=dict)
    heard: list[str] = field(default_factory=list)
    taken_at: float = 0.0

    @property
    def mac(self) -> str:
        return super().mac if self.told_mac is None else self.told_mac

    async def answer(self, writer: asyncio.StreamWriter, head: str, body: str) -> None:
        self.heard.append(head + body)
        if self.wants_all and not self.proves(head, body):
            more = f'WWW-Authenticate: Digest realm="r", nonce="{self.nonce}", qop="auth"\r\n'
            await self.send(writer, "401 Unauthorized", SOAP.format("<x/>").encode(), more)
            return
        await super().answer(writer, head, body)

    def secret_of(self, user: str) -> str | None:
        return "\0" if time.monotonic() < self.taken_at else super().secret_of(user)

    def content(self, name: str, body: str) -> str | None:
        if name == "GetServiceCapabilities":
            most = f' MaxUsers="{self.room}"' if self.room else ""
            return (
                f"<tds:{name}Response><tds:Capabilities><tds:Security{most}/></tds:Capabilities></tds:{name}Response>"
            )
        if name == "GetPasswordComplexityConfiguration" and self.rules:
            told = "".join(f"<tds:{rule}>{least}</tds:{rule}>" for rule, least in self.rules.items())
            return f"<tds:{name}Response>{told}</tds:{name}Response>"
        if name == "GetNetworkInterfaces" and not self.mac:
            return f"<tds:{name}Response/>"
        return super().content(name, body)

    def keep(self, name: str, body: str) -> None:
        super().keep(name, body)
        if name in ("CreateUsers", "SetUser"):
            self.taken_at = time.monotonic() + self.takes_s
            if self.cuts:
                self.password = self.password[: self.cuts]


class Lane(Place):
    """A place whose row names no MAC address."""

    def __init__(self, folder: Path, camera: Settable, policy: str = "", **how: object) -> None:
        super().__init__(folder, camera, SITE.replace("[policy]\n", f"[policy]\n{policy}\n", 1))
        row = f"north,x,larch-2,all,cameras,cabinet,1,20,{HOST},,recorder,1\n"
        make_site(folder, self.folder.site_file.read_text(), CAMERAS.splitlines()[0] + "\n" + row)
        self.plan, self.how = read_plan(self.folder), how

    def keyring(self, logbook: Logbook, *, dry_run: bool = False) -> Keyring:
        patience = Patience(60 * self.plan.policy.refusal_window_min, 2, patient=bool(self.how.get("patient")))
        more = {name: value for name, value in self.how.items() if name != "patient"}
        return Keyring(self.plan, self.vault, logbook, patience, dry_run=dry_run, **more)  # type: ignore[arg-type]

    def rotate(self) -> Rotation:
        with Logbook(self.folder.logbook_file) as log:
            return asyncio.run(Rotator(self.keyring(log), lambda *_: None).rotate(["north"], anew=True))

    def attempts(self) -> list[str]:
        with Logbook(self.folder.logbook_file) as log:
            return [row[0] for row in log.execute("SELECT state FROM attempt ORDER BY id")]

    def secrets(self) -> list[str]:
        contents = self.vault.contents
        return [e.credentials.password for e in contents.devices.values()] + [
            c.password for c in contents.accounts.values()
        ]


def codes(findings: list[Finding]) -> set[str]:
    return {f.code for f in findings}


def test_who_sits_in_a_cameras_place_is_sent_none_of_its_passwords(tmp_path: Path) -> None:
    camera = Guarded(HOST, fresh=True)
    place = Lane(tmp_path, camera)
    with serving(camera):
        place.discover()
        assert place.register()["password"].outcome.value == "changed"
    live, pending = place.secrets(), place.vault.contents.pending
    assert len(live) == 2 and not pending and camera.password == live[0], "both were seen to open it"
    stranger = Guarded(HOST, fresh=True, told_mac=OTHER_MAC, serial="X-1")
    with serving(stranger):
        for _ in range(2):  # one more discovery makes nobody welcome
            told = next(f for f in place.discover() if f.code == "SEC-11")
            assert OTHER_MAC in told.measured and "zentrale replace north" in told.advice
            step = place.register()["password"]
            assert step.outcome.value == "failed" and "another device" in step.error and stranger.fresh
        stranger.fresh, stranger.password = False, "what it has"
        stranger.proves = lambda head, body: "uthorization:" in head  # type: ignore[method-assign]  # it takes any password
        assert "SEC-11" in codes(place.discover()), "what it tells once it is open counts too"
        assert place.vault.contents.devices["north"].identity.macs == {camera.mac}
        asked = list[str]()
        place.how["manner"] = Said(ask=lambda question: asked.append(question) or False)  # type: ignore[func-returns-value]
        del stranger.__dict__["proves"]
        stranger.fresh = True
        assert place.register()["password"].outcome.value == "failed" and OTHER_MAC in asked[0]
        place.how["manner"] = Said(ask=lambda question: True)
        assert place.register()["password"].outcome.value == "changed", "a person said that it is the same"
    heard = "".join(stranger.heard)
    assert not any(secret in heard for secret in live) and "Password>" in heard


def test_one_that_claims_to_be_fresh_and_tells_nothing_gets_a_password_of_its_own(tmp_path: Path) -> None:
    camera = Guarded(HOST, fresh=True)
    place = Lane(tmp_path, camera)
    with serving(camera):
        place.discover(), place.register()
        live = place.secrets()
        camera.fresh, camera.told_mac, camera.heard = True, "", []
        camera.others.clear()
        assert "SEC-12" in codes(place.discover())
        done = place.registration()
        assert {"SEC-12"} <= codes(list(done.findings)) and not any(s in "".join(camera.heard) for s in live)
        assert camera.password not in live and camera.others["recorder"][0] not in live
        assert [f.entry.credentials.password in live for f in place.vault.contents.former] == [True, True]
        failed = place.rotate().findings
        assert "MAC address is neither planned nor seen" in failed[0].measured, "nothing tells who would read it"


def test_a_device_has_its_time_after_a_new_password(tmp_path: Path) -> None:
    camera = Guarded(HOST, fresh=True, takes_s=1.0)
    place = Lane(tmp_path, camera, 'new_password_s = 2\nrecorder_account = ""')
    with serving(camera):
        place.discover()
        assert place.register()["password"].outcome.value == "changed"
        assert camera.refusals == 1 and not place.attempts(), "a refusal within its time is none"
        assert place.vault.contents.devices["north"].takes_s > 1
        assert not place.rotate().findings and camera.refusals == 1, "the next time it is asked when it can know"


def test_what_a_device_keeps_of_a_password_is_found_one_try_a_window(tmp_path: Path) -> None:
    camera = Guarded(HOST, fresh=True, cuts=12)
    place = Lane(tmp_path, camera, 'new_password_s = 0.2\nrefusal_window_min = 0.03\nrecorder_account = ""')
    place.vault.add_candidate(Candidate(Credentials("admin", "default"), "default", "Pallas Yard"))
    with serving(camera):
        place.discover()
        step = place.register()["password"]
        assert "a new password was sent and does not open it yet" in step.error and camera.refusals == 2
        again = place.register()["password"]
        assert "not tried yet" in again.error and camera.refusals == 2, "two a window, whoever asks"
        place.how["patient"] = True
        done = place.registration()
        assert not [s for d in done.results for s in d.steps if s.error and s.step == "password"]
        told = next(f for f in done.findings if f.code == "SEC-13")
        assert "first 12" in told.measured and "password_length = 12" in told.advice
    assert place.vault.contents.devices["north"].credentials.password == camera.password
    assert all(later - earlier > 0.8 for earlier, later in zip(camera.refused[2:], camera.refused[4:], strict=False))


def test_who_wants_credentials_for_everything_is_asked_with_them(tmp_path: Path) -> None:
    camera = Guarded(HOST, password="default", wants_all=True)
    place = Lane(tmp_path, camera)
    place.vault.add_candidate(Candidate(Credentials("admin", "default"), "default", "Pallas Yard"))
    with serving(camera):
        found = codes(place.discover())
        assert "SEC-1" in found and not found & {"DIS-6", "DIS-10", "CLK-1"}
        done = {s.outcome.value for n, s in place.register().items() if n not in ("channel", "picture")}
        assert done == {"changed", "unchanged"}
        place.vault.set_device("north", Credentials("admin", "of another"))
        place.vault.update(lambda c: replace(c, former=()))
        assert not codes(place.discover()) & {"DIS-6", "DIS-10"}, "who refuses is not late"


def test_accounts_of_others_and_accounts_without_room(tmp_path: Path) -> None:
    camera = Guarded(HOST, others={"recorder": ("theirs", "User"), "guest": ("x", "User")})
    place = Lane(tmp_path, camera)
    with serving(camera):
        place.discover()
        step = place.register()["account recorder"]
        assert "whose is it?" in step.error and camera.others["recorder"][0] == "theirs"
        del camera.others["recorder"]
        camera.room = 2
        full = place.register(dry_run=True)["account recorder"]
        assert full.outcome.value == "failed" and "admin, guest" in full.error
        camera.others["recorder"], camera.room = ("theirs", "User"), 0
        place.how["overwrite"] = True
        assert place.register()["account recorder"].outcome.value == "changed"
        assert camera.others["recorder"][0] == place.vault.contents.accounts["north", "recorder"].password
        camera.others.clear()  # it has lost it: the one that opened it once is nobody's a second time
        lost = place.secrets()
        assert place.register()["account recorder"].outcome.value == "changed"
        assert camera.others["recorder"][0] not in lost


def test_a_rotation_obeys_the_devices_rules_and_goes_on_after_a_kill(tmp_path: Path) -> None:
    camera = Guarded(HOST, rules={"MinLen": 10, "Uppercase": 4, "Number": 3, "SpecialChars": 2})
    place = Lane(tmp_path, camera, "new_password_s = 0")
    with serving(camera):
        place.discover(), place.register()
        assert not [f for f in place.rotate().findings if "password" in str(f.ref)]
        drawn = camera.password
        assert len(re.findall("[A-Z]", drawn)) >= 4 and len(re.findall("[^A-Za-z0-9]", drawn)) >= 2
        # Killed after it took the next one, with the try to see that open under way: by hand, as a killed run leaves it.
        camera.password = "Taken-Before-7-The-KILL"
        taken = Credentials("admin", camera.password)
        place.vault.set_device("north", taken, pending=True)
        with Logbook(place.folder.logbook_file) as log:
            keyring = place.keyring(log)
            target = Target(HOST, 8080)
            keyring.ledger.admit(target, Door.ONVIF, "digest", taken, Purpose.ENTER)
            log.execute("UPDATE attempt SET process = 'gone'")
        assert not [f for f in place.rotate().findings if "password" in str(f.ref)], "nobody is held back"
        assert (
            camera.password
            == place.vault.contents.devices["north"].credentials.password
            not in ("", drawn, taken.password)
        )
        assert camera.refusals == 1, "the one before, which opened it last"


def test_the_ledger_tries_what_is_pending_before_any_default(tmp_path: Path) -> None:
    one, default, new = (Credentials("admin", word) for word in ("one", "default", "new"))
    with Logbook(tmp_path / "logbook.sqlite") as log:
        ledger = Keyring(None, None, log, Patience(1800)).ledger
        target = Target("10.0.0.1", 80)

        def order() -> list[str]:
            tries = ledger.in_turn(
                target, Door.ONVIF, [default, one, new], ["digest", "token"], pending=[new], public=[default]
            )
            return [c.password for c, _ in tries]

        ledger.settle(ledger.admit(target, Door.ONVIF, "digest", default, Purpose.ENTER), Outcome.ACCEPTED)
        assert order()[0] == "new" and order()[1] == "default", "what opened last, but that is public"
        ledger.refused(target, Door.ONVIF, "digest", new, [time.time()])
        assert order()[:2] == ["default", "one"], "refused after its time, it waits until the others had their turn"


def test_a_vault_behind_a_link_and_one_that_asks_for_too_much(tmp_path: Path) -> None:
    (tmp_path / "stick").mkdir()
    Vault.create(tmp_path / "stick" / "vault.bin", "p")
    link = tmp_path / "vault.bin"
    link.symlink_to(tmp_path / "stick" / "vault.bin")
    Vault.open(link, "p").set_device("north", Credentials("admin", "x"), Identity(), pending=True)
    assert link.is_symlink() and Vault.open(tmp_path / "stick" / "vault.bin", "p").contents.sent_s("north", "admin")
    header = struct.Struct("!16s16sBBB")
    body = link.read_bytes()[header.size :]
    # 128 * r << log2_n bytes (RFC 7914): each number is modest, the product is not.
    for log2_n, r, p in ((18, 33, 1), (20, 8, 5), (16, 8, 255), (9, 8, 1), (40, 1, 1), (16, 0, 1)):
        link.write_bytes(header.pack(b"ZENTRALE-VAULT-1", bytes(16), log2_n, r, p) + body)
        with pytest.raises(InputError, match="impossible work"):
            Vault.open(link, "p")
    assert vault.SCRYPT_R << vault.SCRYPT_LOG2_N < 1 << 20


@pytest.mark.parametrize("ours", [True, False])
def test_a_hidden_proc_ends_no_run(monkeypatch: pytest.MonkeyPatch, *, ours: bool) -> None:
    def hidden(*_: object) -> Callable[[], float]:
        raise psutil.NoSuchProcess(1)

    processes.this_process.cache_clear()
    monkeypatch.setattr(psutil, "Process", hidden)
    monkeypatch.setattr(processes, "_is_ours", lambda: ours)
    mine = processes.this_process()
    assert processes.lives(mine) and not processes.lives(f"{mine.split()[0]} 999999999") and not processes.lives("")
    processes.this_process.cache_clear()
