"""The media service (ONVIF Media specification, ver10): profiles, stream addresses, encoder settings."""

from __future__ import annotations

import copy
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field
from typing import Any

from zentrale.protocols import xml
from zentrale.protocols.http_auth import without_userinfo
from zentrale.protocols.soap import NS, TRT, TT
from zentrale.protocols.xml import Element

_MAX_ITEMS = 256


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
class Profile:
    """`source` is the token of the video source (the lens) that it shows, `source_configuration` that of how it shows it; empty
    where the device tells none.
    """

    token: str
    name: str
    encoder: EncoderSettings | None
    source: str = ""
    source_configuration: str = ""


def ask(name: str, token: str = "") -> Element:
    """A request that carries a profile's token, or nothing."""
    return TRT(name, *([TRT.ProfileToken(token)] if token else []))


def get_stream_uri(profile_token: str, *, udp: bool = False) -> Element:
    setup = TRT.StreamSetup(TT.Stream("RTP-Unicast"), TT.Transport(TT.Protocol("UDP" if udp else "RTSP")))
    return TRT.GetStreamUri(setup, TRT.ProfileToken(profile_token))


def profile_token_of(request: Element) -> str:
    return xml.text(request, "trt:ProfileToken", NS)


def uri_response(name: str, uri: str) -> Element:
    media_uri = TRT.MediaUri(
        TT.Uri(uri), TT.InvalidAfterConnect("false"), TT.InvalidAfterReboot("false"), TT.Timeout("PT0S")
    )
    return TRT(name, media_uri)


def parse_uri(response: Element) -> str:
    """The address without the user and password that some devices put into it."""
    return without_userinfo(xml.text(response, "trt:MediaUri/tt:Uri", NS))[:2000]


# The paths of a VideoEncoderConfiguration by the field that holds each value, in the order of the schema (ONVIF Media,
# tt:VideoEncoderConfiguration). The multicast address is by its own type, IPv4 here.
_PATHS = {
    "codec": ("Encoding",),
    "width_px": ("Resolution", "Width"),
    "height_px": ("Resolution", "Height"),
    "quality": ("Quality",),
    "fps": ("RateControl", "FrameRateLimit"),
    "encoding_interval": ("RateControl", "EncodingInterval"),
    "bitrate_kbps": ("RateControl", "BitrateLimit"),
    "govlength": ("H264", "GovLength"),
    "profile": ("H264", "H264Profile"),
    "multicast_address": ("Multicast", "Address", "IPv4Address"),
    "multicast_port": ("Multicast", "Port"),
    "multicast_ttl": ("Multicast", "TTL"),
    "multicast_auto_start": ("Multicast", "AutoStart"),
    "session_timeout": ("SessionTimeout",),
}
_ORDER = (
    "Name", "UseCount", "Encoding", "Resolution", "Quality", "RateControl", "MPEG4", "H264", "Multicast", "SessionTimeout",
)  # fmt: skip


def encoder_element(tag: Element, settings: EncoderSettings) -> Element:
    """`settings` under `tag`: what the device sent where there is that, with the values that differ changed in it."""
    held = None if settings.element is None else parse_encoder(settings.element)
    if settings.element is not None:
        tag.extend(copy.deepcopy(list(settings.element)))
        for key, value in settings.element.attrib.items():
            tag.set(key, value)
    else:
        tag.extend([TT.Name(settings.name or settings.token), TT.UseCount("1")])
        tag.append(TT.Multicast(TT.Address(TT.Type("IPv4"))))
    tag.set("token", settings.token)
    for name, path in _PATHS.items():
        value = getattr(settings, name)
        if path[0] == "H264" and (settings.codec != "H264" or not value):
            continue
        if held is None or getattr(held, name) != value:
            _set(tag, path, _as_text(value))
    for codec, part in (("H264", "H264"), ("MPEG4", "MPEG4")):
        left = tag.find(f"tt:{part}", NS)
        if left is not None and settings.codec != codec and held is not None and held.codec != settings.codec:
            tag.remove(left)
    tag[:] = sorted(tag, key=_place)
    return tag


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


def _place(element: Element) -> int:
    name = str(element.tag).rpartition("}")[2]
    return _ORDER.index(name) if name in _ORDER else len(_ORDER)  # extensions come last


def parse_encoder(element: Element) -> EncoderSettings:
    """From a VideoEncoderConfiguration or Configuration element."""

    def get(name: str, default: str = "") -> str:
        return xml.text(element, "/".join(f"tt:{part}" for part in _PATHS[name]), NS, default)

    def number(name: str, default: int = 0) -> int:
        return xml.integer(element, "/".join(f"tt:{part}" for part in _PATHS[name]), NS, default)

    return EncoderSettings(
        token=element.get("token", ""),
        codec=get("codec").upper(),
        width_px=number("width_px"),
        height_px=number("height_px"),
        fps=xml.number(element, "tt:RateControl/tt:FrameRateLimit", NS),
        bitrate_kbps=number("bitrate_kbps"),
        govlength=number("govlength"),
        name=xml.text(element, "tt:Name", NS),
        quality=xml.number(element, "tt:Quality", NS, 5.0),
        encoding_interval=number("encoding_interval", 1),
        profile=get("profile"),
        multicast_address=get("multicast_address", "0.0.0.0"),
        multicast_port=number("multicast_port"),
        multicast_ttl=number("multicast_ttl", 1),
        multicast_auto_start=get("multicast_auto_start") in ("true", "1"),
        session_timeout=get("session_timeout", "PT60S"),
        element=element,
    )


def profiles_response(profiles: Iterable[Profile]) -> Element:
    elements = []
    for profile in profiles:
        element = TRT.Profiles(TT.Name(profile.name))
        element.set("token", profile.token)
        element.set("fixed", "true")
        if profile.source:
            source = TT.VideoSourceConfiguration(TT.Name("lens"), TT.UseCount("2"), TT.SourceToken(profile.source))
            source.set("token", profile.source_configuration)
            element.append(source)
        if profile.encoder is not None:
            element.append(encoder_element(TT.VideoEncoderConfiguration(), profile.encoder))
        elements.append(element)
    return TRT.GetProfilesResponse(*elements)


def parse_profiles(response: Element) -> list[Profile]:
    profiles = []
    for element in response.findall("trt:Profiles", NS)[:_MAX_ITEMS]:
        encoder = element.find("tt:VideoEncoderConfiguration", NS)
        settings = None if encoder is None else parse_encoder(encoder)
        source = xml.text(element, "tt:VideoSourceConfiguration/tt:SourceToken", NS)
        shown = element.find("tt:VideoSourceConfiguration", NS)
        configuration = shown.get("token", "") if shown is not None else ""
        name = xml.text(element, "tt:Name", NS)
        profiles.append(Profile(element.get("token", ""), name, settings, source, configuration))
    return profiles


def get_encoder(token: str) -> Element:
    return TRT.GetVideoEncoderConfiguration(TRT.ConfigurationToken(token))


def configuration_token_of(request: Element) -> str:
    return xml.text(request, "trt:ConfigurationToken", NS)


def encoder_response(settings: EncoderSettings) -> Element:
    return TRT.GetVideoEncoderConfigurationResponse(encoder_element(TRT.Configuration(), settings))


def encoders_response(settings: Iterable[EncoderSettings]) -> Element:
    return TRT.GetVideoEncoderConfigurationsResponse(*[encoder_element(TRT.Configurations(), s) for s in settings])


def set_encoder(settings: EncoderSettings) -> Element:
    return TRT.SetVideoEncoderConfiguration(
        encoder_element(TRT.Configuration(), settings), TRT.ForcePersistence("true")
    )


def parse_set_encoder(request: Element) -> EncoderSettings | None:
    element = request.find("trt:Configuration", NS)
    return None if element is None else parse_encoder(element)
