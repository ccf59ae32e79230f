"""The address of a stream: rtsp:// or rtsps://, without a user and a password in what is shown."""

from __future__ import annotations

from dataclasses import dataclass
from urllib.parse import unquote, urlsplit

from zentrale.errors import InputError
from zentrale.protocols.addresses import RTSP_SCHEMES, bracketed, pin, without_user

DEFAULT_PORT = 554
DEFAULT_SECURE_PORT = 322  # RTSP over TLS (RFC 7826 clause 4.2)
_ADDRESS_ADVICE = "expected rtsp://[USER@]HOST[:PORT]/PATH, such as rtsp://viewer@10.20.0.11/live/main"


@dataclass(frozen=True)
class StreamAddress:
    """A stream address taken apart. `url` carries no user and no password; `named` is another host that a device told
    in place of this one.
    """

    url: str
    host: str
    port: int
    user: str = ""
    password: str = ""
    named: str = ""

    @property
    def secure(self) -> bool:
        return self.url.startswith("rtsps:")

    def __repr__(self) -> str:
        return f"StreamAddress({self.url!r})"

    @classmethod
    def parse(cls, text: str) -> StreamAddress:
        """What a person typed. Raises InputError where `text` is not an rtsp:// address."""
        shown = without_user(text)
        try:
            parts = urlsplit(text)
            port = parts.port
        except ValueError as error:
            raise InputError(f"{shown}: not a stream address ({error})", _ADDRESS_ADVICE) from None
        scheme = parts.scheme.lower()
        if scheme not in RTSP_SCHEMES or not parts.hostname or any(c.isspace() for c in text) or port == 0:
            raise InputError(f"{shown}: not a stream address", _ADDRESS_ADVICE)
        host = bracketed(parts.hostname)
        where = host if port is None else f"{host}:{port}"
        url = f"{scheme}://{where}{parts.path or '/'}" + (f"?{parts.query}" if parts.query else "")
        user, password = unquote(parts.username or ""), unquote(parts.password or "")
        return cls(url, parts.hostname, port or default_port(scheme), user, password)

    @classmethod
    def told(cls, text: str, host: str, at_port: int | None = None) -> StreamAddress:
        """What a device told, at the `host` that was reached, and at `at_port` where a translation stands before it. Raises
        RemoteProtocolError where it is no stream address.
        """
        pinned = pin(text, host, RTSP_SCHEMES, at_port)
        parts = urlsplit(pinned.url)
        return cls(pinned.url, host, parts.port or default_port(parts.scheme), named=pinned.named)

    def at(self, host: str) -> str:
        """The same address at another host: the one where the plan puts the camera."""
        return pin(self.url, host, RTSP_SCHEMES).url


def default_port(scheme: str) -> int:
    return DEFAULT_SECURE_PORT if scheme == "rtsps" else DEFAULT_PORT
