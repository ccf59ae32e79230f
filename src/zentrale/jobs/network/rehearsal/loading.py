"""Streams of the planned rates over links as fast as planned, both divided by one number: what each link carries, what is lost.

The cameras' streams are asked for by RTSP where the plan records or watches them; what recorders pass on is not played here.
"""

from __future__ import annotations

import asyncio
import json
import math
import os
import time
from collections.abc import Callable, Iterator, Sequence
from dataclasses import asdict, dataclass

from zentrale.errors import DeviceError
from zentrale.field import rtsp_player, scheduler
from zentrale.field.lab.stations import Leg
from zentrale.field.playing import Visit
from zentrale.field.scheduler import Failure
from zentrale.jobs.network.rehearsal.stage import Stage
from zentrale.output.network import names
from zentrale.planning.flows import Flow, flows
from zentrale.planning.traffic import LinkLoad, loads_of
from zentrale.protocols.rtsp_client import StreamAddress, Transport
from zentrale.site.model import Plan

_MOST_BPS = 16e6  # all streams together: what switches in user space carry with time to spare
_RUNNING_S, _MEASURED_S = 4.0, 8.0
_TOLERANCE = 0.15  # an encoder keeps to its rate over seconds, not to the bit
_FULL = 0.97  # of line rate: more does not fit beside the frames' own gaps
_BURST_BYTES, _QUEUE_MS = 16_000, 400


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
    """One link, busier direction: rates as on site [bit/s], that is times the divisor."""

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
    """`divisor` is what rates were divided by; `left_out` what the plan sends and nothing here did, in words."""

    divisor: float
    links: tuple[Carried, ...]
    played: tuple[Played, ...]
    left_out: tuple[str, ...]


def played_flows(plan: Plan) -> list[Flow]:
    """Those that go from camera to whoever asks for them, each lens of a device by its own row."""
    return [f for f in flows(plan) if not f.relayed and not f.multicast]


def divisor_of(plan: Plan) -> float:
    """So that all streams together are what this machine carries."""
    total = sum(f.plan.bitrate_bps for f in played_flows(plan))
    return float(max(1, math.ceil(total / _MOST_BPS)))


class Loading:
    """The cameras play already, at their rates divided by `divisor`; `address` is where a camera's stream is."""

    def __init__(
        self, stage: Stage, divisor: float, address: Callable[[str, str], str], told: Callable[[str], None]
    ) -> None:
        self._address = address
        self._stage = stage
        self._plan = stage.net.plan
        self._divisor = divisor
        self._told = told

    def run(self) -> Load:
        """Raises LabError."""
        some = [f for f in played_flows(self._plan) if f.camera.name in self._stage.stations]
        self._limit()
        readers = [self._receive(receiver, asked) for receiver, asked in self._by_receiver(some).items()]
        time.sleep(_RUNNING_S)
        self._told(f"{len(some)} streams run")
        before, begun = self._counters(), time.monotonic()
        time.sleep(_MEASURED_S)
        after, seconds = self._counters(), time.monotonic() - begun
        played = [p for reader in readers for p in _read(reader)]
        links = [
            self._carried(load, before, after, seconds) for load in loads_of(self._plan, some) if load.kind == "link"
        ]
        return Load(self._divisor, tuple(x for x in links if x is not None), tuple(played), tuple(self._left_out()))

    def _left_out(self) -> Iterator[str]:
        relayed = sum(f.relayed for f in flows(self._plan))
        copied = sum(f.multicast for f in flows(self._plan))
        if relayed:
            yield f"{relayed} streams that recorders pass on to viewers"
        if copied:
            yield f"{copied} streams by multicast"

    def _by_receiver(self, some: Sequence[Flow]) -> dict[Leg, list[Flow]]:
        found: dict[Leg, list[Flow]] = {}
        at = {(p.switch, p.port): leg for leg, p in self._stage.places.items()}
        for flow in some:
            for (switch, port), _ in flow.receivers:
                leg = at.get((switch, port))
                if leg is not None:
                    found.setdefault(leg, []).append(flow)
        return found

    def _limit(self) -> None:
        """Each end of a link sends no faster than the link is, divided."""
        for load in loads_of(self._plan, played_flows(self._plan)):
            if load.kind != "link":
                continue
            for switch, port in self._ends(load):
                rate = f"{max(8, int(load.rate_bps / self._divisor / 1000))}kbit"
                self._stage.space_of(switch).call(
                    "tc", "qdisc", "replace", "dev", names.port(port), "root", "tbf", "rate", rate, "burst", str(_BURST_BYTES),
                    "latency", f"{_QUEUE_MS}ms",
                )  # fmt: skip

    def _ends(self, load: LinkLoad) -> list[tuple[str, int]]:
        """Of a link that is one cable; those of a bundle are left as they are."""
        return [end for k in self._plan.links if f"{k.a} - {k.b}" == load.name for end in k.ends()]

    def _counters(self) -> dict[tuple[str, int], int]:
        """Bytes that each switch port has sent."""
        found = {}
        for switch in self._plan.switches:
            for item in json.loads(self._stage.space_of(switch.name).call("ip", "-j", "-s", "link", "show")):
                name = item.get("ifname", "")
                if name[:1] == "p" and name[1:].isdigit():
                    found[switch.name, int(name[1:])] = int(item["stats64"]["tx"]["bytes"])
        return found

    def _carried(
        self, load: LinkLoad, before: dict[tuple[str, int], int], after: dict[tuple[str, int], int], seconds: float
    ) -> Carried | None:
        ends = self._ends(load)
        if not ends:
            return None
        sent = max(after[end] - before[end] for end in ends)
        return Carried(load.name, load.rate_bps, load.load_bps, 8 * sent / seconds * self._divisor)

    def _receive(self, leg: Leg, asked: Sequence[Flow]) -> int:
        """A process of its own in the receiver's namespace plays all of its streams; what can be read from it at the end."""
        reading, writing = os.pipe()
        if os.fork() == 0:
            os.close(reading)
            with self._stage.spaces[leg.station].inside():
                told = asyncio.run(_play(leg.station, asked, self._address))
            with os.fdopen(writing, "w") as file:
                json.dump([asdict(p) for p in told], file)
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


def _read(reading: int) -> list[Played]:
    with os.fdopen(reading) as file:
        text = file.read()
    return [Played(**p) for p in json.loads(text or "[]")]
