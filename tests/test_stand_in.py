"""The stand-in's own conduct: its RTSP answers, its limits, and what its recorder really does."""

from __future__ import annotations

import asyncio
from collections.abc import Awaitable, Callable
from pathlib import Path

import pytest

from conftest import DATA, zentrale
from zentrale.field import rtsp_player
from zentrale.field.visit import Visit
from zentrale.protocols.http_auth import Challenge, Credentials, answer, parse_offers
from zentrale.protocols.rtcp import SenderReport
from zentrale.protocols.rtcp import parse as parse_rtcp
from zentrale.protocols.rtp import RtpPacket
from zentrale.protocols.rtsp import Headers, Interleaved, Reader, Request, Response
from zentrale.protocols.rtsp_client import Transport
from zentrale.protocols.stream_address import StreamAddress
from zentrale.simulation import encoding
from zentrale.simulation.camera import SimulatedCamera
from zentrale.simulation.rtsp_server import CameraConnection, RtspServer
from zentrale.simulation.scenario import read_scenario

SOUTH = read_scenario(str(DATA / "small.toml")).cameras[1].model_copy(update={"address": "127.0.73.1"})
BASE = "rtsp://127.0.73.1:8554/live/main"
RIGHT = Credentials("admin", "factory-1234")


class Client:
    """Asks one thing at a time and gives back the answer; media packets are kept aside."""

    def __init__(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        self.reader, self.writer, self.messages = reader, writer, Reader()
        self.packets: list[Interleaved] = []
        self.cseq = 0
        self.challenge = Challenge("digest")

    async def ask(self, method: str, uri: str = BASE, *headers: tuple[str, str], signed: bool = True) -> Response:
        for attempt in (1, 2):
            self.cseq += 1
            fields = [("CSeq", str(self.cseq)), *headers]
            if signed and attempt == 2:
                fields.append(("Authorization", answer(self.challenge, RIGHT, method, uri, "c")))
            self.writer.write(Request(method, uri, Headers(fields)).serialize())
            response = await self.response()
            assert response.headers.get("CSeq") == str(self.cseq)
            if response.status != 401 or not signed:
                return response
            self.challenge = parse_offers(response.headers.all("WWW-Authenticate")).challenges[0]
        return response

    async def response(self) -> Response:
        found: list[Response] = []
        while not found:
            for event in self.messages.receive(await asyncio.wait_for(self.reader.read(65536), 10)):
                if isinstance(event, Response):
                    found.append(event)
                elif isinstance(event, Interleaved):
                    self.packets.append(event)
        return found[0]


def converse(body: Callable[[Client], Awaitable[None]]) -> None:
    async def run() -> None:
        server = RtspServer(SimulatedCamera(SOUTH), CameraConnection)
        await server.start()
        reader, writer = await asyncio.open_connection(SOUTH.address, SOUTH.rtsp_port)
        try:
            await body(Client(reader, writer))
        finally:
            writer.close()
            await server.close()

    asyncio.run(run())


def test_a_session_goes_through_its_states() -> None:
    async def body(client: Client) -> None:
        options = await client.ask("OPTIONS", signed=False)
        assert {"DESCRIBE", "SETUP", "PLAY", "GET_PARAMETER", "TEARDOWN"} <= set(
            options.headers.get("Public").split(", ")
        )
        assert (await client.ask("DESCRIBE", signed=False)).status == 401
        described = await client.ask("DESCRIBE")
        assert described.status == 200 and b"sprop-parameter-sets=" in described.body
        assert (await client.ask("PLAY")).status == 454, "no session yet"
        setup = await client.ask("SETUP", BASE + "/video", ("Transport", "RTP/AVP/TCP;unicast;interleaved=6-7"))
        session = ("Session", setup.headers.get("Session").partition(";")[0])
        assert "interleaved=6-7" in setup.headers.get("Transport") and "timeout=60" in setup.headers.get("Session")
        assert (await client.ask("PLAY", BASE, session)).status == 200
        await asyncio.sleep(0.7)
        assert (await client.ask("GET_PARAMETER", BASE, session)).status == 200
        assert (await client.ask("PLAY", BASE, session)).status == 455
        assert (await client.ask("TEARDOWN", BASE, session)).status == 200
        assert {p.channel for p in client.packets} == {6, 7}
        rtp = [RtpPacket.parse(p.data) for p in client.packets if p.channel == 6]
        assert [p.sequence for p in rtp] == [(rtp[0].sequence + n) & 0xFFFF for n in range(len(rtp))]
        assert len({p.ssrc for p in rtp}) == 1 and max(len(p.payload) for p in rtp) <= encoding.MAX_PAYLOAD_BYTES
        (report,) = [r for p in client.packets if p.channel == 7 for r in parse_rtcp(p.data)]
        assert isinstance(report, SenderReport) and report.ssrc == rtp[0].ssrc

    converse(body)


@pytest.mark.parametrize(
    ("method", "uri", "headers", "status"),
    [
        ("DESCRIBE", BASE.replace("main", "nothing"), (), 404),
        ("SETUP", BASE.replace("main", "nothing"), (("Transport", "RTP/AVP/TCP"),), 404),
        ("SETUP", BASE, (("Transport", "RAW/RAW/UDP;unicast;client_port=5000-5001"),), 461),
        ("SETUP", BASE, (("Transport", "RTP/AVP;multicast"),), 461),
        ("TEARDOWN", BASE, (("Session", "none"),), 454),
        ("RECORD", BASE, (), 501),
    ],
)
def test_what_cannot_be_done_is_refused_with_its_status(
    method: str, uri: str, headers: tuple[tuple[str, str], ...], status: int
) -> None:
    async def body(client: Client) -> None:
        assert (await client.ask(method, uri, *headers)).status == status

    converse(body)


@pytest.mark.parametrize("transport", [Transport.TCP, Transport.UDP])
def test_our_own_player_measures_it(transport: Transport) -> None:
    async def body(client: Client) -> None:
        found = await rtsp_player.measure(StreamAddress.parse(BASE), Visit(RIGHT, transport=transport), 2.5)
        assert (found.transport, found.width_px, found.height_px) == (transport.value, 160, 96)
        assert found.packets_lost == 0 and found.frames_damaged == 0 and found.key_picture is not None
        assert found.keyframe_interval_s == pytest.approx(1, abs=0.05), "five frames at five a second"

    converse(body)


def test_a_stuck_encoder_streams_its_own_size_whatever_it_claims() -> None:
    stuck = SimulatedCamera(SOUTH.model_copy(update={"streams_resolution": (176, 144)}))
    assert stuck.encoders["main"].width_px == 160 and stuck.recipe("main").width_px == 176
    assert stuck.recipe("sub").width_px == 160


def test_pictures_are_encoded_once_and_kept(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv(encoding.CACHE_VARIABLE, str(tmp_path))
    recipe = encoding.StreamRecipe("gate", "sub", 160, 96, 5, 64, 5)
    missing = encoding.missing([recipe, recipe])
    assert missing == [recipe] and list(encoding.prepare(missing, 1)) == [1] and encoding.missing([recipe]) == []
    stream = encoding.load(recipe)
    assert len(stream.payloads) == 20, "a loop of four seconds"
    keys = [n for n, unit in enumerate(stream.payloads) if any(p[0] & 0x1F == 7 for p, _ in unit)]
    assert keys == [0, 5, 10, 15], "a key frame every five frames, with its parameter sets"
    assert all(unit[-1][1] and not any(m for _, m in unit[:-1]) for unit in stream.payloads), "one marker, at the end"


def test_a_scenario_of_ones_own_is_begun_and_right(tmp_path: Path) -> None:
    file = tmp_path / "mine.toml"
    assert zentrale("simulate", "--new", str(file)).code == 0
    assert [d.name for d in read_scenario(str(file)).devices] == ["gate", "recorder"]
    assert zentrale("simulate", "--new", str(file)).code == 2, "it is not written over"
    assert "gate" in zentrale("simulate", "--scenario", str(file), "--list").out
