"""An encoder's settings for one stream of one lens: codec, resolution, frame rate, bit rate, key-frame interval."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import asdict, dataclass, fields, replace
from typing import Any

from zentrale import quantities
from zentrale.errors import DeviceError
from zentrale.field.device import Device
from zentrale.jobs.judging import KEYFRAME_TOLERANCE
from zentrale.jobs.planned import ref_of
from zentrale.jobs.steps.bench import Bench
from zentrale.jobs.steps.step import Step, loaded
from zentrale.logbook.store import DONE, Logbook
from zentrale.protocols.onvif import media
from zentrale.protocols.onvif.media import EncoderSettings
from zentrale.site.model import Camera, Policy, StreamPlan
from zentrale.subjects import Ref

_CODECS = ("H264", "JPEG")  # of those a plan may ask for, what ONVIF Media (ver10) can set


def steps(bench: Bench) -> list[Encoder]:
    """One for each planned stream of a camera."""
    camera = bench.planned
    if not isinstance(camera, Camera):
        return []
    choice = ProfileChoice.remembered(bench.keyring.logbook, ref_of(camera))
    planned = bench.plan.streams(camera).items()
    return [Encoder(bench.client, stream, wanted, bench.plan.policy, choice) for stream, wanted in planned]


@dataclass(frozen=True)
class EncoderState:
    """All that the device tells of a VideoEncoderConfiguration; only the first six values are planned, and its token says
    which one it is.
    """

    codec: str
    width_px: int
    height_px: int
    fps: float
    bitrate_kbps: int
    govlength: int
    name: str = ""
    quality: float = 5.0
    encoding_interval: int = 1
    profile: str = ""
    multicast_address: str = "0.0.0.0"
    multicast_port: int = 0
    multicast_ttl: int = 1
    multicast_auto_start: bool = False
    session_timeout: str = "PT60S"
    token: str = ""

    @classmethod
    def of(cls, settings: EncoderSettings) -> EncoderState:
        return cls(**{f.name: getattr(settings, f.name) for f in fields(cls)})


class Encoder(Step[EncoderState]):
    """The settings of the main or the sub stream (ONVIF Media, SetVideoEncoderConfiguration)."""

    def __init__(self, client: Device, stream: str, plan: StreamPlan, policy: Policy, choice: ProfileChoice) -> None:
        self.client = client
        self.name = f"{stream} stream"
        self._stream = stream
        self._plan = plan
        self._policy = policy
        self._choice = choice
        self._settings: EncoderSettings | None = None
        self._first: EncoderState | None = None

    async def look(self) -> EncoderState:
        profile = self._choice.of(await self.client.profiles()).get(self._stream)
        if profile is None or profile.encoder is None:
            raise DeviceError(f"it offers no profile for the {self._stream} stream")
        self._settings = profile.encoder
        state = EncoderState.of(profile.encoder)
        self._first = self._first or state
        return state

    def wanted(self, now: EncoderState) -> EncoderState:
        plan = self._plan
        if plan.codec not in _CODECS and now.codec != plan.codec:
            raise DeviceError(f"the ONVIF media service (ver10) cannot set {plan.codec}; set it in its own page")
        width, height = plan.resolution
        fps = float(int(plan.fps + 0.5))  # FrameRateLimit is a whole number
        govlength = max(1, round(fps * plan.keyframe_interval_s)) if plan.codec != "JPEG" else now.govlength
        return replace(
            now, codec=plan.codec, width_px=width, height_px=height, fps=fps,
            bitrate_kbps=round(plan.bitrate_bps / 1000), govlength=govlength,
            profile=now.profile or ("Main" if plan.codec == "H264" != now.codec else ""),  # all H.264 decoders know it
        )  # fmt: skip

    def holds(self, now: EncoderState, wanted: EncoderState) -> bool:
        """Only what is planned counts: some devices choose another quality or profile with another resolution."""
        return all(getattr(now, name) == getattr(wanted, name) for name in _PLANNED)

    def near(self, now: EncoderState, wanted: EncoderState) -> bool:
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

    async def apply(self, now: EncoderState, wanted: EncoderState) -> None:
        """What the device sent of the configuration goes back whole, but for the values that differ."""
        assert self._settings is not None
        await self.client.call("trt", media.set_encoder(replace(self._settings, **asdict(wanted))))

    async def read_back(self, wanted: EncoderState) -> EncoderState:
        """By the configuration's own token: what the profiles show may be chosen anew."""
        assert self._settings is not None
        answer = await self.client.call("trt", media.get_encoder(self._settings.token))
        configuration = answer.find("{*}Configuration")
        if configuration is None:
            raise DeviceError("it tells nothing of the settings it was given")
        return EncoderState.of(media.parse_encoder(configuration))

    def shown(self, state: EncoderState) -> str:
        """With whatever else is not as it was when the device was looked at first."""
        first = self._first or state
        others = [
            f"{f.name.replace('_', ' ')} {getattr(state, f.name)}"
            for f in fields(state)
            if f.name not in (*_PLANNED, "token") and getattr(state, f.name) != getattr(first, f.name)
        ]
        return ", ".join([describe(state), *others])

    def load(self, document: Mapping[str, Any]) -> EncoderState:
        return loaded(EncoderState, document)


_PLANNED = ("codec", "width_px", "height_px", "fps", "bitrate_kbps", "govlength")


def describe(state: EncoderState) -> str:
    size = quantities.resolution(state.width_px, state.height_px)
    text = f"{state.codec} {size} {state.fps:g} fps {state.bitrate_kbps} kbit/s"
    if state.encoding_interval > 1:
        text += f" (1 picture in {state.encoding_interval})"
    return f"{text} key/{state.govlength}" if state.codec == "H264" else text


class ProfileChoice:
    """Which profile is which stream of a camera: chosen once, since the steps change what it is chosen by.

    known: the encoder's token by stream, as earlier runs have set it
    """

    def __init__(self, known: Mapping[str, str] | None = None) -> None:
        self._tokens = dict(known or {})

    @classmethod
    def remembered(cls, logbook: Logbook, camera: Ref) -> ProfileChoice:
        """As the journal has it."""
        known = {}
        for change in logbook.changes():
            if change.ref == camera and change.step.endswith(" stream") and change.after_state and change.state == DONE:
                known[change.step.removesuffix(" stream")] = str(change.after_state.get("token", ""))
        return cls(known)

    def of(self, profiles: Sequence[media.Profile]) -> dict[str, media.Profile]:
        by_token = {p.encoder.token: p for p in reversed(profiles) if p.encoder is not None}
        kept = {stream: by_token[token] for stream, token in self._tokens.items() if token in by_token}
        picked = pick_profiles(_beside(profiles, kept))
        if len(kept) == 1 and picked:  # of what is left on the same lens the other stream is the main one of it
            picked = {stream: picked["main"] for stream in ("main", "sub") if stream not in kept}
        chosen = {**picked, **kept}
        self._tokens = {stream: p.encoder.token for stream, p in chosen.items() if p.encoder is not None}
        return chosen


def pick_profiles(profiles: Sequence[media.Profile]) -> dict[str, media.Profile]:
    """The main and the sub profile of the camera: both of one video source (lens), never by their order in the list.

    The source is that of a profile named main, else the first by its token. Within it the profiles are told by their
    names, else the main one is the one with the most pixels, else the first by its token. Two profiles that share one
    encoder are one stream.
    """
    usable = [p for p in profiles if p.encoder is not None]
    if not usable:
        return {}
    source = min(usable, key=lambda p: ("main" not in _called(p), _natural(p.source))).source
    own = sorted((p for p in usable if p.source == source), key=lambda p: (-_pixels(p), _natural(p.token)))
    main = next((p for p in own if "main" in _called(p)), None) or next(
        (p for p in own if "sub" not in _called(p)), own[0]
    )
    others = [p for p in own if p.encoder and main.encoder and p.encoder.token != main.encoder.token]
    sub = next((p for p in others if "sub" in _called(p)), None) or next(iter(others), None)
    return {"main": main, "sub": sub} if sub is not None else {"main": main}


def _beside(profiles: Sequence[media.Profile], kept: Mapping[str, media.Profile]) -> list[media.Profile]:
    """What is left to choose from: the same lens, another encoder."""
    tokens = {p.encoder.token for p in kept.values() if p.encoder}
    sources = {p.source for p in kept.values()}
    return [
        p for p in profiles
        if not kept or (p.source in sources and p.encoder is not None and p.encoder.token not in tokens)
    ]  # fmt: skip


def _called(profile: media.Profile) -> str:
    return f"{profile.name} {profile.token}".lower()


def _natural(token: str) -> tuple[int, str]:
    """Tokens in the order a person counts them: source_2 before source_10."""
    return len(token), token


def _pixels(profile: media.Profile) -> int:
    return profile.encoder.width_px * profile.encoder.height_px if profile.encoder else 0
