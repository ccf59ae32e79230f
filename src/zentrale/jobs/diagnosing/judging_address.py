"""Does it answer where it should, and which of its ports are open. Pure."""

from __future__ import annotations

import ipaddress
from collections.abc import Iterator, Sequence

from zentrale import quantities
from zentrale.field.knocking import Knocked
from zentrale.jobs.diagnosing.climbing import Climb
from zentrale.jobs.diagnosing.diagnosis import Blame, Judged, breaks, holds, not_known
from zentrale.jobs.diagnosing.ground import DEFAULT, Ground, places, service_ports
from zentrale.jobs.diagnosing.judging_device import NOT_REACHED
from zentrale.jobs.diagnosing.judging_reach import Reach, port_of
from zentrale.jobs.discovery.missing import add_address_command
from zentrale.jobs.known.found_devices import FoundDevice
from zentrale.jobs.known.layer import Layer
from zentrale.jobs.known.planned import Planned
from zentrale.site.model import Plan


def judge_address(
    plan: Plan, row: Planned, seen: FoundDevice | None, at: Reach, ground: Ground, climb: Climb | None = None
) -> Judged:
    two = _two_at(row, at, ground)
    if two:
        causes = [
            ("two devices have one address", two),
            ("a DHCP server gives it away beside the fixed one", "both answer, so both are on this network"),
        ]
        return breaks(
            Layer.ADDRESS, "DGN-7", Blame.NETWORK, f"two devices answer at {at.host}", two, causes,
            f"unplug one of the two and look who is left: `zentrale discover {row.name}`; give the other its own address",
        )  # fmt: skip
    if at.place is None:
        return _nowhere(plan, row, seen, ground)
    if not row.host:
        return holds(Layer.ADDRESS, f"answers at {at.host}; none is planned")
    if at.place.why == DEFAULT:
        causes = [
            ("it was reset, or is fresh from the box", f"{at.host} is the default address of {plan.maker(row)}"),
            ("it is another new device of that maker", "nothing but its address was looked at"),
        ]
        return breaks(
            Layer.ADDRESS, "DGN-6", Blame.CAMERA, f"it is at its maker's default address {at.host}, not at {row.host}",
            f"{row.host}: {_at(ground, row.host)}; {at.host} answers", causes,
            f"`zentrale discover {row.name}`, then `zentrale register {row.name}`: that gives it its address again",
        )  # fmt: skip
    if at.host != row.host:
        causes = [
            ("its address was changed, or DHCP gave it another", f"{at.host}: {at.place.why}"),
            ("it was never given the planned one", f"{row.host}: {_at(ground, row.host)}"),
        ]
        return breaks(
            Layer.ADDRESS, "DGN-5", Blame.CAMERA, f"it answers at {at.host}, not at {row.host} where it is planned",
            f"{at.host} answers ({at.place.why}); {row.host}: {_at(ground, row.host)}", causes,
            f"`zentrale discover {row.name}`, then `zentrale register {row.name}`: that gives it its planned address",
        )  # fmt: skip
    told = climb.entry.other if climb is not None and climb.entry is not None else ""
    if not at.ours or told:
        return _other_device(row, seen, at, ground, told)
    return holds(Layer.ADDRESS, f"answers at {at.host}, where it is planned")


def _two_at(row: Planned, at: Reach, ground: Ground) -> str:
    """How it is known that two devices are at one address; empty where they are not."""
    host = at.host or row.host
    macs, told = ground.macs.get(host, ()), ground.endpoints.get(host, frozenset())
    if len(macs) > 1:
        return f"{', '.join(macs)} both answer ARP"
    if len(told) > 1 and not getattr(row, "source", None):
        return f"{len(told)} devices answered the probe from {host}, each with an endpoint of its own"
    return ""


def _other_device(row: Planned, seen: FoundDevice | None, at: Reach, ground: Ground, told: str) -> Judged:
    macs = ", ".join(ground.macs.get(at.host, ()))
    own = row.mac or (", ".join(sorted(seen.identity.macs)) if seen is not None else "")
    by_mac = f"{macs} answers at {at.host}; {row.name} is {own}" if macs and own else ""
    said = told or by_mac or f"another endpoint answers at {at.host}"
    causes = [
        ("another device has its address", said),
        ("it was replaced, and nobody said so", "its row still names the old one"),
    ]
    return breaks(
        Layer.ADDRESS, "DGN-8", Blame.PLAN, f"another device is at {at.host}", said, causes,
        f"if it was put in its place: `zentrale replace {row.name} --with {at.host}`; else give that device another address",
    )  # fmt: skip


def _nowhere(plan: Plan, row: Planned, seen: FoundDevice | None, ground: Ground) -> Judged:
    known = [p for p in places(plan, row, seen) if p.why != DEFAULT]
    asked = "; ".join(f"{p.host} ({p.why}): {_at(ground, p.host)}" for p in known) or "no address is known"
    zone = next(z for z in plan.zones if z.name == row.zone)
    network, adapters = zone.network, ground.adapters
    tried = [k for p in known for k in ground.at(p.host)]
    if tried and all(k.outcome is Knocked.NOT_TRIED for k in tried):
        return breaks(
            Layer.ADDRESS, "DGN-9", Blame.MACHINE, f"this machine could not ask: {tried[0].why}", asked,
            [("a limit or a filter of this machine", tried[0].why)], "look at this machine's own firewall and adapters",
        )  # fmt: skip
    outside = bool(adapters) and not any(network.overlaps(a.network) for a in adapters)
    if outside and not any(ground.answers(h) for h, _ in ground.knocks if _inside(h, network)):
        free = next(iter(a for a in adapters if not a.loopback), adapters[0])
        last = str(network.broadcast_address - 1)
        return breaks(
            Layer.ADDRESS, "DGN-9", Blame.MACHINE, f"this machine has no address in zone {row.zone} ({network})", asked,
            [
                ("this machine is not in that network", f"it has {', '.join(map(str, adapters))}, and no router led there"),
                ("nothing of that zone has power", "nothing else of it answers either"),
            ],
            f"give this machine a free address of {network}: `{add_address_command(free.name, last, network)}`",
        )  # fmt: skip
    others = _others_at(plan, row, ground)
    causes = [*_of_neighbours(row, others), ("it is off, unplugged or dead", asked)]
    causes += [("it has an address that nobody knows", "only its known addresses were asked")]
    do = f"look at {port_of(row)}: link light and PoE; then `zentrale discover {row.name}`"
    return breaks(
        Layer.ADDRESS, "DGN-10", Blame.NETWORK, "nothing answers where it is planned, was last seen, or by default", asked,
        causes, do,
    )  # fmt: skip


def _others_at(plan: Plan, row: Planned, ground: Ground) -> tuple[int, int]:
    """How many others at its switch answer, and how many were asked."""
    asked = [c for c in plan.networked_devices if c.switch == row.switch and c.switch and c.name != row.name and c.host]
    some = [c for c in asked if ground.at(c.host)]
    return sum(ground.answers(c.host) for c in some), len(some)


def _of_neighbours(row: Planned, others: tuple[int, int]) -> Iterator[tuple[str, str]]:
    answering, asked = others
    if asked and not answering:
        yield f"switch {row.switch}: its uplink or its supply", f"none of the {asked} others at it answers either"
    elif answering:
        yield (
            f"its own port, cable or plug ({port_of(row)})",
            f"{answering} of {quantities.count(asked, 'other')} at {row.switch} answer{'s' if answering == 1 else ''}",
        )


def _inside(host: str, network: ipaddress.IPv4Network) -> bool:
    return ipaddress.ip_address(host) in network


def _at(ground: Ground, host: str) -> str:
    knocks = ground.at(host)
    if not knocks:
        return "not asked"
    outcomes = {k.outcome for k in knocks}
    if len(outcomes) == 1:
        return {Knocked.NOBODY: "no such host on the link"}.get(
            knocks[0].outcome, f"{knocks[0].outcome.value} at all ports"
        )
    return ", ".join(map(str, sorted(knocks, key=lambda k: k.port)))


def judge_ports(row: Planned, seen: FoundDevice | None, at: Reach, ground: Ground, *, onvif: bool) -> Judged:
    """`onvif`: it is to have a web service."""
    if at.place is None:
        return not_known(Layer.PORT, NOT_REACHED)
    host, (web, streams) = at.host, service_ports(row, seen)
    told = ", ".join(f"{n} {_outcome(ground, host, p, at)}" for n, p in (("ONVIF", web), ("RTSP", streams)) if p)
    web_shut, stream_shut = onvif and at.web is None, bool(streams) and at.stream is None
    if not web_shut and not stream_shut:
        return holds(Layer.PORT, told)
    tried = [*(web if web_shut else ()), *(streams if stream_shut else ())]
    silent = any(k.outcome is Knocked.SILENT for p in tried if (k := ground.knocks.get((host, p))) is not None)
    word, who = ("silent", Blame.NETWORK) if silent else ("refused", Blame.CAMERA)
    filtered = ("a filter on the way drops that port", "it is there, and does not even refuse at that port")
    moved = ("its port was changed in its own page", f"tried: {', '.join(map(str, tried))}")
    opened = at.web or at.stream
    if opened is None:
        shut = " and ".join(n for n, is_shut in (("ONVIF", web_shut), ("RTSP", stream_shut)) if is_shut)
        causes = [("it is starting, or its services have stopped", "it is there, and no port is open"), moved]
        return breaks(
            Layer.PORT, "DGN-13", who, f"it is there, and none of its ports is open ({shut} {word})", told,
            [filtered, *causes] if silent else causes,
            f"wait a minute; then take its power away and give it back: `zentrale network restart {row.name}`",
        )  # fmt: skip
    shut, other, code = ("RTSP", "ONVIF", "DGN-11") if stream_shut else ("ONVIF", "RTSP", "DGN-12")
    causes = [(f"its {shut} service is off or has crashed", f"{other} answers at {opened.port}, so it runs"), moved]
    page = f"turn {shut} on in its own page at http://{host}" if stream_shut else "turn ONVIF on in its own page"
    return breaks(
        Layer.PORT, code, who, f"{shut} {word}; {other} answers", told, [filtered, *causes] if silent else causes,
        f"restart it (`zentrale restart {row.name}`); then {page}"
        if stream_shut
        else f"{page}; if there is none, take its power away and give it back",
    )  # fmt: skip


def _outcome(ground: Ground, host: str, ports: Sequence[int], at: Reach) -> str:
    opened = next((k for k in (at.web, at.stream) if k is not None and k.port in ports), None)
    if opened is not None:
        return f"{opened.port} open"
    return ", ".join(str(ground.knocks[host, p]) for p in ports if (host, p) in ground.knocks) or "not asked"
