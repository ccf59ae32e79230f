"""The tables that are read of a switch, and where they stand (object identifiers; the RFC or standard beside each).

A `Table` is an entry with the columns that are wanted of it; `rows_of` makes rows of what a walk brought, and refuses what
cannot be a table: a value of another kind, a row told twice with two values, columns of which one breaks off.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field

from zentrale.errors import NotToldError

Oid = tuple[int, ...]
Value = int | bytes | Oid
Row = dict[str, Value]
Rows = dict[Oid, Row]  # by what stands behind the column: the table's index
_KINDS = {"int": int, "bytes": bytes, "oid": tuple}


def oid(text: str) -> Oid:
    return tuple(int(part) for part in text.split("."))


def dotted(number: Oid) -> str:
    return ".".join(map(str, number))


@dataclass(frozen=True)
class Column:
    """`number` within the entry; `kind` of its values: int, bytes or oid. `sparse`: rows may be without it."""

    number: int
    kind: str = "int"
    sparse: bool = False


@dataclass(frozen=True)
class Table:
    """`name` as in its MIB; `what` is it that it tells, in words of the trade; `depth` how long its index is, 0: as it
    comes; `most` values that it may have.
    """

    name: str
    what: str
    entry: Oid
    columns: Mapping[str, Column] = field(default_factory=dict)
    depth: int = 0
    most: int = 12_000

    def column(self, name: str) -> Oid:
        return (*self.entry, self.columns[name].number)

    def cell(self, name: str, index: Oid) -> Oid:
        """The object identifier of one value."""
        return (*self.column(name), *index)

    @property
    def oids(self) -> list[Oid]:
        return [self.column(name) for name in self.columns]


def rows_of(table: Table, bindings: Iterable[tuple[Oid, Value | None]]) -> Rows:
    """Rows by index, of what was walked. Raises NotToldError where there is no row, or where they cannot be believed."""
    names = {self.number: name for name, self in table.columns.items()}
    at, rows = len(table.entry), dict[Oid, dict[str, Value]]()
    for told, value in bindings:
        name = names.get(told[at]) if told[:at] == table.entry and len(told) > at + 1 else None
        if name is None or value is None:
            continue
        index, kind = told[at + 1 :], table.columns[name].kind
        if not isinstance(value, _KINDS[kind]):
            raise NotToldError(f"{name} is no {kind}")
        if table.depth and len(index) != table.depth:
            raise NotToldError(f"the index of {name} has {len(index)} parts in place of {table.depth}")
        row = rows.setdefault(index, {})
        if row.get(name, value) != value:
            raise NotToldError(f"{name}.{dotted(index)} is told twice, with two values")
        row[name] = value
    if not rows:
        raise NotToldError("it has no such table")
    for name, column in table.columns.items():
        having = sum(name in row for row in rows.values())
        if 0 < having < len(rows) and not column.sparse:
            raise NotToldError(f"{name} breaks off: {having} of {len(rows)} rows")
    return rows


def number(row: Mapping[str, Value], name: str, default: int = 0) -> int:
    value = row.get(name, default)
    return value if isinstance(value, int) else default


def text(row: Mapping[str, Value], name: str) -> str:
    value = row.get(name, b"")
    return value.decode("utf-8", "replace").strip("\0 \r\n\t") if isinstance(value, bytes) else ""


def octets(row: Mapping[str, Value], name: str) -> bytes:
    value = row.get(name, b"")
    return value if isinstance(value, bytes) else b""


def mac(value: Iterable[int]) -> str:
    """A MAC address as it is written elsewhere here; empty where it has another length than six bytes, or is all zeros."""
    some = bytes(value)
    return some.hex(":") if len(some) == 6 and any(some) else ""


_SYSTEM = "1.3.6.1.2.1.1"
SYS_DESCR, SYS_UP_TIME, SYS_NAME = (oid(f"{_SYSTEM}.{n}.0") for n in (1, 3, 5))  # SNMPv2-MIB, RFC 3418
_INT = Column


def _BYTES(number: int, sparse: bool = False) -> Column:
    return Column(number, "bytes", sparse)


def _OID(number: int) -> Column:
    return Column(number, "oid")


# IF-MIB, RFC 2863; EtherLike-MIB, RFC 3635.
INTERFACES = Table(
    "ifTable", "state of the ports", oid("1.3.6.1.2.1.2.2.1"),
    {"description": _BYTES(2, True), "type": _INT(3), "speed": _INT(5, sparse=True), "mac": _BYTES(6, True), "admin": _INT(7),
     "oper": _INT(8), "in_discards": _INT(13, sparse=True),
     "in_errors": _INT(14, sparse=True), "out_discards": _INT(19, sparse=True), "out_errors": _INT(20, sparse=True)}, 1,
)  # fmt: skip
NAMES = Table(
    "ifXTable", "names and rates of the ports", oid("1.3.6.1.2.1.31.1.1.1"),
    {"name": _BYTES(1), "high_speed": _INT(15, sparse=True), "alias": _BYTES(18, True)}, 1,
)  # fmt: skip
DUPLEX = Table("dot3StatsTable", "half or full duplex", oid("1.3.6.1.2.1.10.7.2.1"), {"duplex": _INT(19)}, 1)
ERRORS = Table(
    "ifTable", "errors and discards", oid("1.3.6.1.2.1.2.2.1"),
    {"in_discards": _INT(13, sparse=True), "in_errors": _INT(14, sparse=True), "out_discards": _INT(19, sparse=True),
     "out_errors": _INT(20, sparse=True)}, 1,
)  # fmt: skip

# BRIDGE-MIB, RFC 4188; Q-BRIDGE-MIB, RFC 4363.
BRIDGE_PORTS = Table("dot1dBasePortTable", "bridge ports", oid("1.3.6.1.2.1.17.1.4.1"), {"if_index": _INT(2)}, 1)
TREE = Table(
    "dot1dStp", "spanning tree", oid("1.3.6.1.2.1.17.2"),
    {"protocol": _INT(1, sparse=True), "priority": _INT(2, sparse=True), "changes": _INT(4, sparse=True), "root": _BYTES(5),
     "root_port": _INT(7, sparse=True)}, 1,
)  # fmt: skip
TREE_PORTS = Table("dot1dStpPortTable", "spanning tree by port", oid("1.3.6.1.2.1.17.2.15.1"), {"state": _INT(3)}, 1)
BRIDGE_ADDRESS = oid("1.3.6.1.2.1.17.1.1.0")
FORWARDING = Table(
    "dot1dTpFdbTable", "who is where", oid("1.3.6.1.2.1.17.4.3.1"), {"port": _INT(2), "status": _INT(3)}, 6
)
VLAN_FORWARDING = Table(
    "dot1qTpFdbTable",
    "who is where, by VLAN",
    oid("1.3.6.1.2.1.17.7.1.2.2.1"),
    {"port": _INT(2), "status": _INT(3)},
    7,
    70_000,
)
VLANS = Table(
    "dot1qVlanCurrentTable", "VLANs", oid("1.3.6.1.2.1.17.7.1.4.2.1"),
    {"fdb": _INT(3, sparse=True), "egress": _BYTES(4), "untagged": _BYTES(5)}, 2,
)  # fmt: skip
SET_VLANS = Table(
    "dot1qVlanStaticTable", "VLANs as they are set", oid("1.3.6.1.2.1.17.7.1.4.3.1"),
    {"egress": _BYTES(2), "untagged": _BYTES(4)}, 1,
)  # fmt: skip
PORT_VLANS = Table(
    "dot1qPortVlanTable", "VLAN of untagged frames", oid("1.3.6.1.2.1.17.7.1.4.5.1"), {"pvid": _INT(1)}, 1
)

# LLDP-MIB (IEEE 802.1AB-2005 clause 12) and LLDP-EXT-DOT3-MIB as IEEE 802.3at-2009 (clause 79) has it.
LLDP_PORTS = Table(
    "lldpLocPortTable", "its own ports as neighbours hear them", oid("1.0.8802.1.1.2.1.3.7.1"),
    {"subtype": _INT(2), "id": _BYTES(3), "description": _BYTES(4, sparse=True)}, 1,
)  # fmt: skip
LLDP_NEIGHBOURS = Table(
    "lldpRemTable", "neighbours", oid("1.0.8802.1.1.2.1.4.1.1"),
    {"chassis_subtype": _INT(4), "chassis": _BYTES(5), "port_subtype": _INT(6), "port": _BYTES(7), "name": _BYTES(9, True)}, 3,
)  # fmt: skip
LLDP_CHASSIS = Table(
    "lldpLocalSystemData", "its own LLDP name", oid("1.0.8802.1.1.2.1.3"), {"subtype": _INT(1), "chassis": _BYTES(2)}, 1
)
LLDP_POWER = Table(
    "lldpXdot3RemPowerTable", "watts asked for and allotted", oid("1.0.8802.1.1.2.1.5.4623.1.3.2.1"),
    {"asked": _INT(10), "allotted": _INT(11)}, 3,
)  # fmt: skip

# POWER-ETHERNET-MIB, RFC 3621.
POE_PORTS = Table(
    "pethPsePortTable", "PoE of the ports", oid("1.3.6.1.2.1.105.1.1.1"),
    {"admin": _INT(3), "detection": _INT(6), "priority": _INT(7, sparse=True), "class": _INT(10, sparse=True),
     "denied": _INT(12, sparse=True)}, 2,
)  # fmt: skip
POE_SUPPLY = Table(
    "pethMainPseTable",
    "PoE budget",
    oid("1.3.6.1.2.1.105.1.3.1.1"),
    {"power": _INT(2), "oper": _INT(3), "used": _INT(4)},
    1,
)

# ENTITY-MIB, RFC 6933; ENTITY-SENSOR-MIB, RFC 3433.
PARTS = Table(
    "entPhysicalTable", "what it is made of", oid("1.3.6.1.2.1.47.1.1.1.1"),
    {"inside": _INT(4), "class": _INT(5), "position": _INT(6), "name": _BYTES(7, sparse=True), "firmware": _BYTES(9, sparse=True),
     "software": _BYTES(10, sparse=True), "model": _BYTES(13, sparse=True)}, 1,
)  # fmt: skip
ALIASES = Table("entAliasMappingTable", "which part is which port", oid("1.3.6.1.2.1.47.1.3.2.1"), {"row": _OID(2)}, 2)
SENSORS = Table(
    "entPhySensorTable", "sensors, such as of watts", oid("1.3.6.1.2.1.99.1.1.1"),
    {"type": _INT(1), "scale": _INT(2), "precision": _INT(3), "value": _INT(4), "state": _INT(5)}, 1,
)  # fmt: skip

# Who is where comes last: by then everybody was spoken to.
ALL = (
    INTERFACES, NAMES, DUPLEX, BRIDGE_PORTS, TREE, TREE_PORTS, VLANS, PORT_VLANS, LLDP_CHASSIS, LLDP_PORTS, LLDP_NEIGHBOURS,
    LLDP_POWER, POE_PORTS, POE_SUPPLY, PARTS, ALIASES, SENSORS, VLAN_FORWARDING,
)  # fmt: skip
# Where the first of two is not told, the second is asked for.
ELSE = {VLANS.name: SET_VLANS, VLAN_FORWARDING.name: FORWARDING}
