"""An ONVIF client: one device, one set of credentials. Times, retries and authentication live here.

A request is first signed with a WS-Security UsernameToken in the device's own time; a device that wants HTTP digest
says so with a 401 and gets it.
"""

from __future__ import annotations

import logging
import secrets
import time
from datetime import UTC, datetime, timedelta
from types import TracebackType
from urllib.parse import urlsplit, urlunsplit

import httpx

from zentrale.errors import DeviceError, RefusedError, RemoteProtocolError, UnreachableError
from zentrale.protocols import soap
from zentrale.protocols.http_auth import Credentials
from zentrale.protocols.onvif import device, media
from zentrale.protocols.soap import NS
from zentrale.protocols.xml import MAX_BYTES, Element

log = logging.getLogger(__name__)
TIMEOUT_S = 5.0
ATTEMPTS = 2  # a request that got no answer is asked once more; all requests here may be repeated


class OnvifClient:
    """Use as an async context manager. Every call raises RefusedError, UnreachableError or another DeviceError."""

    def __init__(self, address: str, credentials: Credentials | None = None, timeout_s: float = TIMEOUT_S) -> None:
        self.address = address
        self.credentials = credentials
        self.clock_offset = timedelta()
        self._services: dict[str, str] = {}
        self._http_digest = False
        # Devices have certificates of their own making; the site's network is closed.
        self._http = httpx.AsyncClient(timeout=timeout_s, verify=False, trust_env=False, follow_redirects=False)

    async def __aenter__(self) -> OnvifClient:
        return self

    async def __aexit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        await self._http.aclose()

    # The way of one request

    async def call(self, prefix: str, request: Element) -> Element:
        """Send `request` to the service with the namespace prefix `prefix`; the answer's body element."""
        name = soap.name_of(request)
        address = self.address if prefix == "tds" else await self._service_address(prefix)
        status, headers, body = await self._post(address, request)
        wants_digest = status == 401 and "digest" in headers.get("www-authenticate", "").lower()
        if wants_digest and self.credentials is not None and not self._http_digest:
            self._http_digest = True
            status, headers, body = await self._post(address, request)
        log.debug("%s %s: HTTP %s, %d bytes", address, name, status, len(body))
        if status in (401, 403):
            raise RefusedError(f"{name} refused: credentials are needed or wrong")
        try:
            envelope = soap.parse(body)
        except RemoteProtocolError as error:
            raise RemoteProtocolError(f"{name}: HTTP {status}: {error}") from None
        if envelope.fault is not None:
            if envelope.fault.not_authorized:
                raise RefusedError(f"{name} refused: {envelope.fault}")
            raise DeviceError(f"{name} failed: {envelope.fault}")
        if envelope.body is None or soap.name_of(envelope.body) != f"{name}Response":
            raise RemoteProtocolError(f"{name}: answered with something else")
        return envelope.body

    async def _post(self, address: str, request: Element) -> tuple[int, httpx.Headers, bytes]:
        headers = {"Content-Type": "application/soap+xml; charset=utf-8", "Accept-Encoding": "identity"}
        auth = None
        if self.credentials is not None and self._http_digest:
            auth = httpx.DigestAuth(self.credentials.user, self.credentials.password)
        for attempt in range(1, ATTEMPTS + 1):
            security = []
            if self.credentials is not None and auth is None:
                created = datetime.now(UTC) + self.clock_offset
                security.append(soap.security_header(self.credentials, secrets.token_bytes(16), created))
            content = soap.serialize(request, *security)
            try:
                return await self._exchange(address, content, headers, auth)
            except httpx.InvalidURL:
                raise RemoteProtocolError(f"the device names an impossible address: {address[:100]!r}") from None
            except (httpx.ConnectError, httpx.TimeoutException) as error:
                if attempt == ATTEMPTS:
                    raise UnreachableError(f"{_where(address)}: no answer ({type(error).__name__})") from None
            except httpx.HTTPError as error:
                raise RemoteProtocolError(f"{_where(address)}: {type(error).__name__}: {str(error)[:120]}") from None
        raise AssertionError("unreachable")

    async def _exchange(
        self, address: str, content: bytes, headers: dict[str, str], auth: httpx.DigestAuth | None
    ) -> tuple[int, httpx.Headers, bytes]:
        body = bytearray()
        async with self._http.stream("POST", address, content=content, headers=headers, auth=auth) as response:
            if response.headers.get("content-encoding", "identity") != "identity":
                raise RemoteProtocolError("answer is compressed, which was not asked for")
            deadline = time.monotonic() + 4 * TIMEOUT_S  # against an answer that trickles for ever
            async for chunk in response.aiter_raw():
                body += chunk
                if len(body) > MAX_BYTES:
                    raise RemoteProtocolError(f"answer of more than {MAX_BYTES} bytes")
                if time.monotonic() > deadline:
                    raise UnreachableError(f"{_where(address)}: the answer does not end")
            return response.status_code, response.headers, bytes(body)

    async def _service_address(self, prefix: str) -> str:
        if not self._services:
            try:
                answer = device.parse_services(await self.call("tds", device.get_services()))
            except RefusedError:
                raise
            except RemoteProtocolError:
                raise
            except DeviceError:  # older than GetServices
                answer = device.parse_capabilities(await self.call("tds", device.ask("GetCapabilities")))
            self._services = {s.namespace: self._reachable(s.address) for s in answer}
        address = self._services.get(NS[prefix])
        if address is None:
            raise DeviceError(f"the device has no service {NS[prefix]}")
        return address

    def _reachable(self, told: str) -> str:
        """A service's address as told, but at the host that was reached: devices behind a router, or with a stale
        setting, tell one that is not.
        """
        own, other = urlsplit(self.address), urlsplit(told)
        if other.hostname == own.hostname:
            return told
        return urlunsplit((own.scheme, own.netloc, other.path, other.query, ""))

    # What is asked

    async def system_time(self) -> device.SystemTime:
        """The device's clock; from then on requests are signed in its time."""
        before = datetime.now(UTC)
        answer = device.parse_system_time(await self.call("tds", device.ask("GetSystemDateAndTime")))
        middle = before + (datetime.now(UTC) - before) / 2
        self.clock_offset = answer.utc + timedelta(seconds=0.5) - middle  # the device tells whole seconds
        return answer

    async def information(self) -> device.DeviceInformation:
        return device.parse_information(await self.call("tds", device.ask("GetDeviceInformation")))

    async def interfaces(self) -> list[device.NetworkInterface]:
        return device.parse_interfaces(await self.call("tds", device.ask("GetNetworkInterfaces")))

    async def users(self) -> list[device.Account]:
        return device.parse_users(await self.call("tds", device.ask("GetUsers")))

    async def hostname(self) -> str:
        return device.parse_hostname(await self.call("tds", device.ask("GetHostname")))

    async def scopes(self) -> list[tuple[str, str]]:
        return device.parse_scopes(await self.call("tds", device.ask("GetScopes")))

    async def profiles(self) -> list[media.Profile]:
        return media.parse_profiles(await self.call("trt", media.ask("GetProfiles")))

    async def stream_uri(self, profile_token: str) -> str:
        return media.parse_uri(await self.call("trt", media.get_stream_uri(profile_token)))


def _where(address: str) -> str:
    parts = urlsplit(address)
    return f"{parts.hostname}:{parts.port or (443 if parts.scheme == 'https' else 80)}"
