"""Which interface is port N. The numbers printed at the plugs stand in no single table, so every way to them is gone, and
where two disagree that is said and none is chosen.

A port of the plan counts through a stack: unit and number on that unit follow from how many ports a unit has.
"""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass, field

from zentrale.protocols.mib import tables
from zentrale.protocols.mib.tables import Oid, Rows

ENTITY, NAME, FIRST = "ENTITY-MIB", "ifName", "first_index"
_ETHERNET = (6, 62, 69, 117)  # ifType of IANAifType-MIB: ethernetCsmacd, and its older kinds for fast and gigabit
_STACK, _CHASSIS, _PORT = 11, 3, 10  # PhysicalClass, RFC 6933
_IF_INDEX = tables.oid("1.3.6.1.2.1.2.2.1.1")
_POE_ROW = tables.oid("1.3.6.1.2.1.105.1.1.1")
_NUMBERS = re.compile(r"\d+")
Place = tuple[int, int]  # unit of a stack, from 1; port on that unit, from 1


@dataclass(frozen=True)
class Shape:
    """What the plan says of a switch: ports in all, units it is made of, by which index the first port stands (of the first unit;
    where the next begins, nobody said); and whether it has PoE and runs a spanning tree, since nobody misses what it has not.
    """

    ports: int
    units: int = 1
    first_index: int | None = None
    first_poe_index: int | None = None
    poe: bool = True
    tree: bool = True

    def place(self, port: int) -> Place:
        each = max(1, self.ports // self.units)
        return (port - 1) // each + 1, (port - 1) % each + 1


@dataclass(frozen=True)
class Numbering:
    """index: ifIndex by the port of the plan; poe: group and index in the PoE table; unproved: ports of which no way tells;
    disagree: by port, what each way says, in words; ways: those that told.
    """

    index: Mapping[int, int] = field(default_factory=dict)
    poe: Mapping[int, Oid] = field(default_factory=dict)
    disagree: Mapping[int, str] = field(default_factory=dict)
    ways: tuple[str, ...] = ()
    poe_disagree: Mapping[int, str] = field(default_factory=dict)

    def port_of(self, if_index: int) -> int | None:
        return next((port for port, index in self.index.items() if index == if_index), None)


def ethernet_ports(interfaces: Rows) -> list[int]:
    """ifIndex of what may be a plug, in order: no VLAN, no bundle, no loopback."""
    return sorted(index[0] for index, row in interfaces.items() if row.get("type") in _ETHERNET)


def number_ports(shape: Shape, told: Mapping[str, Rows]) -> Numbering:
    """`told`: rows by the name of their table."""
    plugs = set(ethernet_ports(told.get(tables.INTERFACES.name, {})))
    by_part, poe_by_part = _by_parts(told)
    ways: dict[str, dict[Place, int]] = {
        ENTITY: by_part,
        NAME: _by_names(told.get(tables.NAMES.name, {}), plugs, shape),
        FIRST: {} if shape.first_index is None else {
            (1, n): shape.first_index + n - 1 for n in range(1, shape.ports // shape.units + 1)
        },
    }  # fmt: skip
    index, disagree = dict[int, int](), dict[int, str]()
    for port in range(1, shape.ports + 1):
        said = {way: found[shape.place(port)] for way, found in ways.items() if shape.place(port) in found}
        if len(set(said.values())) == 1:
            (only,) = set(said.values())
            index |= {port: only} if only in plugs else {}
        elif said:
            disagree[port] = ", ".join(f"{way} says interface {i}" for way, i in said.items())
    twice = {i for i in index.values() if list(index.values()).count(i) > 1}
    index = {port: i for port, i in index.items() if i not in twice}
    poe, poe_disagree = _poe(shape, poe_by_part, told.get(tables.POE_PORTS.name, {}))
    return Numbering(index, poe, disagree, tuple(w for w, found in ways.items() if found), poe_disagree)


def _by_parts(told: Mapping[str, Rows]) -> tuple[dict[Place, int], dict[Place, Oid]]:
    """By the position of each port among its siblings, and the rows that its alias names (RFC 6933 section 2.12.2)."""
    parts, aliases = told.get(tables.PARTS.name, {}), told.get(tables.ALIASES.name, {})
    found, poe = dict[Place, int](), dict[Place, Oid]()
    many = sum(row.get("class") == _CHASSIS for row in parts.values()) > 1
    twice: set[Place] = set()
    rows: dict[int, list[Oid]] = {}
    for (part, _), row in aliases.items():
        value = row.get("row")
        if isinstance(value, tuple):
            rows.setdefault(part, []).append(value)
    for (part,), row in parts.items():
        position = tables.number(row, "position", -1)
        if row.get("class") != _PORT or position < 1:  # counted from 0, it is not what the plug says
            continue
        place = (_unit(parts, part) if many else 1, position)
        for value in rows.get(part, []):
            if value[: len(_IF_INDEX)] == _IF_INDEX:
                twice |= {place} if found.get(place, value[-1]) != value[-1] else set()
                found[place] = value[-1]
            elif value[: len(_POE_ROW)] == _POE_ROW and len(value) == len(_POE_ROW) + 3:
                poe[place] = value[-2:]
    from_0 = any(r.get("class") == _PORT and tables.number(r, "position", -1) == 0 for r in parts.values())
    if from_0:
        return {}, {}
    return {p: i for p, i in found.items() if p not in twice}, {p: i for p, i in poe.items() if p not in twice}


def _unit(parts: Rows, part: int) -> int:
    """The position of the chassis that it is inside of; a stack's chassis stand side by side."""
    for _ in range(16):  # deeper than any is; a circle ends, too
        row = parts.get((part,))
        if row is None:
            return 1
        if row.get("class") == _CHASSIS:
            return max(1, tables.number(row, "position", 1))
        part = tables.number(row, "inside")
    return 1


def _by_names(names: Rows, plugs: set[int], shape: Shape) -> dict[Place, int]:
    """The last number of a name is the port, the first of several the unit, where there are units. A number that two plugs
    have (a slot of its own for uplinks counts from 1 again) tells nothing.
    """
    found: dict[Place, set[int]] = {}
    for (index,), row in names.items():
        numbers = [int(n) for n in _NUMBERS.findall(tables.text(row, "name"))]
        if index in plugs and numbers:
            unit = numbers[0] if shape.units > 1 and len(numbers) > 1 else 1
            found.setdefault((unit, numbers[-1]), set()).add(index)
    if any(number == 0 for _, number in found):
        return {}
    return {place: next(iter(some)) for place, some in found.items() if len(some) == 1}


def _poe(shape: Shape, by_part: Mapping[Place, Oid], rows: Rows) -> tuple[dict[int, Oid], dict[int, str]]:
    found, disagree = dict[int, Oid](), dict[int, str]()
    for port in range(1, shape.ports + 1):
        place = shape.place(port)
        said = {ENTITY: by_part[place]} if by_part.get(place) in rows else {}
        if shape.first_poe_index is not None:
            row = (place[0], shape.first_poe_index + place[1] - 1)
            said |= {"first_poe_index": row} if row in rows else {}
        if len(set(said.values())) == 1:
            found[port] = next(iter(said.values()))
        elif said:
            disagree[port] = ", ".join(f"{way} says row {tables.dotted(row)}" for way, row in said.items())
    twice = {row for row in found.values() if list(found.values()).count(row) > 1}
    return {port: row for port, row in found.items() if row not in twice}, disagree
