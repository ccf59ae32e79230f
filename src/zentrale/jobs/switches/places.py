"""Who is at which port: the addresses that all switches have learned, held against one another.

An address is heard at every port on the way to its device. Its place is the one port that leads to no other switch: not by the
plan's links, not by what neighbours say, not by another switch's own addresses there. Where two such ports have it, neither
is it.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from zentrale.jobs.known.planned import whole_devices
from zentrale.jobs.switches.asking import Asked
from zentrale.logbook.store import Logbook
from zentrale.planning.network import NetworkPlan
from zentrale.protocols.mib.switch import SeenPort
from zentrale.site.model import Camera, Plan, Recorder

Port = tuple[str, int]


@dataclass(frozen=True)
class Places:
    """by_mac: where each address is; at: addresses by port, without those of switches; links: ports that lead to a switch of the
    plan, with its name; owner: planned device by address.
    """

    by_mac: Mapping[str, Port]
    at: Mapping[Port, tuple[str, ...]]
    links: Mapping[Port, str]
    owner: Mapping[str, str]

    def of_switch(self, switch: str) -> dict[int, tuple[str, ...]]:
        """Addresses by port of one switch, without those of ports that lead on."""
        return {
            port: macs for (name, port), macs in self.at.items() if name == switch and (name, port) not in self.links
        }

    def of(self, name: str) -> list[Port]:
        """Where the addresses of a planned device are."""
        return list(dict.fromkeys(place for mac, place in self.by_mac.items() if self.owner.get(mac) == name))


def known_macs(plan: Plan, logbook: Logbook | None) -> dict[str, str]:
    """The planned device by each MAC address that is known of it: from its row, and from what it was registered as."""
    rows = whole_devices(plan)
    found = {row.mac: name for name, row in rows.items() if row.mac}
    for recorder in plan.recorders:
        found |= {leg.mac: recorder.name for leg in recorder.legs() if leg.mac}
    for known in logbook.known() if logbook is not None else ():
        row = rows.get(known.name)
        if row is not None and (not row.mac or row.mac in known.identity.macs):
            found |= {mac: known.name for mac in known.identity.macs if mac not in found}
    return found


def links_of(net: NetworkPlan, asked: Sequence[Asked]) -> dict[Port, str]:
    """Ports that lead to another switch of the plan, as planned, or as neighbours and addresses tell."""
    plan = net.plan
    found = {
        end: other[0]
        for link in plan.links if link.lit
        for end, other in (link.ends(), link.ends()[::-1])
    }  # fmt: skip
    by_mac = {mac: a.name for a in asked if a.seen for mac in a.seen.own_macs}
    by_host = {str(s.management.address): s.name for s in plan.switches if s.management is not None}
    names = {s.name: s.name for s in plan.switches} | {a.seen.name: a.name for a in asked if a.seen and a.seen.name}
    for one in asked:
        for port in one.seen.ports if one.seen else ():
            place = (one.name, port.port)
            if place in found and _agrees(port, found[place], by_mac, names):
                continue
            said = [
                names.get(n.heard.name) or by_mac.get(n.heard.chassis) or by_host.get(n.heard.chassis)
                for n in port.neighbours
            ]
            others = {by_mac[mac] for mac, _ in port.macs or () if mac in by_mac and by_mac[mac] != one.name}
            other = next((s for s in said if s), None) or (
                others.pop() if len(others) == 1 else "" if not others else "several"
            )
            if other:
                found[place] = other
    return found


def _agrees(port: SeenPort, planned: str, by_mac: Mapping[str, str], names: Mapping[str, str]) -> bool:
    said = [names.get(n.heard.name) or by_mac.get(n.heard.chassis) for n in port.neighbours]
    return not any(s is not None and s != planned for s in said) and (not port.neighbours or any(said))


def places(net: NetworkPlan, asked: Sequence[Asked], owner: Mapping[str, str]) -> Places:
    links = links_of(net, asked)
    switches = {mac for a in asked if a.seen for mac in a.seen.own_macs}
    at: dict[Port, tuple[str, ...]] = {}
    heard: dict[str, list[Port]] = {}
    for one in asked:
        for port in one.seen.ports if one.seen else ():
            macs = tuple(dict.fromkeys(mac for mac, _ in port.macs or () if mac and mac not in switches))
            at[one.name, port.port] = macs
            for mac in macs:
                if (one.name, port.port) not in links:
                    heard.setdefault(mac, []).append((one.name, port.port))
    alone = {mac: some[0] for mac, some in heard.items() if len(some) == 1}
    return Places(alone, at, links, dict(owner))


def silent_hosts(plan: Plan, logbook: Logbook | None) -> list[str]:
    """Addresses of planned devices, where they are planned and where they were last: they are spoken to before the tables are
    read, since who says nothing is forgotten after minutes.
    """
    rows: list[Camera | Recorder] = [*plan.networked_devices, *plan.recorders]
    last = [known.host for known in logbook.known()] if logbook is not None else []
    return list(dict.fromkeys(host for host in (*(row.host for row in rows), *last) if host and ":" not in host))
