"""The walls of a plan: which stream each panel shows and what it looks like, what the machine has to bear, what breaks and what
mends it.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass

from zentrale import quantities
from zentrale.findings import Finding, finding
from zentrale.planning.once import once
from zentrale.planning.walls.choosing import choose
from zentrale.planning.walls.decoder import Decoder, Load
from zentrale.planning.walls.mending import in_words, smaller
from zentrale.planning.walls.moments import moments_of
from zentrale.planning.walls.panels import Offer, Panel, panels_of, scale
from zentrale.planning.walls.states import Cases, Chosen, States
from zentrale.site.model import Plan, StreamPlan, Viewer, Wall

ENLARGED, WASTED = 1.02, 0.5  # beyond: more than two in a hundred are made up; more than half in a line is thrown away
_SEEN = 0.5  # share of a round's seconds that may pass until its picture is whole


@dataclass(frozen=True)
class PanelView:
    """One panel as it is chosen. `scale` is what one of the stream's pixels becomes on the wall, in a line, the worst of its
    cameras; `looks`: kept, enlarged or wasted; `wait_s`: at most, until the next camera's picture is whole.
    """

    panel: Panel
    offer: Offer
    engine: str
    scale: float
    looks: str
    wait_s: float

    @property
    def name(self) -> str:
        return self.panel.name


@dataclass(frozen=True)
class WallPlan:
    """`panels` in reading order; `judged`: somebody said what its machine bears; `borne`: it bears the worst moment; `mends`:
    what to do by case, empty where it needs nothing; `all_moments`: the rounds were followed to where they begin anew.
    """

    wall: Wall
    panels: tuple[PanelView, ...]
    states: States
    judged: bool
    borne: bool
    mends: dict[str, str]
    all_moments: bool

    @property
    def first_break(self) -> tuple[str, Load] | None:
        """The case that breaks first, as more is asked for: of those that break, that of every day before that of a moment."""
        cases = (("worst", self.states.worst), ("enlarged", self.states.enlarged), ("changing", self.states.changing))
        return next(((name, load) for name, load in cases if load.breaks), None)


@dataclass(frozen=True)
class WallsPlan:
    walls: tuple[WallPlan, ...]
    findings: tuple[Finding, ...]

    def of(self, name: str) -> WallPlan:
        return next(w for w in self.walls if w.wall.name == name)


@once
def plan_walls(plan: Plan) -> WallsPlan:
    """Those in the order of the plan. Each machine bears all walls that it feeds: they are judged together."""
    made: dict[str, WallPlan] = {}
    findings: list[Finding] = []
    for viewer in plan.viewers:
        walls = plan.walls_of(viewer)
        if not walls:
            continue
        for wall in walls:
            made[wall.name] = _wall_plan(plan, viewer, wall)
            findings += _findings(plan, viewer, made[wall.name])
        if len(walls) > 1:
            findings += _together(plan, viewer, [made[w.name] for w in walls])
    return WallsPlan(tuple(made[w.name] for w in plan.walls), tuple(findings))


def _wall_plan(plan: Plan, viewer: Viewer, wall: Wall) -> WallPlan:
    kind = plan.viewer_type(viewer.name)
    panels, decoder = panels_of(plan, wall), Decoder(kind)
    moments = moments_of(panels)
    cases = Cases(plan, panels, moments, decoder)
    chosen, borne = choose(cases)
    states = cases.all(chosen)
    views = sorted((_view(wall, c) for c in chosen), key=lambda v: (v.panel.plan.row, v.panel.plan.column))
    return WallPlan(wall, tuple(views), states, kind is not None, borne, _mends(cases, chosen, states), moments.whole)


def _view(wall: Wall, chosen: Chosen) -> PanelView:
    size = chosen.panel.pixels
    scales = [scale(p.resolution, size) for p in chosen.offer.plans]
    worst = max(scales)
    looks = "enlarged" if worst > ENLARGED else "wasted" if worst < WASTED else "kept"
    wait = max(_wait_s(p) for p in chosen.offer.plans) if chosen.panel.is_round else 0.0
    return PanelView(chosen.panel, chosen.offer, chosen.engine, worst, looks, wait)


def _wait_s(stream: StreamPlan) -> float:
    """Until a key picture comes, at most: a decoder can begin at none other."""
    return 1 / stream.fps if stream.codec == "JPEG" else stream.longest_keyframe_interval_s


def _mends(cases: Cases, chosen: Sequence[Chosen], states: States) -> dict[str, str]:
    """What to do for each case that breaks."""
    found = {}
    if states.enlarged.breaks:
        number, at = cases.enlarged_at(chosen)
        names = smaller(cases, chosen, lambda c: cases.enlarged(c)[0], lambda c: cases.one_enlarged(c, number, at))
        nothing = (
            f"enlarge {states.enlarged_panel} by its sub stream, or take a machine that bears {_asked(states.enlarged)}"
        )
        found["enlarged"] = in_words(chosen, names) if names else nothing
    if states.changing.breaks:
        names = smaller(cases, chosen, cases.changing, cases.changing)
        nothing = f"fewer rounds, or a machine that bears {_asked(states.changing)}"
        found["changing"] = in_words(chosen, names) if names else nothing
    if states.worst.breaks:
        bare = [c.panel.name for c in chosen if len(c.panel.offers) == 1]
        sub = f"give the cameras of {quantities.listed(bare, 6)} a sub stream; or " if bare else ""
        found["worst"] = f"{sub}fewer panels, or a machine that bears {_asked(states.worst)}"
    return found


def _asked(load: Load) -> str:
    return ", ".join(b.value for b in load.breaks)


_CODES = (("worst", "WAL-1"), ("enlarged", "WAL-2"), ("changing", "WAL-3"))


def _findings(plan: Plan, viewer: Viewer, made: WallPlan) -> Iterator[Finding]:
    subject, source = f"wall {made.wall.name}", f"types.toml viewer type {viewer.type}"
    if not made.judged:
        what = f"{viewer.name} has no type"
        yield finding("WAL-7", subject, what, "what its machine bears", f"site.toml [[viewers]] {viewer.name}")
    for case, code in _CODES:
        load: Load = getattr(made.states, case)
        if load.breaks and not (case != "worst" and made.states.worst.breaks):
            measured = f"{load.when}: {', '.join(b.value for b in load.breaks)}"
            yield finding(code, subject, measured, ", ".join(b.most for b in load.breaks), source, made.mends[case])
    for view in made.panels:
        yield from _panel_findings(plan, made, view)


def _panel_findings(plan: Plan, made: WallPlan, view: PanelView) -> Iterator[Finding]:
    subject = f"wall {made.wall.name}, panel {view.name}"
    width, height = view.panel.pixels
    sizes = sorted({quantities.resolution(*p.resolution) for p in view.offer.plans})
    shown, room = f"{' and '.join(sizes)}, the {view.offer.stream} stream", f"{width}x{height} px"
    best = view.panel.offers[view.panel.best]
    if best != view.offer and best.sharpness > view.offer.sharpness:
        yield finding("WAL-4", subject, f"{shown}: {view.scale:.1f} times as large", f"{room}, by the {best.stream} stream",
                      "what the machine bears; priority of the panels")  # fmt: skip
    elif view.looks == "wasted" and len(view.panel.offers) == 1:
        groups = ", ".join(dict.fromkeys(c.group for c in view.panel.cameras))
        yield finding("WAL-6", subject, shown, f"{room}: a smaller stream", f"site.toml group {groups}",
                      f"give {groups} a sub stream of about {width}x{height} px")  # fmt: skip
    seconds = view.panel.plan.seconds or 0.0
    if view.panel.is_round and view.wait_s > _SEEN * seconds:
        slow = max(range(len(view.offer.plans)), key=lambda i: _wait_s(view.offer.plans[i]))
        camera = view.panel.cameras[slow]
        advice = (
            f"a round of {2 * view.wait_s:g} s or more; or a key picture each {_SEEN * seconds:g} s or less from "
            f"{camera.name} (group {camera.group}, {view.offer.names[slow]} stream)"
        )
        measured = f"{camera.name}: up to {view.wait_s:g} s until its picture is whole"
        yield finding("WAL-5", subject, measured, f"half of its {seconds:g} s", "key picture interval", advice)


def _together(plan: Plan, viewer: Viewer, walls: Sequence[WallPlan]) -> Iterator[Finding]:
    """A machine that feeds several walls bears the worst of all at once."""
    decoder = Decoder(plan.viewer_type(viewer.name))
    plans = [p for made in walls for view in made.panels for p in [max(view.offer.plans, key=lambda p: p.most_bps)]]
    load = decoder.load(decoder.placed(plans), "all its walls at their heaviest")
    if load.breaks and not any(made.states.worst.breaks for made in walls):
        names = ", ".join(made.wall.name for made in walls)
        yield finding("WAL-1", f"viewer {viewer.name}", f"walls {names}: {_asked(load)}",
                      ", ".join(b.most for b in load.breaks), f"types.toml viewer type {viewer.type}",
                      f"a machine for each, or one that bears {_asked(load)}")  # fmt: skip
