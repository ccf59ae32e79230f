"""Camera schedules as people really keep them."""

from __future__ import annotations

import shlex
from collections.abc import Sequence
from pathlib import Path

import openpyxl
import pytest
from hypothesis import given
from hypothesis import strategies as st

from conftest import CAMERAS, SITE, TYPES, make_site, zentrale
from zentrale.errors import InputError
from zentrale.jobs.importing import Request, prepare_import
from zentrale.site import schedule, tables
from zentrale.site.folder import SiteFolder
from zentrale.site.headers import header_words, known_columns
from zentrale.site.reading import draft_for_schedule, read_plan

# Title rows, semicolons, decimal commas, units, a heading between rows, a sum at the end.
MESSY = """\
Brackwater Locks - camera list;;;;;;;

rev. 3;;;;;;;
Nr;Camera name;Model;Switch / port;Cable length;IP address;NVR channel;Notes
;Upper floor;;;;;;
1;Café (Süd);Larch 2;Cabinet: 4;72,5m;127.0.71.14;CH 2;mind the step
2;Back gate;pallas yard LARCH 2;hall / 5;0,03 km;127.0.71.15;Channel 04;

;;;;Total;102,5 m;;
"""


def write_sheet(path: Path, rows: list[list[object]]) -> Path:
    book = openpyxl.Workbook()
    page = book.active
    assert page is not None
    page.title = "Cameras"
    for row in rows:
        page.append(row)
    page.merge_cells("A1:F1")
    book.create_sheet("Other").append(["nothing"])
    book.save(path)
    return path


@pytest.mark.parametrize("encoding", ["utf-8", "utf-8-sig", "cp1252", "utf-16"])
def test_a_messy_schedule_is_taken_in(site: Path, encoding: str) -> None:
    file = site.parent / "list.csv"
    file.write_bytes(MESSY.encode(encoding))
    before = (site / "cameras.csv").read_bytes()
    rehearsed = zentrale("import", str(file), "--dry-run", "--json", cwd=site)
    assert rehearsed.code == 0, rehearsed.all
    document = rehearsed.json
    assert document["header_row"] == 4 and document["columns"]["run_length_m"] == "Cable length"
    assert document["columns"]["port"] == "Switch / port" and document["not_used"] == ["Nr", "Notes"]
    assert "zone: cameras, as all cameras of the plan" in document["guesses"]
    assert document["added"] == ["cafe-sued", "back-gate"] and document["not_in_schedule"] == ["north", "south"]
    assert "name 'Café (Süd)' becomes cafe-sued" in document["guesses"]
    assert (site / "cameras.csv").read_bytes() == before

    assert zentrale("import", str(file), cwd=site).code == 0
    plan = read_plan(SiteFolder(site))
    cafe, gate = plan.camera("cafe-sued"), plan.camera("back-gate")
    assert (cafe.type, cafe.switch, cafe.port, cafe.run_length_m, cafe.channel) == ("larch-2", "cabinet", 4, 72.5, 2)
    assert (gate.type, gate.switch, gate.port, gate.run_length_m, gate.channel) == ("larch-2", "cabinet", 5, 30, 4)
    assert cafe.group == "all" and cafe.recorder == "recorder", "the plan has only one of each"
    again = zentrale("import", str(file), cwd=site)
    assert again.code == 0 and "nothing to change" in again.out


def test_a_spreadsheet_with_a_mapping_that_is_kept(site: Path) -> None:
    rows: list[list[object]] = [
        ["Camera list", None], [],
        ["Where", "Kit", "Sw", "P", "Lay", "Ch"],
        ["yard", "vesper-d4", "cabinet", 6, 40.0, 4], [None] * 6,
    ]  # fmt: skip
    file = write_sheet(site.parent / "list.xlsx", rows)
    refused = zentrale("import", str(file), cwd=site)
    assert refused.code == 2 and "row 3 may be the header" in refused.err, refused.all
    shown = shlex.split(refused.err.split("`")[1])
    assert shown[-1] == "--dry-run" and zentrale(*shown[1:], "--json", cwd=site).json["columns"] == {
        "name": "Where", "type": "Kit", "switch": "Sw", "port": "P", "run_length_m": "Lay", "channel": "Ch",
    }  # fmt: skip
    names = {"name": "Where", "type": "Kit", "switch": "Sw", "port": "P", "run_length_m": "Lay"}
    mapping = [text for ours, theirs in names.items() for text in ("--map", f"{ours}={theirs}")]
    first = zentrale("import", str(file), *mapping, "--save-map", "--sheet", "Cameras", cwd=site)
    assert first.code == 0, first.all
    assert read_plan(SiteFolder(site)).camera("yard").run_length_m == 40
    write_sheet(file, [*rows[:3], ["yard", "larch-2", "cabinet", 6, "44,5 m", 4]])
    second = zentrale("import", str(file), "--json", cwd=site)
    assert second.json["changed"] == {"yard": {
        "type": {"before": "vesper-d4", "after": "larch-2"}, "run_length_m": {"before": "40", "after": "44.5"},
    }}  # fmt: skip
    assert zentrale("import", str(file), "--remove-missing", cwd=site).code == 0
    assert [c.name for c in read_plan(SiteFolder(site)).cameras] == ["yard"]
    write_sheet(file, [["Cameras"], ["Place", "Model"], ["a", "larch-2"], ["b", "larch-2"]])
    assert "import.toml: channel = Ch" in zentrale("import", str(file), cwd=site).err
    (site / "import.toml").unlink()
    missing = zentrale("import", str(file), cwd=site)
    assert missing.code == 2 and missing.err.count("no column is taken for channel;") == 1, missing.all
    for bad in (
        ("--sheet", "None"),
        ("--map", "name=Nowhere"),
        ("--map", "colour=Kit"),
        ("--map", "x"),
        ("--default", "z=1"),
    ):
        result = zentrale("import", str(file), *bad, cwd=site)
        assert result.code == 2 and "expected" in result.err


def test_importing_again_keeps_what_the_schedule_does_not_say(site: Path) -> None:
    (site / "cameras.csv").write_text("# checked with the customer\n" + CAMERAS)
    file = site.parent / "short.csv"
    file.write_text("name,type,switch,port,cable,channel\nnorth,larch-2,cabinet,1,21 m,1\n")
    assert zentrale("import", str(file), cwd=site).code == 0
    text = (site / "cameras.csv").read_text()
    camera = read_plan(SiteFolder(site)).camera("north")
    assert text.startswith("# checked with the customer\n") and camera.run_length_m == 21
    assert camera.mac == "02:5a:71:00:00:11" and camera.shows == "north door"


# A cell of the one row, and the words its message must have.
WRONG = [
    ("larch-2", "larch-9", ["row 2, column type (model)", "'larch-9'", "larch-2, vesper-d4"]),
    ("21 m", "21 miles", ["row 2, column run_length_m (cable)", "'21 miles'", "km"]),
    ("cabinet", "attic", ["row 2, column switch", "'attic'", "cabinet"]),
    (",5,", ",five,", ["row 2, column port", "'five'", "whole number"]),
    (",4,", ",1,", ["row 2 (east)", "recorder channel 1", "already used"]),
    ("02-5a-71-00-00-33", "02-5a-7x", ["row 2, column mac", "MAC address"]),
    ("127.0.71.13", "127.0.71.999", ["row 2, column address (ip)", "'127.0.71.999'", "an IPv4 address"]),
]


@pytest.mark.parametrize(("right", "wrong", "words"), WRONG)
def test_a_wrong_row_is_named_and_nothing_is_written(site: Path, right: str, wrong: str, words: list[str]) -> None:
    text = "name,model,switch,port,cable,channel,ip,mac\neast,larch-2,cabinet,5,21 m,4,127.0.71.13,02-5a-71-00-00-33\n"
    assert right in text
    file = site.parent / "list.csv"
    file.write_text(text.replace(right, wrong, 1) if right != "larch-2" else text.replace(",larch-2", f",{wrong}"))
    before = {p.name: p.read_bytes() for p in site.iterdir()}
    result = zentrale("import", str(file), cwd=site)
    assert result.code == 2 and all(word in result.err for word in words), result.err
    assert {p.name: p.read_bytes() for p in site.iterdir()} == before


def test_what_is_no_schedule_is_refused(site: Path) -> None:
    file = site.parent / "x.csv"
    for content in (
        b"",
        b"\n\n",
        b"just a letter to somebody\n" * 5,
        b"PK\x03\x04broken",
        b"\xd0\xcf\x11\xe0\xa1\xb1\x1a\xe1",
        b"a\x00b",
    ):
        file.write_bytes(content)
        result = zentrale("import", str(file), cwd=site)
        assert result.code == 2 and result.err, content
    assert zentrale("import", str(site / "none.csv"), cwd=site).code == 2
    file.write_text("name,type,switch,port,cable,channel\na,larch-2,cabinet,5,1,3\na,larch-2,cabinet,6,1,4\n")
    assert "stands in row 2 already" in zentrale("import", str(file), cwd=site).err


@given(st.floats(0.01, 9_999_999).map(lambda v: round(v, 2)))
def test_numbers_in_any_spelling(value: float) -> None:
    whole, _, cents = f"{value:.2f}".partition(".")
    grouped = f"{int(whole):,}"
    for text in (f"{whole}.{cents}", f"{whole},{cents}", f"{grouped}.{cents}", f"{grouped.replace(',', '.')},{cents}",
                 f"{grouped.replace(',', ' ')},{cents}"):  # fmt: skip
        assert schedule.parse_number(text) == value, text


def test_units_in_cells() -> None:
    assert [schedule.parse_length_m(t) for t in ("72m", "72 m", "0,072 km", "72", "100 ft")] == [72, 72, 72, 72, 30.48]
    for bad in ("", "m", "12 parsec", "1.2.3,4,5", "--3"):
        with pytest.raises(ValueError, match="expected"):
            schedule.parse_length_m(bad)


@given(st.binary(max_size=500))
def test_any_file_is_read_or_refused(tmp_path_factory: pytest.TempPathFactory, data: bytes) -> None:
    folder = tmp_path_factory.getbasetemp() / "any-schedule"
    if not folder.exists():
        make_site(folder, SITE, CAMERAS, TYPES)
    words = schedule.spellings(draft_for_schedule(SiteFolder(folder))[0])
    file = folder / "any.csv"
    file.write_bytes(b"name;type;port;cable\n" + data)
    try:
        (rows,) = tables.read_tables(file).values()
        mapped = schedule.map_columns(rows, {}, "any.csv", header_words())
        schedule.interpret(rows, mapped, words, {}, "any.csv")
    except InputError as error:
        assert error.advice


def test_positions_and_what_is_wanted_are_taken_in(site: Path) -> None:
    header = "Camera;Model;Switch / port;Cable length;Channel;East;North;Mast height;Azimuth;Tilt;Target distance;Requirement"
    row = "Gate;Larch 2;cabinet / 4;40 m;2;-12,5 m;8;4,2 m;270°;15 deg;0,018 km;Recognize"
    (site.parent / "list.csv").write_text(f"{header}\n{row}\n", encoding="utf-8")
    assert zentrale("import", "../list.csv", cwd=site).code == 0
    camera = read_plan(SiteFolder(site)).camera("gate")
    assert (camera.x_m, camera.y_m, camera.height_m, camera.heading_deg, camera.tilt_deg) == (-12.5, 8, 4.2, 270, 15)
    assert (camera.target_m, camera.wants, camera.run_length_m) == (18, "recognise", 40)
    (site.parent / "list.csv").write_text(f"{header}\n{row.replace('270°', '270 rad')}\n", encoding="utf-8")
    wrong = zentrale("import", "../list.csv", cwd=site)
    assert wrong.code == 2 and "column heading_deg (Azimuth): found '270 rad'; expected a number in one of" in wrong.err


@pytest.mark.parametrize("kind", ["xlsx", "csv"])
def test_a_header_of_two_rows_with_merged_cells(site: Path, kind: str) -> None:
    """What stands above several columns is said once in a spreadsheet, over merged cells."""
    upper = ["Camera", None, None, "Network", None, None, "Recorder", None]
    lower = ["Name", "Type", "Cable length", "Switch", "Port", "IP address", "Name", "Channel"]
    row = ["Gate", "Larch 2", "12 m", "cabinet", 4, "127.0.71.14", "recorder", 2]
    file = site.parent / f"list.{kind}"
    if kind == "xlsx":
        book = openpyxl.Workbook()
        page = book.active
        assert page is not None
        for cells in ([None] * 8, ["Cameras of the gate"] + [None] * 7, upper, lower, row):
            page.append(cells)
        for area in ("A2:H2", "A3:C3", "D3:F3", "G3:H3"):
            page.merge_cells(area)
        book.save(file)
    else:
        lines = [["" if c is None else str(c) for c in cells] for cells in (upper, lower, row)]
        file.write_text("\n".join(";".join(line) for line in lines) + "\n")
    shown = zentrale("import", str(file), "--dry-run", "--json", cwd=site)
    assert shown.code == 0, shown.all
    columns = shown.json["columns"]
    assert {k: columns[k] for k in ("name", "switch", "port", "recorder", "channel", "address")} == {
        "name": "Camera Name", "switch": "Network Switch", "port": "Network Port", "recorder": "Recorder Name",
        "channel": "Recorder Channel", "address": "Network IP address",
    }  # fmt: skip
    assert shown.json["added"] == ["gate"]


TITLES = {  # as the trade writes them, in five languages; what each column must be taken for
    "Kameraname;Kameratyp;Verteilerschrank;Switchanschluss;Kabellänge [m];IP-Adresse;Kanal-Nr.;Montagehöhe;Blickrichtung": "de",
    "Nom de caméra;Modèle;Baie;Numéro de port;Longueur de câble (m);Adresse IP;Voie;Hauteur de pose;Orientation": "fr",
    "Nombre de cámara;Modelo;Armario;Puerto;Longitud de cable;Dirección IP;Nº de canal;Altura de montaje;Orientación": "es",
    "Nome telecamera;Modello;Armadio;Porta;Lunghezza cavo;Indirizzo IP;Canale;Altezza;Direzione": "it",
    "Cameranaam;Cameramodel;Patchkast;Switchpoort;Kabellengte;IP-adres;Kanaalnummer;Montagehoogte;Kijkrichting": "nl",
}


@pytest.mark.parametrize("titles", TITLES, ids=TITLES.get)
def test_titles_in_the_trades_languages(titles: str) -> None:
    found = known_columns(titles.split(";"), header_words())
    assert found == {
        "name": 0, "type": 1, "switch": 2, "port": 3, "run_length_m": 4, "address": 5, "channel": 6, "height_m": 7,
        "heading_deg": 8,
    }  # fmt: skip


def test_one_error_hides_no_other(site: Path) -> None:
    """Fields of one row, rows against each other and against the plan, and the plan's own files."""
    (site / "site.toml").write_text((site / "site.toml").read_text().replace("Europe/London", "Europe/Nowhere"))
    lines = [
        "Standort;Typ;Switch;Port;Kabel;IP;Kanal", "Tor;larch-9;cabinet;4;42 Meilen;10.0.0.300;x",
        "Hof;larch-2;cabinet;5;20;127.0.71.15;1",
        "Hof;larch-2;attic;5;20;127.0.71.15;9",
    ]  # fmt: skip
    (site / "list.csv").write_text("\n".join(lines))
    told = zentrale("import", "list.csv", cwd=site)
    assert told.code == 2
    for words in (
        "site.timezone", "row 2, column type (Typ): found 'larch-9'", "row 2, column run_length_m (Kabel)", "'10.0.0.300'",
        "row 2, column channel (Kanal): found 'x'", "row 4, column switch (Switch): found 'attic'",
        "the name 'hof' stands in row 3",
        "row 3 (hof): field channel: channel 'recorder channel 1' is already used at cameras.csv, north",
        "row 4 (hof): field address: address '127.0.71.15' is already used at list.csv row 3 (hof)",
    ):  # fmt: skip
        assert told.err.count(words) == 1, (words, told.err)
    assert "9 errors" in told.err


def test_what_is_not_known_is_asked_for_or_printed(site: Path) -> None:
    (site / "list.csv").write_text("Wo;Gerät;Zugweg;Spur\nHof;larch-2;22 m;4\n", encoding="utf-8")
    piped = zentrale("import", "list.csv", "--default", "port=5", cwd=site)
    assert piped.code == 2 and "`zentrale import list.csv --map " in piped.err and "--dry-run`" in piped.err
    asked: list[str] = []

    def ask(column: str, titles: Sequence[str], likely: int | None, values: Sequence[str]) -> int | str | None:
        asked.append(column)
        return titles.index({"name": "Wo", "channel": "Spur"}[column])

    (site / "headers.toml").write_text('[run_length_m]\nours = ["Zugweg"]\n', encoding="utf-8")
    request = Request(site / "list.csv", defaults={"port": "5"}, save_mapping=True)
    taken = prepare_import(SiteFolder(site), request, ask)
    assert asked == ["name", "channel"], "the rest is known: by the table, by its own table, or since there is only one"
    camera = taken.plan.camera("hof")
    assert (camera.type, camera.run_length_m, camera.channel, camera.title, camera.port) == ("larch-2", 22, 4, "Hof", 5)
    taken.write()
    assert zentrale("import", "list.csv", cwd=site).out.count("nothing to change") == 1, (
        "title, and port by default, are kept"
    )
    for wrong, words in (
        ("[nam]\nx = []", "[nam] is no column"),
        ("[name]\nx = 1", "is no list of titles"),
        ("[", "cannot be read"),
    ):
        (site / "headers.toml").write_text(wrong)
        assert words in zentrale("import", "list.csv", cwd=site).err


def test_of_several_sheets_that_with_the_cameras(site: Path) -> None:
    header: list[object] = ["Name", "Model", "Switch", "Port", "Cable", "Channel"]
    row: list[object] = ["yard", "larch-2", "cabinet", 6, 40, 4]
    file = write_sheet(site / "list.xlsx", [["Cover"], ["Object", "Locks"]])
    book = openpyxl.load_workbook(file)
    for title in ("Parts", "Schedule", "Old"):
        page = book.create_sheet(title)
        for each in (
            [["Item", "Price"], ["mast", 3]] if title == "Parts" else [header, row] if title == "Schedule" else []
        ):
            page.append(each)
    book.save(file)
    assert zentrale("import", "list.xlsx", "--dry-run", "--json", cwd=site).json["sheet"] == "Schedule"
    for each in (header, row):
        book["Old"].append(each)
    book.save(file)
    both = zentrale("import", "list.xlsx", cwd=site)
    assert (
        both.code == 2
        and "several sheets look like a camera table" in both.err
        and "Old: 2 rows with Name, Model" in both.err
    )
    assert zentrale("import", "list.xlsx", "--sheet", "Old", "--save-map", cwd=site).code == 0
    assert zentrale("import", "list.xlsx", "--json", cwd=site).json["sheet"] == "Old", "as it was kept"
    assert "did you mean Old?" in zentrale("import", "list.xlsx", "--sheet", "Olf", cwd=site).err
