"""Labels in the picture (ONVIF Media, clause 5.19: GetOSDs, CreateOSD, SetOSD, DeleteOSD), as far as they are plain text."""

from __future__ import annotations

import copy
from collections.abc import Iterable
from dataclasses import dataclass, field

from zentrale.protocols import xml
from zentrale.protocols.soap import NS, TRT, TT
from zentrale.protocols.xml import Element

_MAX_ITEMS = 64
PLAIN = "Plain"


@dataclass(frozen=True)
class Label:
    """A text in the picture of a video source configuration. `kind` Plain, or what else the device writes there (Date, Time,
    DateAndTime); empty for one that is no text.

    element: as the device sent it; it goes back whole but for the text
    """

    token: str
    configuration: str
    kind: str
    text: str = ""
    element: Element | None = field(default=None, compare=False, repr=False)


def get_osds(configuration: str = "") -> Element:
    return TRT.GetOSDs(*([TRT.ConfigurationToken(configuration)] if configuration else []))


def parse_osds(response: Element) -> list[Label]:
    return [_parse(e) for e in response.findall("trt:OSDs", NS)[:_MAX_ITEMS]]


def create_osd(configuration: str, text: str) -> Element:
    """A plain text in the upper left corner."""
    return TRT.CreateOSD(_osd(TRT.OSD(token=""), configuration, text))


def set_osd(label: Label, text: str) -> Element:
    element = TRT.OSD(token=label.token)
    if label.element is None:
        return TRT.SetOSD(_osd(element, label.configuration, text))
    for child in label.element:
        element.append(copy.deepcopy(child))
    plain = element.find("tt:TextString/tt:PlainText", NS)
    if plain is None:
        return TRT.SetOSD(_osd(TRT.OSD(token=label.token), label.configuration, text))
    plain.text = text
    return TRT.SetOSD(element)


def delete_osd(token: str) -> Element:
    return TRT.DeleteOSD(TRT.OSDToken(token))


def parse_osd_request(request: Element) -> Label:
    """What CreateOSD or SetOSD asks for."""
    element = request.find("trt:OSD", NS)
    return _parse(element) if element is not None else Label("", "", "")


def osds_response(labels: Iterable[Label]) -> Element:
    return TRT.GetOSDsResponse(
        *(_osd(TRT.OSDs(token=label.token), label.configuration, label.text) for label in labels)
    )


def _osd(element: Element, configuration: str, text: str) -> Element:
    for child in (
        TT.VideoSourceConfigurationToken(configuration),
        TT.Type("Text"),
        TT.Position(TT.Type("UpperLeft")),
        TT.TextString(TT.Type(PLAIN), TT.PlainText(text)),
    ):
        element.append(child)
    return element


def _parse(element: Element) -> Label:
    text = xml.text(element, "tt:Type", NS) == "Text"
    return Label(
        element.get("token", ""),
        xml.text(element, "tt:VideoSourceConfigurationToken", NS),
        xml.text(element, "tt:TextString/tt:Type", NS) if text else "",
        xml.text(element, "tt:TextString/tt:PlainText", NS),
        element,
    )
