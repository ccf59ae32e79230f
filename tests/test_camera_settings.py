"""What registration sets on a camera beside names and streams, each against a hand-written camera that keeps what it is sent:
set, read back, not set twice, taken back; one that lies is found out, one that does not offer it is told.
"""

from __future__ import annotations

import asyncio
import base64
import csv
import re
from collections.abc import Callable
from dataclasses import dataclass, replace
from ipaddress import IPv4Address
from pathlib import Path

import pytest

from strangers import Rich
from test_steps import HOST, SITE, Place, hurry, outcomes, serving
from zentrale.findings import Severity
from zentrale.jobs.registration import by_hand
from zentrale.jobs.registration.registering import Registrar
from zentrale.jobs.registration.undoing import undo
from zentrale.jobs.steps.masks import normalized, same_shape
from zentrale.jobs.steps.motion import cells_within
from zentrale.logbook.store import Logbook
from zentrale.protocols.onvif import motion

__all__ = ["hurry"]


@dataclass(frozen=True)
class Case:
    """A step with what the plan says for it, and what the camera then holds, as the standard writes it."""

    step: str
    site: str
    held: Callable[[Rich], bool]
    row: str = ""
    lacks: str = ""
    stays: bool = False  # not looked at after it was taken back


def group(keys: str) -> str:
    return SITE.replace('name = "all"\n', f'name = "all"\n{keys}\n')


def policy(keys: str) -> str:
    return SITE.replace("[policy]", f"[policy]\n{keys}", 1)


MASK = SITE + '[[masks]]\ncamera = "north"\ncorners = [[0, 0], [25, 0], [25, 50], [0, 50]]\nwhy = "a window"\n'
AREA = group("motion = { sensitivity_percent = 80 }") + (
    '[[motion_areas]]\ncamera = "north"\ncorners = [[0, 0], [50, 0], [50, 100], [0, 100]]\n'
)
# 18 rows of 22 cells, the left 11 of each: eleven ones and eleven zeros, over and over, in 50 bytes (the last 4 bits empty).
_BITS = int(("1" * 11 + "0" * 11) * 18 + "0000", 2).to_bytes(50, "big")
CASES = [
    Case("account recorder", SITE, lambda c: c.others["recorder"][1] == "User", lacks="CreateUsers"),
    Case("account guard", SITE + '[[accounts]]\nuser = "guard"\nrole = "operator"\n',
         lambda c: c.others["guard"][1] == "Operator" and len(c.others["guard"][0]) == 16, lacks="CreateUsers"),
    Case("location", SITE, lambda c: "onvif://www.onvif.org/location/Small%20site" in c.scopes, lacks="SetScopes"),
    Case("privacy masks", MASK, lambda c: set(c.masks) == {"M1", "M2"} and re.findall(r'[xy]="([-\d.]+)"', c.masks["M2"])
         == ["-1.0000", "1.0000", "-0.5000", "1.0000", "-0.5000", "0.0000", "-1.0000", "0.0000"], lacks="GetMasks"),
    Case("motion detection", AREA, lambda c: 'Value="80"' in c.engine and "-1" in c.engine and _unpacked(c) == _BITS,
         lacks="GetAnalyticsModules"),
    Case("day and night", group('imaging = { day_night = "auto" }'),
         lambda c: "IrCutFilter>AUTO<" in c.imaging and "Brightness>40<" in c.imaging and "Gain>7<" in c.imaging,
         lacks="GetImagingSettings"),
    Case("longest exposure", group("imaging = { max_exposure_ms = 5 }"),
         lambda c: "MaxExposureTime>5000<" in c.imaging and "MinExposureTime>100<" in c.imaging, lacks="GetImagingSettings"),
    Case("dynamic range", group('imaging = { wide_dynamic_range = "on" }'),
         lambda c: re.search(r"WideDynamicRange>\s*<\w+:Mode>ON<", c.imaging) is not None and "Level>30<" in c.imaging),
    Case("input 2", SITE + '[[inputs]]\ncamera = "north"\nnumber = 2\nname = "door"\nidle = "closed"\n',
         lambda c: c.inputs == {"I1": "open", "I2": "closed"}, lacks="GetDigitalInputs"),
    Case("audio", policy("audio_off = true"), lambda c: not c.sound),
    Case("service HTTPS", policy('https = "on"'), lambda c: c.protocols == {"HTTP": "true", "HTTPS": "true", "RTSP": "true"},
         lacks="GetNetworkProtocols"),
    Case("turning", SITE, lambda c: re.search(r"Mode>ON</\w+:Mode><\w+:Degree>180<", c.lens) is not None
         and "Bounds" in c.lens, row="180", lacks="GetVideoSourceConfigurations"),
    Case("name servers", SITE.replace("[policy]", 'name_servers = ["127.0.77.1"]\n[policy]', 1),
         lambda c: c.names.startswith("<tt:FromDHCP>false<") and "127.0.77.1" in c.names, lacks="GetDNS"),
    Case("gateway", SITE.replace('subnet = "127.0.77.0/27"', 'subnet = "127.0.77.0/27"\ngateway = "127.0.77.30"'),
         lambda c: c.gateway == "127.0.77.30", lacks="GetNetworkDefaultGateway", stays=True),
]  # fmt: skip


def _unpacked(camera: Rich) -> bytes:
    """PackBits as TIFF 6.0 section 9 has it, worked out here."""
    (rule,) = camera.rules.values()
    packed = base64.b64decode(re.findall(r'Name="ActiveCells" Value="([^"]+)"', rule)[0])
    raw, at = b"", 0
    while at < len(packed):
        n = packed[at]
        raw += packed[at + 1 : at + 2 + n] if n < 128 else packed[at + 1 : at + 2] * (257 - n)
        at += 2 + n if n < 128 else 2
    return raw


class Rows(Place):
    """A camera that is turned by so much."""

    def __init__(self, folder: Path, camera: Rich, case: Case) -> None:
        super().__init__(folder, camera, case.site)
        if case.row:
            north = replace_field(self.plan.cameras[0], rotate_deg=int(case.row))
            self.plan = self.plan.model_copy(update={"cameras": (north,)})


def replace_field(camera: object, **changes: object) -> object:
    return camera.model_copy(update=changes)  # type: ignore[attr-defined]


@pytest.mark.parametrize("case", CASES, ids=lambda c: c.step)
def test_it_is_set_as_the_standard_has_it_once_and_taken_back(tmp_path: Path, case: Case) -> None:
    camera = Rich(HOST)
    place = Rows(tmp_path, camera, case)
    before = camera.holds()
    with serving(camera):
        place.discover()
        result = place.registration()
        (north,) = result.results
        done = {s.step: s for s in north.steps}[case.step]
        assert done.outcome.value == "changed", done.error
        assert case.held(camera), vars(camera)
        told = len(camera.told)
        assert place.register()[case.step].outcome.value == "unchanged" and len(camera.told) == told
        place.plan = Place(tmp_path / "bare", camera).plan  # the wish has gone from the plan since
        with Logbook(place.folder.logbook_file) as log:
            assert result.run is not None
            undone = {u.change.step: u for u in asyncio.run(undo(place.keyring(log), result.run, lambda *_: None))}
        assert undone[case.step].taken_back or case.stays, undone[case.step].why
        assert case.stays or camera.holds() == before
    secrets = [p for p, _ in camera.others.values()] + [camera.password]
    assert not any(s in (tmp_path / "logbook.sqlite").read_bytes().decode("latin-1") for s in secrets)


@pytest.mark.parametrize("case", CASES, ids=lambda c: c.step)
def test_one_that_lies_is_found_out_and_what_is_not_offered_is_told(tmp_path: Path, case: Case) -> None:
    liar = Rich(HOST, nature="lies")
    place = Rows(tmp_path / "a", liar, case)
    with serving(liar):
        place.discover()
        assert place.register()[case.step].outcome.value == "failed"
    if not case.lacks:
        return
    poor = Rich(HOST, lacks=(case.lacks,))
    other = Rows(tmp_path / "b", poor, case)
    with serving(poor):
        other.discover()
        result = other.registration()
        (north,) = result.results
        step = {s.step: s for s in north.steps}[case.step]
        assert (step.outcome.value, bool(step.after), bool(step.place)) == ("not offered", True, True)
        assert "main stream" in {s.step for s in north.steps if s.outcome.value == "changed"}, "the others go on"
        told = [f for f in result.findings if f.code == "REG-3"]
        assert [f.severity for f in told] == [Severity.WARNING] and case.step in told[0].measured


def test_what_is_left_for_hands_stands_on_a_sheet_and_is_ticked_off_when_seen(tmp_path: Path) -> None:
    camera = Rich(HOST, lacks=("GetMasks",))
    extra = '[[inputs]]\ncamera = "north"\nnumber = 1\nname = "gate <1>"\n'
    place = Place(
        tmp_path, camera, MASK.replace("[policy]", 'mains_hz = 50\n[policy]\nservices_off = ["SNMP"]', 1) + extra
    )

    def made() -> dict[str, tuple[str, str, bool]]:
        with Logbook(place.folder.logbook_file) as log:
            result = Registrar(place.keyring(log))
            done = asyncio.run(result.register(place.plan.cameras))
            found = by_hand.sheets(place.plan, done.results, log)
            assert done.run is not None
            by_hand.keep(log, done.run, done.results, found)
            page, table = by_hand.write(place.folder, "Small site", found)
        rows = list(csv.DictReader(table.read_text(encoding="utf-8-sig").splitlines()))
        assert table.name == "north.csv" and "gate &lt;1&gt;" in page.read_text(encoding="utf-8")
        return {r["what"]: (r["enter"], r["why"], bool(r["done"])) for r in rows}

    with serving(camera):
        place.discover()
        first = made()
        assert first["mains frequency"] == ("50 Hz", "no standard sets it", False) and first["service SNMP"][0] == "off"
        assert first["name of input 1"][0] == "gate <1>"
        entered, why, done = first["privacy masks"]
        assert entered == "corners from the upper left, % across/% down: 0/0 25/0 25/50 0/50 (a window)"
        assert "ActionNotSupported" in why and not done
        camera.lacks = ()  # it got a newer firmware: the mask is set, and seen
        again = made()
        assert again["privacy masks"][2] and not again["mains frequency"][2]


def test_streams_are_set_by_media_2_with_h265(tmp_path: Path) -> None:
    """Media 2: the key-frame interval and the profile are attributes of the configuration, H265 one of its codecs."""
    camera = Rich(HOST)
    place = Place(tmp_path, camera, SITE.replace("main = { ", 'main = { codec = "H265", '))
    with serving(camera):
        place.discover()
        steps = place.register()
        assert steps["main stream"].after.startswith("H265 320x180 10 fps 300 kbit/s key/10")
        assert outcomes(place.register())["main stream"] == "unchanged"
    kept = camera.encoders["E1m"]
    for part in ("Encoding>H265<", "Width>320<", "GovLength>10<", "IPv4Address>239.1.2.3<", "Quality>3.5<", "TTL>7<"):
        assert part in kept, kept
    older = Rich(HOST, nature="old")
    place = Place(tmp_path / "older", older, SITE.replace("main = { ", 'main = { codec = "H265", '))
    with serving(older):
        place.discover()
        assert "cannot set H265" in place.register()["main stream"].error


OPTIONS = (
    "<trt:Options><tt:QualityRange><tt:Min>1</tt:Min><tt:Max>9</tt:Max></tt:QualityRange><tt:H264><tt:ResolutionsAvailable>"
    "<tt:Width>{0}</tt:Width><tt:Height>{1}</tt:Height></tt:ResolutionsAvailable><tt:GovLengthRange><tt:Min>1</tt:Min><tt:Max>"
    "400</tt:Max></tt:GovLengthRange><tt:FrameRateRange><tt:Min>1</tt:Min><tt:Max>25</tt:Max></tt:FrameRateRange></tt:H264>"
    "<tt:Extension><tt:H264><tt:BitrateRange><tt:Min>32</tt:Min><tt:Max>{2}</tt:Max></tt:BitrateRange></tt:H264></tt:Extension>"
    "</trt:Options>"
)


@dataclass
class Choosy(Rich):
    """It tells what its encoders take (ONVIF Media, GetVideoEncoderConfigurationOptions)."""

    options: str = ""

    def content(self, name: str, body: str) -> str | None:
        if name == "GetVideoEncoderConfigurationOptions":
            return f"<trt:{name}Response>{self.options}</trt:{name}Response>"
        return super().content(name, body)


@pytest.mark.parametrize(
    ("offered", "told"),
    [
        ((320, 180, 290), "changed: H264 320x180 10 fps 290 kbit/s key/10"),  # within the plan's tolerance: the nearest
        (
            (320, 180, 64),
            "not offered: it does not offer that; the nearest it offers is H264 320x180 10 fps 64 kbit/s key/10. "
            'To take that, plan main = { resolution = "320x180", fps = 10, '
            "bitrate_kbps = 64, keyframe_interval_s = 1 } in group all in site.toml, "
            "or a group of its own",
        ),
        (
            (640, 360, 900),
            "not offered: it does not offer that; the nearest it offers is H264 640x360 10 fps 300 kbit/s key/10. "
            'To take that, plan main = { resolution = "640x360", fps = 10, '
            "bitrate_kbps = 300, keyframe_interval_s = 1 } in group all in site.toml, "
            "or a group of its own",
        ),
    ],
)
def test_what_the_encoder_offers_is_asked_first(tmp_path: Path, offered: tuple[int, int, int], told: str) -> None:
    camera = Choosy(HOST, nature="old", options=OPTIONS.format(*offered))
    place = Place(tmp_path, camera)
    with serving(camera):
        place.discover()
        step = place.register()["main stream"]
    assert f"{step.outcome.value}: {step.error or step.after}" == told
    assert ("SetVideoEncoderConfiguration" in camera.told) is told.startswith("changed")
    assert ("<tt:Width>640<" in camera.encoders["E1m"]) is told.startswith("not offered"), "it is left as it was"


def test_a_group_and_a_third_stream_are_set(tmp_path: Path) -> None:
    third = '\nthird = { resolution = "160x90", fps = 12.5, bitrate_kbps = 32, keyframe_interval_s = 2 }\n'
    camera = Rich(HOST, nature="old")
    camera.encoders["E1t"] = camera.encoders["E1s"].replace("320", "192").replace("180", "108")
    place = Place(tmp_path, camera, SITE.replace('name = "all"\n', 'name = "all"' + third))
    north = place.plan.cameras[0].model_copy(update={"multicast_sub": IPv4Address("239.192.0.6")})
    place.plan = place.plan.model_copy(update={"cameras": (north,)})
    with serving(camera):
        place.discover()
        steps = place.register()
        assert {steps[f"{s} stream"].outcome.value for s in ("main", "sub", "third")} == {"changed"}
        assert {place.register()[f"{s} stream"].outcome.value for s in ("main", "sub", "third")} == {"unchanged"}
        camera.encoders["E1s"] = camera.encoders["E1s"].replace(">239.192.0.6<", ">239.192.0.7<")  # and nothing else
        assert place.register()["sub stream"].outcome.value == "changed"
    assert "IPv4Address>239.192.0.6<" in camera.encoders["E1s"] and "Port>5004<" in camera.encoders["E1s"]
    assert "IPv4Address>239.1.2.3<" in camera.encoders["E1m"], "no group is planned for it"
    assert all(
        part in camera.encoders["E1t"]
        for part in ("Width>160<", "Height>90<", "BitrateLimit>32<", "FrameRateLimit>13<", "GovLength>26<")
    ), "a whole number of pictures, and as many of them as two seconds have"


@pytest.mark.parametrize(
    ("makes", "outcome"), [("270", "changed"), ("320", "changed"), ("900", "failed"), ("40", "failed")]
)
def test_a_bit_rate_that_is_rounded_is_taken_within_the_plans_own_limits(
    tmp_path: Path, makes: str, outcome: str
) -> None:
    class Rounding(Rich):
        def content(self, name: str, body: str) -> str | None:
            told = super().content(name, body)
            if name == "SetVideoEncoderConfiguration":
                self.encoders["E1m"] = re.sub(r"(BitrateLimit>)300", rf"\g<1>{makes}", self.encoders["E1m"])
            return told

    camera = Rounding(HOST, nature="old")
    place = Place(tmp_path, camera)
    with serving(camera):
        place.discover()
        assert place.register()["main stream"].outcome.value == outcome


def test_corners_and_cells_lie_where_the_plan_has_them() -> None:
    """ONVIF's coordinates run from -1 to 1, upwards; the plan's per cents from the upper left, downwards."""
    assert normalized([(0, 0), (100, 0), (50, 100), (25, 75)]) == ((-1, 1), (1, 1), (0, -1), (-0.5, -0.5))
    square = normalized([(0, 0), (50, 0), (50, 50), (0, 50)])
    assert same_shape(square, (*square[2:], *square[:2])) and same_shape(square, square[::-1])
    assert not same_shape(square, normalized([(0, 0), (50, 0), (50, 53), (0, 53)]))
    assert cells_within([], 2, 2) == (True,) * 4
    assert cells_within([[(0, 0), (49, 0), (49, 100), (0, 100)]], 4, 2) == (True, True, False, False) * 2
    # PackBits: three equal bytes are a run of 3 (0xFE), single ones stand for themselves (n - 1 first).
    assert base64.b64decode(motion.pack([True] * 24 + [False] * 7 + [True])) == b"\xfe\xff\x00\x01"


def test_a_password_is_as_long_as_the_device_takes(tmp_path: Path) -> None:
    """Nothing is told of a limit: PasswordTooLong (ONVIF Core, CreateUsers) means a shorter one, down to eight characters."""

    @dataclass
    class Narrow(Rich):
        def content(self, name: str, body: str) -> str | None:
            told = re.search(r"Password>([^<]+)<", body)
            if name == "CreateUsers" and told and len(told[1]) > 9:
                return (
                    "<SOAP-ENV:Fault><SOAP-ENV:Code><SOAP-ENV:Value>SOAP-ENV:Sender</SOAP-ENV:Value><SOAP-ENV:Subcode>"
                    "<SOAP-ENV:Value>ter:OperationProhibited</SOAP-ENV:Value><SOAP-ENV:Subcode><SOAP-ENV:Value>"
                    "ter:PasswordTooLong</SOAP-ENV:Value></SOAP-ENV:Subcode></SOAP-ENV:Subcode></SOAP-ENV:Code></SOAP-ENV:Fault>"
                )
            return super().content(name, body)

    camera = Narrow(HOST)
    place = Place(tmp_path, camera)
    with serving(camera):
        place.discover()
        assert place.register()["account recorder"].outcome.value == "changed"
    assert len(camera.others["recorder"][0]) == 8
    kept = place.vault.account("north", "recorder")
    assert kept is not None and kept.password == camera.others["recorder"][0]
    assert replace(kept, password="x").user == "recorder"
