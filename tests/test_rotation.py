"""New passwords: the vault before the device, the recorder in the same turn, gone on with after a stop; and the sealed sheet."""

from __future__ import annotations

import asyncio
import io
from pathlib import Path

import pytest
from pypdf import PdfReader
from pypdf.errors import FileNotDecryptedError

from conftest import PASSPHRASE, measured, zentrale
from strangers import Rich
from test_steps import HOST, SITE, Place, hurry, serving
from zentrale.jobs.known.planned import ref_of
from zentrale.jobs.rotating import ROTATED, Rotation, Rotator
from zentrale.jobs.steps.rotate import NewPassword
from zentrale.logbook.evidence import Notes, note
from zentrale.logbook.store import Logbook
from zentrale.logbook.vault import Vault
from zentrale.site.folder import SiteFolder
from zentrale.site.reading import read_plan

__all__ = ["hurry"]
GUARD = SITE + '[[accounts]]\nuser = "guard"\nrole = "operator"\n'


@pytest.fixture(autouse=True)
def short(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(NewPassword, "settle_s", 0.5)


def rotate(place: Place) -> Rotation:
    with Logbook(place.folder.logbook_file) as log:
        return asyncio.run(Rotator(place.keyring(log), lambda *_: None).rotate(["north"], anew=True))


def test_the_device_has_what_the_vault_has_whatever_it_says(tmp_path: Path) -> None:
    camera = Rich(HOST)
    place = Place(tmp_path, camera, GUARD)
    with serving(camera):
        place.discover()
        place.register()
        before = camera.password, camera.others["guard"][0]
        result = rotate(place)
        steps = {s.step: s.outcome.value for s in result.results[0].steps}
        assert steps["new password of admin"] == steps["new password of guard"] == "changed"
        held, guard = place.vault.device("north"), place.vault.account("north", "guard")
        assert held is not None and guard is not None
        assert (camera.password, camera.others["guard"]) == (held.password, (guard.password, "Operator"))
        assert before != (camera.password, guard.password) and camera.refusals == 0
        assert place.register()["password"].outcome.value == "unchanged", "it is entered with the new one"
        camera.nature = "lies"
        lied = rotate(place)
        assert camera.refusals <= 2, "one wrong password an account, and none locks"
        assert "the one before" in str({s.step: s.error for s in lied.results[0].steps})
    after = place.vault.device("north"), place.vault.account("north", "guard")
    assert after == (held, guard), "it kept its old ones, and so does the vault"
    text = (tmp_path / "logbook.sqlite").read_bytes().decode("latin-1")
    assert not any(secret in text for secret in (held.password, guard.password))


def test_a_stopped_rotation_goes_on_and_every_channel_records_again(ready_site: Path, stand_in: None) -> None:
    """Run as its users do: a device that is gone is what is left; then only that one gets a new password."""
    assert zentrale("discover", cwd=ready_site).code in (0, 1)
    assert zentrale("register", cwd=ready_site).code == 0
    some = zentrale("vault", "rotate", "north", "--json", cwd=ready_site)
    assert some.code == 0, some.all
    (north,) = some.json["devices"]
    assert [s["step"] for s in north["steps"]] == [
        "new password of admin", "new password of recorder", "channel", "recording again",
    ]  # fmt: skip
    scope = {"devices": ["north", "south", "recorder"]}
    with Logbook(ready_site / "logbook.sqlite") as log, log.running("vault rotate", "here", scope) as run:
        north, south = (ref_of(c) for c in read_plan(SiteFolder(ready_site)).cameras)
        ended = Notes()
        ended.observe(ROTATED, north, "vault rotate", {})
        note(log, run, ended)  # north came to its end; south had its first password when the program was killed
        log.end_change(log.begin_change(run, south, "new password of admin", "a", "b", ({}, {})))
    rest = zentrale("vault", "rotate", "--json", cwd=ready_site)
    assert rest.code == 0 and (rest.json["taken_up"], rest.json["already"]) == (run, ["north"]), rest.all
    did = {d["device"]: [s["step"] for s in d["steps"]] for d in rest.json["devices"]}
    assert did == {
        "camera south": ["new password of recorder", "channel", "recording again"],
        "recorder recorder": ["new password of admin"],
    }
    all_ = zentrale("vault", "rotate", "--json", cwd=ready_site)
    assert all_.json["taken_up"] is None and len(all_.json["devices"]) == 3, "that one is complete: this is another"
    again = zentrale("register", "--json", cwd=ready_site)
    assert {s["outcome"] for d in again.json["devices"] for s in d["steps"]} == {"unchanged"}
    verified = measured("--seconds", "2", "--json", cwd=ready_site)
    assert not [f for f in verified.json["findings"] if f["code"].startswith(("REC", "SEC-3", "STR-1"))], verified.out


def test_the_sealed_sheet_opens_with_its_passphrase_only(ready_site: Path, stand_in: None) -> None:
    assert zentrale("vault", "seal", "none.pdf", cwd=ready_site).code == 2, "there is nothing to seal yet"
    assert zentrale("discover", cwd=ready_site).code in (0, 1)
    assert zentrale("register", cwd=ready_site).code == 0
    assert zentrale("vault", "seal", "weak.pdf", cwd=ready_site, ZENTRALE_SHEET_PASSPHRASE="guess").code == 2
    strong = {"ZENTRALE_SHEET_PASSPHRASE": "gate keel lamp 7 moss"}
    done = zentrale("vault", "seal", "sheet.pdf", cwd=ready_site, **strong)
    assert done.code == 0 and not (ready_site / "weak.pdf").exists(), done.all
    sealed = (ready_site / "sheet.pdf").read_bytes()
    contents = Vault.open(ready_site / "vault.bin", PASSPHRASE).contents
    secrets = [e.credentials.password for e in contents.devices.values()] + [
        c.password for c in contents.accounts.values()
    ]
    with pytest.raises(FileNotDecryptedError):
        PdfReader(io.BytesIO(sealed)).pages[0].extract_text()
    assert not PdfReader(io.BytesIO(sealed)).decrypt("wrong") and not any(s.encode() in sealed for s in secrets)
    reader = PdfReader(io.BytesIO(sealed), password="gate keel lamp 7 moss")
    text = "".join(page.extract_text() for page in reader.pages)
    assert all(secret in text for secret in secrets) and "watch (recorder)" in text and len(secrets) == 5
    assert zentrale("vault", "seal", "sheet.pdf", cwd=ready_site, **strong).code == 2, "it is never written over"
