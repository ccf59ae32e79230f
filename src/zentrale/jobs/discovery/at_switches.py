"""What the switches know of devices that are looked for: at which port each is heard, and why one is not seen."""

from __future__ import annotations

import asyncio
from collections.abc import Collection, Iterable, Sequence
from dataclasses import dataclass

from zentrale.errors import InputError
from zentrale.jobs.discovery.missing import Why
from zentrale.jobs.known.planned import Planned, planned_devices
from zentrale.jobs.passwords.keyring import Keyring
from zentrale.jobs.switches.asking import PORT_POWER, Asked, ask_all, askable
from zentrale.jobs.switches.here import Here, by_tables
from zentrale.jobs.switches.kept import keep_heard
from zentrale.jobs.switches.places import Places, known_macs, places
from zentrale.logbook.evidence import Notes, note
from zentrale.planning.network import NetworkPlan, plan_network
from zentrale.protocols.mib.switch import SeenPort
from zentrale.site.model import Camera, Plan

BUDGET_S = 25.0  # of one switch: discovery does not wait for a slow one


@dataclass(frozen=True)
class AtSwitches:
    net: NetworkPlan
    asked: tuple[Asked, ...]
    places: Places
    here: tuple[Here, ...] = ()

    def whys(self, names: Iterable[str]) -> dict[str, Why]:
        """By the names of those that are not seen."""
        rows = planned_devices(self.net.plan)
        return {name: why for name in names if (why := self.why(rows[name])) is not None}

    def why(self, row: Planned) -> Why | None:
        """Why it is not seen, as its switch tells; None where that tells no reason."""
        planned = (
            [(row.switch, row.port)] if isinstance(row, Camera) else [(leg.switch, leg.port) for leg in row.legs()]
        )
        place, name = planned[0], row.name
        elsewhere = [p for p in self.places.of(name) if p not in planned]
        if elsewhere:
            switch, port = elsewhere[0]
            vlan = self._vlan(switch, port, row.mac or "")
            zone = self.net.plan.zone(row.zone)
            wrong = f", in VLAN {vlan} in place of {zone.vlan}" if vlan not in (None, 0, *self._vlans_of(row)) else ""
            return Why(
                f"it is plugged into {switch}:{port}{wrong}, not into {place[0]}:{place[1]}",
                f"plug it into {place[0]}:{place[1]}, or put {switch}:{port} into VLAN {zone.vlan} and into its row",
                explains_distance=True,
            )
        one = next((a for a in self.asked if a.name == place[0]), None)
        port_seen = one.seen.port(place[1]) if one is not None and one.seen is not None and place[1] else None
        return None if port_seen is None else self._of_port(row, place, port_seen)

    def _of_port(self, row: Planned, place: tuple[str, int], seen: SeenPort) -> Why | None:
        where, poe = f"{place[0]}:{place[1]}", seen.poe
        if not seen.enabled:
            return Why(
                f"its port {where} is switched off",
                f"switch {where} on in the page of {place[0]}",
                explains_distance=True,
            )
        if not seen.up:
            if poe is not None and not poe.enabled:
                advice = f"`zentrale network restart --port {where}` gives it power"
                return Why(f"the power of its port {where} is switched off", advice, explains_distance=True)
            if poe is not None and poe.denied and poe.state != "deliveringPower":
                advice = "`zentrale plan power`: feed it otherwise"
                return Why(f"{place[0]} refused power to its port {where}", advice, explains_distance=True)
            return Why(
                f"its port {where} has no link: nothing is plugged in there, or it is dark",
                f"look at the plug at {where}, then at the camera's end, then at the cable between",
                explains_distance=True,
            )  # fmt: skip
        if seen.pvid is not None and seen.pvid not in self._vlans_of(row):
            zone = self.net.plan.zone(row.zone)
            return Why(
                f"its port {where} is up, and in VLAN {seen.pvid} in place of {zone.vlan} ({zone.name})",
                f"set port {place[1]} as `zentrale network write --sheet {place[0]}` has it", explains_distance=True,
            )  # fmt: skip
        return None

    def _vlans_of(self, row: Planned) -> set[int]:
        zone = self.net.plan.zone(row.zone)
        return {zone.vlan} | ({self.net.vlan(zone.primary)} if zone.primary else set())

    def _vlan(self, switch: str, port: int, mac: str) -> int | None:
        one = next((a for a in self.asked if a.name == switch), None)
        seen = one.seen.port(port) if one is not None and one.seen is not None else None
        return None if seen is None else next((v for m, v in seen.macs or () if m == mac and v), seen.pvid)


async def look(
    plan: Plan | None, keyring: Keyring, adapters: Sequence[str], names: Collection[str] | None = None
) -> AtSwitches | None:
    """None where the plan names no switch that can be asked, or the vault has nothing for them. `names`: no others than these."""
    vault = keyring.vault
    if plan is None or vault is None or not vault.contents.snmp:
        return None
    try:
        switches = [s for s in askable(plan) if names is None or s.name in names]
    except InputError:
        return None
    if not switches:
        return None
    net = await asyncio.to_thread(plan_network, plan)
    asked = await ask_all(
        plan, switches, vault, lambda done, text: None, wanted=PORT_POWER, rates=False, budget_s=BUDGET_S
    )
    where = places(net, asked, known_macs(plan, keyring.logbook))
    return AtSwitches(net, tuple(asked), where, tuple(by_tables(net, asked, where, set(adapters))))


def keep(keyring: Keyring, run: int, found: AtSwitches) -> None:
    """Who was heard where, for matching now and for commands to come."""
    notes = Notes()
    for one in found.asked:
        if one.seen is not None and one.seen.addresses_told and one.key is not None:
            keep_heard(notes, one.name, f"SNMP{one.key.version}", found.places.of_switch(one.name))
    note(keyring.logbook, run, notes)
