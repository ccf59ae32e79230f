"""WS-Discovery over UDP, in both versions that devices speak: 2005/04, as ONVIF Core asks for (clause 7), and 1.1 of OASIS
(2009/01). Probe, Resolve and their answers, Hello and Bye.

Both roles. Identifiers are handed in. What is read is taken by its local names, since devices mix the versions' namespaces.
"""

from __future__ import annotations

from dataclasses import dataclass
from enum import Enum
from urllib.parse import unquote, urlsplit

from lxml import etree

from zentrale.errors import RemoteProtocolError
from zentrale.protocols import soap
from zentrale.protocols.soap import name_of
from zentrale.protocols.xml import Element, Maker
from zentrale.words import clean

MULTICAST_ADDRESS, MULTICAST_ADDRESS_V6, PORT = "239.255.255.250", "ff02::c", 3702
MAX_ADDRESSES = 16

# SOAP-over-UDP 1.0 appendix I, with the values WS-Discovery 2005/04 appendix I gives them.
MULTICAST_REPEAT = 2
UDP_MIN_DELAY_S, UDP_MAX_DELAY_S, UDP_UPPER_DELAY_S = 0.050, 0.250, 0.500
APP_MAX_DELAY_S = 0.500

_SCOPE = "onvif://www.onvif.org/"
_TO_SPACES = str.maketrans("\t\r\n", "   ")


class Version(Enum):
    """The namespaces of a version: of discovery, of addressing, and whom a multicast message is sent to."""

    V2005 = (
        "http://schemas.xmlsoap.org/ws/2005/04/discovery",
        "http://schemas.xmlsoap.org/ws/2004/08/addressing",
        "urn:schemas-xmlsoap-org:ws:2005:04:discovery",
    )
    V1_1 = (
        "http://docs.oasis-open.org/ws-dd/ns/discovery/2009/01",
        "http://www.w3.org/2005/08/addressing",
        "urn:docs-oasis-open-org:ws-dd:ns:discovery:2009:01",
    )

    @property
    def discovery(self) -> Maker:
        return Maker(self.value[0], {"d": self.value[0]})

    @property
    def addressing(self) -> Maker:
        return Maker(self.value[1], {"a": self.value[1]})

    @property
    def anonymous(self) -> str:
        """Back to where the question came from."""
        role = "/role/anonymous" if self is Version.V2005 else "/anonymous"
        return self.value[1] + role


class Kind(Enum):
    MATCHES = "an answer"
    HELLO = "Hello"
    BYE = "Bye"


@dataclass(frozen=True)
class Probe:
    """A question: who is there? `types` are local names such as NetworkVideoTransmitter; none asks all. With `endpoint` it is
    a Resolve: at which address is this one?
    """

    message_id: str
    types: tuple[str, ...] = ()
    version: Version = Version.V2005
    endpoint: str = ""


@dataclass(frozen=True)
class Match:
    """What one device tells of itself. `endpoint` stays the same over restarts and xaddrs (urn:uuid:...)."""

    endpoint: str
    types: tuple[str, ...]
    scopes: tuple[str, ...]
    xaddrs: tuple[str, ...]
    relates_to: str = ""

    def scope(self, category: str) -> str:
        """The value of onvif://www.onvif.org/CATEGORY/VALUE; empty where it is not told."""
        return scope_value(self.scopes, category)


@dataclass(frozen=True)
class Message:
    """A datagram with what devices tell of themselves."""

    kind: Kind
    matches: tuple[Match, ...]


def scope_value(scopes: tuple[str, ...] | list[str], category: str) -> str:
    prefix = f"{_SCOPE}{category}/"
    return next((clean(unquote(s[len(prefix) :]), 200) for s in scopes if s.lower().startswith(prefix.lower())), "")


def serialize_probe(probe: Probe) -> bytes:
    d, a = probe.version.discovery, probe.version.addressing
    body, action = d.Probe(*([d.Types(" ".join(f"dn:{t}" for t in probe.types))] if probe.types else [])), "Probe"
    if probe.endpoint:
        body, action = d.Resolve(a.EndpointReference(a.Address(probe.endpoint))), "Resolve"
    return soap.serialize(
        body,
        a.MessageID(probe.message_id),
        a.To(probe.version.value[2]),
        a.Action(f"{probe.version.value[0]}/{action}"),
        a.ReplyTo(a.Address(probe.version.anonymous)),
    )


def parse_probe(data: bytes) -> Probe | None:
    """The probe or resolve in a datagram; None where it is another message. Raises RemoteProtocolError on garbage."""
    envelope = soap.parse(data)
    if envelope.body is None or name_of(envelope.body) not in ("Probe", "Resolve"):
        return None
    message_id = _text(envelope.header, "MessageID")
    if not message_id:
        raise RemoteProtocolError("WS-Discovery probe without a message id")
    version = Version.V1_1 if etree.QName(envelope.body).namespace == Version.V1_1.value[0] else Version.V2005
    endpoint = _text(envelope.body, "EndpointReference", "Address")
    return Probe(message_id, _local_names(_text(envelope.body, "Types")), version, endpoint)


def serialize_matches(
    match: Match, message_id: str, version: Version = Version.V2005, *, resolved: bool = False
) -> bytes:
    name = "Resolve" if resolved else "Probe"
    d, a = version.discovery, version.addressing
    body = d(f"{name}Matches", d(f"{name}Match", *_parts(match, version)))
    relates = a.RelatesTo(match.relates_to)
    to, action = a.To(version.anonymous), a.Action(f"{version.value[0]}/{name}Matches")
    return soap.serialize(body, a.MessageID(message_id), relates, to, action)


def serialize_announcement(kind: Kind, match: Match, message_id: str, version: Version = Version.V2005) -> bytes:
    """Hello, or Bye."""
    name = kind.value
    a = version.addressing
    body = version.discovery(name, *_parts(match, version))
    to, action = a.To(version.value[2]), a.Action(f"{version.value[0]}/{name}")
    return soap.serialize(body, a.MessageID(message_id), to, action)


def _parts(match: Match, version: Version) -> list[Element]:
    d, a = version.discovery, version.addressing
    return [
        a.EndpointReference(a.Address(match.endpoint)),
        d.Types(" ".join(f"dn:{t}" for t in match.types)),
        d.Scopes(" ".join(match.scopes)),
        *([d.XAddrs(" ".join(match.xaddrs))] if match.xaddrs else []),
        d.MetadataVersion("1"),
    ]


def parse_message(data: bytes) -> Message | None:
    """What devices tell in a datagram; None where it is another message. Raises RemoteProtocolError on garbage."""
    envelope = soap.parse(data)
    name = name_of(envelope.body) if envelope.body is not None else ""
    if envelope.body is None or name not in ("ProbeMatches", "ResolveMatches", "Hello", "Bye"):
        return None
    relates_to = _text(envelope.header, "RelatesTo")
    if name in ("Hello", "Bye"):
        return Message(Kind(name), (_match(envelope.body, relates_to),))
    elements = [e for e in envelope.body if isinstance(e.tag, str) and name_of(e) in ("ProbeMatch", "ResolveMatch")]
    return Message(Kind.MATCHES, tuple(_match(e, relates_to) for e in elements[:MAX_ADDRESSES]))


def parse_matches(data: bytes) -> list[Match]:
    """The matches in a datagram; none where it is another message. Raises RemoteProtocolError on garbage."""
    message = parse_message(data)
    return list(message.matches) if message is not None and message.kind is Kind.MATCHES else []


def _match(element: Element, relates_to: str) -> Match:
    xaddrs = _text(element, "XAddrs").split()[:MAX_ADDRESSES]
    return Match(
        _text(element, "EndpointReference", "Address"),
        _local_names(_text(element, "Types")),
        tuple(_text(element, "Scopes").split()[:64]),
        tuple(a for a in xaddrs if _is_http(a)),
        relates_to,
    )


def _text(parent: Element | None, *names: str) -> str:
    """The text of the first element of these local names, one within the other."""
    for name in names:
        parent = next(
            (e for e in (parent if parent is not None else ()) if isinstance(e.tag, str) and name_of(e) == name), None
        )
    return clean((parent.text or "").translate(_TO_SPACES).strip()) if parent is not None else ""


def _is_http(address: str) -> bool:
    try:
        parts = urlsplit(address)
        return parts.scheme.lower() in ("http", "https") and bool(parts.hostname) and parts.port != 0
    except ValueError:  # a port that is no number, or a broken IPv6 address
        return False


def _local_names(value: str) -> tuple[str, ...]:
    return tuple(part.rpartition(":")[2] for part in value.split()[:32])
