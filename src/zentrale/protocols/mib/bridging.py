"""VLANs, who is where, and the spanning tree: BRIDGE-MIB (RFC 4188) and Q-BRIDGE-MIB (RFC 4363)."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass

from zentrale.errors import NotToldError
from zentrale.protocols.mib import tables
from zentrale.protocols.mib.tables import Rows

_LEARNED, _SELF, _MANAGED = 3, 4, 5
STATES = {1: "disabled", 2: "blocking", 3: "listening", 4: "learning", 5: "forwarding", 6: "broken"}


def port_list(value: bytes) -> frozenset[int]:
    """Bridge ports of a PortList: the most significant bit of the first octet is port 1 (RFC 4363, textual conventions)."""
    return frozenset(8 * at + bit + 1 for at, octet in enumerate(value) for bit in range(8) if octet & (0x80 >> bit))


@dataclass(frozen=True)
class VlanSets:
    """By VLAN, the bridge ports that frames of it leave by, and those where they do without a tag; `fdb`: VLAN by FDB id."""

    egress: Mapping[int, frozenset[int]]
    untagged: Mapping[int, frozenset[int]]
    fdb: Mapping[int, int]


def vlan_sets(told: Mapping[str, Rows]) -> VlanSets | None:
    """Of the current table, else of the set one, whose FDB id is the VLAN's number as far as nobody says otherwise: not known."""
    current = told.get(tables.VLANS.name)
    rows = current or told.get(tables.SET_VLANS.name)
    if rows is None:
        return None
    egress, untagged, fdb = dict[int, frozenset[int]](), dict[int, frozenset[int]](), dict[int, int]()
    many: set[int] = set()
    for index, row in rows.items():
        vlan = index[-1]
        if not 1 <= vlan <= 4094:
            continue
        egress[vlan] = port_list(tables.octets(row, "egress"))
        untagged[vlan] = port_list(tables.octets(row, "untagged"))
        if (number := row.get("fdb")) is not None and isinstance(number, int):
            many |= {number} if number in fdb else set()  # shared learning: the id says nothing of the VLAN
            fdb[number] = vlan
    return VlanSets(egress, untagged, {number: vlan for number, vlan in fdb.items() if number not in many})


@dataclass(frozen=True)
class Heard:
    """One MAC address at a bridge port; `vlan` 0: not known."""

    mac: str
    bridge_port: int
    vlan: int = 0


def heard(told: Mapping[str, Rows], sets: VlanSets | None) -> list[Heard] | None:
    """Addresses that were learned, or that somebody entered; None where no table tells them."""
    rows = told.get(tables.VLAN_FORWARDING.name)
    if rows is not None:
        fdb = sets.fdb if sets else {}
        return list(_heard((fdb.get(index[0], 0), index[1:], row) for index, row in rows.items()))
    rows = told.get(tables.FORWARDING.name)
    return None if rows is None else list(_heard((0, index, row) for index, row in rows.items()))


def _heard(rows: Iterator[tuple[int, tuple[int, ...], tables.Row]]) -> Iterator[Heard]:
    for vlan, address, row in rows:
        port, status = tables.number(row, "port"), tables.number(row, "status")
        if port > 0 and status in (_LEARNED, _MANAGED) and all(part < 256 for part in address):
            yield Heard(tables.mac(address), port, vlan)


@dataclass(frozen=True)
class Tree:
    """`root` and `own`: bridge identifiers, priority and MAC address (IEEE 802.1Q clause 13.26.2); `changes`: of the topology,
    since the switch began to count; `states`: by bridge port.
    """

    root: tuple[int, str]
    own: tuple[int, str]
    root_port: int
    changes: int
    states: Mapping[int, str]

    @property
    def is_root(self) -> bool:
        return self.root[1] == self.own[1]


def tree(told: Mapping[str, Rows], own_mac: str) -> Tree | None:
    """None where it runs none, or does not tell."""
    row = next(iter(told.get(tables.TREE.name, {}).values()), None)
    if row is None:
        return None
    root = tables.octets(row, "root")
    if len(root) != 8 or not any(root):
        return None
    priority = tables.number(row, "priority")
    states = {
        index[0]: STATES.get(tables.number(r, "state"), "") for index, r in told.get(tables.TREE_PORTS.name, {}).items()
    }
    return Tree(
        (int.from_bytes(root[:2], "big"), tables.mac(root[2:])), (priority, own_mac), tables.number(row, "root_port"),
        tables.number(row, "changes"), states,
    )  # fmt: skip


def if_index_of(told: Mapping[str, Rows]) -> dict[int, int]:
    """ifIndex by bridge port. Raises NotToldError: nothing proves that the two are the same number."""
    rows = told.get(tables.BRIDGE_PORTS.name)
    if rows is None:
        raise NotToldError("dot1dBasePortTable is not told, so no bridge port is known as an interface")
    return {index[0]: tables.number(row, "if_index") for index, row in rows.items()}
