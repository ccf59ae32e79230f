"""A switch as it told itself: its tables put together, port by port of the plan."""

from __future__ import annotations

import dataclasses
from collections.abc import Mapping
from dataclasses import dataclass

from zentrale.errors import NotToldError
from zentrale.protocols.mib import bridging, neighbours, power, tables
from zentrale.protocols.mib.bridging import Tree
from zentrale.protocols.mib.neighbours import Neighbour
from zentrale.protocols.mib.numbering import Numbering, Shape, number_ports
from zentrale.protocols.mib.power import PoePort, Supply
from zentrale.protocols.mib.tables import Rows

_UP = 1  # ifAdminStatus, ifOperStatus
_DUPLEX = {2: "half", 3: "full"}  # dot3StatsDuplexStatus
_WRAP = 2**32  # of a Counter32


@dataclass(frozen=True)
class Told:
    """What was read of one switch: rows by table, and why each of the others is not among them. `second` are counters once more,
    `apart_s` later by the switch's own clock.
    """

    rows: Mapping[str, Rows]
    missing: Mapping[str, str]
    second: Rows
    apart_s: float
    description: str = ""
    name: str = ""
    bridge_mac: str = ""


@dataclass(frozen=True)
class Errors:
    """Counted up between two readings [per minute], by the side of the cable: what came in spoilt, what could not be sent."""

    in_errors: float = 0
    out_errors: float = 0
    in_discards: float = 0
    out_discards: float = 0

    @property
    def errors(self) -> float:
        return self.in_errors + self.out_errors


@dataclass(frozen=True)
class SeenPort:
    """One port of the plan as the switch told it; None or empty: not told. `vlans`: by which frames leave, `untagged` those
    of them without a tag; macs: with the VLAN of each, 0: not known; enabled: by the switch's own setting.
    """

    port: int
    if_index: int
    name: str
    enabled: bool
    up: bool
    rate_mbps: int | None
    duplex: str
    pvid: int | None
    vlans: tuple[int, ...] | None
    untagged: tuple[int, ...]
    macs: tuple[tuple[str, int], ...] | None
    neighbours: tuple[Neighbour, ...]
    poe: PoePort | None
    errors: Errors | None
    tree_state: str = ""


@dataclass(frozen=True)
class SeenSwitch:
    """`not_told`: what is missing, and why."""

    description: str
    name: str
    firmware: str
    ports: tuple[SeenPort, ...]
    numbering: Numbering
    supply: Supply | None
    tree: Tree | None
    not_told: tuple[str, ...]
    vlans_told: bool = False
    addresses_told: bool = False
    poe_rows: int = 0
    own_macs: frozenset[str] = frozenset()
    bridge_mac: str = ""

    def port(self, number: int) -> SeenPort | None:
        return next((p for p in self.ports if p.port == number), None)


def understand(told: Told, shape: Shape) -> SeenSwitch:
    """Never a zero, never the plan's value for what a switch does not tell."""
    rows, missing = told.rows, [f"{what}: {why}" for what, why in told.missing.items() if _is_missed(what, told, shape)]
    numbering = number_ports(shape, rows)
    sets = bridging.vlan_sets(rows)
    try:
        if_index = bridging.if_index_of(rows)
    except NotToldError as error:
        if sets is not None or bridging.heard(rows, sets) is not None:
            missing.append(f"bridge ports: {error}")
        if_index, sets = {}, None
    bridge_port = {index: number for number, index in if_index.items()}
    heard = bridging.heard(rows, sets) if if_index else None
    at: dict[int, set[tuple[str, int]]] = {}
    for item in heard or ():
        if item.bridge_port in if_index:
            at.setdefault(if_index[item.bridge_port], set()).add((item.mac, item.vlan))
    interfaces, names = rows.get(tables.INTERFACES.name, {}), rows.get(tables.NAMES.name, {})
    own_macs = {tables.mac(tables.octets(r, "mac")): i[0] for i, r in interfaces.items() if r.get("mac")}
    near = _neighbours(rows, interfaces, names, own_macs)
    tree = bridging.tree(rows, told.bridge_mac)
    drawn = power.drawn_by_port(rows)
    rates = _error_rates(interfaces, told.second, told.apart_s)
    pvids = rows.get(tables.PORT_VLANS.name, {})
    ports = []
    for port, index in sorted(numbering.index.items()):
        row, bridge = interfaces[index,], bridge_port.get(index)
        name = names.get((index,), {})
        some = near.get(index, ())
        poe_row = numbering.poe.get(port)
        drawn_w = drawn[0].get(index) if poe_row is None else drawn[0].get(index, drawn[1].get(poe_row))
        agreed = next((n.power for n in some if n.power is not None), None) if len(some) == 1 else None
        up = row.get("oper") == _UP
        pvid = pvids.get((bridge,), {}).get("pvid") if bridge is not None else None
        known = sets is not None and bridge is not None
        ports.append(SeenPort(
            port, index, tables.text(name, "name"), row.get("admin") == _UP, up, _rate(row, name) if up else None,
            _DUPLEX.get(tables.number(rows.get(tables.DUPLEX.name, {}).get((index,), {}), "duplex"), "") if up else "",
            pvid if isinstance(pvid, int) else None,
            tuple(sorted(v for v, members in sets.egress.items() if bridge in members)) if known and sets else None,
            tuple(sorted(v for v, members in sets.untagged.items() if bridge in members)) if known and sets else (),
            None if heard is None else tuple(sorted(at.get(index, ()))), some,
            power.poe_port(rows, poe_row, agreed, drawn_w) if poe_row is not None else None, rates.get(index),
            tree.states.get(bridge, "") if tree and bridge is not None else "",
        ))  # fmt: skip
    poe_rows = rows.get(tables.POE_PORTS.name, {})
    if poe_rows and not numbering.poe:
        missing.append("PoE of the ports: nothing proves which row is which port (first_poe_index of its type would)")
    if not numbering.index:
        missing.append("ports: nothing proves which interface is which port (first_index of its type would)")
    return SeenSwitch(
        told.description, told.name, _firmware(rows), tuple(ports), numbering, power.supply(rows), tree, tuple(missing),
        sets is not None, heard is not None, len(poe_rows), frozenset(m for m in (*own_macs, told.bridge_mac) if m),
        told.bridge_mac,
    )  # fmt: skip


def _is_missed(what: str, told: Told, shape: Shape) -> bool:
    """No neighbours are an empty table, which looks like none; positions and aliases matter where nothing else numbers the
    ports.
    """
    if what in (tables.LLDP_NEIGHBOURS.what, tables.LLDP_POWER.what):
        return tables.LLDP_CHASSIS.what in told.missing and what == tables.LLDP_NEIGHBOURS.what
    if what in (tables.TREE.what, tables.TREE_PORTS.what):
        return shape.tree
    if what in (tables.POE_PORTS.what, tables.POE_SUPPLY.what, tables.SENSORS.what):
        return shape.poe
    return what not in (tables.LLDP_CHASSIS.what, tables.LLDP_PORTS.what, tables.PARTS.what, tables.ALIASES.what)


def _neighbours(
    rows: Mapping[str, Rows], interfaces: Rows, names: Rows, macs: Mapping[str, int]
) -> dict[int, tuple[Neighbour, ...]]:
    """By ifIndex. Of a MAC address that several ports share nothing follows."""
    shared = [tables.mac(tables.octets(r, "mac")) for r in interfaces.values()]
    called = [(tables.text(row, "description"), i[0]) for i, row in interfaces.items()]
    called += [(tables.text(row, key), i[0]) for key in ("alias", "name") for i, row in names.items()]
    by_name: dict[str, int] = {}
    twice = set()
    for name, i in called:
        twice |= {name} if by_name.setdefault(name, i) != i else set()
    by_name = {name: i for name, i in by_name.items() if name and name not in twice}
    index = neighbours.if_index_of(rows, by_name, {m: i for m, i in macs.items() if shared.count(m) == 1})
    found: dict[int, tuple[Neighbour, ...]] = {}
    for item in neighbours.neighbours(rows) or ():
        if item.port in index:
            found[index[item.port]] = (*found.get(index[item.port], ()), item)
    return found


def _rate(row: tables.Row, name: tables.Row) -> int | None:
    """ifHighSpeed [Mbit/s], else ifSpeed [bit/s], which ends at 4.29 Gbit/s (RFC 2863)."""
    if high := tables.number(name, "high_speed"):
        return high
    speed = tables.number(row, "speed")
    return speed // 1_000_000 if 0 < speed < 2**32 - 1 else None


def _error_rates(first: Rows, second: Rows, apart_s: float) -> dict[int, Errors]:
    """Between the two readings; a counter that was set back (a restart) tells nothing, one that went round does."""
    found: dict[int, Errors] = {}
    if apart_s <= 0:
        return found
    for index, row in second.items():
        before = first.get(index)
        names = [f.name for f in dataclasses.fields(Errors)]
        if before is None or not all(name in row and name in before for name in names):
            continue
        grown = {name: (tables.number(row, name) - tables.number(before, name)) % _WRAP for name in names}
        if all(count < _WRAP // 2 for count in grown.values()):
            found[index[0]] = Errors(**{name: 60 * count / apart_s for name, count in grown.items()})
    return found


def _firmware(rows: Mapping[str, Rows]) -> str:
    """Of the first chassis that tells one: its software, else its firmware (RFC 6933)."""
    for _, row in sorted(rows.get(tables.PARTS.name, {}).items()):
        if row.get("class") == 3 and (told := tables.text(row, "software") or tables.text(row, "firmware")):
            return told
    return ""
