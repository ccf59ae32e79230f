"""The clients against servers that misbehave, over real sockets: each is reported, none hangs or fills memory."""

from __future__ import annotations

import asyncio
import ipaddress
import resource
import struct
import time
from collections.abc import Awaitable, Callable
from pathlib import Path

import pytest

from conftest import certificate
from zentrale.errors import (
    CertificateError,
    DeviceError,
    InputError,
    RefusedError,
    RemoteProtocolError,
    UnreachableError,
)
from zentrale.field import playing, rtsp_player
from zentrale.field.adapters import Adapter, choose, sort_of
from zentrale.field.device import Device
from zentrale.field.probe import probe
from zentrale.field.rtsp_player import Access
from zentrale.field.rules import Rules
from zentrale.field.sweep import hosts, sweep
from zentrale.field.visit import Visit
from zentrale.protocols.http_auth import Credentials
from zentrale.protocols.stream_address import StreamAddress
from zentrale.protocols.xml import MAX_BYTES

Serve = Callable[[asyncio.StreamReader, asyncio.StreamWriter], Awaitable[None]]
HOST = "127.0.0.1"


async def with_server(serve: Serve, use: Callable[[int], Awaitable[None]]) -> None:
    async def guarded(reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        try:
            await serve(reader, writer)
        except (ConnectionError, asyncio.IncompleteReadError):
            pass  # the client had enough, which is what these tests are for
        finally:
            writer.close()

    server = await asyncio.start_server(guarded, HOST, 0)
    try:
        await use(server.sockets[0].getsockname()[1])
    finally:
        server.close()


def raw(answer: bytes, *, endless: bytes = b"") -> Serve:
    """A server that reads one request and answers with these bytes, then with `endless` for ever."""

    async def serve(reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        await reader.read(4096)
        writer.write(answer)
        await writer.drain()
        while endless:
            writer.write(endless)
            await writer.drain()

    return serve


HTTP = b"HTTP/1.1 200 OK\r\nContent-Type: application/soap+xml\r\n"
BAD_ONVIF = {
    "garbage": raw(b"\x00\x01\x02garbage\xff\xfe\r\n\r\n"),
    "closes at once": raw(b""),
    "web page": raw(HTTP + b"Content-Length: 13\r\n\r\n<html></html>"),
    "too short": raw(HTTP + b"Content-Length: 500\r\n\r\n<x/>"),
    "no number": raw(HTTP + b"Content-Length: many\r\n\r\n<x/>"),
    "compressed": raw(HTTP + b"Content-Encoding: gzip\r\nContent-Length: 2\r\n\r\nxx"),
    "entity bomb": raw(HTTP + b"Content-Length: 51\r\n\r\n" + b'<!DOCTYPE a [<!ENTITY b "cccccccc">]><a>&b;&b;</a>\n'),
    "endless": raw(HTTP + b"Transfer-Encoding: chunked\r\n\r\n", endless=b"10000\r\n" + b"x" * 65536 + b"\r\n"),
    "endless headers": raw(b"HTTP/1.1 200 OK\r\n", endless=b"X-Y: " + b"z" * 1000 + b"\r\n"),
    "redirect": raw(b"HTTP/1.1 302 Found\r\nLocation: http://127.0.0.1:1/\r\nContent-Length: 0\r\n\r\n"),
}


@pytest.mark.parametrize("name", BAD_ONVIF)
def test_a_bad_onvif_server_is_an_error_of_that_device(name: str) -> None:
    before_kb = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss

    async def use(port: int) -> None:
        async with Device(f"http://{HOST}:{port}/onvif/device_service", timeout_s=2.0) as client:
            client.use(Credentials("u", "secret"))
            with pytest.raises(DeviceError) as error:
                await client.system_time()
            assert "secret" not in str(error.value)

    asyncio.run(with_server(BAD_ONVIF[name], use))
    grown = (resource.getrusage(resource.RUSAGE_SELF).ru_maxrss - before_kb) * 1024
    assert grown < 20 * MAX_BYTES, f"{grown} bytes"


def rtsp(*answers: bytes, endless: bytes = b"") -> Serve:
    """A server that answers each request with the next of `answers` ({} stands for its CSeq)."""

    async def serve(reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        for answer in answers:
            request = await reader.readuntil(b"\r\n\r\n")
            cseq = next(line[6:] for line in request.split(b"\r\n") if line.startswith(b"CSeq: "))
            writer.write(answer.replace(b"{}", cseq))
            await writer.drain()
        while endless:
            writer.write(endless)
            await writer.drain()
        await reader.read(1000)

    return serve


OK = b"RTSP/1.0 200 OK\r\nCSeq: {}\r\n"
SDP = b"v=0\r\nm=video 0 RTP/AVP 96\r\na=rtpmap:96 H264/90000\r\na=control:v\r\n"
DESCRIBED = OK + b"Content-Length: %d\r\n\r\n" % len(SDP) + SDP
SETUP = OK + b"Session: 1\r\nTransport: RTP/AVP/TCP;interleaved=0-1\r\n\r\n"
BAD_RTSP = {
    "garbage": (rtsp(b"\x00\xff\x01garbage"), RemoteProtocolError),
    "http": (rtsp(b"HTTP/1.1 400 Bad Request\r\n\r\n"), RemoteProtocolError),
    "closes": (rtsp(OK + b"\r\n", b""), DeviceError),
    "endless headers": (rtsp(OK, endless=b"X: " + b"y" * 1000 + b"\r\n"), RemoteProtocolError),
    "huge body": (rtsp(OK + b"Content-Length: 999999999\r\n\r\n"), RemoteProtocolError),
    "no media": (rtsp(OK + b"\r\n", OK + b"Content-Length: 5\r\n\r\nv=0\r\n"), RemoteProtocolError),
    "audio only": (
        rtsp(OK + b"\r\n", OK + b"Content-Length: 23\r\n\r\nm=audio 0 RTP/AVP 0\r\n\r\n"),
        RemoteProtocolError,
    ),
    "no session": (rtsp(OK + b"\r\n", DESCRIBED, OK + b"\r\n"), RemoteProtocolError),
    "not found": (rtsp(OK + b"\r\n", b"RTSP/1.0 404 Not Found\r\nCSeq: {}\r\n\r\n"), RemoteProtocolError),
    "forbidden": (rtsp(OK + b"\r\n", b"RTSP/1.0 403 Forbidden\r\nCSeq: {}\r\n\r\n"), RefusedError),
    "wrong order": (rtsp(b"RTSP/1.0 200 OK\r\nCSeq: 77\r\n\r\n"), RemoteProtocolError),
}


def address(port: int) -> StreamAddress:
    return StreamAddress.parse(f"rtsp://{HOST}:{port}/x")


@pytest.mark.parametrize("name", BAD_RTSP)
def test_a_bad_rtsp_server_is_an_error_of_that_stream(name: str) -> None:
    serve, kind = BAD_RTSP[name]

    async def use(port: int) -> None:
        with pytest.raises(kind):
            await rtsp_player.measure(address(port), Visit(Credentials("u", "p"), answer_s=2), 1.0)

    asyncio.run(with_server(serve, use))


def test_nonsense_packets_are_counted_and_the_measurement_goes_on() -> None:
    good = struct.pack("!BBHII", 0x80, 0xE0, 1, 0, 7) + b"\x65data"
    junk = b"".join(b"$\x00" + struct.pack("!H", len(p)) + p for p in (good, b"", b"\xff" * 50, b"$" * 9))
    serve = rtsp(OK + b"\r\n", DESCRIBED, SETUP, OK + b"\r\n" + junk)

    async def use(port: int) -> None:
        found = await rtsp_player.measure(address(port), Visit(), 1.0)
        assert (found.packets_received, found.packets_malformed, found.frames) == (1, 3, 1)

    asyncio.run(with_server(serve, use))


def test_silence_ends_in_time(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(playing, "FIRST_PACKET_S", 0.5)
    serve = rtsp(OK + b"\r\n", DESCRIBED, SETUP, OK + b"\r\n")

    async def use(port: int) -> None:
        started = time.monotonic()
        with pytest.raises(UnreachableError, match="first packet"):
            await rtsp_player.measure(address(port), Visit(answer_s=1), 5.0)
        assert time.monotonic() - started < 4
        assert (await rtsp_player.try_access(address(1), Visit())).access is Access.UNCLEAR

    asyncio.run(with_server(serve, use))


def test_a_server_without_tcp_is_asked_again_for_udp() -> None:
    """461 to the first SETUP; the second, over a new connection, offers UDP and gets one packet there."""
    setups: list[bytes] = []

    async def serve(reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        while request := await reader.readuntil(b"\r\n\r\n"):
            cseq = next(line[6:] for line in request.split(b"\r\n") if line.startswith(b"CSeq: "))
            ok, method = OK.replace(b"{}", cseq), request.split(b" ")[0]
            answer = ok + b"\r\n"
            if method == b"DESCRIBE":
                answer = DESCRIBED.replace(b"{}", cseq)
            elif method == b"SETUP":
                setups.append(request)
                udp = b"client_port=" in request
                answer = ok + b"Session: 1\r\nTransport: RTP/AVP;unicast\r\n\r\n"
                answer = answer if udp else b"RTSP/1.0 461 Unsupported Transport\r\nCSeq: %s\r\n\r\n" % cseq
            writer.write(answer)
            if method == b"PLAY":
                port = int(setups[-1].split(b"client_port=")[1].split(b"-")[0])
                transport, _ = await asyncio.get_running_loop().create_datagram_endpoint(
                    asyncio.DatagramProtocol, remote_addr=(HOST, port)
                )
                transport.sendto(struct.pack("!BBHII", 0x80, 0xE0, 1, 0, 7) + b"\x41data")
                transport.close()

    async def use(port: int) -> None:
        found = await rtsp_player.measure(address(port), Visit(), 0.5)
        assert (found.transport, found.packets_received) == ("udp", 1)

    asyncio.run(with_server(serve, use))
    assert len(setups) == 2


def test_a_server_that_names_other_hosts_is_asked_at_its_own() -> None:
    """It sends us on, and names another host in Content-Base and in its controls: all requests come to where we were."""
    asked: list[bytes] = []

    async def serve(reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        port = writer.get_extra_info("sockname")[1]
        while request := await reader.readuntil(b"\r\n\r\n"):
            asked.append(request.split(b" ")[0] + b" " + request.split(b" ")[1])
            cseq = next(line[6:] for line in request.split(b"\r\n") if line.startswith(b"CSeq: "))
            ok = OK.replace(b"{}", cseq)
            answer = ok + b"Session: 1\r\nTransport: RTP/AVP/TCP;interleaved=0-1\r\n\r\n"
            if request.startswith(b"DESCRIBE") and b"/x " in request:
                answer = b"RTSP/1.0 302 Found\r\nCSeq: %s\r\nLocation: rtsp://10.9.9.9:%d/y\r\n\r\n" % (cseq, port)
            elif request.startswith(b"DESCRIBE"):
                sdp = SDP.replace(b"control:v", b"control:rtsp://10.9.9.8/y/v")
                base = b"Content-Base: rtsp://10.9.9.9/y/\r\nContent-Length: %d\r\n\r\n" % len(sdp)
                answer = ok + base + sdp
            writer.write(answer)
            if request.startswith(b"PLAY"):
                packet = struct.pack("!BBHII", 0x80, 0xE0, 1, 0, 7) + b"\x65data"
                writer.write(b"$\x00" + struct.pack("!H", len(packet)) + packet)

    async def use(port: int) -> None:
        found = await rtsp_player.measure(address(port), Visit(), 0.3)
        assert found.packets_received == 1 and found.named_hosts == ("10.9.9.8", "10.9.9.9")
        assert not any(b"10.9.9" in line for line in asked) and b"SETUP rtsp://127.0.0.1/y/v" in asked

    asyncio.run(with_server(serve, use))


def test_a_machine_that_comes_late_calls_no_open_port_closed() -> None:
    """The program stands still for longer than a connection may take; the kernel has made it meanwhile."""

    async def serve(reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        await reader.read(1)

    async def use(port: int) -> None:
        asyncio.get_running_loop().call_later(0.001, time.sleep, 1.0)
        found = await sweep([HOST, "127.0.0.9"], [port], lambda _: None)
        assert found.open == {HOST: [port]}

    asyncio.run(with_server(serve, use))


def test_over_tls_the_certificate_is_looked_at_before_anything_is_sent(tmp_path: Path) -> None:
    seen: list[bytes] = []

    async def serve(reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        seen.append(await reader.read(1000))

    def refuse(host: str, port: int, certificate: bytes) -> None:
        raise CertificateError(f"{len(certificate)} bytes that nobody has looked at")

    async def run() -> None:
        server = await asyncio.start_server(serve, HOST, 0, ssl=certificate(tmp_path, "camera"))
        port = server.sockets[0].getsockname()[1]
        stream = StreamAddress.parse(f"rtsps://admin@{HOST}:{port}/x")
        with pytest.raises(CertificateError):
            await rtsp_player.measure(stream, Visit(Credentials("u", "secret"), Rules(check_certificate=refuse)), 0.3)
        async with Device(f"https://{HOST}:{port}/x", Rules(check_certificate=refuse)) as client:
            with pytest.raises(CertificateError):
                await client.system_time()
        server.close()
        assert not any(seen)

    asyncio.run(run())


def test_a_sweep_finds_open_ports_only() -> None:
    async def serve(reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        await reader.read(1)

    async def use(port: int) -> None:
        swept = await sweep([HOST, "127.0.0.2"], [port, 1], lambda _: None)
        assert swept.open == {HOST: [port]} and swept.refused == {HOST, "127.0.0.2"}, "who refuses is there"

    asyncio.run(with_server(serve, use))


def test_what_is_swept_is_bounded() -> None:
    assert len(hosts([ipaddress.IPv4Network("10.0.0.0/24")])) == 254, "neither the network nor the broadcast address"
    with pytest.raises(ValueError, match="4,096"):
        hosts([ipaddress.IPv4Network("10.0.0.0/8")])


def test_answers_to_other_probes_and_garbage_are_left_out() -> None:
    """Something on the group answers with rubbish and with another probe's match: neither is a device."""
    import socket

    from zentrale.protocols import ws_discovery

    class Liar(asyncio.DatagramProtocol):
        def datagram_received(self, data: bytes, addr: tuple[str, int]) -> None:
            true = ws_discovery.parse_probe(data)
            assert true is not None
            for relates_to in ("urn:uuid:another", true.message_id):
                match = ws_discovery.Match(f"urn:uuid:{relates_to}", (), (), ("http://x/",), relates_to)
                answers.sendto(ws_discovery.serialize_matches(match, "urn:uuid:1"), addr)
            answers.sendto(b"<rubbish", addr)

    answers = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)

    async def run() -> None:
        sock = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
        sock.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        sock.bind((ws_discovery.MULTICAST_ADDRESS, ws_discovery.PORT))
        group = socket.inet_aton(ws_discovery.MULTICAST_ADDRESS) + socket.inet_aton(HOST)
        sock.setsockopt(socket.IPPROTO_IP, socket.IP_ADD_MEMBERSHIP, group)
        transport, _ = await asyncio.get_running_loop().create_datagram_endpoint(Liar, sock=sock)
        lo = Adapter("lo", HOST, ipaddress.IPv4Network("127.0.0.0/8"))
        found = await probe([lo], wait_s=0.3)
        transport.close()
        assert len(found.answers) == 3, (
            "its true answer to each question counts once, though the questions are repeated"
        )

    asyncio.run(run())
    answers.close()


def test_the_adapter_is_chosen_for_a_reason() -> None:
    def adapter(name: str, network: str) -> Adapter:
        interface = ipaddress.IPv4Interface(network)
        return Adapter(name, str(interface.ip), interface.network, sort=sort_of(name, interface.network))

    wifi, lan, lo = adapter("wlan0", "192.168.1.7/24"), adapter("eth0", "10.20.0.9/16"), adapter("lo", "127.0.0.1/8")
    zone = ("cameras", ipaddress.IPv4Network("10.20.20.0/24"))
    assert choose((), [zone], [wifi, lan, lo]).adapters == (lan,)
    assert "cameras (10.20.20.0/24)" in choose((), [zone], [wifi, lan, lo]).reason
    fallback = choose((), [zone], [wifi, lo])
    assert fallback.adapters == (wifi,) and "no adapter has an address in a planned zone or range" in fallback.reason
    assert "wireless" in fallback.remarks[0] and not choose((), [zone], [wifi, lan]).remarks
    assert choose(("10.20.0.9",), [], [wifi, lan]).adapters == (lan,)
    two = choose((), [zone, ("office", wifi.network)], [wifi, lan, lo])
    assert (
        set(two.adapters) == {lan, wifi} and two.source("10.20.0.77") == "10.20.0.9" and two.source("10.9.9.9") is None
    )
    vpn = adapter("wg0", "10.9.0.2/32")
    assert "VPN" in choose((), [], [vpn]).remarks[0] and choose((), [], [vpn, wifi]).adapters == (wifi,)
    fresh = [("a default address", ipaddress.IPv4Network("192.168.1.64/32"))]
    assert choose((), [zone], [wifi, lan], fresh).adapters == (lan,), "no reason to look into a wireless network"
    second = adapter("eth1", "192.168.1.8/24")
    assert choose((), [zone], [wifi, lan, second], fresh).adapters == (lan, second)
    nothing: tuple[str, ...] = ()
    for given, have in ((("eth9",), [wifi]), (nothing, [lo])):
        with pytest.raises(InputError):
            choose(given, [], have)
