"""Where a recorder stores (ONVIF Core, Device management: GetStorageConfigurations): what there is, not how it is."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

from zentrale.protocols import xml
from zentrale.protocols.http_auth import without_userinfo
from zentrale.protocols.soap import NS, TDS
from zentrale.protocols.xml import Element

_MAX_ITEMS = 256


@dataclass(frozen=True)
class Storage:
    """`kind` as NFS, CIFS or LocalStorage; `place` a path or an address, without user and password."""

    token: str
    kind: str
    place: str


def get_configurations() -> Element:
    return TDS.GetStorageConfigurations()


def configurations_response(storages: Iterable[Storage]) -> Element:
    return TDS.GetStorageConfigurationsResponse(
        *(TDS.StorageConfigurations(TDS.Data(TDS.LocalPath(s.place), type=s.kind), token=s.token) for s in storages)
    )


def parse_configurations(response: Element) -> list[Storage]:
    found = []
    for element in response.findall("tds:StorageConfigurations", NS)[:_MAX_ITEMS]:
        data = element.find("tds:Data", NS)
        kind = "" if data is None else xml.safe(str(data.get("type") or ""))
        place = xml.text(data, "tds:LocalPath", NS) or without_userinfo(xml.text(data, "tds:StorageUri", NS))
        found.append(Storage(xml.safe(str(element.get("token") or "")), kind, place))
    return found
