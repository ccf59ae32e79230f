"""A wall played as it will be: exactly its streams, all at once from here, its rounds at their pace."""

from __future__ import annotations

import asyncio
import math
import os
import socket
import time
from collections.abc import Callable, Collection, Iterator, Mapping, Sequence
from contextlib import ExitStack
from dataclasses import dataclass, field, replace
from typing import TYPE_CHECKING

from zentrale.errors import DeviceError, NothingReachedError
from zentrale.field import rtsp_player, scheduler
from zentrale.field.scheduler import Failure
from zentrale.findings import Finding, finding
from zentrale.jobs.checks.check import Request, Round
from zentrale.jobs.checks.check_registry import CHECKS
from zentrale.jobs.checks.seen import Target
from zentrale.jobs.discovery.discovering import last_devices
from zentrale.jobs.known.layer import Layer
from zentrale.jobs.passwords.keyring import Keyring
from zentrale.jobs.streams.judging import lateness_finding
from zentrale.jobs.walls.known import WALL
from zentrale.logbook.evidence import Judged
from zentrale.planning.walls.panels import scale, shown_cameras
from zentrale.planning.walls.wall_plan import ENLARGED, PanelView, WallPlan
from zentrale.protocols.rtsp_client import Transport
from zentrale.protocols.streams.meter import StreamMeasurement
from zentrale.quantities import listed
from zentrale.site.model import Camera, Plan, StreamPlan
from zentrale.subjects import Kind, Ref

if TYPE_CHECKING:
    from zentrale.field.live_decoding import LiveDecoder

LEAST_S, MOST_S = 10.0, 120.0
_ANSWERS_S = 2.0  # what a camera may take to answer, beside the wait for its key picture
_LATE_S = 0.5  # of this machine: a delay within it says nothing of the camera
_SPARE_S = 60.0


@dataclass(frozen=True)
class Turn:
    """One camera in a panel: when it was opened [s from the beginning], and what came. `told`: why nothing did is a finding
    of the camera's own.
    """

    camera: str
    stream: str
    at_s: float
    url: str = ""
    measured: StreamMeasurement | None = None
    error: str = ""
    told: bool = False

    @property
    def first_picture_s(self) -> float | None:
        """From opening it to its first whole picture."""
        return self.measured.first_picture_s if self.measured else None


@dataclass(frozen=True)
class PanelTrial:
    view: PanelView
    turns: tuple[Turn, ...]

    @property
    def name(self) -> str:
        return self.view.name

    @property
    def enlarged(self) -> float | None:
        """What one of the pixels that came became, in a line, at worst; None where none came."""
        sizes = [(t.measured.width_px, t.measured.height_px) for t in self.turns if t.measured]
        return max((scale((w, h), self.view.panel.pixels) for w, h in sizes if w and h), default=None)


@dataclass(frozen=True)
class Bears:
    """What this machine decodes by its processor, of one codec: so much a second of all its `processors`, and what was asked."""

    codec: str
    pixels_per_s: float
    frames_per_s: float
    frames: int
    waiting: int
    processors: int


@dataclass(frozen=True)
class WallTrial:
    made: WallPlan
    vantage: str
    seconds: float
    panels: tuple[PanelTrial, ...]
    bears: tuple[Bears, ...]
    findings: tuple[Finding, ...]
    not_judged: tuple[str, ...] = ()
    reports: tuple[str, ...] = ()
    unreached: NothingReachedError | None = None


@dataclass
class _Playing:
    """One trial on its way."""

    targets: Mapping[str, Target]
    why_not: Mapping[str, str]
    unresolved: Collection[str]
    request: Request
    multicast: bool
    until_s: float
    begun_s: float
    sinks: Callable[[], LiveDecoder | None]
    used: list[LiveDecoder] = field(default_factory=list)

    async def panel(self, view: PanelView) -> PanelTrial:
        """Each turn is opened at its time, whatever the one before does."""
        cameras, seconds = view.panel.cameras, view.panel.plan.seconds or 0.0
        if not view.panel.is_round:
            return PanelTrial(view, (await self.turn(cameras[0], view.offer.names[0], 0.0, self.until_s),))
        tasks = []
        async with asyncio.TaskGroup() as group:
            for number in range(max(1, math.ceil(self.until_s / seconds - 1e-9))):
                at_s = number * seconds
                await asyncio.sleep(max(0.0, self.begun_s + at_s - time.monotonic()))
                one = number % len(cameras)
                length_s = min(seconds, self.until_s - at_s)
                tasks.append(group.create_task(self.turn(cameras[one], view.offer.names[one], at_s, length_s)))
        return PanelTrial(view, tuple(task.result() for task in tasks))

    async def turn(self, camera: Camera, stream: str, at_s: float, length_s: float) -> Turn:
        target = self.targets.get(camera.name)
        address = target.streams.get(stream) if target else None
        if target is None or address is None:
            why = self.why_not.get(camera.name) or f"the camera offers no {stream} stream"
            return Turn(camera.name, stream, at_s, error=why, told=camera.name in self.unresolved)
        sink = self.sinks()
        visit = replace(
            target.visit, transport=self.request.transport, multicast=self.multicast, answer_s=self.request.answer_s, heard=sink,
        )  # fmt: skip
        if sink is not None:
            self.used.append(sink)
        try:
            measured = await rtsp_player.measure(address, visit, length_s)
        except DeviceError as error:
            return Turn(camera.name, stream, at_s, address.url, error=error.what)
        return Turn(camera.name, stream, at_s, address.url, measured.without_pictures())


def seconds_of(made: WallPlan) -> float:
    """Until each round was through once, within bounds."""
    rounds = [len(v.panel.cameras) * (v.panel.plan.seconds or 0) for v in made.panels if v.panel.is_round]
    return min(MOST_S, max([LEAST_S, *rounds]))


async def try_wall(
    plan: Plan,
    made: WallPlan,
    keyring: Keyring,
    request: Request,
    *,
    decode: bool,
    progress: Callable[[int, str], None],
) -> WallTrial:
    """Plays it for `request.duration_s`."""
    vantage = socket.gethostname()
    cameras = [c for c in shown_cameras(plan, made.wall) if not c.behind]
    scope = {"wall": made.wall.name, "seconds": request.duration_s}
    with keyring.logbook.running("verify", vantage, scope) as run, ExitStack() as stack:
        round = Round(plan, cameras, keyring, request, last_devices(plan, keyring.logbook), run)
        entering = next(check for check in CHECKS if check.layer is Layer.ACCESS)  # who gets into each camera
        progress(0, entering.doing)
        await entering.observe(round)
        for judged in entering.judge(round):
            round.say(judged)
        progress(1, f"playing wall {made.wall.name}")
        why_not = {u.camera.name: u.reason for u in round.unresolved}
        behind = {c.name: f"only {c.behind} reaches it" for c in shown_cameras(plan, made.wall) if c.behind}
        sinks: Callable[[], LiveDecoder | None] = lambda: None  # noqa: E731
        processors = len(os.sched_getaffinity(0)) if hasattr(os, "sched_getaffinity") else os.cpu_count() or 1
        if decode:
            from zentrale.field.live_decoding import LiveDecoder, Workers  # with the codec library

            workers = stack.enter_context(Workers(processors))
            sinks = lambda: LiveDecoder(workers.pool)  # noqa: E731
        playing = _Playing(
            {t.camera.name: t for t in round.targets}, {**why_not, **behind}, why_not, request, made.wall.source == "multicast",
            request.duration_s, time.monotonic(), sinks,
        )  # fmt: skip
        budget_s = request.duration_s + 6 * request.answer_s + _SPARE_S
        results = await scheduler.run(made.panels, playing.panel, at_once=len(made.panels), budget_s=budget_s)
        panels = tuple(_of(view, r) for view, r in zip(made.panels, results, strict=True))
        reports = (*round.reports, *(r.report for r in results if isinstance(r, Failure) and r.report))
        bears = await asyncio.to_thread(_bears, playing.used, processors)
        ref = Ref(Kind.MACHINE, vantage, f"wall {made.wall.name}")
        judged = Judged(
            ref, frozenset({"WAL-8", "WAL-9", "WAL-10", "STR-17"}), tuple(_judge(plan, made, panels, bears))
        )
        round.say(judged)
        round.observe(
            WALL, ref, "RTSP", {"panels": [panel_document(p) for p in panels], "bears": [vars(b) for b in bears]}
        )
        await round.write()
    turns = [t for p in panels for t in p.turns]
    unreached = None
    if turns and not any(t.measured for t in turns):
        unreached = NothingReachedError(
            f"none of {len(turns)} streams played; the first said: {turns[0].error}",
            "run `zentrale discover` again, then `zentrale register`",
        )
    return WallTrial(
        made, vantage, request.duration_s, panels, bears, tuple(round.findings), tuple(_not_judged(plan, made, panels)),
        reports, unreached,
    )  # fmt: skip


def _of(view: PanelView, result: PanelTrial | Failure[PanelView]) -> PanelTrial:
    if isinstance(result, Failure):
        return PanelTrial(view, (Turn(view.panel.cameras[0].name, view.offer.names[0], 0.0, error=result.message),))
    return result


def _not_judged(plan: Plan, made: WallPlan, panels: Sequence[PanelTrial]) -> Iterator[str]:
    """What this trial says nothing of, in words."""
    if made.wall.source == "recorder":
        yield "the way over the recorder, which was not asked: the same streams were played from the cameras"
    late = [p.name for p in panels if any(t.measured and t.measured.own_lateness_s > _LATE_S for t in p.turns)]
    if late:
        yield f"how soon a picture is there in {listed(late)}: this machine came late itself"
    short = [p.name for p in panels if any(_too_short(plan, p.view, t) for t in p.turns)]
    if short:
        yield f"whether a picture comes in time in {listed(short)}: it was played for less than that may take"


def _bears(sinks: Sequence[LiveDecoder], processors: int) -> tuple[Bears, ...]:
    """Waits for what is being decoded."""
    found: dict[str, list[float]] = {}
    for sink in sinks:
        one = sink.end()
        total = found.setdefault(one.codec, [0.0, 0.0, 0.0, 0.0])
        for place, value in enumerate((one.pixels, one.frames, one.cpu_s, one.waiting)):
            total[place] += value
    return tuple(
        Bears(codec, processors * pixels / cpu_s, processors * frames / cpu_s, int(frames), int(waiting), processors)
        for codec, (pixels, frames, cpu_s, waiting) in sorted(found.items())
        if cpu_s > 0
    )


def _judge(plan: Plan, made: WallPlan, panels: Sequence[PanelTrial], bears: Sequence[Bears]) -> list[Finding]:
    measured = [t.measured for p in panels for t in p.turns if t.measured]
    late = lateness_finding(measured)
    found = [late] if late else []
    for panel in panels:
        found += _late_pictures(plan, made, panel)
        found += _losses(plan, made, panel)
    behind = [b for b in bears if b.waiting]
    if behind:
        text = ", ".join(f"{b.waiting} of {b.frames + b.waiting} {b.codec} pictures waited" for b in behind)
        able = ", ".join(f"{b.pixels_per_s / 1e6:.0f} Mpixel/s of {b.codec}" for b in behind)
        found.append(
            finding("WAL-10", f"wall {made.wall.name}", text, f"decoded as they come; it bears {able}", "this machine")
        )
    return found


def _late_pictures(plan: Plan, made: WallPlan, panel: PanelTrial) -> list[Finding]:
    """The worst turn of a panel speaks for it."""
    worst: tuple[float, str, str, str] | None = None
    for turn in panel.turns:
        stream = plan.streams(plan.camera(turn.camera))[turn.stream]
        limit_s = _limit_s(panel.view, stream)
        if turn.told:
            continue
        if turn.measured is None:
            rank, text = math.inf, turn.error
        elif turn.measured.own_lateness_s > _LATE_S:
            continue  # this machine was late: that is said by itself
        elif turn.first_picture_s is None:
            rank, text = 1e6, f"no whole picture in {turn.measured.measured_s:.1f} s"
        else:
            rank, text = turn.first_picture_s, f"its first whole picture after {turn.first_picture_s:.1f} s"
        if rank > limit_s and not _too_short(plan, panel.view, turn) and (worst is None or rank > worst[0]):
            worst = rank, f"{turn.camera}, {turn.stream} stream: {text}", f"within {limit_s:g} s", turn.camera
    if worst is None:
        return []
    return [finding("WAL-8", f"wall {made.wall.name}, panel {panel.name}", worst[1], worst[2], "key picture interval",
                    f"`zentrale diagnose {worst[3]}` finds where it breaks")]  # fmt: skip


def _too_short(plan: Plan, view: PanelView, turn: Turn) -> bool:
    """Whether it ended before its first picture had to be there."""
    if turn.measured is None or turn.first_picture_s is not None:
        return False
    stream = plan.streams(plan.camera(turn.camera))[turn.stream]
    return turn.measured.measured_s < _limit_s(view, stream) - 1


def _limit_s(view: PanelView, stream: StreamPlan) -> float:
    wait_s = _ANSWERS_S + 2 * stream.longest_keyframe_interval_s
    return min(wait_s, view.panel.plan.seconds or wait_s) if view.panel.is_round else wait_s


def _losses(plan: Plan, made: WallPlan, panel: PanelTrial) -> list[Finding]:
    """Over TCP nothing is lost on the way: what is missing there, the camera left out."""
    found, subject = [], f"wall {made.wall.name}, panel {panel.name}"
    limit = f"{plan.policy.loss_percent:g} % at most" if plan.policy.loss_percent else "none"
    for tcp in (False, True):
        measured = [
            t.measured for t in panel.turns if t.measured and (t.measured.transport == Transport.TCP.value) == tcp
        ]
        lost, expected = sum(m.packets_lost for m in measured), sum(m.packets_expected for m in measured)
        here = sum(m.packets_dropped_here for m in measured)
        if lost - here <= expected * plan.policy.loss_percent / 100:
            continue
        text = f"{lost} of {expected} packets {'left out by the camera' if tcp else 'lost'}"
        text += f", {here} of them by this machine" if here else ""
        advice = (
            "lower its bit rate, or the number of those who watch it; over TCP no cable loses packets" if tcp else ""
        )
        found.append(finding("WAL-9", subject, text, limit, "site.toml [policy] loss_percent", advice))
    return found


def panel_document(panel: PanelTrial) -> dict[str, object]:
    """With stable keys and units in them."""
    enlarged = panel.enlarged
    return {
        "panel": panel.name, "stream": panel.view.offer.stream, "pixels": list(panel.view.panel.pixels),
        "scale": None if enlarged is None else round(enlarged, 3), "enlarged": enlarged is not None and enlarged > ENLARGED,
        "turns": [
            {
                "camera": t.camera, "stream": t.stream, "at_s": round(t.at_s, 3), "url": t.url or None, "error": t.error or None,
                "transport": t.measured.transport if t.measured else None,
                "first_picture_s": None if t.first_picture_s is None else round(t.first_picture_s, 3),
                "width_px": t.measured.width_px if t.measured else None,
                "height_px": t.measured.height_px if t.measured else None,
                "frames": t.measured.frames if t.measured else 0,
                "packets_received": t.measured.packets_received if t.measured else 0,
                "packets_lost": t.measured.packets_lost if t.measured else 0,
            }
            for t in panel.turns
        ],
    }  # fmt: skip
