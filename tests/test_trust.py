"""The parts that keep passwords, count refusals and say which device is which, each on its own."""

from __future__ import annotations

import asyncio
import json
import sqlite3
import threading
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

import openpyxl
import pytest
from hypothesis import given
from hypothesis import strategies as st

from conftest import CAMERAS, PASSPHRASE, SITE, make_site, program, zentrale
from zentrale.errors import (
    ClearTextError,
    InputError,
    LateError,
    LockedError,
    NotAskedError,
    PassphraseChangedError,
    RemoteProtocolError,
    StorageError,
    Whose,
)
from zentrale.field import scheduler
from zentrale.field.probe import MAX_MATCHES_OF_ONE, Collector
from zentrale.field.rules import Rules, Try
from zentrale.field.scheduler import Failure
from zentrale.jobs.discovery.matching import match_devices
from zentrale.jobs.finders import multicast_probe
from zentrale.jobs.finders.merging import merge, sighting
from zentrale.jobs.known.device_states import State
from zentrale.jobs.known.found_devices import FoundDevice, one_row_each
from zentrale.jobs.passwords.keyring import Keyring, Manner
from zentrale.logbook.ledger import Patience, RefusalLedger
from zentrale.logbook.locks import site_lock
from zentrale.logbook.processes import this_process
from zentrale.logbook.schema import SCHEMA_VERSION
from zentrale.logbook.store import KnownDevice, Logbook
from zentrale.logbook.vault import Vault, weakness
from zentrale.logbook.vault_contents import Candidate
from zentrale.output.csv_tables import safe_cell
from zentrale.protocols.addresses import pin
from zentrale.protocols.doors import Door, Outcome, Purpose, Target, tells_of_a_lock, wait_told
from zentrale.protocols.http_auth import Answering, Credentials, parse_offers
from zentrale.protocols.ws_discovery import Match, serialize_matches
from zentrale.site.folder import SiteFolder
from zentrale.site.identity import Identity
from zentrale.site.reading import read_plan
from zentrale.subjects import Kind, Ref
from zentrale.words import clean

ONE, TWO, MAC, OTHER = (
    Credentials("admin", "one"),
    Credentials("admin", "two"),
    "02:5a:00:00:00:01",
    "02:5a:00:00:00:02",
)


# The vault


def test_what_another_process_wrote_is_never_written_over(tmp_path: Path) -> None:
    mine = Vault.create(tmp_path / "vault.bin", "p")
    theirs = Vault.open(tmp_path / "vault.bin", "p")
    assert mine.contents.devices == {}
    theirs.set_device("north", ONE, Identity.of([MAC]))
    mine.set_device("south", TWO)
    mine.add_candidate(Candidate(ONE, "c"))
    assert {n: e.credentials for n, e in theirs.contents.devices.items()} == {"north": ONE, "south": TWO}
    theirs.set_device("north", TWO)
    assert [(f.name, f.entry.credentials) for f in mine.contents.former] == [("north", ONE)], "none is ever lost"
    assert mine.contents.names_of(Identity.of([MAC, OTHER])) == ["north"], "the identity stays with the entry"
    mine.rename_device("north", "gate")
    assert theirs.device("gate") == TWO and theirs.contents.former[0].name == "gate"


def test_many_writers_at_once_lose_nothing(tmp_path: Path) -> None:
    Vault.create(tmp_path / "vault.bin", "p")
    vaults = [Vault.open(tmp_path / "vault.bin", "p") for _ in range(4)]
    threads = [
        threading.Thread(target=lambda v=v, n=n: [v.set_device(f"c{n}-{i}", ONE) for i in range(10)])
        for n, v in enumerate(vaults)
    ]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    assert len(vaults[0].contents.devices) == 40


def test_a_passphrase_changed_meanwhile_is_asked_for_before_the_next_step(tmp_path: Path) -> None:
    folder = SiteFolder(make_site(tmp_path))
    vault, told, answers = Vault.create(folder.vault_file, "old"), list[str](), iter(["wrong", "newer"])
    Vault.open(folder.vault_file, "old").change_passphrase("newer")
    with pytest.raises(PassphraseChangedError):
        vault.set_device("north", ONE)
    with Logbook(folder.logbook_file) as logbook:
        held = Vault.open(folder.vault_file, "newer")
        for manner, good in ((Manner(), False), (Manner(told.append, lambda: next(answers)), True)):
            keyring = Keyring(read_plan(folder), held, logbook, Patience(1800), manner=manner)
            Vault.open(folder.vault_file, "newer").change_passphrase("newer")
            if not good:
                with pytest.raises(PassphraseChangedError):
                    asyncio.run(keyring.ready())
                held.reopen("newer")
            else:
                asyncio.run(keyring.ready())
    assert any("changed by another process" in line for line in told) and any("wrong passphrase" in t for t in told)


def test_leftovers_of_a_crash_are_cleared_and_an_older_vault_is_taken(tmp_path: Path) -> None:
    path = tmp_path / "vault.bin"
    vault = Vault.create(path, "p")
    (tmp_path / ".vault.bin.new-dead").write_bytes(b"half")
    vault._write(replace(vault.contents, key=b""))
    assert Vault.open(path, "p").ready().key and not list(tmp_path.glob(".vault.bin.new-*"))


@pytest.mark.parametrize(
    ("passphrase", "weak"),
    [("short one", True), ("Correcthorse1", True), ("aaaaaaaaaaaaa", True), ("twowordsinone16x", False),
     ("lock gate 77", False), ("kR7#vv9!Qx2z", False), ("test passphrase", False)],
)  # fmt: skip
def test_a_weak_passphrase_is_told(passphrase: str, weak: bool) -> None:
    assert bool(weakness(passphrase)) is weak


def test_a_weak_passphrase_is_taken_only_when_asked_for(site: Path) -> None:
    refused = zentrale("vault", "init", cwd=site, ZENTRALE_PASSPHRASE="geheim")
    assert refused.code == 2 and "at least 12" in refused.err and "geheim" not in refused.err
    assert zentrale("vault", "init", "--weak", cwd=site, ZENTRALE_PASSPHRASE="geheim").code == 0


# The ledger


class Clock:
    now_s = 1e9

    def __call__(self) -> float:
        return self.now_s


def ledger(tmp_path: Path, clock: Clock, tries: int = 2) -> RefusalLedger:
    log = Logbook(tmp_path / "log.sqlite")
    return RefusalLedger(log, Patience(1800, tries), lambda c: f"{c.user}/{c.password}"[::-1], clock)


def refuse(book: RefusalLedger, target: Target, door: Door, word: str, purpose: Purpose = Purpose.ENTER) -> None:
    book.settle(book.admit(target, door, "digest", Credentials("a", word), purpose), Outcome.REFUSED)


def test_two_refusals_a_window_over_all_doors_processes_and_addresses(tmp_path: Path) -> None:
    clock = Clock()
    book, other = ledger(tmp_path, clock), ledger(tmp_path, clock)
    here, moved = Target("10.0.0.1", 80, "urn:1"), Target("10.0.0.2", 80, "urn:1")
    refuse(book, here, Door.ONVIF, "one")
    other.admit(here, Door.RTSP, "digest", Credentials("a", "two"), Purpose.ENTER)  # and dies before its answer
    for target, door in ((here, Door.ONVIF), (replace(here, port=554), Door.RTSP), (moved, Door.ONVIF)):
        with pytest.raises(NotAskedError) as error:
            book.admit(target, door, "digest", Credentials("a", "three"), Purpose.ENTER)
        assert error.value.until.timestamp() == clock.now_s + 1800
    refuse(book, Target("10.0.0.9", 80), Door.ONVIF, "one")  # another device is not held back
    clock.now_s += 1801
    refuse(book, here, Door.ONVIF, "three")


def test_a_window_counts_from_the_refusal_and_from_the_one_that_makes_room(tmp_path: Path) -> None:
    """Worked out by hand: refusals at 5 s (asked at 0 s), 100 s and 200 s leave room for a second one 1800 s after 100 s."""
    clock = Clock()
    began_s, here, many = clock.now_s, Target("10.0.0.1", 80), ledger(tmp_path, clock, tries=5)
    ticket = many.admit(here, Door.ONVIF, "digest", Credentials("a", "p0"), Purpose.ENTER)
    clock.now_s = began_s + 5
    many.settle(ticket, Outcome.REFUSED)
    for tries, until_s in ((1, 1805), (2, 1900)):
        if tries == 2:
            for at_s in (100, 200):
                clock.now_s = began_s + at_s
                refuse(many, here, Door.ONVIF, f"p{at_s}")
        with pytest.raises(NotAskedError) as error:
            ledger(tmp_path, clock, tries=tries).admit(here, Door.ONVIF, "digest", Credentials("a", "x"), Purpose.ENTER)
        assert error.value.until.timestamp() == began_s + until_s


def test_what_a_killed_run_had_under_way_counts_against_others_and_a_told_lock_has_an_end(tmp_path: Path) -> None:
    clock = Clock()
    book, here, one = ledger(tmp_path, clock), Target("10.0.0.1", 80, "urn:1"), Credentials("a", "one")
    book.admit(here, Door.ONVIF, "digest", one, Purpose.ENTER)
    book._log.execute("UPDATE attempt SET process = ?", (this_process().split(" ")[0] + " 999999999 1.00",))
    book.settle(
        book.admit(here, Door.ONVIF, "digest", one, Purpose.ENTER), Outcome.REFUSED
    )  # once it may, and is wrong
    with pytest.raises(NotAskedError):  # the device may have counted two by now
        book.admit(here, Door.ONVIF, "digest", Credentials("a", "two"), Purpose.ENTER)
    for told_s, most_s in ((30.0 * 86_400, 86_400), (60.0, 60), (None, 1800)):
        with pytest.raises(LockedError) as error:
            book.lock(Target(f"10.0.1.{most_s % 250}", 80), told_s)
        assert error.value.until.timestamp() == clock.now_s + most_s


def test_what_opened_goes_first_and_is_not_counted_and_what_failed_waits(tmp_path: Path) -> None:
    clock = Clock()
    book = ledger(tmp_path, clock)
    here, words = Target("10.0.0.1", 80), [Credentials("a", w) for w in ("one", "two", "three")]
    refuse(book, here, Door.ONVIF, "one")
    assert [c.password for c, _ in book.in_turn(here, Door.ONVIF, words, ["digest"])] == ["two", "three", "one"]
    book.settle(book.admit(here, Door.ONVIF, "digest", words[2], Purpose.ENTER), Outcome.ACCEPTED)
    assert next(iter(book.in_turn(here, Door.ONVIF, words, ["digest"])))[0].password == "three"
    refuse(book, here, Door.ONVIF, "two")
    for _ in range(5):
        ticket = book.admit(here, Door.ONVIF, "digest", words[2], Purpose.ENTER)
        assert ticket.id is None
    book.settle(ticket, Outcome.REFUSED)  # changed on the device: from now on it counts
    with pytest.raises(NotAskedError):
        book.admit(here, Door.ONVIF, "digest", words[2], Purpose.ENTER)


def test_what_was_accepted_and_is_refused_later_counts(tmp_path: Path) -> None:
    book, here = ledger(tmp_path, Clock()), Target("h", 80)

    async def use() -> None:
        for _ in range(2):
            attempt = await Try.begin(Rules(book), here, Door.ONVIF, "digest", ONE, Purpose.ENTER)
            attempt.settle(Outcome.ACCEPTED)
            attempt.settle(Outcome.REFUSED)
            attempt.settle(Outcome.REFUSED)
        with pytest.raises(NotAskedError):
            await Try.begin(Rules(book), here, Door.ONVIF, "digest", ONE, Purpose.ENTER)

    asyncio.run(use())


def test_answers_that_say_nothing_of_credentials_are_no_refusals(tmp_path: Path) -> None:
    book = ledger(tmp_path, Clock())
    for _ in range(5):
        book.settle(book.admit(Target("h"), Door.RTSP, "digest", ONE, Purpose.ENTER), Outcome.VOID)


def test_the_makers_default_is_tried_at_one_door_a_window(tmp_path: Path) -> None:
    clock = Clock()
    book = ledger(tmp_path, clock)
    refuse(book, Target("h", 554), Door.RTSP, "default", Purpose.STRANGER)
    with pytest.raises(NotAskedError, match="RTSP door") as waits:
        refuse(book, Target("h", 80), Door.ONVIF, "default", Purpose.STRANGER)
    assert waits.value.until.timestamp() == pytest.approx(clock.now_s + 1800)
    asked = {d: book.last_asked(Target("h"), d, Credentials("a", "default")) for d in Door}
    assert min(Door, key=lambda d: asked[d]) is Door.ONVIF, "its turn is next"
    refuse(ledger(tmp_path, clock, tries=4), Target("h", 80), Door.ONVIF, "default", Purpose.STRANGER)


def test_a_lock_is_respected_for_as_long_as_told(tmp_path: Path) -> None:
    clock = Clock()
    book = ledger(tmp_path, clock)
    with pytest.raises(LockedError):
        book.lock(Target("h"), 90.0)
    for seconds, locked in ((0, True), (89, True), (91, False)):
        clock.now_s = 1e9 + seconds
        if locked:
            with pytest.raises(LockedError):
                book.admit(Target("h", 554), Door.RTSP, "digest", ONE, Purpose.ENTER)
        else:
            book.admit(Target("h", 554), Door.RTSP, "digest", ONE, Purpose.ENTER)
    assert tells_of_a_lock("NotAuthorized: AccountLocked") and tells_of_a_lock("Too many login attempts")
    assert not tells_of_a_lock("NotAuthorized: wrong user or password") and not tells_of_a_lock("Blocksize is wrong")
    assert (wait_told("try again in 5 minutes"), wait_told("x", "120"), wait_told("x")) == (300, 120, None)


# HTTP authentication (RFC 7616): the server's moods


def test_a_fresh_nonce_is_no_refusal_and_a_wrong_password_is() -> None:
    def offer(nonce: str, more: str = "") -> list[str]:
        return [f'Digest realm="r", nonce="{nonce}", qop="auth"{more}']

    me = Answering(ONE, "c")
    assert me.header("GET", "/") is None and me.challenged(parse_offers(offer("n1")))
    assert "nc=00000001" in str(me.header("GET", "/"))
    assert not me.challenged(parse_offers(offer("n2"))), "not accepted yet: the password is wrong"
    me = Answering(ONE, "c")
    assert me.challenged(parse_offers(offer("n1"))) and me.header("GET", "/")
    assert me.challenged(parse_offers(offer("n2", ", stale=true"))), "RFC 7616 clause 3.3"
    assert me.header("GET", "/")
    me.accepted()
    assert "nc=00000002" in str(me.header("GET", "/"))
    assert me.challenged(parse_offers(offer("n3"))), "a server that takes no nonce twice"
    assert me.header("GET", "/")
    me.accepted()
    assert me.header("GET", "/") is None, "from now on a challenge is fetched first"


def test_what_cannot_be_answered_is_named_and_basic_in_clear_is_not_sent() -> None:
    offers = parse_offers(['Digest realm="r", nonce="n", algorithm=WHIRL', 'Digest nonce="n", qop="odd"', "Negotiate"])
    assert offers.challenges == () and len(offers.unknown) == 3
    with pytest.raises(RemoteProtocolError, match="WHIRL"):
        Rules().choose(offers, secure=False)
    basic = parse_offers(['Basic realm="x"'])
    with pytest.raises(ClearTextError):
        Rules().choose(basic, secure=False)
    assert Rules().choose(basic, secure=True) and Rules(basic_in_clear=True).choose(basic, secure=False)


@given(st.text(max_size=400), st.sampled_from(['Digest realm="', "Digest ", "Basic ", 'Digest nonce="n",', ""]))
def test_any_challenge_is_read_or_passed_over(text: str, start: str) -> None:
    for challenge in parse_offers([start + text]).challenges:
        assert challenge.scheme in ("digest", "basic")


# Addresses and words of devices


@pytest.mark.parametrize(
    ("told", "url", "named"),
    [
        ("http://10.0.0.5:81/onvif?x=1", "http://10.0.0.5:81/onvif?x=1", ""),
        ("http://10.0.0.66:81/a b".replace(" ", "%20"), "http://10.0.0.5:81/a%20b", "10.0.0.66"),
        ("https://user:pw@evil.example/x", "https://10.0.0.5/x", "evil.example"),
        ("http://[fe80::1]:8080/", "http://10.0.0.5:8080/", "fe80::1"),
    ],
)
def test_an_address_told_is_pinned_to_the_host_that_was_reached(told: str, url: str, named: str) -> None:
    pinned = pin(told, "10.0.0.5", ("http", "https"))
    assert (pinned.url, pinned.named) == (url, named)


@given(st.text(max_size=80))
def test_no_address_leads_elsewhere(text: str) -> None:
    for told in (text, f"http://{text}", f"http://10.0.0.5@{text}/", f"http://10.0.0.5:80{text}"):
        try:
            pinned = pin(told, "10.0.0.5", ("http",))
        except RemoteProtocolError as error:
            assert clean(str(error)) == str(error)
        else:
            assert pinned.url.startswith(("http://10.0.0.5/", "http://10.0.0.5:"))


def test_what_harms_a_terminal_or_a_spreadsheet_is_made_harmless() -> None:
    assert (
        clean("a\x1b[2Jb\u202ec\x9bd\u2028\r\n") == "a�[2Jb�c�d���"
        and clean("Schlüssel 北 \u200c") == "Schlüssel 北 \u200c"
    )
    for cell in ("=1+1", "+cmd", "-2+3", "@x", " =x", "\t=x"):
        assert safe_cell(cell).startswith("'"), cell
    assert safe_cell("-5.5") == "-5.5"


# Which device is which


def seen(address: str, *macs: str, url: str = "", **more: object) -> FoundDevice:
    device = FoundDevice(address, url or f"http://{address}/", "probe", state=State.KNOWN_PASSWORD.value, macs=macs)
    return replace(device, **more)  # type: ignore[arg-type]


@pytest.mark.parametrize(
    ("devices", "rows"),
    [
        ([seen("10.0.0.1", MAC), seen("10.0.0.2", OTHER)], 2),
        ([seen("10.0.0.1", MAC, OTHER), seen("10.0.0.2", OTHER, MAC)], 1),  # two legs of one recorder
        ([seen("10.0.0.1", MAC, serial="T-100"), seen("10.0.0.2", MAC, serial="T-200")], 2),  # a cloned MAC address
        ([seen("10.0.0.1", endpoint="urn:1"), seen("10.0.0.2", endpoint="urn:1")], 2),  # a cloned endpoint
        ([seen("10.0.0.1", MAC), seen("10.0.0.1", OTHER, url="http://10.0.0.1:81/")], 2),  # behind one address
        ([seen("10.0.0.1", MAC), seen("10.0.0.1", MAC, url="http://10.0.0.1:81/")], 1),
        ([seen("10.0.0.1", MAC), seen("10.0.0.1", state=State.NO_ANSWER.value, method="sweep")], 1),
    ],
)
def test_each_physical_device_is_one_row(devices: list[FoundDevice], rows: int) -> None:
    for order in (devices, devices[::-1]):
        assert len(one_row_each(order)) == rows


def test_a_device_that_a_proxy_tells_of_is_asked_itself_and_a_stale_address_is_not_believed(
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    """10.0.0.7 answers for itself; at 10.0.0.8 is somebody else, at 10.0.0.9 nobody."""
    there = {"10.0.0.7": "urn:7", "10.0.0.8": "urn:other"}

    async def directly(hosts: list[str]) -> list[tuple[Match, str]]:
        return [(Match(there[h], (), (), (f"http://{h}/",)), h) for h in hosts if h in there]

    monkeypatch.setattr(multicast_probe, "probe_directly", directly)
    heard = [(Match(f"urn:{n}", (), (), (f"http://10.0.0.{n}/",)), "10.0.0.2") for n in (7, 8, 9)]
    asked = asyncio.run(
        multicast_probe.ask_those_told_of([*heard, (Match("urn:2", (), (), ("http://10.0.0.2/",)), "10.0.0.2")])
    )
    assert [host for _, host in asked] == ["10.0.0.7", "10.0.0.2", "10.0.0.2", "10.0.0.2"]
    assert {d.address for d in merge(sighting(*a) for a in asked)} == {"10.0.0.7", "10.0.0.2"}


def test_a_host_that_answers_without_end_is_cut_short() -> None:
    collector = Collector({"urn:me"})
    for number in range(20_000):
        match = Match(f"urn:{number}", (), (), ("http://10.0.0.9/",), "urn:me")
        if number < 70:
            collector.take(serialize_matches(match, "urn:x"), "10.0.0.9")
        else:  # not even looked at
            collector.take(b"", "10.0.0.9")
    collector.take(serialize_matches(Match("urn:good", (), (), ("http://10.0.0.1/",), "urn:me"), "urn:y"), "10.0.0.1")
    assert len(collector.matches) == MAX_MATCHES_OF_ONE + 1 and ("urn:good", "10.0.0.1") in collector.matches


def test_an_identity_tells_only_what_identifies() -> None:
    assert not Identity.of(["00:00:00:00:00:00", "ff:ff:ff:ff:ff:ff", "01:00:5e:00:00:01", "x"], serial="0000")
    assert Identity.of([MAC]).same_device(Identity.of(["02-5A-00-00-00-01"])) is True
    assert Identity(endpoint="urn:1").same_device(Identity.of([MAC])) is None
    assert [str(Ref(Kind.CAMERA, "a", "main stream")), str(Ref(Kind.RECORDER, "r", "channel 3"))] == [
        "camera a, main stream", "channel 3 of r",
    ]  # fmt: skip


M1, M2, SERIAL, OTHER_SERIAL = frozenset([MAC]), frozenset([OTHER]), "umbra/d4/7701", "umbra/d4/7702"


@pytest.mark.parametrize(
    ("a", "b", "same"),
    [
        (Identity(M1), Identity(M1 | M2), True),
        (Identity(M1), Identity(M2), False),
        (Identity(M1, SERIAL), Identity(M1, OTHER_SERIAL), False),  # somebody cloned the address
        (Identity(M1, SERIAL), Identity(M1), True),
        (Identity(M1, SERIAL), Identity(M2, SERIAL), False),  # the MAC address counts more
        (Identity(M1, SERIAL, "urn:1"), Identity(frozenset(), SERIAL, "urn:2"), True),
        (Identity(serial=SERIAL), Identity(serial=OTHER_SERIAL, endpoint="urn:1"), False),
        (Identity(serial=SERIAL, endpoint="urn:1"), Identity(endpoint="urn:1"), True),
        (Identity(endpoint="urn:1"), Identity(endpoint="urn:2"), None),  # some make a new one at each start
        (Identity(M1), Identity(serial=SERIAL), None),
        (Identity(), Identity(), None),
    ],
)
def test_by_trust_mac_address_serial_number_endpoint(a: Identity, b: Identity, same: bool | None) -> None:
    assert a.same_device(b) is same and b.same_device(a) is same
    joined = a.joined(b)
    assert (
        joined.macs == a.macs | b.macs
        and joined.serial in (a.serial, b.serial)
        and joined.endpoint in (a.endpoint, b.endpoint)
    )
    assert bool(joined.serial) == bool(a.serial or b.serial) and bool(joined.endpoint) == bool(a.endpoint or b.endpoint)
    assert bool(a) == (a != Identity())


def test_serial_numbers_that_identify_nothing_are_none() -> None:
    for serial in ("", "7", "00", "0000", "xxx", "n/a", "none", "12345678", "1111"):
        assert not Identity.of(maker="m", model="x", serial=serial), serial
    assert Identity.of(maker=" Umbra ", model="D4", serial=" T-7 ").serial == "umbra/d4/t-7"


def test_a_registered_device_is_known_again_wherever_it_is_and_whatever_its_row_is_called(tmp_path: Path) -> None:
    plan = read_plan(SiteFolder(make_site(tmp_path)))
    moved = seen("127.0.71.29", OTHER)
    known = KnownDevice("south", Identity.of([OTHER]), "127.0.71.12", "recorder channel 3")
    assert match_devices(plan, [], [moved], [known]).by_name == {"south": moved}
    rows = CAMERAS.replace("south,", "yard,").replace("127.0.71.12", "")
    renamed = match_devices(read_plan(SiteFolder(make_site(tmp_path, cameras=rows))), [], [moved], [known])
    assert renamed.by_name == {"yard": moved} and renamed.renamed == (("south", "yard"),)
    with Logbook(tmp_path / "log.sqlite") as log:
        run = log.begin_run("register", "")
        log.begin_change(run, Ref(Kind.CAMERA, "south"), "password", "a", "b")
        log.begin_change(run, Ref(Kind.RECORDER, "recorder"), "x", "a", "b")
        log.rename("south", "yard")
        assert [c.subject for c in log.changes()] == ["camera yard", "recorder recorder"]


# One device ends only itself


@pytest.mark.parametrize(
    ("error", "whose"),
    [(ValueError("x"), Whose.DEFECT), (RecursionError(), Whose.DEFECT), (LateError("x"), Whose.NETWORK),
     (RemoteProtocolError("x"), Whose.DEVICE), (InputError("x"), Whose.DEVICE), (OSError(111, "refused"), Whose.NETWORK)],
)  # fmt: skip
def test_every_exception_is_that_devices_failure(error: Exception, whose: Whose) -> None:
    async def work(item: int) -> int:
        if item == 1:
            raise error
        if item == 2:
            await asyncio.sleep(60)
        return item

    results = asyncio.run(scheduler.run([0, 1, 2, 3], work, at_once=4, budget_s=0.2))
    assert [results[0], results[3]] == [0, 3]
    failed, late = results[1], results[2]
    assert isinstance(failed, Failure) and failed.whose is whose and bool(failed.report) == (whose is Whose.DEFECT)
    assert isinstance(late, Failure) and "0.2 s" in late.message


@pytest.mark.parametrize("error", [StorageError("full"), PassphraseChangedError("changed")])
def test_what_concerns_all_ends_the_run(error: Exception) -> None:
    async def work(item: int) -> None:
        raise error

    with pytest.raises(type(error)):
        asyncio.run(scheduler.run([0, 1], work, at_once=2, budget_s=None))


# This machine


def _newer(path: Path) -> None:
    sqlite3.connect(path).execute(f"PRAGMA user_version = {SCHEMA_VERSION + 1}")


def _folder(path: Path) -> None:
    path.unlink()
    path.mkdir()


def _garbage(path: Path) -> None:
    path.write_bytes(b"no database at all, and long enough to be looked at" * 30)


@pytest.mark.parametrize(("spoil", "words"), [(_newer, "newer version"), (_folder, ""), (_garbage, "not a usable")])
def test_a_logbook_that_cannot_be_used_is_told(site: Path, spoil: Callable[[Path], None], words: str) -> None:
    Logbook(site / "logbook.sqlite").close()
    assert (site / "logbook.sqlite").stat().st_mode & 0o777 == 0o600
    spoil(site / "logbook.sqlite")
    for command in (("handover",), ("assign", "north", "--remove")):
        result = zentrale(*command, cwd=site)
        assert result.code == 2 and words in result.err and len(result.err.splitlines()) >= 2


def test_a_logbook_of_the_first_version_is_brought_up_to_date(tmp_path: Path) -> None:
    from zentrale.logbook.schema import VERSION_1

    old = sqlite3.connect(tmp_path / "log")
    old.executescript(
        VERSION_1 + "PRAGMA user_version = 1; INSERT INTO run VALUES (1, 'verify', 'v', '2026-01-01', NULL);"
    )
    old.close()
    with Logbook(tmp_path / "log") as log:
        log.rename("a", "b")
        assert log.execute("SELECT count(*) FROM run").fetchone() == (1,)


def test_what_is_kept_of_a_device_is_of_that_device_and_of_the_password_that_was_seen_to_open(tmp_path: Path) -> None:
    vault = Vault.create(tmp_path / "vault.bin", "a test passphrase")
    one, other = Identity.of(["02:5a:71:00:00:01"]), Identity.of(["02:5a:71:00:00:02"])
    first, second = Credentials("admin", "first-1"), Credentials("admin", "second-2")
    vault.set_device("gate", first, one)
    vault.keep_certificate("gate", "10.0.0.1:443", "aa")
    vault.set_device("gate", second, one, pending=True)
    assert vault.contents.devices["gate"].certificates == {"443": "aa"}
    vault.prove("gate", first, one)  # a former password: it says nothing of the one that was sent
    assert vault.contents.sent_s("gate", "admin") is not None
    vault.prove("gate", second, one)
    assert vault.contents.sent_s("gate", "admin") is None
    vault.set_device("gate", first, other)
    assert not vault.contents.devices["gate"].certificates, "that of another device is not asked of this one"
    assert vault.contents.former and vault.remove("gate")
    assert not vault.contents.former and not vault.contents.devices, "nor what it had before"


def test_a_full_disk_is_told_and_nothing_is_half_written(ready_site: Path) -> None:
    """A limit on the size of files stands for a disk without room: the vault cannot grow, the logbook not be made."""
    import resource
    import subprocess

    from conftest import PROGRAM, environment

    before = (ready_site / "vault.bin").read_bytes()
    for command in (["vault", "add", "x", "--label", "y"], ["assign", "north", "--remove"]):
        done = subprocess.run(
            [PROGRAM, *command], cwd=ready_site, env=environment(ZENTRALE_PASSWORD="long" * 20, PYTHONDONTWRITEBYTECODE="1"),
            capture_output=True, text=True, check=False, preexec_fn=lambda: resource.setrlimit(resource.RLIMIT_FSIZE, (300, 300)),
        )  # fmt: skip
        assert done.returncode == 2 and "Traceback" not in done.stderr and str(ready_site) in done.stderr, done.stderr
    assert (ready_site / "vault.bin").read_bytes() == before and not list(ready_site.glob(".*new-*"))


def test_the_second_run_on_a_site_says_for_whom_it_waits(ready_site: Path) -> None:
    folder = SiteFolder(ready_site)
    with site_lock(folder, "register", wait=True, waiting=lambda holder: None):
        refused = zentrale("assign", "north", "10.0.0.1", "--no-wait", cwd=ready_site)
    assert refused.code == 2 and "`zentrale register` (process" in refused.err
    with site_lock(folder, "register", wait=True, waiting=lambda holder: None):
        import subprocess

        from conftest import PROGRAM, environment

        second = subprocess.Popen(
            [PROGRAM, "assign", "north", "10.0.0.1"],
            cwd=ready_site,
            env=environment(),
            stderr=subprocess.PIPE,
            text=True,
        )
        assert second.stderr is not None and "waiting for `zentrale register`" in second.stderr.readline()
    assert second.wait(20) == 2


def test_a_defect_of_ours_is_a_report_without_secrets(ready_site: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    (ready_site / "site.toml").write_text(SITE)
    broken = ready_site / "sitecustomize.py"
    broken.write_text(
        "import zentrale.logbook.store as s\ndef no(*a):\n    raise KeyError('installer-1 rtsp://u:geheim@h/')\n"
        "s.Logbook.bindings = no\n"
    )
    result = program("discover", "--wait", "0.1", "--no-sweep", cwd=ready_site, PYTHONPATH=str(ready_site))
    assert result.code == 70 and len(result.err.strip().splitlines()) <= 3 and "installer-1" not in result.err
    (report,) = (ready_site / "output" / "reports").iterdir()
    text = report.read_text()
    assert (
        "KeyError" in text and "geheim" not in text and "installer-1" not in text and report.stat().st_mode & 0o77 == 0
    )


def test_vault_entries_show_in_json_without_passwords(ready_site: Path) -> None:
    make = ("vault", "set", "north", "admin")
    for word in ("first-one", "second-one"):
        assert zentrale(*make, cwd=ready_site, ZENTRALE_PASSWORD=word).code == 0
    listed = json.loads(zentrale("vault", "list", "--json", cwd=ready_site).out)["entries"]
    assert [(e["kind"], e["name"]) for e in listed if e["name"] == "north"] == [
        ("device", "north"),
        ("earlier", "north"),
    ]
    assert not any("one" in json.dumps(e) for e in listed if e["name"] == "north")


LISTS = {
    "plain.txt": 'one, two\nthree "four"\n\nfive  six\none, two\n',
    "table.csv": 'Camera;Login;Password\ngate;root;one, two\nyard;;"three ""four"""\n;;five  six\n',
    "titled.csv": 'secret word,note\n"one, two",a\n"three ""four""",b\nfive  six,c\n',
}


@pytest.mark.parametrize("name", LISTS)
def test_a_list_of_passwords_goes_into_the_vault_as_it_is(ready_site: Path, name: str) -> None:
    """Commas, quotes and blanks are part of a password; one that stands twice is one; none is ever shown."""
    (ready_site / name).write_text(LISTS[name])
    before = {c.credentials for c in Vault.open(ready_site / "vault.bin", PASSPHRASE).contents.candidates}
    column = ["--column", "secret word"] if name == "titled.csv" else []
    shown = zentrale("vault", "add", "admin", "--from", name, *column, cwd=ready_site)
    assert shown.code == 0 and "added 3 candidates" in shown.out and "delete it" in shown.err
    assert not any(word in shown.all for word in ("one, two", "three", "five"))
    new = {c.credentials for c in Vault.open(ready_site / "vault.bin", PASSPHRASE).contents.candidates} - before
    assert {c.password for c in new} == {"one, two", 'three "four"', "five  six"}
    assert {c.user for c in new} == ({"root", "admin"} if name == "table.csv" else {"admin"})
    again = zentrale("vault", "add", "admin", "--from", name, *column, cwd=ready_site)
    assert "added 0 candidates" in again.out and "3 were there already" in again.out


@pytest.mark.parametrize(
    ("text", "words"),
    [("a,b\nc,d\n,\n" * 3, ""), ("", "holds no password"), ("user,x\nadmin,1\n", "none is called password"),
     ("password\nx\n", "no account is named")],
)  # fmt: skip
def test_a_list_that_is_none_is_told(ready_site: Path, text: str, words: str) -> None:
    (ready_site / "list.csv").write_text(text)
    shown = zentrale("vault", "add", "--from", "list.csv", *(["--column", "q"] if not words else []), cwd=ready_site)
    assert shown.code == 2 and (words or "has no column 'q'") in shown.err


def test_a_spreadsheets_passwords_keep_their_blanks_and_a_missing_title_shows_none(ready_site: Path) -> None:
    book = openpyxl.Workbook()
    page = book.active
    assert page is not None
    for row in (["User", "Password"], ["root", "five  six"], ["root", "nbsp\u00a0in"]):
        page.append(row)
    book.save(ready_site / "list.xlsx")
    assert zentrale("vault", "add", "--from", "list.xlsx", cwd=ready_site).code == 0
    held = {c.credentials.password for c in Vault.open(ready_site / "vault.bin", PASSPHRASE).contents.candidates}
    assert {"five  six", "nbsp\u00a0in"} <= held
    (ready_site / "list.csv").write_text("secret-first,secret-second\nx,y\n")
    shown = zentrale("vault", "add", "admin", "--from", "list.csv", "--column", "word", cwd=ready_site)
    assert shown.code == 2 and "secret" not in shown.all, "the first row may hold passwords"
