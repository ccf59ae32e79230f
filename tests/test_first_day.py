"""A site from nothing to verified by the lines of its how-to page: from an office's workbook, and from the network alone."""

from __future__ import annotations

import contextlib
import csv
import re
import shlex
import signal
import subprocess
from collections.abc import Callable, Iterator
from pathlib import Path

import openpyxl
import pytest

from conftest import PASSPHRASE, PROGRAM, Result, environment, measured, zentrale
from zentrale.cli import pages
from zentrale.jobs.discovery.discovering import current_devices
from zentrale.jobs.importing_found import Request, prepare_found
from zentrale.jobs.known.device_states import State
from zentrale.jobs.known.found_devices import FoundDevice
from zentrale.logbook.evidence import Notes, note
from zentrale.logbook.store import Logbook
from zentrale.site.folder import SiteFolder
from zentrale.site.reading import read_plan
from zentrale.subjects import Kind, Ref

# What a person corrects in the two files of a new site, for the small stand-in site.
SITE_EDITS = {
    "10.20.20.0/24": "127.0.71.0/27", "10.20.20.5": "127.0.71.21", "10.20.20.2": "127.0.71.30",
    'timezone = "Europe/London"': 'timezone = "Europe/Vienna"',
    '"1920x1080", fps = 15, bitrate_kbps = 3000': '"320x180", fps = 10, bitrate_kbps = 300',
    '"640x360", fps = 10, bitrate_kbps = 400': '"160x96", fps = 5, bitrate_kbps = 64',
    "keyframe_interval_s = 2": "keyframe_interval_s = 1",
}  # fmt: skip
TYPE_EDITS = {
    "Recorder 16": "Almanac 16", '"Example Maker"       # correct': '"Orrery"       # correct',
    'name = "recorder-16"\nmaker = "Example Maker"': 'name = "recorder-16"\nmaker = "Orrery"',
}  # fmt: skip
VESPER = """[[camera_types]]
name = "vesper-d4"
maker = "Umbra Works"
model = "Vesper D4"
poe_class = 3
day_w = 5
max_resolution = "1920x1080"

"""
MORE_TYPES = {
    'maker = "Example Maker"\nmodel = "Dome 2"': 'maker = "Pallas Yard"\nmodel = "Larch 2"',
    "[[switch_types]]": f"{VESPER}[[switch_types]]",
}
PASSWORDS = {"cameras": "factory-1234", "recorder": "installer-1"}


def edit(file: Path, changes: dict[str, str]) -> None:
    text = file.read_text(encoding="utf-8")
    for before, after in changes.items():
        text = text.replace(before, after)
    file.write_text(text, encoding="utf-8")


def follow(page: str, folder: Path, prepare: Callable[[], None]) -> dict[str, Result]:
    """Each line of a page, in the site folder once there is one; `prepare` is what a person does after the first."""
    shown: dict[str, Result] = {}
    for line in re.findall(r"^    (zentrale .*)$", pages.page(page), re.M):
        arguments = shlex.split(line)[1:]
        password = next((word for label, word in PASSWORDS.items() if label in arguments), "none-at-all")
        where = folder if folder.exists() else folder.parent
        more = {"ZENTRALE_PASSPHRASE": PASSPHRASE, "ZENTRALE_PASSWORD": password, "COLUMNS": "80"}
        shown[line] = zentrale(*arguments, cwd=where, **more)
        assert shown[line].code == 0, f"{line}: {shown[line].all}"
        if arguments[0] == "new":
            prepare()
    return shown


def verified(folder: Path, shown: Result) -> None:
    late = "STR-17" in shown.out or "STR-38" in shown.out
    shown = measured(cwd=folder, ZENTRALE_PASSPHRASE=PASSPHRASE, COLUMNS="80") if late else shown
    assert "of 4 streams 4 as planned" in shown.out and "2 of 2 planned channels record" in shown.out, shown.out


def workbook(file: Path) -> None:
    """As an office keeps it: a cover sheet, a table below a title, decimal commas, a list of material."""
    book = openpyxl.Workbook()
    cover = book.active
    assert cover is not None
    cover.title = "Deckblatt"
    for row in (["Objekt", "Hafen Süd"], ["Stand", "2026-11-01"]):
        cover.append(row)
    table = book.create_sheet("Kameraliste")
    titles = "Nr.|Standort|Kameratyp|Switchanschluss|Leitungslänge (m)|IP-Adresse|MAC-Adresse|Kanal|Blickfeld"
    rows: list[list[object]] = [
        ["Kameraliste Hafen Süd"], [], [*titles.split("|")],
        [1, "Tor Süd (außen)", "Larch 2", 1, "42,5", "127.0.71.11", "02-5A-71-00-00-11", 1, "Tor"],
        [2, "Straße", "Vesper D4", None, 17.25, "127.0.71.12", None, 2, "Straße bis zur Ecke"],
    ]  # fmt: skip
    for each in rows:
        table.append(each)
    book.create_sheet("Material").append(["Pos", "Artikel", "Menge", "Preis"])
    book.save(file)


@pytest.mark.usefixtures("stand_in")
def test_a_workbook_of_the_office_comes_to_a_verified_site(tmp_path: Path) -> None:
    folder = tmp_path / "harbour"

    def prepare() -> None:
        edit(folder / "site.toml", SITE_EDITS)
        edit(folder / "types.toml", {**TYPE_EDITS, **MORE_TYPES})
        workbook(folder / "schedule.xlsx")
        before = (folder / "cameras.csv").read_bytes()
        told = zentrale("import", "schedule.xlsx", "--remove-missing", "--dry-run", "--json", cwd=folder).json
        assert (folder / "cameras.csv").read_bytes() == before
        assert told["sheet"] == "Kameraliste" and told["columns"]["run_length_m"] == "Leitungslänge (m)"
        assert told["added"] == ["tor-sued-aussen", "strasse"] and told["not_used"] == ["Nr."]

    shown = follow("howto-office-schedule", folder, prepare)
    first, second = read_plan(SiteFolder(folder)).cameras
    assert (first.title, first.run_length_m, first.port) == ("Tor Süd (außen)", 42.5, 1)
    assert (second.title, second.run_length_m, second.port) == ("Straße", 17.25, 0), "its cell is empty"
    assert "OPN-1" in shown["zentrale check"].out
    verified(folder, shown["zentrale verify"])
    assert 'sheet = "Kameraliste"' in (folder / "import.toml").read_text(encoding="utf-8")
    assert zentrale("handover", cwd=folder).code == 0
    page = (folder / "output/handover/index.html").read_text(encoding="utf-8")
    assert "<b>Tor Süd (außen)</b>" in page and " CET" in page, "in the site's own zone"


@pytest.mark.usefixtures("stand_in")
def test_a_site_of_which_only_the_network_is_known_comes_to_a_verified_one(tmp_path: Path) -> None:
    folder = tmp_path / "hall"

    def prepare() -> None:
        edit(folder / "site.toml", SITE_EDITS)
        edit(folder / "types.toml", TYPE_EDITS)
        with (folder / "cameras.csv").open("a") as file:
            file.write("# nobody has a list\n")

    shown = follow("howto-only-the-network", folder, prepare)
    rows = {r["name"]: r for r in csv.DictReader((folder / "cameras.csv").open()) if not r["name"].startswith("#")}
    assert {
        n: (r["address"], r["mac"], r["type"], r["channel"], r["port"], r["run_length_m"]) for n, r in rows.items()
    } == {
        "hall-01": ("127.0.71.11", "02:5a:71:00:00:11", "larch-2", "1", "", ""),
        "hall-02": ("127.0.71.12", "02:5a:71:00:00:12", "vesper-d4", "2", "", ""),
    }
    assert "# nobody has a list" in (folder / "cameras.csv").read_text()
    plan = read_plan(SiteFolder(folder))
    kind = plan.camera_type(plan.camera("hall-02"))
    assert (kind.maker, kind.model, kind.day_w) == (
        "Umbra Works",
        "Vesper D4",
        None,
    ) and kind.max_resolution is not None
    assert "2 cameras added" in shown[IMPORT].out
    verified(folder, shown["zentrale verify"])
    told = zentrale("check", "--json", cwd=folder).json["findings"]
    assert sorted((f["code"], f["subject"]) for f in told if f["code"].startswith("OPN-")) == [
        (code, f"camera hall-{n}") for code in ("OPN-1", "OPN-2", "OPN-3") for n in ("01", "02")
    ]
    power = zentrale("plan", "power", "--json", cwd=folder).json["findings"]
    # Without a class the type counts as class 0: 15.4 W at the port (IEEE 802.3 table 33-11).
    assert [f["measured"][:6] for f in power if f["code"] == "PWR-18"] == ["15.4 W", "15.4 W"]
    edit(folder / "types.toml", {"poe_budget_w = 120": "poe_budget_w = 25"})
    edit(folder / "cameras.csv", {"cameras,,": "cameras,cabinet-1,"})
    told = zentrale("plan", "power", "--json", cwd=folder).json
    codes = {f["code"]: f["measured"] for f in told["findings"]}
    assert "30.8 W counted, mode day, 30.8 W of it the limit of the class of 2 cameras" in codes["PWR-19"], (
        "no fault: it may fit"
    )
    assert "PWR-1" not in codes and [p["port"] for p in told["switches"][0]["ports"]] == [None, None]
    before = {p.name: p.read_bytes() for p in folder.glob("*.*")}
    again = zentrale("import", "--found", "--json", cwd=folder)
    assert (
        again.code == 0 and again.json["added"] == [] and before["cameras.csv"] == (folder / "cameras.csv").read_bytes()
    )


IMPORT = "zentrale import --found --name 'hall-{n:02}'"


@pytest.mark.usefixtures("stand_in")
def test_some_of_what_was_found_enters_the_plan(ready_site: Path) -> None:
    edit(
        ready_site / "site.toml", {"127.0.71.0/27": "127.0.71.0/28"}
    )  # the recorder is outside of it, and not the cameras
    edit(ready_site / "site.toml", {'address = "127.0.71.21"': 'address = "127.0.71.9"'})
    (ready_site / "cameras.csv").write_text("name;type;group;zone;recorder;channel\r\n# none so far\r\n")
    assert zentrale("discover", "--range", "127.0.71.0/27", cwd=ready_site).code in (0, 1)
    before = {p.name: p.read_bytes() for p in ready_site.glob("*.*")}

    def found(*more: str) -> dict[str, object]:
        shown = zentrale("import", "--found", "--dry-run", "--json", *more, cwd=ready_site)
        assert shown.code == 0, shown.all
        return {a["name"]: (a["address"], a["type"], a["channel"]) for a in shown.json["added"]} | {
            out["address"]: out["why"] for out in shown.json["left_out"]
        }

    north, south = ("127.0.71.11", "larch-2", 1), ("127.0.71.12", "vesper-d4", 1)
    assert found("--maker", "pallas yard", "--name", "yard-{n}") == {"yard-1": north}
    assert found("--model", "Vesper D4") == {"camera-01": south}
    assert found("--range", "127.0.71.12-127.0.71.14") == {"camera-01": south}
    assert found("--maker", "nobody") == {}
    everything = found("--name", "{model}-{n:03}")
    assert set(everything) == {"larch-2-001", "vesper-d4-002"}, "the recorder is planned, if elsewhere"
    (ready_site / "macs.csv").write_text("MAC-Adresse;Name\n025A.7100.0012;Hof Süd\n02-5a-71-00-00-99;Keller\n")
    named = found("--macs", "macs.csv")
    assert named["hof-sued"] == south and "not among the devices" in str(named[None])  # type: ignore[index]
    for wrong, words in (
        (("--name", "hall"), "the name hall would be given twice"), (("--name", "hall-{x}"), "not a pattern"),
        (("--name", "hall-{n:999999999}"), "not a pattern"), (("--zone", "camras"), "no such zone"),
        (("--default", "colour=red"), "not for found devices"), (("--default", "poe_class=9"), "poe_class"),
        (("--range", "127.0.71.14-11"), "--range"), (("list.csv",), "does not go with --found"),
    ):  # fmt: skip
        shown = zentrale("import", "--found", *wrong, cwd=ready_site)
        assert shown.code == 2 and words in shown.err, shown.all
    assert {p.name: p.read_bytes() for p in ready_site.glob("*.*") if p.name in before} == before
    assert (
        zentrale("import", "--found", "--default", "switch=cabinet", "--default", "day_w=4", cwd=ready_site).code == 0
    )
    text = (ready_site / "cameras.csv").read_bytes()
    assert text.startswith(b"name;type;group;zone;recorder;channel;switch;address;mac\r\n# none so far\r\n")
    assert text.endswith(b"camera-02;vesper-d4;all;cameras;recorder;2;cabinet;127.0.71.12;02:5a:71:00:00:12\r\n")


def test_what_cannot_be_known_of_found_devices(site: Path) -> None:
    """Devices as no stand-in answers: without make, of one MAC address, in no zone, with sizes that are none."""

    def device(address: str, **more: object) -> FoundDevice:
        own = {
            "maker": "M\x1b[31m",
            "model": 'Odd "7"',
            "mac": f"02:00:00:00:00:{address[-2:]}",
            "state": State.OUR_PASSWORD.value,
        }
        return FoundDevice(address, f"http://{address}/", "probe", **{**own, **more})  # type: ignore[arg-type]

    seen = [
        device("127.0.71.25", max_resolution=(0, 99999999), codecs=("H264",)),
        device("127.0.71.27", maker=""), device("10.9.9.28"), device("10.9.9.29", mac=""),
        device("127.0.71.24", state=State.WEB_ONLY.value), device("127.0.71.13"),
        device("127.0.71.23", records=True),
    ]  # fmt: skip
    plan = read_plan(SiteFolder(site))
    with Logbook(site / "logbook.sqlite") as logbook:
        with logbook.running("discover", "here", {"networks": ["127.0.71.0/27"], "asked": [], "probed": []}) as run:
            notes = Notes()
            for each in seen:
                notes.observe("device", Ref(Kind.DEVICE, each.address), "probe", each)
            note(logbook, run, notes)
        taken = prepare_found(SiteFolder(site), plan, logbook, Request(zone="cameras"))
        without_zone = prepare_found(SiteFolder(site), plan, logbook, Request())
    assert [(a.address, a.mac) for a in taken.added] == [
        ("", "02:00:00:00:00:28"), ("127.0.71.13", "02:00:00:00:00:13"), ("127.0.71.25", "02:00:00:00:00:25"),
    ]  # fmt: skip
    assert {out.address: out.why.split(",")[0].split(" (")[0] for out in taken.left_out} == {
        "127.0.71.24": "not known to be a camera: web page",
        "127.0.71.23": "a recorder: write it into site.toml as [[recorders]]",
        "127.0.71.27": "does not tell maker and model", "10.9.9.29": "tells neither MAC address nor serial number",
    }  # fmt: skip
    assert "in no zone's subnet" in next(out.why for out in without_zone.left_out if out.address == "10.9.9.28")
    written = taken.write()
    assert [path.name for path in written] == ["types.toml", "cameras.csv"]
    kind = next(t for t in read_plan(SiteFolder(site)).camera_types if t.model == 'Odd "7"')
    assert "\x1b" not in kind.maker and kind.max_resolution is None


def test_ones_own_plan_is_played_on_loopback_and_on_a_link_of_its_own(tmp_path: Path) -> None:
    """Makers and models in any letters; what no stand-in plays is said; the copy keeps every place within its subnet."""
    folder, copy = tmp_path / "site", tmp_path / "practice"
    assert zentrale("new", str(folder)).code == 0
    edit(folder / "types.toml", {'"Example Maker"\nmodel = "Dome 2"': '"Süd Оптика 北方"\nmodel = "Купол é"'})
    edit(
        folder / "site.toml",
        {**{k: v for k, v in SITE_EDITS.items() if "10." not in k}, "customer": 'time_server = "10.20.20.9"\ncustomer'},
    )
    refused = zentrale("simulate", "--into", str(copy), cwd=folder)
    assert refused.code == 2 and "goes with --plan alone" in refused.err
    for arguments in (["--into", str(copy)], []):
        with playing(folder, *arguments) as lines:
            assert "1 switch page: nothing answers there" in "".join(lines)
            site = copy if arguments else folder
            shell = shlex.split(next((line for line in lines if "nsenter" in line), ""))
            if not arguments:
                assert shell, "a network of its own can be had here"
            script = "zentrale vault init && zentrale discover"
            if not arguments:
                script += " && zentrale register --quiet && zentrale verify front-door"
            done = subprocess.run(
                [*shell, "sh", "-c", script.replace("zentrale", PROGRAM)], cwd=site, capture_output=True, text=True, check=False,
                timeout=90, env=environment(ZENTRALE_PASSPHRASE=PASSPHRASE),
            )  # fmt: skip
            assert done.returncode == 0 and "2 of 2 planned devices found" in done.stdout, done.stdout + done.stderr
            assert ("1 of 1 planned channel record" in done.stdout) is not bool(arguments)
            with Logbook(site / "logbook.sqlite") as logbook:
                seen = {d.address: d.maker for d in current_devices(logbook)}
            assert seen[f"{'127.0.101' if arguments else '10.20.20'}.11"] == "Süd Оптика 北方"
    text = (copy / "site.toml").read_text(encoding="utf-8")
    assert 'subnet = "127.0.101.0/24"' in text and 'time_server = "127.0.101.9"' in text and "10.20.20" not in text
    assert not (folder / "practice.txt").exists() and zentrale("check", cwd=copy).code == 0


@contextlib.contextmanager
def playing(folder: Path, *arguments: str) -> Iterator[list[str]]:
    """The stand-in of a plan, and the lines that it says until it is ready."""
    process = subprocess.Popen(
        [PROGRAM, "simulate", "--plan", *arguments], cwd=folder, env=environment(), stdout=subprocess.PIPE, text=True
    )  # fmt: skip
    assert process.stdout is not None
    lines = []
    try:
        for line in process.stdout:
            lines.append(line)
            if line.startswith("ready: "):
                break
        yield lines
    finally:
        process.send_signal(signal.SIGINT)
        assert process.wait(timeout=20) == 0
