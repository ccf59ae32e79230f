"""What every stand-in device answers: the ONVIF device service, with accounts, a clock and refusals.

A device without accounts is fresh from the factory: it answers everybody (ONVIF Core, access policy in the factory
default state) until the first administrator is made.
"""

from __future__ import annotations

import asyncio
import logging
import secrets
import time
from collections.abc import Callable
from dataclasses import replace
from datetime import UTC, datetime
from urllib.parse import quote

from lxml import etree

from zentrale.errors import RemoteProtocolError, SoapRefusalError
from zentrale.protocols import soap, ssdp, xml
from zentrale.protocols.http_auth import Credentials, DigestVerifier
from zentrale.protocols.onvif import device, ntp, password_rules
from zentrale.protocols.soap import NS, Fault
from zentrale.protocols.ws_discovery import Match
from zentrale.protocols.xml import Element
from zentrale.simulation import files
from zentrale.simulation.http_server import HttpRequest, HttpResponse
from zentrale.simulation.network_state import NetworkState
from zentrale.simulation.scenario import Camera, Recorder
from zentrale.simulation.tap import Tap

log = logging.getLogger(__name__)
TOKEN_LIFETIME_S = 300  # a signed request older or newer than this is refused as stale
MAX_ACCOUNTS = 10
DESCRIPTION_PATH = "/description.xml"  # of UPnP

# ONVIF Core, access classes: what must be answered before authentication.
_PRE_AUTH = {"GetSystemDateAndTime", "GetServices", "GetServiceCapabilities", "GetCapabilities", "GetHostname"}
_ADMINISTRATOR_ONLY = {
    "GetUsers",
    "CreateUsers",
    "SetUser",
    "SetSystemDateAndTime",
    "SetHostname",
    "SetScopes",
    "SetNTP",
    "DeleteUsers",
    "SetNetworkInterfaces",
    "SetNetworkDefaultGateway",
    "SetDNS",
    "SetNetworkProtocols",
    "SystemReboot",
}

Answer = Callable[[Element], Element]


class OnvifDevice:
    """The device service, and the way from an HTTP request to an operation. Subclasses add services."""

    device_type = "NetworkVideoTransmitter"

    def __init__(self, config: Camera | Recorder) -> None:
        self.config: Camera | Recorder = config
        self.accounts: dict[str, tuple[Credentials, str]] = {
            a.user: (a.credentials(), a.level) for a in config.accounts
        }
        self.clock_offset_s = config.clock_offset_s
        self.faults: set[str] = set()  # those that are on, by name
        self.tap: Tap | None = None  # writes along what is said
        self.still = False  # nothing moves at the site
        self.runs = True  # false: it is starting, or has no power, and answers nobody
        self.timezone = "UTC0"
        self.hostname = f"{config.model.lower().replace(' ', '-')}-{config.mac.replace(':', '')[-6:]}"
        self.scopes = [f"onvif://www.onvif.org/name/{quote(config.model)}", "onvif://www.onvif.org/location/workshop"]
        self.time_source = "Manual"
        self.time_servers = ntp.TimeServers(from_dhcp=True)
        self.digest = DigestVerifier(f"{config.maker} {config.model}", secrets.token_hex(16), ("SHA-256", "MD5"))
        self._seen_nonces: dict[bytes, float] = {}
        self._refused = self._asked_who = 0
        self._locked_until_s = 0.0
        self.network = NetworkState(self)
        self.files = files.Files(self)
        self.operations: dict[str, Answer] = {
            "GetSystemDateAndTime": lambda _: self._system_time(),
            "SetSystemDateAndTime": self._set_system_time,
            "GetDeviceInformation": lambda _: device.information_response(self.information),
            "GetServices": lambda _: device.services_response(self.services()),
            "GetCapabilities": lambda _: device.capabilities_response(self.services()),
            "GetUsers": lambda _: device.users_response(device.Account(u, lv) for u, (_c, lv) in self.accounts.items()),
            "CreateUsers": self._create_users,
            "SetUser": self._set_user,
            "DeleteUsers": self._delete_users,
            "GetPasswordComplexityConfiguration": self._password_rules,
            "GetNTP": lambda _: ntp.ntp_response(self.time_servers),
            "SetNTP": self._set_ntp,
            "GetHostname": lambda _: device.hostname_response(self.hostname),
            "SetHostname": self._set_hostname,
            "GetScopes": lambda _: device.scopes_response(self.fixed_scopes(), self.configurable_scopes()),
            "SetScopes": self._set_scopes,
            **self.network.operations(),
            **self.files.operations(),
        }

    @property
    def information(self) -> device.DeviceInformation:
        c = self.config
        self._asked_who += 1
        other = "-2" if "duplicate-address" in self.faults and self._asked_who % 2 else ""  # now the one, now the other
        return device.DeviceInformation(c.maker, c.model, c.firmware, c.serial + other, c.model)

    @property
    def base_url(self) -> str:
        scheme = "https" if self.config.quirks.https_only else "http"
        return f"{scheme}://{self.config.address}:{self.config.http_port}"

    @property
    def fresh(self) -> bool:
        return not self.accounts

    def credentials(self) -> list[Credentials]:
        return [credentials for credentials, _ in self.accounts.values()]

    def now_s(self) -> float:
        return time.time() + self.clock_offset_s

    def services(self) -> list[device.Service]:
        return [device.Service(NS["tds"], self.base_url + device.SERVICE_PATH)]

    def fixed_scopes(self) -> list[str]:
        prefix = "onvif://www.onvif.org"
        return [f"{prefix}/type/{self.device_type}", f"{prefix}/hardware/{self.config.model.replace(' ', '%20')}"]

    def configurable_scopes(self) -> list[str]:
        return self.scopes

    def matches(self, relates_to: str, *, resolving: bool = False) -> list[Match]:
        """Its own, and that of who shares its address."""
        own = self.match(relates_to, resolving=resolving)
        shared = replace(own, endpoint=own.endpoint.replace("5a100000", "5a100002"))
        return [own, shared] if "duplicate-address" in self.faults else [own]

    def match(self, relates_to: str, *, resolving: bool = False) -> Match:
        endpoint = f"urn:uuid:5a100000-0000-4000-8000-{self.config.mac.replace(':', '')}"
        scopes = (*self.fixed_scopes(), *self.configurable_scopes())
        addresses = (self.base_url + device.SERVICE_PATH,) if resolving or self.config.quirks.tells_address else ()
        return Match(endpoint, (self.device_type,), scopes, addresses, relates_to)

    # From an HTTP request to an operation

    async def handle(self, request: HttpRequest) -> HttpResponse:
        if after_s := 6.0 if "late" in self.faults else self.config.quirks.answer_after_s:
            await asyncio.sleep(after_s)
        if request.target in files.PATHS:
            if not self.fresh and self.http_user(request) is None:
                offers = [("WWW-Authenticate", c) for c in self.digest.challenges()]
                return HttpResponse(401, b"credentials are needed", "text/plain", offers)
            return self.files.answer(request)
        if request.method != "POST":
            return await self.handle_get(request)
        try:
            envelope = soap.parse(request.body)
            if envelope.body is None:
                raise RemoteProtocolError("empty body")
            token = soap.parse_token(envelope.header)
        except RemoteProtocolError as error:
            return HttpResponse(400, soap.serialize_fault(Fault("Sender", ("WellFormed",), str(error))))
        name = soap.name_of(envelope.body)
        log.debug("%s: %s", self.config.name, name)
        try:
            operation = self.operations.get(name)
            if operation is None:
                raise SoapRefusalError("Receiver", "ActionNotSupported", reason=f"{name} is not supported")
            if not (self.fresh or name in _PRE_AUTH):
                user = self._admitted(request, token)
                if user is None and token is None:
                    offers = [("WWW-Authenticate", c) for c in self.digest.challenges()]
                    fault = Fault("Sender", ("NotAuthorized",), "credentials are needed")
                    by_digest = "digest" in self.config.quirks.authentication
                    return HttpResponse(401, soap.serialize_fault(fault), headers=offers if by_digest else [])
                if user is None:
                    raise SoapRefusalError(
                        "Sender", "NotAuthorized", reason="wrong user or password, or a stale request"
                    )
                if name in _ADMINISTRATOR_ONLY and self.accounts[user][1] != device.ADMINISTRATOR:
                    raise SoapRefusalError("Sender", "NotAuthorized", reason=f"{name} needs an administrator")
            if name in self.config.quirks.claims:
                return HttpResponse(200, soap.serialize(etree.Element(str(envelope.body.tag) + "Response")))
            return HttpResponse(200, soap.serialize(operation(envelope.body)))
        except SoapRefusalError as refusal:
            status = 500 if refusal.code == "Receiver" else 400
            fault = Fault(refusal.code, refusal.subcodes, self.config.quirks.fault_text or refusal.what)
            return HttpResponse(status, soap.serialize_fault(fault))
        except RemoteProtocolError as error:
            return HttpResponse(400, soap.serialize_fault(Fault("Sender", ("InvalidArgVal",), str(error))))

    async def handle_get(self, request: HttpRequest) -> HttpResponse:
        if request.target == DESCRIPTION_PATH and self.config.quirks.ssdp:
            c = self.config
            kind = "NetworkCamera" if isinstance(c, Camera) else "NetworkVideoRecorder"
            description = ssdp.Description(c.maker, c.model, self.hostname, c.serial, kind, f"uuid:{c.mac}")
            return HttpResponse(200, ssdp.serialize_description(description), "text/xml")
        return HttpResponse(404, b"not found", "text/plain")

    def http_user(self, request: HttpRequest) -> str | None:
        return self.digest.user_of(request.headers.get("authorization", ""), request.method, self.credentials())

    def _admitted(self, request: HttpRequest, token: soap.UsernameToken | None) -> str | None:
        """Whom the credentials show, where it takes such; after too many wrong ones it takes none for a while."""
        quirks = self.config.quirks
        asked = token is not None or bool(request.headers.get("authorization"))
        if time.monotonic() < self._locked_until_s or "locked" in self.faults:
            if asked:
                raise SoapRefusalError("Sender", "NotAuthorized", reason="the account is locked, try again later")
            return None
        taken = ("token" if token is not None else "digest") in quirks.authentication
        user = self._authenticated_user(request, token) if taken else None
        if user is not None:
            self._refused = 0
        elif asked and quirks.locks_after:
            self._refused += 1
            if self._refused >= quirks.locks_after:
                self._refused, self._locked_until_s = 0, time.monotonic() + quirks.locked_s
        return user

    def _authenticated_user(self, request: HttpRequest, token: soap.UsernameToken | None) -> str | None:
        if token is None:
            return self.http_user(request)
        now = self.now_s()
        if abs(token.created.timestamp() - now) > TOKEN_LIFETIME_S or token.nonce in self._seen_nonces:
            return None
        self._seen_nonces = {n: t for n, t in self._seen_nonces.items() if now - t < 2 * TOKEN_LIFETIME_S}
        self._seen_nonces[token.nonce] = now
        return token.proves(self.credentials())

    # Operations

    def _system_time(self) -> Element:
        utc = datetime.fromtimestamp(self.now_s(), UTC)
        return device.system_time_response(device.SystemTime(utc, self.timezone, self.time_source))

    def _set_system_time(self, request: Element) -> Element:
        wanted = device.parse_set_system_time(request, datetime.fromtimestamp(self.now_s(), UTC))
        self.clock_offset_s = wanted.utc.timestamp() - time.time()
        self.time_source = wanted.source
        self.timezone = wanted.timezone or self.timezone
        return soap.TDS.SetSystemDateAndTimeResponse()

    def _set_ntp(self, request: Element) -> Element:
        self.time_servers = ntp.parse_set_ntp(request)
        return soap.TDS.SetNTPResponse()

    def _create_users(self, request: Element) -> Element:
        for credentials, level in device.parse_user_requests(request):
            if credentials.user in self.accounts:
                raise SoapRefusalError("Sender", "OperationProhibited", "UsernameClash", reason="the user exists")
            if len(self.accounts) >= MAX_ACCOUNTS:
                raise SoapRefusalError("Receiver", "Action", "TooManyUsers", reason="no room for another user")
            self._store(credentials, level)
        return soap.TDS.CreateUsersResponse()

    def _set_user(self, request: Element) -> Element:
        for credentials, level in device.parse_user_requests(request):
            held = self.accounts.get(credentials.user)
            if held is None:
                raise SoapRefusalError("Sender", "InvalidArgVal", "UsernameMissing", reason="no such user")
            if credentials.password:
                self._store(credentials, level)
            else:
                self.accounts[credentials.user] = (held[0], level or held[1])
        return soap.TDS.SetUserResponse()

    def _delete_users(self, request: Element) -> Element:
        for name in (xml.text(e, ".", NS) for e in request.findall("tds:Username", NS)):
            if self.accounts.pop(name, None) is None:
                raise SoapRefusalError("Sender", "InvalidArgVal", "UsernameMissing", reason="no such user")
        return soap.TDS.DeleteUsersResponse()

    def _password_rules(self, request: Element) -> Element:
        if not self.config.tells_password_rules:
            raise SoapRefusalError("Receiver", "ActionNotSupported", reason="not told")
        return password_rules.complexity_response(
            password_rules.PasswordRules(self.config.min_password_length, capitals=1, digits=1, signs=1)
        )

    def _store(self, credentials: Credentials, level: str) -> None:
        if len(credentials.password) < self.config.min_password_length:
            reason = f"the password needs {self.config.min_password_length} characters"
            raise SoapRefusalError("Sender", "OperationProhibited", "PasswordTooWeak", reason=reason)
        longest = self.config.max_password_length
        if longest and len(credentials.password) > longest:
            raise SoapRefusalError(
                "Sender", "OperationProhibited", "PasswordTooLong", reason=f"at most {longest} characters"
            )
        self.accounts[credentials.user] = (credentials, level or device.USER)

    def _set_hostname(self, request: Element) -> Element:
        self.hostname = (request.findtext("tds:Name", "", NS) or "").strip()
        return soap.TDS.SetHostnameResponse()

    def _set_scopes(self, request: Element) -> Element:
        self.scopes = device.parse_set_scopes(request)
        return soap.TDS.SetScopesResponse()
