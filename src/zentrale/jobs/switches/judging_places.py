"""Who is at which port, held against the plan: by addresses that the switches learned. Who was not heard is not judged."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import replace

from zentrale.findings import Finding, finding
from zentrale.jobs.known.planned import ref_of, whole_devices
from zentrale.jobs.switches.asking import Asked
from zentrale.jobs.switches.judging_ports import port_ref
from zentrale.jobs.switches.places import Places, Port
from zentrale.logbook.evidence import Judged
from zentrale.planning.network import NetworkPlan
from zentrale.site.model import Camera


def judge_places(
    net: NetworkPlan, asked: Sequence[Asked], places: Places, strangers: frozenset[str]
) -> Iterator[Judged]:
    """`strangers`: addresses of this machine, which are no finding wherever they are."""
    yield from _devices(net, asked, places)
    told = {one.name for one in asked if one.seen is not None and one.seen.addresses_told}
    for one in asked:
        if one.name not in told or one.seen is None:
            continue
        for port in one.seen.ports:
            row, place = net.ports.at(one.name, port.port), (one.name, port.port)
            if row.kind != "camera" or place in places.links:
                continue
            macs = [m for m in places.at.get(place, ()) if m not in strangers]
            yield Judged(
                port_ref(*place), frozenset({"SWI-2", "SWI-3"}), tuple(_at_camera_port(net, place, macs, places))
            )


def _devices(net: NetworkPlan, asked: Sequence[Asked], places: Places) -> Iterator[Judged]:
    readable = {one.name for one in asked if one.seen is not None and one.seen.addresses_told}
    for name, row in whole_devices(net.plan).items():
        if isinstance(row, Camera):
            if row.behind or not (row.switch and row.port):
                continue
            planned = {(row.switch, row.port)}
        else:
            planned = {(leg.switch, leg.port) for leg in row.legs()}
        seen = places.of(name)
        if not seen:
            continue
        other = [place for place in seen if place not in planned]
        if other and not {switch for switch, _ in planned} & readable and _many(other[0], places):
            continue  # behind that port may be the switch that was not read
        found = [_elsewhere(name, row_place, other[0], places, net) for row_place in sorted(planned)[:1] if other]
        yield Judged(ref_of(row), frozenset({"SWI-1"}), tuple(f for f in found if f is not None))


def _many(place: Port, places: Places) -> bool:
    return len({owner for mac in places.at.get(place, ()) if (owner := places.owner.get(mac))}) > 1


def _elsewhere(name: str, planned: Port, seen: Port, places: Places, net: NetworkPlan) -> Finding | None:
    ref = ref_of(whole_devices(net.plan)[name])
    here = [n for mac in places.at.get(planned, ()) if (n := places.owner.get(mac))]
    swapped = f"; {here[0]} is at {planned[0]}:{planned[1]}" if here and here[0] != name else ""
    row = net.ports.at(*seen)
    whose = f", which is {row.device}'s" if row.device else ", which is free in the plan"
    advice = f"plug it into {planned[0]}:{planned[1]}, or write switch {seen[0]} and port {seen[1]} into its row" + (
        f"; with {here[0]} it changed places" if swapped else ""
    )
    text = f"at port {seen[0]}:{seen[1]}{whose}{swapped}"
    return finding("SWI-1", ref, text, f"{planned[0]}:{planned[1]}", "cameras.csv, or site.toml of a recorder", advice)


def _at_camera_port(net: NetworkPlan, place: Port, macs: Sequence[str], places: Places) -> Iterator[Finding]:
    row, ref = net.ports.at(*place), port_ref(*place)
    unknown = [m for m in macs if m not in places.owner]
    known_of_it = any(owner == row.device for owner in places.owner.values())
    if len(macs) > 1:
        text = ", ".join(f"{m} ({places.owner.get(m, 'not planned')})" for m in macs[:4])
        more = f" and {len(macs) - 4} more" if len(macs) > 4 else ""
        yield finding("SWI-3", ref, f"{len(macs)} devices: {text}{more}", f"{row.device} alone", "cameras.csv")
    elif unknown and known_of_it:
        yield finding("SWI-2", ref, f"{unknown[0]}, which nobody planned", f"{row.device}", "cameras.csv")


def follow(findings: Iterable[Finding]) -> list[Finding]:
    """No link, or no power, at the port of a device that was seen at another follows from that; and no link where there is no
    power, from that: each is counted once.
    """
    some = list(findings)
    elsewhere = {f.limit: f.name for f in some if f.code == "SWI-1"}
    dark = {f.ref: f.name for f in some if f.code == "SWI-11"}

    def caused(item: Finding) -> Finding:
        ref = item.ref
        place = f"{ref.name}:{ref.part.removeprefix('port ')}" if ref is not None else ""
        if item.code in ("SWI-10", "SWI-11") and place in elsewhere:
            return replace(item, caused_by=elsewhere[place])
        return replace(item, caused_by=dark[ref]) if item.code == "SWI-10" and ref in dark else item

    return [caused(item) for item in some]
