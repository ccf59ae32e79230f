"""`network check`: all switches read side by side, held against the plan and against one another, and written down."""

from __future__ import annotations

import asyncio
import socket
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any

from zentrale.field.adapters import own_macs
from zentrale.field.sweep import sweep
from zentrale.findings import Finding
from zentrale.jobs.switches.asking import Asked, Progress, ask_all, named
from zentrale.jobs.switches.judging_places import judge_places
from zentrale.jobs.switches.judging_ports import judge_ports
from zentrale.jobs.switches.judging_whole import judge_switch, judge_trees
from zentrale.jobs.switches.places import Places, known_macs, places, silent_hosts
from zentrale.logbook.evidence import Judged, Notes, note
from zentrale.logbook.store import Logbook
from zentrale.logbook.vault import Vault
from zentrale.planning.network import NetworkPlan
from zentrale.planning.power import plan_power
from zentrale.site.part import Mode
from zentrale.subjects import Kind, Ref

COMMAND = "network check"
KIND = "switch"  # of observations


@dataclass(frozen=True)
class Request:
    """`names`: of switches, empty: all; `mode`: in which the site is now, None: any."""

    names: tuple[str, ...] = ()
    guess: bool = True
    mode: Mode | None = None


@dataclass(frozen=True)
class Check:
    asked: tuple[Asked, ...]
    places: Places
    findings: tuple[Finding, ...]
    not_asked: tuple[str, ...] = ()


async def check(net: NetworkPlan, vault: Vault | None, logbook: Logbook, request: Request, progress: Progress) -> Check:
    """Raises InputError where no switch says how it is asked."""
    plan = net.plan
    switches = named(plan, request.names)
    scope = {"switches": [s.name for s in switches]}
    with logbook.running(COMMAND, socket.gethostname(), scope) as run:
        progress(0, "speaking to devices that may be silent")
        await speak_to(net)
        asked = await ask_all(plan, switches, vault, progress, guess=request.guess)
        owner = known_macs(plan, logbook)
        where = places(net, asked, owner)
        judged = judge(net, asked, where, request.mode)
        notes = Notes(judged=list(judged))
        for one in asked:
            if one.seen is not None and one.key is not None:
                notes.observe(KIND, Ref(Kind.SWITCH, one.name), f"SNMP{one.key.version}", observed(one, where))
        await asyncio.to_thread(note, logbook, run, notes)
    names = {s.name for s in switches}
    left = tuple(s.name for s in plan.switches if s.name not in names) if not request.names else ()
    return Check(tuple(asked), where, tuple(f for j in judged for f in j.findings), left)


async def speak_to(net: NetworkPlan) -> None:
    """A switch forgets the address of who says nothing for minutes: one connection is tried to each, so that it answers."""
    await sweep(silent_hosts(net.plan), net.plan.policy.sweep_ports[:2], lambda host: None)


def judge(net: NetworkPlan, asked: Sequence[Asked], where: Places, mode: Mode | None) -> list[Judged]:
    """Pure: what is said of what was read. Nothing is said of the ports of a switch that was not."""
    draws = {(f.name, p.port): p.draw_w for f in plan_power(net.plan).switches for p in f.ports if p.known}
    judged: list[Judged] = []
    for one in asked:
        judged += judge_switch(net, one)
        if one.seen is not None:
            judged += judge_ports(net, one, where, draws, mode)
    judged += judge_places(net, asked, where, frozenset(own_macs()))
    judged += judge_trees(net, asked)
    return follow(judged)


def follow(judged: Sequence[Judged]) -> list[Judged]:
    """No link at the port of a device that was seen at another follows from that, and is counted once."""
    elsewhere = {f.limit: f.name for j in judged for f in j.findings if f.code == "SWI-1"}

    def caused(item: Finding) -> Finding:
        ref = item.ref
        place = f"{ref.name}:{ref.part.removeprefix('port ')}" if ref is not None else ""
        return (
            replace(item, caused_by=elsewhere[place])
            if item.code in ("SWI-10", "SWI-11") and place in elsewhere
            else item
        )

    return [replace(j, findings=tuple(caused(f) for f in j.findings)) for j in judged]


def observed(one: Asked, where: Places) -> dict[str, Any]:
    """As the logbook keeps it, and JSON shows it."""
    seen = one.seen
    if seen is None:
        return {
            "switch": one.name,
            "answers": False,
            "ports": [],
            "power": None,
            "not_told": [],
            "problem": one.problem,
        }
    return {
        "switch": one.name, "answers": True, "description": seen.description, "firmware": seen.firmware or None,
        "bridge_mac": seen.bridge_mac,
        "ports": [_port(one.name, port, where) for port in seen.ports],
        "power": {"budget_w": seen.supply.budget_w, "used_w": round(seen.supply.used_w, 1)} if seen.supply else None,
        "not_told": list(seen.not_told),
    }  # fmt: skip


def _port(switch: str, port: Any, where: Places) -> Mapping[str, Any]:
    macs = None if port.macs is None else sorted({mac for mac, _ in port.macs})
    owners = [o for mac in where.at.get((switch, port.port), ()) if (o := where.owner.get(mac))]
    link = where.links.get((switch, port.port))
    poe = port.poe
    return {
        "port": port.port, "name": port.name, "up": port.up, "rate_mbps": port.rate_mbps, "duplex": port.duplex or None,
        "pvid": port.pvid, "vlans": None if port.vlans is None else list(port.vlans), "macs": macs,
        "device": link or (owners[0] if len(set(owners)) == 1 else None), "link": link is not None,
        "neighbours": [{"name": n.heard.name, "chassis": n.heard.chassis, "port": n.heard.port} for n in port.neighbours],
        "poe": None if poe is None else {
            "state": poe.state, "enabled": poe.enabled, "class": poe.poe_class, "priority": poe.priority or None,
            "asked_w": poe.asked_w, "allotted_w": poe.allotted_w, "power_w": _rounded(poe.power_w),
        },
        "errors_per_min": None if port.errors is None else round(port.errors.errors, 1),
    }  # fmt: skip


def _rounded(watts: float | None) -> float | None:
    return None if watts is None else round(watts, 2)
