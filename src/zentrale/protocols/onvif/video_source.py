"""How a lens is shown (tt:VideoSourceConfiguration), as far as the picture is turned: the extension Rotate.

ONVIF Media and Media 2 hold the same configuration under different names of the request.
"""

from __future__ import annotations

import copy
from dataclasses import dataclass, field

from zentrale.protocols import xml
from zentrale.protocols.soap import NS, TR2, TRT, TT
from zentrale.protocols.xml import Element

_ROTATE = "tt:Extension/tt:Rotate"
_BEFORE_EXTENSION = ("Name", "UseCount", "SourceToken", "Bounds")


@dataclass(frozen=True)
class Turning:
    """`degrees` clockwise by which the picture is turned (0: not); None where the device tells nothing of it.

    element: the configuration as the device sent it; it goes back whole but for the turning
    """

    degrees: int | None
    element: Element = field(compare=False, repr=False)


def get(token: str) -> Element:
    return TRT.GetVideoSourceConfiguration(TRT.ConfigurationToken(token))


def get2(token: str) -> Element:
    return TR2.GetVideoSourceConfigurations(TR2.ConfigurationToken(token))


def parse(response: Element, token: str) -> Turning | None:
    """Of either service; None where it is not among them."""
    found = [e for e in response if xml.local_name(e) in ("Configuration", "Configurations")]
    element = next((e for e in found if e.get("token") == token), None)
    if element is None:
        return None
    mode = xml.text(element, f"{_ROTATE}/tt:Mode", NS).upper()
    degrees = xml.integer(element, f"{_ROTATE}/tt:Degree", NS, 180)  # ONVIF schema: without a degree it is 180
    return Turning(None if not mode else degrees % 360 if mode == "ON" else 0, element)


def set_turning(turning: Turning, degrees: int, *, media2: bool) -> Element:
    """SetVideoSourceConfiguration with the picture turned by `degrees`."""
    make = TR2 if media2 else TRT
    configuration = make.Configuration(*copy.deepcopy(list(turning.element)))
    for key, value in turning.element.attrib.items():
        configuration.set(key, value)
    extension = configuration.find("tt:Extension", NS)
    if extension is None:
        extension = TT.Extension()
        at = sum(xml.local_name(e) in _BEFORE_EXTENSION for e in configuration)
        configuration.insert(at, extension)
    rotate = extension.find("tt:Rotate", NS)
    if rotate is None:
        rotate = TT.Rotate()
        extension.insert(0, rotate)
    others = [e for e in rotate if xml.local_name(e) not in ("Mode", "Degree")]
    rotate[:] = [TT.Mode("ON" if degrees else "OFF"), *([TT.Degree(str(degrees))] if degrees else []), *others]
    more = [] if media2 else [TRT.ForcePersistence("true")]
    return make.SetVideoSourceConfiguration(configuration, *more)


# The other role, for stand-ins


def response(token: str, source: str, degrees: int, *, media2: bool) -> Element:
    make = TR2 if media2 else TRT
    name = "Configurations" if media2 else "Configuration"
    rotate = TT.Rotate(TT.Mode("ON" if degrees else "OFF"), *([TT.Degree(str(degrees))] if degrees else []))
    bounds = TT.Bounds(x="0", y="0", width="1920", height="1080")
    configuration = make(
        name, TT.Name("lens"), TT.UseCount("2"), TT.SourceToken(source), bounds, TT.Extension(rotate), token=token
    )
    answer = "GetVideoSourceConfigurationsResponse" if media2 else "GetVideoSourceConfigurationResponse"
    return make(answer, configuration)


def parse_set(request: Element) -> tuple[str, int]:
    """Token and degrees that SetVideoSourceConfiguration asks for."""
    configuration = next((e for e in request if xml.local_name(e) == "Configuration"), None)
    on = xml.text(configuration, f"{_ROTATE}/tt:Mode", NS).upper() == "ON"
    token = "" if configuration is None else configuration.get("token", "")
    return token, xml.integer(configuration, f"{_ROTATE}/tt:Degree", NS, 180) if on else 0
