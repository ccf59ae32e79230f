"""The media service (ONVIF Media specification, ver10): profiles, stream addresses, encoder settings."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

from zentrale.protocols import xml
from zentrale.protocols.http_auth import without_userinfo
from zentrale.protocols.soap import NS, TRT, TT
from zentrale.protocols.xml import Element

_MAX_ITEMS = 256


@dataclass(frozen=True)
class EncoderSettings:
    """A VideoEncoderConfiguration. `govlength` is the key-frame interval in frames; `codec` as in SDP (H264)."""

    token: str
    codec: str
    width_px: int
    height_px: int
    fps: float
    bitrate_kbps: int
    govlength: int
    name: str = ""
    quality: float = 5.0


@dataclass(frozen=True)
class Profile:
    token: str
    name: str
    encoder: EncoderSettings | None


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


def _encoder(element: Element, settings: EncoderSettings) -> Element:
    element.set("token", settings.token)
    element.extend([
        TT.Name(settings.name or settings.token),
        TT.UseCount("1"),
        TT.Encoding(settings.codec),
        TT.Resolution(TT.Width(str(settings.width_px)), TT.Height(str(settings.height_px))),
        TT.Quality(f"{settings.quality:g}"),
        TT.RateControl(
            TT.FrameRateLimit(f"{settings.fps:g}"), TT.EncodingInterval("1"), TT.BitrateLimit(str(settings.bitrate_kbps))
        ),
    ])  # fmt: skip
    if settings.codec == "H264":
        element.append(TT.H264(TT.GovLength(str(settings.govlength)), TT.H264Profile("High")))
    multicast = TT.Multicast(
        TT.Address(TT.Type("IPv4"), TT.IPv4Address("0.0.0.0")), TT.Port("0"), TT.TTL("1"), TT.AutoStart("false")
    )
    element.extend([multicast, TT.SessionTimeout("PT60S")])
    return element


def parse_encoder(element: Element) -> EncoderSettings:
    """From a VideoEncoderConfiguration or Configuration element."""
    return EncoderSettings(
        token=element.get("token", ""),
        codec=xml.text(element, "tt:Encoding", NS).upper(),
        width_px=xml.integer(element, "tt:Resolution/tt:Width", NS),
        height_px=xml.integer(element, "tt:Resolution/tt:Height", NS),
        fps=xml.number(element, "tt:RateControl/tt:FrameRateLimit", NS),
        bitrate_kbps=xml.integer(element, "tt:RateControl/tt:BitrateLimit", NS),
        govlength=xml.integer(element, "tt:H264/tt:GovLength", NS),
        name=xml.text(element, "tt:Name", NS),
        quality=xml.number(element, "tt:Quality", NS, 5.0),
    )


def profiles_response(profiles: Iterable[Profile]) -> Element:
    elements = []
    for profile in profiles:
        element = TRT.Profiles(TT.Name(profile.name))
        element.set("token", profile.token)
        element.set("fixed", "true")
        if profile.encoder is not None:
            element.append(_encoder(TT.VideoEncoderConfiguration(), profile.encoder))
        elements.append(element)
    return TRT.GetProfilesResponse(*elements)


def parse_profiles(response: Element) -> list[Profile]:
    profiles = []
    for element in response.findall("trt:Profiles", NS)[:_MAX_ITEMS]:
        encoder = element.find("tt:VideoEncoderConfiguration", NS)
        settings = None if encoder is None else parse_encoder(encoder)
        profiles.append(Profile(element.get("token", ""), xml.text(element, "tt:Name", NS), settings))
    return profiles


def get_encoder(token: str) -> Element:
    return TRT.GetVideoEncoderConfiguration(TRT.ConfigurationToken(token))


def configuration_token_of(request: Element) -> str:
    return xml.text(request, "trt:ConfigurationToken", NS)


def encoder_response(settings: EncoderSettings) -> Element:
    return TRT.GetVideoEncoderConfigurationResponse(_encoder(TRT.Configuration(), settings))


def encoders_response(settings: Iterable[EncoderSettings]) -> Element:
    return TRT.GetVideoEncoderConfigurationsResponse(*[_encoder(TRT.Configurations(), s) for s in settings])


def set_encoder(settings: EncoderSettings) -> Element:
    return TRT.SetVideoEncoderConfiguration(_encoder(TRT.Configuration(), settings), TRT.ForcePersistence("true"))


def parse_set_encoder(request: Element) -> EncoderSettings | None:
    element = request.find("trt:Configuration", NS)
    return None if element is None else parse_encoder(element)
