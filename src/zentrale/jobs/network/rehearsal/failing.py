"""Parts taken away one after the other: what each costs by packets, against what the plan foretold; and how long a ring heals."""

from __future__ import annotations

import contextlib
import itertools
import socket
import time
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass

import networkx as nx

from zentrale.field.lab import probing
from zentrale.field.lab.probing import Pair, Wire
from zentrale.field.lab.stations import Leg
from zentrale.jobs.network.rehearsal.stage import Builder, Stage
from zentrale.output.network import names
from zentrale.planning.failures import Network, Part
from zentrale.planning.power import plan_power
from zentrale.planning.reach import RTSP
from zentrale.site.model import Camera

_LOST_AFTER_S = 9.0  # a camera that is not back by then is lost: a switch looks for a silent receiver again after 6 s
_LOOK_EVERY_S = 0.4
_PORT = 5006
_SEND_EVERY_S = 0.02


@dataclass(frozen=True)
class Failed:
    """One part: cameras whose recorder no longer reached them, foretold and by packets; `healed_s` how long the way of a camera
    that was not to be lost was gone, None where no such way went over the part.
    """

    part: str
    foretold: tuple[str, ...]
    lost: tuple[str, ...]
    healed_s: float | None = None

    @property
    def as_foretold(self) -> bool:
        return self.foretold == self.lost


class Failing:
    """`stage` stands and is whole; after each part it is whole again."""

    def __init__(self, stage: Stage, builder: Builder, wire: Wire, say: Callable[[str], None]) -> None:
        self._stage = stage
        self._builder = builder
        self._wire = wire
        self._say = say
        self._plan = stage.net.plan
        self._network = Network(self._plan, plan_power(self._plan))
        self._pairs = {camera.name: pair for camera in self._plan.networked_devices if (pair := self._pair(camera))}

    def _pair(self, camera: Camera) -> Pair | None:
        """The recorder's leg on the camera's network, and the camera's."""
        stage, family = self._stage, self._plan.zone(camera.zone).family
        recorder, own = stage.stations.get(camera.recorder), stage.stations.get(camera.name)
        if recorder is None or own is None:
            return None
        near = [x for x in recorder.legs if self._plan.zone(stage.places[x].party.zone).family == family]
        return (near[0] if near else recorder.legs[0]), own.legs[0]

    def all(self) -> list[Failed]:
        """Each switch, link and supply in turn. Raises LabError."""
        with probing.answering([pair[1] for pair in self._pairs.values()], self._stage.spaces, [RTSP[1]]):
            before = self._reached(set(self._pairs), _LOST_AFTER_S)
            results = []
            for part in self._network.parts:
                if part.kind in ("switch", "link", "supply"):
                    self._say(f"without {part}")
                    results.append(self._one(part, before))
        return results

    def _one(self, part: Part, before: set[str]) -> Failed:
        foretold = {self._plan.device_of(self._plan.camera(n)).name for n in self._network.fail((part,)).lost} & before
        watched = self._crossing(part, before - foretold)
        healed = None
        with self._without(part) as take:
            if watched is None:
                take()
            else:
                healed = _longest_gap(self._stage, self._pairs[watched], take)
            lost = before - self._reached(before - foretold, _LOST_AFTER_S) - self._reached(foretold, 1.2)
        back = self._reached(before, 3 * _LOST_AFTER_S)
        if back != before:
            self._say(f"after {part} was back, {', '.join(sorted(before - back))} stayed away")
        return Failed(str(part), tuple(sorted(foretold)), tuple(sorted(lost)), healed)

    def _reached(self, cameras: set[str], within_s: float) -> set[str]:
        """Those that their recorder reaches. All talk meanwhile, as cameras and recorders do all the time."""
        reached: set[str] = set()
        end = time.monotonic() + within_s
        while cameras - reached:
            for leg in {leg for pair in self._pairs.values() for leg in pair}:
                self._wire.send(leg, probing.hello(leg))
            self._wire.forget()
            left = {name: self._pairs[name] for name in cameras - reached}
            came = probing.tcp(list(left.values()), self._stage.spaces, RTSP[1], tries=1)
            reached |= {name for name, pair in left.items() if pair in came}
            if time.monotonic() > end:
                break
            if cameras - reached:
                time.sleep(_LOOK_EVERY_S)
        return reached

    def _crossing(self, part: Part, survivors: set[str]) -> str | None:
        """A camera that is not to be lost, though the part lies on its way."""
        if part.kind != "link":
            return None
        ends = {frozenset(k.switches()) for k in self._plan.links if f"{k.a} - {k.b}" == part.name}
        graph = self._network.graph
        for name in sorted(survivors):
            camera = self._plan.camera(name)
            other = self._plan.recorder(camera.recorder).switch
            if camera.switch in graph and other in graph and nx.has_path(graph, camera.switch, other):
                way = nx.shortest_path(graph, camera.switch, other)
                if any(frozenset(step) in ends for step in itertools.pairwise(way)):
                    return name
        return None

    @contextlib.contextmanager
    def _without(self, part: Part) -> Iterator[Callable[[], None]]:
        """Yields what takes the part away; it is back afterwards."""
        stage = self._stage
        if part.kind == "switch":
            yield stage.switches[part.name].stop
            self._builder.switch_on(part.name)
            return
        ports = list(self._ports(part))

        def set_all(state: str) -> None:
            for switch, port in ports:
                stage.space_of(switch).call("ip", "link", "set", names.port(port), state)

        yield lambda: set_all("down")
        set_all("up")

    def _ports(self, part: Part) -> Iterator[tuple[str, int]]:
        if part.kind == "link":
            for link in self._plan.links:
                if f"{link.a} - {link.b}" == part.name:
                    yield from link.ends()
        else:  # what goes dark with one of two supplies
            for name in self._network.dark[part.name]:
                camera = self._plan.camera(name)
                if camera.port:
                    yield camera.switch, camera.port


def _longest_gap(stage: Stage, pair: Pair, take: Callable[[], None]) -> float:
    """Both ends send all the time, as a stream and its reports do; how long nothing arrived at the recorder [s]."""
    recorder, camera = pair
    with _sending(stage, recorder) as at_recorder, _sending(stage, camera) as at_camera:
        times: list[float] = []

        def for_a_while(seconds: float) -> None:
            end = time.monotonic() + seconds
            while time.monotonic() < end:
                for sock, to in ((at_camera, recorder), (at_recorder, camera)):
                    with contextlib.suppress(OSError):
                        sock.sendto(b"stream", (to.address, _PORT))
                time.sleep(_SEND_EVERY_S)
                times.extend(_arrived(at_recorder))
                _arrived(at_camera)

        for_a_while(0.5)
        take()
        begun = time.monotonic()
        while time.monotonic() < begun + _LOST_AFTER_S:
            for_a_while(0.5)
            if times and time.monotonic() - begun > 2 and times[-1] > time.monotonic() - 0.2:
                break
        moments = [*times, *([time.monotonic()] if not times or times[-1] < time.monotonic() - 0.5 else [])]
        return max((b - a for a, b in itertools.pairwise(moments)), default=_LOST_AFTER_S)


def _arrived(sock: socket.socket) -> Sequence[float]:
    found = []
    with contextlib.suppress(BlockingIOError):
        while sock.recv(64):
            found.append(time.monotonic())
    return found


@contextlib.contextmanager
def _sending(stage: Stage, leg: Leg) -> Iterator[socket.socket]:
    with stage.spaces[leg.station].inside():
        sock = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
        sock.setblocking(False)
        sock.bind((leg.address, _PORT))
    with sock:
        yield sock
