"""Every port, link and recorder in both directions; bursts of key frames."""

from __future__ import annotations

from dataclasses import dataclass

from zentrale import quantities
from zentrale.jobs.parts.part import Asked, Fact, Made, Page, Part, Request, plain
from zentrale.planning.delays import PathDelay, delay_findings, path_delays
from zentrale.planning.traffic import LinkLoad, TrafficPlan, plan_traffic
from zentrale.site.model import Plan


@dataclass(frozen=True)
class Loads(TrafficPlan):
    """The traffic, and how long it is on its way."""

    delays: tuple[PathDelay, ...] = ()


def calculate(plan: Plan, made: Made, request: Request) -> Loads:
    traffic = plan_traffic(plan)
    delays = path_delays(plan, traffic.links)
    findings = (*traffic.findings, *delay_findings(plan, delays))
    return Loads(traffic.links, traffic.recorders, traffic.estimated, findings, delays)


def document(traffic: Loads) -> dict[str, object]:
    document: dict[str, object] = {}
    document["path_delays"] = [
        {
            "camera": d.camera,
            "recorder": d.recorder,
            "delay_ms": plain(1000 * d.total_s),
            "store_ms": plain(1000 * d.store_s),
            "queue_ms": plain(1000 * d.queue_s),
            "travel_ms": plain(1000 * d.travel_s),
            "slowest": d.slowest,
        }
        for d in traffic.delays
    ]
    document["links"] = [
        {
            "kind": link.kind,
            "name": link.name,
            "load_bps": round(link.load_bps),
            "towards": link.towards,
            "back_bps": round(link.back_bps),
            "rate_bps": round(link.rate_bps),
            "burst_together_bps": round(link.burst.together_bps) if link.burst else None,
            "burst_spread_bps": round(link.burst.spread_bps) if link.burst else None,
            "burst_buffer_bytes": plain(link.burst.buffer_bytes) if link.burst else None,
            "cameras": list(link.cameras),
            "others": list(link.others),
        }
        for link in traffic.links
    ]
    document["recorders"] = [
        {
            "recorder": r.recorder,
            "channels": r.channels,
            "channels_used": r.channels_used,
            "ingest_bps": round(r.ingest_bps),
            "ingest_limit_bps": round(r.ingest_limit_bps),
        }
        for r in traffic.recorders
    ]
    document["estimated_bitrates"] = list(traffic.estimated)
    return document


def show(page: Page, plan: Plan, result: Loads, asked: Asked) -> None:
    show_traffic(page, result, full=asked.full)
    if result.delays:
        slowest = sorted(result.delays, key=lambda d: -d.total_s)
        worst = slowest[0]
        page.line(f"longest on its way when key frames fall together: {worst.camera}, {1000 * worst.total_s:.1f} ms")
        if asked.full:
            page.heading("From camera to recorder when key frames fall together [ms], slowest first")
            rows = [
                [d.camera, d.recorder, f"{1000 * d.total_s:.2f}", f"{1000 * d.queue_s:.2f}", f"{1000 * d.store_s:.2f}",
                 f"{1000 * d.travel_s:.3f}", d.slowest]
                for d in slowest
            ]  # fmt: skip
            columns = ["camera", "recorder", ">in all", ">waiting", ">sent again", ">cable", "longest at"]
            page.table(columns, rows)


def show_traffic(page: Page, traffic: TrafficPlan, *, full: bool) -> None:

    page.heading("Traffic when all cameras stream, with Ethernet to RTP overhead")
    rows = [_load(load, _where(load)) for load in traffic.links if load.kind != "port"]
    ports = [load for load in traffic.links if load.kind == "port"]
    if full:
        rows += [_load(load, f"{load.name} {', '.join(load.cameras)}") for load in sorted(ports, key=_switch_and_port)]
    elif ports:
        busiest = max(ports, key=lambda load: load.share)
        rows.append(_load(busiest, f"busiest of {len(ports)}: {busiest.name}"))
    columns = ["kind", "where", ">cameras", ">load", ">line rate", ">share", ">other way", ">burst", ">buffer for it"]
    page.table(columns, rows)
    page.line("burst: 99.9 % of all 100 ms stay below it when all cameras start together, as after a power cut")
    rows = [
        [
            r.recorder,
            f"{r.channels_used} of {r.channels}",
            quantities.bitrate(r.ingest_bps),
            quantities.bitrate(r.ingest_limit_bps),
            quantities.share(r.ingest_bps, r.ingest_limit_bps),
        ]
        for r in traffic.recorders
    ]
    page.line()
    page.table(["recorder", ">channels", ">takes in", ">limit", ">share"], rows)


def _switch_and_port(load: LinkLoad) -> tuple[str, int]:
    switch, _, port = load.name.rpartition(":")
    return switch, int(port)


def _where(load: LinkLoad) -> str:
    """With what else is on it, but for a port that is named after that already."""
    others = ", ".join(load.others) if load.kind != "device" else ""
    return f"{load.name} with {others}" if others else load.name


def _load(load: LinkLoad, where: str) -> list[str]:

    over = "fault|" if load.share > 1 else ""
    return [
        load.kind, where, str(len(load.cameras)), quantities.bitrate(load.load_bps), quantities.bitrate(load.rate_bps),
        over + quantities.share(load.load_bps, load.rate_bps), quantities.bitrate(load.back_bps), *_burst(load),
    ]  # fmt: skip


def _burst(load: LinkLoad) -> list[str]:

    if load.burst is None:
        return ["", ""]
    needed = load.burst.buffer_bytes
    return [
        quantities.bitrate(load.burst.together_bps),
        "none is enough" if needed is None else quantities.size(needed),
    ]


def figures_of(plan: Plan, result: Loads) -> dict[str, bytes]:
    from zentrale.output import figures, network_figures  # drawing takes a second to load

    return {
        "bandwidth.png": figures.bandwidth_figure(plan, result, []),
        "topology.png": network_figures.topology_figure(plan, result),
    }


def facts(plan: Plan, result: Loads) -> list[Fact]:
    """Loads of links, legs and viewers, and what recorders take in."""
    found = [
        Fact("load", f"{load.kind} {load.name}",
             f"{quantities.bitrate(load.load_bps)}, {quantities.share(load.load_bps, load.rate_bps)} of line rate", load.share)
        for load in result.links
        if load.kind != "port"
    ]  # fmt: skip
    return found + [
        Fact("recorder takes in", f"recorder {r.recorder}",
             f"{quantities.bitrate(r.ingest_bps)} on {quantities.count(r.channels_used, 'channel')}")
        for r in result.recorders
    ]  # fmt: skip


def summary(plan: Plan, result: Loads) -> str:
    if not result.links:
        return "nothing is sent"
    fullest = max(result.links, key=lambda load: load.share)
    share = quantities.share(fullest.load_bps, fullest.rate_bps)
    taken = sum(r.ingest_bps for r in result.recorders)
    return f"recorders take in {quantities.bitrate(taken)}; fullest {fullest.kind} {fullest.name}, {share} of line rate"


PART = Part("traffic", calculate, document, show, figures_of, facts=facts, summary=summary)
