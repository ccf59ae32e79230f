"""Registration against stand-in devices in this process: refusals, mix-ups and half-done work."""

from __future__ import annotations

import asyncio
import time
from collections.abc import Awaitable, Callable, Iterator
from functools import partial
from pathlib import Path

import pytest

from conftest import CAMERAS, DATA, make_site
from zentrale.errors import DeviceError, InputError, NothingReachedError, RefusedError
from zentrale.field.device import TOKEN, Device
from zentrale.field.visit import Visit
from zentrale.jobs.discovery.discovering import Request, discover
from zentrale.jobs.known.device_states import State
from zentrale.jobs.known.found_devices import FoundDevice
from zentrale.jobs.known.step_form import Outcome
from zentrale.jobs.passwords.keyring import Key, Keyring
from zentrale.jobs.passwords.trying import try_keys
from zentrale.jobs.recorders.book import ChannelBook
from zentrale.jobs.recorders.onvif_lists import RecorderChannels, with_credentials
from zentrale.jobs.registration import channels
from zentrale.jobs.registration.registering import Registrar, Registration
from zentrale.logbook.ledger import Patience
from zentrale.logbook.store import Logbook
from zentrale.logbook.vault import Vault
from zentrale.logbook.vault_contents import Candidate
from zentrale.protocols.http_auth import Credentials
from zentrale.protocols.onvif import recording, recording_jobs
from zentrale.simulation import http_server
from zentrale.simulation.camera import SimulatedCamera
from zentrale.simulation.recorder import SimulatedRecorder
from zentrale.simulation.scenario import Camera, read_scenario
from zentrale.site.folder import SiteFolder
from zentrale.site.reading import read_plan

SCENARIO = read_scenario(str(DATA / "small.toml"))
Body = Callable[["Bench"], Awaitable[None]]


@pytest.fixture(autouse=True)
def plays(monkeypatch: pytest.MonkeyPatch) -> None:
    async def played(*_: object) -> str:
        return "plays"

    monkeypatch.setattr(channels, "take_reference", played)


class Bench:
    """The ONVIF side of two cameras and a recorder, a site and an open vault. No RTSP: nothing is played here."""

    def __init__(self, folder: Path, cameras: str = CAMERAS, **changes: object) -> None:
        north, south = (c.model_copy(update=changes) for c in SCENARIO.cameras)
        self.north, self.south = SimulatedCamera(north), SimulatedCamera(south)
        self.recorder = SimulatedRecorder(SCENARIO.recorders[0])
        self.folder = SiteFolder(make_site(folder, cameras=cameras))
        self.plan = read_plan(self.folder)
        self.vault = Vault.create(self.folder.vault_file, "p")
        self.vault.add_candidate(Candidate(Credentials("admin", "installer-1"), "installer"))
        self.vault.add_candidate(Candidate(Credentials("admin", "factory-1234"), "default", "Umbra Works"))
        self.logbook = Logbook(self.folder.logbook_file)

    def run(self, body: Body) -> None:
        async def served() -> None:
            devices = (self.north, self.south, self.recorder)
            servers = [await http_server.serve(d.handle, d.config.address, d.config.http_port) for d in devices]
            try:
                await body(self)
            finally:
                await self.recorder.close()
                for server in servers:
                    server.close()
                self.logbook.close()

        asyncio.run(served())

    async def discover(self) -> dict[str, FoundDevice]:
        request = Request(adapters=("lo",), wait_s=0.1)
        found = await discover(self.plan, self.keyring(), request, lambda done, text: None)
        return found.matching.by_name

    def keyring(self, *, dry_run: bool = False, tries: int = 2) -> Keyring:
        return Keyring(self.plan, self.vault, self.logbook, Patience(1800, tries), dry_run=dry_run)

    async def register(self, *, dry_run: bool = False) -> Registration:
        registrar = Registrar(self.keyring(dry_run=dry_run))
        return await registrar.register(self.plan.cameras)

    def channels(self) -> RecorderChannels:
        client = Device(self.recorder.base_url + "/onvif/device_service")
        client.use(Credentials("admin", "installer-1"))
        return RecorderChannels(client, ChannelBook(self.logbook, self.plan, "recorder", writes=False))


@pytest.fixture
def bench(tmp_path: Path) -> Iterator[Bench]:
    yield Bench(tmp_path)


def failures(result: Registration) -> dict[str, str]:
    return {d.subject: s.error for d in result.results for s in d.steps if s.outcome is Outcome.FAILED}


def test_nothing_is_registered_before_it_was_found(bench: Bench) -> None:
    async def body(b: Bench) -> None:
        with pytest.raises(InputError, match="nothing was discovered"):
            await b.register()
        b.logbook.end_run(b.logbook.begin_run("discover", "lo"))
        with pytest.raises(NothingReachedError):
            await b.register()

    bench.run(body)


def test_a_device_that_refuses_the_password_keeps_its_state(tmp_path: Path) -> None:
    """A rule of twenty characters: the generated password is refused, and said so; nothing else is tried."""

    async def body(b: Bench) -> None:
        await b.discover()
        result = await b.register()
        told = failures(result)
        assert set(told) == {"camera north", "camera south"} and "PasswordTooWeak" in told["camera north"]
        assert b.north.fresh and b.south.accounts["admin"][0].password == "factory-1234"
        assert {c.state for c in b.logbook.changes() if c.step == "password"} == {"failed"}
        assert [f.code for f in result.findings] == ["REG-1", "REG-1"], "one for a camera, not one for each step left"
        assert "so not tried: account recorder, name, location, host name" in result.findings[0].measured

    Bench(tmp_path, min_password_length=20).run(body)


def test_what_does_not_play_as_the_recorder_will_play_it_gets_no_channel(
    bench: Bench, monkeypatch: pytest.MonkeyPatch
) -> None:
    seen: list[str] = []

    async def refused(*given: object) -> str:
        visit = given[4]
        assert isinstance(visit, Visit) and visit.credentials is not None
        seen.append(visit.credentials.user)
        raise DeviceError("it does not play: 401")

    monkeypatch.setattr(channels, "take_reference", refused)

    async def body(b: Bench) -> None:
        await b.discover()
        result = await b.register()
        assert set(seen) == {"recorder"} and not b.recorder.receivers, (
            "as the recorder's own account, before anything is made"
        )
        north = {s.step: s for s in next(d for d in result.results if d.subject == "camera north").steps}
        assert (north["picture"].outcome, north["channel"].outcome) == (Outcome.FAILED, Outcome.NOT_TRIED)
        told = [f.measured for f in result.findings if f.subject == "camera north, step picture"]
        assert told == ["it does not play: 401; so it was not put on its channel; so not tried: channel"]

    bench.run(body)


def test_another_device_at_the_address_is_left_alone(bench: Bench) -> None:
    """Between discovery and registration somebody swapped the camera: its MAC address is not the planned one."""

    async def body(b: Bench) -> None:
        await b.discover()
        b.north.config = b.north.config.model_copy(update={"mac": "02:5a:71:00:00:77"})
        result = await b.register()
        assert "another device answers here" in failures(result)["camera north"] and b.north.fresh

    bench.run(body)


def test_a_channel_of_something_else_is_never_taken(bench: Bench) -> None:
    async def body(b: Bench) -> None:
        channels = b.channels()
        client = channels.client
        await client.system_time()
        first = (await channels.recordings())[0]
        await client.call("trc", recording.set_recording(recording.Recording(first.token, "the mayor's office")))
        foreign = recording.create_receiver("rtsp://10.0.0.99/private")
        receiver = recording.parse_create_receiver(await client.call("trv", foreign))
        await client.call("trc", recording_jobs.create_job(recording_jobs.RecordingJob("", first.token, receiver)))
        await b.discover()
        told = failures(await b.register())
        assert "channel 1 is taken: it takes in rtsp://10.0.0.99/private (the mayor's office)" in told["camera north"]
        assert (await channels.receivers())[0].uri == "rtsp://10.0.0.99/private" and "camera south" not in told
        await client.close()

    bench.run(body)


def test_a_camera_on_another_channel_moves_and_can_go_back(tmp_path: Path) -> None:
    async def body(b: Bench) -> None:
        await b.discover()
        assert not failures(await b.register())
        (b.folder.path / "cameras.csv").write_text(CAMERAS.replace("recorder,3", "recorder,2"))
        b.plan = read_plan(b.folder)
        moved = await b.register()
        (told,) = [r.steps for r in moved.results if r.ref.name == "recorder"]
        assert {s.step: s.after for s in told if s.outcome is Outcome.CHANGED}.keys() == {"channel 2", "channel 3"}
        names = [c.recording.name for c in b.recorder.channels.values()]
        assert names[:3] == ["north", "south", ""] and len(b.recorder.jobs) == 2
        assert not failures(await b.register())

    Bench(tmp_path).run(body)


def test_what_an_interrupted_run_left_on_the_recorder_is_taken_up(bench: Bench) -> None:
    """A receiver without a job, as a run leaves it that dies between the two: no second one is made."""

    async def body(b: Bench) -> None:
        channels = b.channels()
        await channels.client.system_time()
        uri = with_credentials("rtsp://127.0.71.11:8554/live/main", Credentials("admin", "a:b@c/d"))
        await channels.client.call("trv", recording.create_receiver(uri))
        assert "a:b@c/d" not in uri and "a:b" not in (await channels.receivers())[0].uri
        await b.discover()
        assert not failures(await b.register()) and len(b.recorder.receivers) == 2
        await channels.client.close()

    bench.run(body)


def test_a_channel_in_error_gets_the_password_again(bench: Bench) -> None:
    async def body(b: Bench) -> None:
        await b.discover()
        await b.register()
        for channel in b.recorder.channels.values():
            channel.storage.error = "401 Unauthorized"
        before = dict(b.recorder.receivers)
        new = Credentials("recorder", "New-Password-77")  # as somebody has set it in its page, and entered here
        b.vault.set_account("north", new)
        b.north.accounts["recorder"] = (new, "User")
        result = await b.register()
        changed = {d.subject: [s.step for s in d.steps if s.outcome is Outcome.CHANGED] for d in result.results}
        assert changed["camera north"] == ["channel"] and len(b.recorder.receivers) == 2
        assert any("New-Password-77" in uri for uri in b.recorder.receivers.values()) and before != b.recorder.receivers

    bench.run(body)


def test_settings_that_the_camera_does_not_keep_are_told(bench: Bench) -> None:
    """It takes 10 frames/s and keeps 5: that step fails, and what does not depend on it goes on."""

    async def body(b: Bench) -> None:
        original = b.north.operations["SetVideoEncoderConfiguration"]
        b.north.operations["SetVideoEncoderConfiguration"] = lambda request: (
            original(request), b.north.encoders.update(main=b.north.encoders["sub"])
        )[0]  # fmt: skip
        await b.discover()
        result = await b.register()
        (north,) = [d for d in result.results if d.subject == "camera north"]
        by_name = {s.step: s for s in north.steps}
        assert "answered OK, but keeps H264 160x96" in by_name["main stream"].error
        assert {by_name[n].outcome for n in ("password", "name", "time", "channel")} == {Outcome.CHANGED}

    bench.run(body)


def test_a_dry_run_touches_neither_devices_nor_vault(bench: Bench) -> None:
    async def body(b: Bench) -> None:
        await b.discover()
        before = b.folder.vault_file.read_bytes()
        result = await b.register(dry_run=True)
        assert result.count(Outcome.WOULD_CHANGE) > 8 and result.count(Outcome.CHANGED) == 0
        assert b.north.fresh and not b.recorder.receivers and not b.logbook.changes()
        assert b.folder.vault_file.read_bytes() == before

    bench.run(body)


def key(password: str, *, factory: bool = False) -> Key:
    return Key(Credentials("admin", password), password, factory=factory)


def test_the_fifth_of_five_passwords_is_found_without_a_third_refusal_in_a_window(bench: Bench) -> None:
    async def body(b: Bench) -> None:
        keys = [*(key(f"wrong-{n}") for n in range(4)), key("factory-1234", factory=True)]
        states = []
        for window in range(3):
            keyring = b.keyring()
            keyring.ledger._now_s = partial(float, 1e9 + window * 1801)
            async with Device(b.south.base_url + "/onvif/device_service", keyring.rules(None)) as client:
                entry = await try_keys(client, keyring, keys, "south")
                states.append((entry.state, entry.tried, entry.left))
                if window < 2:  # once more within the window: nothing is asked
                    assert (await try_keys(client, keyring, keys, "south")).tried == 0
        assert states == [(State.NOT_ASKED, 2, 3), (State.NOT_ASKED, 2, 3), (State.DEFAULT_PASSWORD, 0, 0)]

    bench.run(body)


def test_requests_are_signed_in_the_devices_time(bench: Bench) -> None:
    """South's clock is two hours behind: a token signed in ours is stale, one in its own time is not."""

    async def body(b: Bench) -> None:
        right = Credentials("admin", "factory-1234")
        async with Device(b.south.base_url + "/onvif/device_service") as client:
            with pytest.raises(RefusedError, match="NotAuthorized"):
                await client.login(right, TOKEN)
            told = await client.system_time()
            assert abs(client.clock_offset.total_seconds() + 7230) < 3 and told.utc.timestamp() < time.time() - 7000
            await client.login(right, TOKEN)
            assert [a.user for a in await client.users()] == ["admin"]

    bench.run(body)


def test_a_scenario_with_mistakes_is_told(tmp_path: Path) -> None:
    text = (DATA / "small.toml").read_text()
    for wrong, word in (
        (text.replace("channels = 4", "channels = 0"), "channels"),
        (text + "[[x", "TOML"),
        (text + "[x]", "x"),
    ):
        file = tmp_path / "s.toml"
        file.write_text(wrong)
        with pytest.raises(InputError, match=word):
            read_scenario(str(file))
    with pytest.raises(InputError, match="cannot be read"):
        read_scenario(str(tmp_path / "none.toml"))
    assert (
        isinstance(read_scenario(None).cameras[0], Camera)
        and sum(not c.apart for c in read_scenario(None).cameras) == 28
    )
