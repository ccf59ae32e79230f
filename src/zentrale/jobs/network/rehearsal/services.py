"""Multicast as it comes to each device: groups for their members alone, as long as somebody asks for them; and who answers
twice.
"""

from __future__ import annotations

import socket
import struct
import subprocess
import time
from collections.abc import Iterator, Sequence, Set
from contextlib import ExitStack
from dataclasses import dataclass
from pathlib import Path

from zentrale.field.lab.probing import Wire, who_has
from zentrale.field.lab.stations import Leg
from zentrale.jobs.network.rehearsal.stage import Stage
from zentrale.jobs.network.standing import NO_MORE, Standing
from zentrale.output.network import names, querier
from zentrale.planning.multicast import StreamGroup
from zentrale.protocols import frames
from zentrale.site.model import INTERNET

_ASKED_WITHIN_S = 6.0  # a querier asks every second here, and members answer within one more; a loaded machine is later
_ANSWERED_WITHIN_S, _LOOK_S = 1.2, 0.2
_SENT, _TRIES = 20, 3  # datagrams a group; so often, where one that has joined gets none of them


@dataclass(frozen=True)
class GroupResult:
    """One group: who had joined and got it, who had not and got it all the same."""

    group: str
    sender: str
    joined: tuple[str, ...]
    got: tuple[str, ...]
    astray: tuple[str, ...]


@dataclass(frozen=True)
class MulticastResult:
    """`queried` are the zones in which a listener was asked for its groups; `forgotten`: who got nothing any more, once the
    switches had forgotten their members and had time to ask again.
    """

    groups: tuple[GroupResult, ...]
    queried: tuple[str, ...]
    not_queried: tuple[str, ...]
    forgotten: tuple[str, ...]


def forget_members(stage: Stage) -> None:
    """What switches do of themselves when nobody has asked for 260 s (RFC 2236 section 8.4). Raises LabError."""
    for name, switch in stage.switches.items():
        switch.tell("ovs-appctl", "mdb/flush", names.short(name))


@dataclass(frozen=True)
class Querier:
    """A written one as it runs, asking every second and not every 125 s."""

    file: str
    process: subprocess.Popen[bytes]
    log: Path

    def ended(self) -> str:
        """What it said when it ended, though it is to go on; empty while it does."""
        code = self.process.poll()
        return (
            "" if code is None else f"{self.log.read_text(errors='replace').strip()[-200:] or 'it'} (ended with {code})"
        )


def start_queriers(stage: Stage, standing: Standing) -> list[Querier]:
    """Raises LabError."""
    found = []
    for name, switch in stage.switches.items():
        file = f"{name}/{querier.FILE}"
        if file in standing.files and standing.files[file].state != NO_MORE:
            log = stage.folder / f"querier.{name}.out"
            found.append(Querier(file, switch.run(standing.path(file), log, EVERY="1"), log))
    return found


def try_groups(stage: Stage, wire: Wire) -> MulticastResult:
    """Listeners join every other group of theirs; then all senders send. After a while they send once more."""
    groups = [g for g in stage.net.multicast.groups if not stage.net.is_routed(g) and g.camera in stage.stations]
    joined = {(name, g.group) for i, g in enumerate(groups) if i % 2 == 0 for name in g.listeners}
    if len(groups) == 1:
        joined = {(name, groups[0].group) for name in groups[0].listeners}
    with ExitStack() as stack:
        for name, group in joined:
            leg = _listener_leg(stage, name)
            if leg is not None:
                stack.enter_context(member(stage, leg, group))
        listeners = {leg for name, _ in joined if (leg := _listener_leg(stage, name)) is not None}
        queried = _queried(wire, listeners)
        first = _send_all(stage, wire, groups, joined)
        again = {}
        if joined:
            forget_members(stage)
            _queried(wire, listeners)
            again = _send_all(stage, wire, [g for g in groups if any(group == g.group for _, group in joined)], joined)
    results = []
    for item in groups:
        members = tuple(n for n in item.listeners if (n, item.group) in joined)
        came = first.get(item.group, set())
        # In a private VLAN a planned listener is a member by rule, whether it has joined or not.
        mine = set(item.listeners if stage.net.is_private(item.zone) else members)
        astray = tuple(sorted(came - mine - set(members) - {item.camera}))
        results.append(GroupResult(item.group, item.camera, members, tuple(n for n in members if n in came), astray))
    forgotten = tuple(sorted({n for n, g in joined if n in first.get(g, set()) and n not in again.get(g, set())}))
    zones = {stage.net.plan.zone(stage.places[leg].party.zone).name for leg in queried}
    listening = [v for v in stage.net.plan.viewers if any(v.name == n for n, _ in joined)]
    wanted = {v.zone for v in listening if not stage.net.is_private(v.zone)}  # there nobody need ask
    return MulticastResult(tuple(results), tuple(sorted(zones & wanted)), tuple(sorted(wanted - zones)), forgotten)


def _listener_leg(stage: Stage, name: str) -> Leg | None:
    station = stage.stations.get(name)
    return station.legs[0] if station else None


def member(stage: Stage, leg: Leg, group: str) -> socket.socket:
    """A member of the group as long as it is open."""
    with stage.spaces[leg.station].inside():
        sock = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
        request = struct.pack("4s4s", socket.inet_aton(group), socket.inet_aton(leg.address))
        sock.setsockopt(socket.IPPROTO_IP, socket.IP_ADD_MEMBERSHIP, request)
    return sock


def _queried(wire: Wire, members: set[Leg]) -> set[Leg]:
    """Who is asked for its groups; once all members are, they have time to answer."""
    found: set[Leg] = set()
    wire.forget()
    end = time.monotonic() + _ASKED_WITHIN_S
    while (left := end - time.monotonic()) > 0:
        found |= {leg for leg, frame in wire.seen(min(left, _LOOK_S)) if frames.is_igmp_query(frame)}
        if members <= found:
            end = min(end, time.monotonic() + _ANSWERED_WITHIN_S)
    return found


def _send_all(
    stage: Stage, wire: Wire, groups: Sequence[StreamGroup], joined: Set[tuple[str, str]]
) -> dict[str, set[str]]:
    """By group the stations at whose port it arrived. `joined` are stations with their groups."""
    came: dict[str, set[str]] = {}
    wire.forget()
    left = list(groups)
    for _ in range(_TRIES):
        for group in left:
            _send(stage, group)
            for leg, frame in wire.seen(0.08):
                packet = frames.udp_of(frame)
                if packet is not None and packet[1][0].startswith("239."):
                    came.setdefault(packet[1][0], set()).add(leg.station)
        missing = {group for name, group in joined if name not in came.get(group, ())}
        left = [group for group in groups if group.group in missing]
    return came


def _send(stage: Stage, group: StreamGroup) -> None:
    station = stage.stations.get(_sender(stage, group))
    if station is None:
        return
    leg = next((x for x in station.legs if stage.places[x].party.zone == group.zone), station.legs[0])
    with stage.spaces[leg.station].inside(), socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as sock:
        sock.setsockopt(socket.IPPROTO_IP, socket.IP_MULTICAST_IF, socket.inet_aton(leg.address))
        sock.setsockopt(socket.IPPROTO_IP, socket.IP_MULTICAST_TTL, group.time_to_live)
        for _ in range(_SENT):
            sock.sendto(b"zentrale" * 20, (group.group, group.port))


def _sender(stage: Stage, group: StreamGroup) -> str:
    camera = stage.net.plan.camera(group.camera)
    return camera.recorder if group.relayed else stage.net.plan.device_of(camera).name


def who_answers_twice(stage: Stage, wire: Wire) -> Iterator[tuple[str, set[str]]]:
    """Addresses for which more than one MAC address answers, asked from a port that sees the whole zone."""
    plan = stage.net.plan
    asked: dict[str, list[str]] = {}
    for leg, place in stage.places.items():
        if place.party.zone != INTERNET:
            asked.setdefault(plan.zone(place.party.zone).family, []).append(leg.address)
    for family, addresses in asked.items():
        asker = next(
            (leg for leg, p in stage.places.items() if p.party.zone == family),
            next(
                leg
                for leg, p in stage.places.items()
                if p.party.zone != INTERNET and plan.zone(p.party.zone).family == family
            ),
        )
        for address, macs in who_has(wire, asker, [a for a in addresses if a != asker.address]).items():
            if len(macs) > 1:
                yield address, macs
