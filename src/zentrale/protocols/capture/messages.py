"""Messages in a connection, recognised by what is said and not by its port: RTSP with interleaved packets (RFC 2326), RTSP within
HTTP, HTTP (RFC 9112), TLS as such.
"""

from __future__ import annotations

import base64
import binascii
import re
from collections.abc import Iterator
from dataclasses import dataclass, field
from typing import NamedTuple

from zentrale.protocols.rtsp import INTERLEAVED_MARK

MOST_HEAD_BYTES, MOST_BODY_BYTES = 64 * 1024, 256 * 1024
_MOST_MARKS, _ENOUGH = 1024, 8  # beginnings that are looked at; packets behind one another that leave no doubt
_RTSP_METHODS = (
    b"OPTIONS ", b"DESCRIBE ", b"SETUP ", b"PLAY ", b"PAUSE ", b"TEARDOWN ", b"GET_PARAMETER ", b"SET_PARAMETER ", b"ANNOUNCE ",
    b"RECORD ", b"REDIRECT ",
)  # fmt: skip
_HTTP_METHODS = (b"GET ", b"POST ", b"PUT ", b"HEAD ", b"DELETE ", b"OPTIONS ", b"PATCH ")
_FIRST = re.compile(rb"(?:RTSP/1\.\d|HTTP/1\.\d|[A-Z_]{3,16}) [^\r\n]{1,4096}\r\n")
_AT_LEAST = 4


class Packet(NamedTuple):
    """Interleaved in an RTSP connection."""

    channel: int
    data: bytes
    time_s: float
    number: int


@dataclass
class Message:
    """A request or an answer. `first` is its first line; `body` as much as was kept."""

    first: str
    fields: list[tuple[str, str]]
    time_s: float
    number: int
    body: bytes = b""

    @property
    def is_answer(self) -> bool:
        return self.first.startswith(("RTSP/", "HTTP/"))

    @property
    def is_rtsp(self) -> bool:
        return self.first.startswith("RTSP/") or self.first.rstrip().endswith(("RTSP/1.0", "RTSP/2.0"))

    @property
    def method(self) -> str:
        return "" if self.is_answer else self.first.partition(" ")[0]

    @property
    def target(self) -> str:
        parts = self.first.split(" ")
        return parts[1] if len(parts) > 1 and not self.is_answer else ""

    @property
    def status(self) -> int:
        parts = self.first.split(" ")
        return int(parts[1]) if self.is_answer and len(parts) > 1 and parts[1].isdigit() and len(parts[1]) == 3 else 0

    def get(self, name: str) -> str:
        return next((v for n, v in self.fields if n.lower() == name.lower()), "")

    def all(self, name: str) -> list[str]:
        return [v for n, v in self.fields if n.lower() == name.lower()]


def kind_of(start: bytes) -> str:
    """What a direction speaks, by how it begins: rtsp, http, tls, or nothing that is known."""
    if start.startswith((b"RTSP/", *_RTSP_METHODS)) and (b"RTSP/" in start[:4096] or b" rtsp" in start[:4096]):
        return "rtsp"
    if start.startswith((b"HTTP/1.", *_HTTP_METHODS)):
        return "http"
    if start[:1] == b"\x16" and start[1:2] == b"\x03":
        return "tls"
    if start[:1] == b"$" and _interleaved(start):
        return "rtsp"
    return ""


def _interleaved(start: bytes | memoryview) -> bool:
    """Whether it goes on as interleaved packets do: each with RTP or RTCP of version 2."""
    at, seen = 0, 0
    while at + 6 <= len(start) and seen < _ENOUGH:
        if start[at] != INTERLEAVED_MARK or start[at + 1] > 31 or start[at + 4] >> 6 != 2:
            return False
        at, seen = at + 4 + (start[at + 2] << 8 | start[at + 3]), seen + 1
    return seen >= 2


@dataclass
class Cutter:
    """Cuts one direction into messages and packets. `lost` bytes could not be told; after a hole it looks for where the next one
    begins. `tunnel`: what follows is RTSP within HTTP, "plain" or "base64".
    """

    lost: int = 0
    tunnel: str = ""
    _buffer: bytearray = field(default_factory=bytearray)
    _sought: bool = False
    _coded: bytearray = field(default_factory=bytearray)

    def hole(self) -> None:
        self.lost += len(self._buffer)
        self._buffer.clear()
        self._sought = True

    def push(self, data: bytes, time_s: float, number: int) -> Iterator[Message | Packet]:
        self._buffer += self._decoded(data) if self.tunnel == "base64" else data
        if self._sought and not self._seek():
            return
        at = 0
        buffer = self._buffer
        while at < len(buffer):
            first = buffer[at]
            if first == INTERLEAVED_MARK:
                if at + 4 > len(buffer):
                    break
                end = at + 4 + (buffer[at + 2] << 8 | buffer[at + 3])
                if end > len(buffer):
                    break
                yield Packet(buffer[at + 1], bytes(buffer[at + 4 : end]), time_s, number)
                at = end
                continue
            if first in b"\r\n":
                at += 1
                continue
            message, end = self._message(at, time_s, number)
            if end < 0:  # no message begins here
                del buffer[:at]
                self.hole()
                return
            if message is None:
                break
            at = end
            if message.get("x-sessioncookie") and message.method == "POST" and not self.tunnel:
                self.tunnel = "base64"
                rest = bytes(buffer[at:])
                del buffer[at:]
                buffer += self._decoded(rest)
            yield message
        del buffer[:at]
        if len(buffer) > MOST_HEAD_BYTES + MOST_BODY_BYTES:
            self.hole()

    def _decoded(self, data: bytes) -> bytes:
        """RTSP requests that a tunnel carries, coded four characters at a time."""
        self._coded += bytes(b for b in data if b not in b"\r\n")
        whole = len(self._coded) // 4 * 4
        part, self._coded = bytes(self._coded[:whole]), self._coded[whole:]
        try:
            return base64.b64decode(part, validate=True)
        except binascii.Error:
            self.lost += whole
            return b""

    @property
    def held_bytes(self) -> int:
        return len(self._buffer) + len(self._coded)

    def _interleaved_at(self, mark: int) -> bool:
        with memoryview(self._buffer) as view, view[mark:] as part:
            return _interleaved(part)

    def _seek(self) -> bool:
        """To where something begins again that can be read."""
        found = _FIRST.search(self._buffer)
        mark = self._buffer.find(b"$")
        for _ in range(_MOST_MARKS):
            if mark < 0 or self._interleaved_at(mark):
                break
            mark = self._buffer.find(b"$", mark + 1)
        else:
            mark = -1
        starts = [p for p in (found.start() if found else -1, mark) if p >= 0]
        if not starts:
            if len(self._buffer) > MOST_HEAD_BYTES:
                self.lost += len(self._buffer)
                self._buffer.clear()
            return False
        self.lost += min(starts)
        del self._buffer[: min(starts)]
        self._sought = False
        return True

    def _message(self, at: int, time_s: float, number: int) -> tuple[Message | None, int]:
        """None where it is not all there; a negative end where none begins here."""
        buffer = self._buffer
        end = buffer.find(b"\r\n\r\n", at, at + MOST_HEAD_BYTES)
        if end < 0:
            bad = len(buffer) - at >= MOST_HEAD_BYTES or not buffer[at : at + 1].isalpha()
            return None, -1 if bad else at
        lines = bytes(buffer[at:end]).decode("latin-1").split("\r\n")
        if not _FIRST.match(bytes(buffer[at : at + 4200])):
            return None, -1
        fields = [(n.strip(), v.strip()) for n, colon, v in (line.partition(":") for line in lines[1:]) if colon]
        message = Message(lines[0], fields, time_s, number)
        size = self._body(message, end + 4)
        if size is None:
            return None, at
        message.body = bytes(buffer[end + 4 : end + 4 + size])
        return message, end + 4 + size

    def _body(self, message: Message, start: int) -> int | None:
        """How long its body is; None where that is not all there."""
        told = message.get("content-length")
        if message.get("x-sessioncookie") or "rtsp-tunnelled" in message.get("content-type").lower():
            return 0  # what follows goes on for as long as the tunnel
        if "chunked" in message.get("transfer-encoding").lower():
            end = self._buffer.find(b"0\r\n\r\n", start, start + MOST_BODY_BYTES)
            if end < 0 and len(self._buffer) - start < MOST_BODY_BYTES:
                return None
            return end + 5 - start if end >= 0 else len(self._buffer) - start
        size = int(told) if told.isdigit() and len(told) < 10 else 0
        if len(self._buffer) - start >= size:
            return size
        return None if size <= MOST_BODY_BYTES else len(self._buffer) - start
