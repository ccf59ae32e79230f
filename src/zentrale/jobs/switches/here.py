"""Where this laptop is plugged in: by what its neighbour says (LLDP), else by where the switches hear its own MAC address."""

from __future__ import annotations

import asyncio
from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from zentrale.errors import InputError
from zentrale.field import lldp_ear
from zentrale.field.adapters import Adapter, list_adapters, own_macs
from zentrale.jobs.switches.asking import PLACES, Asked, Progress, ask_all, askable
from zentrale.jobs.switches.kept import KIND
from zentrale.jobs.switches.places import Places, known_macs, places
from zentrale.logbook.evidence import latest
from zentrale.logbook.store import Logbook
from zentrale.logbook.vault import Vault
from zentrale.planning.network import NetworkPlan
from zentrale.protocols.lldp import Heard
from zentrale.site.model import Plan

LLDP, TABLES = "LLDP", "the switches' tables"


@dataclass(frozen=True)
class Here:
    """`switch` as the plan calls it, else as it calls itself; `port` None: only `port_name` is known; `vlan` of untagged
    frames, None: not told; `planned`: what the plan has at that port.
    """

    adapter: str
    switch: str
    port: int | None
    port_name: str
    vlan: int | None
    how: str
    in_plan: bool = True
    planned: str = ""


@dataclass(frozen=True)
class Whereabouts:
    """`why`: what kept each way from telling, where nothing is known."""

    here: tuple[Here, ...] = ()
    why: tuple[str, ...] = ()


async def whereabouts(
    net: NetworkPlan,
    vault: Vault | None,
    logbook: Logbook,
    adapters: Sequence[Adapter],
    wait_s: float,
    progress: Progress,
) -> Whereabouts:
    """Both ways at once; where the tables know it, LLDP is not waited for."""
    listening = asyncio.create_task(lldp_ear.hear(adapters, wait_s))
    try:
        asked, why = await _asked(net.plan, vault, progress)
        found = by_tables(net, asked, places(net, asked, known_macs(net.plan, logbook)), names_of(adapters))
        if found and not listening.done():
            return Whereabouts(tuple(found))
        progress(0, "waiting for a neighbour to speak (LLDP, every 30 s)")
        heard, no_lldp = await listening
    finally:
        listening.cancel()
    told = [by_lldp(net, logbook, adapter, one) for adapter, one in heard]
    if told or found:
        return Whereabouts(tuple(told or found))
    unread = [a.name for a in asked if a.seen is None]
    if not why and unread:
        why = f"not read: {', '.join(unread)}"
    why = why or "no switch that was read has learned this machine's MAC address"
    return Whereabouts((), (f"LLDP: {no_lldp}", f"{TABLES}: {why}"))


async def _asked(plan: Plan, vault: Vault | None, progress: Progress) -> tuple[list[Asked], str]:
    try:
        switches = askable(plan)
    except InputError:
        return [], "the plan does not say how switches are asked"
    if vault is None:
        return [], "there is no vault with what opens them"
    return await ask_all(plan, switches, vault, progress, wanted=PLACES, rates=False), ""


def names_of(adapters: Collection[Adapter]) -> set[str]:
    """Adapters whose MAC address counts: those chosen, or all where that is loopback alone."""
    chosen = {a.name for a in adapters if not a.loopback}
    return chosen or {a.name for a in list_adapters()}


def by_tables(net: NetworkPlan, asked: Sequence[Asked], where: Places, adapters: Collection[str]) -> list[Here]:
    found = []
    for mac, adapter in own_macs().items():
        place = where.by_mac.get(mac)
        if place is None or adapter not in adapters:
            continue
        one = next(a for a in asked if a.name == place[0])
        port = one.seen.port(place[1]) if one.seen else None
        if port is None:
            continue
        vlan = next((v for m, v in port.macs or () if m == mac and v), port.pvid)
        planned = net.ports.at(*place).device
        found.append(Here(adapter, place[0], place[1], port.name, vlan, TABLES, planned=planned))
    return found


def by_lldp(net: NetworkPlan, logbook: Logbook, adapter: str, heard: Heard) -> Here:
    """The neighbour's own words; its port becomes a number only where a check has seen which port has that name."""
    plan = net.plan
    by_host = {str(s.management.address): s.name for s in plan.switches if s.management is not None}
    names = {s.name for s in plan.switches}
    switch = heard.name if heard.name in names else by_host.get(heard.address) or by_host.get(heard.chassis, "")
    seen = {o.ref.name: o.content for o in latest(logbook, KIND).values()}
    switch = switch or next((n for n, content in seen.items() if content.get("bridge_mac") == heard.chassis), "")
    port = _port_of(seen.get(switch, {}), {heard.port, heard.port_text} - {""})
    planned = net.ports.at(switch, port).device if switch and port is not None else ""
    return Here(
        adapter, switch or heard.name or heard.chassis, port, _port_name(heard), heard.vlan or None, LLDP,
        bool(switch), planned,
    )  # fmt: skip


def _port_name(heard: Heard) -> str:
    """As it calls the port; a MAC address tells nobody which plug it is, so what is said beside it does."""
    is_mac = heard.port.count(":") == 5
    if is_mac or not heard.port:
        return heard.port_text or heard.port
    more = heard.port_text if heard.port_text != heard.port else ""
    return f"{heard.port}, {more}" if more else heard.port


def _port_of(content: Mapping[str, Any], names: Collection[str]) -> int | None:
    """The one port that was seen with one of these names; a name that several have tells none."""
    found = [int(p["port"]) for p in content.get("ports", ()) if p.get("name") in names]
    return found[0] if len(found) == 1 else None
