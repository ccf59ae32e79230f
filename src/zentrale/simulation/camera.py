"""A stand-in camera: the ONVIF media service over one main and one sub stream, and a snapshot."""

from __future__ import annotations

import asyncio
import io
from dataclasses import replace

from zentrale.protocols import soap
from zentrale.protocols.onvif import device, media, osd
from zentrale.protocols.soap import NS
from zentrale.protocols.xml import Element
from zentrale.simulation import encoding, scene
from zentrale.simulation.http_server import HttpRequest, HttpResponse
from zentrale.simulation.onvif_device import OnvifDevice, SoapRefusal
from zentrale.simulation.scenario import Camera, Encoder

MEDIA_PATH = "/onvif/media_service"
SNAPSHOT_PATH = "/snapshot"
MAX_FPS = 30
MAX_LABELS = 4
LENS, SOURCE_CONFIGURATION = "lens-1", "source-1"


def settings_of(token: str, encoder: Encoder) -> media.EncoderSettings:
    width, height = encoder.resolution
    return media.EncoderSettings(
        token, "H264", width, height, encoder.fps, encoder.bitrate_kbps, encoder.govlength, name=token
    )


class SimulatedCamera(OnvifDevice):
    """Settings that are set take effect at the next DESCRIBE; a stuck encoder claims them and streams its own size."""

    config: Camera

    def __init__(self, config: Camera) -> None:
        super().__init__(config)
        self.encoders = {name: settings_of(name, getattr(config, name)) for name in ("main", "sub")}
        self.labels: dict[str, osd.Label] = {}
        self.operations |= {
            "GetProfiles": lambda _: media.profiles_response(self._profile(name) for name in self.encoders),
            "GetStreamUri": self._stream_uri,
            "GetSnapshotUri": lambda _: media.uri_response("GetSnapshotUriResponse", self.base_url + SNAPSHOT_PATH),
            "GetVideoEncoderConfigurations": lambda _: media.encoders_response(self.encoders.values()),
            "GetVideoEncoderConfiguration": self._encoder,
            "SetVideoEncoderConfiguration": self._set_encoder,
            "GetOSDs": lambda _: osd.osds_response(self.labels.values()),
            "CreateOSD": self._create_osd,
            "SetOSD": self._set_osd,
            "DeleteOSD": self._delete_osd,
        }

    def services(self) -> list[device.Service]:
        return [*super().services(), device.Service(NS["trt"], self.base_url + MEDIA_PATH)]

    def stream_named(self, path: str) -> str | None:
        """`main` or `sub` for a request path; None for any other."""
        return {self.config.main_path: "main", self.config.sub_path: "sub"}.get(path)

    def recipe(self, stream: str) -> encoding.StreamRecipe:
        return recipe_for(self.config, stream, self.encoders[stream])

    def _profile(self, name: str) -> media.Profile:
        return media.Profile(f"profile-{name}", name, self.encoders[name], LENS, SOURCE_CONFIGURATION)

    def _named(self, token: str) -> str:
        name = token.removeprefix("profile-")
        if name not in self.encoders:
            raise SoapRefusal("Sender", "InvalidArgVal", "NoProfile", reason="no such profile or configuration")
        return name

    def _stream_uri(self, request: Element) -> Element:
        name = self._named(media.profile_token_of(request))
        path = self.config.main_path if name == "main" else self.config.sub_path
        uri = f"rtsp://{self.config.address}:{self.config.rtsp_port}{path}"
        return media.uri_response("GetStreamUriResponse", uri)

    def _encoder(self, request: Element) -> Element:
        return media.encoder_response(self.encoders[self._named(media.configuration_token_of(request))])

    def _set_encoder(self, request: Element) -> Element:
        wanted = media.parse_set_encoder(request)
        if wanted is None or wanted.codec != "H264" or not 0 < wanted.fps <= MAX_FPS or wanted.govlength < 1:
            raise SoapRefusal("Sender", "InvalidArgVal", "ConfigModify", reason="the settings are not supported")
        name = self._named(wanted.token)
        self.encoders[name] = replace(wanted, name=name)
        return soap.TRT.SetVideoEncoderConfigurationResponse()

    def _create_osd(self, request: Element) -> Element:
        wanted = osd.parse_osd_request(request)
        if wanted.configuration != SOURCE_CONFIGURATION or len(self.labels) >= MAX_LABELS:
            raise SoapRefusal("Receiver", "Action", "MaxOSDs", reason="no room for another label")
        token = f"osd-{len(self.labels) + 1}"
        self.labels[token] = replace(wanted, token=token)
        return soap.TRT.CreateOSDResponse(soap.TRT.OSDToken(token))

    def _set_osd(self, request: Element) -> Element:
        wanted = osd.parse_osd_request(request)
        if wanted.token not in self.labels:
            raise SoapRefusal("Sender", "InvalidArgVal", "NoConfig", reason="no such label")
        self.labels[wanted.token] = wanted
        return soap.TRT.SetOSDResponse()

    def _delete_osd(self, request: Element) -> Element:
        if self.labels.pop(request.findtext("trt:OSDToken", "", NS), None) is None:
            raise SoapRefusal("Sender", "InvalidArgVal", "NoConfig", reason="no such label")
        return soap.TRT.DeleteOSDResponse()

    async def handle_get(self, request: HttpRequest) -> HttpResponse:
        if request.target.partition("?")[0] != SNAPSHOT_PATH:
            return await super().handle_get(request)
        if not self.fresh and not self.config.anonymous_viewing and self.http_user(request) is None:
            offers = [("WWW-Authenticate", c) for c in self.digest.challenges()]
            return HttpResponse(401, b"credentials are needed", "text/plain", offers)
        picture = io.BytesIO()
        image = await asyncio.to_thread(scene.still, self.config.name, *self.config.main.resolution)
        image.save(picture, "JPEG", quality=80)
        return HttpResponse(200, picture.getvalue(), "image/jpeg")


def recipe_for(config: Camera, stream: str, settings: media.EncoderSettings) -> encoding.StreamRecipe:
    width, height = settings.width_px, settings.height_px
    if stream == "main" and config.streams_resolution is not None:
        width, height = config.streams_resolution
    return encoding.StreamRecipe(
        config.scene or config.name,
        stream,
        width,
        height,
        round(settings.fps),
        settings.bitrate_kbps,
        settings.govlength,
    )
