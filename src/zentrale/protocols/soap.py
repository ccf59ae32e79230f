"""SOAP 1.2 envelopes with WS-Security UsernameToken digests (OASIS UsernameToken profile 1.1), and SOAP faults.

Nonces and times are handed in, so that nothing here needs a clock or chance.
"""

from __future__ import annotations

import base64
import binascii
import hashlib
import hmac
import re
from collections.abc import Iterable
from dataclasses import dataclass
from datetime import UTC, datetime

from lxml import etree

from zentrale.errors import RemoteProtocolError
from zentrale.protocols import xml
from zentrale.protocols.http_auth import Credentials, without_userinfo
from zentrale.protocols.xml import Element, Maker

NS = {
    "s": "http://www.w3.org/2003/05/soap-envelope",
    "wsse": "http://docs.oasis-open.org/wss/2004/01/oasis-200401-wss-wssecurity-secext-1.0.xsd",
    "wsu": "http://docs.oasis-open.org/wss/2004/01/oasis-200401-wss-wssecurity-utility-1.0.xsd",
    "a": "http://schemas.xmlsoap.org/ws/2004/08/addressing",
    "d": "http://schemas.xmlsoap.org/ws/2005/04/discovery",
    "dn": "http://www.onvif.org/ver10/network/wsdl",
    "ter": "http://www.onvif.org/ver10/error",
    "tt": "http://www.onvif.org/ver10/schema",
    "tds": "http://www.onvif.org/ver10/device/wsdl",
    "trt": "http://www.onvif.org/ver10/media/wsdl",
    "tr2": "http://www.onvif.org/ver20/media/wsdl",
    "trv": "http://www.onvif.org/ver10/receiver/wsdl",
    "trc": "http://www.onvif.org/ver10/recording/wsdl",
    "tse": "http://www.onvif.org/ver10/search/wsdl",
    "trp": "http://www.onvif.org/ver10/replay/wsdl",
    "timg": "http://www.onvif.org/ver20/imaging/wsdl",
    "tan": "http://www.onvif.org/ver20/analytics/wsdl",
    "tmd": "http://www.onvif.org/ver10/deviceIO/wsdl",
    "tsc": "http://www.onvif.org/ver10/schedule/wsdl",
    "tev": "http://www.onvif.org/ver10/events/wsdl",
    "wsnt": "http://docs.oasis-open.org/wsn/b-2",
    "wsa": "http://www.w3.org/2005/08/addressing",
    "tns1": "http://www.onvif.org/ver10/topics",
}
_DIGEST_TYPE = "http://docs.oasis-open.org/wss/2004/01/oasis-200401-wss-username-token-profile-1.0#PasswordDigest"


def _of(prefix: str) -> Maker:
    return Maker(NS[prefix], {prefix: NS[prefix]})


S = Maker(
    NS["s"], NS
)  # an envelope declares all; within it the others' declarations go, and with each they would cost ten times
WSSE = _of("wsse")
WSU = _of("wsu")
TT = _of("tt")
TDS = _of("tds")
TRT = _of("trt")
TR2 = _of("tr2")
TRV = _of("trv")
TRC = _of("trc")
TSE = _of("tse")
TRP = _of("trp")
TIMG = _of("timg")
TAN = _of("tan")
TMD = _of("tmd")
TSC = _of("tsc")
TEV = _of("tev")
WSNT = _of("wsnt")
WSA = _of("wsa")

# ONVIF Core, access policy; WS-Security 1.1 clause 12.
_NOT_OFFERED = frozenset({"ActionNotSupported", "OptionalActionNotImplemented", "NotSupported"})  # ONVIF Core, faults
_NOT_AUTHORIZED = frozenset({"NotAuthorized", "SenderNotAuthorized", "FailedAuthentication", "FailedCheck"})


def name_of(element: Element) -> str:
    """The local name: {http://...}GetUsers gives GetUsers."""
    return etree.QName(element).localname


@dataclass(frozen=True)
class Fault:
    """A SOAP fault; `subcodes` are the ONVIF error names, outermost first (ter:NotAuthorized gives NotAuthorized)."""

    code: str
    subcodes: tuple[str, ...]
    reason: str

    @property
    def not_authorized(self) -> bool:
        return bool(_NOT_AUTHORIZED & set(self.subcodes))

    @property
    def not_offered(self) -> bool:
        """The device does not do this at all."""
        return bool(_NOT_OFFERED & set(self.subcodes))

    def __str__(self) -> str:
        names = "/".join(self.subcodes) or self.code
        return f"{names}: {self.reason}" if self.reason else names


@dataclass(frozen=True)
class Envelope:
    """A received message: the element in its body, the header, and the fault where it is one."""

    body: Element | None
    header: Element | None
    fault: Fault | None = None


def serialize(body: Element, *headers: Element) -> bytes:
    """One envelope as bytes."""
    parts = [S.Header(*headers)] if headers else []
    return etree.tostring(S.Envelope(*parts, S.Body(body)), xml_declaration=True, encoding="utf-8")


def parse(data: bytes) -> Envelope:
    """Raises RemoteProtocolError where `data` is not a SOAP 1.2 envelope."""
    root = xml.parse(data)
    if root.tag != f"{{{NS['s']}}}Envelope":
        raise RemoteProtocolError("answer is not a SOAP 1.2 envelope")
    body = root.find("s:Body", NS)
    if body is None:
        raise RemoteProtocolError("SOAP envelope without a body")
    first = next((child for child in body if isinstance(child.tag, str)), None)
    fault = _parse_fault(first) if first is not None and first.tag == f"{{{NS['s']}}}Fault" else None
    return Envelope(first, root.find("s:Header", NS), fault)


def _parse_fault(element: Element) -> Fault:
    subcodes: list[str] = []
    code = element.find("s:Code", NS)
    top = xml.text(code, "s:Value", NS).rpartition(":")[2]
    while code is not None and len(subcodes) < 8:
        code = code.find("s:Subcode", NS)
        if code is not None:
            subcodes.append(xml.text(code, "s:Value", NS).rpartition(":")[2])
    return Fault(top, tuple(subcodes), without_userinfo(xml.text(element, "s:Reason/s:Text", NS))[:200])


def serialize_fault(fault: Fault) -> bytes:
    code = S.Code(S.Value(f"s:{fault.code}"))
    at = code
    for subcode in fault.subcodes:
        inner = S.Subcode(S.Value(f"ter:{subcode}"))
        at.append(inner)
        at = inner
    reason = S.Text(fault.reason)
    reason.set("{http://www.w3.org/XML/1998/namespace}lang", "en")
    return serialize(S.Fault(code, S.Reason(reason)))


def format_time(moment: datetime) -> str:
    return moment.astimezone(UTC).strftime("%Y-%m-%dT%H:%M:%S.") + f"{moment.microsecond // 1000:03d}Z"


def parse_time(value: str) -> datetime:
    """An xs:dateTime; without an offset it is UTC. Raises RemoteProtocolError."""
    try:
        moment = datetime.fromisoformat(value.strip())
    except ValueError:
        raise RemoteProtocolError("not a date and time") from None
    return moment if moment.tzinfo else moment.replace(tzinfo=UTC)


def _token_digest(nonce: bytes, created: str, password: str) -> str:
    """Base64(SHA-1(nonce + created + password)), UsernameToken profile 1.1 clause 3.1."""
    return base64.b64encode(hashlib.sha1(nonce + created.encode() + password.encode()).digest()).decode()


def security_header(credentials: Credentials, nonce: bytes, created: datetime) -> Element:
    """A UsernameToken that proves the password without carrying it. `created` is the device's time."""
    when = format_time(created)
    password = WSSE.Password(_token_digest(nonce, when, credentials.password), Type=_DIGEST_TYPE)
    token = WSSE.UsernameToken(
        WSSE.Username(credentials.user), password, WSSE.Nonce(base64.b64encode(nonce).decode()), WSU.Created(when)
    )
    header = WSSE.Security(token)
    header.set(f"{{{NS['s']}}}mustUnderstand", "1")
    return header


@dataclass(frozen=True)
class UsernameToken:
    """The token of a received header, not yet verified."""

    user: str
    digest: str
    nonce: bytes
    created: datetime
    created_text: str

    def proves(self, accounts: Iterable[Credentials]) -> str | None:
        """The user whose password the digest proves; None where it proves none."""
        for account in accounts:
            wanted = _token_digest(self.nonce, self.created_text, account.password)
            if account.user == self.user and hmac.compare_digest(wanted.encode(), self.digest.encode()):
                return account.user
        return None


def parse_token(header: Element | None) -> UsernameToken | None:
    """The UsernameToken of a SOAP header; None where there is none. Raises RemoteProtocolError on a broken one."""
    token = None if header is None else header.find("wsse:Security/wsse:UsernameToken", NS)
    if token is None:
        return None
    created = xml.text(token, "wsu:Created", NS)
    try:
        nonce = base64.b64decode(xml.text(token, "wsse:Nonce", NS), validate=True)
    except (binascii.Error, ValueError):
        raise RemoteProtocolError("UsernameToken with a nonce that is not base64") from None
    return UsernameToken(
        xml.text(token, "wsse:Username", NS),
        xml.text(token, "wsse:Password", NS),
        nonce,
        parse_time(created),
        created,
    )


_DURATION = re.compile(
    r"P(?:(\d+)Y)?(?:(\d+)M)?(?:(\d+)W)?(?:(\d+)D)?(?:T(?:(\d+)H)?(?:(\d+)M)?(?:(\d+(?:\.\d+)?)S)?)?", re.ASCII
)
_UNITS_S = (365 * 86400.0, 30 * 86400.0, 7 * 86400.0, 86400.0, 3600.0, 60.0, 1.0)


def parse_duration_s(text: str) -> float:
    """An xs:duration (XML Schema part 2 clause 3.2.6) in seconds, months of 30 and years of 365 days; 0 where it is none."""
    found = _DURATION.fullmatch(text.strip()) if len(text) < 40 else None
    return 0.0 if found is None else sum(float(n) * unit for n, unit in zip(found.groups(), _UNITS_S, strict=True) if n)
