"""A VideoEncoderConfiguration in both of its forms: that of ONVIF Media (ver10) and that of Media 2 (ver20).

What a device sent of it goes back whole, but for the values that differ.
"""

from __future__ import annotations

import copy
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

from zentrale.protocols import xml
from zentrale.protocols.soap import NS, TT
from zentrale.protocols.xml import Element


@dataclass(frozen=True)
class EncoderSettings:
    """A VideoEncoderConfiguration. `codec` as in SDP (H264); `govlength` is the key-frame interval in frames; `fps` the
    FrameRateLimit, of which every `encoding_interval`th picture is sent; `session_timeout` an xs:duration.

    element: as the device sent it, with what is not known here; it goes back whole but for what is changed
    """

    token: str
    codec: str
    width_px: int
    height_px: int
    fps: float
    bitrate_kbps: int
    govlength: int
    name: str = ""
    quality: float = 5.0
    encoding_interval: int = 1
    profile: str = ""
    multicast_address: str = "0.0.0.0"
    multicast_port: int = 0
    multicast_ttl: int = 1
    multicast_auto_start: bool = False
    session_timeout: str = "PT60S"
    element: Element | None = field(default=None, compare=False, repr=False)


@dataclass(frozen=True)
class Form:
    """Where each value stands: `paths` of elements, `attributes` of the configuration itself; `order` is the schema's."""

    paths: Mapping[str, tuple[str, ...]]
    order: tuple[str, ...]
    attributes: Mapping[str, str] = field(default_factory=dict)


_SHARED = {
    "codec": ("Encoding",),
    "width_px": ("Resolution", "Width"),
    "height_px": ("Resolution", "Height"),
    "quality": ("Quality",),
    "fps": ("RateControl", "FrameRateLimit"),
    "bitrate_kbps": ("RateControl", "BitrateLimit"),
    "multicast_address": ("Multicast", "Address", "IPv4Address"),  # by its own type, IPv4 here
    "multicast_port": ("Multicast", "Port"),
    "multicast_ttl": ("Multicast", "TTL"),
    "multicast_auto_start": ("Multicast", "AutoStart"),
}
# ONVIF schema, tt:VideoEncoderConfiguration.
MEDIA = Form(
    {
        **_SHARED,
        "encoding_interval": ("RateControl", "EncodingInterval"),
        "govlength": ("H264", "GovLength"),
        "profile": ("H264", "H264Profile"),
        "session_timeout": ("SessionTimeout",),
    },
    (
        "Name",
        "UseCount",
        "Encoding",
        "Resolution",
        "Quality",
        "RateControl",
        "MPEG4",
        "H264",
        "Multicast",
        "SessionTimeout",
    ),
)
# ONVIF schema, tt:VideoEncoder2Configuration: the key-frame interval and the profile are attributes there, and there is
# neither an encoding interval nor a session timeout. Codecs are called as in the IANA registry of media types.
MEDIA2 = Form(
    _SHARED,
    ("Name", "UseCount", "Encoding", "Resolution", "RateControl", "Multicast", "Quality"),
    {"govlength": "GovLength", "profile": "Profile"},
)


def encoder_element(tag: Element, settings: EncoderSettings, form: Form = MEDIA) -> Element:
    """`settings` under `tag`: what the device sent where there is that, with the values that differ changed in it."""
    held = None if settings.element is None else parse_encoder(settings.element, form)
    if settings.element is not None:
        tag.extend(copy.deepcopy(list(settings.element)))
        for key, value in settings.element.attrib.items():
            tag.set(key, value)
    else:
        tag.extend([TT.Name(settings.name or settings.token), TT.UseCount("1")])
        tag.append(TT.Multicast(TT.Address(TT.Type("IPv4"))))
    tag.set("token", settings.token)
    for name in (*form.paths, *form.attributes):
        value = getattr(settings, name)
        if (name in ("govlength", "profile") and not _has_groups(settings.codec, form)) or value == "":
            continue
        if held is not None and getattr(held, name) == value:
            continue
        if name in form.attributes:
            tag.set(form.attributes[name], _as_text(value))
        else:
            _set(tag, form.paths[name], _as_text(value))
    if form is MEDIA and held is not None and held.codec != settings.codec:
        for codec, part in (("H264", "H264"), ("MPEG4", "MPEG4")):
            left = tag.find(f"tt:{part}", NS)
            if left is not None and settings.codec != codec:
                tag.remove(left)
    tag[:] = sorted(tag, key=lambda e: _place(e, form))
    return tag


def _has_groups(codec: str, form: Form) -> bool:
    return codec == "H264" if form is MEDIA else codec != "JPEG"


def _set(parent: Element, path: Sequence[str], value: str) -> None:
    for name in path:
        child = parent.find(f"tt:{name}", NS)
        if child is None:
            child = TT(name)
            parent.append(child)
        parent = child
    parent.text = value


def _as_text(value: Any) -> str:
    if isinstance(value, bool):
        return str(value).lower()
    return f"{value:g}" if isinstance(value, float) else str(value)


def _place(element: Element, form: Form) -> int:
    name = xml.local_name(element)
    return form.order.index(name) if name in form.order else len(form.order)  # extensions come last


def parse_encoder(element: Element, form: Form = MEDIA) -> EncoderSettings:
    """From the configuration's element, whatever its tag."""

    def get(name: str, default: str = "") -> str:
        if name in form.attributes:
            return xml.safe(element.get(form.attributes[name], default))
        path = form.paths.get(name)
        return default if path is None else xml.text(element, "/".join(f"tt:{part}" for part in path), NS, default)

    def number(name: str, default: float = 0) -> float:
        return xml.sensible(get(name), default)

    return EncoderSettings(
        token=element.get("token", ""),
        codec=get("codec").upper(),
        width_px=round(number("width_px")),
        height_px=round(number("height_px")),
        fps=number("fps"),
        bitrate_kbps=round(number("bitrate_kbps")),
        govlength=round(number("govlength")),
        name=xml.text(element, "tt:Name", NS),
        quality=number("quality", 5.0),
        encoding_interval=round(number("encoding_interval", 1)),
        profile=get("profile"),
        multicast_address=get("multicast_address", "0.0.0.0"),
        multicast_port=round(number("multicast_port")),
        multicast_ttl=round(number("multicast_ttl", 1)),
        multicast_auto_start=xml.true(get("multicast_auto_start")),
        session_timeout=get("session_timeout", "PT60S"),
        element=element,
    )
