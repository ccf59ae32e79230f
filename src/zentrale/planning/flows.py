"""What flows where: every stream from its sender to its receivers, and the way it takes through the switches."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from itertools import pairwise

from zentrale.planning.once import once
from zentrale.planning.topology import Graph, paths_from
from zentrale.planning.walls.wall_plan import plan_walls
from zentrale.site.model import Camera, Leg, Plan, Recorder, StreamPlan, Viewer, Wall

Port = tuple[str, int]
Hop = tuple[int, str]  # a link by its index in the plan, and the switch it is left from


@dataclass(frozen=True)
class Flow:
    """One stream of one camera on its way. A unicast flow has one receiver; a multicast flow reaches all of them and
    crosses each link once. `viewed`: it is for viewers, not for a recorder; `relayed`: a recorder sends it on to them. `turn`
    names the panel of a wall whose cameras are shown by turns: of the flows with one name only one runs at a time.
    """

    camera: Camera
    stream: str
    plan: StreamPlan
    sender: Port
    sender_zone: str
    receivers: tuple[tuple[Port, str], ...]
    multicast: bool = False
    relayed: bool = False
    viewed: bool = False
    turn: str = ""


@dataclass(frozen=True)
class Watched:
    """What a viewer shows: a camera by one of its streams, from the recorder or from the camera; `turn` as in a flow."""

    camera: Camera
    stream: str
    plan: StreamPlan
    relayed: bool
    multicast: bool
    turn: str = ""


def at_once(some: Iterable[Flow]) -> list[Flow]:
    """Of flows that take turns the heaviest, and all others."""
    found: list[Flow] = []
    turns: dict[str, int] = {}
    for flow in some:
        place = turns.get(flow.turn) if flow.turn else None
        if place is None:
            if flow.turn:
                turns[flow.turn] = len(found)
            found.append(flow)
        elif flow.plan.most_bps > found[place].plan.most_bps:
            found[place] = flow
    return found


def recorded_streams(plan: Plan, camera: Camera) -> dict[str, StreamPlan]:
    """The streams a recorder takes in: main, and sub where it is recorded, or watched on the recorder or by way of it."""
    recorder = plan.recorder(camera.recorder)
    shown = recorder.own_panels and recorder.own_stream == "sub"
    relayed = camera.group in _relayed_subs(plan) or camera.name in _subs_on_walls(plan)
    sub = shown or plan.recording(camera).sub or relayed
    return {name: s for name, s in plan.streams(camera).items() if name == "main" or (sub and name == "sub")}


@once
def _relayed_subs(plan: Plan) -> frozenset[str]:
    """The groups whose sub stream viewers watch by way of the recorder."""
    viewers = [v for v in plan.viewers if v.source == "recorder" and v.stream == "sub" and not plan.walls_of(v)]
    return frozenset(g.name for g in plan.groups if any(not v.groups or g.name in v.groups for v in viewers))


@once
def _subs_on_walls(plan: Plan) -> frozenset[str]:
    """The cameras whose sub stream a wall shows by way of the recorder."""
    shown = (w for v in plan.viewers if plan.walls_of(v) for w in watched(plan, v))
    return frozenset(w.camera.name for w in shown if w.relayed and w.stream == "sub")


def recorded_bps(plan: Plan, camera: Camera) -> float:
    """Bits per second that the recorder takes in from `camera`, without overhead."""
    return float(sum(stream.most_bps for stream in recorded_streams(plan, camera).values()))


def shown_pixels_per_s(plan: Plan, recorder: Recorder) -> float:
    """Pixels per second that the recorder decodes for its own screen: of the cameras with most, as many as it shows."""
    rates = []
    for camera in plan.cameras if recorder.own_panels else ():
        if camera.recorder == recorder.name:
            streams = plan.streams(camera)
            stream = streams.get(recorder.own_stream, streams["main"])
            rates.append(stream.resolution[0] * stream.resolution[1] * stream.fps)
    return float(sum(sorted(rates, reverse=True)[: recorder.own_panels]))


def sent_by_recorders(plan: Plan) -> dict[str, float]:
    """Bits per second that each recorder sends to viewers, without overhead; a multicast stream counts once."""
    sent = {recorder.name: 0.0 for recorder in plan.recorders}
    for name in sent:
        for flow in at_once(f for f in viewer_flows(plan) if f.relayed and f.camera.recorder == name):
            sent[flow.camera.recorder] += flow.plan.most_bps
    return sent


def sent_by_cameras(plan: Plan) -> dict[str, float]:
    """Bits per second that each camera sends, without overhead: to its recorder, and to viewers that ask it."""
    sent = {camera.name: 0.0 for camera in plan.networked}
    for flow in flows(plan):
        if not flow.relayed:
            sent[flow.camera.name] += flow.plan.most_bps
    return sent


@once
def flows(plan: Plan) -> tuple[Flow, ...]:
    """All streams when everything runs: recording, and every viewer with as many pictures as it shows at once."""
    found: list[Flow] = []
    recorded: dict[tuple[str, str, str, bool], dict[str, StreamPlan]] = {}
    for camera in plan.networked:
        recorder = plan.recorder(camera.recorder)
        alike = camera.group, camera.recorder, camera.recording, camera.name in _subs_on_walls(plan)
        if alike not in recorded:
            recorded[alike] = recorded_streams(plan, camera)
        for name, stream in recorded[alike].items():
            receiver = ((recorder.switch, recorder.port), recorder.zone)
            found.append(Flow(camera, name, stream, (camera.switch, camera.port), camera.zone, (receiver,)))
    return (*found, *viewer_flows(plan))


@once
def viewer_flows(plan: Plan) -> tuple[Flow, ...]:
    """Those of the viewers alone."""
    found: list[Flow] = []
    shared: dict[tuple[str, str, Port], list[tuple[Viewer, Watched, str]]] = {}
    for viewer in plan.viewers:
        for shown in watched(plan, viewer):
            camera = shown.camera
            if shown.relayed:
                leg = leg_towards(plan.recorder(camera.recorder), viewer.zone)
                sender, zone = (leg.switch, leg.port), leg.zone
            else:
                sender, zone = (camera.switch, camera.port), camera.zone
            if shown.multicast:
                shared.setdefault((camera.name, shown.stream, sender), []).append((viewer, shown, zone))
                continue
            receivers: tuple[tuple[Port, str], ...] = (((viewer.switch, viewer.port), viewer.zone),)
            found.append(
                Flow(camera, shown.stream, shown.plan, sender, zone, receivers, relayed=shown.relayed, viewed=True,
                     turn=shown.turn)
            )  # fmt: skip
    for (_, name, sender), uses in shared.items():
        _, shown, zone = uses[0]
        receivers = tuple(dict.fromkeys(((viewer.switch, viewer.port), viewer.zone) for viewer, *_ in uses))
        turn = shown.turn if len(uses) == 1 else ""  # of several there is always one who may watch it
        found.append(
            Flow(shown.camera, name, shown.plan, sender, zone, receivers, multicast=True, relayed=shown.relayed, viewed=True,
                 turn=turn)
        )  # fmt: skip
    return tuple(found)


def watched(plan: Plan, viewer: Viewer) -> list[Watched]:
    """What a viewer shows: on its walls, where it feeds any; else the cameras that it shows at once, where it has fewer panels
    those of the highest rates, the worst case. Those at a recorder's own ports it sees only through that.
    """
    walls = plan.walls_of(viewer)
    if walls:
        return [shown for wall in walls for shown in _on_wall(plan, wall)]
    shown = [
        (camera, stream)
        for camera in (plan.cameras if viewer.source == "recorder" else plan.networked)
        if (not viewer.groups or camera.group in viewer.groups)
        and (stream := plan.streams(camera).get(viewer.stream)) is not None
    ]
    if viewer.panels is not None and len(shown) > viewer.panels:
        shown = sorted(shown, key=lambda pair: -pair[1].most_bps)[: viewer.panels]
    relayed = viewer.source == "recorder"
    return [Watched(camera, viewer.stream, stream, relayed, viewer.multicast) for camera, stream in shown]


def _on_wall(plan: Plan, wall: Wall) -> Iterator[Watched]:
    for view in plan_walls(plan).of(wall.name).panels:
        turn = f"{wall.name} {view.name}" if view.panel.is_round else ""
        for camera, name, stream in zip(view.panel.cameras, view.offer.names, view.offer.plans, strict=True):
            relayed = wall.source == "recorder"
            if relayed or not camera.behind:
                yield Watched(camera, name, stream, relayed, wall.source == "multicast", turn)


def leg_towards(recorder: Recorder, zone: str) -> Leg:
    """The leg by which a recorder serves viewers in `zone`: the one in that zone, else its viewing leg."""
    legs = recorder.legs()
    return next((leg for leg in legs if leg.zone == zone), legs[-1])


def same_network(plan: Plan, a: str, b: str) -> bool:
    """Whether two zones are one layer-2 network: the same VLAN, or VLANs of one private VLAN (RFC 5517)."""
    return plan.zone(a).family == plan.zone(b).family


def crossing_switch(plan: Plan, *, multicast: bool) -> str | None:
    """The switch that passes traffic from zone to zone: for multicast one that copies groups, else one that routes."""
    copying = [s.name for s in plan.switches if s.copies_multicast] if multicast else []
    routing = [s.name for s in plan.switches if s.routes]
    return next(iter([*copying, *routing]), None)


class Ways:
    """The ways of flows through the lit links of `graph`, by fewest links."""

    def __init__(self, plan: Plan, graph: Graph) -> None:
        self.plan = plan
        self.graph = graph
        self._from: dict[str, dict[str, list[str]]] = {}

    def reached(self, flow: Flow) -> list[tuple[Port, list[str]]]:
        """The ports of the receivers that the flow reaches, each with the switches on its way there."""
        ways = ((port, self.way(flow, port[0], zone)) for port, zone in flow.receivers)
        return [(port, way) for port, way in ways if way is not None]

    def hops(self, ways: Iterable[list[str]]) -> set[Hop]:
        """The trunks that these ways cross, each once, with the switch they leave."""
        return {(self.graph.edges[near, far]["link"], near) for way in ways for near, far in pairwise(way)}

    def way(self, flow: Flow, target: str, zone: str) -> list[str] | None:
        """The switches it passes towards that receiver."""
        start = flow.sender[0]
        middle = None
        if not same_network(self.plan, flow.sender_zone, zone):
            middle = crossing_switch(self.plan, multicast=flow.multicast)
        if middle is None:
            return self.between(start, target)
        first, second = self.between(start, middle), self.between(middle, target)
        return None if first is None or second is None else first + second[1:]

    def between(self, start: str, target: str) -> list[str] | None:
        if target not in self._from:
            self._from[target] = paths_from(self.graph, target) if target in self.graph else {}
        way = self._from[target].get(start)
        return None if way is None else way[::-1]


def names_of(cameras: Iterable[Camera]) -> tuple[str, ...]:
    """Each camera once, in the order of first mention."""
    return tuple(dict.fromkeys(camera.name for camera in cameras))
