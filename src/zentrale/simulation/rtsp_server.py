"""The RTSP side of a stand-in: answers; a camera sends its loop over TCP or UDP with sender reports."""

from __future__ import annotations

import asyncio
import base64
import contextlib
import logging
import secrets
import struct
import time
from collections.abc import Awaitable, Callable

from zentrale.errors import RemoteProtocolError
from zentrale.protocols import rtcp
from zentrale.protocols.rtp import HEADER, VERSION
from zentrale.protocols.rtsp import INTERLEAVED_MARK, Headers, Reader, Request, Response, number_pair, parse_transport
from zentrale.protocols.sdp import Media, SessionDescription
from zentrale.simulation import encoding
from zentrale.simulation.camera import SimulatedCamera
from zentrale.simulation.onvif_device import OnvifDevice

log = logging.getLogger(__name__)
CLOCK_HZ = 90_000
PAYLOAD_TYPE = 96
SESSION_TIMEOUT_S = 60
REPORT_INTERVAL_S = 5.0  # RFC 3550 clause 6.2
MAX_BACKLOG_BYTES = 4 * 1024 * 1024  # a client that reads slower than this loses whole pictures
_UDP_BURST = 16  # packets sent at once; a whole key frame would overrun small receive buffers
ONE_IN, BURST, BURST_EVERY = 25, 8, 150  # packets that a fault takes away
STOPS_AFTER_S = 3.0
_PREFIX = struct.Struct("!BBH")  # of a packet on a connection (RFC 2326 clause 10.12)
_FIRST = VERSION << 6  # neither padding, extension nor other sources (RFC 3550 clause 5.1)
_METHODS = "OPTIONS, DESCRIBE, SETUP, PLAY, GET_PARAMETER, TEARDOWN"

Send = Callable[[list[bytes], bool], Awaitable[None]]  # packets, and whether they are RTCP


def losing(faults: set[str], one_in: int, *, udp: bool) -> Callable[[int], bool]:
    """Which packets of a stream, counted from 0, do not arrive."""
    if "loses-before-network" in faults:
        one_in = ONE_IN
    if "loses-in-network" in faults and udp:
        return lambda n: n % BURST_EVERY >= BURST_EVERY - BURST
    return lambda n: bool(one_in) and n % one_in == one_in - 1


class RtspServer:
    """Serves one device; `start` binds, `close` ends all sessions."""

    def __init__(self, device: OnvifDevice, kind: type[Connection]) -> None:
        self.device = device
        self._kind = kind
        self._server: asyncio.Server | None = None
        self._connections: set[asyncio.Task[None]] = set()

    async def start(self) -> None:
        config = self.device.config
        self._server = await asyncio.start_server(self._connected, config.address, config.rtsp_port)

    async def close(self) -> None:
        if self._server is not None:
            self._server.close()
        for task in list(self._connections):
            task.cancel()
        await asyncio.gather(*self._connections, return_exceptions=True)

    async def _connected(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        task = asyncio.current_task()
        assert task is not None
        self._connections.add(task)
        if self.device.tap is not None:
            reader, writer = self.device.tap.beside(reader, writer)
        connection = self._kind(self.device, writer)
        try:
            await connection.run(reader)
        except (ConnectionError, TimeoutError, RemoteProtocolError) as error:
            log.debug("%s: RTSP connection ended: %s", self.device.config.name, error)
        except asyncio.CancelledError:
            log.debug("%s: RTSP connection closed", self.device.config.name)
        finally:
            self._connections.discard(task)
            connection.stop()
            writer.close()


class Connection:
    """One client. What is served says what it describes (`_describe`), whether an address stands for anything (`_ready`), how
    PLAY is answered, and sends (`_stream`).
    """

    def __init__(self, device: OnvifDevice, writer: asyncio.StreamWriter) -> None:
        self.device = device
        self.writer = writer
        self.session = ""
        self.send: Send | None = None
        self.sender: asyncio.Task[None] | None = None
        self.udp: list[asyncio.DatagramTransport] = []

    async def run(self, reader: asyncio.StreamReader) -> None:
        messages = Reader()
        while True:
            async with asyncio.timeout(None if self.sender else SESSION_TIMEOUT_S):
                data = await reader.read(65536)
            if not data:
                return
            for message in messages.receive(data):
                if isinstance(message, Request):
                    response = await self._answer(message)
                    response.headers.fields.insert(0, ("CSeq", message.headers.get("CSeq")))
                    response.headers.fields.append(("Server", f"{self.device.config.maker} RTSP"))
                    self.writer.write(response.serialize())
                    await self.writer.drain()
                    if message.method == "PLAY" and response.status == 200:
                        self._begin()
                    if message.method == "TEARDOWN":
                        self.stop()

    def stop(self) -> None:
        if self.sender is not None:
            self.sender.cancel()
            self.sender = None
        for transport in self.udp:
            transport.close()
        self.udp.clear()

    async def _answer(self, request: Request) -> Response:
        if request.method == "OPTIONS":
            return Response(200, Headers([("Public", _METHODS)]))
        refusal = self._refusal(request)
        if refusal is not None:
            return refusal
        if request.method == "DESCRIBE":
            return await self._describe(request)
        if request.method == "SETUP":
            return await self._setup(request)
        if request.method in ("PLAY", "GET_PARAMETER", "TEARDOWN"):
            if not self.session or request.headers.get("Session").partition(";")[0] != self.session:
                return Response(454)
            if request.method == "PLAY" and self.sender is not None:
                return Response(455)
            return self._play_answer(request) if request.method == "PLAY" else self._in_session()
        return Response(501)

    def _in_session(self, *fields: tuple[str, str]) -> Response:
        return Response(200, Headers([("Session", self.session), *fields]))

    def _open_to_all(self) -> bool:
        return False

    def _refusal(self, request: Request) -> Response | None:
        device = self.device
        authorization = "" if "locked" in device.faults else request.headers.get("Authorization")
        if self._open_to_all() or (
            authorization and device.digest.user_of(authorization, request.method, device.credentials())
        ):
            return None
        return Response(401, Headers([("WWW-Authenticate", c) for c in device.digest.challenges()]))

    async def _describe(self, request: Request) -> Response:
        raise NotImplementedError

    async def _ready(self, request: Request) -> bool:
        raise NotImplementedError

    def _play_answer(self, request: Request) -> Response:
        raise NotImplementedError

    async def _stream(self, send: Send) -> None:
        raise NotImplementedError

    async def _setup(self, request: Request) -> Response:
        if not await self._ready(request):
            return Response(404)
        if "no-session" in self.device.faults:
            return Response(453)
        if self.sender is not None:
            return Response(455)
        asked = request.headers.get("Transport")
        parameters = parse_transport(asked)
        if "TCP" in parameters["profile"]:
            channel = (number_pair(parameters.get("interleaved", "0-1")) or (0, 1))[0]
            self.send = self._interleaved(channel)
            transport = f"RTP/AVP/TCP;unicast;interleaved={channel}-{channel + 1}"
        else:
            ports = number_pair(parameters.get("client_port", ""))
            if ports is None or parameters["profile"] not in ("RTP/AVP", "RTP/AVP/UDP"):
                return Response(461)
            own = await self._open_udp(ports)
            transport = f"RTP/AVP;unicast;client_port={ports[0]}-{ports[1]};server_port={own[0]}-{own[1]}"
        self.session = self.session or secrets.token_hex(8)
        session = f"{self.session};timeout={SESSION_TIMEOUT_S}"
        return Response(200, Headers([("Session", session), ("Transport", transport)]))

    def _interleaved(self, channel: int) -> Send:
        async def send(packets: list[bytes], is_rtcp: bool) -> None:
            # One write for a whole picture: a system call for each packet would cost more than all the rest.
            parts = []
            for packet in packets:
                parts += [_PREFIX.pack(INTERLEAVED_MARK, channel + is_rtcp, len(packet)), packet]
            self.writer.write(b"".join(parts))

        return send

    async def _open_udp(self, client_ports: tuple[int, int]) -> tuple[int, int]:
        loop = asyncio.get_running_loop()
        client = self.writer.get_extra_info("peername")[0]
        for port in client_ports:
            transport, _ = await loop.create_datagram_endpoint(
                asyncio.DatagramProtocol, local_addr=(self.device.config.address, 0), remote_addr=(client, port)
            )
            self.udp.append(transport)
        rtp, control = self.udp[-2:]

        async def send(packets: list[bytes], is_rtcp: bool) -> None:
            way = control if is_rtcp else rtp
            for number, packet in enumerate(packets, start=1):
                way.sendto(packet)
                if self.device.tap is not None:
                    self.device.tap.udp(way.get_extra_info("sockname"), way.get_extra_info("peername"), packet)
                if number % _UDP_BURST == 0:
                    await asyncio.sleep(0.001)

        self.send = send
        return rtp.get_extra_info("sockname")[1], control.get_extra_info("sockname")[1]

    def _begin(self) -> None:
        assert self.send is not None
        self.sender = asyncio.create_task(self._stream(self.send))


class CameraConnection(Connection):
    device: SimulatedCamera
    stream: encoding.EncodedStream | None = None

    def _open_to_all(self) -> bool:
        return self.device.config.anonymous_viewing

    def _play_answer(self, request: Request) -> Response:
        return self._in_session(("Range", "npt=0.000-"))

    async def _ready(self, request: Request) -> bool:
        self.stream = await self._load(request.uri)
        return self.stream is not None

    async def _load(self, uri: str) -> encoding.EncodedStream | None:
        path = "/" + uri.partition("://")[2].partition("/")[2]
        name = self.device.stream_named(path.removesuffix("/video").rstrip("/"))
        if name is None:
            return None
        return await asyncio.to_thread(encoding.load, self.device.recipe(name))

    async def _describe(self, request: Request) -> Response:
        stream = None if "describe-404" in self.device.faults else await self._load(request.uri)
        if stream is None:
            return Response(404)
        sets = ",".join(base64.b64encode(s).decode() for s in (stream.sps, stream.pps))
        parameters = {
            "packetization-mode": "1", "profile-level-id": stream.sps[1:4].hex(), "sprop-parameter-sets": sets,
        }  # fmt: skip
        media = Media(
            "video",
            payload_type=PAYLOAD_TYPE,
            codec="H264",
            parameters=parameters,
            control="video",
            framerate_fps=stream.recipe.fps,
        )
        body = SessionDescription(self.device.hostname, "*", [media]).serialize(self.device.config.address)
        base = request.uri.rstrip("/") + "/"
        return Response(200, Headers([("Content-Base", base), ("Content-Type", "application/sdp")]), body)

    async def _stream(self, send: Send) -> None:
        """Send the loop in real time; the encoder gives a key frame at once, as most do at PLAY."""
        stream = self.stream
        assert stream is not None
        ssrc, sequence = secrets.randbits(32), secrets.randbits(16)
        first_timestamp = secrets.randbits(31)
        started = time.monotonic()
        next_report, packets, octets, numbered = 0.0, 0, 0, 0
        index, faults = 0, self.device.faults
        leaves_out = losing(
            faults, self.device.config.loses_one_in if stream.recipe.stream == "main" else 0, udp=bool(self.udp)
        )
        if "no-packets" in faults or ("udp-dead" in faults and self.udp):
            return
        cname = f"{self.device.config.serial}@{self.device.config.address}"
        with contextlib.suppress(ConnectionError):  # the client went away; the reading side ends the session
            while True:
                due = started + index / stream.recipe.fps
                delay = due - time.monotonic()
                if delay > 0:
                    await asyncio.sleep(delay)
                if "stops" in faults and due - started > STOPS_AFTER_S:
                    return
                timestamp = (first_timestamp + index * CLOCK_HZ // stream.recipe.fps) & 0xFFFFFFFF
                if time.monotonic() - started >= next_report:
                    report = rtcp.SenderReport(ssrc, self.device.now_s(), timestamp, packets, octets)
                    await send([rtcp.serialize_sender_report(report, cname)], True)
                    next_report += REPORT_INTERVAL_S
                backlog = 0 if self.udp else self.writer.transport.get_write_buffer_size()
                if backlog < MAX_BACKLOG_BYTES:
                    unit = stream.payloads[index % len(stream.payloads)]
                    numbered += len(unit)
                    left = [n for n in range(len(unit)) if not leaves_out(numbered - len(unit) + n)]
                    await send(
                        [
                            HEADER.pack(
                                _FIRST, unit[n][1] << 7 | PAYLOAD_TYPE, (sequence + n) & 0xFFFF, timestamp, ssrc
                            )
                            + unit[n][0]
                            for n in left
                        ],
                        False,
                    )
                    sequence = (sequence + len(unit)) & 0xFFFF
                    counted = left if "loses-before-network" in faults else range(len(unit))
                    packets += len(counted)
                    octets += sum(len(unit[n][0]) for n in counted)
                index += 1
