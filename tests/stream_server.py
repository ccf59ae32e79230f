"""An RTSP server written from RFC 2326 and RFC 3550, apart from the stand-in, that does what real ones do wrong."""

from __future__ import annotations

import asyncio
import contextlib
import hashlib
import re
import socket
import struct
from collections.abc import AsyncIterator, Sequence
from contextlib import asynccontextmanager
from dataclasses import dataclass, field

HOST = "127.0.0.1"
SDP = """v=0\r
o=- 1 1 IN IP4 127.0.0.1\r
s=x\r
t=0 0\r
{c}m=video 0 {profile} 96\r
a=rtpmap:96 {codec}/90000\r
{more}a=control:v\r
"""
Pictures = Sequence[Sequence[bytes]]  # RTP payloads of each; the marker bit is on the last


@dataclass
class StreamServer:
    """status: what a method is answered with instead of 200; delay_s: how long its answer takes; shuts, mute: after which request
    it closes, or says no more
    """

    pictures: Pictures
    fps: float = 25
    codec: str = "H264"
    profile: str = "RTP/AVP"
    more: str = ""
    sdp: bytes = b""
    status: dict[str, str] = field(default_factory=dict)
    headers: dict[str, str] = field(default_factory=dict)
    delay_s: dict[str, float] = field(default_factory=dict)
    shuts: str = ""
    mute: str = ""
    restarts: bool = False  # it closes so once, and takes the next connection
    early: bool = False  # packets before the answer to PLAY
    password: str = ""  # of the user "viewer"; each nonce is good for one request
    sessions: int = 99
    refresh_s: float = 0  # a session that is not refreshed for so long ends; GET_PARAMETER does not refresh it
    group: str = ""
    other_port: bool = False  # packets come from another port than announced
    stranger: bool = False  # and somebody else sends to the same port
    payload_type: int = 96
    extension: bytes = b""  # of each header, in whole words (RFC 3550 clause 5.3.1)
    asked: list[str] = field(default_factory=list)
    most_open: int = 0
    open: int = 0
    _nonce: int = 0

    @asynccontextmanager
    async def running(self) -> AsyncIterator[str]:
        """Gives the address of its stream."""
        server = await asyncio.start_server(self._guarded, HOST, 0)
        try:
            yield f"rtsp://{HOST}:{server.sockets[0].getsockname()[1]}/live"
        finally:
            server.close()

    async def _guarded(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        with contextlib.suppress(ConnectionError, asyncio.IncompleteReadError):
            await _Session(self, writer).run(reader)
        writer.close()


class _Session:
    def __init__(self, server: StreamServer, writer: asyncio.StreamWriter) -> None:
        self.server, self.writer = server, writer
        self.sender: asyncio.Task[None] | None = None
        self.ports: tuple[int, int] | None = None
        self.held = False
        self.refreshed_s = 0.0
        self.transport = ""

    async def run(self, reader: asyncio.StreamReader) -> None:
        try:
            while True:
                text = b""
                while not text.endswith(b"\r\n\r\n"):
                    begin = await reader.readexactly(1)
                    if begin == b"$" and not text:
                        await reader.readexactly(struct.unpack("!xH", await reader.readexactly(3))[0])
                    else:
                        text += begin
                if not await self.answer(text.decode()):
                    return
        finally:
            self.leave()

    def leave(self) -> None:
        if self.sender is not None:
            self.sender.cancel()
        if self.held:
            self.server.open -= 1
            self.held = False

    async def answer(self, text: str) -> bool:
        server, loop = self.server, asyncio.get_running_loop()
        method, _ = text.split(" ")[:2]
        cseq = re.search(r"CSeq: (\d+)", text)
        assert cseq is not None
        server.asked.append(method)
        if server.mute == method:
            await asyncio.sleep(30)
        if server.shuts == method:
            server.shuts = "" if server.restarts else method
            return False
        if method == "PLAY" and server.early:
            self.send(0)
        await asyncio.sleep(server.delay_s.get(method, 0))
        status, extra, body = server.status.get(method, "200 OK"), server.headers.get(method, ""), ""
        if server.password and not self._proved(text, method):
            server._nonce += 1
            status = "401 Unauthorized"
            extra += f'WWW-Authenticate: Digest realm="x", nonce="n{server._nonce}"\r\n'
        elif method == "OPTIONS":
            extra += "Public: DESCRIBE, SETUP, PLAY, TEARDOWN, GET_PARAMETER\r\n"
            self.refreshed_s = loop.time()
        elif method == "DESCRIBE" and status.startswith("200"):
            group = f"c=IN IP4 {server.group}/1\r\n" if server.group else ""
            body = server.sdp.decode() or SDP.format(
                c=group, codec=server.codec, profile=server.profile, more=server.more
            )
            extra += f"Content-Length: {len(body)}\r\n"
        elif method == "SETUP" and status.startswith("200"):
            if not re.search(rf"Transport: {server.profile}[/;]", text):
                status = "461 Unsupported Transport"
            elif server.open >= server.sessions:
                status = "453 Not Enough Bandwidth"
            else:
                server.open, self.held = server.open + 1, True
                server.most_open = max(server.most_open, server.open)
                extra += f"Session: 1;timeout={server.refresh_s or 60:g}\r\nTransport: {self._set_up(text)}\r\n"
        elif method == "GET_PARAMETER":
            status = "501 Not Implemented" if server.refresh_s else status
        self.writer.write(f"RTSP/1.0 {status}\r\nCSeq: {cseq[1]}\r\n{extra}\r\n{body}".encode())
        if method == "PLAY" and status.startswith("200"):
            self.refreshed_s = loop.time()
            self.sender = asyncio.create_task(self.play())
        if method == "TEARDOWN":
            self.leave()
        return True

    def _proved(self, text: str, method: str) -> bool:
        """RFC 2617 clause 3.2.2.1, without qop; the newest nonce only, and once."""
        fields = dict(re.findall(r'(\w+)="([^"]*)"', text.partition("Authorization: ")[2].partition("\r\n")[0]))
        if fields.get("nonce") != f"n{self.server._nonce}":
            return False

        def h(content: str) -> str:
            return hashlib.md5(content.encode()).hexdigest()

        wanted = h(f"{h(f'viewer:x:{self.server.password}')}:{fields['nonce']}:{h(f'{method}:' + fields['uri'])}")
        good = fields.get("response") == wanted
        self.server._nonce += good
        return good

    def _set_up(self, text: str) -> str:
        server = self.server
        asked = re.search(r"Transport: (.*?)\r\n", text)
        assert asked is not None
        self.transport = asked[1]
        if "interleaved" in self.transport:
            return self.transport
        self.rtp = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
        self.rtp.bind((HOST, 0))
        self.alien = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
        self.alien.bind((HOST, 0))
        own = self.rtp.getsockname()[1]
        if "multicast" in self.transport:
            self.to = (server.group, 47_000)
            for sock in (self.rtp, self.alien):
                sock.setsockopt(socket.IPPROTO_IP, socket.IP_MULTICAST_IF, socket.inet_aton(HOST))
            return f"RTP/AVP;multicast;destination={server.group};port=47000-47001;ttl=1"
        port = int(re.search(r"client_port=(\d+)", self.transport)[1])  # type: ignore[index]
        self.to = (HOST, port)
        announced = own ^ 1 if server.other_port else own
        return f"RTP/AVP;unicast;client_port={port}-{port + 1};server_port={announced}-{announced + 1}"

    sequence = 0

    def send(self, index: int) -> None:
        server = self.server
        payloads = server.pictures[index % len(server.pictures)]
        for part, payload in enumerate(payloads):
            kind = server.payload_type | (0x80 if part == len(payloads) - 1 else 0)
            stamp = int(index * 90_000 / server.fps) & 0xFFFFFFFF
            first, extension = (0x90, server.extension) if server.extension else (0x80, b"")
            packet = struct.pack("!BBHII", first, kind, self.sequence & 0xFFFF, stamp, 7) + extension + payload
            self.sequence += 1
            if "interleaved" in self.transport:
                self.writer.write(b"$\0" + struct.pack("!H", len(packet)) + packet)
            else:
                self.rtp.sendto(packet, self.to)
                if server.stranger:
                    self.alien.sendto(packet, self.to)

    async def play(self) -> None:
        loop, index = asyncio.get_running_loop(), int(self.server.early)
        begin = loop.time()
        while True:
            if self.server.refresh_s and loop.time() - self.refreshed_s > self.server.refresh_s:
                self.writer.close()
                return
            self.send(index)
            index += 1
            await asyncio.sleep(max(0.0, begin + index / self.server.fps - loop.time()))
