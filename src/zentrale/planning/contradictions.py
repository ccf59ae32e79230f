"""What cannot work, and what the plan files alone tell: nothing has to be worked out for it."""

from __future__ import annotations

from collections.abc import Iterator

from zentrale import quantities
from zentrale.findings import Finding, finding
from zentrale.planning.feeders import feeder_of
from zentrale.planning.media import CHANNEL_M, reach_m
from zentrale.planning.open_columns import open_columns
from zentrale.site.model import Camera, Plan, StreamPlan
from zentrale.site.streams import estimated_bitrate_bps

_APART_S = 10.0  # who begins to watch, or winds back, waits so long for a picture
_FAR_BELOW, _SMART_BELOW = 0.5, 0.25  # of the estimate for a scene in which little moves


def files_alone(plan: Plan) -> list[Finding]:
    """All of it, as `check` says it."""
    return [
        *of_addresses(plan),
        *of_cables(plan),
        *of_supply(plan),
        *of_ports(plan),
        *of_links(plan),
        *of_streams(plan),
        *open_columns(plan),
    ]


def of_addresses(plan: Plan) -> Iterator[Finding]:
    for zone in plan.zones:
        subject, source = f"zone {zone.name}", f"site.toml zone {zone.name}"
        edges = (zone.subnet.network_address, zone.subnet.broadcast_address) if zone.subnet.prefixlen < 31 else ()
        if zone.gateway is not None and (zone.gateway not in zone.subnet or zone.gateway in edges):
            what = "outside" if zone.gateway not in zone.subnet else "no host address"
            yield finding("ADR-8", subject, f"gateway {zone.gateway}, {what}", f"a host of {zone.subnet}", source)
        if zone.pool is not None and zone.fixed is not None:
            first, last = max(zone.pool.first, zone.fixed.first), min(zone.pool.last, zone.fixed.last)
            if first <= last:
                yield finding(
                    "ADR-9",
                    subject,
                    f"pool {zone.pool} and fixed block {zone.fixed} share {first}-{last}",
                    "two blocks apart",
                    source,
                )
    devices = [(f"camera {c.name}", c.zone, c.address, c.where) for c in plan.camera_devices if not c.translated]
    devices += [
        (f"recorder {r.name}", leg.zone, leg.address, f"site.toml recorder {r.name}")
        for r in plan.recorders
        for leg in r.legs()
    ]
    for subject, name, address, source in devices:
        zone = plan.zone(name)
        if address is not None and zone.fixed is not None and address in zone.subnet and address not in zone.fixed:
            yield finding("ADR-10", subject, str(address), f"one of {zone.fixed}, the fixed block of {name}", source)


def of_cables(plan: Plan) -> Iterator[Finding]:
    """Of cameras: what their category carries, and how long the whole channel is."""
    for camera in plan.camera_devices:
        if camera.wireless:
            continue
        if camera.run_length_m is None:
            continue
        subject, channel_m = f"camera {camera.name}", camera.run_length_m + plan.policy.cords_m
        if channel_m > CHANNEL_M and camera.run_length_m <= plan.policy.max_run_m:
            measured = (
                f"{camera.run_length_m:g} m of fixed cable and {plan.policy.cords_m:g} m of cords ({camera.where})"
            )
            yield finding(
                "RUN-4", subject, measured, f"{CHANNEL_M:g} m together", "ISO/IEC 11801-1; IEEE 802.3 clause 40.7"
            )
        why = _too_much_for_category_3(plan, camera) if plan.category(camera) == "3" else ""
        if why:
            yield finding(
                "RUN-3",
                subject,
                f"category 3 under {why} ({camera.where})",
                "category 5 or better",
                "IEEE 802.3 clauses 40.7, 145.1.3",
            )


def _too_much_for_category_3(plan: Plan, camera: Camera) -> str:
    kind = plan.camera_type(camera)
    if plan.supply(camera) == "poe" and kind.counted_class > 4:
        return f"PoE class {kind.counted_class}"
    if not camera.port:
        return ""
    if camera.behind:
        return ""  # no data sheet tells the rate of a recorder's own ports
    switch = plan.switch_type(plan.switch(camera.switch))
    rate = min(kind.port_rate_mbps, switch.rate_mbps(camera.port))
    return quantities.bitrate(rate * 1e6) if rate >= 1000 else ""


def of_supply(plan: Plan) -> Iterator[Finding]:
    unknown: dict[str, list[str]] = {}
    for camera in plan.camera_devices:
        kind = plan.camera_type(camera)
        if plan.supply(camera) == "poe" and kind.poe_class is None:
            unknown.setdefault(kind.name, []).append(camera.name)
        feeder = feeder_of(plan, camera)
        has_poe = feeder is not None and camera.port and camera.port <= feeder.ports.poe_ports
        if kind.supply == "mains" and not camera.supply and has_poe and not camera.wireless:
            measured = f"{kind.name} is fed by the mains; {camera.behind or camera.switch}:{camera.port} has PoE ({camera.where})"
            yield finding(
                "PWR-16",
                f"camera {camera.name}",
                measured,
                "a port without PoE, or another supply",
                f"types.toml {kind.name}",
            )
    for name, cameras in unknown.items():
        some = f"{quantities.count(len(cameras), 'camera')} by PoE, counted as class {_kind(plan, name)}"
        yield finding("PWR-15", f"camera type {name}", f"no poe_class; {some}", "its PoE class", f"types.toml {name}")


def _kind(plan: Plan, name: str) -> int:
    return next(k.counted_class for k in plan.camera_types if k.name == name)


def of_ports(plan: Plan) -> Iterator[Finding]:
    natives = {port.place(): port.native for port in plan.ports}
    for port in plan.ports:
        if port.access is not None and port.tagged:
            measured = f"access {port.access} beside tagged {', '.join(port.tagged)}"
            yield finding(
                "ZON-8",
                f"port {port.at}",
                measured,
                "one of the two; native for what has no tag",
                f"site.toml port {port.at}",
            )
    for link in plan.links:
        a, b = (natives.get(end) for end in link.ends())
        if link.lit and a != b:
            measured = f"{a or 'none'} at {link.a}, {b or 'none'} at {link.b}"
            yield finding(
                "ZON-9",
                f"link {link.a} - {link.b}",
                measured,
                "one native VLAN at both ends",
                "site.toml [[ports]] native",
            )


def of_links(plan: Plan) -> Iterator[Finding]:
    for link in plan.links:
        subject, source = f"link {link.a} - {link.b}", "site.toml [[links]]"
        far, clause = reach_m(link.medium or "copper", link.rate_mbps)
        if link.medium is None and link.length_m > far:
            yield finding(
                "RUN-6",
                subject,
                f"{link.length_m:g} m, and no medium is said",
                f"{far:g} m, as copper carries it",
                source,
            )
        elif link.length_m > far:
            measured = f"{link.length_m:g} m of {link.medium} at {quantities.bitrate(link.rate_mbps * 1e6)}"
            yield finding("RUN-5", subject, measured, f"{far:g} m", clause)


def of_streams(plan: Plan) -> Iterator[Finding]:
    groups = {g.name: g for g in plan.groups}
    used = {c.group for c in plan.cameras}
    for viewer in plan.viewers:
        if plan.walls_of(viewer):
            continue  # they show what each camera has
        asked = [name for name in (viewer.groups or tuple(groups)) if name in used]
        lacking = [name for name in asked if getattr(groups[name], viewer.stream) is None]
        if lacking:
            measured = f"asks for the {viewer.stream} stream, which {_groups(lacking)} not"
            yield finding(
                "TRF-12",
                f"viewer {viewer.name}",
                measured,
                "a stream that its groups have",
                f"site.toml viewer {viewer.name}",
            )
    for recorder in plan.recorders:
        if not recorder.own_panels:
            continue
        own = {c.group for c in plan.cameras if c.recorder == recorder.name}
        lacking = [name for name in groups if name in own and getattr(groups[name], recorder.own_stream) is None]
        if lacking:
            measured = f"its screen shows the {recorder.own_stream} stream, which {_groups(lacking)} not"
            yield finding(
                "TRF-12", f"recorder {recorder.name}", measured, "a stream that its groups have", "site.toml own_stream"
            )
    for group in plan.groups:
        for name, stream in (("main", group.main), ("sub", group.sub), ("third", group.third)):
            if stream is not None:
                yield from _of_stream(f"group {group.name}, {name} stream", stream)


def _groups(names: list[str]) -> str:
    return f"group {names[0]} has" if len(names) == 1 else f"groups {', '.join(names)} have"


def _of_stream(subject: str, stream: StreamPlan) -> Iterator[Finding]:
    quiet = estimated_bitrate_bps(stream.codec, stream.resolution, stream.fps, "quiet")
    smart = stream.min_fps is not None or stream.max_keyframe_interval_s is not None
    least = quiet * (_SMART_BELOW if smart else _FAR_BELOW)
    if not stream.estimated and stream.bitrate_bps < least:
        what = f"{stream.codec}, {quantities.resolution(*stream.resolution)}, {stream.fps:g} frames/s"
        limit = f"some {quantities.bitrate(quiet)} where little moves"
        yield finding(
            "TYP-3", subject, f"{quantities.bitrate(stream.bitrate_bps)} for {what}", limit, "site.toml bitrate_kbps"
        )
    if stream.codec != "JPEG" and stream.keyframe_interval_s > _APART_S:
        measured = f"key frames {stream.keyframe_interval_s:g} s apart"
        yield finding("TYP-4", subject, measured, f"at most {_APART_S:g} s", "site.toml keyframe_interval_s")
