"""Registration against devices that lie, round, answer late, restart and refuse: what is said equals what they hold.

The cameras are hand-written; their own state is the truth.
"""

from __future__ import annotations

import asyncio
import contextlib
import csv
import re
from dataclasses import dataclass
from functools import partial
from pathlib import Path
from typing import cast

import pytest

import conftest
from conftest import CAMERAS, make_site
from strangers import OTHERS, PORT, SCOPE, Settable, listening
from test_registration import Bench
from zentrale.errors import PlanError
from zentrale.field.device import Device
from zentrale.findings import Finding, Severity
from zentrale.jobs.discovery.discovering import Request, discover
from zentrale.jobs.known.profile_choice import pick_profiles
from zentrale.jobs.known.step_form import DeviceResult, Outcome, Step, StepResult
from zentrale.jobs.passwords.keyring import Keyring
from zentrale.jobs.recorders import channel_step as channel
from zentrale.jobs.recorders.work_sheet import write_work_sheets
from zentrale.jobs.registration import channels, registering
from zentrale.jobs.registration.registering import Registrar, Registration
from zentrale.jobs.registration.undoing import Undone, undo
from zentrale.jobs.steps import password, runner
from zentrale.jobs.steps.clock import Clock, ClockState
from zentrale.jobs.steps.runner import StepRunner
from zentrale.logbook.evidence import standings
from zentrale.logbook.ledger import Patience
from zentrale.logbook.store import Logbook
from zentrale.logbook.vault import Vault
from zentrale.logbook.vault_contents import Candidate
from zentrale.protocols import soap, xml
from zentrale.protocols.http_auth import Credentials
from zentrale.protocols.onvif import encoders, media, recording, recording_jobs
from zentrale.quantities import difference, seconds
from zentrale.simulation import http_server as http
from zentrale.simulation.scenario import Recorder
from zentrale.site.folder import SiteFolder
from zentrale.site.reading import read_plan
from zentrale.site.timezone import same_timezone
from zentrale.subjects import Kind, Ref

SITE = conftest.SITE.replace("127.0.71.", "127.0.77.").replace("fps_tolerance_percent = 60\n", "")
HOST = "127.0.77.11"


@pytest.fixture(autouse=True)
def hurry(monkeypatch: pytest.MonkeyPatch) -> None:
    """The same waiting in a twelfth of the time."""
    monkeypatch.setattr(registering, "Device", partial(Device, timeout_s=1.0))
    monkeypatch.setattr(channels, "take_reference", plays)
    for module, name, value in (
        (runner, "SETTLE_S", 0.3), (runner, "LOOK_AGAIN_S", 0.2), (password, "_LOOK_EVERY_S", 0.5),
        (channel, "_LOOK_EVERY_S", 0.3), (runner, "GONE_AFTER_STEP_S", 8.0),
    ):  # fmt: skip
        monkeypatch.setattr(module, name, value)


async def plays(*_: object) -> str:
    """Hand-written cameras have no RTSP: that they play is tried elsewhere."""
    return "plays"


class Place:
    """A site with one hand-written camera, planned with other settings than it has."""

    def __init__(self, folder: Path, camera: Settable, site: str = SITE, address: str = HOST) -> None:
        self.camera = camera
        row = f"north,x,larch-2,all,cameras,cabinet,1,20,{address},{camera.mac},recorder,1\n"
        self.folder = SiteFolder(make_site(folder, site, CAMERAS.splitlines()[0] + "\n" + row))
        self.plan = read_plan(self.folder)
        self.vault = Vault.create(self.folder.vault_file, "p")
        self.vault.add_candidate(Candidate(Credentials("admin", "installer-1"), "installer"))

    def keyring(self, logbook: Logbook, *, dry_run: bool = False) -> Keyring:
        return Keyring(self.plan, self.vault, logbook, Patience(1800, 2), dry_run=dry_run)

    def discover(self, host: str = HOST) -> list[Finding]:
        request = Request(adapters=("lo",), probe=False, ranges=(f"{host}/32",))
        with Logbook(self.folder.logbook_file) as log:
            return list(asyncio.run(discover(self.plan, self.keyring(log), request, lambda *_: None)).findings)

    def register(self, *, dry_run: bool = False) -> dict[str, StepResult]:
        return {s.step: s for d in self.registration(dry_run=dry_run).results for s in d.steps}

    def registration(self, *, dry_run: bool = False) -> Registration:
        with Logbook(self.folder.logbook_file) as log:
            registrar = Registrar(self.keyring(log, dry_run=dry_run))
            return asyncio.run(registrar.register(self.plan.cameras))

    def open_codes(self) -> set[str]:
        with Logbook(self.folder.logbook_file) as log:
            return {s.finding.code for s in standings(log) if s.settled_at is None}


def serving(camera: Settable) -> contextlib.AbstractContextManager[None]:
    return listening((camera.serve, HOST, PORT, None))


def outcomes(steps: dict[str, StepResult]) -> dict[str, str]:
    return {name: step.outcome.value for name, step in steps.items() if name not in ("channel", "picture")}


ALL = (
    "password", "account recorder", "name", "location", "host name", "time", "main stream", "sub stream", "address",
)  # fmt: skip


def test_only_what_is_planned_changes_and_on_the_right_lens(tmp_path: Path) -> None:
    camera = Settable(HOST, behind_s=150, zone="CST6CDT,M3.2.0,M11.1.0")
    place = Place(tmp_path, camera)
    second_lens = {t: x for t, x in camera.encoders.items() if t.startswith("E2")}
    with serving(camera):
        found = place.discover()
        assert "2 min 30 s behind" in [f.measured for f in found if f.code == "CLK-1"]
        dry = place.register(dry_run=True)
        assert not camera.told, "a dry run asks for nothing"
        done = place.register()
        assert outcomes(done) == dict.fromkeys(ALL, "changed") | {"password": "unchanged", "address": "unchanged"}
        assert {n: s.after for n, s in dry.items() if n not in ("channel", "picture")} == {
            n: s.after for n, s in done.items() if n != "channel"
        }
        assert done["time"].before == "CST6CDT,M3.2.0,M11.1.0, 2 min 30 s behind"
        before, after = done["main stream"].before_values or {}, done["main stream"].after_values or {}
        changed = {k: (before[k], after[k]) for k in before if before[k] != after[k]}
        assert changed == {
            "width_px": (640, 320), "height_px": (360, 180), "fps": (12, 10), "bitrate_kbps": (700, 300), "govlength": (12, 10),
        }  # fmt: skip
        told = len(camera.told)
        assert outcomes(place.register()) == dict.fromkeys(ALL, "unchanged") and len(camera.told) == told
    for token, width in (("E1m", 320), ("E1s", 160)):
        assert all(part in camera.encoders[token] for part in OTHERS), camera.encoders[token]
        assert f"<tt:Width>{width}<" in camera.encoders[token]
    assert {t: x for t, x in camera.encoders.items() if t.startswith("E2")} == second_lens, (
        "the other lens is left alone"
    )
    assert set(camera.scopes) == {f"{SCOPE}/name/north", f"{SCOPE}/location/Small%20site", f"{SCOPE}/x/a%20b"}
    assert (camera.hostname, camera.behind_s) == ("north", 0) and "CLK-1" not in place.open_codes()


DATE = (
    "<tt:VideoSourceConfigurationToken>v</tt:VideoSourceConfigurationToken><tt:Type>Text</tt:Type><tt:Position><tt:Type>LowerRight"
    "</tt:Type></tt:Position><tt:TextString><tt:Type>{}</tt:Type>{}<tt:FontSize>24</tt:FontSize></tt:TextString>"
)


def test_its_name_is_written_into_the_picture_where_the_plan_wants_it(tmp_path: Path) -> None:
    """ONVIF Media, OSD: the date stays, a label's place and size stay; a label that was made is taken out again."""
    wants = SITE.replace("[policy]", "[policy]\npicture_label = true", 1)
    camera = Settable(HOST, labels={"D1": DATE.format("DateAndTime", "")})
    place = Place(tmp_path / "a", camera, wants)
    with serving(camera):
        place.discover()
        done = place.register()["label"]
        assert (done.outcome.value, done.before, done.after) == ("changed", "none", "north"), done.error
        assert set(camera.labels) == {"D1", "L1"} and camera.labels["D1"] == DATE.format("DateAndTime", "")
        assert "PlainText>north<" in camera.labels["L1"] and "UpperLeft" in camera.labels["L1"]
        assert place.register()["label"].outcome.value == "unchanged"
    other = Settable(HOST, labels={"P1": DATE.format("Plain", "<tt:PlainText>CAM 1</tt:PlainText>")})
    changed = Place(tmp_path / "b", other, wants)
    with serving(other):
        changed.discover()
        assert changed.register()["label"].before == "CAM 1"
    assert set(other.labels) == {"P1"} and all(part in other.labels["P1"] for part in ("LowerRight", ">24<", ">north<"))
    liar = Settable(HOST, nature="lies")
    lied = Place(tmp_path / "c", liar, wants)
    with serving(liar):
        lied.discover()
        assert lied.register()["label"].outcome.value == "failed"


def test_a_time_server_is_set_where_the_plan_names_one(tmp_path: Path) -> None:
    """ONVIF Core, SetNTP: the kind of host goes before it. What lies is found out; taken back it has its time by hand again."""
    camera = Settable(HOST)
    place = Place(tmp_path / "a", camera, SITE.replace("[policy]", 'time_server = "127.0.77.1"\n[policy]', 1))
    with serving(camera):
        place.discover()
        done = place.register()["time server"]
        assert (done.outcome.value, done.before, done.after) == (
            "changed",
            "none: its clock is set by hand",
            "127.0.77.1",
        )
        assert camera.from_server and camera.servers[0] == "false"
        assert re.findall(r">([^<>]+)<", camera.servers[1]) == ["IPv4", "127.0.77.1"]
        assert place.register()["time server"].outcome.value == "unchanged"
    liar = Settable(HOST, nature="lies")
    named = Place(tmp_path / "b", liar, SITE.replace("[policy]", 'time_server = "Time.Example"\n[policy]', 1))
    with serving(liar):
        named.discover()
        assert named.register()["time server"].outcome.value == "failed"
    free = Settable(HOST)
    by_dhcp = Place(tmp_path / "c", free, SITE.replace("[policy]", 'time_server = "dhcp"\n[policy]', 1))
    with serving(free):
        by_dhcp.discover()
        assert by_dhcp.register()["time server"].after == "from DHCP" and free.from_server
    with pytest.raises(PlanError) as wrong:
        Place(tmp_path / "d", free, SITE.replace("[policy]", 'time_server = "no server"\n[policy]', 1))
    assert "host name" in wrong.value.problems[0]


@dataclass(frozen=True)
class Held:
    value: int


class Slow(Step[Held]):
    """Holds what it was asked for from the look after `looks` more on; `fails` with what is none of the device's errors."""

    name = "slow"
    looks, asked, fails = 2, False, False

    async def look(self) -> Held:
        self.looks -= self.asked
        return Held(int(self.asked and self.looks < 0))

    def wanted(self, now: Held) -> Held:
        return Held(1)

    async def apply(self, now: Held, wanted: Held) -> None:
        self.asked = True
        if self.fails:
            raise RuntimeError("a defect")

    def shown(self, state: Held) -> str:
        return str(state.value)


def test_a_device_has_its_time_a_defect_leaves_no_open_entry_and_what_was_not_tried_did_not_go_well(
    tmp_path: Path,
) -> None:
    async def run(step: Step[Held], left_out: str = "") -> DeviceResult:
        async def ready(_: str) -> None: ...

        with log.running("register", "here") as number:
            steps = StepRunner(log, number, Ref(Kind.CAMERA, "gate"), ready, dry_run=False)
            if left_out:
                steps.leave(left_out, "not now")
            await steps.run(step)
            return steps.result()

    client = cast(Device, None)
    with Logbook(tmp_path / "log.sqlite") as log:
        assert asyncio.run(run(Slow(client))).steps[-1].outcome is Outcome.CHANGED, "at the third look"
        broken, needy = Slow(client), Slow(client)
        broken.fails, needy.needs = True, ("first",)
        with pytest.raises(RuntimeError):
            asyncio.run(run(broken))
        assert [(c.state, c.error) for c in log.changes()][1:] == [("failed", "ended by RuntimeError")]
        (_, last) = asyncio.run(run(needy, "first")).steps
        assert (last.outcome, last.lacks, needy.asked) == (Outcome.NOT_TRIED, "first", False)


def test_a_wrong_time_is_not_put_back() -> None:
    before, now = ClockState("Manual", "CET-1", False, -90.0), ClockState("Manual", "GMT0", False, 0.5)
    assert Clock(cast(Device, None), "Europe/London", 2.0).back(now, before) == ClockState(
        "Manual", "CET-1", False, 0.5
    )


def test_what_is_nearly_as_planned_is_set_where_the_device_did_not_make_it_of_that(tmp_path: Path) -> None:
    camera = Settable(HOST)
    place = Place(tmp_path, camera)
    with serving(camera):
        place.discover(), place.register()
        camera.encoders["E1m"] = re.sub(r"(BitrateLimit>)300", r"\g<1>288", camera.encoders["E1m"])  # by somebody else
        step = place.register()["main stream"]
    assert step.outcome is Outcome.CHANGED and re.findall(r"BitrateLimit>(\d+)", camera.encoders["E1m"]) == ["300"]


@pytest.mark.parametrize(
    ("nature", "failed", "unchanged"),
    [
        (
            "lies",
            {"account recorder", "name", "location", "host name", "time", "main stream", "sub stream"},
            {"password", "address"},
        ),
        ("rounds", set[str](), {"password", "time", "address"}),
        ("restarts", set[str](), {"password", "time", "address"}),
        ("refuses", {"host name"}, {"password", "time", "address"}),
        ("late", set[str](), {"password", "time", "address"}),
    ],
)
def test_what_is_said_equals_what_the_device_holds_twice_in_a_row(
    tmp_path: Path, nature: str, failed: set[str], unchanged: set[str]
) -> None:
    camera = Settable(HOST, nature=nature, behind_s=90 if nature == "lies" else 0)
    place = Place(tmp_path, camera)
    with serving(camera):
        place.discover()
        first = outcomes(place.register())
        assert {n for n, o in first.items() if o in ("failed", "not offered")} == failed
        assert {n for n, o in first.items() if o == "unchanged"} == unchanged
        assert set(first) == set(ALL), "what does not depend on the one that failed goes on"
        told = camera.told.count("SetVideoEncoderConfiguration")
        assert told == 2, "nothing is asked for twice"
        second = place.register()
        left = (Outcome.FAILED, Outcome.NOT_OFFERED)
        assert {n for n, s in second.items() if s.outcome in left} - {"channel"} == failed
        if nature != "lies":
            assert camera.told.count("SetVideoEncoderConfiguration") == told, "what is rounded is not sent for ever"
    kbps = re.findall(r"BitrateLimit>(\d+)", camera.encoders["E1m"])
    held = {"lies": "700", "rounds": "288"}.get(nature, "300")
    assert kbps == [held] and (camera.hostname == "north") == (nature not in ("lies", "refuses"))
    if nature == "rounds":
        assert "rounded by the device" in second["main stream"].note and "288 kbit/s" in second["main stream"].after
    if nature == "lies":
        assert "answered OK, but keeps" in second["main stream"].error and "CLK-1" in place.open_codes()
    with Logbook(place.folder.logbook_file) as log:
        assert {c.state for c in log.changes()} <= {"done", "failed"} and len(log.changes()) > 3


@pytest.mark.parametrize(("nature", "outcome"), [("", "changed"), ("late", "changed"), ("lies", "failed")])
def test_a_first_password_is_set_once_and_never_claimed(tmp_path: Path, nature: str, outcome: str) -> None:
    camera = Settable(HOST, nature=nature, fresh=True)
    place = Place(
        tmp_path, camera, SITE.replace("[policy]", "[policy]\nnew_password_s = 8") if nature == "lies" else SITE
    )
    with serving(camera):
        place.discover()
        steps = place.register()
    entry = place.vault.device("north")
    assert camera.told.count("CreateUsers") == (1 if nature == "lies" else 2) and outcomes(steps)["password"] == outcome
    assert entry is not None and (camera.password == entry.password) == (nature != "lies"), (
        "in the vault, whatever was said"
    )
    assert camera.fresh == (nature == "lies") and camera.refusals <= 1
    if nature == "lies":
        assert {s.outcome for n, s in steps.items() if n not in ("password", "channel")} == {Outcome.NOT_TRIED}
        assert "fresh, no password yet" in steps["password"].error


def test_the_vault_has_the_password_before_the_device_has(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    camera = Settable(HOST, fresh=True)
    place = Place(tmp_path, camera)
    keep, held = camera.keep, []

    def watched(name: str, body: str) -> None:
        if name == "CreateUsers":
            vault = Vault.open(place.folder.vault_file, "p")
            kept = vault.device("north"), vault.account("north", "recorder")
            held.append([k.user for k in kept if k is not None and f">{k.password}<" in body])
        keep(name, body)

    monkeypatch.setattr(camera, "keep", watched)
    with serving(camera):
        place.discover()
        place.register()
    assert held == [["admin"], ["recorder"]]


def test_a_clock_from_a_time_server_stays_with_it(tmp_path: Path) -> None:
    right = Settable(HOST, nature="ntp", zone="UTC0")
    place = Place(tmp_path / "right", right)
    with serving(right):
        place.discover()
        assert outcomes(place.register())["time"] == "changed"
    assert right.zone == "GMT0BST,M3.5.0/1,M10.5.0" and "SetSystemDateAndTime" in right.told
    wrong = Settable(HOST, nature="ntp", behind_s=7200, zone="UTC0")
    place = Place(tmp_path / "wrong", wrong)
    with serving(wrong):
        place.discover()
        for dry_run in (True, False):
            assert "from NTP, and is 2 h 00 min behind" in place.register(dry_run=dry_run)["time"].error
    assert "SetSystemDateAndTime" not in wrong.told


def test_a_dry_run_promises_nothing_that_cannot_be_set(tmp_path: Path) -> None:
    camera = Settable(HOST)
    place = Place(tmp_path, camera, SITE.replace("main = { ", 'main = { codec = "H265", '))
    with serving(camera):
        place.discover()
        for dry_run in (True, False):
            step = place.register(dry_run=dry_run)["main stream"]
            assert (step.outcome.value, step.after) == (
                "not offered", "H265 320x180, 10 frames/s, 300 kbit/s, key frame every 1 s",
            )  # fmt: skip
            assert "cannot set H265" in step.error
    assert "H264" in camera.encoders["E1m"] and "<tt:Width>160<" in camera.encoders["E1s"], (
        "the sub stream is planned as H.264"
    )


def test_a_run_is_taken_back_newest_first_and_what_stays_is_said(tmp_path: Path) -> None:
    camera = Settable(HOST, zone="UTC0", fresh=True)
    place = Place(tmp_path, camera)
    before = (
        camera.hostname,
        camera.zone,
        sorted(camera.scopes),
        {t: re.findall(r">([^<>]+)<", x) for t, x in camera.encoders.items()},
    )
    with serving(camera):
        place.discover()
        run = place.registration().run
        assert run is not None and camera.hostname == "north"
        camera.hostname = "by-hand"
        with Logbook(place.folder.logbook_file) as log:
            undone: list[Undone] = asyncio.run(undo(place.keyring(log), run, lambda *_: None))
    stays = {u.change.step: u.why for u in undone if not u.taken_back}
    order = ["sub stream", "main stream", "time", "host name", "location", "name", "account recorder", "password"]
    assert [u.change.step for u in undone] == order and not camera.others
    assert set(stays) == {"password", "host name"} and "changed since" in stays["host name"]
    camera.hostname = "cam"
    after = (
        camera.hostname,
        camera.zone,
        sorted(camera.scopes),
        {t: re.findall(r">([^<>]+)<", x) for t, x in camera.encoders.items()},
    )
    assert after == before and place.vault.device("north") is not None


class Dynamic(Bench):
    """The stand-in recorder, which makes its channels as needed."""

    def __init__(self, folder: Path) -> None:
        super().__init__(folder)
        config = self.recorder.config
        assert isinstance(config, Recorder)
        self.recorder = type(self.recorder)(config.model_copy(update={"dynamic_recordings": True}))


def test_what_is_made_on_a_recorder_is_made_once_and_doubles_are_told(tmp_path: Path) -> None:
    async def body(b: Bench) -> None:
        handle = b.recorder.handle

        async def late(request: http.HttpRequest) -> http.HttpResponse:
            answer = await handle(request)
            if b"Create" in request.body:
                await asyncio.sleep(1.5)
            return answer

        b.recorder.handle = late  # type: ignore[method-assign]
        await b.discover()
        result = await b.register()
        assert not [s.error for d in result.results for s in d.steps if s.outcome is Outcome.FAILED]
        assert len(b.recorder.receivers) == len(b.recorder.jobs) == 2 and len(b.recorder.channels) == 3
        assert not [f for f in result.findings if f.code == "REC-4"]
        spare = next(iter(b.recorder.receivers.values()))
        b.recorder.receivers["RCVspare"] = spare
        b.recorder.jobs["JOBx"] = recording_jobs.RecordingJob("JOBx", "REC002", "RCVspare")
        (told,) = [f for f in (await b.register()).findings if f.code == "REC-4"]
        assert "on channels" in told.measured and told.subject == "recorder recorder"

    Dynamic(tmp_path).run(body)


def test_a_recorder_without_a_service_gets_a_work_sheet(tmp_path: Path) -> None:
    camera = Settable(HOST)
    place = Place(tmp_path, camera)
    types = conftest.TYPES.replace("channels = 4", 'channels = 4\ncontrol = "by-hand"')
    (tmp_path / "types.toml").write_text(types)
    place.plan = read_plan(place.folder)
    with serving(camera):
        place.discover()
        result = place.registration()
    assert not result.not_found and not [f for f in result.findings if f.severity is Severity.FAULT]
    (sheet,) = write_work_sheets(place.folder, result.by_hand)
    (row,) = csv.DictReader(sheet.read_text(encoding="utf-8-sig").splitlines())
    assert row["stream"] == f"rtsp://{HOST}:8554/v" and (row["channel"], row["camera"]) == ("1", "north")
    assert (row["user"], row["password"], row["done"]) == ("recorder", "in the vault", "")


CHANNEL = b"""<tt:Configuration xmlns:tt="http://www.onvif.org/ver10/schema"><tt:Source><tt:SourceId>urn:lens:7</tt:SourceId>
<tt:Name>old</tt:Name><tt:Location>x</tt:Location><tt:Description>by the owner</tt:Description><tt:Address/></tt:Source>
<tt:Content>door</tt:Content><tt:MaximumRetentionTime>P30D</tt:MaximumRetentionTime></tt:Configuration>"""


def test_a_channel_keeps_what_is_not_planned_and_can_be_taken_back(tmp_path: Path) -> None:
    async def body(b: Bench) -> None:
        held = b.recorder.channels["REC001"]
        held.recording = recording.parse_recordings(soap.TRC.GetRecordingsResponse(soap.TRC.RecordingItem(
            soap.TT.RecordingToken("REC001"), xml.parse(CHANNEL)
        )))[0]  # fmt: skip
        await b.discover()
        run = (await b.register()).run
        assert run is not None and held.recording.name == "north" and len(b.recorder.jobs) == 2
        kept = soap.serialize(recording.recordings_response([held.recording])).decode()
        assert all(part in kept for part in ("urn:lens:7", "by the owner", ">door<", "P30D")) and ">old<" not in kept
        undone = [u for u in await undo(b.keyring(), run, lambda *_: None) if u.change.step == "channel"]
        assert [u.why for u in undone] == ["", ""], undone
        assert held.recording.name == "old" and not b.recorder.jobs and not b.recorder.receivers

    Bench(tmp_path).run(body)


def test_a_recorder_that_says_yes_and_makes_nothing_is_asked_once(tmp_path: Path) -> None:
    asked = []

    async def body(b: Bench) -> None:
        b.recorder.operations["CreateRecording"] = lambda _: asked.append(1) or recording.create_recording_response("R")  # type: ignore[func-returns-value]
        await b.discover()
        told = [s.error for d in (await b.register()).results for s in d.steps if s.outcome is Outcome.FAILED]
        assert len(asked) == 2 and all("still has 0 channels" in t for t in told) and len(told) == 2

    Dynamic(tmp_path).run(body)


def profile(token: str, source: str, width: int, encoder: str = "") -> media.Profile:
    return media.Profile(
        token, token, encoders.EncoderSettings(encoder or f"e-{token}", "H264", width, width, 10, 1, 1), source
    )


@pytest.mark.parametrize(
    ("profiles", "main", "sub"),
    [
        ([profile("a", "s2", 1920), profile("b", "s1", 320), profile("c", "s1", 1280)], "c", "b"),
        ([profile("x", "s10", 1920), profile("y", "s2", 640), profile("z", "s2", 320)], "y", "z"),
        ([profile("subStream", "s", 1920), profile("mainStream", "s", 640)], "mainStream", "subStream"),
        ([profile("a", "s", 1920, "e1"), profile("b", "s", 1920, "e1")], "a", None),
        ([], None, None),
    ],
)  # fmt: skip
def test_profiles_are_chosen_by_lens_and_size(profiles: list[media.Profile], main: str | None, sub: str | None) -> None:
    picked = pick_profiles(profiles)
    assert {k: p.token for k, p in picked.items()} == {k: v for k, v in (("main", main), ("sub", sub)) if v}
    assert pick_profiles(profiles[::-1]).keys() == picked.keys()


def test_durations_and_zones_as_a_person_reads_them() -> None:
    assert [seconds(s) for s in (-150, -0.25, 7199.9, -90000)] == [
        "-2 min 30 s",
        "-250 ms",
        "2 h 00 min",
        "-25 h 00 min",
    ]
    assert [difference(s) for s in (-150, 9.4, -3600 * 3, 86400 * 400 + 7200)] == [
        "2 min 30 s behind", "9 s ahead", "3 h 00 min behind", "400 days 2 h ahead",
    ]  # fmt: skip
    assert same_timezone("GMT0BST,M3.5.0/1,M10.5.0", "GMT+0BST-1,M3.5.0/01:00:00,M10.5.0/02:00:00")
    assert same_timezone("CET-1CEST,M3.5.0,M10.5.0/3", "<+01>-1<+02>-2,M3.5.0/2,M10.5.0/03:00")
    for other in ("GMT0", "GMT0BST,M3.4.0/1,M10.5.0", "GMT1BST,M3.5.0/1,M10.5.0", "", "x"):
        assert not same_timezone("GMT0BST,M3.5.0/1,M10.5.0", other)
