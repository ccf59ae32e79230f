"""How long a packet is on its way from camera to recorder, when key frames fall together."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from itertools import pairwise

from zentrale import quantities
from zentrale.findings import Finding, finding
from zentrale.planning.flows import Ways, flows
from zentrale.planning.topology import lit_network, trunk_name
from zentrale.planning.traffic import LinkLoad
from zentrale.site.model import Plan

# What a switch takes in whole before it sends it on (IEEE 802.1Q): a payload of 1400 bytes with RTP, UDP, IPv4, Ethernet,
# check sequence and preamble.
FRAME_BITS = 8 * (1400 + 12 + 8 + 20 + 14 + 4 + 8)
LIGHT_S_PER_M = 5e-9  # in glass, and in copper nearly so


@dataclass(frozen=True)
class PathDelay:
    """The way of a camera's main stream to its recorder [s]. `slowest` is the cable where most of the time is spent.

    store_s:  every cable sends the whole frame again
    queue_s:  what waits at the ports, by the 99.9th percentile of the backlog when all key frames begin together
    travel_s: through glass and copper
    """

    camera: str
    recorder: str
    cables: tuple[str, ...]
    store_s: float
    queue_s: float
    travel_s: float
    slowest: str

    @property
    def total_s(self) -> float:
        return self.store_s + self.queue_s + self.travel_s


def path_delays(plan: Plan, links: Sequence[LinkLoad]) -> tuple[PathDelay, ...]:
    """Of every camera whose stream gets there; where a cable on the way is beyond line rate there is no such time."""
    plan = plan.at_ports
    loads: dict[str, LinkLoad] = {load.name: load for load in links}
    graph = lit_network(plan)
    ways, found = Ways(plan, graph), []
    for flow in flows(plan):
        if flow.viewed or flow.stream != "main":
            continue
        for (switch, port), way in ways.reached(flow):
            trunks = [graph.edges[a, b]["members"] for a, b in pairwise(way)]
            names = [f"{flow.sender[0]}:{flow.sender[1]}", *(trunk_name(plan, t) for t in trunks),
                     f"{switch}:{port} {flow.camera.recorder}"]  # fmt: skip
            length = plan.length_m(flow.camera) + sum(plan.links[t[0]].length_m for t in trunks)
            delay = _delay(flow.camera.name, flow.camera.recorder, names, loads, length)
            found += [delay] if delay is not None else []
    return tuple(found)


def _delay(
    camera: str, recorder: str, names: Sequence[str], loads: Mapping[str, LinkLoad], length_m: float
) -> PathDelay | None:
    store, queue, slowest = 0.0, 0.0, (0.0, "")
    for name in names:
        load = loads[name]
        waiting = 0.0 if load.burst is None else load.burst.waiting_bytes
        if waiting is None:
            return None
        frame, wait = FRAME_BITS / load.rate_bps, 8 * waiting / load.rate_bps
        store, queue = store + frame, queue + wait
        slowest = max(slowest, (frame + wait, f"{load.kind} {name}"))
    return PathDelay(camera, recorder, tuple(names), store, queue, length_m * LIGHT_S_PER_M, slowest[1])


def delay_findings(plan: Plan, delays: Sequence[PathDelay]) -> Iterator[Finding]:
    """One for each cable that makes paths too slow, with the cameras on it."""
    limit_s = plan.policy.path_delay_ms / 1000
    late: dict[tuple[str, str], list[PathDelay]] = {}
    for delay in delays:
        if delay.total_s > limit_s:
            late.setdefault((delay.slowest, delay.recorder), []).append(delay)
    for (slowest, recorder), paths in late.items():
        worst = max(paths, key=lambda p: p.total_s)
        names = quantities.listed([p.camera for p in paths], 6)
        what = f"{1000 * worst.total_s:.0f} ms to {recorder} when key frames fall together"
        measured = f"{what} ({quantities.count(len(paths), 'camera')}: {names})"
        yield finding(
            "TRF-10", slowest, measured, f"{plan.policy.path_delay_ms:g} ms", "site.toml [policy] path_delay_ms"
        )
