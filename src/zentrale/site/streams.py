"""Streams and groups: what a camera delivers, what is recorded of it, and what a bit rate is where none is given."""

from __future__ import annotations

from functools import cached_property
from typing import Annotated, Literal, Self

from pydantic import AfterValidator, Field, model_validator

from zentrale.site.part import Part
from zentrale.site.settings import ImagingPlan, MotionPlan
from zentrale.site.values import PlaceName, Resolution, timetable_entry, timetable_minutes

STREAMS = ("main", "sub", "third")
ESTIMATE_SOURCE = (
    "estimate: pixels x frames/s x 0.07 bit x 1, 2 or 4 by motion (Amerasinghe, H.264 for the rest of us, 2009)"
)
_MOTION = {"quiet": 1, "normal": 2, "busy": 4}
_H264_BIT_PER_PIXEL = 0.07
# H.265 needs about half the bits of H.264 for the same picture (Tan et al., IEEE TCSVT 26(1), 2016).
_H265_SHARE = 0.5
# A still picture of good quality takes about one bit a pixel (Wallace, The JPEG still picture standard, 1992).
_JPEG_BIT_PER_PIXEL = 1.0


def estimated_bitrate_bps(codec: str, resolution: tuple[int, int], fps: float, scene: str) -> int:
    """Bits per second of a stream nobody gave a bit rate for, to the nearest 10 kbit/s; see ESTIMATE_SOURCE.

    resolution: width and height [px]; scene: quiet, normal or busy
    """
    pixels_per_s = resolution[0] * resolution[1] * fps
    if codec == "JPEG":
        bits = pixels_per_s * _JPEG_BIT_PER_PIXEL
    else:
        bits = pixels_per_s * _H264_BIT_PER_PIXEL * _MOTION[scene] * (_H265_SHARE if codec == "H265" else 1)
    return max(10_000, round(bits / 10_000) * 10_000)


class StreamPlan(Part):
    """One stream as it is to be delivered. Without a bit rate it is estimated; `scene` says how much moves in it.

    night_kbps, busy_kbps:   its rate by night, and while much moves, where these differ
    min_fps:                 the encoder may take fewer pictures where little moves, down to this rate [frames/s]
    max_keyframe_interval_s: it may send key pictures as it likes, and none later than this after the one before
    """

    codec: Literal["H264", "H265", "JPEG"] = "H264"
    resolution: Resolution
    fps: Annotated[float, Field(gt=0, le=240)]
    bitrate_kbps: Annotated[int, Field(gt=0, le=400_000)] | None = None
    night_kbps: Annotated[int, Field(gt=0, le=400_000)] | None = None
    busy_kbps: Annotated[int, Field(gt=0, le=400_000)] | None = None
    keyframe_interval_s: Annotated[float, Field(gt=0, le=60)] = 2.0
    scene: Literal["quiet", "normal", "busy"] = "normal"
    min_fps: Annotated[float, Field(gt=0, le=240)] | None = None
    max_keyframe_interval_s: Annotated[float, Field(gt=0, le=300)] | None = None

    @model_validator(mode="after")
    def _in_order(self) -> StreamPlan:
        if self.min_fps is not None and self.min_fps > self.fps:
            raise ValueError(f"min_fps {self.min_fps:g} is above fps {self.fps:g}")
        if self.max_keyframe_interval_s is not None and self.max_keyframe_interval_s < self.keyframe_interval_s:
            longest, usual = self.max_keyframe_interval_s, self.keyframe_interval_s
            raise ValueError(f"max_keyframe_interval_s {longest:g} is below keyframe_interval_s {usual:g}")
        return self

    @property
    def longest_keyframe_interval_s(self) -> float:
        """How long it may take from one key picture to the next."""
        return self.max_keyframe_interval_s or self.keyframe_interval_s

    @property
    def needs_s(self) -> float:
        """How long it must be measured until two key pictures were seen for certain, wherever in a group that begins."""
        return 0.0 if self.codec == "JPEG" else 2 * self.longest_keyframe_interval_s

    @property
    def estimated(self) -> bool:
        return self.bitrate_kbps is None

    @property
    def bitrate_bps(self) -> int:
        if self.bitrate_kbps is not None:
            return self.bitrate_kbps * 1000
        return estimated_bitrate_bps(self.codec, self.resolution, self.fps, self.scene)

    @cached_property
    def most_bps(self) -> int:
        """What links and recorders have to bear: the highest of its rates."""
        return max(
            self.bitrate_bps, *(1000 * rate for rate in (self.night_kbps, self.busy_kbps) if rate is not None), 0
        )

    def stored_bps(self, mode: str) -> float:
        """What is written while it records: by motion the busy rate; else day and night, half of the time each."""
        if mode == "motion" and self.busy_kbps is not None:
            return 1000.0 * self.busy_kbps
        night = self.bitrate_bps if self.night_kbps is None else 1000 * self.night_kbps
        return (self.bitrate_bps + night) / 2


class RecordingPlan(Part):
    """What is recorded, and for how long it is kept.

    motion_share:    share of the time in which something moves (mode motion)
    events_per_hour: how often it begins; each adds the seconds before and after
    timetable:       when it records (mode timetable), as "Mon-Fri 07:00-19:00"
    sub, sound:      whether these are recorded beside the main stream; sound None: it is left as it is
    keep_days:       wanted; max_days the longest that law allows
    """

    mode: Literal["continuous", "motion", "timetable"] = "continuous"
    motion_share: Annotated[float, Field(ge=0, le=1)] = 0.3
    events_per_hour: Annotated[float, Field(ge=0)] = 0
    before_s: Annotated[float, Field(ge=0, le=600)] = 0
    after_s: Annotated[float, Field(ge=0, le=600)] = 0
    timetable: tuple[Annotated[str, AfterValidator(timetable_entry)], ...] = ()
    sub: bool = False
    sound: bool | None = None
    keep_days: Annotated[float, Field(gt=0, le=3650)] = 14
    max_days: Annotated[float, Field(gt=0, le=3650)] | None = None

    @model_validator(mode="after")
    def _hours(self) -> Self:
        if (self.mode == "timetable") != bool(self.timetable):
            why = (
                "mode is timetable, and it has none"
                if not self.timetable
                else f"mode is {self.mode}, which has no hours"
            )
            raise ValueError(
                f'expected timetable = ["Mon-Fri 07:00-19:00"] with mode = "timetable", and only there: {why}'
            )
        return self

    @property
    def minutes(self) -> frozenset[int]:
        """The minutes of the week that its timetable covers, from Monday 00:00."""
        return frozenset(minute for entry in self.timetable for minute in timetable_minutes(entry))


class NamedRecording(RecordingPlan):
    """Rules that cameras name in their row, in place of those of their group."""

    name: PlaceName


class Group(Part):
    """Cameras set up alike."""

    name: PlaceName
    main: StreamPlan
    sub: StreamPlan | None = None
    third: StreamPlan | None = None
    recording: RecordingPlan = RecordingPlan()
    imaging: ImagingPlan = ImagingPlan()
    motion: MotionPlan | None = None
    audio: Literal["", "off"] = ""
