"""Neighbours that a switch hears by LLDP, and the watts that they and it agreed on (IEEE 802.1AB; IEEE 802.3 clause 79)."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

from zentrale.protocols.lldp import Heard, shown_id
from zentrale.protocols.mib import tables
from zentrale.protocols.mib.tables import Row, Rows

_MAC = 3  # LldpPortIdSubtype


@dataclass(frozen=True)
class Neighbour:
    """`port`: the LLDP port number at which it was heard; `power`: asked for and allotted [W], None: not agreed on."""

    port: int
    heard: Heard
    power: tuple[float, float] | None = None


def neighbours(told: Mapping[str, Rows]) -> list[Neighbour] | None:
    """None where the table is not told."""
    rows = told.get(tables.LLDP_NEIGHBOURS.name)
    if rows is None:
        return None
    # The first part of both indexes is when it changed last: not the same in tables that were read one after the other.
    watts = {index[1:]: row for index, row in told.get(tables.LLDP_POWER.name, {}).items()}
    return [Neighbour(index[1], _heard(row), _power(watts.get(index[1:]))) for index, row in sorted(rows.items())]


def _heard(row: Row) -> Heard:
    chassis = shown_id(tables.number(row, "chassis_subtype"), tables.octets(row, "chassis"), mac=4)
    port = shown_id(tables.number(row, "port_subtype"), tables.octets(row, "port"), mac=3)
    return Heard(chassis, port, tables.text(row, "name"), "")


def _power(row: Row | None) -> tuple[float, float] | None:
    """In tenths of a watt, 1 to 999 (IEEE 802.3 clause 79.3.2.5); 0 where nothing was agreed on."""
    if row is None:
        return None
    asked, allotted = tables.number(row, "asked"), tables.number(row, "allotted")
    return (asked / 10, allotted / 10) if 0 < asked <= 999 and 0 < allotted <= 999 else None


def if_index_of(told: Mapping[str, Rows], names: Mapping[str, int], macs: Mapping[str, int]) -> dict[int, int]:
    """ifIndex by LLDP port number: by the name, or the MAC address, that the switch itself tells for it (lldpLocPortTable); a
    port number that it calls `local` is text that is an ifIndex only where that says so. `names` and `macs`: ifIndex by each.
    """
    found: dict[int, int] = {}
    for (number,), row in told.get(tables.LLDP_PORTS.name, {}).items():
        kind, told_id = tables.number(row, "subtype"), tables.octets(row, "id")
        if kind == _MAC:
            index = macs.get(tables.mac(told_id))
        else:
            index = names.get(tables.text(row, "id")) or names.get(tables.text(row, "description"))
        if index is not None:
            found[number] = index
    return found
