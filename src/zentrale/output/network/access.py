"""Who is let in at a port: MAC bypass entries and 802.1X accounts for a RADIUS server, with the VLAN that each gets.

Attributes by RFC 2865, 2868 and 3580 (clause 3.31: VLAN assignment; 3.21: the MAC address as Calling-Station-Id), in the form of
FreeRADIUS' users file, which other servers import.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping

from zentrale.planning.network import NetworkPlan
from zentrale.planning.ports import PortRow

BY_MAC, BY_ACCOUNT = "mac-bypass", "802.1X"


def accounts(net: NetworkPlan) -> list[str]:
    """Names of the 802.1X accounts that the plan needs."""
    return [row.device for row in net.ports.rows if row.authentication == BY_ACCOUNT and row.device]


def asked_for(net: NetworkPlan) -> bool:
    return any(row.authentication != "none" for row in net.ports.rows)


def users(net: NetworkPlan, secrets: Mapping[str, str] | None = None, shared: str = "") -> str:
    """`secrets` by account name; without them the accounts stand there by name only, and let nobody in. `shared` is the secret of
    switches and server, told where it is given.
    """
    lines = ["# Who is let in at which port, for a RADIUS server."]
    if shared:
        lines.append(f"# The secret that server and switches share, for the server's list of clients: {shared}")
    for row in net.ports.rows:
        if row.authentication == BY_MAC:
            lines += _by_mac(net, row)
        elif row.authentication == BY_ACCOUNT and row.device:
            lines += _by_account(net, row, secrets)
    return "\n".join([*lines, ""])


def _by_mac(net: NetworkPlan, row: PortRow) -> Iterator[str]:
    device = net.device(row.device)
    if device is None or not device.mac:
        yield f"# {row.switch}:{row.port} {row.device}: no MAC address in the plan, so nothing to let it in by"
        return
    digits = device.mac.replace(":", "")
    station = device.mac.upper().replace(":", "-")
    yield f"# {row.switch}:{row.port} {row.device}"
    yield f'{digits} Cleartext-Password := "{digits}", Calling-Station-Id == "{station}"'
    yield _vlan(net, row)


def _by_account(net: NetworkPlan, row: PortRow, secrets: Mapping[str, str] | None) -> Iterator[str]:
    yield f"# {row.switch}:{row.port} {row.device}"
    secret = (secrets or {}).get(row.device)
    check = f'Cleartext-Password := "{secret}"' if secret else "Auth-Type := Reject"
    yield f"{row.device} {check}"
    yield _vlan(net, row)


def _vlan(net: NetworkPlan, row: PortRow) -> str:
    text = f'Tunnel-Type = VLAN, Tunnel-Medium-Type = IEEE-802, Tunnel-Private-Group-Id = "{net.vlan(row.access)}"'
    return f"    {text}"
