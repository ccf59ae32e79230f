"""The documentation inside the program: every line to type is one that the program takes, and everything is found."""

from __future__ import annotations

import argparse
import re
import runpy
import shlex
import shutil
import subprocess
from pathlib import Path

import pytest

from conftest import PASSPHRASE, PROGRAM, StartStandIn, environment, make_site, program, zentrale
from zentrale.cli import errors, layout, pages
from zentrale.cli.main import COMMANDS, build_parser
from zentrale.cli.output import Output
from zentrale.logbook.vault import Vault
from zentrale.site.device_types import CameraType, RecorderType, SwitchType
from zentrale.site.model import Battery, Camera, Group, Link, Policy, Recorder, Switch, Viewer, Zone

README = Path(__file__).parent.parent / "README.md"


def lines_to_type() -> list[str]:
    texts = [pages.page(name) for name in pages.topics()] + [README.read_text(encoding="utf-8")]
    found = [line for text in texts for line in re.findall(r"^    (zentrale .*)$", text, re.M)]
    return [line.partition("#")[0].strip() for line in found]


@pytest.mark.parametrize("line", sorted(set(lines_to_type())))
def test_every_line_to_type_is_understood(line: str) -> None:
    _, command, *arguments = shlex.split(line)
    assert command in COMMANDS
    build_parser(command).parse_args([command, *arguments])


def test_every_key_of_the_plan_files_is_explained() -> None:
    known = {key.name for key in pages.plan_keys()}
    models = (
        CameraType,
        RecorderType,
        SwitchType,
        Battery,
        Group,
        Link,
        Policy,
        Recorder,
        Switch,
        Viewer,
        Zone,
        Camera,
    )
    missing = {f.alias or n for model in models for n, f in model.model_fields.items()} - known - {"row", "scene"}
    assert not missing


def test_a_key_has_the_unit_of_its_name_and_words_of_its_own() -> None:
    units = {"m": "m", "days": "days", "mbps": "Mbit/s", "kbps": "kbit/s", "w": "W", "s": "s", "deg": "°", "ms": "ms", "kb": "kB",
             "tb": "TB", "mm": "mm", "min": "min", "wh": "Wh", "percent": "%"}  # fmt: skip
    words: dict[tuple[str, str], list[str]] = {}
    for key in pages.plan_keys():
        ending = (
            key.name.rpartition("_")[2] if "_" in key.name and not key.name.endswith(("_per_m", "_mpixel_s")) else ""
        )
        assert key.unit.split(" ")[0] == units.get(ending, key.unit.split(" ")[0]), key
        words.setdefault((key.where, key.meaning), []).append(key.name)
    assert [names for names in words.values() if len(names) > 1] == [
        ["basic_in_clear", "firmware"],
        ["building", "wall"],
    ]


def test_help_topics_codes_and_keys() -> None:
    for topic in pages.topics():
        assert zentrale("help", topic).code == 0
    assert "cords at both ends" in " ".join(zentrale("explain", "policy.cords_m").out.split())
    assert "site.toml [policy]" in zentrale("explain", "cords_m").out
    for key, words in (
        ("poe", "poe  site.toml [[ports]]\n  PoE on this port"),
        ("keep_days", "[days]\n  wanted (default 14)\n"),
    ):
        assert words in zentrale("explain", key).out, "its own words and unit, not its neighbour's"
    for arguments, words in (
        (("explain", "PWR-99"), "no such finding code"), (("explain", "cord_m"), "did you mean cords_m?"),
        (("help", "tutrial"), "did you mean tutorial?"),
    ):  # fmt: skip
        shown = zentrale(*arguments)
        assert shown.code == 2 and words in shown.err


def test_mistakes_are_told_by_the_command_that_has_them(tmp_path: Path) -> None:
    for arguments, words in (
        (("plna",), ("usage: zentrale", "did you mean plan?")),
        (("plan", "--detials"), ("usage: zentrale plan", "did you mean --details?")),
        (("vault", "ad"), ("usage: zentrale vault", "did you mean add?")),
        (("network", "rehearse", "--asplanned"), ("usage: zentrale network rehearse", "did you mean --as-planned?")),
    ):
        shown = program(*arguments)
        assert shown.code == 2 and all(word in shown.err for word in words), shown.err
    site = make_site(tmp_path)
    assert "did you mean north?" in zentrale("verify", "--only", "norht", cwd=site).err
    begin = program()
    assert begin.code == 0 and "zentrale discover" in begin.out and len(begin.out.splitlines()) < 24


@pytest.mark.parametrize("width", [60, 80, 110])
def test_nothing_is_broken_inside_and_nothing_is_too_wide(
    tmp_path: Path, width: int, monkeypatch: pytest.MonkeyPatch
) -> None:
    """All of the worked example's tables and findings; a single word that is wider may stand out."""
    site = tmp_path / "locks"
    assert zentrale("new", str(site), "--sample", "brackwater").code == 0
    wide = zentrale("plan", "--details", "--seconds", "5", cwd=site).out
    monkeypatch.setenv("COLUMNS", str(width))
    narrow = zentrale("plan", "--details", "--seconds", "5", cwd=site).out
    assert max(len(line) for line in narrow.splitlines()) <= width
    for word in (*re.findall(r"127\.0\.\d+\.\d+|[a-z]+-[a-z-]+:\d+|\d+\.\d+ W\b|\b[A-Z]{3}-\d+", wide),):
        assert word in narrow, word
    short = zentrale("plan", cwd=site)
    assert len(short.out.splitlines()) <= 48 * 80 / min(width, 80), "two screens say what is wrong"
    assert short.out.startswith("FAULTS") and "next:" in short.err


def test_no_colour_is_no_escape_at_all(tmp_path: Path) -> None:
    import os
    import pty

    site = make_site(tmp_path)

    def shown(*arguments: str, **more: str) -> bytes:
        ours, theirs = pty.openpty()
        process = subprocess.Popen(
            [PROGRAM, "plan", *arguments], cwd=site, env=environment(**more), stdout=theirs, stderr=theirs
        )
        os.close(theirs)
        told = b""
        while True:
            try:
                told += os.read(ours, 65536)
            except OSError:
                break
        process.wait(30)
        os.close(ours)
        return told

    assert b"\x1b[" in shown(TERM="xterm", COLUMNS="80")
    assert b"\x1b" not in shown(TERM="xterm", COLUMNS="80", NO_COLOR="1")
    assert b"\x1b" not in shown("--no-color", TERM="xterm", COLUMNS="80")
    short, tall = (shown(TERM="xterm", NO_COLOR="1", COLUMNS="80", LINES=lines) for lines in ("10", "90"))
    assert short.count(b"WARNINGS  1 warning; 2 cameras calculated") == 2, "once more where it has scrolled away"
    assert tall.count(b"WARNINGS  1 warning; 2 cameras calculated") == 1


def test_rows_are_stacked_where_columns_do_not_fit() -> None:
    assert layout.column_widths(["a", "b"], [["x" * 30, "y" * 30]], 60) is None
    assert layout.column_widths(["a", "b"], [["x x", "2.5 W"]], 10, {1}) == [1, 5], "a number stays with its unit"
    assert layout.stacked(["name", "state", "port"], ["north", "ok", "-"], 40) == ["north", "  state ok"]


def test_the_doctor_looks_at_this_machine() -> None:
    shown = zentrale("doctor", "--json")
    found = {e["what"]: e for e in shown.json["examined"]}
    assert shown.code == 0 and {"network adapter", "multicast", "git"} <= set(found)
    assert found["git"]["well"] is (shutil.which("git") is not None) and shown.json["version"].startswith("zentrale ")
    assert all(e["well"] or e["advice"] for e in found.values())
    assert zentrale("doctor").out.startswith(("OK", "WARNINGS"))


@pytest.mark.parametrize(
    ("command", "words"),
    [
        ("plan", "no device was changed"),
        ("register", "goes on where it stopped"),
        ("verify", "until now is kept"),
        ("discover", "no device was changed; who is missing was not judged"),
        ("restart", "is in the journal"),
    ],
)
def test_an_interruption_says_how_far_and_how_to_go_on(
    capsys: pytest.CaptureFixture[str], command: str, words: str
) -> None:
    args = argparse.Namespace(command=command, no_color=True, quiet=True, json=False, verbose=False)

    def run(args: argparse.Namespace) -> int:
        with Output(args).progress("working", 28) as step:
            step(11)
            raise KeyboardInterrupt

    assert errors.guarded(run, args) == 130
    told = capsys.readouterr().err
    assert "interrupted after 11 of 28" in told and words in told and f"zentrale {command}" in told


# What stands in the pages, and what it is on the stand-in.
HERE = {
    "10.20.0.11/": "127.0.71.12:8554/", "viewer@": "admin@", "--seconds 10": "--seconds 1", "--undo 12": "--undo RUN",
    "192.168.1.0/24 --adapter eth0": "127.0.71.0/27 --adapter lo", "192.168.1.0/24": "127.0.71.0/27",
    "upper-gate-north": "north", "192.168.1.64": "127.0.71.11",
}  # fmt: skip
HOW_TO = ("two-fresh-cameras", "wrong-subnet", "rtsp-only", "passwords", "evidence", "second-visit", "second-laptop")
FROM_NOTHING = ("office-schedule", "only-the-network")  # run in test_first_day.py


@pytest.mark.usefixtures("stand_in")
def test_the_how_to_pages_from_beginning_to_end(ready_site: Path, tmp_path: Path) -> None:
    """Every line of every page on one site, in an order in which they could be needed."""
    assert {f"howto-{name}" for name in (*HOW_TO, *FROM_NOTHING)} == {
        name for name in pages.topics() if name.startswith("howto-")
    }
    (ready_site / "passwords.txt").write_text("never-this-1\nfactory-1234\n")
    told: dict[str, str] = {}
    for name in HOW_TO:
        if name == "second-laptop":
            shutil.copytree(ready_site, tmp_path / "stick")
        for line in re.findall(r"^    (zentrale .*)$", pages.page(f"howto-{name}"), re.M):
            for there, at in {**HERE, "/media/stick/harbour": str(tmp_path / "stick")}.items():
                line = line.replace(there, at)
            run = re.search(r"--undo (\d+)", told.get("register", ""))
            arguments = shlex.split(line.replace("RUN", run[1] if run else "2"))[1:]
            own = Vault.open(ready_site / "vault.bin", PASSPHRASE).device("south")
            shown = zentrale(
                *arguments, cwd=ready_site, ZENTRALE_STREAM_PASSWORD=own.password if own else "factory-1234"
            )
            assert shown.code in (0, 1), f"{name}: {line}: {shown.all}"
            told[line] = shown.out
            if arguments[:2] == ["register", "--only"]:
                told["register"] = shown.out
    assert (ready_site / "gate.jpg").read_bytes()[:2] == b"\xff\xd8" and (
        ready_site / "output/handover/index.html"
    ).exists()
    assert "taken back" in told["zentrale register --undo RUN"]


def test_the_manual_page_is_made_from_the_commands() -> None:
    page = runpy.run_path(str(README.parent / "tools" / "man_page.py"))["page"]
    told = (README.parent / "docs" / "zentrale.1").read_text(encoding="utf-8")
    assert told == page(), "run python tools/man_page.py > docs/zentrale.1"
    assert all(f'.SS "zentrale {command}"' in told for command in COMMANDS)


def test_the_shell_is_offered_commands_cameras_and_codes(tmp_path: Path) -> None:
    """As the completion of bash asks (argcomplete): the line so far, and where the cursor stands."""
    site = make_site(tmp_path)

    def offered(line: str) -> list[str]:
        asked = {"_ARGCOMPLETE": "1", "COMP_LINE": line, "COMP_POINT": str(len(line)), "_ARGCOMPLETE_IFS": "\n",
                 "_ARGCOMPLETE_STDOUT_FILENAME": str(tmp_path / "offered"), "_ARGCOMPLETE_SHELL": "bash"}  # fmt: skip
        subprocess.run([PROGRAM], cwd=site, env=environment(**asked), check=False, timeout=60)
        return (tmp_path / "offered").read_text().split("\n")

    assert "discover " in offered("zentrale disc") or "discover" in offered("zentrale disc")
    assert [word.strip() for word in offered("zentrale verify --only nor")] == ["north"]
    assert {"PWR-1", "PWR-2"} <= {word.strip() for word in offered("zentrale explain PWR-")}


def test_the_tutorial_from_beginning_to_end(start_stand_in: StartStandIn, tmp_path: Path) -> None:
    """Every line of it, with the change that it asks for between."""
    start_stand_in(README.parent / "src" / "zentrale" / "simulation" / "data" / "brackwater.toml")
    locks, told = tmp_path / "locks", dict[str, str]()
    passwords = {"--label": "Quoin-Paddle-58", "--factory": "umbra-1234"}
    for line in re.findall(r"^    (zentrale .*)$", pages.page("tutorial"), re.M):
        if line == "zentrale simulate":
            continue
        if "--against" in line:
            for git in ("init -q", "add .", "-c user.name=a -c user.email=a@b commit -qm first"):
                subprocess.run(["git", "-C", str(locks), *git.split()], check=True)
            cameras = (locks / "cameras.csv").read_text()
            (locks / "cameras.csv").write_text(
                re.sub(r"(?m)^(fish-pass,.*),pump-house,\d+,", r"\1,ticket-hall,7,", cameras)
            )
            assert cameras != (locks / "cameras.csv").read_text()
        password = next((word for option, word in passwords.items() if option in line), "")
        shown = zentrale(*shlex.split(line)[1:], cwd=tmp_path, ZENTRALE_PASSWORD=password)
        assert shown.code in (0, 1), f"{line}: {shown.all}"
        told[line] = shown.out
    assert "fish-pass" in told["zentrale plan --against HEAD --site locks"]
    assert "dark: sluice, fish-pass" in told["zentrale plan --site locks"]
    assert "dark: sluice (" in " ".join(zentrale("plan", "--site", str(locks)).out.split())
    assert "default password" in told["zentrale discover --site locks"]
    assert (locks / "output" / "handover" / "index.html").stat().st_size > 20_000
    assert (tmp_path / "harbour" / "site.toml").exists()
