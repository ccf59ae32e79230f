"""A stand-in camera: the ONVIF media service over one main and one sub stream, and a snapshot."""

from __future__ import annotations

import asyncio
import io
import time
from dataclasses import replace
from datetime import UTC, datetime

from zentrale.errors import SoapRefusalError
from zentrale.protocols import soap
from zentrale.protocols.onvif import device, encoder_options, encoders, events, media, media2, osd, password_rules
from zentrale.protocols.onvif.encoder_options import CodecOptions
from zentrale.protocols.soap import NS
from zentrale.protocols.xml import Element
from zentrale.simulation import encoding, happening, scene
from zentrale.simulation.happening import EVENTS_PATH, PullPoint
from zentrale.simulation.http_server import HttpRequest, HttpResponse
from zentrale.simulation.onvif_device import OnvifDevice
from zentrale.simulation.picture_services import Microphone, PictureServices
from zentrale.simulation.scenario import Camera, Encoder

MEDIA_PATH, MEDIA2_PATH = "/onvif/media_service", "/onvif/media2_service"
SNAPSHOT_PATH = "/snapshot"
MAX_FPS = 30
MAX_LABELS = 4
_SIZES = ((3840, 2160), (2560, 1440), (1920, 1080), (1280, 720), (640, 360), (320, 180), (160, 96))
_MOTION = "tns1:VideoSource/MotionAlarm"
SOURCE_CONFIGURATION = "source-1"  # of its first lens


def stream_names(config: Camera) -> list[str]:
    """main and sub; those of further lenses with their number behind."""
    return [s if lens == 1 else f"{s}-{lens}" for lens in range(1, config.lenses + 1) for s in ("main", "sub")]


def stream_of(name: str) -> tuple[str, int]:
    """main or sub, and which lens it is of, counted from 1."""
    stream, _, lens = name.partition("-")
    return stream, int(lens or 1)


def settings_of(token: str, encoder: Encoder) -> encoders.EncoderSettings:
    width, height = encoder.resolution
    return encoders.EncoderSettings(
        token, "H264", width, height, encoder.fps, encoder.bitrate_kbps, encoder.govlength, name=token
    )


class SimulatedCamera(OnvifDevice):
    """Settings that are set take effect at the next DESCRIBE; a stuck encoder claims them and streams its own size."""

    config: Camera

    def __init__(self, config: Camera) -> None:
        super().__init__(config)
        self.encoders = {name: settings_of(name, getattr(config, stream_of(name)[0])) for name in stream_names(config)}
        self.labels: dict[str, osd.Label] = {}
        self.other = ""  # another camera's scene, which a fault lets it show
        self.picture = PictureServices(config, "lens-1", SOURCE_CONFIGURATION)
        self.microphone = Microphone([f"profile-{name}" for name in self.encoders] if config.microphone else [])
        self.operations |= {
            **self.picture.operations(),
            **self.microphone.operations(),
            "GetProfiles": self._profiles,
            "GetServiceCapabilities": self._capabilities,
            "GetStreamUri": self._stream_uri,
            "GetVideoEncoderConfigurationOptions": self._encoder_options,
            "GetSnapshotUri": lambda _: media.uri_response("GetSnapshotUriResponse", self.base_url + SNAPSHOT_PATH),
            "GetVideoEncoderConfigurations": self._encoders,
            "GetVideoEncoderConfiguration": self._encoder,
            "SetVideoEncoderConfiguration": self._set_encoder,
            "GetOSDs": lambda _: osd.osds_response(self.labels.values()),
            "CreateOSD": self._create_osd,
            "SetOSD": self._set_osd,
            "DeleteOSD": self._delete_osd,
        }
        if config.motion:
            point = PullPoint(self.base_url + EVENTS_PATH, self._moves, self._moved)
            self.operations |= point.operations()

    def services(self) -> list[device.Service]:
        paths = {"media": ("trt", MEDIA_PATH), "media2": ("tr2", MEDIA2_PATH)}
        own = [device.Service(NS[paths[m][0]], self.base_url + paths[m][1]) for m in self.config.media]
        more = [device.Service(NS[prefix], url) for prefix, url in self.picture.services(self.base_url)]
        events = [device.Service(NS["tev"], self.base_url + EVENTS_PATH)] if self.config.motion else []
        return [*super().services(), *own, *more, *events]

    def _moves(self) -> list[events.Message]:
        return [self._motion(time.time(), not self.still and happening.something_moves(time.time()))]

    def _moved(self, since_s: float, until_s: float) -> list[events.Message]:
        return [self._motion(at, moves) for at, moves in happening.movements(since_s, until_s) if not self.still]

    def _motion(self, at_s: float, moves: bool) -> events.Message:
        when = datetime.fromtimestamp(at_s + self.clock_offset_s, UTC)
        return events.Message(_MOTION, {"Source": "lens-1"}, {"State": str(moves).lower()}, when)

    def stream_named(self, path: str) -> str | None:
        """The name of the stream at a request path; None for any other."""
        return next((name for name in self.encoders if self._path(name) == path), None)

    def _path(self, name: str) -> str:
        stream, lens = stream_of(name)
        path = self.config.main_path if stream == "main" else self.config.sub_path
        return path if lens == 1 else f"{path}/{lens}"

    def recipe(self, stream: str) -> encoding.StreamRecipe:
        shows = next((f for f in ("black", "frozen", "turned") if f in self.faults), self.config.picture)
        seen = self.other if "other-picture" in self.faults else self.config.scene
        config = self.config.model_copy(update={"picture": shows, "scene": seen})
        return recipe_for(config, stream, self.encoders[stream])

    def _profile(self, name: str) -> media.Profile:
        token = f"profile-{name}"
        source, encoder = (self.microphone.token(token, kind) for kind in ("AudioSource", "AudioEncoder"))
        analytics = "analytics-1" if self.config.motion and name == "main" else ""
        lens = stream_of(name)[1]
        return media.Profile(
            token, name, self.encoders[name], f"lens-{lens}", f"source-{lens}", source, encoder, analytics
        )

    def _capabilities(self, request: Element) -> Element:
        """Of the device service: the limits of passwords, where it tells them."""
        length = self.config.max_password_length if self.config.tells_password_rules else 0
        return password_rules.capabilities_response(length)

    def _profiles(self, request: Element) -> Element:
        """By the service that was asked: each has its own form."""
        answer = media2.profiles_response if _second(request) else media.profiles_response
        gone = "main" if "profile-gone" in self.faults else ""
        return answer(self._profile(name) for name in self.encoders if stream_of(name)[0] != gone)

    def _encoders(self, request: Element) -> Element:
        if not _second(request):
            return media.encoders_response(self.encoders.values())
        token = request.findtext("tr2:ConfigurationToken", "", NS)
        return media2.encoders_response(e for e in self.encoders.values() if token in ("", e.token))

    def _encoder_options(self, request: Element) -> Element:
        own = {e.resolution for e in (self.config.planned_main, self.config.planned_sub) if e is not None}
        sizes = (*_SIZES, *sorted(own - set(_SIZES)))
        offered = {
            "H264": CodecOptions(
                sizes, tuple(float(f) for f in range(1, MAX_FPS + 1)), bitrate_kbps=(32, 16384), govlength=(1, 600)
            )
        }
        return encoder_options.response2(offered) if _second(request) else encoder_options.response(offered)

    def _named(self, token: str) -> str:
        name = token.removeprefix("profile-")
        if name not in self.encoders:
            raise SoapRefusalError("Sender", "InvalidArgVal", "NoProfile", reason="no such profile or configuration")
        return name

    def _stream_uri(self, request: Element) -> Element:
        name = self._named(request.findtext("{*}ProfileToken", ""))
        uri = f"rtsp://{self.config.address}:{self.config.rtsp_port}{self._path(name)}"
        return media2.uri_response(uri) if _second(request) else media.uri_response("GetStreamUriResponse", uri)

    def _encoder(self, request: Element) -> Element:
        return media.encoder_response(self.encoders[self._named(media.configuration_token_of(request))])

    def _set_encoder(self, request: Element) -> Element:
        wanted = media2.parse_set_encoder(request) if _second(request) else media.parse_set_encoder(request)
        if wanted is None or wanted.codec != "H264" or not 0 < wanted.fps <= MAX_FPS or wanted.govlength < 1:
            raise SoapRefusalError("Sender", "InvalidArgVal", "ConfigModify", reason="the settings are not supported")
        name = self._named(wanted.token)
        quirks = self.config.quirks
        step = quirks.rounds_kbps or 1
        # Without the request's own element: a device keeps values, and tells them by either service.
        self.encoders[name] = replace(wanted, name=name, element=None, bitrate_kbps=wanted.bitrate_kbps // step * step)
        if "encoder" in quirks.restarts_after:
            self.network.restart(quirks.restart_s)
        make = soap.TR2 if _second(request) else soap.TRT
        return make.SetVideoEncoderConfigurationResponse()

    @property
    def _source_configurations(self) -> list[str]:
        return [f"source-{lens + 1}" for lens in range(self.config.lenses)]

    def _create_osd(self, request: Element) -> Element:
        wanted = osd.parse_osd_request(request)
        if wanted.configuration not in self._source_configurations or len(self.labels) >= MAX_LABELS:
            raise SoapRefusalError("Receiver", "Action", "MaxOSDs", reason="no room for another label")
        token = f"osd-{len(self.labels) + 1}"
        self.labels[token] = replace(wanted, token=token)
        return soap.TRT.CreateOSDResponse(soap.TRT.OSDToken(token))

    def _set_osd(self, request: Element) -> Element:
        wanted = osd.parse_osd_request(request)
        if wanted.token not in self.labels:
            raise SoapRefusalError("Sender", "InvalidArgVal", "NoConfig", reason="no such label")
        self.labels[wanted.token] = wanted
        return soap.TRT.SetOSDResponse()

    def _delete_osd(self, request: Element) -> Element:
        if self.labels.pop(request.findtext("trt:OSDToken", "", NS), None) is None:
            raise SoapRefusalError("Sender", "InvalidArgVal", "NoConfig", reason="no such label")
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


def _second(request: Element) -> bool:
    """Whether it was asked by Media 2."""
    return str(request.tag).startswith(f"{{{NS['tr2']}}}")


def recipe_for(config: Camera, stream: str, settings: encoders.EncoderSettings) -> encoding.StreamRecipe:
    width, height = settings.width_px, settings.height_px
    lens = stream_of(stream)[1]
    seen = config.scene or config.name
    if stream == "main" and config.streams_resolution is not None:
        width, height = config.streams_resolution
    return encoding.StreamRecipe(
        scene.what(seen if lens == 1 else f"{seen} {lens}", config.picture),
        stream,
        width,
        height,
        round(settings.fps),
        settings.bitrate_kbps,
        settings.govlength,
    )
