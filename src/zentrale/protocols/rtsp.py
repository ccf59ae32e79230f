"""RTSP 1.0 messages (RFC 2326), both directions: a reader of bytes into events, and messages into bytes.

Interleaved binary data (clause 10.12) arrives between messages on the same connection and becomes its own event.
"""

from __future__ import annotations

import re
from dataclasses import dataclass, field
from typing import NamedTuple

from zentrale.errors import RemoteProtocolError
from zentrale.protocols.http_auth import wire_bytes
from zentrale.words import clean

VERSION = "RTSP/1.0"
MAX_HEADER_BYTES = 16 * 1024  # the longest real ones, with two digest challenges, stay below 2 kB
MAX_BODY_BYTES = 256 * 1024  # session descriptions and parameter texts
MAX_HEADERS = 100
MAX_REASON = 120
INTERLEAVED_MARK = 0x24  # "$"

REASONS = {
    200: "OK", 400: "Bad Request", 401: "Unauthorized", 404: "Not Found", 405: "Method Not Allowed",
    454: "Session Not Found", 455: "Method Not Valid in This State", 461: "Unsupported Transport",
    500: "Internal Server Error", 501: "Not Implemented", 503: "Service Unavailable",
}  # fmt: skip

_STATUS_LINE = re.compile(r"RTSP/1\.\d (\d{3})(?: (.*))?")
_REQUEST_LINE = re.compile(r"([A-Z_]{1,32}) (\S+) RTSP/1\.\d")


@dataclass
class Headers:
    """Header fields in order; names compared without case, a name may occur more than once."""

    fields: list[tuple[str, str]] = field(default_factory=list)

    def get(self, name: str, default: str = "") -> str:
        return next((value for key, value in self.fields if key.lower() == name.lower()), default)

    def all(self, name: str) -> list[str]:
        return [value for key, value in self.fields if key.lower() == name.lower()]

    def integer(self, name: str, default: int) -> int:
        """Raises RemoteProtocolError where the field is there but is no sensible number."""
        text = self.get(name).strip()
        if not text:
            return default
        if not (text.isascii() and text.isdigit() and len(text) <= 10):
            raise RemoteProtocolError(f"RTSP header {name} is not a number")
        return int(text)


@dataclass
class Request:
    method: str
    uri: str
    headers: Headers = field(default_factory=Headers)
    body: bytes = b""

    def serialize(self) -> bytes:
        return _serialize(f"{self.method} {self.uri} {VERSION}", self.headers, self.body)


@dataclass
class Response:
    status: int
    headers: Headers = field(default_factory=Headers)
    body: bytes = b""
    reason: str = ""

    def serialize(self) -> bytes:
        return _serialize(
            f"{VERSION} {self.status} {self.reason or REASONS.get(self.status, '')}", self.headers, self.body
        )


class Interleaved(NamedTuple):
    """One binary frame: a whole RTP or RTCP packet of `channel`. A named tuple, since thousands are made each second."""

    channel: int
    data: bytes

    def serialize(self) -> bytes:
        return bytes((INTERLEAVED_MARK, self.channel)) + len(self.data).to_bytes(2, "big") + self.data


Event = Request | Response | Interleaved


def _serialize(first: str, headers: Headers, body: bytes) -> bytes:
    lines = [first, *(f"{name}: {value}" for name, value in headers.fields)]
    if body:
        lines.append(f"Content-Length: {len(body)}")
    if any("\n" in line or "\r" in line for line in lines):
        raise RemoteProtocolError("RTSP header value with a line break")
    first_line, *others = lines
    return b"\r\n".join([first_line.encode("utf-8", "replace"), *map(wire_bytes, others)]) + b"\r\n\r\n" + body


def _text(line: bytes) -> str:
    """UTF-8 (clause 4.2); a challenge and its answer byte by byte."""
    by_byte = line.lower().startswith((b"www-authenticate:", b"authorization:"))
    return line.decode("latin-1") if by_byte else line.decode("utf-8", "replace")


class Reader:
    """Bytes in with `receive`, events out. After an error the connection is of no more use."""

    def __init__(self) -> None:
        self._buffer = bytearray()

    def receive(self, data: bytes) -> list[Event]:
        """All events completed by `data`. Raises RemoteProtocolError on anything that is not RTSP."""
        self._buffer += data
        events: list[Event] = []
        buffer, at = self._buffer, 0
        while at < len(buffer):
            if buffer[at] == INTERLEAVED_MARK:
                if len(buffer) - at < 4:
                    break
                end = at + 4 + (buffer[at + 2] << 8 | buffer[at + 3])
                if end > len(buffer):
                    break
                events.append(Interleaved(buffer[at + 1], bytes(buffer[at + 4 : end])))
                at = end
                continue
            if buffer[at] in b"\r\n":  # some devices send an empty line between messages
                at += 1
                continue
            message, after = self._message(at)
            if message is None:
                break
            events.append(message)
            at = after
        del buffer[:at]
        return events

    def _message(self, start: int) -> tuple[Request | Response | None, int]:
        buffer = self._buffer
        end = buffer.find(b"\r\n\r\n", start, start + MAX_HEADER_BYTES)
        if end < 0:
            if len(buffer) - start >= MAX_HEADER_BYTES:
                raise RemoteProtocolError(f"RTSP headers without an end within {MAX_HEADER_BYTES} bytes")
            if not buffer[start : start + 1].isalpha():
                raise RemoteProtocolError("answer is not RTSP")
            return None, start
        lines = list(map(_text, bytes(buffer[start:end]).split(b"\r\n")))
        message = _first_line(lines[0])
        if len(lines) > MAX_HEADERS:
            raise RemoteProtocolError(f"RTSP message with more than {MAX_HEADERS} headers")
        for line in lines[1:]:
            name, colon, value = line.partition(":")
            if not colon or not name.strip():
                raise RemoteProtocolError("RTSP header line without a name")
            message.headers.fields.append((name.strip(), value.strip()))
        length = message.headers.integer("Content-Length", 0)
        if length > MAX_BODY_BYTES:
            raise RemoteProtocolError(f"RTSP body of {length} bytes; at most {MAX_BODY_BYTES} are taken")
        body_start = end + 4
        if len(buffer) < body_start + length:
            return None, start
        message.body = bytes(buffer[body_start : body_start + length])
        return message, body_start + length


def _first_line(line: str) -> Request | Response:
    status = _STATUS_LINE.fullmatch(line)
    if status:
        return Response(int(status[1]), reason=clean(status[2] or "", MAX_REASON))
    request = _REQUEST_LINE.fullmatch(line)
    if request:
        return Request(request[1], request[2])
    raise RemoteProtocolError("answer is not RTSP")


def parse_transport(value: str) -> dict[str, str]:
    """The parameters of a Transport header (clause 12.39); the profile stands under "profile"."""
    first, *rest = value.split(",")[0].split(";")
    parameters = {"profile": first.strip().upper()}
    for item in rest:
        name, _, text = item.strip().partition("=")
        parameters[name.lower()] = text
    return parameters


def number_pair(text: str) -> tuple[int, int] | None:
    """Two numbers as in `interleaved=0-1` or `client_port=5000-5001`; None where they are not there."""
    first, _, second = text.partition("-")
    if not (first.isascii() and first.isdigit() and len(first) <= 5):
        return None
    low = int(first)
    return low, int(second) if second.isascii() and second.isdigit() and len(second) <= 5 else low + 1
