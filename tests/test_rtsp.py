"""RTSP messages and the player's session, with plain bytes on both sides."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from zentrale.errors import InputError, LocalProtocolError, RemoteProtocolError
from zentrale.protocols.http_auth import Answering, Credentials, DigestVerifier
from zentrale.protocols.rtsp import (
    MAX_BODY_BYTES,
    MAX_HEADER_BYTES,
    Event,
    Headers,
    Interleaved,
    Reader,
    Request,
    Response,
)
from zentrale.protocols.rtsp_client import Challenged, Described, MediaPacket, PlayerSession, Playing, Refused, SetUp
from zentrale.protocols.sdp import Media, SessionDescription
from zentrale.protocols.stream_address import StreamAddress

ADDRESS = StreamAddress.parse("rtsp://10.0.0.5:8554/live/main")
SDP = SessionDescription(
    "x", "*", [Media("audio", 0, 0, "PCMU", 8000, control="a"), Media("video", 0, 96, "H264", control="v")]
)

tokens = st.text("abcdefgh-XYZ", min_size=1, max_size=12)
values = st.text(st.characters(min_codepoint=32, max_codepoint=126), max_size=30).map(str.strip)
messages = st.one_of(
    st.builds(
        Request,
        st.sampled_from(["OPTIONS", "PLAY", "GET_PARAMETER"]),
        st.just("rtsp://h/p"),
        st.builds(Headers, st.lists(st.tuples(tokens, values), max_size=5)),
        st.binary(max_size=200),
    ),
    st.builds(
        Response,
        st.integers(100, 599),
        st.builds(Headers, st.lists(st.tuples(tokens, values), max_size=5)),
        st.binary(max_size=200),
        st.just("Reason"),
    ),
    st.builds(Interleaved, st.integers(0, 255), st.binary(max_size=1500)),
)


@given(st.lists(messages, max_size=6), st.integers(1, 64))
def test_messages_come_back_however_the_bytes_are_cut(sent: list[Event], step: int) -> None:
    stream = b"".join(m.serialize() for m in sent)
    reader, received = Reader(), []
    for at in range(0, len(stream), step):
        received += reader.receive(stream[at : at + step])
    assert len(received) == len(sent)
    for was, now in zip(sent, received, strict=True):
        if not isinstance(was, Interleaved) and was.body:
            was.headers.fields.append(("Content-Length", str(len(was.body))))
        assert now == was


@pytest.mark.parametrize(
    "data",
    [
        b"HTTP/1.1 200 OK\r\n\r\n",
        b"\x16\x03\x01\x02\x00\x01",
        b"RTSP/1.0 200 OK\r\nNo colon here\r\n\r\n",
        b"RTSP/1.0 200 OK\r\nContent-Length: -5\r\n\r\n",
        b"RTSP/1.0 200 OK\r\nContent-Length: %d\r\n\r\n" % (MAX_BODY_BYTES + 1),
        b"RTSP/1.0 200 OK\r\n" + b"X: y\r\n" * 101 + b"\r\n",
        b"RTSP/1.0 200 OK\r\nX: " + b"y" * MAX_HEADER_BYTES,
    ],
)
def test_what_breaks_the_protocol_is_refused(data: bytes) -> None:
    with pytest.raises(RemoteProtocolError):
        Reader().receive(data)


def test_a_stream_address_gives_up_its_password() -> None:
    address = StreamAddress.parse("rtsp://a%40b:p%3Aw@[::1]:8554/x?y=1")
    assert (address.url, address.host, address.port) == ("rtsp://[::1]:8554/x?y=1", "::1", 8554)
    assert (address.user, address.password) == ("a@b", "p:w")
    assert "p:w" not in repr(address)
    for bad in ("http://x/y", "rtsp://", "10.0.0.1", "rtsp://h:99999/", "rtsp://user:geheim@h:x/", "rtsp://a b/"):
        with pytest.raises(InputError) as error:
            StreamAddress.parse(bad)
        assert "geheim" not in str(error.value)


class Server:
    """A scripted server: digest authentication, one video track, an answer for each request."""

    def __init__(self, *, password: str = "right", transports: tuple[str, ...] = ("TCP",), base: str = "") -> None:
        self.reader = Reader()
        self.verifier = DigestVerifier("cam", "nonce1", ("SHA-256", "MD5"))
        self.accounts = [Credentials("admin", password)]
        self.transports = transports
        self.base = base
        self.seen: list[Request] = []

    def answer(self, data: bytes) -> bytes:
        out = b""
        for request in self.reader.receive(data):
            assert isinstance(request, Request)
            self.seen.append(request)
            response = self.respond(request)
            response.headers.fields.append(("CSeq", request.headers.get("CSeq")))
            out += response.serialize()
        return out

    def respond(self, request: Request) -> Response:
        if request.method == "OPTIONS":
            return Response(200, Headers([("Public", "DESCRIBE, GET_PARAMETER")]))
        proof = request.headers.get("Authorization")
        if not self.verifier.user_of(proof, request.method, self.accounts):
            return Response(401, Headers([("WWW-Authenticate", c) for c in self.verifier.challenges()]))
        if request.method == "DESCRIBE":
            return Response(200, Headers([("Content-Base", self.base)] if self.base else []), SDP.serialize("10.0.0.5"))
        if request.method == "SETUP":
            wanted = "TCP" if "TCP" in request.headers.get("Transport") else "UDP"
            if wanted not in self.transports:
                return Response(461)
            told = "RTP/AVP/TCP;unicast;interleaved=4-5" if wanted == "TCP" else "RTP/AVP;server_port=7000-7001"
            return Response(200, Headers([("Session", "abc;timeout=30"), ("Transport", told)]))
        assert request.headers.get("Session") == "abc"
        return Response(200)


RIGHT = Credentials("admin", "right")


def converse(session: PlayerSession, server: Server, credentials: Credentials | None = RIGHT) -> list[object]:
    """What becomes known when `credentials` are given wherever the server asks for some."""
    events: list[object] = []
    session.start()
    while data := session.data_to_send():
        for event in session.receive(server.answer(data)):
            if isinstance(event, Challenged) and credentials is not None:
                session.authenticate(Answering(credentials, "cnonce"), event.offers.challenges[0])
            else:
                events.append(event)
    return events


def test_a_player_authenticates_and_plays() -> None:
    server = Server()
    session = PlayerSession(ADDRESS)
    events = converse(session, server)
    assert [type(e) for e in events] == [Described, SetUp, Playing]
    methods = [r.method for r in server.seen]
    assert methods == ["OPTIONS", "DESCRIBE", "DESCRIBE", "SETUP", "PLAY"]
    assert "SHA-256" in server.seen[2].headers.get("Authorization"), "the strongest offer is answered"
    assert server.seen[3].uri == "rtsp://10.0.0.5:8554/live/main/v", "the video track, not the audio one"
    assert session.session_timeout_s == 30
    rtp, rtcp, other = (session.receive(Interleaved(c, b"data").serialize()) for c in (4, 5, 9))
    assert (rtp, rtcp, other) == ([MediaPacket(b"data", False)], [MediaPacket(b"data", True)], [])
    session.keep_alive()
    assert b"GET_PARAMETER" in session.data_to_send()
    session.teardown()
    assert b"TEARDOWN" in session.data_to_send()


def test_content_base_and_absolute_controls_are_followed() -> None:
    server = Server(base="rtsp://10.0.0.5:8554/other/")
    converse(PlayerSession(ADDRESS), server)
    assert server.seen[3].uri == "rtsp://10.0.0.5:8554/other/v"
    assert server.seen[4].uri == "rtsp://10.0.0.5:8554/other/"


@pytest.mark.parametrize("credentials", [None, Credentials("admin", "wrong"), Credentials("root", "right")])
def test_wrong_credentials_are_a_refusal_and_asked_once(credentials: Credentials | None) -> None:
    server = Server()
    (event,) = converse(PlayerSession(ADDRESS), server, credentials)
    refused = event.refused if isinstance(event, Challenged) else event
    assert isinstance(refused, Refused) and (refused.method, refused.status) == ("DESCRIBE", 401)
    assert len(server.seen) <= 3, "no hammering: accounts get locked"


def test_udp_is_set_up_and_tells_where_reports_go() -> None:
    session = PlayerSession(ADDRESS, (6000, 6001))
    server = Server(transports=("UDP",))
    events = converse(session, server)
    assert events[-2:] == [SetUp(server_ports=(7000, 7001)), Playing()]
    assert "client_port=6000-6001" in server.seen[3].headers.get("Transport")
    (_, refused) = converse(PlayerSession(ADDRESS), Server(transports=("UDP",)))
    assert isinstance(refused, Refused) and refused.status == 461


def test_a_server_that_answers_out_of_order_is_dropped() -> None:
    session = PlayerSession(ADDRESS)
    session.start()
    with pytest.raises(RemoteProtocolError):
        session.receive(Response(200, Headers([("CSeq", "99")])).serialize())
    with pytest.raises(LocalProtocolError):
        session.keep_alive()


def test_a_description_survives_the_wire() -> None:
    media = Media("video", 0, 96, "H264", 90_000, {"packetization-mode": "1"}, "track1", 12.5)
    parsed = SessionDescription.parse(SessionDescription("Gate", "*", [media]).serialize("10.0.0.1"))
    assert parsed.media == [media] and parsed.name == "Gate"
    hevc = SessionDescription.parse(b"v=0\nm=video 0 RTP/AVP 98\na=rtpmap:98 hevc/90000\n").media[0]
    assert hevc.codec == "H265"
    assert SessionDescription.parse(b"m=video 0 RTP/AVP 26\r\n").media[0].codec == "JPEG"
