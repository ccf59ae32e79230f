"""One device over ONVIF, opened from where it was found: its host pinned, its credentials bound to it.

Everything a device says of addresses passes through here and comes out at its own host. Credentials go out only with a
ticket of the ledger. What a request may cost (time, bytes, repeats) is bounded here, and nowhere else.
"""

from __future__ import annotations

import logging
import secrets
from collections.abc import Awaitable, Callable
from datetime import UTC, datetime, timedelta
from types import TracebackType
from urllib.parse import urlsplit

from zentrale.errors import (
    DeviceError,
    LockedError,
    NotOfferedError,
    RefusedError,
    RemoteProtocolError,
    UnreachableError,
)
from zentrale.field.http import ANSWER_TIMEOUT_S, Answer, HttpClient, place_of
from zentrale.field.media_service import MediaService
from zentrale.field.repeating import http_date, repeated
from zentrale.field.rules import Rules, Try
from zentrale.protocols import soap
from zentrale.protocols.addresses import HTTP_SCHEMES, bracketed, pin
from zentrale.protocols.doors import Door, Outcome, Purpose, Target, tells_of_a_lock, wait_told
from zentrale.protocols.http_auth import Answering, Credentials, Offers, parse_offers
from zentrale.protocols.onvif import device, network
from zentrale.protocols.soap import NS, Envelope
from zentrale.protocols.xml import Element

log = logging.getLogger(__name__)
GONE_PATIENCE_S = 15.0  # a device that restarts its web server is back by then
MAX_REDIRECTS = 3
_CLOCK = "GetSystemDateAndTime"
_AS_FAULT = soap.Fault("Sender", ("NotAuthorized",), "")
TOKEN = "usernametoken"  # of WS-Security; beside the schemes of HTTP
# ONVIF Core, access classes: answered before authentication, so no credentials are sent along.
_PRE_AUTH = {
    "GetSystemDateAndTime", "GetServices", "GetServiceCapabilities", "GetCapabilities", "GetHostname",
    "GetWsdlUrl", "GetEndpointReference",
}  # fmt: skip


class Device:
    """Use as an async context manager. Every call raises RefusedError, UnreachableError or another DeviceError.

    credentials: those that are used; None asks as a stranger. Set by `login`, or by `use` where they are known to fit.
    media: its media service, of either version
    named_hosts: other hosts that it told in addresses of its own; none of them was asked
    speaks_soap: whether it has answered as a web service does, if only to refuse
    """

    def __init__(
        self,
        url: str,
        rules: Rules | None = None,
        *,
        endpoint: str = "",
        timeout_s: float = ANSWER_TIMEOUT_S,
        patience_s: float = 0.0,
    ) -> None:
        self.url = url
        self.host = urlsplit(url).hostname or ""
        self.target = Target(self.host, int(place_of(url).rpartition(":")[2]), endpoint)
        self.rules = rules or Rules()
        self.clock_offset = timedelta()
        self.purpose = Purpose.ENTER
        self.named_hosts: dict[str, str] = {}
        self._patience_s = patience_s
        self._credentials: Credentials | None = None
        self._answering: Answering | None = None
        self._schemes: tuple[str, ...] | None = None  # what it asked for; None: it was not asked yet
        self._offers = Offers()
        self._scheme = ""
        self._proven = False
        self._attempt: Try | None = None
        self._retry_after = ""
        self._services: dict[str, str] = {}
        self._wants: set[str] = set()  # what it should answer to everybody, and does not
        self.speaks_soap = False
        self._told_date: datetime | None = None
        self.media = MediaService(self)
        self._http = HttpClient(self.rules.check_certificate, timeout_s)

    async def __aenter__(self) -> Device:
        return self

    async def __aexit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        await self.close()

    async def close(self) -> None:
        await self._http.close()

    async def move(self, host: str) -> None:
        """It is at another address now, as the caller has made sure. Its port and its credentials stay."""
        if host == self.host:
            return
        parts = urlsplit(self.url)
        port = f":{parts.port}" if parts.port else ""
        self.url = f"{parts.scheme}://{bracketed(host)}{port}{parts.path}"
        self.host = host
        self.target = Target(host, self.target.port, self.target.endpoint)
        await self.begin_anew()

    async def begin_anew(self) -> None:
        """It was restarted: connections and what it asked for are forgotten; its credentials stay."""
        await self._http.close()
        self._answering, self._proven, self._attempt, self._services = None, False, None, {}
        self._schemes, self._offers, self._scheme = None, Offers(), ""  # after a restart it asks anew
        self._http = HttpClient(self.rules.check_certificate, self._http.timeout_s)

    @property
    def credentials(self) -> Credentials | None:
        return self._credentials

    def use(self, credentials: Credentials | None, scheme: str = "") -> None:
        """From here on, and not proven yet, whatever was proven before; None: as a stranger."""
        self._credentials, self._answering, self._scheme, self._proven = credentials, None, scheme, False

    def as_stranger(self) -> None:
        self.use(None)

    # The way of one request

    async def call(self, prefix: str, request: Element) -> Element:
        """Send `request` to the service with the namespace prefix `prefix`; the answer's body element."""
        name = soap.name_of(request)
        url = self.url if prefix == "tds" else await self.service_address(prefix)
        if self._credentials is None:
            envelope = await self._plain(url, name, request)
        elif name in _PRE_AUTH - self._wants:
            try:
                envelope = await self._plain(url, name, request)
            except RefusedError:  # it should not ask for them here, and does
                if name == _CLOCK:
                    self._by_http_date()  # each time: it may have been set since
                else:
                    self._wants.add(name)
                envelope = await self._proven_or_first(url, name, request)
        else:
            envelope = await self._proven_or_first(url, name, request)
        if envelope.fault is not None:
            kind = NotOfferedError if envelope.fault.not_offered else DeviceError
            failed = kind(f"{name} failed: {envelope.fault}")
            failed.subcodes = envelope.fault.subcodes
            raise failed
        if envelope.body is None or soap.name_of(envelope.body) != f"{name}Response":
            raise RemoteProtocolError(f"{name}: answered with something else")
        return envelope.body

    async def _proven_or_first(self, url: str, name: str, request: Element) -> Envelope:
        """With credentials: those that are proven are asked about no more."""
        if not self._proven or self._attempt is None:
            return await self._first_signed(url, name, request)
        try:
            return await self._signed(url, name, request)
        except RefusedError as error:
            self._refused(self._attempt, error)
            raise

    async def _plain(self, url: str, name: str, request: Element) -> Envelope:
        """Without credentials; what a refusal asks for is remembered. Raises RefusedError, which counts nowhere."""
        answer = await self._send(url, name, request, [])
        envelope = self._read(name, answer)
        if envelope is None or (envelope.fault and envelope.fault.not_authorized):
            self._learn(answer, by_soap=envelope is not None)
            self._told_date = http_date(answer)
            told = str(envelope.fault) if envelope and envelope.fault else f"HTTP {answer.status}"
            if tells_of_a_lock(told):
                self.rules.ledger.lock(self.target, wait_told(told, answer.get("retry-after")))
            raise RefusedError(f"{name} refused: credentials are needed")
        return envelope

    def _learn(self, answer: Answer, *, by_soap: bool) -> None:
        """Which schemes the device takes, the safest first. A digest asks for no clock, so it goes before the token; a device
        that refuses by HTTP alone, and asks for Basic, is not likely to know the token.
        """
        self._offers = parse_offers(answer.all("www-authenticate"))
        digest = ["digest"] if self._offers.digest else []
        basic = ["basic"] if self._offers.challenges and not digest and not self.unsafe() else []
        self._schemes = (*digest, TOKEN, *basic) if by_soap or not basic else (*basic, TOKEN)

    async def _first_signed(self, url: str, name: str, request: Element) -> Envelope:
        """With credentials that are not proven yet: asked of the ledger, in turn, and settled there."""
        assert self._credentials is not None
        if self._schemes is None:
            try:
                return await self._plain(url, name, request)
            except RefusedError:
                pass
        assert self._schemes
        self._scheme = self._scheme or self._schemes[0]
        attempt = await Try.begin(self.rules, self.target, Door.ONVIF, self._scheme, self._credentials, self.purpose)
        try:
            envelope = await self._signed(url, name, request)
            attempt.settle(Outcome.ACCEPTED)
        except RefusedError as error:
            self._refused(attempt, error)
            raise
        except UnreachableError:
            attempt.settle(Outcome.UNCLEAR)
            raise
        except DeviceError:
            attempt.settle(Outcome.VOID)
            raise
        finally:
            attempt.settle(Outcome.UNCLEAR)  # where it was cancelled: the device may have counted it
        self._proven, self._attempt = True, attempt
        return envelope

    def _refused(self, attempt: Try, error: RefusedError) -> None:
        """Into the ledger. Raises LockedError where the device says that it is locked."""
        text = str(error)
        if tells_of_a_lock(text):
            attempt.locked(wait_told(text, self._retry_after))
        attempt.settle(Outcome.REFUSED)

    async def _signed(self, url: str, name: str, request: Element) -> Envelope:
        """One request with the credentials. Raises RefusedError where they are not taken."""
        credentials = self._credentials
        assert credentials is not None
        if self._scheme == TOKEN:
            created = datetime.now(UTC) + self.clock_offset
            token = soap.security_header(credentials, secrets.token_bytes(16), created)
            envelope = self._judge(name, await self._send(url, name, request, [], token))
        else:
            envelope = await self._with_http_authentication(url, name, request)
        if self._answering is not None:
            self._answering.accepted()
        return envelope

    async def _with_http_authentication(self, url: str, name: str, request: Element) -> Envelope:
        assert self._credentials is not None
        if self._answering is None:
            self._answering = Answering(self._credentials, secrets.token_hex(8))
            secure = url.startswith("https:")
            challenge = self.rules.choose(self._offers, secure=secure, host=self.host, credentials=self._credentials)
            if challenge is not None:
                self._answering.take(challenge)
        content = soap.serialize(request)
        target = urlsplit(url)
        uri = target.path + (f"?{target.query}" if target.query else "")
        while True:
            header = self._answering.header("POST", uri, content)
            answer = await self._send(url, name, request, [("Authorization", header)] if header else [])
            if answer.status == 401 and self._answering.challenged(parse_offers(answer.all("www-authenticate"))):
                continue
            return self._judge(name, answer)

    def _judge(self, name: str, answer: Answer) -> Envelope:
        """Raises RefusedError with the device's own words where credentials were not taken."""
        envelope = self._read(name, answer)
        if envelope is not None and not (envelope.fault and envelope.fault.not_authorized):
            return envelope
        self._retry_after = answer.get("retry-after")
        self._proven = False
        fault = f": {envelope.fault}" if envelope and envelope.fault else ""
        raise RefusedError(f"{name} refused (HTTP {answer.status}{fault})")

    def _read(self, name: str, answer: Answer) -> Envelope | None:
        """The envelope; None where the answer refuses by its HTTP status. Raises RemoteProtocolError."""
        try:
            envelope = soap.parse(answer.body)
            self.speaks_soap = True
        except RemoteProtocolError as error:
            if answer.status in (401, 403, 423, 429):
                return None
            raise RemoteProtocolError(f"{name}: HTTP {answer.status}: {error}") from None
        refused = answer.status in (401, 403, 423, 429)
        return Envelope(envelope.body, envelope.header, envelope.fault or _AS_FAULT) if refused else envelope

    async def _send(
        self, url: str, name: str, request: Element, headers: list[tuple[str, str]], *security: Element
    ) -> Answer:
        """Post it, repeat what may be repeated, and follow a redirection on this host."""
        content = soap.serialize(request, *security)
        fields = [("Content-Type", "application/soap+xml; charset=utf-8"), ("Accept-Encoding", "identity"), *headers]
        for _ in range(MAX_REDIRECTS + 1):
            answer = await repeated(name, lambda u=url: self._http.post(u, fields, content), self._patience_s)  # type: ignore[misc]
            log.debug("%s %s: HTTP %s, %d bytes", url, name, answer.status, len(answer.body))
            if answer.status not in (301, 302, 303, 307, 308) or not answer.get("location"):
                return answer
            there = answer.get("location")
            if "://" not in there:
                there = f"{url.partition('://')[0]}://{urlsplit(url).netloc}/{there.lstrip('/')}"
            newer = self.here(there, "redirection")
            if url.startswith("https:") and not newer.startswith("https:"):
                raise RemoteProtocolError(f"{name}: it sends us from HTTPS to HTTP")
            if url == self.url:
                self.url = newer
            url = newer
            if any(field == "Authorization" for field, _ in headers):
                raise RemoteProtocolError(f"{name}: it sends us elsewhere after it was given credentials")
        raise RemoteProtocolError(f"{name}: it sends us round and round")

    def here(self, told: str, what: str) -> str:
        """An address as told, at the host that was reached."""
        pinned = pin(told, self.host, HTTP_SCHEMES, self.rules.http_port)
        if pinned.named:
            self.named_hosts.setdefault(pinned.named, what)
        return pinned.url

    async def service_address(self, prefix: str) -> str:
        """Where the service with that namespace prefix is. Raises NotOfferedError where it lists none."""
        if not self._services:
            try:
                answer = device.parse_services(await self.call("tds", device.get_services()))
            except (RefusedError, RemoteProtocolError, UnreachableError):
                raise
            except DeviceError:  # older than GetServices
                answer = device.parse_capabilities(await self.call("tds", device.ask("GetCapabilities")))
            self._services = {s.namespace: s.xaddr for s in answer}
        address = self._services.get(NS[prefix])
        if address is None:
            raise NotOfferedError(f"the device has no service {NS[prefix]}")
        return self.here(address, "service address")

    # Getting in

    async def login(
        self, credentials: Credentials, scheme: str = "", ask: Callable[[], Awaitable[object]] | None = None
    ) -> None:
        """Use these from now on, proven by a request for administrators, or by `ask`. Raises RefusedError, NotAskedError..."""
        self.use(credentials, scheme)
        await (ask or self.users)()

    def unsafe(self) -> str:
        """Why a password cannot be sent by what it offers in HTTP: in clear only, or in no known way; empty otherwise."""
        try:
            self.rules.choose(self._offers, secure=self.url.startswith("https:"))
        except DeviceError as error:
            return f"{error.what}; {error.advice}" if error.advice else error.what
        return ""

    @property
    def scheme(self) -> str:
        """By what the present credentials are sent."""
        return self._scheme

    @property
    def schemes(self) -> tuple[str, ...]:
        """What it takes credentials by, as far as it was asked."""
        return self._schemes or ()

    # What is asked

    async def system_time(self) -> device.SystemTime:
        """The device's clock; from then on requests are signed in its time."""
        before = datetime.now(UTC)
        answer = device.parse_system_time(await self.call("tds", device.ask("GetSystemDateAndTime")))
        middle = before + (datetime.now(UTC) - before) / 2
        self.clock_offset = answer.utc - middle + timedelta(seconds=0.5)  # the device tells whole seconds
        try:
            datetime.now(UTC) + self.clock_offset + timedelta(days=1)
        except OverflowError:
            raise RemoteProtocolError(f"device tells an impossible date: year {answer.utc.year}") from None
        return answer

    async def read_clock(self) -> bool:
        """As `system_time`, before credentials are there: a device should tell its clock to everybody (ONVIF Core, access
        class PRE_AUTH). False where it wants credentials even for that: HTTP's Date (RFC 9110 clause 6.6.1) stands in, if it
        is sent, to sign requests in its time.
        """
        self._told_date = None
        try:
            await self.system_time()
        except LockedError:
            raise
        except RefusedError:
            if self._credentials is not None:
                raise
            self._by_http_date()
            return False
        return True

    def _by_http_date(self) -> None:
        if self._told_date is not None:
            self.clock_offset = self._told_date - datetime.now(UTC) + timedelta(seconds=0.5)

    async def information(self) -> device.DeviceInformation:
        return device.parse_information(await self.call("tds", device.ask("GetDeviceInformation")))

    async def interfaces(self) -> list[network.NetworkInterface]:
        return network.parse_interfaces(await self.call("tds", device.ask("GetNetworkInterfaces")))

    async def users(self) -> list[device.Account]:
        return device.parse_users(await self.call("tds", device.ask("GetUsers")))

    async def hostname(self) -> str:
        return device.parse_hostname(await self.call("tds", device.ask("GetHostname")))

    async def scopes(self) -> list[tuple[str, str]]:
        return device.parse_scopes(await self.call("tds", device.ask("GetScopes")))
