"""Devices that lie, stall and steal, against the real program: each ends only itself, and no password goes astray."""

from __future__ import annotations

import re
import ssl
import time
from pathlib import Path

import pytest

import conftest
from conftest import (
    DATA,
    TYPES,
    Result,
    StartStandIn,
    certificate,
    everything_below,
    make_site,
    make_vault,
    measured,
    zentrale,
)
from strangers import PORT, RTSP_PORT, Camera, Drips, Floods, Serve, Thief, listening

# Addresses of their own, and none that answers probes: these tests run beside those on the small site.
SITE, CAMERAS = (text.replace("127.0.71.", "127.0.76.") for text in (conftest.SITE, conftest.CAMERAS))
SCENARIO = (
    (DATA / "small.toml").read_text().replace("127.0.71.", "127.0.76.").replace("channels = 4", "channels = 64")
    .replace("answers_probes = false\n", "").replace("firmware =", "answers_probes = false\nfirmware =")
)  # fmt: skip
THIEF = "127.0.76.30"
ESCAPES = "\x1b[2J\x1b]0;owned\x07\u202eevil"
QUOTES = 'Digest realm="r", nonce="{nonce}", x=' + '"' * 3000 + ", Basic " + '="' * 1500


def odd(number: int, **changes: object) -> Camera:
    return Camera(f"127.0.76.{number}", **changes)  # type: ignore[arg-type]


# What is odd about each, and the word with which it is told (in a finding about it, or in the step that failed).
ODD: dict[str, tuple[Camera, str]] = {
    "blank-stream": (odd(13, stream=" "), "impossible address|not of rtsp"),
    "far-port": (odd(14, stream="rtsp://127.0.76.14:99999/x"), "impossible address"),
    "lone-bracket": (odd(15, stream="rtsp://[127.0.76.15/x"), "impossible address"),
    "a-file": (odd(16, stream="file:///etc/passwd"), "not of rtsp"),
    "stolen-stream": (odd(17, stream=f"rtsp://{THIEF}:{RTSP_PORT}/v"), f"{THIEF} .stream address"),
    "stolen-service": (odd(18, service=f"http://{THIEF}:{PORT}"), f"{THIEF} .service address"),
    "one-profile": (odd(19, profiles=1), "no profile for the sub stream|offers no sub stream"),
    "unknown-digest": (
        odd(20, challenge='Digest realm="r", nonce="{nonce}", algorithm=WHIRL'),
        "WHIRL",
    ),
    "year-9999": (odd(22, year=9999), r"days \d+ h ahead"),
    "bracket": (odd(23, service="http://[127.0.76.23"), "impossible address"),
    "dripping": (Drips("127.0.76.24"), "no whole answer within"),
    "flooding": (Floods("127.0.76.25"), "more than 2 MB"),
    "clear-only": (odd(26, challenge='Basic realm="r"'), "only in clear"),
    "quotes": (odd(27, challenge=QUOTES), ""),
    "whole-body": (odd(28, challenge='Digest realm="r", nonce="{nonce}", qop="auth-int"'), ""),
    "escapes": (odd(29, maker=ESCAPES.replace("\x1b", "&#x9b;").replace("\x07", "")), "evil"),
}


def hostile_site(folder: Path) -> Path:
    """The small site with its healthy stand-in devices, and beside them every odd camera on a channel of its own."""
    rows = [
        f"{name},x,larch-2,all,cameras,cabinet,1,20,{camera.host},,recorder,{number}"
        for number, (name, (camera, _)) in enumerate(ODD.items(), start=5)
    ]
    types = TYPES.replace("channels = 4", "channels = 64")
    switches = SITE.replace(
        '[[recorders]]', "".join(
            f'[[switches]]\nname = "far-{n}"\ncabinet = "hall"\ntype = "switch-8"\n' for n in range(len(ODD))
        ) + "[[recorders]]",
    )  # fmt: skip
    rows = [row.replace("cabinet,1", f"far-{n},1") for n, row in enumerate(rows)]
    return make_site(folder, switches, CAMERAS + "\n".join(rows) + "\n", types)


@pytest.fixture
def thief() -> Thief:
    return Thief(THIEF)


def test_each_odd_device_ends_only_itself(tmp_path: Path, start_stand_in: StartStandIn, thief: Thief) -> None:
    site = hostile_site(tmp_path / "site")
    make_vault(site)
    scenario = tmp_path / "scenario.toml"
    scenario.write_text(SCENARIO)
    start_stand_in(scenario)
    servers: list[tuple[Serve, str, int, ssl.SSLContext | None]] = [
        (camera.serve, camera.host, PORT, None) for camera, _ in ODD.values()
    ]
    servers += [(thief.serve, THIEF, port, None) for port in (PORT, RTSP_PORT)]
    with listening(*servers):
        started = time.monotonic()
        runs = [
            zentrale("discover", "--no-probe", "--json", cwd=site),
            zentrale("register", "--json", cwd=site),
            measured("--seconds", "3", "--json", cwd=site),
        ]
        assert time.monotonic() - started < 150, "one that stalls costs its own time, once"
        shown = zentrale("discover", "-v", "--no-probe", "--range", "127.0.76.29/32", cwd=site)
    assert [r.code for r in runs] == [1, 1, 1], [r.err for r in runs]
    found, registered, verified = (r.json for r in runs)
    healthy = {d["device"]: {s["outcome"] for s in d["steps"]} for d in registered["devices"]}
    for name in ("camera north", "camera south", "recorder recorder"):
        assert "failed" not in healthy[name], registered
    assert {s["verdict"] for s in verified["streams"] if s["camera"] in ("north", "south")} == {"as_planned"}
    told = dict.fromkeys(ODD, "")
    for document in (found, registered, verified):
        for item in document["findings"]:
            name = re.split(r"[ ,]", item["subject"])[1]
            told[name] = told.get(name, "") + f"{item['subject']}: {item['measured']}\n"
    for name, (_, words) in ODD.items():
        assert re.search(words, told[name]), (name, told[name], verified["streams"])
    assert not any("ERR-1" in r.out for r in runs), "nothing of this is a defect of ours"
    heard = b"".join(thief.heard)
    assert b"installer-1" not in heard and b"uthorization" not in heard, "the other host is never asked"
    shown_text = "".join(r.all for r in (*runs, shown))
    assert not re.search("[\x00-\x08\x0b-\x1f\x7f-\x9f\u202a-\u202e]", shown_text)
    content = everything_below(site) + shown_text.encode()
    assert not any(secret in content for secret in (b"installer-1", b"factory-1234"))
    assert f"{THIEF}:{RTSP_PORT}" not in str(registered), "the recorder is given the camera's own address"


def north(result: Result) -> dict[str, str]:
    return next(d for d in result.json["devices"] if d["planned_as"] == "north")


def test_a_device_that_locks_at_the_third_refusal_is_never_locked_and_is_entered_in_the_end(tmp_path: Path) -> None:
    """Five candidates, of which the fifth is right; discover three times, register and verify twice, then a window later."""
    window = "[policy]\nrefusal_window_min = 0.2\n"
    camera = Camera("127.0.76.11", password="candidate-5", locks_at=3, forgets_s=11)
    recorder_free = CAMERAS.replace("south,south door,vesper-d4,all,cameras,cabinet,2,30,127.0.76.12,,recorder,3\n", "")
    site = make_site(
        tmp_path / "site", SITE.replace("[policy]\n", window), recorder_free.replace("02:5a:71:00:00:11", camera.mac)
    )
    assert zentrale("vault", "init", cwd=site).code == 0
    for number in range(1, 6):
        add = ("vault", "add", "admin", "--label", f"c{number}")
        assert zentrale(*add, cwd=site, ZENTRALE_PASSWORD=f"candidate-{number}").code == 0
    with listening((camera.serve, camera.host, PORT, None)):
        early = [*[("discover", "--no-probe")] * 3, ("register",), ("register",), ("verify",), ("verify",)]
        documents = [zentrale(*command, "--json", cwd=site) for command in early]
        patient = zentrale("discover", "--no-probe", "--patient", "--json", cwd=site)
    first = documents[0].json
    assert north(documents[0])["state"] == "password not known yet" and north(documents[0])["again_at"]
    told = [
        (f["code"], f["subject"]) for f in first["findings"] if "SEC" in f["code"] and f["subject"] == "camera north"
    ]
    assert told == [("SEC-7", "camera north")], "not asked is not refused"
    assert north(documents[1])["note"].startswith("5 not tried yet"), "nothing is asked within the window"
    assert north(patient)["state"] in ("known password", "our password"), patient.all
    assert len(camera.refused) == 4 and all(
        third - first > 12 for first, third in zip(camera.refused, camera.refused[2:], strict=False)
    ), "never three within a window, over all commands"
    assert not any("locked" in d.all for d in (*documents, patient))


def test_a_device_that_says_it_is_locked_is_left_alone(tmp_path: Path) -> None:
    camera = Camera("127.0.76.11", password="other", locks_at=1)
    site = make_site(tmp_path / "site", SITE, cameras=CAMERAS.replace("02:5a:71:00:00:11", camera.mac))
    make_vault(site)
    add = ("vault", "add", "admin", "--label", "second")
    assert zentrale(*add, cwd=site, ZENTRALE_PASSWORD="second-try-1").code == 0
    with listening((camera.serve, camera.host, PORT, None)):
        zentrale("discover", "--no-probe", "--tries", "9", cwd=site)
        before = camera.requests
        again = zentrale("discover", "--no-probe", "--tries", "9", "--json", cwd=site)
        assert camera.refusals == 1 and "takes that risk" in again.err
        assert not any(seen == "GetUsers with" for seen in camera.seen[before:])
    assert [d["state"] for d in again.json["devices"] if d["address"] == camera.host] == ["says it is locked"]
    assert "SEC-8" in {f["code"] for f in again.json["findings"]}


def test_https_only_devices_are_found_and_their_certificates_pinned(tmp_path: Path) -> None:
    first, second = certificate(tmp_path, "first"), certificate(tmp_path, "second")
    camera = Camera("127.0.76.11", tls=first)
    site = make_site(tmp_path / "site", SITE, cameras=CAMERAS.replace("02:5a:71:00:00:11", camera.mac))
    make_vault(site)
    with listening((camera.serve, camera.host, PORT, first)):
        assert north(zentrale("discover", "--no-probe", "--json", cwd=site))["state"] == "known password"
    asked = len(camera.seen)
    with listening((camera.serve, camera.host, PORT, second)):
        changed = zentrale("discover", "--no-probe", "--json", cwd=site)
        assert north(changed)["state"] == "not asked, since it is not safe" and len(camera.seen) == asked
        assert ("SEC-9", "camera north") in {(f["code"], f["subject"]) for f in changed.json["findings"]}
        accepted = zentrale("discover", "--no-probe", "--trust-new-certificate", "north", "--json", cwd=site)
        assert north(accepted)["state"] == "known password"
    assert zentrale("discover", "--trust-new-certificate", "nobody", cwd=site).code == 2


def test_a_server_that_fails_every_third_time_and_two_devices_behind_one_address(tmp_path: Path) -> None:
    flaky = Camera("127.0.76.11", fails_every=3)
    pair = [Camera("127.0.76.12", port=port) for port in (8080, 8081)]
    site = make_site(
        tmp_path / "site", SITE.replace("[8080, 8554]", "[8080, 8081, 8554]"),
        CAMERAS.replace("02:5a:71:00:00:11", flaky.mac),
    )  # fmt: skip
    make_vault(site)
    with listening(*((c.serve, c.host, c.port, None) for c in (flaky, *pair))):
        found = zentrale("discover", "--no-probe", "--json", cwd=site)
    devices = {(d["address"], d["url"].split(":")[2][:4]): d for d in found.json["devices"]}
    assert devices["127.0.76.11", "8080"]["state"] == "known password"
    assert {devices["127.0.76.12", str(c.port)]["mac"] for c in pair} == {c.mac for c in pair}


def test_a_stream_server_in_clear_gets_no_password_unless_told(tmp_path: Path, thief: Thief) -> None:
    url = f"rtsp://admin@{THIEF}:{RTSP_PORT}/v"
    with listening((thief.serve, THIEF, RTSP_PORT, None)):
        refused = zentrale("verify", url, cwd=tmp_path, ZENTRALE_STREAM_PASSWORD="secret-77")
        assert refused.code == 2 and "in clear" in refused.err and "--basic-in-clear" in refused.err
        assert b"Authorization" not in b"".join(thief.heard)
        sent = zentrale("verify", url, "--basic-in-clear", cwd=tmp_path, ZENTRALE_STREAM_PASSWORD="secret-77")
        assert b"Authorization: Basic" in b"".join(thief.heard) and "secret-77" not in refused.all + sent.all
