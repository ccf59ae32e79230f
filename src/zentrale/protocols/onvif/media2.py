"""The media service of newer devices (ONVIF Media 2 specification, ver20): profiles with their configurations, H.265 among
their codecs, where each is played, and encoder settings.
"""

from __future__ import annotations

from collections.abc import Iterable

from zentrale.protocols import xml
from zentrale.protocols.http_auth import without_userinfo
from zentrale.protocols.onvif.encoders import MEDIA2, EncoderSettings, encoder_element, parse_encoder
from zentrale.protocols.onvif.media import Profile
from zentrale.protocols.soap import NS, TR2, TT
from zentrale.protocols.xml import Element

_MAX_ITEMS = 256
_PARTS = ("VideoSource", "VideoEncoder", "AudioSource", "AudioEncoder", "Analytics")


def get_profiles() -> Element:
    """GetProfiles (clause 5.2.2), with the configurations that are set here."""
    return TR2.GetProfiles(*(TR2.Type(part) for part in _PARTS))


def parse_profiles(response: Element) -> list[Profile]:
    profiles = []
    for element in response.findall("tr2:Profiles", NS)[:_MAX_ITEMS]:
        encoder = element.find("tr2:Configurations/tr2:VideoEncoder", NS)
        source = element.find("tr2:Configurations/tr2:VideoSource", NS)
        profiles.append(
            Profile(
                element.get("token", ""),
                xml.text(element, "tr2:Name", NS),
                None if encoder is None else parse_encoder(encoder, MEDIA2),
                xml.text(source, "tt:SourceToken", NS),
                "" if source is None else source.get("token", ""),
                _token(element, "AudioSource"),
                _token(element, "AudioEncoder"),
                _token(element, "Analytics"),
                xml.text(source, "tt:Name", NS),
            )
        )
    return profiles


def _token(profile: Element, part: str) -> str:
    held = profile.find(f"tr2:Configurations/tr2:{part}", NS)
    return "" if held is None else held.get("token", "")


def get_stream_uri(profile_token: str) -> Element:
    """GetStreamUri (clause 5.8): RTSP over TCP and UDP alike."""
    return TR2.GetStreamUri(TR2.Protocol("RtspUnicast"), TR2.ProfileToken(profile_token))


def parse_uri(response: Element) -> str:
    """The address without the user and password that some devices put into it."""
    return without_userinfo(xml.text(response, "tr2:Uri", NS))[:2000]


def get_encoder(token: str) -> Element:
    return TR2.GetVideoEncoderConfigurations(TR2.ConfigurationToken(token))


def set_encoder(settings: EncoderSettings) -> Element:
    """SetVideoEncoderConfiguration (clause 5.4.1)."""
    return TR2.SetVideoEncoderConfiguration(encoder_element(TR2.Configuration(), settings, MEDIA2))


def remove_configuration(profile_token: str, kind: str) -> Element:
    """RemoveConfiguration (clause 5.2.5) of a type such as AudioEncoder."""
    return TR2.RemoveConfiguration(TR2.ProfileToken(profile_token), TR2.Configuration(TR2.Type(kind)))


def add_configuration(profile_token: str, kind: str, token: str) -> Element:
    return TR2.AddConfiguration(TR2.ProfileToken(profile_token), TR2.Configuration(TR2.Type(kind), TR2.Token(token)))


# The other role, for stand-ins


def profiles_response(profiles: Iterable[Profile]) -> Element:
    elements = []
    for profile in profiles:
        parts = []
        if profile.source:
            source = TR2.VideoSource(TT.Name("lens"), TT.UseCount("2"), TT.SourceToken(profile.source))
            source.set("token", profile.source_configuration)
            parts.append(source)
        for part, token in (("AudioSource", profile.audio_source), ("AudioEncoder", profile.audio_encoder)):
            if token:
                parts.append(TR2(part, TT.Name(token), TT.UseCount("1"), token=token))
        if profile.encoder is not None:
            parts.append(encoder_element(TR2.VideoEncoder(), profile.encoder, MEDIA2))
        if profile.analytics:
            parts.append(TR2.Analytics(TT.Name(profile.analytics), TT.UseCount("1"), token=profile.analytics))
        elements.append(TR2.Profiles(TR2.Name(profile.name), TR2.Configurations(*parts), token=profile.token))
    return TR2.GetProfilesResponse(*elements)


def uri_response(uri: str) -> Element:
    return TR2.GetStreamUriResponse(TR2.Uri(uri))


def encoders_response(settings: Iterable[EncoderSettings]) -> Element:
    return TR2.GetVideoEncoderConfigurationsResponse(
        *(encoder_element(TR2.Configurations(), s, MEDIA2) for s in settings)
    )


def parse_set_encoder(request: Element) -> EncoderSettings | None:
    element = request.find("tr2:Configuration", NS)
    return None if element is None else parse_encoder(element, MEDIA2)


def parse_configuration_request(request: Element) -> tuple[str, str, str]:
    """Profile token, type and configuration token of AddConfiguration or RemoveConfiguration."""
    return (
        xml.text(request, "tr2:ProfileToken", NS),
        xml.text(request, "tr2:Configuration/tr2:Type", NS),
        xml.text(request, "tr2:Configuration/tr2:Token", NS),
    )
