"""The tables of a stand-in switch: what its agent tells at this moment, as sorted object identifiers with their values."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass, field

from zentrale.protocols.mib import tables
from zentrale.protocols.mib.tables import Oid, Table
from zentrale.simulation.switch_scenario import Plug, Switch

ON, OFF = 1, 2
_FIRST = {"tern": 10001, "bittern": 1, "plover": 501}
_FIRST_POE = {"tern": 1, "bittern": 1, "plover": 9}
_PRIORITIES = {"critical": 1, "high": 2, "low": 3}
_DELIVERING, _SEARCHING, _DISABLED = 3, 2, 1
_VLAN_INTERFACE = 136  # ifType l3ipvlan: it is no plug


@dataclass
class PowerSwitches:
    """Ports whose PoE somebody switched off, by switch; `changed` is called with switch and port where that changes."""

    off: set[tuple[str, int]] = field(default_factory=set)
    changed: Callable[[str, int, bool], None] = lambda switch, port, on: None

    def set(self, switch: str, port: int, *, on: bool) -> None:
        before = (switch, port) not in self.off
        (self.off.discard if on else self.off.add)((switch, port))
        if before != on:
            self.changed(switch, port, on)


@dataclass(frozen=True)
class Around:
    """What the agents know of the site: addresses of its devices, whether each runs, and of the machine that asks."""

    switches: Mapping[str, Switch]
    macs: Callable[[str], tuple[str, ...]]
    running: Callable[[str], bool]
    laptop: tuple[str, ...]
    power: PowerSwitches
    night: bool = False
    started_s: float = field(default_factory=time.monotonic)

    def at(self, switch: Switch, plug: Plug) -> tuple[str, ...]:
        """Addresses of what hangs at a port and runs."""
        if not plug.up or (plug.device and not self.running(plug.device)):
            return ()
        own = (*self.macs(plug.device), *([plug.mac] if plug.mac else []), *plug.also)
        return (*own, *(self.laptop if plug.laptop else ()))

    def beyond(self, switch: Switch, plug: Plug) -> Iterator[tuple[str, int]]:
        """Addresses with their VLANs that are heard at a port, through all switches that it leads to."""
        yield from ((mac, plug.vlan) for mac in self.at(switch, plug))
        if plug.to and plug.up:
            yield from self._through(plug.to.partition(":")[0], {switch.name})

    def _through(self, name: str, seen: set[str]) -> Iterator[tuple[str, int]]:
        if name in seen or name not in self.switches:
            return
        seen.add(name)
        other = self.switches[name]
        yield other.mac, 1
        for plug in other.plugs:
            if plug.to:
                yield from self._through(plug.to.partition(":")[0], seen)
            else:
                yield from ((mac, plug.vlan) for mac in self.at(other, plug))


def drawn_w(switch: Switch, plug: Plug, around: Around) -> float:
    """At the port now; 0 where it gives no power."""
    if plug.port > switch.poe_ports or not plug.up or plug.denied or (switch.name, plug.port) in around.power.off:
        return 0.0
    return plug.night_w if around.night and plug.night_w is not None else plug.day_w


def power_rows(switch: Switch) -> dict[Oid, int]:
    """The object that switches a port's power, and the port."""
    first = _FIRST_POE[switch.manner]
    return {tables.POE_PORTS.cell("admin", (1, first + n - 1)): n for n in range(1, switch.poe_ports + 1)}


def build(switch: Switch, around: Around) -> list[tuple[Oid, int | bytes | Oid]]:
    """All that it tells, in order."""
    found: dict[Oid, int | bytes | Oid] = {}
    maker = _Maker(switch, around)
    up_time = int(100 * (time.monotonic() - around.started_s)) + 1000
    found[tables.SYS_DESCR] = f"{switch.maker} {switch.model}, software {switch.firmware}".encode()
    found[tables.SYS_UP_TIME] = up_time
    found[tables.SYS_NAME] = switch.name.encode()
    found[tables.BRIDGE_ADDRESS] = bytes.fromhex(switch.mac.replace(":", ""))
    for table, rows in maker.all():
        if table.name in switch.not_told:
            continue
        names = list(table.columns)
        for number, (index, row) in enumerate(rows):
            for name, value in row.items():
                if (
                    table.name in switch.breaks_off
                    and name == names[min(1, len(names) - 1)]
                    and number >= len(rows) / 2
                ):
                    continue
                found[table.cell(name, index)] = value
    return sorted(found.items())


_Rows = list[tuple[Oid, dict[str, int | bytes | Oid]]]


class _Maker:
    def __init__(self, switch: Switch, around: Around) -> None:
        self.switch, self.around = switch, around
        self.first = _FIRST[switch.manner]
        self.ports = range(1, switch.ports + 1)

    def index(self, port: int) -> int:
        return self.first + port - 1

    def all(self) -> Iterator[tuple[Table, _Rows]]:
        manner = self.switch.manner
        yield tables.INTERFACES, self._interfaces()
        yield (
            tables.NAMES,
            [((self.index(n),), {"name": self._name(n).encode(), "high_speed": self._rate(n)}) for n in self.ports],
        )
        yield tables.DUPLEX, [((self.index(n),), {"duplex": self._duplex(n)}) for n in self.ports]
        yield tables.BRIDGE_PORTS, [((n,), {"if_index": self.index(n)}) for n in self.ports]
        yield tables.PORT_VLANS, [((n,), {"pvid": p.vlan if (p := self.switch.plug(n)) else 1}) for n in self.ports]
        vlans = self._vlans()
        if manner == "bittern":
            yield tables.SET_VLANS, [((v,), dict(row)) for v, row in vlans.items()]
            yield tables.FORWARDING, self._forwarding(by_vlan=False)
        else:
            yield tables.VLANS, [((0, v), {"fdb": 100 + v, **row}) for v, row in vlans.items()]
            yield tables.VLAN_FORWARDING, self._forwarding(by_vlan=True)
        if manner != "plover":
            yield tables.LLDP_CHASSIS, [((0,), {"subtype": 4, "chassis": _mac(self.switch.mac)})]
            yield tables.LLDP_PORTS, [((n,), {"subtype": 5, "id": self._name(n).encode()}) for n in self.ports]
            yield tables.LLDP_NEIGHBOURS, self._neighbours()
        if self.switch.tree_priority:
            yield tables.TREE, [((0,), self._tree())]
            yield tables.TREE_PORTS, [((n,), {"state": 5}) for n in self.ports]
        if self.switch.poe_ports:
            yield from self._power()
        if manner == "tern":
            yield from self._parts()

    def _name(self, port: int) -> str:
        return {"tern": f"eth1/{port}", "bittern": f"Port {port}", "plover": f"ge-0/0/{port - 1}"}[self.switch.manner]

    def _up(self, port: int) -> bool:
        plug = self.switch.plug(port)
        if plug is None or not plug.up:
            return False
        fed = port <= self.switch.poe_ports and (plug.day_w or plug.denied)
        if fed and not drawn_w(self.switch, plug, self.around):
            return False
        return bool(plug.to or plug.laptop or plug.mac or plug.also) or self.around.running(plug.device)

    def _rate(self, port: int) -> int:
        plug = self.switch.plug(port)
        return plug.rate_mbps if plug and self._up(port) else 0

    def _duplex(self, port: int) -> int:
        plug = self.switch.plug(port)
        return 1 if not self._up(port) else 2 if plug and plug.duplex == "half" else 3

    def _interfaces(self) -> _Rows:
        rows: _Rows = []
        own = _mac(self.switch.mac)
        for n in self.ports:
            plug = self.switch.plug(n)
            errors = int((time.monotonic() - self.around.started_s) * plug.errors_per_min / 60) if plug else 0
            rows.append(((self.index(n),), {
                "description": self._name(n).encode(), "type": 6, "speed": self._rate(n) * 1_000_000,
                "mac": own[:3] + b"\x01" + own[5:] + bytes((n & 255,)), "admin": ON, "oper": ON if self._up(n) else OFF,
                "in_discards": 0, "in_errors": errors, "out_discards": 0, "out_errors": 0,
            }))  # fmt: skip
        rows.append(((self.first + 5000,), {
            "description": b"vlan10", "type": _VLAN_INTERFACE, "speed": 0, "mac": _mac(self.switch.mac), "admin": ON, "oper": ON,
            "in_discards": 0, "in_errors": 0, "out_discards": 0, "out_errors": 0,
        }))  # fmt: skip
        return rows

    def _vlans(self) -> dict[int, dict[str, int | bytes | Oid]]:
        members: dict[int, tuple[set[int], set[int]]] = {}
        for n in self.ports:
            plug = self.switch.plug(n)
            for vlan in (plug.vlan if plug else 1, *(plug.tagged if plug else ())):
                egress, untagged = members.setdefault(vlan, (set(), set()))
                egress.add(n)
                if vlan == (plug.vlan if plug else 1):
                    untagged.add(n)
        size = -(-self.switch.ports // 8)
        return {
            v: {"egress": _port_list(egress, size), "untagged": _port_list(untagged, size)}
            for v, (egress, untagged) in sorted(members.items())
        }

    def _forwarding(self, *, by_vlan: bool) -> _Rows:
        rows: dict[Oid, dict[str, int | bytes | Oid]] = {}
        for plug in self.switch.plugs:
            if self._up(plug.port):
                for mac, vlan in self.around.beyond(self.switch, plug):
                    index = ((100 + vlan,) if by_vlan else ()) + tuple(_mac(mac))
                    rows[index] = {"port": plug.port, "status": 3}
        return sorted(rows.items())

    def _neighbours(self) -> _Rows:
        rows: _Rows = []
        for plug in self.switch.plugs:
            name, _, port = plug.to.partition(":")
            other = self.around.switches.get(name)
            if other is not None and self._up(plug.port) and other.manner != "plover":
                rows.append(((0, plug.port, 1), {
                    "chassis_subtype": 4, "chassis": _mac(other.mac), "port_subtype": 5, "port": f"Port {port}".encode(),
                    "name": other.name.encode(),
                }))  # fmt: skip
            elif self.switch.manner == "bittern" and plug.device and self._up(plug.port):
                rows.append(((0, plug.port, 2), {
                    "chassis_subtype": 4, "chassis": _mac(self.around.macs(plug.device)[0]), "port_subtype": 3,
                    "port": _mac(self.around.macs(plug.device)[0]), "name": plug.device.encode(),
                }))  # fmt: skip
        return rows

    def _tree(self) -> dict[str, int | bytes | Oid]:
        trees = [s for s in self.around.switches.values() if s.tree_priority]
        root = min(trees, key=lambda s: (s.tree_priority, s.mac))
        return {
            "protocol": 3, "priority": self.switch.tree_priority, "changes": 4,
            "root": root.tree_priority.to_bytes(2, "big") + _mac(root.mac), "root_port": 0 if root is self.switch else 1,
        }  # fmt: skip

    def _power(self) -> Iterator[tuple[Table, _Rows]]:
        switch, used = self.switch, sum(drawn_w(self.switch, p, self.around) for p in self.switch.plugs)
        rows: _Rows = []
        for n in range(1, switch.poe_ports + 1):
            plug, off = switch.plug(n), (switch.name, n) in self.around.power.off
            drawn = drawn_w(switch, plug, self.around) if plug else 0.0
            rows.append(((1, _FIRST_POE[switch.manner] + n - 1), {
                "admin": OFF if off else ON, "detection": _DISABLED if off else _DELIVERING if drawn else _SEARCHING,
                "priority": _PRIORITIES[plug.priority if plug else "low"], "class": (plug.poe_class if plug else 0) + 1,
                "denied": plug.denied if plug else 0,
            }))  # fmt: skip
        yield tables.POE_PORTS, rows
        yield tables.POE_SUPPLY, [((1,), {"power": int(switch.budget_w), "oper": 1, "used": round(used)})]
        if switch.manner == "bittern":
            yield tables.LLDP_POWER, [
                ((0, p.port, 2), {"asked": round(10 * w), "allotted": round(10 * w)})
                for p in switch.plugs if p.device and (w := drawn_w(switch, p, self.around)) and self._up(p.port)
            ]  # fmt: skip

    def _parts(self) -> Iterator[tuple[Table, _Rows]]:
        """A chassis (1), a port each (100 + n), a sensor in each PoE port (1000 + n)."""
        switch = self.switch
        chassis: dict[str, int | bytes | Oid] = {
            "inside": 0, "class": 3, "position": 1, "name": switch.name.encode(), "firmware": b"",
            "software": switch.firmware.encode(),
            "model": switch.model.encode(),
        }  # fmt: skip
        parts: _Rows = [((1,), chassis)]
        parts += [
            ((100 + n,), {"inside": 1, "class": 10, "position": n, "name": self._name(n).encode()}) for n in self.ports
        ]
        fed = range(1, switch.poe_ports + 1)
        parts += [((1000 + n,), {"inside": 100 + n, "class": 8, "position": 1, "name": b"watts"}) for n in fed]
        yield tables.PARTS, parts
        aliases: _Rows = [
            ((100 + n, 0), {"row": (*tables.oid("1.3.6.1.2.1.2.2.1.1"), self.index(n))}) for n in self.ports
        ]
        aliases += [((100 + n, 1), {"row": tables.POE_PORTS.cell("admin", (1, n))}) for n in fed]
        yield tables.ALIASES, sorted(aliases)
        yield (
            tables.SENSORS,
            [
                ((1000 + n,), {"type": 6, "scale": 8, "precision": 0, "value": self._milliwatts(n), "state": 1})
                for n in fed
            ],
        )

    def _milliwatts(self, port: int) -> int:
        plug = self.switch.plug(port)
        return round(1000 * drawn_w(self.switch, plug, self.around)) if plug else 0


def _mac(text: str) -> bytes:
    return bytes.fromhex(text.replace(":", ""))


def _port_list(ports: set[int], size: int) -> bytes:
    octets = bytearray(size)
    for port in ports:
        octets[(port - 1) // 8] |= 0x80 >> (port - 1) % 8
    return bytes(octets)
