"""A device's media service, whichever of the two it has: Media 2 (ver20) where it offers that, else Media (ver10)."""

from __future__ import annotations

from abc import ABC, abstractmethod
from typing import Protocol

from zentrale.errors import DeviceError, RefusedError, UnreachableError
from zentrale.field.rules import Rules
from zentrale.protocols.onvif import encoder_options, encoders, media, media2, video_source
from zentrale.protocols.onvif.encoder_options import Options
from zentrale.protocols.onvif.encoders import EncoderSettings
from zentrale.protocols.onvif.media import Profile
from zentrale.protocols.onvif.video_source import Turning
from zentrale.protocols.stream_address import StreamAddress
from zentrale.protocols.xml import Element


class Caller(Protocol):
    """The device: see `field.device`."""

    host: str
    rules: Rules
    named_hosts: dict[str, str]

    async def call(self, prefix: str, request: Element) -> Element: ...


class Service(ABC):
    """What is asked of either media service. Every call raises what `Device.call` raises.

    cannot_set: codecs of a plan that it has no words for
    """

    prefix: str
    name: str
    cannot_set: tuple[str, ...] = ()

    def __init__(self, device: Caller) -> None:
        self._device = device

    async def ask(self, request: Element) -> Element:
        return await self._device.call(self.prefix, request)

    @abstractmethod
    async def profiles(self) -> list[Profile]: ...

    @abstractmethod
    async def uri(self, profile_token: str) -> str:
        """Where a profile's stream is, as the device tells it."""

    @abstractmethod
    async def encoders(self, token: str) -> list[EncoderSettings]:
        """What it answers when it is asked for the configuration of this token."""

    @abstractmethod
    async def set_encoder(self, settings: EncoderSettings) -> None: ...

    @abstractmethod
    async def encoder_options(self, profile_token: str, token: str) -> Options: ...

    @abstractmethod
    async def turning(self, token: str) -> Turning | None:
        """How the picture of a video source configuration is turned; None where it is not told."""

    @abstractmethod
    async def set_turning(self, turning: Turning, degrees: int) -> None: ...

    @abstractmethod
    async def take_out(self, profile_token: str, kind: str) -> None:
        """The configuration of a kind such as AudioEncoder out of a profile."""

    @abstractmethod
    async def put_in(self, profile_token: str, kind: str, token: str) -> None: ...


class Media(Service):
    """ONVIF Media (ver10)."""

    prefix = "trt"
    name = "the ONVIF media service (ver10)"
    cannot_set = ("H265",)

    async def profiles(self) -> list[Profile]:
        return media.parse_profiles(await self.ask(media.ask("GetProfiles")))

    async def uri(self, profile_token: str) -> str:
        return media.parse_uri(await self.ask(media.get_stream_uri(profile_token)))

    async def encoders(self, token: str) -> list[EncoderSettings]:
        answer = await self.ask(media.get_encoder(token))
        return [encoders.parse_encoder(e) for e in answer.findall("{*}Configuration")[:1]]

    async def set_encoder(self, settings: EncoderSettings) -> None:
        await self.ask(media.set_encoder(settings))

    async def encoder_options(self, profile_token: str, token: str) -> Options:
        return encoder_options.parse(await self.ask(encoder_options.ask(profile_token, token)))

    async def turning(self, token: str) -> Turning | None:
        return video_source.parse(await self.ask(video_source.get(token)), token)

    async def set_turning(self, turning: Turning, degrees: int) -> None:
        await self.ask(video_source.set_turning(turning, degrees, media2=False))

    async def take_out(self, profile_token: str, kind: str) -> None:
        await self.ask(media.remove_configuration(profile_token, kind))

    async def put_in(self, profile_token: str, kind: str, token: str) -> None:
        await self.ask(media.add_configuration(profile_token, kind, token))


class Media2(Service):
    """ONVIF Media 2 (ver20)."""

    prefix = "tr2"
    name = "the ONVIF media service (ver20)"

    async def profiles(self) -> list[Profile]:
        return media2.parse_profiles(await self.ask(media2.get_profiles()))

    async def uri(self, profile_token: str) -> str:
        return media2.parse_uri(await self.ask(media2.get_stream_uri(profile_token)))

    async def encoders(self, token: str) -> list[EncoderSettings]:
        answer = await self.ask(media2.get_encoder(token))
        return [encoders.parse_encoder(e, encoders.MEDIA2) for e in answer.findall("{*}Configurations")[:64]]

    async def set_encoder(self, settings: EncoderSettings) -> None:
        await self.ask(media2.set_encoder(settings))

    async def encoder_options(self, profile_token: str, token: str) -> Options:
        return encoder_options.parse2(await self.ask(encoder_options.ask2(profile_token, token)))

    async def turning(self, token: str) -> Turning | None:
        return video_source.parse(await self.ask(video_source.get2(token)), token)

    async def set_turning(self, turning: Turning, degrees: int) -> None:
        await self.ask(video_source.set_turning(turning, degrees, media2=True))

    async def take_out(self, profile_token: str, kind: str) -> None:
        await self.ask(media2.remove_configuration(profile_token, kind))

    async def put_in(self, profile_token: str, kind: str, token: str) -> None:
        await self.ask(media2.add_configuration(profile_token, kind, token))


class MediaService:
    """The one that the device answers with. Every call raises what `Device.call` raises."""

    def __init__(self, device: Caller) -> None:
        self._device = device
        self._chosen: Service | None = None  # not known yet

    async def service(self) -> Service:
        """A device that lists Media 2 and tells no stream by it is asked by Media."""
        if self._chosen is None:
            await self.profiles()
        assert self._chosen is not None
        return self._chosen

    async def profiles(self) -> list[Profile]:
        if self._chosen is None:
            newer = Media2(self._device)
            try:
                found = await newer.profiles()
            except (RefusedError, UnreachableError):
                raise
            except DeviceError:  # an older device
                found = []
            if any(p.encoder is not None for p in found):
                self._chosen = newer
                return found
            self._chosen = Media(self._device)
        return await self._chosen.profiles()

    async def stream_address(self, profile_token: str) -> StreamAddress:
        """Where a profile's stream is, at the host that was reached."""
        told = await (await self.service()).uri(profile_token)
        address = StreamAddress.told(told, self._device.host, self._device.rules.rtsp_port)
        if address.named:
            self._device.named_hosts.setdefault(address.named, "stream address")
        return address

    async def encoder(self, token: str) -> EncoderSettings:
        """A configuration by its own token. Raises DeviceError where it tells nothing of it."""
        found = await (await self.service()).encoders(token)
        for settings in found:
            if settings.token == token or len(found) == 1:
                return settings
        raise DeviceError("it tells nothing of the settings it was given")

    async def encoder_options(self, profile_token: str, token: str) -> Options:
        """What the encoder can be set to; empty where it does not tell."""
        service = await self.service()
        try:
            return await service.encoder_options(profile_token, token)
        except (RefusedError, UnreachableError):
            raise
        except DeviceError:  # it is set, and read back, without
            return {}

    async def turning(self, token: str) -> Turning:
        """How the picture of a video source configuration is turned. Raises DeviceError where it is not told."""
        found = await (await self.service()).turning(token)
        if found is None:
            raise DeviceError("it tells nothing of how its lens is shown")
        return found
