"""The media service (ONVIF Media specification, ver10): profiles, stream addresses, encoder settings."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

from zentrale.protocols import xml
from zentrale.protocols.http_auth import without_userinfo
from zentrale.protocols.onvif.encoders import EncoderSettings, encoder_element, parse_encoder
from zentrale.protocols.soap import NS, TRT, TT
from zentrale.protocols.xml import Element

_MAX_ITEMS = 256


@dataclass(frozen=True)
class Profile:
    """`source` is the token of the video source (the lens) that it shows, `source_configuration` that of how it shows it;
    `source_name` is that one's name; `audio_source`, `audio_encoder` and `analytics` are the tokens of what else it carries.
    Empty where the device tells none.
    """

    token: str
    name: str
    encoder: EncoderSettings | None
    source: str = ""
    source_configuration: str = ""
    audio_source: str = ""
    audio_encoder: str = ""
    analytics: str = ""
    source_name: str = ""


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
        if profile.audio_source:
            audio = TT.AudioSourceConfiguration(TT.Name("microphone"), TT.UseCount("1"), TT.SourceToken("mic"))
            audio.set("token", profile.audio_source)
            element.append(audio)
        if profile.encoder is not None:
            element.append(encoder_element(TT.VideoEncoderConfiguration(), profile.encoder))
        if profile.audio_encoder:
            element.append(TT.AudioEncoderConfiguration(TT.Name("microphone"), token=profile.audio_encoder))
        if profile.analytics:
            element.append(TT.VideoAnalyticsConfiguration(TT.Name("motion"), token=profile.analytics))
        elements.append(element)
    return TRT.GetProfilesResponse(*elements)


def parse_profiles(response: Element) -> list[Profile]:
    profiles = []
    for element in response.findall("trt:Profiles", NS)[:_MAX_ITEMS]:
        encoder = element.find("tt:VideoEncoderConfiguration", NS)
        profiles.append(
            Profile(
                element.get("token", ""),
                xml.text(element, "tt:Name", NS),
                None if encoder is None else parse_encoder(encoder),
                xml.text(element, "tt:VideoSourceConfiguration/tt:SourceToken", NS),
                _token(element, "VideoSourceConfiguration"),
                _token(element, "AudioSourceConfiguration"),
                _token(element, "AudioEncoderConfiguration"),
                _token(element, "VideoAnalyticsConfiguration"),
                xml.text(element, "tt:VideoSourceConfiguration/tt:Name", NS),
            )
        )
    return profiles


def _token(profile: Element, part: str) -> str:
    held = profile.find(f"tt:{part}", NS)
    return "" if held is None else held.get("token", "")


def remove_configuration(profile_token: str, kind: str) -> Element:
    """Takes the configuration of a kind such as AudioEncoder out of a profile."""
    return TRT(f"Remove{kind}Configuration", TRT.ProfileToken(profile_token))


def add_configuration(profile_token: str, kind: str, token: str) -> Element:
    return TRT(f"Add{kind}Configuration", TRT.ProfileToken(profile_token), TRT.ConfigurationToken(token))


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
