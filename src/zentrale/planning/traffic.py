"""What every link carries when all cameras stream to their recorders, against line rate and headroom."""

from __future__ import annotations

from dataclasses import dataclass
from itertools import pairwise

from zentrale import quantities
from zentrale.findings import Finding, finding
from zentrale.planning.topology import Graph, lit_network, paths_from
from zentrale.site.model import Camera, Plan

# Ethernet, IP, UDP and RTP around a payload of 1400 bytes: 8 preamble, 14 header, 4 check, 12 gap (IEEE 802.3 clauses
# 3 and 4), 20 IPv4, 8 UDP, 12 RTP.
OVERHEAD = (1400 + 8 + 14 + 4 + 12 + 20 + 8 + 12) / 1400


@dataclass(frozen=True)
class LinkLoad:
    """One direction of one cable, the busier one. `kind` is port, link or leg; `cameras` cross it."""

    kind: str
    name: str
    rate_bps: float
    load_bps: float
    cameras: tuple[str, ...]

    @property
    def share(self) -> float:
        return self.load_bps / self.rate_bps


@dataclass(frozen=True)
class RecorderLoad:
    recorder: str
    channels: int
    channels_used: int
    ingest_bps: float
    ingest_limit_bps: float


@dataclass(frozen=True)
class TrafficPlan:
    links: tuple[LinkLoad, ...]
    recorders: tuple[RecorderLoad, ...]
    findings: tuple[Finding, ...]


def recorded_bps(plan: Plan, camera: Camera) -> float:
    """Bits per second that the recorder takes in from `camera`: its main stream, without overhead."""
    return float(plan.group(camera).main.bitrate_bps)


def plan_traffic(plan: Plan) -> TrafficPlan:
    """The load of every camera port, link and recorder leg; loads include Ethernet to RTP overhead."""
    links, cut_off = link_loads(plan, lit_network(plan))
    switch_of = {r.name: r.switch for r in plan.recorders}
    findings = [
        finding("TRF-4", f"camera {camera.name}", f"no lit link from {camera.switch} onwards",
                f"a path to {switch_of[camera.recorder]}, where {camera.recorder} is", camera.source)
        for camera in cut_off
    ]  # fmt: skip
    kinds = {s.name: plan.switch_type(s) for s in plan.switches}
    legs: dict[str, list[Camera]] = {r.name: [] for r in plan.recorders}
    ports = []
    for camera in plan.cameras:
        legs[camera.recorder].append(camera)
        rate = min(kinds[camera.switch].port_rate_mbps, plan.camera_type(camera).port_rate_mbps) * 1e6
        load = recorded_bps(plan, camera) * OVERHEAD
        ports.append(LinkLoad("port", f"{camera.switch}:{camera.port}", rate, load, (camera.name,)))
    leg_loads = []
    for recorder in plan.recorders:
        cameras = legs[recorder.name]
        rate = min(kinds[recorder.switch].port_rate_mbps, plan.recorder_type(recorder).port_rate_mbps) * 1e6
        load = sum(recorded_bps(plan, c) for c in cameras) * OVERHEAD
        names = tuple(c.name for c in cameras)
        leg_loads.append(LinkLoad("leg", f"{recorder.switch}:{recorder.port} {recorder.name}", rate, load, names))
    loads = [*links, *leg_loads, *ports]
    findings += [f for load in loads if (f := _load_finding(plan, load)) is not None]
    recorders = tuple(_recorder_load(plan, name, cameras) for name, cameras in legs.items())
    for recorder_load in recorders:
        findings += _recorder_findings(plan, recorder_load, legs[recorder_load.recorder])
    return TrafficPlan(tuple(loads), recorders, tuple(findings))


def link_loads(plan: Plan, graph: Graph) -> tuple[list[LinkLoad], list[Camera]]:
    """The load of every link of `graph` that carries any, and the cameras that reach their recorder over none.

    A camera whose own switch, or whose recorder's switch, is not in `graph` is cut off too.
    """
    switch_of = {r.name: r.switch for r in plan.recorders}
    paths = {name: paths_from(graph, switch) if switch in graph else {} for name, switch in switch_of.items()}
    crossing: dict[tuple[int, str], list[Camera]] = {}
    cut_off = []
    for camera in plan.cameras:
        path = paths[camera.recorder].get(camera.switch)
        if path is None:
            cut_off.append(camera)
            continue
        for near, far in pairwise(path):
            crossing.setdefault((graph.edges[near, far]["link"], near), []).append(camera)
    return _link_loads(plan, crossing), cut_off


def _link_loads(plan: Plan, crossing: dict[tuple[int, str], list[Camera]]) -> list[LinkLoad]:
    """The busier direction of each link; each camera crosses a link in one direction only."""
    best: dict[int, LinkLoad] = {}
    for (index, _), cameras in crossing.items():
        link = plan.links[index]
        load_bps = sum(recorded_bps(plan, c) for c in cameras) * OVERHEAD
        load = LinkLoad("link", f"{link.a} - {link.b}", link.rate_mbps * 1e6, load_bps, tuple(c.name for c in cameras))
        if index not in best or best[index].load_bps < load.load_bps:
            best[index] = load
    return [best[index] for index in sorted(best)]


def _load_finding(plan: Plan, load: LinkLoad) -> Finding | None:
    measured = f"{quantities.bitrate(load.load_bps)} from {quantities.count(len(load.cameras), 'camera')}"
    subject = f"{load.kind} {load.name}"
    if load.share > 1:
        return finding(
            "TRF-1", subject, measured, f"{quantities.bitrate(load.rate_bps)} line rate", "site.toml, types.toml"
        )
    headroom = plan.policy.link_load_percent
    if load.share > headroom / 100:
        limit = f"{quantities.bitrate(load.rate_bps * headroom / 100)}, {headroom:g} % of line rate"
        return finding("TRF-2", subject, measured, limit, "site.toml [policy] link_load_percent")
    return None


def _recorder_load(plan: Plan, name: str, cameras: list[Camera]) -> RecorderLoad:
    kind = plan.recorder_type(plan.recorder(name))
    ingest = sum(recorded_bps(plan, c) for c in cameras)
    return RecorderLoad(name, kind.channels, len(cameras), ingest, kind.ingest_mbps * 1e6)


def _recorder_findings(plan: Plan, load: RecorderLoad, cameras: list[Camera]) -> list[Finding]:
    findings = []
    subject = f"recorder {load.recorder}"
    source = f"types.toml recorder type {plan.recorder(load.recorder).type}"
    if load.ingest_bps > load.ingest_limit_bps:
        findings.append(
            finding("TRF-3", subject, f"{quantities.bitrate(load.ingest_bps)} planned",
                    quantities.bitrate(load.ingest_limit_bps), source)
        )  # fmt: skip
    beyond = [c.name for c in cameras if c.channel > load.channels]
    if beyond or load.channels_used > load.channels:
        measured = f"{load.channels_used} cameras" + (
            f"; beyond the last channel: {', '.join(beyond)}" if beyond else ""
        )
        findings.append(finding("CHN-1", subject, measured, f"{load.channels} channels", source))
    return findings
