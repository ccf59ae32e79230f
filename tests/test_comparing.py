"""What changes between two states of a plan, told in the trade's words: against a folder, and against a revision under git."""

from __future__ import annotations

import shutil
import subprocess
from pathlib import Path
from typing import Any

import pytest

from conftest import CAMERAS, SITE, TYPES, make_site, zentrale

# South moves to another port with a longer run, gets another type and is renamed; west is new; the stream is fatter.
NEW = (
    CAMERAS.replace(
        "south,south door,vesper-d4,all,cameras,cabinet,2,30", "yard,south door,vesper-d4,all,cameras,cabinet,4,95"
    )
    + "west,west door,larch-2,all,cameras,cabinet,5,10,127.0.71.14,,recorder,2\n"
)
FATTER = SITE.replace("bitrate_kbps = 300", "bitrate_kbps = 600")


def changes(document: Any) -> dict[tuple[str, str], tuple[str, str]]:
    return {(c["about"], c["subject"]): (c["before"], c["after"]) for c in document["changes"]}


def told_right(document: Any) -> None:
    found = changes(document)
    assert found["camera", "yard"] == ("was called south", "renamed"), "the same channel and type"
    assert found["camera, switch port", "yard"] == ("cabinet:2", "cabinet:4")
    assert found["camera, run", "yard"] == ("30 m", "95 m")
    assert found["camera", "west"] == ("", "larch-2 at cabinet:5, recorder channel 2")
    assert found["address", "camera west"] == ("", "127.0.71.14")
    assert found["load", "leg cabinet:9 recorder"] == ("633 kbit/s, 0 % of line rate", "1.9 Mbit/s, 0 % of line rate")
    assert found["recorder takes in", "recorder recorder"] == ("600 kbit/s on 2 channels", "1.8 Mbit/s on 3 channels")
    # 9 W at 44 V over 30 m and 95 m of category 6, no cords: 0.2082 A and 0.2167 A.
    assert found["PoE power at the port", "camera south"] == ("9.2 W", "")
    assert found["PoE power at the port", "camera yard"] == ("", "9.6 W")
    assert not [key for key in found if "north" in key[1] and key[0].startswith(("camera", "address", "PoE"))]
    assert [(f["code"], f["subject"]) for f in document["findings_new"]] == [("RUN-1", "camera yard")]
    assert document["findings_gone"] == []


def test_against_a_folder_and_nothing_against_itself(tmp_path: Path) -> None:
    old, new = make_site(tmp_path / "old"), make_site(tmp_path / "new", FATTER, NEW)
    shown = zentrale("plan", "--against", str(old), "--json", cwd=new)
    assert shown.code == 1, "it brings a fault"
    told_right(shown.json)
    assert zentrale("plan", "power", "--against", str(old), cwd=new).code == 1
    text = zentrale("plan", "--against", str(old), cwd=new).out
    assert "was called south" in text and text.splitlines()[0].endswith("1 finding more"), text[-300:]
    back = zentrale("plan", "--against", str(new), "--json", cwd=old)
    assert back.code == 0 and [f["code"] for f in back.json["findings_gone"]] == ["RUN-1"]
    assert "nothing changes" in zentrale("plan", "--against", str(old), cwd=old).out


@pytest.mark.skipif(shutil.which("git") is None, reason="git is not installed")
def test_against_a_revision(tmp_path: Path) -> None:
    """The site lies below the top of the repository; the work in hand is not touched."""
    site = make_site(tmp_path / "jobs" / "site")

    def git(*arguments: str) -> None:
        who = ("-c", "user.name=x", "-c", "user.email=x@example.org", "-c", "commit.gpgsign=false")
        subprocess.run(["git", "-C", str(tmp_path), *who, *arguments], check=True, capture_output=True)

    git("init", "-q")
    git("add", ".")
    git("commit", "-qm", "first")
    git("tag", "sold")
    make_site(site, FATTER, NEW)
    told_right(zentrale("plan", "--against", "sold", "--json", cwd=site).json)
    assert (site / "cameras.csv").read_text() == NEW
    for bad in ("nowhere", "--output=x", "sold:jobs"):
        shown = zentrale("plan", f"--against={bad}", cwd=site)
        assert shown.code == 2 and "neither a site folder nor a revision" in shown.err
    (site / "site.toml").write_text(SITE.replace("vlan = 71", "vlan = 9999"))
    git("commit", "-qam", "wrong")
    make_site(site, FATTER, NEW)
    shown = zentrale("plan", "--against", "HEAD", cwd=site)
    assert shown.code == 2 and "HEAD: site.toml line 13" in shown.err


def test_what_cannot_be_compared_is_told(tmp_path: Path) -> None:
    site = make_site(tmp_path / "site", types=TYPES)
    (tmp_path / "empty").mkdir()
    shown = zentrale("plan", "--against", str(tmp_path / "empty"), cwd=site)
    assert shown.code == 2 and "no site.toml there" in shown.err
    assert zentrale("plan", "--against", str(site), "--write", "addresses", cwd=site).code == 2
