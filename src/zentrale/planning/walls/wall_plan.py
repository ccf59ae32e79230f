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
    """One panel as it is chosen. `wished`: what its size asks for; `scale`: what one of the stream's pixels becomes on the wall,
    in a line, the worst of its cameras; `looks`: kept, enlarged or wasted; `wait_s`: at most, until the next camera's picture is
    whole.
    """

    panel: Panel
    offer: Offer
    engine: str
    wished: Offer
    scale: float
    looks: str
    wait_s: float

    @property
    def name(self) -> str:
        return self.panel.name


@dataclass(frozen=True)
class WallPlan:
    """`panels` in reading order; `states`: what this wall asks; `machine`: what all walls of its machine ask, which is judged;
    `judged`: somebody said what that bears; `borne`: it bears the worst moment; `mends`: what to do by case, empty where it needs
    nothing; `all_moments`: the rounds were followed to where they begin anew.
    """

    wall: Wall
    panels: tuple[PanelView, ...]
    states: States
    machine: States
    judged: bool
    borne: bool
    mends: dict[str, str]
    all_moments: bool

    @property
    def first_break(self) -> tuple[str, Load] | None:
        """The case that breaks first, as more is asked for: of those that break, that of every day before that of a moment."""
        loads = {name: getattr(self.machine, name) for name in ("worst", "enlarged", "changing")}
        return next(((name, load) for name, load in loads.items() if load.breaks), None)


@dataclass(frozen=True)
class WallsPlan:
    walls: tuple[WallPlan, ...]
    findings: tuple[Finding, ...]

    def of(self, name: str) -> WallPlan:
        return next(w for w in self.walls if w.wall.name == name)


@once
def plan_walls(plan: Plan) -> WallsPlan:
    """Those in the order of the plan. A machine bears all walls that it feeds: their streams are chosen together."""
    made: dict[str, WallPlan] = {}
    findings: list[Finding] = []
    for viewer in plan.viewers:
        walls = plan.walls_of(viewer)
        if walls:
            fed = _fed(plan, viewer, walls)
            made |= {one.wall.name: one for one in fed}
            findings += _findings(viewer, fed)
            findings += [f for one in fed for view in one.panels for f in _panel_findings(one, view)]
    return WallsPlan(tuple(made[w.name] for w in plan.walls), tuple(findings))


def _fed(plan: Plan, viewer: Viewer, walls: Sequence[Wall]) -> list[WallPlan]:
    kind = plan.viewer_type(viewer.name)
    decoder = Decoder(kind)
    panels = sorted((p for wall in walls for p in panels_of(plan, wall)), key=lambda p: p.order)
    moments = moments_of(panels)
    cases = Cases(plan, panels, moments, decoder)
    chosen, borne = choose(cases)
    machine = cases.all(chosen)
    mends = _mends(cases, chosen, machine, several=len(walls) > 1)
    found = []
    for wall in walls:
        own = [c for c in chosen if c.panel.wall == wall.name]
        states = machine
        if len(walls) > 1:
            shown = [c.panel for c in own]
            states = Cases(plan, shown, moments_of(shown), decoder).all(own)
        views = sorted((_view(cases, c) for c in own), key=lambda v: (v.panel.plan.row, v.panel.plan.column))
        found.append(WallPlan(wall, tuple(views), states, machine, kind is not None, borne, mends, moments.whole))
    return found


def _view(cases: Cases, chosen: Chosen) -> PanelView:
    size = chosen.panel.pixels
    scales = [scale(p.resolution, size) for p in chosen.offer.plans]
    worst = max(scales)
    looks = "enlarged" if worst > ENLARGED else "wasted" if worst < WASTED else "kept"
    wait = max(_wait_s(p) for p in chosen.offer.plans) if chosen.panel.is_round else 0.0
    wished = chosen.panel.offers[cases.wished(chosen.panel)]
    return PanelView(chosen.panel, chosen.offer, chosen.engine, wished, worst, looks, wait)


def _wait_s(stream: StreamPlan) -> float:
    """Until a key picture comes, at most: a decoder can begin at none other."""
    return 1 / stream.fps if stream.codec == "JPEG" else stream.longest_keyframe_interval_s


def _mends(cases: Cases, chosen: Sequence[Chosen], states: States, *, several: bool) -> dict[str, str]:
    """What to do for each case that breaks."""
    found = {}
    if states.enlarged.breaks:
        number, at = cases.enlarged_at(chosen)
        panels = smaller(cases, chosen, cases.enlarged, lambda c: cases.one_enlarged(c, number, at))
        nothing = "take its sub stream, or a larger machine"
        found["enlarged"] = in_words(panels, several=several) if panels else nothing
    if states.changing.breaks:
        panels = smaller(cases, chosen, cases.changing, cases.changing)
        nothing = f"fewer rounds, or a machine that bears {_asked(states.changing)}"
        found["changing"] = in_words(panels, several=several) if panels else nothing
    if states.worst.breaks:
        bare = [c.panel.name for c in chosen if len(c.panel.offers) == 1]
        sub = f"give the cameras of {quantities.listed(bare, 6)} a sub stream; or " if bare else ""
        found["worst"] = f"{sub}fewer panels, or a machine that bears {_asked(states.worst)}"
    return found


def _asked(load: Load) -> str:
    return ", ".join(b.value for b in load.breaks)


_CODES = (("worst", "WAL-1"), ("enlarged", "WAL-2"), ("changing", "WAL-3"))


def _findings(viewer: Viewer, fed: Sequence[WallPlan]) -> Iterator[Finding]:
    """Of one machine, and of all walls that it feeds."""
    first = fed[0]
    named = ", ".join(one.wall.name for one in fed)
    subject, source = f"wall {named}" if len(fed) == 1 else f"walls {named}", f"types.toml viewer type {viewer.type}"
    if not first.judged:
        what = f"{viewer.name} has no type"
        yield finding("WAL-7", subject, what, "what its machine bears", f"site.toml [[viewers]] {viewer.name}")
    for case, code in _CODES:
        load: Load = getattr(first.machine, case)
        if load.breaks and not (case != "worst" and first.machine.worst.breaks):
            measured = f"{load.when}: {', '.join(b.value for b in load.breaks)}"
            yield finding(code, subject, measured, ", ".join(b.most for b in load.breaks), source, first.mends[case])


def _panel_findings(made: WallPlan, view: PanelView) -> Iterator[Finding]:
    subject = f"wall {made.wall.name}, panel {view.name}"
    width, height = view.panel.pixels
    sizes = sorted({quantities.resolution(*p.resolution) for p in view.offer.plans})
    shown, room = f"{' and '.join(sizes)}, the {view.offer.stream} stream", f"{width}x{height} px"
    if view.wished.sharpness > view.offer.sharpness:
        measured, limit = f"{shown}: {view.scale:.1f} times as large", f"{room}, by the {view.wished.stream} stream"
        yield finding("WAL-4", subject, measured, limit, "what the machine bears; priority of the panels")
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
