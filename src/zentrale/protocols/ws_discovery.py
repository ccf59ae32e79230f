"""WS-Discovery (2005/04) as ONVIF uses it (ONVIF Core, Device discovery): Probe and ProbeMatches over UDP.

Both roles. Identifiers are handed in.
"""

from __future__ import annotations

from dataclasses import dataclass
from urllib.parse import unquote, urlsplit

from zentrale.errors import RemoteProtocolError
from zentrale.protocols import soap, xml
from zentrale.protocols.soap import NS
from zentrale.protocols.xml import Maker
from zentrale.words import clean

MULTICAST_ADDRESS, PORT = "239.255.255.250", 3702
MAX_ADDRESSES = 16

# SOAP-over-UDP 1.0 appendix I, with the values WS-Discovery 2005/04 appendix I gives them.
MULTICAST_REPEAT = 2
UDP_MIN_DELAY_S, UDP_MAX_DELAY_S, UDP_UPPER_DELAY_S = 0.050, 0.250, 0.500
APP_MAX_DELAY_S = 0.500

_PROBE_ACTION = "http://schemas.xmlsoap.org/ws/2005/04/discovery/Probe"
_MATCHES_ACTION = "http://schemas.xmlsoap.org/ws/2005/04/discovery/ProbeMatches"
_TO_ALL = "urn:schemas-xmlsoap-org:ws:2005:04:discovery"
_ANONYMOUS = "http://schemas.xmlsoap.org/ws/2004/08/addressing/role/anonymous"
_SCOPE = "onvif://www.onvif.org/"

A = Maker(NS["a"], NS)
D = Maker(NS["d"], NS)


@dataclass(frozen=True)
class Probe:
    """A question: who is there? `types` are local names such as NetworkVideoTransmitter; none asks all."""

    message_id: str
    types: tuple[str, ...] = ()


@dataclass(frozen=True)
class Match:
    """One device's answer. `endpoint` stays the same over restarts and xaddrs (urn:uuid:...)."""

    endpoint: str
    types: tuple[str, ...]
    scopes: tuple[str, ...]
    xaddrs: tuple[str, ...]
    relates_to: str = ""

    def scope(self, category: str) -> str:
        """The value of onvif://www.onvif.org/CATEGORY/VALUE; empty where it is not told."""
        return scope_value(self.scopes, category)


def scope_value(scopes: tuple[str, ...] | list[str], category: str) -> str:
    prefix = f"{_SCOPE}{category}/"
    return next((clean(unquote(s[len(prefix) :]), 200) for s in scopes if s.lower().startswith(prefix.lower())), "")


def serialize_probe(probe: Probe) -> bytes:
    body = D.Probe(*([D.Types(" ".join(f"dn:{t}" for t in probe.types))] if probe.types else []))
    return soap.serialize(
        body,
        A.MessageID(probe.message_id),
        A.To(_TO_ALL),
        A.Action(_PROBE_ACTION),
        A.ReplyTo(A.Address(_ANONYMOUS)),
    )


def parse_probe(data: bytes) -> Probe | None:
    """The probe in a datagram; None where it is another message. Raises RemoteProtocolError on garbage."""
    envelope = soap.parse(data)
    if envelope.body is None or envelope.body.tag != f"{{{NS['d']}}}Probe":
        return None
    message_id = xml.text(envelope.header, "a:MessageID", NS)
    if not message_id:
        raise RemoteProtocolError("WS-Discovery probe without a message id")
    return Probe(message_id, _local_names(xml.text(envelope.body, "d:Types", NS)))


def serialize_matches(match: Match, message_id: str) -> bytes:
    body = D.ProbeMatches(
        D.ProbeMatch(
            A.EndpointReference(A.Address(match.endpoint)),
            D.Types(" ".join(f"dn:{t}" for t in match.types)),
            D.Scopes(" ".join(match.scopes)),
            D.XAddrs(" ".join(match.xaddrs)),
            D.MetadataVersion("1"),
        )
    )
    return soap.serialize(
        body, A.MessageID(message_id), A.RelatesTo(match.relates_to), A.To(_ANONYMOUS), A.Action(_MATCHES_ACTION)
    )


def parse_matches(data: bytes) -> list[Match]:
    """The matches in a datagram; none where it is another message. Raises RemoteProtocolError on garbage."""
    envelope = soap.parse(data)
    if envelope.body is None or envelope.body.tag != f"{{{NS['d']}}}ProbeMatches":
        return []
    relates_to = xml.text(envelope.header, "a:RelatesTo", NS)
    matches = []
    for element in envelope.body.findall("d:ProbeMatch", NS)[:MAX_ADDRESSES]:
        xaddrs = xml.text(element, "d:XAddrs", NS).split()[:MAX_ADDRESSES]
        matches.append(
            Match(
                xml.text(element, "a:EndpointReference/a:Address", NS),
                _local_names(xml.text(element, "d:Types", NS)),
                tuple(xml.text(element, "d:Scopes", NS).split()[:64]),
                tuple(a for a in xaddrs if _is_http(a)),
                relates_to,
            )
        )
    return matches


def _is_http(address: str) -> bool:
    try:
        parts = urlsplit(address)
        return parts.scheme.lower() in ("http", "https") and bool(parts.hostname) and parts.port != 0
    except ValueError:  # a port that is no number, or a broken IPv6 address
        return False


def _local_names(value: str) -> tuple[str, ...]:
    return tuple(part.rpartition(":")[2] for part in value.split()[:32])
