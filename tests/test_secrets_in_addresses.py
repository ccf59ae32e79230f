"""Devices that want user and password within the path of their streams' addresses: they play, and nobody reads the password."""

from __future__ import annotations

from pathlib import Path

import pytest

from conftest import DATA, StartStandIn, zentrale
from zentrale.words import clean_lines, masked

SECRET = "hush-9"
PATHS = {stream: f"/live/user=admin_password={SECRET}_stream={n}" for n, stream in enumerate(("main", "sub"))}


@pytest.mark.parametrize(
    ("text", "shown"),
    [
        ("at rtsp://10.0.0.1/a?user=u&pwd=x&n=1, twice", "at rtsp://10.0.0.1/a?user=u&pwd=...&n=1, twice"),
        ('{"url": "rtsp://10.0.0.1/passwd=x"}', '{"url": "rtsp://10.0.0.1/passwd=..."}'),
        ("export ZENTRALE_PASSWORD=made-up", "export ZENTRALE_PASSWORD=made-up"),
        ("http://10.0.0.1/a?passwords=no", "http://10.0.0.1/a?passwords=no"),
    ],
)
def test_what_goes_out_has_no_password_within_an_address(text: str, shown: str) -> None:
    assert masked(text) == clean_lines(text) == shown == masked(shown)


def test_a_site_of_such_devices_is_found_played_and_handed_over(
    ready_site: Path, start_stand_in: StartStandIn, tmp_path: Path
) -> None:
    scenario = tmp_path / "secret.toml"
    lines = "".join(f'{stream}_path = "{path}"\n' for stream, path in PATHS.items())
    scenario.write_text((DATA / "small.toml").read_text().replace("[[cameras]]\n", f"[[cameras]]\n{lines}"))
    start_stand_in(scenario)
    again, run = False, 0
    for arguments in (
        ("discover", "--streams"), ("register", "--json"), ("register",), ("verify", "--seconds", "1"),
        ("verify", "--seconds", "1", "--json"), ("discover", "--streams", "--json"),
        ("diagnose", "north", "--details", "--bundle", "north.zip"), ("handover",),
    ):  # fmt: skip
        shown = zentrale(*arguments, cwd=ready_site)
        assert shown.code in (0, 1) and SECRET not in shown.all, arguments
        run = shown.json["run"] if arguments == ("register", "--json") else run
        again = again or (arguments == ("register",) and "nothing to change" in shown.out)
        if arguments == ("verify", "--seconds", "1", "--json"):
            north = [s for s in shown.json["streams"] if s["camera"] == "north"]
            assert north and all(s["packets_received"] and "password=..." in s["url"] for s in north), north
    assert again, "registered once more, nothing is to be done"
    undone = zentrale("register", "--undo", str(run), cwd=ready_site)
    assert "which no file of the site keeps" in undone.out.replace("\n", " ") and SECRET not in undone.all, undone.all
    files = [f for f in ready_site.rglob("*") if f.is_file()]
    assert len(files) > 10 and not [f for f in files if SECRET.encode() in f.read_bytes()]
