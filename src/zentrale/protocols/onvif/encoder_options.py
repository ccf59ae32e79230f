"""What an encoder can be set to (ONVIF Media and Media 2, GetVideoEncoderConfigurationOptions), in one form for both."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass

from zentrale.protocols import xml
from zentrale.protocols.soap import NS, TR2, TRT, TT
from zentrale.protocols.xml import Element

_MAX_ITEMS = 256
_JUST_ONE = (1, 1)


@dataclass(frozen=True)
class CodecOptions:
    """What one codec takes. `resolutions` are width and height [px]; `fps` are the rates offered [frames/s], or the ends of their
    range where `fps_range` says so; `bitrate_kbps` and `govlength` (frames) are lowest and highest. Empty or None: not told.
    """

    resolutions: tuple[tuple[int, int], ...] = ()
    fps: tuple[float, ...] = ()
    fps_range: bool = False
    bitrate_kbps: tuple[int, int] | None = None
    govlength: tuple[int, int] | None = None

    def nearest_resolution(self, wanted: tuple[int, int]) -> tuple[int, int]:
        """`wanted` where it is offered, or nothing is told; else the one of the next number of pixels."""
        if not self.resolutions or wanted in self.resolutions:
            return wanted
        pixels = wanted[0] * wanted[1]
        return min(self.resolutions, key=lambda r: (abs(r[0] * r[1] - pixels), r))

    def nearest_fps(self, wanted: float) -> float:
        if not self.fps:
            return wanted
        if self.fps_range:
            return min(max(wanted, min(self.fps)), max(self.fps))
        return min(self.fps, key=lambda f: (abs(f - wanted), -f))

    def nearest_bitrate(self, wanted: int) -> int:
        return wanted if self.bitrate_kbps is None else min(max(wanted, self.bitrate_kbps[0]), self.bitrate_kbps[1])

    def nearest_govlength(self, wanted: int) -> int:
        return wanted if self.govlength is None else min(max(wanted, self.govlength[0]), self.govlength[1])


Options = Mapping[str, CodecOptions]  # by codec, as in SDP


def ask(profile_token: str, token: str) -> Element:
    """Of ONVIF Media: for one configuration in one profile."""
    return TRT.GetVideoEncoderConfigurationOptions(TRT.ConfigurationToken(token), TRT.ProfileToken(profile_token))


def ask2(profile_token: str, token: str) -> Element:
    return TR2.GetVideoEncoderConfigurationOptions(TR2.ConfigurationToken(token), TR2.ProfileToken(profile_token))


def parse(response: Element) -> Options:
    """Of ONVIF Media: H.264 and JPEG; bit rates stand in the extension of the same name."""
    at = response.find("trt:Options", NS)
    found: dict[str, CodecOptions] = {}
    for codec in ("H264", "JPEG"):
        part = None if at is None else at.find(f"tt:{codec}", NS)
        if part is None:
            continue
        rates = _pair(part.find("tt:FrameRateRange", NS))
        extension = at.find(f"tt:Extension/tt:{codec}", NS) if at is not None else None
        bitrate = _pair(None if extension is None else extension.find("tt:BitrateRange", NS))
        found[codec] = CodecOptions(
            _resolutions(part), rates or (), True, _whole(bitrate), _whole(_pair(part.find("tt:GovLengthRange", NS)))
        )
    return found


def parse2(response: Element) -> Options:
    """Of Media 2: tt:VideoEncoder2ConfigurationOptions, one for each codec."""
    found: dict[str, CodecOptions] = {}
    for part in response.findall("tr2:Options", NS)[:_MAX_ITEMS]:
        codec = xml.text(part, "tt:Encoding", NS).upper()
        rates = _numbers(part.get("FrameRatesSupported", ""))
        gov = _numbers(part.get("GovLengthRange", ""))
        found[codec] = CodecOptions(
            _resolutions(part),
            tuple(rates),
            False,
            _whole(_pair(part.find("tt:BitrateRange", NS))),
            (round(gov[0]), round(gov[-1])) if gov else None,
        )
    return found


def _resolutions(part: Element) -> tuple[tuple[int, int], ...]:
    sizes = (
        (xml.integer(r, "tt:Width", NS), xml.integer(r, "tt:Height", NS))
        for r in part.findall("tt:ResolutionsAvailable", NS)[:_MAX_ITEMS]
    )
    return tuple(s for s in sizes if s[0] > 0 and s[1] > 0)


def _pair(element: Element | None) -> tuple[float, float] | None:
    if element is None:
        return None
    low, high = xml.number(element, "tt:Min", NS), xml.number(element, "tt:Max", NS)
    return (low, high) if 0 <= low <= high and high > 0 else None


def _whole(pair: tuple[float, float] | None) -> tuple[int, int] | None:
    return None if pair is None else (round(pair[0]), round(pair[1]))


def _numbers(text: str) -> list[float]:
    return [n for n in (xml.sensible(word) for word in text.split()[:_MAX_ITEMS]) if n > 0]


# The other role, for stand-ins


def response(options: Options) -> Element:
    at = TRT.Options(TT.QualityRange(TT.Min("1"), TT.Max("10")))
    extension = TT.Extension()
    for codec, offered in options.items():
        if codec not in ("H264", "JPEG"):
            continue
        rates = TT.FrameRateRange(TT.Min(f"{min(offered.fps):g}"), TT.Max(f"{max(offered.fps):g}"))
        interval = TT.EncodingIntervalRange(TT.Min("1"), TT.Max("1"))
        gov = [_range("GovLengthRange", offered.govlength or _JUST_ONE)] if codec == "H264" else []
        at.append(TT(codec, *_sizes(offered.resolutions), *gov, rates, interval))
        extension.append(
            TT(codec, *_sizes(offered.resolutions), _range("BitrateRange", offered.bitrate_kbps or _JUST_ONE))
        )
    at.append(extension)
    return TRT.GetVideoEncoderConfigurationOptionsResponse(at)


def response2(options: Options) -> Element:
    parts = []
    for codec, offered in options.items():
        part = TR2.Options(
            TT.Encoding(codec), TT.QualityRange(TT.Min("1"), TT.Max("10")), *_sizes(offered.resolutions),
            _range("BitrateRange", offered.bitrate_kbps or _JUST_ONE),
            FrameRatesSupported=" ".join(f"{f:g}" for f in offered.fps),
        )  # fmt: skip
        if offered.govlength is not None:
            part.set("GovLengthRange", f"{offered.govlength[0]} {offered.govlength[1]}")
        parts.append(part)
    return TR2.GetVideoEncoderConfigurationOptionsResponse(*parts)


def _sizes(resolutions: Sequence[tuple[int, int]]) -> Iterable[Element]:
    return [TT.ResolutionsAvailable(TT.Width(str(w)), TT.Height(str(h))) for w, h in resolutions]


def _range(name: str, pair: tuple[int, int]) -> Element:
    return TT(name, TT.Min(str(pair[0])), TT.Max(str(pair[1])))
