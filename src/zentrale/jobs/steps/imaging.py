"""Settings of the picture, each a step of its own: what a camera does not offer leaves the others alone."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from zentrale.errors import NotOfferedError
from zentrale.jobs.known.step_form import Step
from zentrale.jobs.steps.bench import Bench
from zentrale.protocols.onvif import imaging
from zentrale.site.settings import ImagingPlan

_NAMES = {
    "ir_cut_filter": "day and night",
    "exposure": "exposure",
    "max_exposure_us": "longest exposure",
    "backlight": "backlight",
    "wide_dynamic_range": "dynamic range",
}
# tt:IrCutFilterMode: the filter is in (ON) by day.
_IR_CUT = {"auto": "AUTO", "day": "ON", "night": "OFF"}
_SAID = {"AUTO": "auto", "ON": "day", "OFF": "night"}


def planned_values(plan: ImagingPlan) -> dict[str, str]:
    """The plan's values by the names of the service, as it writes them."""
    wanted = {
        "ir_cut_filter": _IR_CUT.get(plan.day_night, ""),
        "exposure": plan.exposure.upper(),
        "max_exposure_us": f"{plan.max_exposure_ms * 1000:g}" if plan.max_exposure_ms else "",
        "backlight": plan.backlight.upper(),
        "wide_dynamic_range": plan.wide_dynamic_range.upper(),
    }
    return {name: value for name, value in wanted.items() if value}


def steps(bench: Bench) -> list[PictureSetting]:
    if bench.camera is None:
        return []
    planned = planned_values(bench.plan.group(bench.camera).imaging)
    return [PictureSetting(bench, name, value) for name, value in planned.items()]


def journaled(bench: Bench, name: str, state: Mapping[str, Any]) -> PictureSetting | None:
    """The step of this name with what an earlier run asked for, though the plan asks for it no more; None: it is another's."""
    key = next((key for key, called in _NAMES.items() if called == name), "")
    return PictureSetting(bench, key, str(state.get("value", ""))) if key else None


@dataclass(frozen=True)
class SettingState:
    """One value as the service writes it."""

    value: str


class PictureSetting(Step[SettingState]):
    of_a_lens = True

    def __init__(self, bench: Bench, key: str, value: str) -> None:
        super().__init__(bench.client)
        self.name = _NAMES[key]
        self.place = f"picture: {self.name}"
        self._bench = bench
        self._key = key
        self._value = value
        self._source = ""
        self._held = imaging.Settings({})
        self._offered: tuple[str, ...] = ()

    def aim(self) -> str:
        return self._said(self._value)

    async def look(self) -> SettingState:
        if not self._source:
            self._source = (await self._bench.choice.main(self.client)).source
            try:
                options = imaging.parse_options(await self.client.call("timg", imaging.get_options(self._source)))
            except NotOfferedError:
                options = {}  # what it holds, GetImagingSettings tells
            self._offered = options.get(self._key, ())
        self._held = imaging.parse_settings(await self.client.call("timg", imaging.get_settings(self._source)))
        if self._key not in self._held.values and not self._offered:
            raise NotOfferedError(f"it has no setting for {self.name}")
        return SettingState(self._held.values.get(self._key, ""))

    def wanted(self, now: SettingState) -> SettingState:
        if self._offered and self._key == "max_exposure_us":
            ends = [_number(w) for w in self._offered]
            if not min(ends) <= _number(self._value) <= max(ends):
                low, high = (self._said(f"{e:g}") for e in (min(ends), max(ends)))
                raise NotOfferedError(f"it offers {low} to {high}, not {self._said(self._value)}")
        elif self._offered and self._value not in self._offered:
            raise NotOfferedError(
                f"it offers {', '.join(map(self._said, self._offered))}, not {self._said(self._value)}"
            )
        return SettingState(self._value)

    def holds(self, now: SettingState, wanted: SettingState) -> bool:
        if self._key == "max_exposure_us" and now.value and wanted.value:
            return abs(_number(now.value) - _number(wanted.value)) <= 0.05 * _number(wanted.value)  # in its own steps
        return now == wanted

    async def apply(self, now: SettingState, wanted: SettingState) -> None:
        request = imaging.set_settings(self._source, self._held, {self._key: wanted.value})
        await self.client.call("timg", request)

    def _said(self, value: str) -> str:
        if self._key == "ir_cut_filter":
            return _SAID.get(value, value)
        return f"{_number(value) / 1000:g} ms" if self._key == "max_exposure_us" and value else value.lower()

    def shown(self, state: SettingState) -> str:
        return self._said(state.value) or "not told"


def _number(text: str) -> float:
    try:
        return float(text)
    except ValueError:
        return 0.0
