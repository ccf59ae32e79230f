"""Settings of the picture (ONVIF Imaging, ver20): day and night, exposure, backlight, dynamic range."""

from __future__ import annotations

import copy
from collections.abc import Mapping
from dataclasses import dataclass, field

from zentrale.protocols import xml
from zentrale.protocols.soap import NS, TIMG, TT
from zentrale.protocols.xml import Element

# The values set here by their names, with where they stand (tt:ImagingSettings20) and where their options do.
PATHS: Mapping[str, tuple[str, ...]] = {
    "ir_cut_filter": ("IrCutFilter",),
    "exposure": ("Exposure", "Mode"),
    "max_exposure_us": ("Exposure", "MaxExposureTime"),
    "backlight": ("BacklightCompensation", "Mode"),
    "wide_dynamic_range": ("WideDynamicRange", "Mode"),
}
_OPTIONS = {"ir_cut_filter": ("IrCutFilterModes",)}
# Order of the schema, at the top and within Exposure.
_ORDER = (
    "BacklightCompensation", "Brightness", "ColorSaturation", "Contrast", "Exposure", "Focus", "IrCutFilter", "Sharpness",
    "WideDynamicRange", "WhiteBalance", "Extension",
)  # fmt: skip
_WITHIN = (
    "Mode", "Priority", "Window", "MinExposureTime", "MaxExposureTime", "MinGain", "MaxGain", "MinIris", "MaxIris",
    "ExposureTime", "Gain", "Iris",
)  # fmt: skip


@dataclass(frozen=True)
class Settings:
    """`values` by the names of PATHS, as text; those the device does not tell are missing.

    element: as the device sent it; it goes back whole but for what differs
    """

    values: Mapping[str, str]
    element: Element | None = field(default=None, compare=False, repr=False)


def get_settings(source: str) -> Element:
    return TIMG.GetImagingSettings(TIMG.VideoSourceToken(source))


def parse_settings(response: Element) -> Settings:
    at = response.find("timg:ImagingSettings", NS)
    told = {name: xml.text(at, _path(path), NS) for name, path in PATHS.items()}
    return Settings({name: value for name, value in told.items() if value}, at)


def get_options(source: str) -> Element:
    return TIMG.GetOptions(TIMG.VideoSourceToken(source))


def parse_options(response: Element) -> dict[str, tuple[str, ...]]:
    """The words that each value may take, or the ends of its range; values that are not told are missing."""
    at = response.find("timg:ImagingOptions", NS)
    found: dict[str, tuple[str, ...]] = {}
    for name, path in PATHS.items():
        elements = [] if at is None else at.findall(_path(_OPTIONS.get(name, path)), NS)[:16]
        if name == "max_exposure_us":
            ends = [xml.text(elements[0], f"tt:{end}", NS) for end in ("Min", "Max")] if elements else []
            words = tuple(e for e in ends if e)
        else:
            words = tuple(w for w in (xml.text(e, ".", NS) for e in elements) if w)
        if words:
            found[name] = words
    return found


def set_settings(source: str, held: Settings, values: Mapping[str, str]) -> Element:
    """SetImagingSettings with `values` in place of what the device holds, and kept after a restart."""
    settings = TIMG.ImagingSettings(*(copy.deepcopy(list(held.element)) if held.element is not None else []))
    for name, value in values.items():
        if held.values.get(name) == value:
            continue
        parent = settings
        for tag in PATHS[name]:
            child = parent.find(f"tt:{tag}", NS)
            if child is None:
                child = TT(tag)
                parent.append(child)
            parent = child
        parent.text = value
    settings[:] = sorted(settings, key=lambda e: _place(e, _ORDER))
    exposure = settings.find("tt:Exposure", NS)
    if exposure is not None:
        exposure[:] = sorted(exposure, key=lambda e: _place(e, _WITHIN))
    return TIMG.SetImagingSettings(TIMG.VideoSourceToken(source), settings, TIMG.ForcePersistence("true"))


def _path(path: tuple[str, ...]) -> str:
    return "/".join(f"tt:{part}" for part in path)


def _place(element: Element, order: tuple[str, ...]) -> int:
    name = xml.local_name(element)
    return order.index(name) if name in order else len(order)


# The other role, for stand-ins


def settings_response(values: Mapping[str, str]) -> Element:
    made = set_settings("", Settings({}), values).find("timg:ImagingSettings", NS)
    assert made is not None
    return TIMG.GetImagingSettingsResponse(made)


def parse_set(request: Element) -> dict[str, str]:
    return dict(parse_settings(request).values)


def options_response(options: Mapping[str, tuple[str, ...]]) -> Element:
    at = TIMG.ImagingOptions()
    for name in sorted(options, key=lambda n: _ORDER.index(PATHS[n][0])):
        path = _OPTIONS.get(name, PATHS[name])
        parent = at
        for tag in path[:-1]:
            child = parent.find(f"tt:{tag}", NS)
            if child is None:
                child = TT(tag)
                parent.append(child)
            parent = child
        if name == "max_exposure_us":
            parent.append(TT(path[-1], TT.Min(options[name][0]), TT.Max(options[name][-1])))
        else:
            parent.extend([TT(path[-1], word) for word in options[name]])
    return TIMG.GetOptionsResponse(at)
