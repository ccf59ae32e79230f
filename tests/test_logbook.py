"""The logbook and the vault."""

from __future__ import annotations

import os
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from conftest import SECRETS, make_vault, program, zentrale
from zentrale.errors import InputError, StorageError
from zentrale.findings import finding
from zentrale.logbook.evidence import Notes, findings_of, note, observations, standings
from zentrale.logbook.made_passwords import generate_password
from zentrale.logbook.store import Binding, Logbook
from zentrale.logbook.vault import Vault
from zentrale.logbook.vault_contents import Candidate
from zentrale.protocols.http_auth import Credentials
from zentrale.subjects import Kind, Ref

REF = Ref(Kind.CAMERA, "x", "main stream")


def test_a_run_keeps_what_was_seen_and_found(tmp_path: Path) -> None:
    path = tmp_path / "log.sqlite"
    item = finding("STR-3", REF, "1", "2", "plan")
    with Logbook(path) as log:
        run = log.begin_run("verify", "laptop")
        notes = Notes()
        notes.observe("stream", REF, "RTSP", {"a": 1})
        notes.judge(REF, {"STR-7"}, [item])
        note(log, run, notes)
        assert log.last_run("verify") is None, "a run that did not end is not the last one"
        log.end_run(run)
    with Logbook(path) as log:
        last = log.last_run("verify")
        assert last is not None and last.vantage == "laptop"
        assert findings_of(log, last.id) == [item]
        (seen,) = observations(log, "stream")
        assert (seen.kind, seen.ref, seen.content, seen.vantage) == ("stream", REF, {"a": 1}, "laptop")
        assert (seen.run, seen.method) == (last.id, "RTSP") and not observations(log, "channel")


def test_a_step_that_died_is_told_once(tmp_path: Path) -> None:
    with Logbook(tmp_path / "log") as log:
        run = log.begin_run("register", "")
        done, died, failed = (log.begin_change(run, REF, step, "a", "b") for step in ("one", "two", "three"))
        log.end_change(done)
        log.end_change(failed, "no")
        assert log.close_interrupted() == (), "a process that lives is at its own steps"
        log.end_run(run, interrupted=True)
        assert [c.id for c in log.close_interrupted()] == [died]
        assert log.close_interrupted() == ()
        assert [c.state for c in log.changes()] == ["done", "interrupted", "failed"]


def test_a_device_has_one_name_and_a_name_one_device(tmp_path: Path) -> None:
    with Logbook(tmp_path / "log") as log:
        log.bind(Binding("a", "m1", "10.0.0.1"))
        log.bind(Binding("b", "m1", "10.0.0.2"))
        log.bind(Binding("b", "", "10.0.0.3"))
        assert log.bindings() == [Binding("b", "", "10.0.0.3")]
        assert log.unbind("b") and not log.unbind("b")


def test_a_foreign_logbook_is_left_alone(tmp_path: Path) -> None:
    path = tmp_path / "log"
    path.write_bytes(b"this is no database, and long enough to be looked at" * 20)
    with pytest.raises(StorageError, match="not a usable logbook"):
        Logbook(path)
    assert path.read_bytes().startswith(b"this is no database")


def test_a_vault_opens_with_its_passphrase_only(tmp_path: Path) -> None:
    path = tmp_path / "vault.bin"
    vault = Vault.create(path, "right")
    vault.add_candidate(Candidate(Credentials("admin", "geheim-1"), "site"))
    vault.set_device("gate", Credentials("admin", "geheim-2"))
    content = path.read_bytes()
    assert b"geheim" not in content and b"admin" not in content
    assert path.stat().st_mode & 0o077 == 0
    opened = Vault.open(path, "right").contents
    assert opened == vault.contents and "geheim" not in repr(opened)
    with pytest.raises(InputError, match="wrong passphrase"):
        Vault.open(path, "wrong")
    with pytest.raises(InputError, match="exists"):
        Vault.create(path, "right")
    vault.change_passphrase("newer")
    assert Vault.open(path, "newer").device("gate") == Credentials("admin", "geheim-2")
    assert vault.remove("gate") and not vault.remove("gate") and vault.device("gate") is None


@settings(max_examples=25)  # each try costs a scrypt
@given(st.data())
def test_a_changed_vault_is_refused(tmp_path_factory: pytest.TempPathFactory, data: st.DataObject) -> None:
    path = tmp_path_factory.getbasetemp() / "tampered.bin"
    if not path.with_suffix(".ok").exists():
        Vault.create(path, "p")
        path.rename(path.with_suffix(".ok"))
    content = bytearray(path.with_suffix(".ok").read_bytes())
    at = data.draw(st.sampled_from([0, 15, 20, 32, 33, 34, 36, 50, len(content) - 1]))
    content[at] ^= data.draw(st.sampled_from([1, 0x80, 0xFF]))
    path.write_bytes(content[: data.draw(st.integers(at, len(content)))] if data.draw(st.booleans()) else content)
    with pytest.raises(InputError):
        Vault.open(path, "p")


def test_each_guess_at_a_passphrase_costs_what_rfc_7914_makes_it_cost(site: Path) -> None:
    """N = 2^16, r = 8, p = 1, as the program itself makes a vault: 64 MB for each guess."""
    assert program("vault", "init", cwd=site).code == 0
    header = (site / "vault.bin").read_bytes()[:64]
    assert bytes([16, 8, 1]) in header
    for weaker in (9, 21):
        (site / "vault.bin").write_bytes(header.replace(bytes([16, 8, 1]), bytes([weaker, 8, 1])) + b"x" * 64)
        assert zentrale("vault", "list", cwd=site).code == 2


def test_generated_passwords_meet_the_usual_rules() -> None:
    made = {generate_password() for _ in range(300)}
    assert len(made) == 300
    for password in made:
        assert len(password) == 16 and not set(password) & set("IlOo01 \"'\\/:@")
        assert password[0].isalpha(), "some devices refuse another beginning, and a spreadsheet runs it"
        assert any(c.islower() for c in password) and any(c.isupper() for c in password)
        assert any(c.isdigit() for c in password) and any(c in "-_.+=" for c in password)


def test_the_vault_command_shows_no_secret_unless_asked(site: Path) -> None:
    make_vault(site)
    listing = zentrale("vault", "list", cwd=site)
    assert listing.code == 0 and "installer" in listing.out and "Umbra Works" in listing.out
    assert not any(secret in listing.all for secret in SECRETS)
    assert "password" not in zentrale("vault", "list", "--json", cwd=site).json["entries"][0]
    assert "factory-1234" in zentrale("vault", "list", "--show", cwd=site).out
    assert zentrale("vault", "set", "north", "root", cwd=site, ZENTRALE_PASSWORD="x").code == 0
    assert zentrale("vault", "remove", "north", cwd=site).code == 0
    wrong = zentrale("vault", "list", cwd=site, ZENTRALE_PASSPHRASE="wrong")
    assert wrong.code == 2 and "wrong passphrase" in wrong.err
    nobody = zentrale("vault", "list", cwd=site, ZENTRALE_PASSPHRASE="")
    assert nobody.code == 2 and "ZENTRALE_PASSPHRASE" in nobody.err
    for bad in (("remove", "none"), ("set", "nobody", "root"), ("init",)):
        assert zentrale("vault", *bad, cwd=site, ZENTRALE_PASSWORD="x").code == 2


def test_secrets_come_by_file_descriptor(site: Path) -> None:
    import subprocess

    from conftest import PROGRAM, environment

    read, write = os.pipe()
    os.write(write, b"from a pipe, long\n")
    os.close(write)
    command = [PROGRAM, "vault", "init", "--passphrase-fd", str(read)]
    assert subprocess.run(command, cwd=site, pass_fds=[read], env=environment(), check=False).returncode == 0
    os.close(read)
    Vault.open(site / "vault.bin", "from a pipe, long")


def test_what_is_found_well_later_in_the_same_run_is_settled(tmp_path: Path) -> None:
    """A camera that was wrong, and was looked at once more before the command ended, is not handed over as wrong."""
    ref = Ref(Kind.CAMERA, "north")
    with Logbook(tmp_path / "log.sqlite") as log, log.running("verify", "desk") as run:
        for findings in ((finding("STR-3", ref, "7 frames/s", "15 frames/s", "site.toml"),), ()):
            notes = Notes()
            notes.judge(ref, frozenset({"STR-3"}), findings)
            note(log, run, notes)
        (standing,) = standings(log)
        assert (standing.run, standing.settled_by) == (run, run)


def test_the_journal_of_one_subject_goes_with_its_name_and_is_nobody_elses(tmp_path: Path) -> None:
    north, gate = Ref(Kind.CAMERA, "north"), Ref(Kind.CAMERA, "gate")
    with Logbook(tmp_path / "log.sqlite") as log, log.running("register", "desk") as run:
        for ref, step in ((north, "main stream"), (north, "channel"), (Ref(Kind.RECORDER, "north"), "channel")):
            log.end_change(log.begin_change(run, ref, step, "a", "b", ({}, {})))
        log.rename("north", "gate")
        log.end_change(log.begin_change(run, gate, "sub stream", "a", "b", ({}, {})))
        assert [c.step for c in log.changes(of=gate)] == ["main stream", "channel", "sub stream"]
        assert [c.step for c in log.changes(of=gate, step=" stream")] == ["main stream", "sub stream"]
        assert log.changes(of=north) == [] and len(log.changes(step="channel")) == 2
