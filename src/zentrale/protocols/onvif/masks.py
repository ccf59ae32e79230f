"""Privacy masks (ONVIF Media 2, GetMasks, CreateMask, SetMask, DeleteMask): polygons that hide a part of the picture."""

from __future__ import annotations

import copy
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field

from zentrale.protocols import xml
from zentrale.protocols.soap import NS, TR2, TT
from zentrale.protocols.xml import Element

_MAX_ITEMS = 64
Corner = tuple[float, float]  # from -1 (left, bottom) to 1 (right, top): ONVIF's normalized coordinates


@dataclass(frozen=True)
class Mask:
    """`kind` Color, Pixelated or Blurred. `element`: as the device sent it; it goes back whole but for what differs."""

    corners: tuple[Corner, ...]
    enabled: bool = True
    kind: str = "Color"
    token: str = ""
    configuration: str = ""
    element: Element | None = field(default=None, compare=False, repr=False)


@dataclass(frozen=True)
class MaskOptions:
    """`most` masks of `most_corners`; `rectangles`: of four corners at right angles only; `kinds` offered. 0, empty: not told."""

    most: int = 0
    most_corners: int = 0
    rectangles: bool = False
    kinds: tuple[str, ...] = ()


def get_masks(configuration: str) -> Element:
    return TR2.GetMasks(TR2.ConfigurationToken(configuration))


def parse_masks(response: Element) -> list[Mask]:
    return [_parse(e) for e in response.findall("tr2:Masks", NS)[:_MAX_ITEMS]]


def get_options(configuration: str) -> Element:
    return TR2.GetMaskOptions(TR2.ConfigurationToken(configuration))


def parse_options(response: Element) -> MaskOptions:
    at = response.find("tr2:Options", NS)
    if at is None:
        return MaskOptions()
    kinds = (xml.text(e, ".", NS) for e in at.findall("tr2:Types", NS)[:_MAX_ITEMS])
    return MaskOptions(
        xml.integer(at, "tr2:MaxMasks", NS),
        xml.integer(at, "tr2:MaxPoints", NS),
        xml.true(at.get("RectangleOnly", "")),
        tuple(k for k in kinds if k),
    )


def create_mask(mask: Mask) -> Element:
    return TR2.CreateMask(_element(TR2.Mask(), mask))


def set_mask(mask: Mask) -> Element:
    return TR2.SetMask(_element(TR2.Mask(token=mask.token), mask))


def delete_mask(token: str) -> Element:
    return TR2.DeleteMask(TR2.Token(token))


def _element(element: Element, mask: Mask) -> Element:
    """tt:MaskConfiguration of Media 2 in the order of its schema."""
    if mask.element is not None:
        element.extend(copy.deepcopy(list(mask.element)))
        enabled = element.find("tr2:Enabled", NS)
        if enabled is not None:
            enabled.text = str(mask.enabled).lower()
        return element
    element.append(TR2.ConfigurationToken(mask.configuration))
    element.append(TR2.Polygon(*(TT.Point(x=f"{x:.4f}", y=f"{y:.4f}") for x, y in mask.corners)))
    element.append(TR2.Type(mask.kind))
    if mask.kind == "Color":
        element.append(TR2.Color(X="0", Y="0", Z="0", Colorspace="http://www.onvif.org/ver10/colorspace/RGB"))
    element.append(TR2.Enabled(str(mask.enabled).lower()))
    return element


def _parse(element: Element) -> Mask:
    points = element.findall("tr2:Polygon/tt:Point", NS)[:_MAX_ITEMS]
    corners = tuple((round(xml.sensible(p.get("x", "")), 4), round(xml.sensible(p.get("y", "")), 4)) for p in points)
    return Mask(
        corners,
        xml.boolean(element, "tr2:Enabled", NS),
        xml.text(element, "tr2:Type", NS),
        element.get("token", ""),
        xml.text(element, "tr2:ConfigurationToken", NS),
        element,
    )


# The other role, for stand-ins


def parse_request(request: Element) -> Mask:
    """What CreateMask or SetMask asks for."""
    element = request.find("tr2:Mask", NS)
    return _parse(element) if element is not None else Mask(())


def masks_response(held: Iterable[Mask]) -> Element:
    found = []
    for mask in held:
        element = TR2.Masks(token=mask.token)
        found.append(_element(element, mask))
    return TR2.GetMasksResponse(*found)


def options_response(options: MaskOptions, kinds: Sequence[str] = ("Color",)) -> Element:
    at = TR2.Options(
        TR2.MaxMasks(str(options.most)), TR2.MaxPoints(str(options.most_corners)), *(TR2.Types(k) for k in kinds),
        RectangleOnly=str(options.rectangles).lower(),
    )  # fmt: skip
    return TR2.GetMaskOptionsResponse(at)
