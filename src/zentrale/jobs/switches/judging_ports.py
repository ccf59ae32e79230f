"""What the switches tell of their ports, held against the plan: link, rate, duplex, VLANs, errors, PoE. Only what was told is
judged.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping

from zentrale import quantities
from zentrale.findings import Finding, finding
from zentrale.jobs.switches.asking import Asked
from zentrale.jobs.switches.places import Places
from zentrale.logbook.evidence import Judged
from zentrale.planning.network import NetworkPlan
from zentrale.planning.ports import PortRow
from zentrale.protocols.mib.power import PoePort
from zentrale.protocols.mib.switch import SeenPort
from zentrale.site.part import MODES, Mode
from zentrale.subjects import Kind, Ref

_FIRST_TO_STAY = {"critical": 0, "high": 1, "low": 2}
_SLACK = 1.02  # a sensor's last digit


def port_ref(switch: str, port: int) -> Ref:
    return Ref(Kind.SWITCH, switch, f"port {port}")


def judge_ports(
    net: NetworkPlan,
    one: Asked,
    places: Places,
    modes: Mapping[tuple[str, int], Mapping[Mode, float]],
    mode: Mode | None,
) -> Iterator[Judged]:
    """Each port that the plan has something to say of, and that the switch told."""
    assert one.seen is not None
    for seen in one.seen.ports:
        row = net.ports.at(one.name, seen.port)
        ref = port_ref(one.name, seen.port)
        codes, found = set[str](), list[Finding]()
        for code, some in (
            *_link(net, ref, row, seen), *_vlans(net, ref, row, seen, places), *_errors(ref, row, seen),
            *_poe(net, ref, row, seen, one, modes.get((one.name, seen.port), {}), mode),
        ):  # fmt: skip
            codes |= set(code)
            found += some
        if codes:
            yield Judged(ref, frozenset(codes), tuple(found))


_Some = Iterator[tuple[tuple[str, ...], list[Finding]]]


def _what(row: PortRow) -> str:
    return f"for {row.device}" if row.device else "free in the plan"


def _source(row: PortRow) -> str:
    return f"the plan's port {row.switch}:{row.port}"


def _link(net: NetworkPlan, ref: Ref, row: PortRow, seen: SeenPort) -> _Some:
    if row.kind == "free" or row.mode == "off":
        return
    if not seen.up:
        text = "the switch has it off" if not seen.enabled else "nothing answers"
        item = finding("SWI-10", ref, f"{text}; it is {_what(row)}", "a link", _source(row), _where_to_look(row, seen))
        yield ("SWI-10",), [item]
        return
    yield ("SWI-10",), []
    if seen.duplex:
        half = seen.duplex == "half"
        yield (
            ("SWI-7",),
            [finding("SWI-7", ref, f"{_rate(seen.rate_mbps or 0)} half; {_what(row)}", "full duplex", _source(row))]
            if half
            else [],
        )
    if seen.rate_mbps is not None:
        low = seen.rate_mbps < row.rate_mbps
        text = f"{_rate(seen.rate_mbps)}; {_what(row)}"
        yield ("SWI-8",), [finding("SWI-8", ref, text, _rate(row.rate_mbps), _source(row))] if low else []


def _sheet(row: PortRow) -> str:
    return f"set port {row.port} as `zentrale network write --sheet {row.switch}` has it"


def _rate(mbps: int) -> str:
    return f"{mbps / 1000:g} Gbit/s" if mbps >= 1000 else f"{mbps} Mbit/s"


def _where_to_look(row: PortRow, seen: SeenPort) -> str:
    if not seen.enabled:
        return f"switch the port on in the page of {row.switch}; if somebody meant it so, ask"
    if seen.poe is not None and seen.poe.enabled and seen.poe.state == "deliveringPower":
        return f"it takes power, so its cable is through: wait for {row.device or 'it'} to start, or change its plug"
    if row.poe:
        return f"look at the plug at {row.switch}:{row.port} and at {row.device}, then at the cable between; is it mounted yet?"
    return f"look at both ends of the cable of {row.switch}:{row.port}, and at the power of {row.device}"


def _vlans(net: NetworkPlan, ref: Ref, row: PortRow, seen: SeenPort, places: Places) -> _Some:
    if row.mode == "access" and seen.pvid is not None:
        zone = net.plan.zone(row.access)
        allowed = {zone.vlan} | ({net.vlan(zone.primary)} if zone.primary else set())
        wrong = seen.pvid not in allowed
        text = f"VLAN {seen.pvid}{_called(net, seen.pvid)}; {_what(row)}"
        yield (
            ("SWI-4",),
            [finding("SWI-4", ref, text, f"VLAN {zone.vlan} ({zone.name})", _source(row), _sheet(row))]
            if wrong
            else [],
        )
    if row.mode == "trunk" and seen.vlans is not None and row.kind == "link":
        wanted = {net.vlan(zone) for zone in row.zones}
        known = {zone.vlan for zone in net.plan.zones}
        missing, extra = sorted(wanted - set(seen.vlans)), sorted((set(seen.vlans) & known) - wanted)
        text = ", ".join(f"VLAN {v}{_called(net, v)}" for v in missing)
        items = [finding("SWI-5", ref, f"without {text}; link to {row.device}", "every VLAN of the link", _source(row))]
        yield ("SWI-5",), items if missing else []
        text = ", ".join(f"VLAN {v}{_called(net, v)}" for v in extra)
        items = [finding("SWI-6", ref, f"{text} too; link to {row.device}", "only what the link carries", _source(row))]
        yield ("SWI-6",), items if extra else []


def _called(net: NetworkPlan, vlan: int) -> str:
    name = next((z.name for z in net.plan.zones if z.vlan == vlan), "")
    return f" ({name})" if name else ""


def _errors(ref: Ref, row: PortRow, seen: SeenPort) -> _Some:
    if seen.errors is None or not seen.up:
        return
    e = seen.errors
    said = []
    if e.in_errors:
        said.append(f"{e.in_errors:.0f} spoilt frames a minute come in from {row.device or 'the other end'}")
    if e.out_errors:
        said.append(f"{e.out_errors:.0f} frames a minute are not sent, here")
    if e.out_discards:
        said.append(
            f"{e.out_discards:.0f} frames a minute are thrown away before they are sent, since the line is full"
        )
    advice = ""
    if seen.duplex == "half":
        advice = "half duplex makes such errors: mend that first (SWI-7), then look again"
    elif e.in_errors and row.kind != "link":
        then = row.device or "the device"
        advice = f"change the patch cords at both ends, then measure the run; then another port; then {then}"
    if e.out_discards and not (e.in_errors or e.out_errors):
        advice = "`zentrale plan traffic` tells what this port has to carry; it is sent more than it can pass on"
    yield ("SWI-9",), [finding("SWI-9", ref, "; ".join(said), "no errors", "RFC 2863", advice)] if said else []


def _poe(
    net: NetworkPlan,
    ref: Ref,
    row: PortRow,
    seen: SeenPort,
    one: Asked,
    planned: Mapping[Mode, float],
    mode: Mode | None,
) -> _Some:
    poe = seen.poe
    if poe is None or not row.poe or row.kind == "free":
        return
    items = []
    if why := _no_power(poe, seen, one):
        items = [
            finding("SWI-11", ref, f"{why}; it is {_what(row)}", "power for it", _source(row), _power_advice(row, poe))
        ]
    yield ("SWI-11",), items
    if poe.state != "deliveringPower":
        return
    if planned and poe.power_w is not None:
        most_mode = mode or max(MODES, key=lambda m: planned.get(m, 0.0))
        most = max(planned.values()) if mode is None else planned[mode]
        over = poe.power_w > most * _SLACK
        text = f"{poe.power_w:.1f} W drawn; {_what(row)}"
        limit = f"at most {most:.1f} W ({most_mode.value}{'' if mode else ', its most'})"
        yield ("SWI-13",), [finding("SWI-13", ref, text, limit, "types.toml, cable loss included")] if over else []
    if poe.priority and row.priority:
        lower = _FIRST_TO_STAY[poe.priority] > _FIRST_TO_STAY.get(row.priority, 2)
        text = f"priority {poe.priority}: it goes dark before others; {_what(row)}"
        yield (
            ("SWI-14",),
            [finding("SWI-14", ref, text, f"priority {row.priority}", _source(row), _sheet(row))] if lower else [],
        )


def _no_power(poe: PoePort, seen: SeenPort, one: Asked) -> str:
    """Why it gets none; empty where it has it, has it from elsewhere, or simply nothing is plugged in."""
    if poe.state == "deliveringPower" or seen.up:
        return ""
    if not poe.enabled or poe.state == "disabled":
        return "its PoE is switched off"
    if poe.denied:
        left = ""
        if one.seen is not None and one.seen.supply is not None:
            left = f"; {one.seen.supply.used_w:.0f} of {one.seen.supply.budget_w:.0f} W are used"
        return f"power was refused {quantities.count(poe.denied, 'time')} since it counts{left}"
    if poe.state in ("fault", "otherFault"):
        return f"the switch tells a fault of its PoE ({poe.state})"
    return ""


def _power_advice(row: PortRow, poe: PoePort) -> str:
    if not poe.enabled or poe.state == "disabled":
        return f"`zentrale network restart --port {row.switch}:{row.port}` gives it power, or switch it on in the switch's page"
    if poe.denied:
        return f"take load from {row.switch}, or feed {row.device} by an injector: `zentrale plan power`"
    return f"unplug {row.device}, look at the plug for water and bent contacts, measure the cable for a short"
