"""Motion detection: how sensitive it is, and in which part of the picture motion counts."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from zentrale.errors import NotOfferedError
from zentrale.jobs.known.step_form import Step
from zentrale.jobs.steps.bench import Bench
from zentrale.protocols.onvif import motion
from zentrale.protocols.onvif.motion import Item

_RULE = "motion"  # of a rule that is made here


def steps(bench: Bench) -> list[Motion]:
    camera = bench.camera
    planned = None if camera is None else bench.plan.group(camera).motion
    if camera is None or planned is None:
        return []
    areas = [a.corners for a in bench.plan.motion_areas if a.camera == camera.name]
    return [Motion(bench, round(planned.sensitivity_percent), areas)]


def journaled(bench: Bench, name: str, state: Mapping[str, Any]) -> Motion | None:
    """The step of this name with what an earlier run asked for, though the plan asks for it no more; None: it is another's."""
    return Motion(bench, int(state.get("sensitivity", 0)), []) if name == Motion.name else None


def cells_within(areas: Sequence[Sequence[tuple[float, float]]], columns: int, rows: int) -> tuple[bool, ...]:
    """Which cells have their middle in one of the polygons, row by row from the upper left; all where there is none.

    areas: corners as [x, y] in per cent from the left and from the top
    """
    middles = [(100 * (c + 0.5) / columns, 100 * (r + 0.5) / rows) for r in range(rows) for c in range(columns)]
    return tuple(not areas or any(_inside(area, x, y) for area in areas) for x, y in middles)


def _inside(corners: Sequence[tuple[float, float]], x: float, y: float) -> bool:
    """By how often a ray to the right crosses the polygon's sides."""
    inside = False
    for (x1, y1), (x2, y2) in zip(corners, [*corners[1:], corners[0]], strict=True):
        if (y1 > y) != (y2 > y) and x < (x2 - x1) * (y - y1) / (y2 - y1) + x1:
            inside = not inside
    return inside


@dataclass(frozen=True)
class MotionState:
    """`sensitivity` 0 to 100; `cells` the picture's cells in which motion counts, 1 or 0 each, empty where no rule is."""

    sensitivity: int
    cells: str


class Motion(Step[MotionState]):
    """Cell motion: the module's sensitivity and the rule's cells."""

    of_a_lens = True
    name = "motion detection"
    place = "motion detection: sensitivity and area"

    def __init__(self, bench: Bench, sensitivity: int, areas: Sequence[Sequence[tuple[float, float]]]) -> None:
        super().__init__(bench.client)
        self._bench = bench
        self._sensitivity = sensitivity
        self._areas = areas
        self._configuration = ""
        self._module: Item | None = None
        self._rule: Item | None = None

    def aim(self) -> str:
        where = f"in {len(self._areas)} area(s) of the plan" if self._areas else "in the whole picture"
        return f"sensitivity {self._sensitivity} of 100, {where}"

    async def look(self) -> MotionState:
        if not self._configuration:
            self._configuration = (await self._bench.choice.main(self.client)).analytics
            if not self._configuration:
                raise NotOfferedError("its main profile has no analytics")
        modules = motion.parse_modules(await self.client.call("tan", motion.get_modules(self._configuration)))
        self._module = next((m for m in modules if m.kind == motion.ENGINE), None)
        if self._module is None or not self._module.grid[0]:
            raise NotOfferedError("it has no motion detection by cells")
        rules = motion.parse_rules(await self.client.call("tan", motion.get_rules(self._configuration)))
        self._rule = next((r for r in rules if r.kind == motion.DETECTOR), None)
        told = self._module.value("Sensitivity")
        sensitivity = int(told) if told.isdigit() and len(told) < 4 else -1
        return MotionState(sensitivity, "" if self._rule is None else self._cells(self._rule))

    def _cells(self, rule: Item) -> str:
        assert self._module is not None
        columns, rows = self._module.grid
        try:
            return "".join("1" if on else "0" for on in motion.unpack(rule.value("ActiveCells"), columns * rows))
        except ValueError:
            return "0" * (columns * rows)

    def wanted(self, now: MotionState) -> MotionState:
        assert self._module is not None
        cells = cells_within(self._areas, *self._module.grid)
        return MotionState(self._sensitivity, "".join("1" if on else "0" for on in cells))

    async def apply(self, now: MotionState, wanted: MotionState) -> None:
        assert self._module is not None
        if now.sensitivity != wanted.sensitivity:
            request = motion.modify_module(self._configuration, self._module, wanted.sensitivity)
            await self.client.call("tan", request)
        if now.cells == wanted.cells:
            return
        packed = motion.pack([cell == "1" for cell in wanted.cells])
        if self._rule is None:
            request = motion.create_rule(self._configuration, _RULE, packed)
        elif wanted.cells:
            request = motion.modify_rule(self._configuration, self._rule, packed)
        else:
            request = motion.delete_rule(self._configuration, self._rule.name)
        await self.client.call("tan", request)

    def shown(self, state: MotionState) -> str:
        if not state.cells:
            return f"sensitivity {state.sensitivity}, no rule"
        return f"sensitivity {state.sensitivity}, in {100 * state.cells.count('1') / len(state.cells):.0f} % of the picture"
