"""The media service of newer devices (ONVIF Media 2 specification, ver20), as far as streams are listed: profiles with their
video encoders, H.265 among them, and where each is played.
"""

from __future__ import annotations

from collections.abc import Iterable

from zentrale.protocols import xml
from zentrale.protocols.onvif.media import EncoderSettings, Profile
from zentrale.protocols.soap import NS, TR2, TT
from zentrale.protocols.xml import Element

_MAX_ITEMS = 256


def get_profiles() -> Element:
    """GetProfiles (clause 5.2.2), with the configurations of the video encoder and its source."""
    return TR2.GetProfiles(TR2.Type("VideoEncoder"), TR2.Type("VideoSource"))


def parse_profiles(response: Element) -> list[Profile]:
    profiles = []
    for element in response.findall("tr2:Profiles", NS)[:_MAX_ITEMS]:
        encoder = element.find("tr2:Configurations/tr2:VideoEncoder", NS)
        source = xml.text(element, "tr2:Configurations/tr2:VideoSource/tt:SourceToken", NS)
        settings = None if encoder is None else _parse_encoder(encoder)
        profiles.append(Profile(element.get("token", ""), xml.text(element, "tr2:Name", NS), settings, source))
    return profiles


def _parse_encoder(element: Element) -> EncoderSettings:
    """VideoEncoder2Configuration (ONVIF schema): the key-frame interval and the profile are attributes here."""
    gov = element.get("GovLength", "")
    return EncoderSettings(
        token=element.get("token", ""),
        codec=xml.text(element, "tt:Encoding", NS).upper(),
        width_px=xml.integer(element, "tt:Resolution/tt:Width", NS),
        height_px=xml.integer(element, "tt:Resolution/tt:Height", NS),
        fps=xml.number(element, "tt:RateControl/tt:FrameRateLimit", NS),
        bitrate_kbps=xml.integer(element, "tt:RateControl/tt:BitrateLimit", NS),
        govlength=int(gov) if gov.isdigit() and len(gov) < 7 else 0,
        name=xml.text(element, "tt:Name", NS),
    )


def get_stream_uri(profile_token: str) -> Element:
    """GetStreamUri (clause 5.8): RTSP over TCP and UDP alike."""
    return TR2.GetStreamUri(TR2.Protocol("RtspUnicast"), TR2.ProfileToken(profile_token))


def parse_uri(response: Element) -> str:
    return xml.text(response, "tr2:Uri", NS)


# The other role, for stand-ins


def profiles_response(profiles: Iterable[Profile]) -> Element:
    elements = []
    for profile in profiles:
        parts = []
        if profile.encoder is not None:
            e = profile.encoder
            encoder = TR2.VideoEncoder(
                TT.Name(e.name), TT.UseCount("1"), TT.Encoding(e.codec),
                TT.Resolution(TT.Width(str(e.width_px)), TT.Height(str(e.height_px))),
                TT.RateControl(TT.FrameRateLimit(f"{e.fps:g}"), TT.BitrateLimit(str(e.bitrate_kbps))),
                TT.Quality(f"{e.quality:g}"), token=e.token, GovLength=str(e.govlength),
            )  # fmt: skip
            parts.append(encoder)
        element = TR2.Profiles(TR2.Name(profile.name), TR2.Configurations(*parts), token=profile.token)
        elements.append(element)
    return TR2.GetProfilesResponse(*elements)


def uri_response(uri: str) -> Element:
    return TR2.GetStreamUriResponse(TR2.Uri(uri))
