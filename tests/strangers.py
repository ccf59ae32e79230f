"""Devices that are not ours, made of plain text and hashlib: what they say and count is written from the standards, not
with the code that is tested. Each lies, stalls or breaks in its own way, and remembers what it was given.
"""

from __future__ import annotations

import asyncio
import base64
import contextlib
import hashlib
import re
import ssl
import threading
import time
from collections.abc import Awaitable, Callable, Iterator
from dataclasses import dataclass, field
from datetime import UTC, datetime

PORT, RTSP_PORT = 8080, 8554
SOAP = (
    '<?xml version="1.0"?><SOAP-ENV:Envelope xmlns:SOAP-ENV="http://www.w3.org/2003/05/soap-envelope" '
    'xmlns:tds="http://www.onvif.org/ver10/device/wsdl" xmlns:trt="http://www.onvif.org/ver10/media/wsdl" '
    'xmlns:tt="http://www.onvif.org/ver10/schema" xmlns:tr2="http://www.onvif.org/ver20/media/wsdl" '
    'xmlns:timg="http://www.onvif.org/ver20/imaging/wsdl" xmlns:tan="http://www.onvif.org/ver20/analytics/wsdl" '
    'xmlns:tmd="http://www.onvif.org/ver10/deviceIO/wsdl" xmlns:ter="http://www.onvif.org/ver10/error">'
    "<SOAP-ENV:Body>{}</SOAP-ENV:Body></SOAP-ENV:Envelope>"
)
FAULT = (
    "<SOAP-ENV:Fault><SOAP-ENV:Code><SOAP-ENV:Value>SOAP-ENV:Sender</SOAP-ENV:Value><SOAP-ENV:Subcode><SOAP-ENV:Value>"
    "ter:NotAuthorized</SOAP-ENV:Value></SOAP-ENV:Subcode></SOAP-ENV:Code><SOAP-ENV:Reason><SOAP-ENV:Text>{}"
    "</SOAP-ENV:Text></SOAP-ENV:Reason></SOAP-ENV:Fault>"
)
SCOPE = "onvif://www.onvif.org"
# What no plan says: all of it must come back as it was.
OTHERS = (
    "<tt:Quality>3.5</tt:Quality>", "<tt:EncodingInterval>1</tt:EncodingInterval>", "<tt:H264Profile>Baseline</tt:H264Profile>",
    "<tt:IPv4Address>239.1.2.3</tt:IPv4Address>", "<tt:Port>5004</tt:Port>", "<tt:TTL>7</tt:TTL>",
    "<tt:AutoStart>true</tt:AutoStart>", "<tt:SessionTimeout>PT25S</tt:SessionTimeout>", "<tt:UseCount>3</tt:UseCount>",
)  # fmt: skip
ENCODER = (
    "<tt:Name>{0}</tt:Name><tt:UseCount>3</tt:UseCount><tt:Encoding>H264</tt:Encoding><tt:Resolution><tt:Width>{1}</tt:Width>"
    "<tt:Height>{2}</tt:Height></tt:Resolution><tt:Quality>3.5</tt:Quality><tt:RateControl><tt:FrameRateLimit>{3}"
    "</tt:FrameRateLimit><tt:EncodingInterval>1</tt:EncodingInterval><tt:BitrateLimit>{4}</tt:BitrateLimit></tt:RateControl>"
    "<tt:H264><tt:GovLength>{3}</tt:GovLength><tt:H264Profile>Baseline</tt:H264Profile></tt:H264><tt:Multicast><tt:Address>"
    "<tt:Type>IPv4</tt:Type><tt:IPv4Address>239.1.2.3</tt:IPv4Address></tt:Address><tt:Port>5004</tt:Port><tt:TTL>7</tt:TTL>"
    "<tt:AutoStart>true</tt:AutoStart></tt:Multicast><tt:SessionTimeout>PT25S</tt:SessionTimeout>"
)
FREE = {"GetSystemDateAndTime", "GetServices", "GetCapabilities", "GetHostname"}


@dataclass
class Camera:
    """An ONVIF camera behind HTTP digest. What is odd about one is set by its fields, or by a subclass."""

    host: str
    password: str = "installer-1"
    serial: str = ""
    maker: str = "Pallas Yard"
    model: str = "Larch 2"
    stream: str = ""  # what it tells as its stream address; empty: the right one
    service: str = ""  # what it tells as the address of its services
    challenge: str = 'Digest realm="r", nonce="{nonce}", qop="auth"'
    year: int = 0
    profiles: int = 2
    locks_at: int = 0  # refusals, within `forgets_s`
    forgets_s: float = 1e9
    fails_every: int = 0
    port: int = PORT
    tls: ssl.SSLContext | None = None
    refused: list[float] = field(default_factory=list)
    requests: int = 0
    nonce: str = "n0nce"
    seen: list[str] = field(default_factory=list)
    users: dict[str, str] = field(default_factory=dict)

    @property
    def mac(self) -> str:
        return f"02:5a:77:00:{self.port % 100:02d}:{int(self.host.rpartition('.')[2]):02x}"

    @property
    def where(self) -> str:
        return f"{'https' if self.tls else 'http'}://{self.host}:{self.port}"

    @property
    def refusals(self) -> int:
        return len(self.refused)

    # HTTP

    async def serve(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        while True:
            head = (await reader.readuntil(b"\r\n\r\n")).decode("latin-1")
            length = re.search(r"content-length: *(\d+)", head, re.IGNORECASE)
            body = (await reader.readexactly(int(length[1]) if length else 0)).decode()
            self.requests += 1
            await self.answer(writer, head, body)

    async def answer(self, writer: asyncio.StreamWriter, head: str, body: str) -> None:
        if self.fails_every and self.requests % self.fails_every == 0:
            await self.send(writer, "500 Internal Server Error", b"busy")
            return
        found = re.search(r"Body[^>]*>\s*<(?:\w+:)?(\w+)", body)
        name = found[1] if found else ""
        self.seen.append(f"{name} {'with' if 'uthorization:' in head else 'without'}")
        lately = [at for at in self.refused if time.monotonic() - at < self.forgets_s]
        if self.locks_at and len(lately) >= self.locks_at:
            await self.send(writer, "400 Bad Request", SOAP.format(FAULT.format("account is locked")).encode())
            return
        if name not in FREE and not self.proves(head, body):
            offer = self.challenge.format(nonce=self.nonce)
            await self.send(writer, "401 Unauthorized", b"", f"WWW-Authenticate: {offer}\r\n")
            return
        content = self.content(name, body)
        if content is None:
            refusal = FAULT.replace("ter:NotAuthorized", "ter:ActionNotSupported").format("no")
            await self.send(writer, "500 Internal Server Error", SOAP.format(refusal).encode())
            return
        await self.send(writer, "200 OK", SOAP.format(content).encode())

    async def send(self, writer: asyncio.StreamWriter, status: str, body: bytes, more: str = "") -> None:
        head = f"HTTP/1.1 {status}\r\nContent-Type: application/soap+xml\r\nContent-Length: {len(body)}\r\n{more}\r\n"
        writer.write(head.encode() + body)
        await writer.drain()

    def proves(self, head: str, body: str) -> bool:
        """RFC 7616 clause 3.4.1, worked out here; a UsernameToken is not looked at, but counted as refused."""
        given = re.search(r"authorization: *(\w+) (.*?)\r\n", head, re.IGNORECASE)
        if given is None:
            if "UsernameToken" in body:
                self.refused.append(time.monotonic())
            return False
        if given[1].lower() == "basic":
            right = base64.b64decode(given[2]).decode() == f"admin:{self.password}"
        else:
            fields = dict(re.findall(r'(\w+)="?([^",]*)"?', given[2]))
            method = head.split()[0]

            def h(text: str) -> str:
                return hashlib.md5(text.encode()).hexdigest()

            a2 = f"{method}:{fields['uri']}" + (f":{h(body)}" if fields.get("qop") == "auth-int" else "")
            middle = f":{fields['nc']}:{fields['cnonce']}:{fields['qop']}" if "qop" in fields else ""
            user = fields.get("username", "")
            secret = self.secret_of(user)
            wanted = h(f"{h(f'{user}:r:{secret}')}:{self.nonce}{middle}:{h(a2)}")
            right = secret is not None and fields.get("response") == wanted
        if not right:
            self.refused.append(time.monotonic())
        return right

    def secret_of(self, user: str) -> str | None:
        """The password of an account; None where there is no such account."""
        return self.password if user == "admin" else None

    # ONVIF

    def content(self, name: str, body: str) -> str | None:
        now = datetime.now(UTC)
        stream = self.stream or f"rtsp://{self.host}:{RTSP_PORT}/v"
        encoder = (
            "<tt:VideoEncoderConfiguration token='{0}'><tt:Name>{0}</tt:Name><tt:Encoding>H264</tt:Encoding><tt:Resolution>"
            "<tt:Width>{1}</tt:Width><tt:Height>{2}</tt:Height></tt:Resolution><tt:RateControl><tt:FrameRateLimit>{3}"
            "</tt:FrameRateLimit><tt:BitrateLimit>{4}</tt:BitrateLimit></tt:RateControl><tt:H264><tt:GovLength>{3}"
            "</tt:GovLength></tt:H264></tt:VideoEncoderConfiguration>"
        )
        profiles = [("main", 320, 180, 10, 300), ("sub", 160, 96, 5, 64)][: self.profiles]
        answers = {
            "GetSystemDateAndTime": "<tds:SystemDateAndTime><tt:DateTimeType>Manual</tt:DateTimeType><tt:TimeZone><tt:TZ>"
            f"GMT0BST,M3.5.0/1,M10.5.0</tt:TZ></tt:TimeZone><tt:UTCDateTime><tt:Time><tt:Hour>{now.hour}</tt:Hour><tt:Minute>"
            f"{now.minute}</tt:Minute><tt:Second>{now.second}</tt:Second></tt:Time><tt:Date><tt:Year>{self.year or now.year}"
            f"</tt:Year><tt:Month>{now.month}</tt:Month><tt:Day>{now.day}</tt:Day></tt:Date></tt:UTCDateTime>"
            "</tds:SystemDateAndTime>",
            "GetDeviceInformation": f"<tds:Manufacturer>{self.maker}</tds:Manufacturer><tds:Model>{self.model}</tds:Model>"
            f"<tds:FirmwareVersion>1</tds:FirmwareVersion><tds:SerialNumber>{self.serial or self.mac}</tds:SerialNumber>",
            "GetUsers": "<tds:User><tt:Username>admin</tt:Username><tt:UserLevel>Administrator</tt:UserLevel></tds:User>",
            "GetNetworkInterfaces": f"<tds:NetworkInterfaces token='e'><tt:Info><tt:HwAddress>{self.mac}</tt:HwAddress>"
            "</tt:Info></tds:NetworkInterfaces>",
            "GetServices": "".join(
                f"<tds:Service><tds:Namespace>http://www.onvif.org/ver10/{part}/wsdl</tds:Namespace><tds:XAddr>"
                f"{self.service or self.where}/onvif/{part}</tds:XAddr></tds:Service>" for part in ("device", "media")
            ),
            "GetScopes": "<tds:Scopes><tt:ScopeDef>Configurable</tt:ScopeDef><tt:ScopeItem>onvif://www.onvif.org/name/x"
            "</tt:ScopeItem></tds:Scopes>",
            "GetHostname": "<tds:HostnameInformation><tt:Name>x</tt:Name></tds:HostnameInformation>",
            "SetScopes": "", "SetHostname": "", "SetSystemDateAndTime": "",
            "GetProfiles": "".join(
                f"<trt:Profiles token='{p[0]}'><tt:Name>{p[0]}</tt:Name>{encoder.format(*p)}</trt:Profiles>"
                for p in profiles
            ),
            "GetStreamUri": f"<trt:MediaUri><tt:Uri>{stream}</tt:Uri></trt:MediaUri>",
        }  # fmt: skip
        if name not in answers:
            return None
        prefix = "trt" if "Profile" in name or "Stream" in name else "tds"
        return f"<{prefix}:{name}Response>{answers[name]}</{prefix}:{name}Response>"


@dataclass
class Settable(Camera):
    """Keeps what it is told, byte for byte, as far as its nature lets it. Its lens 2 comes first in its list.

    nature: the words for what it does otherwise: "lies" (says OK, keeps nothing), "rounds" (bit rates in steps of 32
    kbit/s), "late" (does it, and answers after 2 s), "restarts" (is gone for 2 s after its encoder was set), "refuses" (a
    host name), "ntp" (has its time from a server)
    """

    nature: str = ""
    fresh: bool = False
    behind_s: float = 0.0
    zone: str = "GMT+0BST-1,M3.5.0/01:00:00,M10.5.0/02:00:00"  # as London has it, in this maker's hand
    hostname: str = "cam"
    scopes: list[str] = field(
        default_factory=lambda: [f"{SCOPE}/name/Larch", f"{SCOPE}/location/yard", f"{SCOPE}/x/a%20b"]
    )
    encoders: dict[str, str] = field(default_factory=lambda: {
        f"E{lens}{size[0]}": ENCODER.format(f"E{lens}{size[0]}", *size[1:])
        for lens in (2, 1) for size in (("m", 640, 360, 12, 700), ("s", 320, 180, 12, 200))
    })  # fmt: skip
    told: list[str] = field(default_factory=list)
    away_until: float = 0.0
    servers: tuple[str, str] = ("true", "")  # FromDHCP, and what is given by hand
    from_server: bool = False
    labels: dict[str, str] = field(default_factory=dict)  # by token, as they were sent
    others: dict[str, tuple[str, str]] = field(default_factory=dict)  # further accounts: password and level

    async def answer(self, writer: asyncio.StreamWriter, head: str, body: str) -> None:
        if time.monotonic() < self.away_until:
            raise ConnectionResetError
        await super().answer(writer, head, body)
        if self.away_until and self.nonce == "n0nce":
            self.nonce = "another"  # it has forgotten the ones it gave out

    def holds(self) -> tuple[object, ...]:
        """All that can be set, in whatever order it came."""
        encoders = {t: re.findall(r">([^<>]+)<", x) for t, x in self.encoders.items()}
        return self.hostname, self.zone, sorted(self.scopes), encoders, sorted(self.others)

    def secret_of(self, user: str) -> str | None:
        return self.others[user][0] if user in self.others else super().secret_of(user)

    def proves(self, head: str, body: str) -> bool:
        return self.fresh or super().proves(head, body)

    async def send(self, writer: asyncio.StreamWriter, status: str, body: bytes, more: str = "") -> None:
        if "late" in self.nature and re.search(rb"(Set|Create)\w+Response", body):
            await asyncio.sleep(2)
        await super().send(writer, status, body, more)

    def content(self, name: str, body: str) -> str | None:
        if name.startswith(("Set", "Create", "Delete")):
            self.told.append(name)
            if "refuses" in self.nature and name == "SetHostname":
                return None
            if "lies" not in self.nature:
                self.keep(name, body)
            prefix = "trt" if "Encoder" in name or "OSD" in name else "tds"
            return f"<{prefix}:{name}Response/>"
        moment = datetime.fromtimestamp(time.time() - self.behind_s, UTC)
        lenses = [f"<trt:Profiles token='P{t}'><tt:Name>P{t}</tt:Name><tt:VideoSourceConfiguration token='v'><tt:Name>v"
                  f"</tt:Name><tt:SourceToken>lens_{t[1]}</tt:SourceToken></tt:VideoSourceConfiguration>"
                  f"<tt:VideoEncoderConfiguration token='{t}'>{x}</tt:VideoEncoderConfiguration></trt:Profiles>"
                  for t, x in self.encoders.items()]  # fmt: skip
        wanted = re.search(r"ConfigurationToken>(\w+)<", body)
        own = {
            "GetSystemDateAndTime": "<tds:SystemDateAndTime>"
            f"<tt:DateTimeType>{'NTP' if 'ntp' in self.nature or self.from_server else 'Manual'}"
            f"</tt:DateTimeType><tt:TimeZone><tt:TZ>{self.zone}</tt:TZ></tt:TimeZone><tt:UTCDateTime><tt:Time><tt:Hour>"
            f"{moment.hour}</tt:Hour><tt:Minute>{moment.minute}</tt:Minute><tt:Second>{moment.second}</tt:Second></tt:Time>"
            f"<tt:Date><tt:Year>{moment.year}</tt:Year><tt:Month>{moment.month}</tt:Month><tt:Day>{moment.day}</tt:Day>"
            "</tt:Date></tt:UTCDateTime></tds:SystemDateAndTime>",
            "GetUsers": "" if self.fresh else "".join(
                f"<tds:User><tt:Username>{u}</tt:Username><tt:UserLevel>{level}</tt:UserLevel></tds:User>"
                for u, level in (("admin", "Administrator"), *((u, o[1]) for u, o in self.others.items()))
            ),
            "GetScopes": "".join(f"<tds:Scopes><tt:ScopeDef>Configurable</tt:ScopeDef><tt:ScopeItem>{s}</tt:ScopeItem>"
                                 "</tds:Scopes>" for s in self.scopes),
            "GetHostname": f"<tds:HostnameInformation><tt:Name>{self.hostname}</tt:Name></tds:HostnameInformation>",
            "GetNTP": f"<tds:NTPInformation><tt:FromDHCP>{self.servers[0]}</tt:FromDHCP><tt:NTPManual>{self.servers[1]}"
            "</tt:NTPManual></tds:NTPInformation>",
            "GetOSDs": "".join(f"<trt:OSDs token='{t}'>{x}</trt:OSDs>" for t, x in self.labels.items()),
            "GetProfiles": "".join(lenses),
            "GetVideoEncoderConfiguration": f"<trt:Configuration token='{wanted[1]}'>{self.encoders[wanted[1]]}"
            "</trt:Configuration>" if wanted and wanted[1] in self.encoders else "",
        }  # fmt: skip
        if name not in own:
            return super().content(name, body)
        prefix = "trt" if "Profile" in name or "Encoder" in name or "OSD" in name else "tds"
        return f"<{prefix}:{name}Response>{own[name]}</{prefix}:{name}Response>"

    def keep(self, name: str, body: str) -> None:
        if name in ("CreateUsers", "SetUser"):
            user, told = (re.search(rf"{word}>([^<]+)<", body) for word in ("Username", "Password"))
            level = re.search(r"UserLevel>([^<]+)<", body)
            assert user is not None and level is not None
            if user[1] == "admin":
                assert told is not None
                self.password, self.fresh = told[1], False
            else:
                self.others[user[1]] = told[1] if told else self.others[user[1]][0], level[1]
        elif name == "DeleteUsers":
            self.others.pop(re.findall(r"Username>([^<]+)<", body)[0])
        elif name == "SetScopes":
            self.scopes = re.findall(r"<\w+:Scopes>([^<]+)<", body)
        elif name == "SetHostname":
            self.hostname = re.findall(r"<\w+:Name>([^<]+)<", body)[0]
        elif name == "SetSystemDateAndTime":
            self.zone = re.findall(r"<\w+:TZ>([^<]+)<", body)[0]
            self.from_server = ">NTP<" in body
            if "Hour" in body:
                self.behind_s = 0.0
        elif name in ("CreateOSD", "SetOSD"):
            label = re.search(r"<\w+:OSD[^>]*token=['\"](\w*)['\"][^>]*>(.*)</\w+:OSD>", body, re.DOTALL)
            assert label is not None
            text = re.sub(r"(PlainText>)([^<]{0,12})[^<]*", r"\1\2", label[2]) if "rounds" in self.nature else label[2]
            self.labels[label[1] or f"L{len(self.labels)}"] = text
        elif name == "DeleteOSD":
            self.labels.pop(re.findall(r"OSDToken>(\w+)<", body)[0])
        elif name == "SetNTP":
            manual = re.search(r"NTPManual[^>]*>(.*)</\w+:NTPManual>", body, re.DOTALL)
            self.servers = re.findall(r"FromDHCP>(\w+)<", body)[0], manual[1] if manual else ""
        elif name == "SetVideoEncoderConfiguration":
            found = re.search(
                r"<\w+:Configuration[^>]*token=['\"](\w+)['\"][^>]*>(.*)</\w+:Configuration>", body, re.DOTALL
            )
            assert found is not None
            kept = found[2]
            if "rounds" in self.nature:
                kept = re.sub(r"(BitrateLimit>)(\d+)", lambda m: f"{m[1]}{int(m[2]) // 32 * 32}", kept)
            self.encoders[found[1]] = kept
            if "restarts" in self.nature and not self.away_until:
                self.away_until = time.monotonic() + 2


class Drips(Camera):
    """Its headers come a byte a second, and never end."""

    async def answer(self, writer: asyncio.StreamWriter, head: str, body: str) -> None:
        for byte in b"HTTP/1.1 200 OK\r\nX-Slow: " + b"z" * 600:
            writer.write(bytes([byte]))
            await writer.drain()
            await asyncio.sleep(1)


class Floods(Camera):
    """Behind its refusal comes a body without an end."""

    async def send(self, writer: asyncio.StreamWriter, status: str, body: bytes, more: str = "") -> None:
        if not status.startswith("401"):
            await super().send(writer, status, body, more)
            return
        writer.write(f"HTTP/1.1 {status}\r\nTransfer-Encoding: chunked\r\n{more}\r\n".encode())
        for _ in range(30_000):  # 2 GB; the other side is to have enough long before
            writer.write(b"10000\r\n" + b"x" * 65536 + b"\r\n")
            await writer.drain()


@dataclass
class Thief:
    """A host that somebody names in place of a camera. It asks for a password in clear, and keeps all it gets."""

    host: str
    heard: list[bytes] = field(default_factory=list)

    async def serve(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        while data := await reader.read(4096):
            self.heard.append(data)
            writer.write(b'RTSP/1.0 401 Unauthorized\r\nCSeq: 1\r\nWWW-Authenticate: Basic realm="x"\r\n\r\n')
            await writer.drain()


Serve = Callable[[asyncio.StreamReader, asyncio.StreamWriter], Awaitable[None]]


@contextlib.contextmanager
def listening(*servers: tuple[Serve, str, int, ssl.SSLContext | None]) -> Iterator[None]:
    """Serve them all in a thread of their own."""
    ready, stop = threading.Event(), threading.Event()

    async def guarded(serve: Serve, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        with contextlib.suppress(OSError, asyncio.IncompleteReadError, asyncio.LimitOverrunError, UnicodeDecodeError):
            await serve(reader, writer)
        writer.close()

    async def run() -> None:
        bound = [
            await asyncio.start_server(lambda r, w, s=serve: guarded(s, r, w), host, port, ssl=tls)  # type: ignore[misc]
            for serve, host, port, tls in servers
        ]
        ready.set()
        while not stop.is_set():  # noqa: ASYNC110 - it is set in another thread
            await asyncio.sleep(0.05)
        for server in bound:
            server.close()
        for task in asyncio.all_tasks() - {asyncio.current_task()}:
            task.cancel()

    thread = threading.Thread(target=lambda: asyncio.run(run()), daemon=True)
    thread.start()
    assert ready.wait(10)
    try:
        yield
    finally:
        stop.set()
        thread.join(10)


RICH = {
    "device": "ver10/device", "media": "ver10/media", "imaging": "ver20/imaging", "analytics": "ver20/analytics",
    "deviceIO": "ver10/deviceIO", "media2": "ver20/media",
}  # fmt: skip
IMAGING = (
    "<tt:Brightness>40</tt:Brightness><tt:Exposure><tt:Mode>AUTO</tt:Mode><tt:MinExposureTime>100</tt:MinExposureTime>"
    "<tt:MaxExposureTime>40000</tt:MaxExposureTime><tt:Gain>7</tt:Gain></tt:Exposure><tt:IrCutFilter>ON</tt:IrCutFilter>"
    "<tt:Sharpness>12</tt:Sharpness><tt:WideDynamicRange><tt:Mode>OFF</tt:Mode><tt:Level>30</tt:Level></tt:WideDynamicRange>"
)
ENGINE = (
    "<tt:Parameters><tt:SimpleItem Name='Sensitivity' Value='20'/><tt:ElementItem Name='Layout'><tt:CellLayout Columns='22' "
    "Rows='18'><tt:Transformation><tt:Translate x='-1' y='-1'/></tt:Transformation></tt:CellLayout></tt:ElementItem>"
    "</tt:Parameters>"
)
LENS = (
    "<tt:Name>lens</tt:Name><tt:UseCount>3</tt:UseCount><tt:SourceToken>lens_1</tt:SourceToken><tt:Bounds height='1080' "
    "width='1920' x='0' y='0'/><tt:Extension><tt:Rotate><tt:Mode>OFF</tt:Mode></tt:Rotate></tt:Extension>"
)


@dataclass
class Rich(Settable):
    """All services there are; what is set is kept as it was sent. One lens.

    lacks: operations that it answers with ActionNotSupported
    """

    lacks: tuple[str, ...] = ()
    masks: dict[str, str] = field(default_factory=lambda: {"M1": (
        "<tr2:ConfigurationToken>v</tr2:ConfigurationToken><tr2:Polygon><tt:Point x='0.5' y='0.5'/><tt:Point x='0.9' y='0.5'/>"
        "<tt:Point x='0.7' y='0.9'/></tr2:Polygon><tr2:Type>Blurred</tr2:Type><tr2:Enabled>true</tr2:Enabled>"
    )})  # fmt: skip
    imaging: str = IMAGING
    engine: str = ENGINE
    rules: dict[str, str] = field(default_factory=dict)
    inputs: dict[str, str] = field(default_factory=lambda: {"I1": "open", "I2": "open"})
    protocols: dict[str, str] = field(default_factory=lambda: {"HTTP": "true", "HTTPS": "false", "RTSP": "true"})
    lens: str = LENS
    sound: set[str] = field(default_factory=lambda: {"AudioSource", "AudioEncoder"})
    gateway: str = ""
    names: str = "<tt:FromDHCP>true</tt:FromDHCP>"
    dhcp: str = "false"
    prefix: str = "24"

    def holds(self) -> tuple[object, ...]:
        lens = re.sub(r"\s+", " ", self.lens)
        encoders = {t: (_gov(x), sorted(re.findall(r">([^<>]+)<", _second(x)))) for t, x in self.encoders.items()}
        return (
            self.hostname, self.zone, sorted(self.scopes), sorted(self.others), encoders,
            sorted(map(_bare, self.masks.values())), _bare(self.imaging), _bare(self.engine),
            sorted(map(_bare, self.rules.values())), self.inputs, self.protocols, _bare(lens), sorted(self.sound), self.names,
        )  # fmt: skip

    def content(self, name: str, body: str) -> str | None:
        if name in self.lacks:
            return None
        asked = re.search(r"Body[^>]*>\s*<(\w+):\w+", body)
        space = re.search(rf'xmlns:{asked[1]}="([^"]+)"', body) if asked else None
        second = space is not None and "ver20/media" in space[1]
        prefix = {"ver20/media": "tr2", "imaging": "timg", "analytics": "tan", "deviceIO": "tmd", "ver10/media": "trt"}
        own = next((p for part, p in prefix.items() if space and part in space[1]), "tds")
        if name == "GetServices":
            return "<tds:GetServicesResponse>" + "".join(
                f"<tds:Service><tds:Namespace>http://www.onvif.org/{RICH[part]}/wsdl</tds:Namespace><tds:XAddr>{self.where}"
                f"/onvif/{part}</tds:XAddr></tds:Service>" for part in RICH if "old" not in self.nature or part != "media2"
            ) + "</tds:GetServicesResponse>"  # fmt: skip
        if name.startswith(("Set", "Create", "Delete", "Modify", "Remove", "Add", "SystemReboot")):
            self.told.append(name)
            if "lies" not in self.nature and not self.keep_rich(name, body):
                self.keep(name, body)
            return f"<{own}:{name}Response/>"
        answer = self.rich(name, second=second)
        return (
            super().content(name, body) if answer is None else f"<{own}:{name}Response>{answer}</{own}:{name}Response>"
        )

    def rich(self, name: str, *, second: bool) -> str | None:
        sound = "".join(f"<tr2:{k} token='{k}1'><tt:Name>m</tt:Name></tr2:{k}>" for k in sorted(self.sound))
        ones = [t for t in self.encoders if t.startswith("E1")]
        profiles = "".join(
            f"<tr2:Profiles token='P{t}'><tr2:Name>P{t}</tr2:Name><tr2:Configurations><tr2:VideoSource token='v'>{self.lens}"
            f"</tr2:VideoSource>{sound if t == 'E1m' else ''}<tr2:VideoEncoder token='{t}' GovLength='{_gov(self.encoders[t])}' "
            f"Profile='High'>{_second(self.encoders[t])}</tr2:VideoEncoder><tr2:Analytics token='A'/>"
            "</tr2:Configurations></tr2:Profiles>" for t in ones
        )  # fmt: skip
        rules = "".join(
            f"<tan:Rule Name='{n}' Type='tt:CellMotionDetector'>{x}</tan:Rule>" for n, x in self.rules.items()
        )
        told = {
            "GetMasks": "".join(f"<tr2:Masks token='{t}'>{x}</tr2:Masks>" for t, x in self.masks.items()),
            "GetMaskOptions": "<tr2:Options RectangleOnly='false'><tr2:MaxMasks>4</tr2:MaxMasks><tr2:MaxPoints>8"
            "</tr2:MaxPoints><tr2:Types>Color</tr2:Types></tr2:Options>",
            "GetImagingSettings": f"<timg:ImagingSettings>{self.imaging}</timg:ImagingSettings>",
            "GetOptions": "<timg:ImagingOptions><tt:Exposure><tt:Mode>AUTO</tt:Mode><tt:MaxExposureTime><tt:Min>100</tt:Min>"
            "<tt:Max>40000</tt:Max></tt:MaxExposureTime></tt:Exposure><tt:IrCutFilterModes>ON</tt:IrCutFilterModes>"
            "<tt:IrCutFilterModes>AUTO</tt:IrCutFilterModes><tt:WideDynamicRange><tt:Mode>ON</tt:Mode><tt:Mode>OFF</tt:Mode>"
            "</tt:WideDynamicRange></timg:ImagingOptions>",
            "GetAnalyticsModules": f"<tan:AnalyticsModule Name='m' Type='tt:CellMotionEngine'>{self.engine}"
            "</tan:AnalyticsModule>",
            "GetRules": rules,
            "GetDigitalInputs": "".join(f"<tmd:DigitalInputs token='{t}' IdleState='{s}'/>" for t, s in self.inputs.items()),
            "GetNetworkProtocols": "".join(
                f"<tds:NetworkProtocols><tt:Name>{n}</tt:Name><tt:Enabled>{on}</tt:Enabled><tt:Port>80</tt:Port>"
                "</tds:NetworkProtocols>" for n, on in self.protocols.items()),
            "GetVideoSourceConfigurations": f"<tr2:Configurations token='v'>{self.lens}</tr2:Configurations>",
            "GetNetworkDefaultGateway": "<tds:NetworkGateway>"
            + (f"<tt:IPv4Address>{self.gateway}</tt:IPv4Address>" if self.gateway else "") + "</tds:NetworkGateway>",
            "GetDNS": f"<tds:DNSInformation>{self.names}</tds:DNSInformation>",
            "GetNetworkInterfaces": f"<tds:NetworkInterfaces token='e'><tt:Info><tt:Name>eth0</tt:Name><tt:HwAddress>{self.mac}"
            f"</tt:HwAddress></tt:Info><tt:IPv4><tt:Config><tt:Manual><tt:Address>{self.host}</tt:Address><tt:PrefixLength>"
            f"{self.prefix}</tt:PrefixLength></tt:Manual><tt:DHCP>{self.dhcp}</tt:DHCP></tt:Config></tt:IPv4></tds:NetworkInterfaces>",
        }  # fmt: skip
        if second:
            told |= {
                "GetProfiles": profiles,
                "GetStreamUri": f"<tr2:Uri>rtsp://{self.host}:{RTSP_PORT}/v</tr2:Uri>",
                "GetVideoEncoderConfigurations": "".join(
                    f"<tr2:Configurations token='{t}' GovLength='{_gov(self.encoders[t])}' Profile='High'>"
                    f"{_second(self.encoders[t])}</tr2:Configurations>" for t in ones),
            }  # fmt: skip
        return told.get(name)

    def keep_rich(self, name: str, body: str) -> bool:
        """Whether it was one of these."""
        tag = re.search(rf"<\w+:{name}\b[^>]*?(/>|>(.*)</\w+:{name}>)", body, re.DOTALL)
        inner = (tag[2] or "") if tag else ""
        first = re.search(r"<\w+:(\w+)([^>]*)>(.*)</\w+:\1>", inner, re.DOTALL)
        if name in ("CreateMask", "SetMask"):
            assert first is not None
            token = re.search(r'token="(\w+)"', first[2])
            self.masks[token[1] if token else f"M{len(self.masks) + 1}"] = _local(first[3], "tr2")
        elif name == "DeleteMask":
            self.masks.pop(re.findall(r"Token>(\w+)<", inner)[0])
        elif name == "SetImagingSettings":
            found = re.search(r"ImagingSettings>(.*)</\w+:ImagingSettings>", inner, re.DOTALL)
            assert found is not None
            self.imaging = _local(found[1])
        elif name == "ModifyAnalyticsModules":
            self.engine = _local(
                re.findall(r"<\w+:AnalyticsModule[^>]*>(.*)</\w+:AnalyticsModule>", inner, re.DOTALL)[0]
            )
        elif name in ("CreateRules", "ModifyRules"):
            found = re.search(r"<\w+:Rule ([^>]*)>(.*)</\w+:Rule>", inner, re.DOTALL)
            assert found is not None and 'Type="tt:CellMotionDetector"' in found[1]
            self.rules[re.findall(r'Name="(\w+)"', found[1])[0]] = _local(found[2])
        elif name == "DeleteRules":
            self.rules.pop(re.findall(r"RuleName>(\w+)<", inner)[0])
        elif name == "SetDigitalInputConfigurations":
            for attributes in re.findall(r"DigitalInputs([^>]*)/?>", inner):
                fields = dict(re.findall(r'(\w+)="(\w+)"', attributes))
                self.inputs[fields["token"]] = fields["IdleState"]
        elif name == "SetNetworkProtocols":
            for word, on in re.findall(r"Name>(\w+)</\w+:Name><\w+:Enabled>(\w+)<", inner):
                self.protocols[word] = on
        elif name == "SetVideoSourceConfiguration":
            assert first is not None
            self.lens = _local(first[3])
        elif name == "RemoveConfiguration":
            self.sound.discard(re.findall(r"Type>(\w+)<", inner)[0])
        elif name == "AddConfiguration":
            self.sound.add(re.findall(r"Type>(\w+)<", inner)[0])
        elif name == "SetNetworkDefaultGateway":
            self.gateway = "".join(re.findall(r"IPv4Address>([\d.]+)<", inner))
        elif name == "SetDNS":
            dhcp, servers = re.findall(r"FromDHCP>(\w+)<", inner)[0], re.findall(r"IPv4Address>([\d.]+)<", inner)
            by_hand = "".join(f"<tt:DNSManual><tt:Type>IPv4</tt:Type><tt:IPv4Address>{s}</tt:IPv4Address></tt:DNSManual>"
                              for s in servers)  # fmt: skip
            self.names = f"<tt:FromDHCP>{dhcp}</tt:FromDHCP>{by_hand}"
        elif name == "SetVideoEncoderConfiguration" and "GovLength=" in inner:
            assert first is not None
            fields = dict(re.findall(r'(\w+)="([^"]*)"', first[2]))
            gov = f"<tt:GovLength>{fields['GovLength']}</tt:GovLength>"
            self.encoders[fields["token"]] = _local(first[3]) + gov
        else:
            return False
        return True


def _local(xml: str, keep: str = "") -> str:
    """As it was sent, under the prefixes that are declared here."""
    words = re.sub(r'\sxmlns:\w+="[^"]*"', "", xml)
    return words if keep or "tt:" in words or not words else re.sub(r"(</?)\w+:", r"\1tt:", words)


def _bare(xml: str) -> str:
    """Values without the names around them, whatever the quotes: what two writings of a thing have in common."""
    return " ".join(a or b for a, b in re.findall(r">([^<>]+)<|=[\"']([^\"']*)[\"']", xml))


def _second(encoder: str) -> str:
    """An encoder of the older form as Media 2 writes it: without the parts that became attributes."""
    return re.sub(
        r"<tt:H264>.*</tt:H264>|<tt:EncodingInterval>\d+</tt:EncodingInterval>|<tt:SessionTimeout>.*</tt:SessionTimeout>|"
        r"<tt:GovLength>\d+</tt:GovLength>", "", encoder,
    )  # fmt: skip


def _gov(encoder: str) -> str:
    return str(re.findall(r"GovLength>(\d+)<", encoder)[0])


@dataclass
class Mover(Rich):
    """It answers at one address at a time: that which it was given last.

    nature: "reboots" (asks for a restart, and moves only then; is gone for 2 s), "silent" (its answer never comes), "lies",
    "slow" (moves 2 s after it said OK)
    """

    at: str = ""
    asked: tuple[str, str, str] = ("", "", "")

    def __post_init__(self) -> None:
        self.at = self.at or self.host

    @property
    def mac(self) -> str:
        return "02:5a:77:00:80:0b"

    async def answer(self, writer: asyncio.StreamWriter, head: str, body: str) -> None:
        if writer.get_extra_info("sockname")[0] != self.at or time.monotonic() < self.away_until:
            raise ConnectionResetError
        await super().answer(writer, head, body)
        if self.asked[0] and ("reboots" not in self.nature or self.told[-1:] == ["SystemReboot"]):
            wanted, self.asked = self.asked, ("", "", "")
            if "reboots" in self.nature:
                self.away_until = time.monotonic() + 2
            if "slow" in self.nature:
                await asyncio.sleep(2)
            self.at = self.host = wanted[0]
            _, self.dhcp, self.prefix = wanted

    async def send(self, writer: asyncio.StreamWriter, status: str, body: bytes, more: str = "") -> None:
        if "silent" in self.nature and b"SetNetworkInterfacesResponse" in body:
            return
        await super().send(writer, status, body, more)

    def content(self, name: str, body: str) -> str | None:
        answer = super().content(name, body)
        if name == "SetNetworkInterfaces":
            if "lies" not in self.nature:
                address = re.findall(r"Address>([\d.]+)<", body)
                prefix = re.findall(r"PrefixLength>(\d+)<", body)
                self.asked = (address or [LEASED])[0], re.findall(r"DHCP>(\w+)<", body)[0], (prefix or ["24"])[0]
            needed = str("reboots" in self.nature).lower()
            return f"<tds:{name}Response><tds:RebootNeeded>{needed}</tds:RebootNeeded></tds:{name}Response>"
        return answer


LEASED = "127.0.77.29"  # what a DHCP server gives it


@contextlib.contextmanager
def moving(camera: Mover) -> Iterator[None]:
    """Serve it in a thread where it is, and nowhere else."""
    stop = threading.Event()

    async def guarded(reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        with contextlib.suppress(OSError, asyncio.IncompleteReadError):
            await camera.serve(reader, writer)
        writer.close()

    async def run() -> None:
        bound: dict[str, asyncio.Server] = {}
        while not stop.is_set():
            where = "" if time.monotonic() < camera.away_until else camera.at
            for host in [h for h in bound if h != where]:
                bound.pop(host).close()
            if where and where not in bound:
                bound[where] = await asyncio.start_server(guarded, where, PORT)
            await asyncio.sleep(0.02)
        for server in bound.values():
            server.close()
        for task in asyncio.all_tasks() - {asyncio.current_task()}:
            task.cancel()

    thread = threading.Thread(target=lambda: asyncio.run(run()), daemon=True)
    thread.start()
    time.sleep(0.1)
    try:
        yield
    finally:
        stop.set()
        thread.join(10)
