"""Files to and from a device by HTTP, at its own host and with the credentials that opened it."""

from __future__ import annotations

import secrets
from urllib.parse import urlsplit

from zentrale.errors import RefusedError, RemoteProtocolError
from zentrale.field.device import Device
from zentrale.field.http import Answer, HttpClient
from zentrale.protocols.addresses import HTTP_SCHEMES, pin
from zentrale.protocols.http_auth import Answering, Challenge, parse_offers

MOST_BYTES = 64 * 1024 * 1024  # of a back-up
_TIMEOUT_S = 300.0


async def download(device: Device, told: str) -> bytes:
    """What is at the address that the device told. Raises DeviceError."""
    return (await _exchange(device, "GET", told, b"")).body


async def upload(device: Device, told: str, content: bytes) -> None:
    """POST a file to where the device wants it. Raises DeviceError."""
    await _exchange(device, "POST", told, content)


async def _exchange(device: Device, method: str, told: str, content: bytes) -> Answer:
    pinned = pin(told, device.host, HTTP_SCHEMES, device.rules.http_port)
    if device.url.startswith("https:") and not pinned.url.startswith("https:"):
        raise RemoteProtocolError("it wants the file over HTTP, and is spoken with over HTTPS")
    if pinned.named:
        device.named_hosts.setdefault(pinned.named, "file address")
    credentials = device.credentials
    answering = Answering(credentials, secrets.token_hex(8)) if credentials is not None else None

    def choose(answer: Answer) -> Challenge | None:
        offers = parse_offers(answer.all("www-authenticate"))
        secure = pinned.url.startswith("https:")
        return device.rules.choose(offers, secure=secure, host=device.host, credentials=credentials)

    parts = urlsplit(pinned.url)
    uri = parts.path + (f"?{parts.query}" if parts.query else "")
    kind = [("Content-Type", "application/octet-stream")] if content else []
    async with HttpClient(device.rules.check_certificate, _TIMEOUT_S, MOST_BYTES) as client:
        if content and answering is not None:  # asked with nothing first, so that the file goes once
            probe = await client.exchange("GET", pinned.url, [], b"")
            challenge = choose(probe)
            if probe.status == 401 and challenge is not None:
                answering.take(challenge)
        while True:
            header = answering.header(method, uri, content) if answering is not None else ""
            fields = [*kind, *([("Authorization", header)] if header else [])]
            answer = await client.exchange(method, pinned.url, fields, content)
            if answer.status == 401:
                if not header:
                    choose(answer)
                if answering is not None and answering.challenged(parse_offers(answer.all("www-authenticate"))):
                    continue
                raise RefusedError("it does not take its credentials for the file")
            if not 200 <= answer.status < 300:
                raise RemoteProtocolError(f"it answers HTTP {answer.status} to the file")
            return answer
