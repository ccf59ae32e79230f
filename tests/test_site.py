"""Plan files: reading, checking, finding, writing."""

from __future__ import annotations

import errno
import re
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from conftest import CAMERAS, SITE, TYPES, make_site, zentrale
from zentrale.errors import InputError, PlanError, StorageError
from zentrale.site.camera_file import camera_file_text, read_camera_rows
from zentrale.site.folder import SiteFolder, create_site, find_site, write_atomically
from zentrale.site.reading import read_plan
from zentrale.site.timezone import posix_timezone
from zentrale.site.toml_lines import line_of
from zentrale.site.values import normal_mac


def problems_of(folder: Path) -> list[str]:
    with pytest.raises(PlanError) as error:
        read_plan(SiteFolder(folder))
    return error.value.problems


def test_the_samples_are_right(tmp_path: Path) -> None:
    for sample in ("empty", "brackwater"):
        create_site(tmp_path / sample, sample)
        assert read_plan(SiteFolder(tmp_path / sample)).cameras
    with pytest.raises(InputError):
        create_site(tmp_path / "empty", "empty")


# What is wrong in which file, and the words that must stand in its one message.
MISTAKES = [
    ("site", "vlan = 71", "vlan = 5000", ["site.toml line 13", "zones.vlan", "5000", "4094"]),
    ("site", "vlan = 71", "vlna = 71", ["site.toml line 13", "'vlna'"]),
    ("site", '"127.0.71.0/27"', '"127.0.71.1/27"', ["site.toml line 14", "subnet"]),
    ("site", 'type = "switch-8"', 'type = "other"', ["site.toml line 22", "'other'", "switch-8"]),
    ("site", "Europe/London", "Europe/Nowhere", ["site.toml line 3", "Europe/Nowhere", "time zone"]),
    (
        "site",
        '"127.0.71.0/27"',
        '"fd00:71::/64"',
        ["site.toml line 14", "zones.subnet", "IPv6 addresses cannot be planned yet"],
    ),
    (
        "site",
        "vlan = 71",
        'vlan = 71\npool = "fd00::1-fd00::9"',
        ["zones.pool", "IPv6 addresses cannot be planned yet"],
    ),
    (
        "cameras",
        "127.0.71.12",
        "fe80::12",
        ["cameras.csv line 3", "address", "'fe80::12'", "IPv6 addresses cannot be planned yet"],
    ),
    ("site", '"320x180"', '"320 by 180"', ["site.toml line 17", "resolution", "1920x1080"]),
    (
        "site",
        "[policy]",
        "[[batteries]]\nname = 'b'\ncapacity_wh = 1\nfeeds = ['x']\n[policy]",
        ["line 7", "'x'", "cabinet"],
    ),
    ("site", "[policy]", "[polizei]", ["site.toml line 4", "[polizei]", "policy"]),
    (
        "types",
        "poe_class = 3\nday_w = 6.0\nmax",
        "poe_class = 9\nday_w = 6.0\nmax",
        ["types.toml line 5", "poe_class", "9"],
    ),
    ("types", "day_w = 6.0\nnight_w", "night_w", ["types.toml line 8", "'day_w'", "missing"]),
    ("cameras", "north,north door", "North Door,north door", ["cameras.csv line 2", "'North Door'", "small letters"]),
    ("cameras", "cabinet,2,30", "cabinet,1,30", ["cameras.csv line 3", "cabinet:1", "already used", "line 2"]),
    ("cameras", "cabinet,2,30", "cabinet,77,30", ["cameras.csv line 3", "port 77", "1 to 10"]),
    ("cameras", "recorder,3", "recorder,1", ["cameras.csv line 3", "recorder channel 1", "line 2"]),
    ("cameras", "127.0.71.12", "127.0.71.21", ["cameras.csv line 3", "127.0.71.21", "site.toml"]),
    ("cameras", "02:5a:71:00:00:11", "02:5a:71:00:00", ["cameras.csv line 2", "MAC address"]),
    ("cameras", "recorder,3", "recorder,3,extra", ["cameras.csv line 3", "13 cells", "12"]),
    ("cameras", ",group,", ",gruppe,", ["cameras.csv line 1", "'gruppe'"]),
    ("site", "[policy]", "[policy]\nmulticast_block = '10.0.0.0/8'", ["line 5", "multicast groups", "239.192.0.0/16"]),
    ("types", "max_resolution", "view_deg = 400\nmax_resolution", ["types.toml line 7", "view_deg", "360"]),
]

VIEWER = '[[viewers]]\nname = "desk"\nzone = "cameras"\nswitch = "cabinet"\nport = 7\n'
POINT = '[[access_points]]\nname = "ap"\nswitch = "cabinet"\nport = 6\nnetworks = [{ name = "n", zone = "cameras" }]\n'
ZONE = '[[zones]]\nname = "other"\nvlan = 9\nsubnet = "127.0.72.0/27"\n'
# What is added to site.toml, and the words of its message.
MORE_MISTAKES = [
    (VIEWER.replace('"cameras"', '"office"'), ["field zone", "'office'", "cameras"]),
    ('\n[[zones]]\nname = "office"\nvlan = 71\nsubnet = "10.9.0.0/24"\n', ["field vlan", "'VLAN 71' is already used"]),
    (VIEWER.replace("port = 7", "port = 1"), ["field port", "cabinet:1", "already used"]),
    (VIEWER.replace('"desk"', '"north"'), ["name 'north'", "already used"]),
    (VIEWER + 'groups = ["none"]\n', ["groups", "'none'", "all"]),
    (POINT.replace('zone = "cameras"', 'zone = "x"'), ["zone", "'x'", "cameras"]),
    ('[[ports]]\nat = "cabinet"\n', ["'cabinet'", "SWITCH:PORT"]),
    ('[[ports]]\nat = "cabinet:99"\n', ["port 99", "1 to 10"]),
    ('[[ports]]\nat = "cabinet:1"\ndevice = "nobody"\n', ["device", "'nobody'"]),
    ('[[ports]]\nat = "cabinet:1"\ntagged = ["cameras", "x"]\n', ["tagged", "'x'"]),
    ('[[rules]]\nfrom = "cameras"\nto = "moon"\n', ["to", "'moon'", "internet"]),
    ('[[reach]]\nfrom = "cameras"\nto = "internet"\n', ["'wanted'", "missing"]),
    ('[[rules]]\nfrom = "cameras"\nto = "*"\nprotocol = "tcp"\nport = "80-70"\n', ["port", "80-70", "6000-6100"]),
    ('[[rules]]\nfrom = "cameras"\nto = "*"\nport = 80\n', ["port needs protocol"]),
    ('[[rules]]\nfrom = "cameras"\nto = "*"\nto_kind = "printer"\n', ["to_kind", "printer", "recorder"]),
    (ZONE + 'primary = "cameras"\n', ["subnet", "127.0.72.0/27", "its primary cameras"]),
    (ZONE + 'primary = "other"\n', ["primary", "no secondary itself"]),
    (ZONE + 'querier = "nowhere"\n', ["querier", "'nowhere'", "cabinet"]),
    ('[placement]\nswitch_types = ["x"]\n', ["switch_types", "'x'", "switch-8"]),
    ('[[cabinets]]\nname = "a"\nx_m = "far"\ny_m = 0\n', ["x_m", "far", "number"]),
]


@pytest.mark.parametrize(("added", "words"), MORE_MISTAKES)
def test_a_mistake_in_the_network_is_named(tmp_path: Path, added: str, words: list[str]) -> None:
    problems = problems_of(make_site(tmp_path, SITE + added))
    assert any(all(word in problem for word in words) for problem in problems), problems
    assert all(re.match(r"(site.toml|cameras.csv) line \d+: field ", problem) for problem in problems), problems


@pytest.mark.parametrize(("file", "right", "wrong", "words"), MISTAKES)
def test_a_mistake_is_named_with_its_place(tmp_path: Path, file: str, right: str, wrong: str, words: list[str]) -> None:
    texts = {"site": SITE, "types": TYPES, "cameras": CAMERAS}
    assert right in texts[file]
    texts[file] = texts[file].replace(right, wrong, 1)
    problems = problems_of(make_site(tmp_path, **texts))
    assert any(all(word in problem for word in words) for problem in problems), problems


def test_all_mistakes_are_told_at_once(tmp_path: Path) -> None:
    site, types, cameras = SITE, TYPES, CAMERAS
    for file, right, wrong, _ in MISTAKES[:4]:
        assert file == "site"
        site = site.replace(right, wrong, 1)
    cameras = cameras.replace("cabinet,2,30", "cabinet,1,far").replace("recorder,3", "recorder,1")
    folder = make_site(tmp_path, site, cameras, types)
    result = zentrale("check", cwd=folder)
    assert result.code == 2 and result.out == ""
    for word in ("zones.vlan", "subnet", "'other'", "run_length_m"):
        assert word in result.err, result.err
    before = {p.name: p.read_bytes() for p in folder.iterdir()}
    assert zentrale("plan", cwd=folder).code == zentrale("register", cwd=folder).code == 2
    assert {p.name: p.read_bytes() for p in folder.iterdir()} == before, "nothing is half written"


@pytest.mark.parametrize(
    "content", [b"\xff\xfe\x00", b"= [", b"", b"[[zones]]\nname = 5\n" * 3, b'site = "x"', b"zones = 3"]
)
def test_files_that_are_no_plan_are_told_so(tmp_path: Path, content: bytes) -> None:
    folder = make_site(tmp_path)
    for name in ("site.toml", "types.toml", "cameras.csv"):
        original = (folder / name).read_bytes()
        (folder / name).write_bytes(content)
        assert problems_of(folder)
        (folder / name).write_bytes(original)
    (folder / "cameras.csv").unlink()
    assert "cameras.csv: missing" in problems_of(folder)[0]


@given(st.binary(max_size=300))
def test_any_schedule_is_read_or_refused(tmp_path_factory: pytest.TempPathFactory, data: bytes) -> None:
    folder = make_site(tmp_path_factory.mktemp("any"))
    (folder / "cameras.csv").write_bytes(CAMERAS.encode() + data)
    try:
        read_plan(SiteFolder(folder))
    except PlanError as error:
        assert error.problems


def test_a_site_is_found_from_below(tmp_path: Path) -> None:
    folder = make_site(tmp_path / "site")
    below = folder / "output" / "deep"
    below.mkdir(parents=True)
    assert find_site(None, below).path == folder.resolve()
    with pytest.raises(InputError):
        find_site(str(tmp_path / "nowhere"))


def test_lines_of_toml_fields() -> None:
    text = "a = 1\n[[x]]\nk = 1\n[[x]]\n# c\nk = 2\nm = 3\n[y]\nz = 1\n"
    assert [line_of(text, at) for at in ((), ("a",), ("x", 1, "m"), ("x", 1, "none"), ("y", "z"))] == [1, 1, 7, 4, 9]


def test_time_zones_become_posix_strings() -> None:
    assert posix_timezone("Europe/London") == "GMT0BST,M3.5.0/1,M10.5.0"
    assert posix_timezone("Asia/Tokyo") == "JST-9"
    for bad in ("", "../../etc/passwd", "Europe", "/etc/passwd"):
        with pytest.raises(ValueError, match="IANA"):
            posix_timezone(bad)


@pytest.mark.parametrize("text", ["02-5A-71-00-00-11", "025a.7100.0011", "025A71000011", "02:5a:71:00:00:11"])
def test_mac_addresses_in_any_spelling(text: str) -> None:
    assert normal_mac(text) == "02:5a:71:00:00:11"


def test_a_file_is_written_whole_or_not_at_all(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    path = tmp_path / "file"
    write_atomically(path, b"old")

    def no_rename(self: Path, target: Path) -> Path:
        raise OSError(errno.ENOSPC, "No space left on device")

    monkeypatch.setattr(Path, "replace", no_rename)
    with pytest.raises(StorageError, match="No space left") as error:
        write_atomically(path, b"new")
    assert "free some space" in error.value.advice
    assert path.read_bytes() == b"old" and list(tmp_path.iterdir()) == [path]


@pytest.mark.parametrize("separator", [";", "\t", "|"])
@pytest.mark.parametrize("encoding", ["utf-8-sig", "cp1252", "utf-16"])
def test_a_schedule_saved_by_a_spreadsheet_is_read(tmp_path: Path, separator: str, encoding: str) -> None:
    """With another separator, decimal commas and the encoding of another country; written back it is in our own form."""
    text = (
        CAMERAS.replace("north door", "Tür Nord")
        .replace(",", separator)
        .replace(f"{separator}20{separator}", f"{separator}20,5{separator}")
    )
    site = make_site(tmp_path)
    (site / "cameras.csv").write_bytes(text.encode(encoding))
    plan = read_plan(SiteFolder(site))
    assert plan.cameras[0].run_length_m == 20.5 and plan.cameras[0].shows == "Tür Nord" and len(plan.cameras) == 2
    rows, _ = read_camera_rows(site / "cameras.csv")
    (site / "cameras.csv").write_text(camera_file_text(rows, []), encoding="utf-8")
    assert read_plan(SiteFolder(site)).cameras == plan.cameras


def test_a_schedule_of_another_form_is_one_problem_with_the_way_in(tmp_path: Path) -> None:
    rows = "".join(f"Camera {n};Door {n};10.0.0.{n}\n" for n in range(1, 100))
    shown = zentrale("check", cwd=make_site(tmp_path, cameras="Camera;Place;IP address\n" + rows))
    assert shown.code == 2 and "zentrale import" in shown.err and len(shown.err.splitlines()) <= 4


@pytest.mark.parametrize(
    ("file", "right", "wrong", "words"),
    [
        ("site", "vlan = 71", "vlna = 71", ["did you mean vlan?", "known are: name, vlan, subnet"]),
        ("site", "fps = 10", "fsp = 10", ["did you mean fps?", "keyframe_interval_s"]),
        ("site", "[[zones]]", "[[zone]]", ["did you mean zones?"]),
        ("cameras", "run_length_m", "run_lenght_m", ["did you mean run_length_m?"]),
        ("types", "poe_class", "poe_clas", ["did you mean poe_class?", "most_w"]),
    ],
)
def test_what_was_meant_is_told(tmp_path: Path, file: str, right: str, wrong: str, words: list[str]) -> None:
    texts = {"site": SITE, "types": TYPES, "cameras": CAMERAS}
    texts[file] = texts[file].replace(right, wrong, 1)
    site = make_site(tmp_path, **texts)
    assert any(all(word in problem for word in words) for problem in problems_of(site)), problems_of(site)
    told = zentrale("check", "--json", cwd=site)
    assert told.code == 2 and told.err == "" and all(p["file"] and p["found"] for p in told.json["problems"])
    assert told.json["problems"][0]["line"] is not None


@pytest.mark.parametrize(
    ("file", "right", "wrong", "words"),
    [
        ("site", "fps = 10", "fps = 'ten'", "found 'ten'; expected a number"),
        ("site", "fps = 10", "fps = -1", "found -1; expected more than 0"),
        ("site", "vlan = 71", "vlan = 4095", "found 4095; expected 4094 or less"),
        ("types", "poe_class = 3", "poe_class = 3.5", "expected a whole number"),
        ("types", "poe_budget_w = 60", 'poe_budget_w = 60\npoe_budgeting = "sum"', "expected 'draw' or 'class'"),
        ("site", 'name = "Small site"', "name = 7", "expected text in quotes"),
        ("site", "fps = 10", "fps = 10 Hz", "site.toml line 17: not valid TOML at column"),
        ("site", "sweep_ports = [8080, 8554]", "sweep_ports = 8080", "expected a list in brackets"),
        ("site", "[[zones]]", "[zones]", "[[zones]]"),
    ],
)
def test_a_mistake_is_told_in_our_words(tmp_path: Path, file: str, right: str, wrong: str, words: str) -> None:
    texts = {"site": SITE, "types": TYPES, "cameras": CAMERAS}
    assert right in texts[file]
    texts[file] = texts[file].replace(right, wrong, 1)
    told = " | ".join(problems_of(make_site(tmp_path, **texts)))
    assert words in told and "Input should" not in told and "should be" not in told, told
