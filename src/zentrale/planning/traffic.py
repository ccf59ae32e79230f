"""What every port and link carries, in both directions, when all cameras stream and all viewers watch; against line
rate and headroom, on average and when key frames fall together.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass

from zentrale import quantities
from zentrale.findings import Finding, finding
from zentrale.planning.attached import Attached, attached
from zentrale.planning.bursts import Burst, Source, plan_burst
from zentrale.planning.contradictions import of_links, of_streams
from zentrale.planning.flows import Flow, Hop, Ways, at_once, flows, names_of, recorded_bps, sent_by_recorders
from zentrale.planning.open_columns import not_counted
from zentrale.planning.storage import GROWTH
from zentrale.planning.topology import Graph, link_rates_bps, lit_network, trunk_name, trunks_of
from zentrale.planning.zone_links import zone_root, zone_switches
from zentrale.site.model import ESTIMATE_SOURCE, Camera, Plan

# Ethernet, IP, UDP and RTP around a payload of 1400 bytes: 8 preamble, 14 header, 4 check, 12 gap (IEEE 802.3 clauses
# 3 and 4), 20 IPv4, 8 UDP, 12 RTP.
OVERHEAD = (1400 + 8 + 14 + 4 + 12 + 20 + 8 + 12) / 1400


@dataclass(frozen=True)
class LinkLoad:
    """One cable. `kind` is port (a camera's), link, leg (a recorder's), viewer, or device (anything else's port).

    load_bps: the busier direction, which goes towards `towards`, with the `cameras` whose streams are in it
    back_bps: the other direction
    others:   what else is on it, in both directions, by name
    """

    kind: str
    name: str
    rate_bps: float
    load_bps: float
    cameras: tuple[str, ...]
    towards: str = ""
    back_bps: float = 0.0
    burst: Burst | None = None
    others: tuple[str, ...] = ()

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
    """`estimated` names the groups' streams whose bit rate nobody gave."""

    links: tuple[LinkLoad, ...]
    recorders: tuple[RecorderLoad, ...]
    estimated: tuple[str, ...]
    findings: tuple[Finding, ...]


@dataclass(frozen=True)
class _Cable:
    """A cable by its two ends, each with the name of what is there. Direction True goes from `a` to `b`."""

    kind: str
    name: str
    rate_bps: float
    a: str
    b: str
    buffers_kb: tuple[float | None, float | None] = (None, None)  # of the port that sends at `a`, and at `b`


def plan_traffic(plan: Plan) -> TrafficPlan:
    """The load of every camera port, link, recorder leg and viewer port; loads include Ethernet to RTP overhead."""
    given, plan = plan, plan.at_ports
    things = attached(plan)
    loads, cut_off = _Network(plan, lit_network(plan), things).loads(list(flows(plan)))
    switch_of = {r.name: r.switch for r in plan.recorders}
    findings = [
        finding("TRF-4", f"camera {camera.name}", f"no lit link from {camera.switch} onwards",
                f"a path to {switch_of[camera.recorder]}, where {camera.recorder} is", camera.where)
        for camera in cut_off
    ]  # fmt: skip
    findings += [f for load, buffer_kb in loads for f in _load_findings(plan, load, buffer_kb)]
    findings += _port_findings(plan)
    findings += [
        finding("TRF-11", f"{thing.kind} {thing.name}", "no traffic_mbps is said", "how much it carries", thing.source)
        for thing in things
        if thing.traffic_mbps is None
    ]
    plan = given
    findings += [*_type_findings(plan), *of_links(plan), *of_streams(plan), *not_counted(plan)]
    on: dict[str, list[Camera]] = {r.name: [] for r in plan.recorders}
    for camera in plan.cameras:
        on[camera.recorder].append(camera)
    recorders = tuple(_recorder_load(plan, name, cameras) for name, cameras in on.items())
    sent = sent_by_recorders(plan)
    for recorder_load in recorders:
        findings += _recorder_findings(plan, recorder_load, on[recorder_load.recorder], sent[recorder_load.recorder])
    estimated = tuple(
        f"{group.name}, {name} stream"
        for group in plan.groups
        for name, stream in (("main", group.main), ("sub", group.sub))
        if stream is not None and stream.estimated
    )
    for name in estimated:
        group = next(g for g in plan.groups if g.name == name.partition(",")[0])
        stream = group.main if name.endswith("main stream") else group.sub
        assert stream is not None
        findings.append(
            finding("TRF-7", f"group {name}", f"{quantities.bitrate(stream.bitrate_bps)}, estimated",
                    "a bit rate in the plan", ESTIMATE_SOURCE)
        )  # fmt: skip
    return TrafficPlan(tuple(load for load, _ in loads), recorders, estimated, tuple(findings))


def loads_of(plan: Plan, some: Iterable[Flow]) -> list[LinkLoad]:
    """What these flows alone put on every cable."""
    return [load for load, _ in _Network(plan, lit_network(plan)).loads(list(some))[0]]


class _Network:
    """Adds up flows over the cables of the plan."""

    def __init__(self, plan: Plan, graph: Graph, things: Sequence[Attached] = ()) -> None:
        self.plan = plan
        self.things = [thing for thing in things if thing.traffic_mbps]
        self.ways = Ways(plan, graph)
        self.types = {s.name: plan.switch_type(s) for s in plan.switches}
        self.rates = link_rates_bps(plan)
        self.trunks = {trunk[0]: trunk for trunk in trunks_of(plan)}
        self.ends = {self._port(c.switch, c.port): ("port", c.name, plan.camera_type(c).port_rate_mbps)
                     for c in plan.networked_devices}  # fmt: skip
        for recorder in plan.recorders:
            rate = plan.recorder_type(recorder).port_rate_mbps
            for leg in recorder.legs():
                self.ends[self._port(leg.switch, leg.port)] = ("leg", recorder.name, rate)
        for viewer in plan.viewers:
            self.ends[self._port(viewer.switch, viewer.port)] = ("viewer", viewer.name, 10**6)
        self._cables: dict[tuple[str, int], _Cable] = {}
        self._links: dict[int, _Cable] = {}
        for thing in self.things:
            self.ends.setdefault(self._port(thing.switch, thing.port), ("device", thing.name, 10**6))

    @staticmethod
    def _port(switch: str, port: int) -> str:
        return f"{switch}:{port}"

    def loads(self, all_flows: list[Flow]) -> tuple[list[tuple[LinkLoad, float | None]], list[Camera]]:
        """Loads with the buffer of the port that sends in the busier direction, and the cameras cut off."""
        carried: dict[tuple[_Cable, bool], list[Flow]] = {}
        cut_off: dict[str, Camera] = {}
        cables = {self._port(*place): self._cable(*place) for place in _places(self.plan)}
        for flow in all_flows:
            reached = self.ways.reached(flow)
            if not reached and not flow.relayed and not flow.multicast:
                cut_off[flow.camera.name] = flow.camera
            carried.setdefault((cables[self._port(*flow.sender)], False), []).append(flow)
            for receiver in {self._port(*port) for port, _ in reached}:
                carried.setdefault((cables[receiver], True), []).append(flow)
            for hop in self.ways.hops(way for _, way in reached):
                cable, forward = self._link(hop)
                carried.setdefault((cable, forward), []).append(flow)
        others = self._others(cables)
        busy = {cable for cable, _ in carried} | set(others)
        order = {"link": 0, "leg": 1, "viewer": 2, "device": 3, "port": 4}
        links = [self._link((i, self.plan.links[i].switches()[0]))[0] for i in sorted(self.trunks)]
        everything = [*(c for c in links if c in busy), *cables.values()]
        ordered = sorted(dict.fromkeys(everything), key=lambda c: order[c.kind])
        return [
            self._load(c, carried.get((c, True), []), carried.get((c, False), []), others.get(c, [])) for c in ordered
        ], list(cut_off.values())

    def _others(self, cables: dict[str, _Cable]) -> dict[_Cable, list[Attached]]:
        """What else is on each cable: at its own port, and on the way to where its zones' ways meet, since nobody knows to whom
        it goes. Of several zones each way has all of it.
        """
        at = zone_switches(self.plan) if self.things else {}
        found: dict[_Cable, list[Attached]] = {}
        for thing in self.things:
            port = self._port(thing.switch, thing.port)
            found.setdefault(cables.setdefault(port, self._cable(thing.switch, thing.port)), []).append(thing)
            roots = [zone_root(self.plan, zone, at) for zone in thing.zones]
            ways = [self.ways.between(thing.switch, root) for root in roots if root is not None]
            for cable in dict.fromkeys(self._link(hop)[0] for hop in self.ways.hops(w for w in ways if w is not None)):
                found.setdefault(cable, []).append(thing)
        return found

    def _cable(self, switch: str, port: int) -> _Cable:
        if (switch, port) not in self._cables:
            self._cables[switch, port] = self._made_cable(switch, port)
        return self._cables[switch, port]

    def _made_cable(self, switch: str, port: int) -> _Cable:
        kind, device, rate_mbps = self.ends[self._port(switch, port)]
        switch_type = self.types[switch]
        name = self._port(switch, port) if kind == "port" else f"{self._port(switch, port)} {device}"
        rate = min(switch_type.rate_mbps(port), rate_mbps) * 1e6
        return _Cable(kind, name, rate, switch, device, (switch_type.buffer_kb, None))

    def _link(self, hop: Hop) -> tuple[_Cable, bool]:
        index, leaving = hop
        if index not in self._links:
            self._links[index] = self._made_link(index)
        cable = self._links[index]
        return cable, leaving == cable.a

    def _made_link(self, index: int) -> _Cable:
        trunk = self.trunks[index]
        a, b = self.plan.links[index].switches()
        rate = sum(self.rates[i] for i in trunk)
        buffers = self.types[a].buffer_kb, self.types[b].buffer_kb
        return _Cable("link", trunk_name(self.plan, trunk), rate, a, b, buffers)

    def _load(
        self, cable: _Cable, there: list[Flow], back: list[Flow], things: list[Attached]
    ) -> tuple[LinkLoad, float | None]:
        more = sum(thing.traffic_mbps or 0.0 for thing in things) * 1e6
        there, back = at_once(there), at_once(back)
        load, other = _bps(there) + more, _bps(back) + more
        busier, towards = (there, cable.b) if load >= other else (back, cable.a)
        buffer_kb = cable.buffers_kb[0 if load >= other else 1]  # of whoever sends
        left_bps = cable.rate_bps - more
        burst = None if cable.kind == "port" or left_bps <= 0 else plan_burst(self._sources(busier), left_bps)
        names = names_of(flow.camera for flow in busier)
        result = LinkLoad(
            cable.kind, cable.name, cable.rate_bps, max(load, other), names, towards, min(load, other), burst,
            tuple(thing.name for thing in things),
        )  # fmt: skip
        return result, buffer_kb

    def _sources(self, carried: Iterable[Flow]) -> Iterator[Source]:
        for flow in carried:
            stream = flow.plan
            frames = 1 if stream.codec == "JPEG" else max(1, round(stream.fps * stream.keyframe_interval_s))
            port = self._cable(*flow.sender).rate_bps
            ratio = self.plan.policy.keyframe_ratio
            yield Source(stream.most_bps * OVERHEAD, stream.fps, frames, ratio, port)


def _places(plan: Plan) -> Iterator[tuple[str, int]]:
    """Every port with a device, cameras last; a wireless camera shares that of its access point."""
    for recorder in plan.recorders:
        yield from ((leg.switch, leg.port) for leg in recorder.legs())
    yield from ((viewer.switch, viewer.port) for viewer in plan.viewers)
    yield from ((camera.switch, camera.port) for camera in plan.networked)


def _bps(carried: Iterable[Flow]) -> float:
    return sum(flow.plan.most_bps for flow in carried) * OVERHEAD


def _load_findings(plan: Plan, load: LinkLoad, buffer_kb: float | None) -> Iterator[Finding]:
    sources = [quantities.count(len(load.cameras), "camera")] if load.cameras or not load.others else []
    measured = f"{quantities.bitrate(load.load_bps)} from {' and '.join([*sources, *load.others])}"
    subject = f"{load.kind} {load.name}"
    headroom = plan.policy.link_load_percent
    if load.share > 1:
        limit = f"{quantities.bitrate(load.rate_bps)} line rate"
        yield finding("TRF-1", subject, f"{measured}, towards {load.towards}", limit, "site.toml, types.toml")
    elif load.share > headroom / 100:
        limit = f"{quantities.bitrate(load.rate_bps * headroom / 100)}, {headroom:g} % of line rate"
        yield finding("TRF-2", subject, measured, limit, "site.toml [policy] link_load_percent")
    needed = load.burst.buffer_bytes if load.burst is not None else None
    if buffer_kb is not None and needed is not None and needed > buffer_kb * 1000:
        text = f"{quantities.size(needed)} wait when {quantities.count(len(load.cameras), 'camera')} start together"
        yield finding("TRF-5", subject, text, f"{buffer_kb:g} kB of buffer", "types.toml switch type buffer_kb")


def _port_findings(plan: Plan) -> Iterator[Finding]:
    """Links that are planned faster than one of their ports."""
    types = {s.name: plan.switch_type(s) for s in plan.switches}
    for link in plan.links:
        for switch, port in link.ends():
            limit = types[switch].rate_mbps(port)
            if link.rate_mbps > limit:
                slower = f"{quantities.bitrate(limit * 1e6)} at {switch}:{port}"
                subject, source = f"link {link.a} - {link.b}", f"types.toml {types[switch].name}"
                yield finding("TRF-6", subject, quantities.bitrate(link.rate_mbps * 1e6), slower, source)


def _type_findings(plan: Plan) -> Iterator[Finding]:
    """Streams that a camera's type cannot deliver: too many pixels, or a codec it does not have."""
    for camera in plan.cameras:
        kind = plan.camera_type(camera)
        for name, stream in plan.streams(camera).items():
            subject, source = f"camera {camera.name}, {name} stream", f"types.toml {kind.name}"
            largest = kind.max_resolution
            if largest is not None and any(
                asked > most for asked, most in zip(stream.resolution, largest, strict=True)
            ):
                limit = f"at most {quantities.resolution(*largest)}"
                yield finding("TYP-1", subject, quantities.resolution(*stream.resolution), limit, source)
            if stream.codec not in kind.codecs:
                yield finding("TYP-1", subject, stream.codec, " or ".join(kind.codecs), source)
            if kind.max_fps is not None and stream.fps > kind.max_fps:
                yield finding(
                    "TYP-1", subject, f"{stream.fps:g} frames/s", f"at most {kind.max_fps:g} frames/s", source
                )
            if kind.max_bitrate_kbps is not None and stream.bitrate_bps > 1000 * kind.max_bitrate_kbps:
                limit = f"at most {quantities.bitrate(1000 * kind.max_bitrate_kbps)}"
                yield finding("TYP-1", subject, quantities.bitrate(stream.bitrate_bps), limit, source)


def _recorder_load(plan: Plan, name: str, cameras: list[Camera]) -> RecorderLoad:
    kind = plan.recorder_type(plan.recorder(name))
    ingest = sum(recorded_bps(plan, c) for c in cameras)
    return RecorderLoad(name, kind.channels, len(cameras), ingest, kind.ingest_mbps * 1e6)


def _recorder_findings(plan: Plan, load: RecorderLoad, cameras: list[Camera], sent: float) -> list[Finding]:
    findings = []
    subject = f"recorder {load.recorder}"
    source = f"types.toml recorder type {plan.recorder(load.recorder).type}"
    if load.ingest_bps > load.ingest_limit_bps:
        findings.append(
            finding("TRF-3", subject, f"{quantities.bitrate(load.ingest_bps)} planned",
                    quantities.bitrate(load.ingest_limit_bps), source)
        )  # fmt: skip
    growth = plan.policy.growth_percent
    if load.ingest_bps <= load.ingest_limit_bps < load.ingest_bps * (1 + growth.ingest / 100):
        grown = f"{quantities.bitrate(load.ingest_bps * (1 + growth.ingest / 100))} with {growth.ingest:g} % more"
        findings.append(finding("TRF-13", subject, grown, quantities.bitrate(load.ingest_limit_bps), GROWTH))
    if load.channels_used <= load.channels < load.channels_used * (1 + growth.channels / 100):
        grown = f"{load.channels_used} cameras, and {growth.channels:g} % more"
        findings.append(finding("CHN-2", subject, grown, f"{load.channels} channels", GROWTH))
    kind = plan.recorder_type(plan.recorder(load.recorder))
    if kind.output_mbps is not None and sent > kind.output_mbps * 1e6:
        limit = f"{kind.output_mbps:g} Mbit/s to viewers"
        findings.append(finding("TRF-8", subject, f"{quantities.bitrate(sent)} watched at once", limit, source))
    beyond = [c.name for c in cameras if c.channel > load.channels]
    if beyond or load.channels_used > load.channels:
        measured = f"{load.channels_used} cameras" + (
            f"; beyond the last channel: {quantities.listed(beyond, 14)}" if beyond else ""
        )
        findings.append(finding("CHN-1", subject, measured, f"{load.channels} channels", source))
    return findings
