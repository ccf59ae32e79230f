"""A device's media service, whichever of the two it has: Media 2 (ver20) where it offers that, else Media (ver10)."""

from __future__ import annotations

from typing import Protocol

from zentrale.errors import DeviceError, RefusedError, UnreachableError
from zentrale.field.rules import Rules
from zentrale.protocols.onvif import encoder_options, encoders, media, media2, video_source
from zentrale.protocols.onvif.encoder_options import Options
from zentrale.protocols.onvif.encoders import EncoderSettings
from zentrale.protocols.onvif.media import Profile
from zentrale.protocols.onvif.video_source import Turning
from zentrale.protocols.rtsp_client import StreamAddress
from zentrale.protocols.xml import Element


class Caller(Protocol):
    """The device: see `field.device`."""

    host: str
    rules: Rules
    named_hosts: dict[str, str]

    async def call(self, prefix: str, request: Element) -> Element: ...


class MediaService:
    """Every call raises what `Device.call` raises."""

    def __init__(self, device: Caller) -> None:
        self._device = device
        self._media2: bool | None = None  # not known yet

    async def is_media2(self) -> bool:
        """Whether Media 2 is spoken with. A device that lists it and tells no stream by it is asked by Media."""
        if self._media2 is None:
            await self.profiles()
        return bool(self._media2)

    async def profiles(self) -> list[Profile]:
        if self._media2 is not False:
            try:
                found = media2.parse_profiles(await self._device.call("tr2", media2.get_profiles()))
            except (RefusedError, UnreachableError):
                raise
            except DeviceError:  # an older device
                found = []
            if self._media2 or any(p.encoder is not None for p in found):
                self._media2 = True
                return found
            self._media2 = False
        return media.parse_profiles(await self._device.call("trt", media.ask("GetProfiles")))

    async def stream_address(self, profile_token: str) -> StreamAddress:
        """Where a profile's stream is, at the host that was reached."""
        if await self.is_media2():
            told = media2.parse_uri(await self._device.call("tr2", media2.get_stream_uri(profile_token)))
        else:
            told = media.parse_uri(await self._device.call("trt", media.get_stream_uri(profile_token)))
        address = StreamAddress.told(told, self._device.host, self._device.rules.rtsp_port)
        if address.named:
            self._device.named_hosts.setdefault(address.named, "stream address")
        return address

    async def encoder(self, token: str) -> EncoderSettings:
        """A configuration by its own token. Raises DeviceError where it tells nothing of it."""
        if await self.is_media2():
            answer = await self._device.call("tr2", media2.get_encoder(token))
            found = [encoders.parse_encoder(e, encoders.MEDIA2) for e in answer.findall("{*}Configurations")[:64]]
        else:
            answer = await self._device.call("trt", media.get_encoder(token))
            found = [encoders.parse_encoder(e) for e in answer.findall("{*}Configuration")[:1]]
        for settings in found:
            if settings.token == token or len(found) == 1:
                return settings
        raise DeviceError("it tells nothing of the settings it was given")

    async def set_encoder(self, settings: EncoderSettings) -> None:
        if await self.is_media2():
            await self._device.call("tr2", media2.set_encoder(settings))
        else:
            await self._device.call("trt", media.set_encoder(settings))

    async def encoder_options(self, profile_token: str, token: str) -> Options:
        """What the encoder can be set to; empty where it does not tell."""
        try:
            if await self.is_media2():
                answer = await self._device.call("tr2", encoder_options.ask2(profile_token, token))
                return encoder_options.parse2(answer)
            answer = await self._device.call("trt", encoder_options.ask(profile_token, token))
            return encoder_options.parse(answer)
        except (RefusedError, UnreachableError):
            raise
        except DeviceError:  # it is set, and read back, without
            return {}

    async def turning(self, token: str) -> Turning:
        """How the picture of a video source configuration is turned. Raises DeviceError where it is not told."""
        ask, prefix = (video_source.get2, "tr2") if await self.is_media2() else (video_source.get, "trt")
        found = video_source.parse(await self._device.call(prefix, ask(token)), token)
        if found is None:
            raise DeviceError("it tells nothing of how its lens is shown")
        return found

    async def set_turning(self, turning: Turning, degrees: int) -> None:
        second = await self.is_media2()
        request = video_source.set_turning(turning, degrees, media2=second)
        await self._device.call("tr2" if second else "trt", request)
