"""openvswitch.sh as a person edits it: its ports, its rules, and changes to them, line by line."""

from __future__ import annotations

import re
from collections.abc import Callable

_PORT = re.compile(r"^ovs-vsctl add-(?:port|bond) (\S+) .*\bp\d+\b")
_FLOWS, _END = "<<'FLOWS'", "FLOWS"


class Script:
    """One switch's commands. All changes keep the lines that they do not concern."""

    def __init__(self, text: str) -> None:
        self.lines = text.split("\n")

    @property
    def text(self) -> str:
        return "\n".join(self.lines)

    @property
    def flows(self) -> list[str]:
        return [self.lines[i] for i in self._flow_lines()]

    def bridge(self) -> str:
        found = re.search(r"add-br (\S+)", self.text)
        return found[1] if found else ""

    def port_line(self, port: int) -> int | None:
        """Index of the line that adds the port, by itself or in a bond."""
        for index, line in enumerate(self.lines):
            if _PORT.match(line) and re.search(rf"\bp{port}\b", line.partition(" vlan_mode=")[0]):
                return index
        return None

    def _flow_lines(self) -> list[int]:
        start = next((i for i, line in enumerate(self.lines) if line.endswith(_FLOWS)), len(self.lines))
        end = next((i for i in range(start, len(self.lines)) if self.lines[i] == _END), len(self.lines))
        return list(range(start + 1, end))

    def set_vlan(self, port: int, vlan: int) -> None:
        """An access port of another VLAN: no rule of a private VLAN knows it any more."""
        self._on_port(port, lambda line: re.sub(r"\btag=\d+", f"tag={vlan}", line))
        self._on_flows(lambda flow: None if _names(flow, port) else _without_output(flow, port))

    def without_vlan(self, port: int, vlan: int) -> None:
        """A trunk that does not carry this VLAN."""

        def cut(line: str) -> str:
            found = re.search(r"trunks=([\d,]+)", line)
            left = [v for v in found[1].split(",") if v != str(vlan)] if found else []
            return re.sub(r"trunks=[\d,]+", f"trunks={','.join(left)}", line)

        def flow(line: str) -> str | None:
            if re.search(rf"in_port={port},dl_vlan={vlan},", line):
                return line.partition(",actions=")[0] + ",actions=drop"
            if re.search(rf"reg0={vlan},", line):
                return None if _names(line, port) else _without_output(line, port)
            return line

        self._on_port(port, cut)
        self._on_flows(flow)

    def add_like(self, port: int, new: int, name: str) -> None:
        """One port more, as another one is: in its VLAN, and reached by whatever reaches that, but for groups."""
        index = self.port_line(port)
        if index is not None:
            made = self.lines[index].partition(" -- ")[0].replace(f" p{port} ", f" {name} ")
            self.lines.insert(index + 1, f"{made} -- set Interface {name} ofport_request={new}")
        if at := self._flow_lines():
            self.lines[at[0] : at[-1] + 1] = flows_with(self.flows, port, new)

    def add_flow(self, flow: str) -> None:
        if at := self._flow_lines():
            self.lines.insert(at[0], flow)

    def without_tree(self) -> None:
        self.lines = [line for line in self.lines if "rstp_enable=true" not in line]

    def _on_port(self, port: int, change: Callable[[str], str]) -> None:
        index = self.port_line(port)
        if index is not None:
            self.lines[index] = change(self.lines[index])

    def _on_flows(self, change: Callable[[str], str | None]) -> None:
        for index in reversed(self._flow_lines()):
            flow = change(self.lines[index])
            if flow is None:
                del self.lines[index]
            else:
                self.lines[index] = flow


def flows_with(flows: list[str], port: int, new: int) -> list[str]:
    """The rules with one port more, as another one is."""
    own, output = re.compile(rf"\b(in_port|reg2)={port}\b"), re.compile(rf"\boutput:{port}\b")
    found = []
    for flow in flows:
        head, _, actions = flow.partition(",actions=")
        if own.search(head):
            again = own.sub(rf"\1={new}", head)
            found += [flow, f"{again},actions={output.sub(f'output:{new}', actions)}"]
        elif "table=1," in head:
            found.append(flow)
        else:
            found.append(f"{head},actions={output.sub(f'output:{port},output:{new}', actions)}")
    return found


def _names(flow: str, port: int) -> bool:
    """Whether it is a rule of this port's own: for what comes in by it, or goes to whoever is known to be behind it."""
    return re.search(rf"\b(in_port|reg2)={port}\b", flow.partition(",actions=")[0]) is not None


def _without_output(flow: str, port: int) -> str:
    head, _, actions = flow.partition(",actions=")
    left = [a for a in re.split(r",(?![^(]*\))", actions) if a != f"output:{port}"]
    return f"{head},actions={','.join(left) or 'drop'}"


def port_name(line: str) -> int | None:
    """The port that a line adds; None where it adds none."""
    found = _PORT.match(line) and re.search(r"\bp(\d+)\b", line)
    return int(found[1]) if found else None


def file_of(switch: str) -> str:
    return f"{switch}/openvswitch.sh"
