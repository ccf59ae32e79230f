"""Who is let in at a port: a real RADIUS server with the written file, asked as the switches would ask it."""

from __future__ import annotations

import os
import socket
from collections.abc import Iterator
from dataclasses import dataclass

from zentrale.field.lab.servers import RADIUS_SECRET
from zentrale.output.network.access import BY_ACCOUNT, BY_MAC
from zentrale.planning.network import NetworkPlan
from zentrale.protocols import radius

FILE = "radius-users.txt"
_STRANGER = "025afc00ffff"
_WAIT_S, _TRIES = 1.0, 2


@dataclass(frozen=True)
class LetIn:
    """One port: `planned` and `told` are the VLAN, or why there is none. `name` is what the device calls itself to the server."""

    port: str
    device: str
    name: str
    planned: str
    told: str

    @property
    def as_planned(self) -> bool:
        return self.planned == self.told


REFUSED, SILENT = "refused", "no answer"


def ask_all(net: NetworkPlan) -> list[LetIn]:
    """Every port that asks for it, and a stranger. The passwords of accounts stand in no file: these are refused so far."""
    asked = list(_asked(net))
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as sock:
        sock.settimeout(_WAIT_S)
        sock.connect(("127.0.0.1", radius.PORT))
        return [
            LetIn(port, device, name, planned, _told(sock, number % 256, name, station))
            for number, (port, device, name, station, planned) in enumerate(asked)
        ]


def _asked(net: NetworkPlan) -> Iterator[tuple[str, str, str, str, str]]:
    """Port, device, user name, its MAC address as a switch tells it, and what is planned."""
    for row in net.ports.rows:
        device = net.device(row.device)
        mac = device.mac if device else ""
        if row.authentication == BY_MAC and mac:
            yield (
                f"{row.switch}:{row.port}",
                row.device,
                mac.replace(":", ""),
                _dashed(mac),
                f"VLAN {net.vlan(row.access)}",
            )
        elif row.authentication == BY_ACCOUNT and row.device:
            yield f"{row.switch}:{row.port}", row.device, row.device, _dashed(mac), REFUSED
    stranger = ":".join(_STRANGER[i : i + 2] for i in range(0, 12, 2))
    yield "any", "a stranger", _STRANGER, _dashed(stranger), REFUSED


def _dashed(mac: str) -> str:
    return mac.upper().replace(":", "-")


def _told(sock: socket.socket, number: int, name: str, station: str) -> str:
    authenticator = os.urandom(16)
    message = radius.request(number, authenticator, RADIUS_SECRET, name, name, station)
    for _ in range(_TRIES):
        try:
            sock.send(message)
            answer = radius.answer(sock.recv(4096), authenticator, RADIUS_SECRET)
        except OSError:  # nobody there, or no answer in time
            continue
        if answer is not None and answer.number == number:
            return f"VLAN {answer.vlan or 'of the port'}" if answer.kind == radius.ACCEPT else REFUSED
    return SILENT
