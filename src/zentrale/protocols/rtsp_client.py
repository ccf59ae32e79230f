"""An RTSP client session that plays the video of one address: OPTIONS, DESCRIBE, SETUP, PLAY, keep-alive, TEARDOWN.

It owns the order of the messages and the authentication, and no socket: the caller moves bytes. Events say what
became known. A refusal is an event, not an exception, since a refusal is a result (RFC 2326, RFC 7616).
"""

from __future__ import annotations

import ipaddress
from collections import deque
from dataclasses import dataclass, replace
from enum import Enum
from typing import NamedTuple
from urllib.parse import urlsplit

from zentrale.errors import LocalProtocolError, RemoteProtocolError
from zentrale.protocols.addresses import RTSP_SCHEMES, bracketed, is_multicast, pin
from zentrale.protocols.http_auth import Answering, Challenge, Offers, parse_offers
from zentrale.protocols.rtsp import Headers, Interleaved, Reader, Request, Response, number_pair, parse_transport
from zentrale.protocols.sdp import Media, SessionDescription
from zentrale.protocols.stream_address import StreamAddress, default_port

DEFAULT_TIMEOUT_S = 60  # RFC 2326 clause 12.37
USER_AGENT = "zentrale"


class Transport(Enum):
    """How media packets travel: within the RTSP connection, beside it, or to a group that anybody may join."""

    TCP = "tcp"
    UDP = "udp"
    MULTICAST = "multicast"


_NOT_UNDERSTOOD = (400, 404, 405, 455, 501, 551)  # 451 says that it knows the method: it counts
_KEPT = (
    "Accept",
    "Transport",
    "Range",
    "Require",
    "Rate-Control",
    "Immediate",
    "Frames",
)  # of a request that is sent again
_HARMLESS = ("GET_PARAMETER", "SET_PARAMETER")


@dataclass(frozen=True)
class Described:
    """The session description arrived; `media` is the video section that will be played, `sound` that of sound, where it is
    wanted and there is one.
    """

    description: SessionDescription
    media: Media
    sound: Media | None = None


@dataclass(frozen=True)
class SetUp:
    """SETUP was accepted; packets may come from now on (some servers send before they answer PLAY).

    channel:      of RTP within the connection; RTCP comes on the next one
    server_ports: for UDP, where packets come from and where receiver reports go
    source:       another host that the server says it sends from
    group, ports: for multicast, where it sends to
    """

    channel: int = 0
    server_ports: tuple[int, int] | None = None
    source: str = ""
    group: str = ""
    ports: tuple[int, int] | None = None


@dataclass(frozen=True)
class Playing:
    """PLAY was accepted."""


class MediaPacket(NamedTuple):
    """An interleaved RTP packet, or an RTCP packet; `sound`: of the second section."""

    data: bytes
    is_rtcp: bool
    sound: bool = False


@dataclass(frozen=True)
class Refused:
    """The server answered a step with a status other than 200. `status` 401 speaks of credentials."""

    method: str
    status: int
    reason: str


@dataclass(frozen=True)
class Challenged:
    """The server asks for credentials. Nothing is sent until `authenticate` is called."""

    offers: Offers
    refused: Refused


@dataclass(frozen=True)
class Redirected:
    """The server says that the stream is at another address."""

    method: str
    status: int
    location: str


Event = Described | SetUp | Playing | MediaPacket | Refused | Challenged | Redirected


class PlayerSession:
    """One playing of one address. Feed `receive`, send what `data_to_send` gives.

    udp_ports: the even RTP port and the RTCP port beside it that the caller has opened; None plays over TCP, or over
               multicast
    play:      fields of PLAY, where something stored is played (onvif/replay.py); sound: the section of sound is set up, too
    """

    def __init__(
        self,
        address: StreamAddress,
        udp_ports: tuple[int, int] | None = None,
        *,
        multicast: bool = False,
        play: tuple[tuple[str, str], ...] = (),
        sound: bool = False,
    ) -> None:
        self.address = address
        self.ended = False
        self.answers = 0
        self.session_timeout_s = DEFAULT_TIMEOUT_S
        self.playing = False
        self.range_told = ""  # what PLAY was answered with
        self.server = ""
        self.named_hosts: set[str] = set()
        self.named_bases: set[str] = set()  # host and port of its addresses, where they are not those that were reached
        self._answering: Answering | None = None
        self._unanswered: Request | None = None
        self._udp_ports = udp_ports
        self._multicast = multicast
        self._play = play or (("Range", "npt=0.000-"),)
        self._require = (("Require", "onvif-replay"),) if play else ()
        self._wants_sound = sound
        self._setting_up_sound = False
        self._to_set_up: list[str] = []  # control addresses of further sections
        self._sound_channel: int | None = None
        self._not_understood: set[str] = set()
        self._reader = Reader()
        self._out = bytearray()
        self._waiting: deque[tuple[int, Request]] = deque()
        self._cseq = 0
        self._session_id = ""
        self._base = address.url
        self._aggregate = address.url
        self._channel = 0
        self._public = ""
        self._closed = False

    def start(self) -> None:
        self._send("OPTIONS", self.address.url)

    def data_to_send(self) -> bytes:
        data = bytes(self._out)
        self._out.clear()
        return data

    def keep_alive(self) -> None:
        """Ask something harmless before the session times out (RFC 2326 clause 10.8), of what the server understands."""
        self._need_playing()
        if not self._waiting:
            known = (m for m in _HARMLESS if m in self._public and m not in self._not_understood)
            self._send(next(known, "OPTIONS"), self._aggregate)

    def send_rtcp(self, data: bytes) -> None:
        self._need_playing()
        self._out += Interleaved(self._channel + 1, data).serialize()

    def teardown(self) -> None:
        """End the session; harmless where it never began."""
        if self._session_id and not self._closed:
            self._closed = True
            self._send("TEARDOWN", self._aggregate)

    def _need_playing(self) -> None:
        if not self.playing:
            raise LocalProtocolError("the session does not play")

    def receive(self, data: bytes) -> list[Event]:
        """Raises RemoteProtocolError where the server breaks the protocol; the connection is then to be closed."""
        events: list[Event] = []
        for message in self._reader.receive(data):
            if isinstance(message, Interleaved):
                if message.channel in (self._channel, self._channel + 1) and self._session_id:
                    events.append(MediaPacket(message.data, is_rtcp=message.channel != self._channel))
                elif self._sound_channel is not None and message.channel in (
                    self._sound_channel,
                    self._sound_channel + 1,
                ):
                    events.append(MediaPacket(message.data, message.channel != self._sound_channel, sound=True))
            elif isinstance(message, Response):
                events += self._on_response(message)
            else:
                self._refuse_request(message)
        return events

    def _refuse_request(self, request: Request) -> None:
        """Servers may ask too (clause 10.1); we offer nothing."""
        self._out += Response(501, Headers([("CSeq", request.headers.get("CSeq"))])).serialize()

    def _send(self, method: str, uri: str, *extra: tuple[str, str]) -> None:
        self._cseq += 1
        fields = [("CSeq", str(self._cseq)), ("User-Agent", USER_AGENT), *extra]
        if self._session_id:
            fields.append(("Session", self._session_id))
        text = self._answering.header(method, uri) if self._answering else None
        if text is not None:
            fields.append(("Authorization", text))
        request = Request(method, uri, Headers(fields))
        self._waiting.append((self._cseq, request))
        self._out += request.serialize()

    def _on_response(self, response: Response) -> list[Event]:
        cseq = response.headers.integer("CSeq", -1)
        if not self._waiting or (cseq >= 0 and cseq != self._waiting[0][0]):
            raise RemoteProtocolError("RTSP answer to a question that was not asked")
        _, request = self._waiting.popleft()
        self.answers += 1
        self.server = response.headers.get("Server", self.server)
        if response.status == 401 and not self._closed:
            return self._on_challenge(request, response)
        if self._answering is not None and response.status < 300:
            self._answering.accepted()
        if request.method == "OPTIONS" and not self.playing:
            # Some servers refuse OPTIONS though they serve DESCRIBE; the answer to that decides.
            self._public = response.headers.get("Public").upper()
            self._send("DESCRIBE", self.address.url, ("Accept", "application/sdp"))
            return []
        if self._closed:
            self.ended |= request.method == "TEARDOWN"
            return []
        if self.playing:
            if request.method in _HARMLESS and response.status in _NOT_UNDERSTOOD:
                self._not_understood.add(request.method)
                self.keep_alive()
            return []
        if 300 <= response.status < 400 and response.headers.get("Location"):
            return [Redirected(request.method, response.status, response.headers.get("Location"))]
        if self._setting_up_sound and response.status != 200:
            self._setting_up_sound = False  # the picture is worth having without it
            self._send("PLAY", self._aggregate, *self._play, *self._require)
            return []
        if response.status != 200:
            return [Refused(request.method, response.status, response.reason)]
        if request.method == "DESCRIBE":
            return self._on_described(response)
        if request.method == "SETUP":
            if self._setting_up_sound:
                self._on_sound(response)
                return []
            return self._on_setup(response)
        self.playing, self.range_told = True, response.headers.get("Range")
        return [Playing()]

    def _on_challenge(self, request: Request, response: Response) -> list[Event]:
        offers = parse_offers(response.headers.all("WWW-Authenticate"))
        refused = Refused(request.method, response.status, response.reason)
        if self._answering is None:
            self._unanswered = request
            return [Challenged(offers, refused)]
        if not self._answering.challenged(offers):
            return [] if self.playing else [refused]
        self._send_again(request)
        return []

    def authenticate(self, answering: Answering, challenge: Challenge) -> None:
        """Answer the challenge that `Challenged` brought, one of its offers, and those that follow."""
        if self._unanswered is None:
            raise LocalProtocolError("the server asked for no credentials")
        answering.take(challenge)
        self._answering = answering
        self._send_again(self._unanswered)

    def _send_again(self, request: Request) -> None:
        kept = [f for f in request.headers.fields if f[0] in _KEPT]
        self._send(request.method, request.uri, *kept)

    def _on_described(self, response: Response) -> list[Event]:
        description = SessionDescription.parse(response.body)
        media = description.video()
        if media is None:
            raise RemoteProtocolError("the address delivers no video")
        told = response.headers.get("Content-Base") or response.headers.get("Content-Location")
        self._base = self._here(told) if told else self.address.url
        self._aggregate = self._control(description.control) if description.control else self.address.url
        if self._multicast:
            transport = f"{media.profile};multicast"
        elif self._udp_ports is None:
            transport = f"{media.profile}/TCP;unicast;interleaved=0-1"
        else:
            transport = f"{media.profile};unicast;client_port={self._udp_ports[0]}-{self._udp_ports[1]}"
        sound = description.sound() if self._wants_sound and self._udp_ports is None and not self._multicast else None
        if sound is not None:
            self._to_set_up.append(self._control(sound.control))
        self._send("SETUP", self._control(media.control), ("Transport", transport), *self._require)
        return [Described(description, media, sound)]

    def _control(self, control: str) -> str:
        """The address a control attribute stands for (RFC 2326 appendix C.1.1)."""
        if not control or control == "*":
            return self._base if control else self.address.url
        if control.lower().startswith(("rtsp://", "rtsps://")):
            return self._here(control)
        return f"{self._base.rstrip('/')}/{control.lstrip('/')}"

    def _here(self, told: str) -> str:
        """An address that the server told, at the host that was reached; what else it named is kept for telling."""
        if "://" not in told:
            return f"{self.address.url.rstrip('/')}/{told.lstrip('/')}"
        pinned = pin(told, self.address.host, RTSP_SCHEMES)
        if pinned.named:
            self.named_hosts.add(pinned.named)
        port = urlsplit(pinned.url).port or default_port(urlsplit(pinned.url).scheme)
        if pinned.named or port != self.address.port:
            self.named_bases.add(f"{bracketed(pinned.named or self.address.host)}:{port}")
        return pinned.url

    def _on_setup(self, response: Response) -> list[Event]:
        identifier, _, rest = response.headers.get("Session").partition(";")
        if not identifier:
            raise RemoteProtocolError("RTSP server set up a stream without naming a session")
        self._session_id = identifier.strip()
        timeout = rest.partition("timeout=")[2].partition(";")[0].strip()
        if timeout.isascii() and timeout.isdigit() and len(timeout) < 6:
            self.session_timeout_s = max(2, int(timeout))
        transport = parse_transport(response.headers.get("Transport"))
        setup = SetUp(
            server_ports=number_pair(transport.get("server_port", "")),
            source=self._elsewhere(transport.get("source", "")),
        )
        if self._multicast:
            group, ports = transport.get("destination", ""), number_pair(transport.get("port", ""))
            if "multicast" not in transport or not is_multicast(group) or ports is None:
                raise RemoteProtocolError("RTSP server names no multicast group and port")
            setup = replace(setup, group=group, ports=ports)
        elif self._udp_ports is None:
            if "TCP" not in transport["profile"]:
                raise RemoteProtocolError("RTSP server set up another transport than asked for")
            self._channel = (number_pair(transport.get("interleaved", "")) or (0, 1))[0]
            setup = replace(setup, channel=self._channel)
        if self._to_set_up:
            second = (self._channel + 2, self._channel + 3)
            transport_asked = f"RTP/AVP/TCP;unicast;interleaved={second[0]}-{second[1]}"
            self._send("SETUP", self._to_set_up.pop(), ("Transport", transport_asked), *self._require)
            self._setting_up_sound = True
            return [setup]
        self._send("PLAY", self._aggregate, *self._play, *self._require)
        return [setup]

    def _on_sound(self, response: Response) -> None:
        """The second section, whose answer changes nothing of the first."""
        self._setting_up_sound = False
        transport = parse_transport(response.headers.get("Transport"))
        self._sound_channel = (number_pair(transport.get("interleaved", "")) or (self._channel + 2, 0))[0]
        self._send("PLAY", self._aggregate, *self._play, *self._require)

    def _elsewhere(self, source: str) -> str:
        """Another host that is named as the sender; empty where it is the one that was reached, or no address."""
        try:
            named = ipaddress.ip_address(source)
        except ValueError:
            return ""
        return "" if str(named) == self.address.host or named.is_unspecified else str(named)
