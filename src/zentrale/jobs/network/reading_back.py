"""The written files read back, each by what it says itself: they must describe one and the same network."""

from __future__ import annotations

import csv
import io
import json
import shlex
from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from pathlib import Path


@dataclass(frozen=True)
class PortSays:
    """One port of one file; `untagged` None where the file has no VLANs. `role`: of the private VLAN it is in, where it is."""

    on: bool
    label: str
    untagged: int | None = None
    tagged: frozenset[int] | None = None
    role: str = ""


Ports = dict[int, PortSays]


def port_table(text: str) -> Ports:
    """ports.csv. Raises ValueError, KeyError."""
    found = {}
    for row in csv.DictReader(io.StringIO(text.lstrip("\ufeff"))):
        tagged = frozenset(int(v) for v in row["tagged_vlans"].split())
        untagged = int(row["untagged_vlan"] or 0)
        found[int(row["port"])] = PortSays(row["mode"] != "off", row["label"], untagged, tagged, row["in_private_vlan"])
    return found


def linux_commands(text: str) -> Ports:
    """linux.sh: what its bridge would hold after these commands. Raises ValueError, IndexError."""
    masters: dict[str, str] = {}
    up: set[str] = set()
    isolated: set[str] = set()
    untagged: dict[str, int] = {}
    tagged: dict[str, set[int]] = {}
    for line in text.splitlines():
        words = shlex.split(line, comments=True)
        if words[:3] == ["ip", "link", "set"] and words[-2:-1] == ["master"]:
            masters[words[3]] = words[-1]
        elif words[:3] == ["ip", "link", "set"] and words[-1:] == ["up"]:
            up.add(words[3])
        elif words[:4] == ["bridge", "link", "set", "dev"] and words[5:] == ["isolated", "on"]:
            isolated.add(words[4])
        elif words[:4] == ["bridge", "vlan", "add", "dev"] and "self" not in words:
            vlan = int(words[words.index("vid") + 1])
            if "untagged" in words and "pvid" in words:
                untagged[words[4]] = vlan
            else:
                tagged.setdefault(words[4], set()).add(vlan)
    found = {}
    for name in (n for n in masters if _port(n) and n in up):
        at = masters[name] if masters[name] in masters else name  # of a bond its settings are those of its cables
        role = "isolated" if at in isolated else ""
        found[_port(name)] = PortSays(True, "", untagged.get(at, 0), frozenset(tagged.get(at, ())), role)
    return found


def _port(word: str) -> int:
    return int(word[1:]) if word[:1] == "p" and word[1:].isdigit() else 0


def instance_data(text: str) -> Ports:
    """instance-data.json. Raises ValueError, KeyError, TypeError, AttributeError."""
    content = json.loads(text)["ietf-yang-instance-data:instance-data-set"]["content-data"]
    interfaces = content["ietf-interfaces:interfaces"]["interface"]
    ports = (i for i in interfaces if _port(i["name"]))  # legs of a router are none
    return {_port(i["name"]): PortSays(i["enabled"], i.get("description", "")) for i in ports}


def disagreements(folder: Path) -> Iterator[tuple[str, str]]:
    """Of the files of one switch: the port, and what two of them say of it. Commands for Linux are not there for every switch."""
    try:
        table = port_table((folder / "ports.csv").read_text(encoding="utf-8"))
        yang = instance_data((folder / "instance-data.json").read_text(encoding="utf-8"))
        commands = folder / "linux.sh"
        linux = linux_commands(commands.read_text(encoding="utf-8")) if commands.exists() else None
    except (OSError, ValueError, KeyError, IndexError, TypeError, AttributeError) as error:
        yield folder.name, f"a file cannot be read back: {type(error).__name__} {error}"
        return
    for port, says in table.items():
        where = f"{folder.name}:{port}"
        other = (
            linux.get(port, PortSays(on=False, label="", untagged=0, tagged=frozenset())) if linux is not None else says
        )
        if _vlans(says, other) != _vlans(other, says):
            yield where, f"table: {_in_words(says)}; Linux commands: {_in_words(other)}"
        modelled = yang.get(port)
        if modelled is None or (modelled.on, modelled.label) != (says.on, says.label):
            yield (
                where,
                f"table: {_in_words(says)}; YANG data: {'nothing' if modelled is None else _in_words(modelled)}",
            )
    for port in {*(linux or {}), *yang} - set(table):
        yield f"{folder.name}:{port}", "is not in the port table"


def _vlans(says: PortSays, other: PortSays) -> tuple[object, ...]:
    """What two files must say alike. Linux has all ports of a private VLAN in its primary, and keeps isolated ones apart."""
    private = {says.role, other.role} & {"isolated", "promiscuous"}
    return says.on, None if private else says.untagged, says.tagged, says.role == "isolated"


def against_switch(folder: Path, held: Mapping[str, tuple[int, frozenset[int]]]) -> Iterator[tuple[str, str]]:
    """What the port table says of each port, against untagged VLAN and tagged ones that a switch holds, by interface."""
    for port, says in port_table((folder / "ports.csv").read_text(encoding="utf-8")).items():
        untagged, tagged = held.get(f"p{port}", (0, frozenset()))
        if says.on and (says.untagged, says.tagged) != (untagged, tagged):
            switch = PortSays(on=True, label=says.label, untagged=untagged, tagged=tagged)
            yield f"{folder.name}:{port}", f"table: {_in_words(says)}; the switch holds {_in_words(switch)}"


def _in_words(says: PortSays) -> str:
    if not says.on:
        return f"off {says.label}".strip()
    tagged = " ".join(map(str, sorted(says.tagged or ())))
    return f"on {says.label} untagged {says.untagged or '-'} tagged {tagged or '-'}"
