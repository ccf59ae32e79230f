"""What registration sets on devices beside names and streams: accounts, masks, motion, picture, inputs."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import AfterValidator, Field

from zentrale.site.part import Part
from zentrale.site.values import PlaceName, Text

_Percent = Annotated[float, Field(ge=0, le=100)]
Corners = Annotated[tuple[tuple[_Percent, _Percent], ...], Field(min_length=3, max_length=64)]


def _account_name(value: str) -> str:
    if not value.isascii() or not value.isprintable() or not 1 <= len(value) <= 32 or set(value) & set(' :/@"<>&'):
        raise ValueError('expected 1 to 32 letters, digits and signs, without blanks and without : / @ " < > &')
    return value


def account_or_none(value: str) -> str:
    """The name of an account, or nothing. Raises ValueError."""
    return _account_name(value) if value else value


AccountName = Annotated[str, AfterValidator(_account_name)]


class AccountPlan(Part):
    """An account on the devices, beside the one of the installer. `role` as ONVIF's user levels have it; a viewer may only
    watch.
    """

    user: AccountName
    role: Literal["administrator", "operator", "viewer"]
    on: Literal["all", "cameras", "recorders"] = "all"


class MaskPlan(Part):
    """A part of a camera's picture that nobody may see. `corners` are [x, y] in per cent of its width from the left and of its
    height from the top; `why` is for the record.
    """

    camera: PlaceName
    corners: Corners
    kind: Literal["color", "pixelated", "blurred"] = "color"
    why: str = ""


class MotionPlan(Part):
    """Motion detection of a group: `sensitivity_percent` from 0 (nothing) to 100 (everything)."""

    sensitivity_percent: _Percent


class MotionArea(Part):
    """The part of a camera's picture in which motion counts; `corners` as of a mask."""

    camera: PlaceName
    corners: Corners


class ImagingPlan(Part):
    """The picture's settings; what is empty stays as it is. `day_night`: auto, or always one of them; `max_exposure_ms` is the
    longest time a picture is exposed for: motion blurs beyond it.
    """

    day_night: Literal["", "auto", "day", "night"] = ""
    exposure: Literal["", "auto", "manual"] = ""
    max_exposure_ms: Annotated[float, Field(gt=0, le=10_000)] | None = None
    backlight: Literal["", "on", "off"] = ""
    wide_dynamic_range: Literal["", "on", "off"] = ""


class InputPlan(Part):
    """An input of a camera, such as a door contact: `number` from 1, `idle` its state when nothing happens."""

    camera: PlaceName
    number: Annotated[int, Field(ge=1, le=64)]
    name: Text
    idle: Literal["", "open", "closed"] = ""
