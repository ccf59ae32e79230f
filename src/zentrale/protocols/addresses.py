"""Addresses that a device tells: of its services, streams and pictures, of where it sends us on.

None is followed to another host than the one that was reached: a stale setting, a router in between, or somebody who
wants our password name others. Path and port are kept, and what was named is told.
"""

from __future__ import annotations

import ipaddress
from collections.abc import Collection
from dataclasses import dataclass
from urllib.parse import quote, urlsplit, urlunsplit

from zentrale.errors import RemoteProtocolError
from zentrale.words import clean

MAX_LENGTH = 2000
HTTP_SCHEMES = ("http", "https")
RTSP_SCHEMES = ("rtsp", "rtsps")
_SAFE = "%/:=&?~#+!$,;'@()*[]"  # stays as it is; all else is percent-encoded (RFC 3986)


@dataclass(frozen=True)
class Pinned:
    """An address as told, at the host that was reached. `named` is the other host that was told; empty: none was."""

    url: str
    named: str = ""


def pin(told: str, host: str, schemes: Collection[str], at_port: int | None = None) -> Pinned:
    """The address `told`, at `host`, without user and password. Raises RemoteProtocolError where it is none.

    at_port: the port at which it is reached, whatever port is told
    """
    shown = clean(without_user(told), 80) or "nothing"
    if len(told) > MAX_LENGTH:
        raise RemoteProtocolError(f"the device tells an address of {len(told)} characters")
    if not told.isprintable() or " " in told:
        raise RemoteProtocolError(f"the device tells an impossible address: {shown}")
    try:
        parts = urlsplit(told)
        named, port = parts.hostname or "", parts.port
    except ValueError:  # a lone bracket, a port that is no number or too large
        raise RemoteProtocolError(f"the device tells an impossible address: {shown}") from None
    if parts.scheme.lower() not in schemes or not named or port == 0:
        raise RemoteProtocolError(f"the device tells an address that is not of {' or '.join(schemes)}: {shown}")
    port = at_port or port
    where = bracketed(host) if port is None else f"{bracketed(host)}:{port}"
    path, query = quote(parts.path, safe=_SAFE), quote(parts.query, safe=_SAFE)
    url = urlunsplit((parts.scheme.lower(), where, path or "/", query, ""))
    return Pinned(url, "" if same_host(named, host) else clean(named, 80))


def bracketed(host: str) -> str:
    """A host as it stands in an address: IPv6 in brackets."""
    return f"[{host}]" if ":" in host else host


def same_host(a: str, b: str) -> bool:
    """Whether two spellings name one host, as far as that shows without asking anybody."""
    try:
        # The adapter after a link-local address (fe80::1%eth0) is ours: no device tells it.
        one, other = (ipaddress.ip_address(host.partition("%")[0]) for host in (a, b))
        return one == other
    except ValueError:
        return a.lower().rstrip(".") == b.lower().rstrip(".")


def is_multicast(address: str) -> bool:
    """Whether it is the address of a multicast group."""
    try:
        return ipaddress.ip_address(address).is_multicast
    except ValueError:
        return False


def without_user(text: str) -> str:
    """`text` with user and password taken out, also where it is no proper address."""
    scheme, mark, rest = text.partition("://")
    if not mark:
        return text
    authority, slash, path = rest.partition("/")
    return f"{scheme}{mark}{authority.rpartition('@')[2]}{slash}{path}"
