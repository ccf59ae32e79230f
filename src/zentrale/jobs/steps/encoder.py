"""An encoder's settings for one stream of one lens: codec, resolution, frame rate, bit rate, key-frame interval."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import fields, replace
from typing import Any

from zentrale import quantities
from zentrale.errors import NotOfferedError
from zentrale.jobs.known.planned import stream_in_words
from zentrale.jobs.known.profile_choice import lens_told
from zentrale.jobs.known.step_form import Step, loaded
from zentrale.jobs.steps.bench import Bench
from zentrale.jobs.streams.judging import KEYFRAME_TOLERANCE, planned_group
from zentrale.protocols.onvif.encoder_options import Options
from zentrale.protocols.onvif.encoders import EncoderSettings
from zentrale.site.model import Camera, StreamPlan
from zentrale.site.streams import STREAMS

_PORT = 5004  # of a group, where the device has none (RFC 3551, clause 8)


def steps(bench: Bench) -> list[Encoder]:
    """One for each planned stream of a camera."""
    camera = bench.camera
    return [] if camera is None else [Encoder(bench, camera, s, p) for s, p in bench.plan.streams(camera).items()]


def journaled(bench: Bench, name: str, state: Mapping[str, Any]) -> Encoder | None:
    """The step of this name with what an earlier run asked for, though the plan asks for it no more; None: it is another's."""
    stream, camera = name.removesuffix(" stream"), bench.camera
    if camera is None or stream not in STREAMS or not name.endswith(" stream"):
        return None
    kept = loaded(EncoderSettings, {"token": "", **state})
    fps = max(1.0, kept.fps)
    plan = StreamPlan.model_construct(
        codec=kept.codec, resolution=(kept.width_px, kept.height_px), fps=fps, bitrate_kbps=kept.bitrate_kbps or 1,
        keyframe_interval_s=max(kept.govlength, 1) / fps, scene="normal",
    )  # fmt: skip
    return Encoder(bench, camera, stream, plan)


class Encoder(Step[EncoderSettings]):
    """The settings of one stream (SetVideoEncoderConfiguration), with its multicast group where one is planned."""

    of_a_lens = True

    def __init__(self, bench: Bench, camera: Camera, stream: str, plan: StreamPlan) -> None:
        super().__init__(bench.client)
        self.name = f"{stream} stream"
        self.place = f"video: {stream} stream"
        self._stream = stream
        self._plan = plan
        self._policy = bench.plan.policy
        self._choice = bench.choice
        self._group = planned_group(camera, stream)
        self._planned = (*_PLANNED, "multicast_address") if self._group else _PLANNED
        self._settings: EncoderSettings | None = None
        self._options: Options | None = None
        self._first: EncoderSettings | None = None
        self._cannot = ""
        self._group_name = camera.group
        self._tells_lens = camera.source is not None
        self._lens = ""

    def remark(self) -> str:
        """Of a device with several lenses: which this is, in its own words."""
        return self._lens

    def aim(self) -> str:
        group = f", multicast group {self._group}" if self._group else ""
        return stream_in_words(self._plan) + group

    async def look(self) -> EncoderSettings:
        media = self.client.media
        profile = self._choice.of(await media.profiles()).get(self._stream)
        if profile is None or profile.encoder is None:
            raise NotOfferedError(f"it offers no profile for the {self._stream} stream")
        self._settings = profile.encoder
        self._lens = lens_told(profile) if self._tells_lens else ""
        state = profile.encoder
        self._first = self._first or state
        if self._options is None and not self.holds(state, self._wish(state)):
            self._options = await media.encoder_options(profile.token, profile.encoder.token)
            service = await media.service()
            if self._plan.codec in service.cannot_set and state.codec != self._plan.codec:
                self._cannot = f"{service.name} cannot set {self._plan.codec}"
        return state

    def wanted(self, now: EncoderSettings) -> EncoderSettings:
        """The plan's values, or the nearest that it offers where that is within the plan's own tolerance."""
        wish = self._wish(now)
        if not self._options:
            if self._cannot:
                raise NotOfferedError(self._cannot)
            return wish
        offered = self._options.get(wish.codec)
        if offered is None:
            codecs = ", ".join(self._options)
            change = self._plan_line(f'codec = "{next(iter(self._options))}"') if self._options else ""
            raise NotOfferedError(f"it offers {codecs or 'no codec'}, not {wish.codec}{change}")
        size = offered.nearest_resolution((wish.width_px, wish.height_px))
        nearest = replace(
            wish, width_px=size[0], height_px=size[1], fps=offered.nearest_fps(wish.fps),
            bitrate_kbps=offered.nearest_bitrate(wish.bitrate_kbps), govlength=offered.nearest_govlength(wish.govlength),
        )  # fmt: skip
        if not self.holds(nearest, wish) and not self.near(nearest, wish):
            keys = nearest.govlength / nearest.fps if nearest.fps else 0.0
            change = f'resolution = "{nearest.width_px}x{nearest.height_px}", fps = {nearest.fps:g}'
            change += f", bitrate_kbps = {nearest.bitrate_kbps}" + (
                f", keyframe_interval_s = {keys:.3g}" if keys else ""
            )
            raise NotOfferedError(
                f"it does not offer that; the nearest it offers is {describe(nearest)}{self._plan_line(change)}"
            )
        return nearest

    def _plan_line(self, change: str) -> str:
        """What to write into the plan, so that it asks for what the encoder can do."""
        where = f"group {self._group_name} in site.toml, or a group of its own"
        return f". To take that, plan {self._stream} = {{ {change} }} in {where}"

    def _wish(self, now: EncoderSettings) -> EncoderSettings:
        plan = self._plan
        width, height = plan.resolution
        fps = float(int(plan.fps + 0.5))  # FrameRateLimit is a whole number in ver10
        govlength = max(1, round(fps * plan.keyframe_interval_s)) if plan.codec != "JPEG" else now.govlength
        wish = replace(
            now, codec=plan.codec, width_px=width, height_px=height, fps=fps,
            bitrate_kbps=round(plan.bitrate_bps / 1000), govlength=govlength,
            profile=now.profile or ("Main" if plan.codec == "H264" != now.codec else ""),  # all H.264 decoders know it
        )  # fmt: skip
        if self._group:
            wish = replace(wish, multicast_address=self._group, multicast_port=now.multicast_port or _PORT)
        return wish

    def holds(self, now: EncoderSettings, wanted: EncoderSettings) -> bool:
        """Only what is planned counts: some devices choose another quality or profile with another resolution."""
        return all(getattr(now, name) == getattr(wanted, name) for name in self._planned)

    def near(self, now: EncoderSettings, wanted: EncoderSettings) -> bool:
        policy = self._policy
        bitrate = 1000 * now.bitrate_kbps
        rounded = replace(now, fps=wanted.fps, bitrate_kbps=wanted.bitrate_kbps, govlength=wanted.govlength)
        return (
            self.holds(rounded, wanted)
            and abs(now.fps - self._plan.fps) <= self._plan.fps * policy.fps_tolerance_percent / 100
            and bitrate <= self._plan.bitrate_bps * (1 + policy.bitrate_over_percent / 100)
            and bitrate >= self._plan.bitrate_bps * (1 - policy.bitrate_under_percent / 100)
            and abs(now.govlength - wanted.govlength) <= max(1, KEYFRAME_TOLERANCE * wanted.govlength)
        )

    async def apply(self, now: EncoderSettings, wanted: EncoderSettings) -> None:
        """What the device sent of the configuration goes back whole, but for the values that differ."""
        assert self._settings is not None
        token, element = wanted.token or self._settings.token, self._settings.element
        await (await self.client.media.service()).set_encoder(replace(wanted, token=token, element=element))

    async def read_back(self, wanted: EncoderSettings) -> EncoderSettings:
        """By the configuration's own token: what the profiles show may be chosen anew."""
        assert self._settings is not None
        return await self.client.media.encoder(self._settings.token)

    def shown(self, state: EncoderSettings) -> str:
        """With whatever else is not as it was when the device was looked at first."""
        first = self._first or state
        others = [
            f"{f.name.replace('_', ' ')} {getattr(state, f.name)}"
            for f in fields(state)
            if f.name not in (*_PLANNED, *_NO_SETTING) and getattr(state, f.name) != getattr(first, f.name)
        ]
        return ", ".join([describe(state), *others])

    def document(self, state: EncoderSettings) -> dict[str, Any]:
        return {f.name: getattr(state, f.name) for f in fields(state) if f.name != "element"}

    def load(self, document: Mapping[str, Any]) -> EncoderSettings:
        return loaded(EncoderSettings, {"token": "", **document})


_NO_SETTING = ("token", "element")  # which configuration it is, and as the device sent it
_PLANNED = ("codec", "width_px", "height_px", "fps", "bitrate_kbps", "govlength")


def describe(state: EncoderSettings) -> str:
    size = quantities.resolution(state.width_px, state.height_px)
    text = f"{state.codec} {size} {state.fps:g} fps {state.bitrate_kbps} kbit/s"
    if state.encoding_interval > 1:
        text += f" (1 picture in {state.encoding_interval})"
    return text if state.codec == "JPEG" else f"{text} key/{state.govlength}"
