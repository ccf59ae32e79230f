"""SSDP (UPnP Device Architecture 1.1, clause 1) and the device descriptions it leads to (clause 2.3), as a control point.

Both roles for what is sent over UDP. Everything that is read is bounded and without control characters.
"""

from __future__ import annotations

from dataclasses import dataclass

from lxml import etree

from zentrale.errors import RemoteProtocolError
from zentrale.protocols import xml
from zentrale.protocols.soap import name_of
from zentrale.protocols.xml import Maker
from zentrale.words import clean

MULTICAST_ADDRESS, PORT = "239.255.255.250", 1900
ROOT = "upnp:rootdevice"
MAX_WAIT_S = 1  # MX: over so many seconds devices spread their answers
_MAX_TEXT = 200


@dataclass(frozen=True)
class Told:
    """What a device tells: `location` is where its description lies, `usn` its unique service name, `server` its software."""

    location: str
    usn: str
    server: str
    leaving: bool = False

    @property
    def uuid(self) -> str:
        """uuid:... of the device, without the service."""
        return self.usn.partition("::")[0]


@dataclass(frozen=True)
class Description:
    """What the description says of the device."""

    maker: str
    model: str
    name: str
    serial: str
    kind: str  # the device type, such as MediaServer or Printer
    uuid: str


def serialize_search() -> bytes:
    """M-SEARCH for root devices (clause 1.3.2)."""
    lines = [
        "M-SEARCH * HTTP/1.1", f"HOST: {MULTICAST_ADDRESS}:{PORT}", 'MAN: "ssdp:discover"', f"MX: {MAX_WAIT_S}", f"ST: {ROOT}",
    ]  # fmt: skip
    return "\r\n".join([*lines, "", ""]).encode("ascii")


def is_search(data: bytes) -> bool:
    first, fields = _parts(data)
    return first.startswith("M-SEARCH ") and fields.get("st", "") in (ROOT, "ssdp:all")


def serialize_answer(answer: Told) -> bytes:
    lines = [
        "HTTP/1.1 200 OK", "CACHE-CONTROL: max-age=1800", "EXT:", f"LOCATION: {answer.location}", f"SERVER: {answer.server}",
        f"ST: {ROOT}", f"USN: {answer.usn}",
    ]  # fmt: skip
    return "\r\n".join([*lines, "", ""]).encode("utf-8")


def parse(data: bytes) -> Told | None:
    """An answer to a search, or an announcement; None where it is something else."""
    first, fields = _parts(data)
    words = first.split()
    answer = len(words) > 1 and words[0].startswith("HTTP/") and words[1] == "200"
    if not answer and not first.startswith("NOTIFY "):
        return None
    leaving = fields.get("nts", "") == "ssdp:byebye"
    if not fields.get("usn") or not (fields.get("location") or leaving):
        return None
    return Told(fields.get("location", ""), fields["usn"], fields.get("server", ""), leaving)


def _parts(data: bytes) -> tuple[str, dict[str, str]]:
    lines = data[:8192].decode("utf-8", "replace").splitlines()[:40]
    fields: dict[str, str] = {}
    for line in lines[1:]:
        name, mark, value = line.partition(":")
        if mark:
            fields.setdefault(name.strip().lower(), clean(value.strip(), 500))
    return (lines[0] if lines else ""), fields


def serialize_description(of: Description) -> bytes:
    d = Maker("urn:schemas-upnp-org:device-1-0", {"": "urn:schemas-upnp-org:device-1-0"})
    device = d.device(
        d.deviceType(f"urn:schemas-upnp-org:device:{of.kind}:1"), d.friendlyName(of.name), d.manufacturer(of.maker),
        d.modelName(of.model), d.serialNumber(of.serial), d.UDN(of.uuid),
    )  # fmt: skip
    return etree.tostring(
        d.root(d.specVersion(d.major("1"), d.minor("1")), device), xml_declaration=True, encoding="utf-8"
    )


def parse_description(data: bytes) -> Description:
    """Raises RemoteProtocolError where it is none."""
    root = xml.parse(data)
    device = next((e for e in root.iter() if isinstance(e.tag, str) and name_of(e) == "device"), None)
    if name_of(root) != "root" or device is None:
        raise RemoteProtocolError("not a UPnP device description")
    told = {name_of(e): clean((e.text or "").strip(), _MAX_TEXT) for e in device if isinstance(e.tag, str)}
    kind = told.get("deviceType", "").split(":")
    return Description(
        told.get("manufacturer", ""), told.get("modelName", ""), told.get("friendlyName", ""), told.get("serialNumber", ""),
        kind[3] if len(kind) > 3 else "", told.get("UDN", ""),
    )  # fmt: skip
