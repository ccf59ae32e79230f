"""linux.sh in a namespace of its own, where this machine's kernel has a bridge with VLANs."""

from __future__ import annotations

import json
from collections.abc import Iterator

from zentrale.errors import LabError
from zentrale.field.lab.namespaces import End, build
from zentrale.jobs.network.reading_back import Ports, PortSays
from zentrale.jobs.network.standing import Standing
from zentrale.output.network import names
from zentrale.planning.network import NetworkPlan
from zentrale.site.model import Switch

# What a kernel says that lacks a part of it, or of its tools.
_LACKS = ("not supported", "Unknown device type", "Cannot find device", "not found", "No such device")


def file_of(switch: Switch) -> str:
    return f"{switch.name}/linux.sh"


def held(net: NetworkPlan, standing: Standing, switch: Switch) -> Ports:
    """What the kernel holds once it has these commands. Raises LabError."""
    space = f"linux.{switch.name}"
    ports = [row.port for row in net.ports.of(switch.name) if row.mode != "off"]
    cables = [(End(space, names.port(p)), End(space, f"far{p}")) for p in ports]
    own = build([space], cables)[space]
    own.call("sh", str(standing.path(file_of(switch))))
    return read_vlans(own.call("bridge", "-j", "vlan", "show"))


def lacking(error: LabError) -> bool:
    """Whether it is the kernel that cannot, and not the file that is wrong."""
    return any(words in str(error) for words in _LACKS)


def read_vlans(text: str) -> Ports:
    """What `bridge -j vlan show` tells. Raises ValueError, KeyError."""
    found = {}
    for item in json.loads(text):
        name, vlans = item["ifname"], item.get("vlans", ())
        if not (name[:1] == "p" and name[1:].isdigit()):
            continue
        own = {v["vlan"] for v in vlans if "PVID" in v.get("flags", ())}
        tagged = frozenset(v["vlan"] for v in vlans if "Egress Untagged" not in v.get("flags", ()))
        found[int(name[1:])] = PortSays(True, "", next(iter(own), 0), tagged)
    return found


def differences(file: Ports, kernel: Ports, switch: Switch) -> Iterator[tuple[str, str]]:
    """Ports of which the kernel holds something else than the file says; a bond's cables have none of their own."""
    for port, says in file.items():
        has = kernel.get(port)
        if has is not None and (has.untagged, has.tagged) != (says.untagged, says.tagged):
            yield f"{switch.name}:{port}", f"Linux commands: untagged {says.untagged}; the kernel holds {has.untagged}"
