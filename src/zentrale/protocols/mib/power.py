"""PoE by port and for the whole switch: POWER-ETHERNET-MIB (RFC 3621), which has no watts by port; these are a sensor's (RFC
3433).
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

from zentrale.protocols.mib import tables
from zentrale.protocols.mib.tables import Oid, Rows

DETECTION = {1: "disabled", 2: "searching", 3: "deliveringPower", 4: "fault", 5: "test", 6: "otherFault"}
DELIVERING = 3
PRIORITY = {1: "critical", 2: "high", 3: "low"}
_ON = 1  # TruthValue, and pethMainPseOperStatus
_WATTS, _OK = 6, 1  # EntitySensorDataType, EntitySensorStatus
_UNITS = 9  # EntitySensorDataScale
_IF_INDEX = tables.oid("1.3.6.1.2.1.2.2.1.1")
_POE_ROW = tables.oid("1.3.6.1.2.1.105.1.1.1")


@dataclass(frozen=True)
class PoePort:
    """state: as the MIB calls it; poe_class: 0 to 4, None where none was found; priority: critical, high or low; denied: how
    often power was refused since the switch began to count, None: not told; asked_w, allotted_w: by LLDP; power_w: drawn, by
    a sensor.
    """

    enabled: bool
    state: str
    poe_class: int | None
    priority: str
    denied: int | None
    asked_w: float | None = None
    allotted_w: float | None = None
    power_w: float | None = None


@dataclass(frozen=True)
class Supply:
    """All groups together; `groups` by number: budget and what is used [W]."""

    groups: Mapping[int, tuple[float, float]]

    @property
    def budget_w(self) -> float:
        return sum(budget for budget, _ in self.groups.values())

    @property
    def used_w(self) -> float:
        return sum(used for _, used in self.groups.values())


def supply(told: Mapping[str, Rows]) -> Supply | None:
    rows = told.get(tables.POE_SUPPLY.name)
    if rows is None:
        return None
    groups = {i[0]: (float(tables.number(r, "power")), float(tables.number(r, "used"))) for i, r in rows.items()}
    return Supply(groups) if any(budget > 0 for budget, _ in groups.values()) else None


def poe_port(
    told: Mapping[str, Rows], row: Oid, agreed: tuple[float, float] | None, drawn_w: float | None
) -> PoePort | None:
    told_row = told.get(tables.POE_PORTS.name, {}).get(row)
    if told_row is None:
        return None
    delivering = told_row.get("detection") == DELIVERING
    classes = tables.number(told_row, "class")
    denied = told_row.get("denied")
    asked_w, allotted_w = agreed or (None, None)
    return PoePort(
        told_row.get("admin") == _ON,
        DETECTION.get(tables.number(told_row, "detection"), "not told"),
        classes - 1 if delivering and 1 <= classes <= 5 else None,  # valid only while power is delivered (RFC 3621)
        PRIORITY.get(tables.number(told_row, "priority"), ""),
        denied if isinstance(denied, int) else None,
        asked_w,
        allotted_w,
        drawn_w,
    )


def watts_by_part(told: Mapping[str, Rows]) -> dict[int, float]:
    """What sensors of watts tell, by their part [W]: value times ten to the scale, less its decimals."""
    found: dict[int, float] = {}
    for (part,), row in told.get(tables.SENSORS.name, {}).items():
        if row.get("type") == _WATTS and row.get("state") == _OK:
            exponent = 3 * (tables.number(row, "scale", _UNITS) - _UNITS) - tables.number(row, "precision")
            if -30 <= exponent <= 12:
                found[part] = tables.number(row, "value") * 10.0**exponent
    return found


def drawn_by_port(told: Mapping[str, Rows]) -> tuple[dict[int, float], dict[Oid, float]]:
    """What each port draws [W], by ifIndex and by row of the PoE table: the one sensor of watts inside it, or beside it by
    alias.
    """
    parts, watts = told.get(tables.PARTS.name, {}), watts_by_part(told)
    inside: dict[int, list[float]] = {}
    for sensor, drawn in watts.items():
        inside.setdefault(tables.number(parts.get((sensor,), {}), "inside"), []).append(drawn)
    by_index, by_row = dict[int, float](), dict[Oid, float]()
    for (part, _), row in told.get(tables.ALIASES.name, {}).items():
        value, some = row.get("row"), inside.get(part, [])
        if isinstance(value, tuple) and len(some) == 1:
            if value[: len(_POE_ROW)] == _POE_ROW:
                by_row[value[-2:]] = some[0]
            elif value[:-1] == _IF_INDEX:
                by_index[value[-1]] = some[0]
    return by_index, by_row
