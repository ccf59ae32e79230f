"""Privacy masks: the planned parts of the picture are hidden. Masks that nobody planned stay as they are."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any

from zentrale import quantities
from zentrale.errors import DeviceError, NotOfferedError
from zentrale.jobs.known.step_form import Step
from zentrale.jobs.steps.bench import Bench
from zentrale.protocols.onvif import masks
from zentrale.protocols.onvif.masks import Corner, Mask, MaskOptions
from zentrale.site.model import MaskPlan

_NEAR = 0.02  # of 2, the width and height in ONVIF's coordinates: a device rounds to its own grid


def steps(bench: Bench) -> list[Masks]:
    camera = bench.camera
    planned = [m for m in bench.plan.masks if camera is not None and m.camera == camera.name]
    return [Masks(bench, planned)] if planned else []


def journaled(bench: Bench, name: str, state: Mapping[str, Any]) -> Masks | None:
    """The step of this name with what an earlier run asked for, though the plan asks for it no more; None: it is another's."""
    return Masks(bench, []) if name == Masks.name else None


def normalized(corners: Sequence[tuple[float, float]]) -> tuple[Corner, ...]:
    """Per cent from the upper left as ONVIF has it: -1 to 1 from the lower left (ONVIF Analytics, normalized coordinates)."""
    return tuple((round(x / 50 - 1, 4), round(1 - y / 50, 4)) for x, y in corners)


def same_shape(a: Sequence[Corner], b: Sequence[Corner]) -> bool:
    """Whether two polygons are one, whichever corner they begin with, as far as a device may round."""
    if len(a) != len(b):
        return False
    turns = [[*b[at:], *b[:at]] for at in range(len(b))]
    return any(
        all(abs(p[0] - q[0]) <= _NEAR and abs(p[1] - q[1]) <= _NEAR for p, q in zip(a, turned, strict=True))
        for way in turns
        for turned in (way, way[::-1])
    )


@dataclass(frozen=True)
class MasksState:
    """Each mask as text: on or off, and its corners as x,y with blanks between."""

    masks: tuple[str, ...] = ()


def _text(corners: Sequence[Corner], *, enabled: bool) -> str:
    return " ".join(["on" if enabled else "off", *(f"{x:g},{y:g}" for x, y in corners)])


def _corners(text: str) -> tuple[Corner, ...]:
    pairs = (word.partition(",") for word in text.split()[1:])
    return tuple((float(x), float(y)) for x, _, y in pairs)


class Masks(Step[MasksState]):
    of_a_lens = True
    name = "privacy masks"
    place = "picture: privacy masks"

    def __init__(self, bench: Bench, planned: Sequence[MaskPlan]) -> None:
        super().__init__(bench.client)
        self._bench = bench
        self._planned = {_text(normalized(m.corners), enabled=True): m for m in planned}
        self._configuration = ""
        self._held: dict[str, Mask] = {}
        self._options = MaskOptions()

    def aim(self) -> str:
        """Each mask by its corners, as a person draws them, and what it is for."""
        corners = (" ".join(f"{x:g}/{y:g}" for x, y in m.corners) for m in self._planned.values())
        whys = (f" ({m.why})" if m.why else "" for m in self._planned.values())
        text = "; ".join(f"{c}{w}" for c, w in zip(corners, whys, strict=True))
        return f"corners from the upper left, % across/% down: {text}"

    async def look(self) -> MasksState:
        client = self._bench.client
        if not self._configuration:
            self._configuration = (await self._bench.choice.main(client)).source_configuration
            try:
                self._options = masks.parse_options(await client.call("tr2", masks.get_options(self._configuration)))
            except NotOfferedError:
                self._options = MaskOptions()  # whether it has masks, GetMasks tells
        held = masks.parse_masks(await client.call("tr2", masks.get_masks(self._configuration)))
        here = [m for m in held if m.configuration in ("", self._configuration)]
        self._held = {_text(m.corners, enabled=m.enabled): m for m in here}
        return MasksState(tuple(self._held))

    def wanted(self, now: MasksState) -> MasksState:
        """Those it has, and those of the plan; one of the plan that is there and off is turned on."""
        kept, missing = [], list(self._planned)
        for text in now.masks:
            planned = next((p for p in missing if same_shape(_corners(p), _corners(text))), None)
            if planned is None:
                kept.append(text)
            else:
                missing.remove(planned)
                kept.append(_text(_corners(text), enabled=True))
        options = self._options
        if options.rectangles and any(not _rectangle(_corners(p)) for p in missing):
            raise NotOfferedError("it takes rectangles only, with sides along those of the picture")
        if options.most_corners and any(len(_corners(p)) > options.most_corners for p in missing):
            raise NotOfferedError(f"it takes masks of at most {options.most_corners} corners")
        if options.most and len(kept) + len(missing) > options.most:
            there = f"{len(now.masks)} are there" if now.masks else f"{len(missing)} are planned"
            raise DeviceError(f"it takes {quantities.count(options.most, 'mask')}; {there}")
        return MasksState((*kept, *missing))

    def holds(self, now: MasksState, wanted: MasksState) -> bool:
        """Rounded by the device is held, as long as it is on and hides the same part."""
        left = list(now.masks)
        for text in wanted.masks:
            same = next((t for t in left if _alike(t, text)), None)
            if same is None:
                return False
            left.remove(same)
        return not left

    async def apply(self, now: MasksState, wanted: MasksState) -> None:
        client = self._bench.client
        missing = [t for t in wanted.masks if t not in now.masks]
        for text in [t for t in now.masks if t not in wanted.masks]:
            held = self._held[text]
            other = next((t for t in missing if _corners(t) == _corners(text)), None)
            if other is None:
                await client.call("tr2", masks.delete_mask(held.token))
            else:
                missing.remove(other)
                await client.call("tr2", masks.set_mask(replace(held, enabled=other.startswith("on"))))
        for text in missing:
            planned = self._planned.get(text)
            kind = (planned.kind if planned else "color").capitalize()
            offered = self._options.kinds
            chosen = kind if not offered or kind in offered else offered[0]
            new = Mask(_corners(text), text.startswith("on"), chosen, configuration=self._configuration)
            await client.call("tr2", masks.create_mask(new))

    def shown(self, state: MasksState) -> str:
        if not state.masks:
            return "none"
        off = sum(t.startswith("off") for t in state.masks)
        return quantities.count(len(state.masks), "mask") + (f", {off} of them off" if off else "")


def _alike(a: str, b: str) -> bool:
    return a.split()[0] == b.split()[0] and same_shape(_corners(a), _corners(b))


def _rectangle(corners: Sequence[Corner]) -> bool:
    """Four corners on two verticals and two horizontals."""
    return len(corners) == 4 and len({x for x, _ in corners}) == 2 and len({y for _, y in corners}) == 2
