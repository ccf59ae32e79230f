"""Streams of the planned rates over links as fast as planned, both divided by one number: what each link carries, what is lost.

What recorders and viewers ask cameras for is played by RTSP. What recorders pass on, and multicast, are datagrams of the same
rate from where the plan has them sent.
"""

from __future__ import annotations

import asyncio
import contextlib
import json
import math
import os
import signal
import socket
import time
from collections.abc import Callable, Iterator, Sequence
from contextlib import ExitStack
from dataclasses import asdict, dataclass
from typing import Any

from zentrale import quantities
from zentrale.errors import DeviceError
from zentrale.field import rtsp_player, scheduler
from zentrale.field.lab.stations import Leg
from zentrale.field.scheduler import Failure
from zentrale.field.visit import Visit
from zentrale.findings import Finding, finding
from zentrale.jobs.network.rehearsal import services
from zentrale.jobs.network.rehearsal.stage import Stage
from zentrale.jobs.network.rehearsal.verdicts import SOURCE
from zentrale.output.network import names
from zentrale.planning.flows import Flow, at_once, flows
from zentrale.planning.traffic import LinkLoad, loads_of
from zentrale.protocols.rtsp_client import Transport
from zentrale.protocols.stream_address import StreamAddress
from zentrale.site.model import Plan

_MOST_BPS = 16e6  # all streams together: what switches in user space carry with time to spare
_RUNNING_S, _MEASURED_S = 4.0, 8.0
_TOLERANCE = 0.15  # an encoder keeps to its rate over seconds, not to the bit
_FULL = 0.97  # of line rate: more does not fit beside the frames' own gaps
_BURST_BYTES, _QUEUE_MS = 16_000, 400
_DATA_PORT, _DATA_BYTES, _EVERY_S = 5008, 1380, 0.01  # as long as packets of video

_COMPARED = ("link", "leg", "viewer")  # cables of cameras carry their own streams
_Counters = dict[tuple[str, int], tuple[int, int]]


@dataclass(frozen=True)
class Played:
    """One stream at its receiver; `error` where it did not play. Rates as measured, not yet times the divisor."""

    camera: str
    stream: str
    receiver: str
    bitrate_bps: float = 0.0
    lost: int = 0
    packets: int = 0
    error: str = ""


@dataclass(frozen=True)
class Carried:
    """One cable, busier direction: rates as on site [bit/s], that is times the divisor."""

    link: str
    rate_bps: float
    planned_bps: float
    seen_bps: float

    @property
    def expected_bps(self) -> float:
        """What fits of what is planned."""
        return min(self.planned_bps, self.rate_bps)

    @property
    def full(self) -> bool:
        return self.planned_bps > _FULL * self.rate_bps

    @property
    def as_planned(self) -> bool:
        if self.full:
            return self.seen_bps <= 1.02 * self.rate_bps
        return abs(self.seen_bps - self.planned_bps) <= _TOLERANCE * self.planned_bps + 0.002 * self.rate_bps


@dataclass(frozen=True)
class Load:
    """`divisor` is what rates were divided by; `sent` how many streams were datagrams beside the `played` ones."""

    divisor: float
    links: tuple[Carried, ...]
    played: tuple[Played, ...]
    sent: int


def divisor_of(plan: Plan) -> float:
    """So that all streams together are what this machine carries."""
    total = sum(f.plan.bitrate_bps for f in at_once(flows(plan)))
    return float(max(1, math.ceil(total / _MOST_BPS)))


class Loading:
    """The cameras play already, at their rates divided by `divisor`; `address` is where a camera's stream is."""

    def __init__(
        self, stage: Stage, divisor: float, address: Callable[[str, str], str], say: Callable[[str], None]
    ) -> None:
        self._address = address
        self._stage = stage
        self._plan = stage.net.plan
        self._divisor = divisor
        self._say = say
        self._at = {(p.switch, p.port): leg for leg, p in stage.places.items()}

    def run(self) -> Load:
        """Raises LabError."""
        planned = at_once(flows(self._plan))
        every = [f for f in planned if self._sender(f) is not None and self._can_pass(f)]
        if len(every) < len(planned):
            self._say(
                f"{len(planned) - len(every)} streams are left out: their ends, or a router between them, are not here"
            )
        asked = [f for f in every if not f.relayed and not f.multicast]
        others = [f for f in every if f.relayed or f.multicast]
        self._limit()
        with ExitStack() as stack:
            for name, group in self._memberships(others):
                stack.enter_context(services.member(self._stage, self._stage.stations[name].legs[0], group))
            readers = [self._receive(receiver, some) for receiver, some in self._by_receiver(asked).items()]
            sender = self._send(others)
            time.sleep(_RUNNING_S)
            self._say(f"{len(asked)} streams are played, {len(others)} more are sent on or by multicast")
            before, begun = self._counters(), time.monotonic()
            time.sleep(_MEASURED_S)
            after, seconds = self._counters(), time.monotonic() - begun
            played = [p for reader in readers for p in _read(reader)]
            os.kill(sender, signal.SIGKILL)
            os.waitpid(sender, 0)
        links = [
            self._carried(load, before, after, seconds)
            for load in loads_of(self._plan, every)
            if load.kind in _COMPARED
        ]
        return Load(self._divisor, tuple(x for x in links if x is not None), tuple(played), len(others))

    def _can_pass(self, flow: Flow) -> bool:
        """Whether something here brings it from its zone into that of its receivers."""
        net = self._stage.net
        families = {self._plan.zone(zone).family for zone in (flow.sender_zone, *(z for _, z in flow.receivers))}
        if len(families) == 1:
            return True
        return any(s.copies_multicast for s in self._plan.switches) if flow.multicast else net.router() is not None

    def _sender(self, flow: Flow) -> Leg | None:
        return self._at.get(flow.sender)

    def _group(self, flow: Flow) -> tuple[str, int] | None:
        """Address and port of the flow's group."""
        found = (
            g for g in self._stage.net.multicast.groups
            if (g.camera, g.stream, g.relayed) == (flow.camera.name, flow.stream, flow.relayed)
        )  # fmt: skip
        return next(((g.group, g.port) for g in found), None)

    def _memberships(self, some: Sequence[Flow]) -> Iterator[tuple[str, str]]:
        for flow in some:
            group = self._group(flow) if flow.multicast else None
            for place, _ in flow.receivers if group else ():
                leg = self._at.get(place)
                if leg is not None and group is not None:
                    yield leg.station, group[0]

    def _send(self, some: Sequence[Flow]) -> int:
        """A process of its own that sends these flows at an even pace; its number."""
        number = os.fork()
        if number:
            return number
        paced = []
        for flow in some:
            leg, group = self._sender(flow), self._group(flow) if flow.multicast else None
            assert leg is not None
            with self._stage.spaces[leg.station].inside():
                sock = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
                sock.setsockopt(socket.SOL_SOCKET, socket.SO_BINDTODEVICE, leg.interface.encode() + b"\0")
                sock.setsockopt(socket.IPPROTO_IP, socket.IP_MULTICAST_TTL, 8)
                sock.setsockopt(socket.IPPROTO_IP, socket.IP_MULTICAST_IF, socket.inet_aton(leg.address))
            to = [group] if group else [(x.address, _DATA_PORT) for p, _ in flow.receivers if (x := self._at.get(p))]
            rate = flow.plan.bitrate_bps / 8 / self._divisor
            paced += [[sock, address, rate, 0.0] for address in to]
        _pace(paced)
        os._exit(0)

    def _by_receiver(self, some: Sequence[Flow]) -> dict[Leg, list[Flow]]:
        found: dict[Leg, list[Flow]] = {}
        for flow in some:
            for place, _ in flow.receivers:
                leg = self._at.get(place)
                if leg is not None:
                    found.setdefault(leg, []).append(flow)
        return found

    def _limit(self) -> None:
        """Each end of a link sends no faster than the link is, divided."""
        for load in loads_of(self._plan, flows(self._plan)):
            if load.kind != "link":
                continue
            for switch, port in self._ends(load):
                rate = f"{max(8, int(load.rate_bps / self._divisor / 1000))}kbit"
                self._stage.space_of(switch).call(
                    "tc", "qdisc", "replace", "dev", names.port(port), "root", "tbf", "rate", rate, "burst", str(_BURST_BYTES),
                    "latency", f"{_QUEUE_MS}ms",
                )  # fmt: skip

    def _ends(self, load: LinkLoad) -> list[tuple[str, int]]:
        """The switch ports of a cable; of a bundle none."""
        if load.kind == "link":
            return [end for k in self._plan.links if f"{k.a} - {k.b}" == load.name for end in k.ends()]
        switch, _, port = load.name.partition(" ")[0].rpartition(":")
        return [(switch, int(port))]

    def _counters(self) -> dict[tuple[str, int], tuple[int, int]]:
        """Bytes that each switch port has sent and taken in."""
        found = {}
        for switch in self._plan.switches:
            for item in json.loads(self._stage.space_of(switch.name).call("ip", "-j", "-s", "link", "show")):
                name = item.get("ifname", "")
                if name[:1] == "p" and name[1:].isdigit():
                    counted = item["stats64"]
                    found[switch.name, int(name[1:])] = int(counted["tx"]["bytes"]), int(counted["rx"]["bytes"])
        return found

    def _carried(self, load: LinkLoad, before: _Counters, after: _Counters, seconds: float) -> Carried | None:
        ends = [end for end in self._ends(load) if end in after]
        if not ends:
            return None
        way = (0,) if load.kind == "link" else (0, 1)  # what an end of a link takes in, its other end has sent
        most = max(after[end][i] - before[end][i] for end in ends for i in way)
        return Carried(load.name, load.rate_bps, load.load_bps, 8 * most / seconds * self._divisor)

    def _receive(self, leg: Leg, asked: Sequence[Flow]) -> int:
        """A process of its own in the receiver's namespace plays all of its streams; what can be read from it at the end."""
        reading, writing = os.pipe()
        if os.fork() == 0:
            os.close(reading)
            with self._stage.spaces[leg.station].inside():
                received = asyncio.run(_play(leg.station, asked, self._address))
            with os.fdopen(writing, "w") as file:
                json.dump([asdict(p) for p in received], file)
            os._exit(0)
        os.close(writing)
        return reading


async def _play(receiver: str, asked: Sequence[Flow], address: Callable[[str, str], str]) -> list[Played]:
    async def one(numbered: tuple[int, Flow]) -> Played:
        number, flow = numbered
        # One after the other within a group of pictures, as they would stand on site: key frames do not fall together.
        await asyncio.sleep(flow.plan.keyframe_interval_s * number / len(asked))
        visit = Visit(transport=Transport.UDP, patience_s=3.0)
        where = StreamAddress.parse(address(flow.camera.name, flow.stream))
        try:
            got = await rtsp_player.measure(where, visit, _RUNNING_S + _MEASURED_S)
        except DeviceError as error:
            return Played(flow.camera.name, flow.stream, receiver, error=str(error))
        return Played(
            flow.camera.name, flow.stream, receiver, got.bitrate_bps or 0.0, got.packets_lost, got.packets_received
        )

    results = await scheduler.run(list(enumerate(asked)), one, at_once=len(asked), budget_s=60.0)
    return [
        Played(r.item[1].camera.name, r.item[1].stream, receiver, error=r.message) if isinstance(r, Failure) else r
        for r in results
    ]


def _pace(paced: list[list[Any]]) -> None:
    """Socket, address, bytes a second, and what is due, for each: until this process is ended."""
    last = time.monotonic()
    while True:
        time.sleep(_EVERY_S)
        now = time.monotonic()
        for flow in paced:
            flow[3] = min(flow[3] + flow[2] * (now - last), 8 * _DATA_BYTES)
            while flow[3] >= _DATA_BYTES:
                flow[3] -= _DATA_BYTES
                with contextlib.suppress(OSError):  # no way there, or no room: then it is missing on the links
                    flow[0].sendto(b"\0" * _DATA_BYTES, flow[1])
        last = now


def _read(reading: int) -> list[Played]:
    with os.fdopen(reading) as file:
        text = file.read()
    return [Played(**p) for p in json.loads(text or "[]")]


def judge_load(load: Load) -> Iterator[Finding]:
    """Where a link carries other than planned, where one is too small, and where a stream does not play."""
    full = any(item.full for item in load.links)
    for item in load.links:
        missing = full and item.seen_bps < item.planned_bps  # behind a link that is too small, which is told
        if not item.as_planned and not missing:
            share = quantities.share(item.seen_bps, item.rate_bps)
            limit = f"{quantities.bitrate(item.expected_bps)} (plan traffic)"
            yield _found(
                "NET-12", f"link {item.link}", f"{quantities.bitrate(item.seen_bps)}, {share} of line rate", limit
            )
    for stream in load.played:
        if stream.error:
            ref = f"camera {stream.camera}, {stream.stream} stream"
            yield _found("NET-12", ref, f"at {stream.receiver}: {stream.error}", "a stream that plays")
    hurt = [s for s in load.played if s.lost]
    for link in (x for x in load.links if x.full and hurt):
        worst = max(hurt, key=lambda s: s.lost / (s.lost + s.packets))
        share = quantities.share(worst.lost, worst.lost + worst.packets)
        text = (
            f"{quantities.count(len(hurt), 'stream')} lost packets, {share} of {worst.camera}'s {worst.stream} stream"
        )
        limit = f"at most {quantities.bitrate(link.rate_bps)}"
        yield _found("NET-13", f"link {link.link}", f"{quantities.bitrate(link.planned_bps)} planned; {text}", limit)


def _found(code: str, subject: str, measured: str, limit: str) -> Finding:
    return finding(code, subject, measured, limit, SOURCE)
