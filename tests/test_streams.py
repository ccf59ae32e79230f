"""Stream servers that do what real ones do wrong: what is measured of them, and what is said of each that does not play."""

from __future__ import annotations

import asyncio
import re
import socket
import struct
import subprocess
import sys
import threading
import time
from base64 import b64encode
from collections.abc import Iterable, Iterator
from contextlib import contextmanager
from dataclasses import replace
from fractions import Fraction
from functools import cache, partial
from pathlib import Path
from typing import Any

import av
import numpy as np
import numpy.typing as npt
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from conftest import make_site, zentrale
from stream_server import HOST, StreamServer
from test_video import encode
from zentrale.errors import Cause, Whose
from zentrale.field import playing
from zentrale.field.causes import cause_of
from zentrale.field.datagram_batch import BATCH
from zentrale.field.datagrams import Datagrams
from zentrale.field.intake import ENOUGH_BYTES, Connection
from zentrale.field.visit import Visit
from zentrale.findings import count_faults
from zentrale.jobs.checks.check import Request, Round
from zentrale.jobs.checks.seen import StreamResult, Target
from zentrale.jobs.checks.streams_check import measure_planned
from zentrale.jobs.passwords.keyring import Keyring
from zentrale.jobs.streams.judging import judge_delivery, judge_group, lateness_finding
from zentrale.jobs.streams.measuring import Measured
from zentrale.jobs.streams.measuring import measure as judged
from zentrale.logbook.evidence import latest
from zentrale.logbook.ledger import Patience
from zentrale.logbook.store import Logbook
from zentrale.protocols import h264
from zentrale.protocols.http_auth import Credentials
from zentrale.protocols.rtsp_client import Transport
from zentrale.protocols.stream_address import StreamAddress
from zentrale.protocols.streams.meter import StreamMeasurement
from zentrale.protocols.streams.packet_log import first_that_begins, may_begin
from zentrale.protocols.video import split_annex_b
from zentrale.site.folder import SiteFolder
from zentrale.site.model import Policy
from zentrale.site.reading import read_plan

Picture = npt.NDArray[np.uint8]
RIGHT = Visit(Credentials("viewer", "secret"))


def _encoded(pictures: Iterable[Picture], **options: str) -> Iterator[bytes]:
    encoder = av.CodecContext.create("libx264", "w")
    assert isinstance(encoder, av.VideoCodecContext)
    encoder.pix_fmt, encoder.thread_count, encoder.time_base = "yuv420p", 1, Fraction(1, 25)
    encoder.options = {"preset": "ultrafast", "tune": "zerolatency", "g": "25", **options}
    for number, picture in enumerate(pictures):
        if not number:
            encoder.height, encoder.width = picture.shape[:2]
        yield b"".join(bytes(p) for p in encoder.encode(av.VideoFrame.from_ndarray(picture, format="rgb24")))


@cache
def moving(codec: str = "libx264", count: int = 50, intra_refresh: int = 0) -> list[list[bytes]]:
    """RTP payloads of pictures with noise, as a camera's are; a key picture each second."""
    if codec == "libx265":
        return [split_annex_b(p) for p in encode(codec, 320, 192, count, 25)]
    chance = np.random.default_rng(1)
    noise = (chance.integers(0, 255, (24, 40, 3), dtype=np.uint8).repeat(8, 0).repeat(8, 1) for _ in range(count))
    options = {"x264-params": f"intra-refresh=1:keyint={intra_refresh}"} if intra_refresh else {}
    return [[p for p, _ in h264.packetize(split_annex_b(u), 1200)] for u in _encoded(noise, **options)]


@pytest.fixture(autouse=True)
def impatient(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(playing, "FIRST_PACKET_S", 1.0)


def play(server: StreamServer, visit: Visit | None = None, seconds: float = 1.0, times: int = 1) -> list[Measured]:
    async def run() -> list[Measured]:
        async with server.running() as url:
            one = partial(judged, "", "", StreamAddress.parse(url), visit or Visit(answer_s=1.0), seconds)
            return await asyncio.gather(*(one() for _ in range(times)))

    return asyncio.run(run())


def _measurement() -> StreamMeasurement:
    return StreamMeasurement(transport="tcp", codec="H264", packets_received=900, packets_expected=900, measured_s=5.0)


def codes(found: Measured) -> set[str]:
    return {f.code for f in found.findings}


JUNK = b"v=0\r\ns=nothing that could be played\r\n"
REFUSALS: dict[str, tuple[dict[str, Any], Cause, str]] = {
    "password": ({"password": "other"}, Cause.PASSWORD, "STR-18"),
    "path": ({"status": {"DESCRIBE": "404 Stream Not Found"}}, Cause.PATH, "STR-19"),
    "transport": ({"status": {"SETUP": "461 Unsupported Transport"}}, Cause.TRANSPORT, "STR-20"),
    "busy": ({"sessions": 0}, Cause.BUSY, "STR-21"),
    "too many": ({"status": {"PLAY": "453 Too many clients"}}, Cause.BUSY, "STR-21"),
    "description": ({"sdp": JUNK}, Cause.DESCRIPTION, "STR-22"),
    "closed": ({"shuts": "PLAY"}, Cause.CLOSED, "STR-23"),
    "silent": ({"mute": "SETUP"}, Cause.SILENT, "STR-24"),
    "elsewhere": (
        {"status": {"DESCRIBE": "302 Found"}, "headers": {"DESCRIBE": "Location: rtsp://10.9.9.9/live\r\n"}},
        Cause.ELSEWHERE, "STR-25",
    ),
}  # fmt: skip


@pytest.mark.parametrize("name", REFUSALS)
def test_each_cause_has_its_finding_and_only_silence_everywhere_is_not_reached(name: str) -> None:
    changes, cause, code = REFUSALS[name]
    (found,) = play(StreamServer(moving(), **changes), replace(RIGHT, answer_s=1.0))
    assert found.cause is not None and cause_of(found.cause) is cause and codes(found) == {code}
    assert "ping" not in found.findings[0].advice and found.findings[0].advice


@contextmanager
def serving(server: StreamServer) -> Iterator[str]:
    """The server in a loop of its own, for commands."""
    loop, told = asyncio.new_event_loop(), threading.Event()
    urls: list[str] = []

    async def run() -> None:
        async with server.running() as url:
            urls.append(url)
            told.set()
            await stop.wait()

    stop = asyncio.Event()
    thread = threading.Thread(target=lambda: loop.run_until_complete(run()))
    thread.start()
    assert told.wait(10)
    try:
        yield urls[0]
    finally:
        loop.call_soon_threadsafe(stop.set)
        thread.join(10)
        loop.close()


def test_a_command_on_one_address_tells_the_cause_also_in_its_document() -> None:
    with serving(StreamServer(moving(), status={"DESCRIBE": "404 Not Found"})) as url:
        told = zentrale("verify", url, "--seconds", "1", "--json")
    assert told.code == 1 and told.json["streams"][0]["cause"] == "no such path"
    assert [f["code"] for f in told.json["findings"]] == ["STR-19"]
    nowhere = zentrale("verify", f"rtsp://{HOST}:9/live", "--seconds", "1", "--json")
    assert nowhere.code == 3 and "ping" in nowhere.err and nowhere.json["streams"][0]["cause"] == "no answer"
    assert zentrale("verify", url, "--answer-within", "0").code == 2


def test_each_answer_has_its_own_time() -> None:
    """Three answers of 0.5 s within 0.8 s each are slow, not dead."""
    slow = {"OPTIONS": 0.5, "DESCRIBE": 0.5, "SETUP": 0.5}
    (found,) = play(StreamServer(moving(), delay_s=slow), Visit(answer_s=0.8), 1)
    assert found.measured is not None and found.measured.packets_lost == 0


@pytest.mark.parametrize(
    ("restarts", "patience_s", "plays"), [(True, 3.0, True), (True, 0.0, False), (False, 3.0, False)]
)
def test_one_that_goes_as_it_is_asked_is_asked_once_more_where_it_may_be_restarting(
    restarts: bool, patience_s: float, plays: bool
) -> None:
    server = StreamServer(moving(), shuts="SETUP", restarts=restarts)
    (found,) = play(server, Visit(patience_s=patience_s, answer_s=1.0), 1)
    assert (found.measured is not None) == plays, found.error
    assert server.asked.count("DESCRIBE") == (1 if not patience_s else 2), "once more, and no oftener"


def test_packets_before_the_answer_to_play_count() -> None:
    """The first picture is a key picture, of 10 and more packets; those that follow begin at the second."""
    early = StreamServer(moving(), early=True, delay_s={"PLAY": 0.3})
    (found,) = play(early, seconds=1)
    assert found.measured is not None and found.measured.packets_lost == 0
    assert found.measured.first_picture_s is not None and found.measured.first_picture_s < 0.3


@pytest.mark.parametrize("transport", [Transport.TCP, Transport.UDP])
def test_a_header_extension_in_each_packet_hides_no_picture(transport: Transport) -> None:
    extension = b"\xab\xac\x00\x03" + bytes(12)  # as that of ONVIF Streaming clause 6.3
    plain, extended = (
        play(StreamServer(moving(), extension=e), Visit(transport=transport, answer_s=1))[0].measured
        for e in (b"", extension)
    )
    assert plain and extended and extended.key_picture is not None and extended.packets_lost == 0
    assert extended.bitrate_bps == pytest.approx(plain.bitrate_bps, rel=0.2) and extended.width_px == 320


def test_one_time_nonces_are_answered_each_time() -> None:
    server = StreamServer(moving(), password="secret")
    (found,) = play(server, RIGHT)
    assert found.measured is not None and found.measured.frames > 20
    assert server.asked.count("DESCRIBE") <= 2 and server.asked[-1] == "TEARDOWN"
    (wrong,) = play(StreamServer(moving(), password="other"), RIGHT)
    assert codes(wrong) == {"STR-18"} and "secret" not in str(wrong.findings)


def test_a_session_is_kept_alive_by_what_the_server_understands() -> None:
    """It offers GET_PARAMETER, answers it with 501, and ends sessions that nobody refreshed for 2 s."""
    server = StreamServer(moving(), refresh_s=2)
    (found,) = play(server, seconds=4)
    assert found.measured is not None and not found.measured.ended_early and "GET_PARAMETER" in server.asked
    assert server.asked.count("OPTIONS") >= 2


def test_a_camera_that_serves_one_session_is_measured_in_turn() -> None:
    server = StreamServer(moving(), sessions=1)
    found = play(server, seconds=1, times=3)
    assert all(f.measured and f.measured.packets_lost == 0 for f in found) and server.most_open == 1
    assert any("STR-26" in codes(f) for f in found)


def test_over_udp_only_the_announced_port_counts_and_others_are_told() -> None:
    udp = Visit(transport=Transport.UDP, answer_s=1)
    (plain,) = play(StreamServer(moving(), stranger=True), udp, seconds=2.0)  # twice what it takes on an idle machine
    assert plain.measured is not None and plain.measured.packets_doubled == 0 and plain.measured.frames > 20
    assert "STR-30" in codes(plain) and plain.measured.packets_strange >= plain.measured.packets_received - 20
    assert plain.measured.jitter_ms is not None and plain.measured.jitter_ms < 20
    (other,) = play(StreamServer(moving(), other_port=True), udp)
    assert codes(other) == {"STR-24"}, "nothing came from where it said"
    assert re.search(r"; \d+ datagrams came from 127\.0\.0\.1:\d+, which was not asked", other.findings[0].measured)


def test_multicast_is_joined_where_it_is_planned_or_described() -> None:
    group = "239.192.7.1"
    (planned,) = play(StreamServer(moving(), group=group), Visit(multicast=True, answer_s=1), seconds=2.0)
    (described,) = play(StreamServer(moving(), group=group, stranger=True), Visit(answer_s=1), seconds=2.0)
    for found in (planned, described):
        assert found.measured is not None and found.measured.group == f"{group}:47000"
        assert found.measured.frames > 20 and found.measured.packets_lost == 0
    refuses = {"SETUP": "461 Unsupported Transport"}
    (missing,) = play(StreamServer(moving(), status=refuses), Visit(multicast=True, answer_s=1))
    assert codes(missing) == {"STR-20"}
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as player:  # of another program, which shares it with nobody
        player.bind((group, 47_000))
        (kept_out,) = play(StreamServer(moving(), group=group), Visit(answer_s=1))
    assert codes(kept_out) == {"ERR-2"} and kept_out.cause is not None and kept_out.cause.whose is Whose.MACHINE
    assert f"group {group} port 47000: this machine: address already in use" in kept_out.findings[0].measured
    other = list(judge_group("x", planned.measured or _measurement(), "239.192.7.2", "plan"))
    assert [f.code for f in other] == ["STR-29"]


def test_a_codec_nobody_here_decodes_is_measured_and_not_accused() -> None:
    (found,) = play(StreamServer(moving(), codec="VP8"))
    assert (
        codes(found) == {"STR-32"} and found.measured is not None and found.measured.fps == pytest.approx(25, rel=0.01)
    )
    assert not found.looked_at and count_faults(found.findings) == 0


@pytest.mark.parametrize("transport", [Transport.TCP, Transport.UDP])
def test_a_profile_with_feedback_is_asked_for_as_described_and_an_encrypted_one_told(transport: Transport) -> None:
    """RFC 4585 clause 4.2; RFC 3711 clause 12: the profile of SETUP is that of the description."""
    visit = Visit(transport=transport, answer_s=1)
    (found,) = play(StreamServer(moving(), profile="RTP/AVPF"), visit)
    assert found.measured is not None and found.measured.frames > 20 and not codes(found)
    server = StreamServer(moving(), profile="RTP/SAVPF")
    (encrypted,) = play(server, visit)
    assert codes(encrypted) == {"STR-20"} and "encrypted (RTP/SAVPF)" in encrypted.findings[0].measured
    assert "SETUP" not in server.asked


FEW_FILES = """
import asyncio, resource, socket, sys
from zentrale.errors import DeviceError
from zentrale.field.connection import connect
from zentrale.field.http import HttpClient
from zentrale.field.limits import open_files

resource.setrlimit(resource.RLIMIT_NOFILE, (40, 90))
assert 4 <= open_files(4) and resource.getrlimit(resource.RLIMIT_NOFILE)[0] < 60
assert 20 < open_files(1000) < 90 and resource.getrlimit(resource.RLIMIT_NOFILE)[0] == 90

async def tried(work):
    try:
        await work
    except DeviceError as error:
        return type(error).__name__

async def main():
    with socket.create_server(("127.0.0.1", 0)) as server:
        port = server.getsockname()[1]
        client = HttpClient(lambda *_: None, timeout_s=0.2)
        await tried(client.get(f"http://127.0.0.1:{port}/nobody-answers"))  # so that all of it is loaded
        held = []
        try:
            while True:
                held.append(socket.socket())
        except OSError:
            pass
        told = [await tried(connect("127.0.0.1", port, None)), await tried(client.get(f"http://127.0.0.1:{port}/"))]
        held.pop().close()
        server.close()
        print(*told, await tried(connect("127.0.0.1", port, None)))

asyncio.run(main())
"""


def test_where_this_machine_has_no_more_files_no_device_is_blamed() -> None:
    done = subprocess.run([sys.executable, "-c", FEW_FILES], capture_output=True, text=True, timeout=60)
    assert (done.stdout.split(), done.stderr) == (["MachineError", "MachineError", "GoneError"], "")


def test_what_a_description_says_is_held_against_the_pictures() -> None:
    other = next(u for u in split_annex_b(encode("libx264", 640, 352)[0]) if u[0] & 31 == 7)
    more = f"a=fmtp:96 sprop-parameter-sets={b64encode(other).decode()}\r\na=framerate:12.5\r\n"
    (found,) = play(StreamServer(moving(), more=more), seconds=2.1)
    told = [f.measured for f in found.findings if f.code == "STR-27"]
    assert told == ["described as 640x352, the pictures are 320x192", "described as 12.5 frames/s, 25.0 frames/s come"]
    for described, sent in (("H264", "H265"), ("H265", "H264")):
        for extension in (b"", b"\xab\xac\x00\x01" + bytes(4)):
            (found,) = play(StreamServer(moving("libx26" + sent[-1]), codec=described, extension=extension))
            assert any(sent in f.measured for f in found.findings if f.code == "STR-27"), described


def test_a_stream_under_intra_refresh_has_a_picture_and_is_told() -> None:
    """x264 renews columns of the picture one after the other and begins with one IDR picture only, which is left out."""
    sent = moving(count=90, intra_refresh=20)[1:]
    (found,) = play(StreamServer(sent), seconds=2.5)
    assert found.measured is not None and found.measured.intra_refresh and found.picture is not None
    assert found.measured.keyframe_interval_s == pytest.approx(0.8, abs=0.1) and "STR-9" not in codes(found)


@pytest.mark.parametrize("transport", [Transport.TCP, Transport.UDP])
def test_one_who_wants_a_picture_waits_for_it_and_no_longer(transport: Transport) -> None:
    """The server begins 4 pictures after a key picture: the next comes 21 pictures, 0.84 s, later."""

    async def run() -> Measured:
        async with StreamServer(moving()[4:]).running() as url:
            return await judged("", "", StreamAddress.parse(url), Visit(transport=transport), 9.0, until_picture=True)

    begun = time.monotonic()
    found = asyncio.run(run())
    assert found.picture is not None and found.measured is not None and time.monotonic() - begun < 6
    assert found.measured.first_picture_s == pytest.approx(0.84, abs=0.3) and found.measured.measured_s < 2


def test_a_picture_that_stands_still_and_one_of_hardly_any_bits_are_told_for_a_bare_address() -> None:
    shade = np.tile(np.linspace(20, 200, 1920).astype(np.uint8)[None, :, None], (1088, 1, 3))
    shade[:, ::64] = 255
    still = [split_annex_b(p) for p in _encoded([shade] * 25, qp="24")]
    for _ in range(4):  # a machine that comes late is asked again: server and player are both on it
        (found,) = play(StreamServer(still), seconds=3.5)
        assert found.measured is not None
        if found.measured.own_lateness_s <= 0.25:
            break
    assert "PIC-4" in codes(found)
    scanty = replace(_measurement(), bitrate_bps=9000.0, fps=25.0, width_px=1920, height_px=1080)
    assert [f.code for f in judge_delivery("x", scanty, Policy(), decoded=True)] == ["STR-28"]
    assert not list(judge_delivery("x", replace(scanty, bitrate_bps=200_000.0), Policy(), decoded=True))
    (lives,) = play(StreamServer(moving()), seconds=1.5)
    assert codes(lives) == set()


chunks = st.lists(st.integers(1, 400), max_size=40)
PACKET = st.binary(max_size=60) | st.binary(min_size=15, max_size=40).map(lambda rest: b"\x80" + rest)
RUN = st.tuples(st.integers(0, 3), PACKET, st.sampled_from([1, 1, 2, 9]))  # fragments of a picture are of one length


@settings(max_examples=150)
@given(st.lists(RUN, max_size=20), chunks, st.integers(0, 255))
def test_however_bytes_trickle_in_the_same_packets_are_cut_out(
    runs: list[tuple[int, bytes, int]], cuts: list[int], odd: int
) -> None:
    """RFC 2326 clause 10.12, with an answer in the middle."""
    frames = [(c, p) for c, p, repeats in runs for _ in range(repeats)]
    message = b"RTSP/1.0 200 OK\r\nCSeq: 9\r\nContent-Length: 3\r\n\r\nabc"
    wire = b"".join(b"$" + bytes([c]) + len(p).to_bytes(2, "big") + p for c, p in frames)
    half = sum(4 + len(p) for _, p in frames[: len(frames) // 2])
    wire = wire[:half] + b"\r\n" * 3000 + message + wire[half:]  # empty lines before a message are none
    ours, theirs = socket.socketpair()
    with ours, theirs:
        ours.setblocking(False)
        stream = Connection(ours)
        stream.channel, stream.odd_first = 0, bytes(b == odd for b in range(256))
        for at in [*cuts, len(wire)]:
            theirs.sendall(wire[:at])
            wire = wire[at:]
            stream.read(5.0)
    own = [p for c, p in frames if c == 0]
    taken = stream.take()
    heads = [bytes(taken.records[i : i + 20]) for i in range(0, len(taken.records), 20)]
    assert heads == [(b"$\0" + len(p).to_bytes(2, "big") + p)[:20].ljust(20, b"\0") for p in own]
    assert dict(taken.odd) == {i: p for i, p in enumerate(own) if len(p) < 16 or p[0] != 0x80 or p[12] == odd}
    control = [(p, sum(c == 0 for c, _ in frames[:at])) for at, (c, p) in enumerate(frames) if c == 1]
    assert stream.messages == [message] and stream.control == control and len(taken) == len(own)


def test_what_waits_is_dated_when_it_was_first_seen_and_read_when_it_is_worth_it() -> None:
    """Three packets, of which one and a half waited at 1.1 s and two at 1.14 s; the third came before the reading."""
    packet = struct.pack("!BBHII", 0x80, 96, 1, 0, 7) + bytes([65]) * 24
    framed = b"$\0" + len(packet).to_bytes(2, "big") + packet
    ours, theirs = socket.socketpair()
    with ours, theirs:
        ours.setblocking(False)
        stream = Connection(ours)
        stream.channel = 0
        assert stream.is_ripe(0.9)  # somebody waits for an answer
        stream.patient = True
        stream.read(0.9)
        for sent, at in ((framed + framed[:20], 1.1), (framed[20:], 1.14)):
            theirs.sendall(sent)
            assert not stream.is_ripe(at)
        theirs.sendall(framed)
        assert stream.is_ripe(1.25)
        stream.read(1.25)
        assert list(stream.take().arrivals) == [1.1, 1.14, 1.25]
        theirs.sendall(bytes(ENOUGH_BYTES))
        assert stream.is_ripe(1.26)


@pytest.mark.skipif(sys.platform != "linux", reason="other systems have no such option")
def test_a_key_frame_of_the_largest_cameras_fits_while_nobody_reads() -> None:
    """Of 800 kB, after half a second of a stream; what does not fit would be lost in the camera. Its own room is small."""
    with socket.create_server((HOST, 0)) as server, socket.create_connection(server.getsockname()) as ours:
        camera, _ = server.accept()
        with camera:
            camera.setsockopt(socket.SOL_SOCKET, socket.SO_SNDBUF, 16384)
            ours.setblocking(False)
            stream = Connection(ours)
            for _ in range(200):
                camera.sendall(bytes(1400))
                stream.read(1.0)
            camera.settimeout(10.0)  # what does not fit never goes: nobody reads
            camera.sendall(bytes(800_000))


@given(st.sampled_from(["H264", "H265", "JPEG"]), st.lists(st.binary(min_size=4, max_size=4), min_size=1, max_size=9))
def test_records_and_payloads_begin_a_key_picture_alike(codec: str, payloads: list[bytes]) -> None:
    raw = b"".join(b"$\0\0\x10\x80" + bytes(11) + payload for payload in payloads)
    rows = [row for row, payload in enumerate(payloads) if may_begin(codec, payload)]
    assert first_that_begins(codec, raw) == (rows[0] if rows else -1)


@pytest.mark.skipif(BATCH is None, reason="this system takes one datagram a call")
def test_what_must_be_looked_at_whole_is_whole_however_long() -> None:
    """Between plain packets one of an access unit delimiter (2 bytes of payload), and parameter sets longer than the room."""
    rtp, rtcp, camera = (socket.socket(socket.AF_INET, socket.SOCK_DGRAM) for _ in range(3))
    with rtp, rtcp, camera:
        for sock in (rtp, rtcp, camera):
            sock.bind((HOST, 0))
            sock.setblocking(False)
        stream = Datagrams(rtp, rtcp, BATCH)
        stream.source, stream.odd_first = camera.getsockname(), bytes(b == 24 for b in range(256))
        sizes = [(65, 1200), (9, 2), (24, 900), (65, 1200)]
        for turn in range(2):
            packets = [
                struct.pack("!BBHII", 0x80, 96, n, turn, 7) + bytes([kind]) * s for n, (kind, s) in enumerate(sizes)
            ]
            for packet in packets:
                camera.sendto(packet, rtp.getsockname())
            stream.read(time.monotonic())
            taken = stream.take()
            heads = b"".join((b"$\0" + len(p).to_bytes(2, "big") + p)[:20].ljust(20, b"\0") for p in packets)
            assert bytes(taken.records) == heads and len(taken) == 4
            assert [row for row, _ in taken.odd] == [1, 2] and [len(p) for _, p in taken.odd] == [
                14,
                912 if turn else 256,
            ]
        assert [p for _, p in taken.odd] == packets[1:3]  # the first time, its end was zeros


@pytest.mark.parametrize("batch", [None, BATCH])
def test_datagrams_are_taken_alike_one_by_one_and_many_at_a_time(batch: Any) -> None:
    sockets = [socket.socket(socket.AF_INET, socket.SOCK_DGRAM) for _ in range(4)]
    rtp, rtcp, camera, stranger = sockets
    try:
        for sock in sockets:
            sock.bind((HOST, 0))
            sock.setblocking(False)
        rtp.setsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF, 1 << 20)
        stream = Datagrams(rtp, rtcp, batch)
        stream.source = camera.getsockname()
        stream.odd_first = bytes(b & 31 == 24 for b in range(256))
        packets = [
            struct.pack("!BBHII", 0x80, 96, n, n, 7) + bytes([24 if n % 30 == 7 else 65]) * (n * 9) for n in range(75)
        ]
        for number, packet in enumerate(packets):
            camera.sendto(packet, rtp.getsockname())
            if number % 40 == 3:
                stranger.sendto(packet, rtp.getsockname())
        rtcp_packet = b"\x81\xcb\x00\x01\x00\x00\x00\x07"
        camera.sendto(rtcp_packet, rtcp.getsockname())
        now = time.monotonic()
        stream.read(now)
        taken = stream.take()
        assert bytes(taken.records) == b"".join(
            (b"$\0" + len(p).to_bytes(2, "big") + p)[:20].ljust(20, b"\0") for p in packets
        )
        assert [r for r, _ in taken.odd] == [0, *(n for n in range(75) if n % 30 == 7)] and taken.odd[-1][1] == packets[
            67
        ]
        assert sum(stream.strangers.values()) == 2
        assert all(now - 5 < at <= now + 0.01 for at in taken.arrivals) and stream.dropped() == 0
    finally:
        for sock in sockets:
            sock.close()


def test_what_this_machine_drops_is_said_and_no_camera_is_judged_by_it() -> None:
    rtp, rtcp, camera = (socket.socket(socket.AF_INET, socket.SOCK_DGRAM) for _ in range(3))
    with rtp, rtcp, camera:
        for sock in (rtp, rtcp, camera):
            sock.bind((HOST, 0))
        rtp.setsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF, 4608)
        stream = Datagrams(rtp, rtcp)
        for _ in range(100):
            camera.sendto(bytes(1400), rtp.getsockname())
        assert 80 < stream.dropped() <= 100
    lossy = replace(_measurement(), packets_lost=100, packets_dropped_here=100)
    assert not list(judge_delivery("x", lossy, Policy(), decoded=True))
    late = lateness_finding([lossy])
    assert late is not None and "100 datagrams of 1 stream" in late.measured


def test_a_long_measurement_is_written_down_on_the_way(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """The figures so far, each minute (here each half second): a run that is interrupted keeps them."""
    monkeypatch.setattr(playing, "PROGRESS_S", 0.5)
    plan = read_plan(SiteFolder(make_site(tmp_path)))
    with Logbook(tmp_path / "logbook.sqlite") as log, log.running("verify", "laptop") as run:

        async def measured() -> StreamResult:
            keyring = Keyring(plan, None, log, Patience(1800))
            async with StreamServer(moving()).running() as url:
                target = Target(plan.cameras[0], "", Visit(), {"main": StreamAddress.parse(url)})
                return await measure_planned(Round(plan, (), keyring, Request(2.2), {}, run), target, "main")

        end = asyncio.run(measured())
        kept = latest(log, "stream")
    (content,) = [o.content for o in kept.values()]
    assert end.measured is not None and 20 < content["packets_received"] < end.measured.packets_received
