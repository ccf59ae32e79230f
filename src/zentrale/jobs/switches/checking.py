"""`network check`: all switches read side by side, held against the plan and against one another, and written down."""

from __future__ import annotations

import asyncio
import logging
import socket
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from zentrale.field import lldp_ear
from zentrale.field.adapters import list_adapters, own_macs
from zentrale.field.sweep import sweep
from zentrale.findings import Finding
from zentrale.jobs.switches.asking import Asked, Progress, ask_all, named
from zentrale.jobs.switches.here import Here, by_lldp, by_tables
from zentrale.jobs.switches.judging_places import follow, judge_places
from zentrale.jobs.switches.judging_ports import judge_ports
from zentrale.jobs.switches.judging_whole import judge_switch, judge_trees
from zentrale.jobs.switches.kept import KIND, keep_heard
from zentrale.jobs.switches.places import Places, known_macs, places, silent_hosts
from zentrale.logbook.evidence import Judged, Notes, note
from zentrale.logbook.store import Logbook
from zentrale.logbook.vault import Vault
from zentrale.planning.daylight import is_day
from zentrale.planning.network import NetworkPlan
from zentrale.planning.power import plan_power
from zentrale.protocols.lldp import Heard
from zentrale.protocols.mib.switch import SeenPort
from zentrale.quantities import at_site, now
from zentrale.site.part import Mode
from zentrale.subjects import Kind, Ref

log = logging.getLogger(__name__)
COMMAND = "network check"
THIS_LAPTOP = "this laptop"


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
    here: tuple[Here, ...] = ()


async def check(net: NetworkPlan, vault: Vault | None, logbook: Logbook, request: Request, progress: Progress) -> Check:
    """Raises InputError where no switch says how it is asked."""
    plan = net.plan
    switches = named(plan, request.names)
    scope = {"switches": [s.name for s in switches]}
    with logbook.running(COMMAND, socket.gethostname(), scope) as run:
        listening = asyncio.create_task(lldp_ear.hear(list_adapters(), lldp_ear.INTERVAL_S))
        spoken = asyncio.create_task(speak_to(net, logbook))
        asked = await ask_all(plan, switches, vault, progress, guess=request.guess, spoken=spoken)
        owner = known_macs(plan, logbook)
        where = places(net, asked, owner)
        here = await _here(net, logbook, listening, asked, where)
        judged = judge(net, asked, where, request.mode)
        light = request.mode.value if request.mode else "day" if is_day(plan.site.origin, at_site(now())) else "night"
        notes = Notes(judged=list(judged))
        for one in asked:
            keep_one(notes, one, where, light)
        await asyncio.to_thread(note, logbook, run, notes)
    names = {s.name for s in switches}
    left = tuple(s.name for s in plan.switches if s.name not in names) if not request.names else ()
    return Check(tuple(asked), where, tuple(follow(f for j in judged for f in j.findings)), left, here)


def keep_one(notes: Notes, one: Asked, where: Places, light: str) -> None:
    """What was seen of a switch, and who was heard at its ports; nothing of one that did not answer."""
    if one.seen is None or one.key is None:
        return
    method = f"SNMP{one.key.version}"
    notes.observe(KIND, Ref(Kind.SWITCH, one.name), method, {**observed(one, where), "light": light})
    if one.seen.addresses_told:
        keep_heard(notes, one.name, method, where.of_switch(one.name))


async def _here(
    net: NetworkPlan, logbook: Logbook, listening: asyncio.Task[tuple[list[tuple[str, Heard]], str]], asked: Sequence[Asked],
    where: Places,
) -> tuple[Here, ...]:  # fmt: skip
    """Where this laptop is, as far as it is known by now: nothing is waited for."""
    if listening.done():
        heard, _ = listening.result()
        if heard:
            return tuple(by_lldp(net, logbook, adapter, one) for adapter, one in heard)
    listening.cancel()
    return tuple(by_tables(net, asked, where, {a.name for a in list_adapters()}))


async def speak_to(net: NetworkPlan, logbook: Logbook | None = None) -> None:
    """A switch forgets the address of who says nothing for minutes: one connection is tried to each, so that it answers. What
    this machine does not let be tried ends nothing else.
    """
    try:
        await sweep(silent_hosts(net.plan, logbook), net.plan.policy.sweep_ports[:2], lambda host: None)
    except OSError as error:
        log.warning("silent devices were not made to speak: %s", error)


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
    return judged


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
        "tree": None if seen.tree is None else {
            "root_mac": seen.tree.root[1], "root_priority": seen.tree.root[0], "is_root": seen.tree.is_root,
            "changes": seen.tree.changes,
            "blocked_ports": [p.port for p in seen.ports if p.tree_state == "blocking"],
        },
        "not_told": list(seen.not_told),
    }  # fmt: skip


def _port(switch: str, port: SeenPort, where: Places) -> Mapping[str, Any]:
    macs = None if port.macs is None else sorted({mac for mac, _ in port.macs})
    owners = [o for mac in where.at.get((switch, port.port), ()) if (o := where.owner.get(mac))]
    link = where.links.get((switch, port.port))
    poe = port.poe
    return {
        "port": port.port, "name": port.name, "up": port.up, "rate_mbps": port.rate_mbps, "duplex": port.duplex or None,
        "pvid": port.pvid, "vlans": None if port.vlans is None else list(port.vlans), "macs": macs,
        "device": link or _who(owners, macs), "link": link is not None,
        "neighbours": [{"name": n.heard.name, "chassis": n.heard.chassis, "port": n.heard.port} for n in port.neighbours],
        "poe": None if poe is None else {
            "state": poe.state, "enabled": poe.enabled, "class": poe.poe_class, "priority": poe.priority or None,
            "asked_w": poe.asked_w, "allotted_w": poe.allotted_w, "power_w": _rounded(poe.power_w),
        },
        "errors_per_min": None if port.errors is None else round(port.errors.errors, 1),
        "discards_per_min": None if port.errors is None else round(port.errors.out_discards, 1),
    }  # fmt: skip


def _who(owners: Sequence[str], macs: Sequence[str] | None) -> str | None:
    """The planned device at a port, where it is one; or this laptop, which is nobody's fault there."""
    if macs and set(macs) <= set(own_macs()):
        return THIS_LAPTOP
    return owners[0] if len(set(owners)) == 1 else None


def _rounded(watts: float | None) -> float | None:
    return None if watts is None else round(watts, 2)
