"""What the switches of the rehearsal hold once their commands have been loaded, port by port."""

from __future__ import annotations

import json
import re
from dataclasses import dataclass
from typing import Any

from zentrale.field.lab.switch import LabSwitch


@dataclass(frozen=True)
class PortState:
    """As the switch has it: untagged VLAN (0: none) and those that it carries with a tag."""

    untagged: int
    tagged: frozenset[int]


def read_switch(switch: LabSwitch) -> dict[str, PortState]:
    """By interface; those of a bond have what the bond has. Raises LabError."""
    named = json.loads(switch.tell("ovs-vsctl", "--format=json", "--columns=_uuid,name", "list", "Interface"))
    interfaces = {row[0][1]: row[1] for row in named["data"]}
    told = json.loads(switch.tell("ovs-vsctl", "--format=json", "--columns=name,tag,trunks,interfaces", "list", "Port"))
    found = {}
    for name, tag, trunks, members in told["data"]:
        state = PortState(next(iter(_numbers(tag)), 0), frozenset(_numbers(trunks)))
        for interface in [interfaces.get(uuid, name) for uuid in _uuids(members)]:
            found[interface] = state
    return found


def _numbers(cell: Any) -> list[int]:
    """A value of OVSDB (RFC 7047 section 5.1): a number, or a set of them."""
    return [int(n) for n in cell[1]] if isinstance(cell, list) else [int(cell)]


def _uuids(cell: Any) -> list[str]:
    items = cell[1] if cell[0] == "set" else [cell]
    return [item[1] for item in items]


def number(port: str) -> int:
    """0 for what is no port of the plan."""
    return int(port[1:]) if re.fullmatch(r"p\d+", port) else 0
